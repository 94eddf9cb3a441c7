"""Describing a network by hand: selecting several, copying, arranging, tables, catalogue, checks, switching, documents."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, expect
from tools.served import show

from tests.browser.conftest import call, find, open_bench
from tests.browser.test_bench import card, field, settled, shape


def items(server: str, project: str) -> dict[str, dict]:
    return {i["id"]: i for i in call(f"{server}/api/projects/{project}")["items"]}


def command(page: Page, words: str) -> None:
    page.keyboard.press("Control+k")
    page.get_by_role("dialog").get_by_role("searchbox").fill(words)
    page.get_by_role("option").first.click()
    settled(page)


def test_a_feeder_is_selected_copied_and_pasted_with_one_undo(bench: Page, server: str, project: str) -> None:
    before = items(server, project)
    find(bench, "Kesterby F2-01")
    bench.keyboard.press("d")
    expect(card(bench).get_by_role("heading", name="16 selected")).to_be_visible()
    bench.keyboard.press("Control+c")
    find(bench, "Kesterby 11")
    bench.keyboard.press("Control+Shift+v")
    bench.get_by_label("How many").fill("2")
    bench.keyboard.press("Enter")
    expect(card(bench).get_by_role("heading", name="30 selected")).to_be_visible()
    expect(bench.get_by_text("1 that lead elsewhere were left out")).to_be_visible()
    assert len(items(server, project)) == len(before) + 30
    bench.keyboard.press("Control+z")
    settled(bench)
    expect(shape(bench, "Quarry 2")).to_have_count(0)
    assert items(server, project) == before


def test_box_and_shift_select_and_one_value_goes_to_all(bench: Page, server: str, project: str) -> None:
    find(bench, "Ambry - Lowmere")
    bench.keyboard.press("f")
    for ident in ("Lowmere - Quillport", "Ambry - Thessel Head"):
        shape(bench, ident).locator("path").first.dispatch_event("click", {"shiftKey": True, "bubbles": True})
    expect(card(bench).get_by_role("heading", name="3 selected")).to_be_visible()
    expect(field(bench, "length_km")).to_have_attribute("placeholder", "several")
    field(bench, "emergency_rating_a").fill("700")
    field(bench, "emergency_rating_a").press("Enter")
    settled(bench)
    found = items(server, project)
    assert [found[i].get("emergency_rating_a") for i in ("Ambry - Lowmere", "Lowmere - Quillport")] == [700, 700]
    bench.keyboard.press("Escape")
    sheet = bench.get_by_role("application")
    box = sheet.bounding_box()
    assert box
    bench.keyboard.press("Escape")
    bench.keyboard.down("Shift")
    bench.mouse.move(box["x"] + 5, box["y"] + 5)
    bench.mouse.down()
    bench.mouse.move(box["x"] + box["width"] - 80, box["y"] + box["height"] - 60, steps=4)
    bench.mouse.up()
    bench.keyboard.up("Shift")
    expect(card(bench).get_by_role("heading", name=re.compile(r"^\d{2,3} selected$"))).to_be_visible()


def test_data_of_one_element_goes_to_others_field_by_field(bench: Page, server: str, project: str) -> None:
    find(bench, "Ambry - Lowmere")
    bench.keyboard.press("Control+Shift+c")
    bench.keyboard.press("f")
    shape(bench, "Lowmere - Quillport").locator("path").first.dispatch_event("click", {"bubbles": True})
    shape(bench, "Ambry - Thessel Head").locator("path").first.dispatch_event(
        "click", {"shiftKey": True, "bubbles": True}
    )
    expect(card(bench)).to_contain_text("Data of Ambry - Lowmere for the selection")
    card(bench).get_by_role("checkbox", name=re.compile("^Length")).check()
    card(bench).get_by_role("button", name="Apply 1 field").click()
    settled(bench)
    found = items(server, project)
    assert found["Lowmere - Quillport"]["length_km"] == found["Ambry - Thessel Head"]["length_km"] == 38
    assert found["Ambry - Thessel Head"]["type"] == "Alloy 175 132 kV overhead", "only the chosen field"


def test_buses_align_and_stay_apart(bench: Page, server: str, project: str) -> None:
    ids = ["Mill Lane", "Sluice Farm", "Tollgate"]
    find(bench, ids[0])
    for ident in ids[1:]:
        shape(bench, ident).locator("path").first.dispatch_event("click", {"shiftKey": True, "bubbles": True})
    command(bench, "Align on a level")
    found = items(server, project)
    assert len({found[i]["y"] for i in ids}) == 1
    command(bench, "Even gaps from left")
    xs = sorted(items(server, project)[i]["x"] for i in ids)
    assert abs((xs[2] - xs[1]) - (xs[1] - xs[0])) <= 10


def test_bars_stretch_symbols_turn_and_labels_move_and_come_back(bench: Page, server: str, project: str) -> None:
    find(bench, "Kesterby 11")
    before = items(server, project)["Kesterby 11"]
    handle = bench.locator('[data-handle="1"]').bounding_box()
    assert handle
    bench.mouse.move(handle["x"] + 4, handle["y"] + 4)
    bench.mouse.down()
    bench.mouse.move(handle["x"] + 94, handle["y"] + 4, steps=4)
    bench.mouse.up()
    settled(bench)
    after = items(server, project)["Kesterby 11"]
    assert after["bar"] > before["bar"]
    assert after["x"] - after["bar"] / 2 == before["x"] - before["bar"] / 2, "the other end stays"
    label = bench.locator('[data-label="Kesterby 11"]').first.bounding_box()
    assert label
    bench.mouse.move(label["x"] + 20, label["y"] + 6)
    bench.mouse.down()
    bench.mouse.move(label["x"] + 60, label["y"] - 30, steps=4)
    bench.mouse.up()
    settled(bench)
    assert items(server, project)["Kesterby 11"]["label_dy"] < 0
    command(bench, "Put moved labels back")
    assert "label_dy" not in items(server, project)["Kesterby 11"]
    find(bench, "Cold Store demand")
    bench.keyboard.press("r")
    settled(bench)
    assert items(server, project)["Cold Store demand"]["flipped"] is True
    bench.keyboard.press("#")
    expect(bench.get_by_test_id("grid")).to_be_attached()


def test_dropping_one_end_on_another_joins_them(bench: Page, server: str, project: str) -> None:
    find(bench, "Heron End")
    bench.keyboard.press("j")
    expect(bench.get_by_text("Join from Heron End")).to_be_visible()
    bench.keyboard.press("/")
    bench.get_by_role("dialog").get_by_role("searchbox").fill("Peat Works")
    bench.get_by_role("option").first.click()
    settled(bench)
    found = items(server, project)
    assert "Heron End" not in found
    assert found["Heron End demand"]["bus"] == "Peat Works"


def test_dragging_one_end_onto_another_makes_one_node(bench: Page, server: str, project: str) -> None:
    find(bench, "Heron End")
    held, target = (shape(bench, b).bounding_box() for b in ("Heron End", "Peat Works"))
    assert held
    assert target
    middle = [(b["x"] + b["width"] / 2, b["y"] + b["height"] / 2) for b in (held, target)]
    bench.mouse.move(*middle[0])
    bench.mouse.down()
    bench.mouse.move(middle[1][0] + 3, middle[1][1] + 2, steps=8)
    bench.mouse.up()
    settled(bench)
    found = items(server, project)
    assert "Heron End" not in found
    assert found["Heron End demand"]["bus"] == "Peat Works"
    bench.keyboard.press("Control+z")
    settled(bench)
    assert "Heron End" in items(server, project)


def test_a_switch_is_thrown_by_key_and_by_double_click(bench: Page, server: str, project: str) -> None:
    find(bench, "Quillport coupler")
    bench.keyboard.press("o")
    settled(bench)
    assert items(server, project)["Quillport coupler"]["closed"] is False
    shape(bench, "Quillport coupler").locator("circle").first.dblclick()
    settled(bench)
    assert items(server, project)["Quillport coupler"]["closed"] is True
    card(bench).get_by_role("tab", name="Supply").click()
    expect(card(bench)).to_contain_text("Everything stays supplied")


def test_the_next_size_by_key_and_the_catalogue_on_the_shelf(bench: Page, server: str, project: str) -> None:
    find(bench, "Kesterby F2-01")
    bench.keyboard.press("]")
    settled(bench)
    assert items(server, project)["Kesterby F2-01"]["type"] == "Al 1×240 XLPE 11 kV cable"
    show(bench, "Catalogue")
    bench.get_by_label("Search the catalogue").fill("Cu 95..185 11 kV cable 1")
    row = bench.get_by_role("region", name="Types").locator("div").filter(has_text="Cu 1×150 XLPE 11 kV cable").last
    row.get_by_role("button", name="use for selection").click()
    settled(bench)
    assert items(server, project)["Kesterby F2-01"]["type"] == "Cu 1×150 XLPE 11 kV cable"


def test_the_model_check_jumps_and_mends(bench: Page) -> None:
    find(bench, "T-Saltern")
    field(bench, "lv_kv").fill("6.6")
    field(bench, "lv_kv").press("Enter")
    settled(bench)
    show(bench, "Check")
    row = bench.locator("[data-rule=voltage]")
    expect(row).to_contain_text("rated 6.6 kV on a bus of 11 kV")
    row.get_by_role("button", name="set it to 11 kV").click()
    expect(row).to_have_count(0)


def test_a_pasted_table_with_bad_rows_marks_them_and_applies_none(bench: Page, server: str, project: str) -> None:
    before = items(server, project)
    show(bench, "Data")
    bench.get_by_role("toolbar", name="Data").get_by_role("button", name=re.compile("^Loads")).click()
    grid = bench.get_by_role("grid", name="Data: Loads")
    rows = ["Name\\tActive power (MW)", "Cold Store demand\\t2.1", "Ice House demand\\tlots", "Fish Dock demand\\t-1e9",
            "Mole demand\\t?"]  # fmt: skip
    text = "\\n".join(rows)
    paste = f"""el => {{ const d = new DataTransfer(); d.setData('text/plain', '{text}');
        el.dispatchEvent(new ClipboardEvent('paste', {{clipboardData: d, bubbles: true, cancelable: true}})) }}"""
    grid.evaluate(paste)
    expect(bench.get_by_text("Nothing was applied")).to_be_visible()
    expect(bench.locator("tr[data-bad=true]")).to_have_count(3)
    expect(bench.locator("tr[data-bad=true]").first).to_contain_text("enter a number")
    assert items(server, project) == before
    bench.get_by_role("button", name="Back to the table").click()
    grid.evaluate(paste.replace("lots", "0.7").replace("-1e9", "0.8").replace("?", "0,3"))
    expect(bench.get_by_text("The rows have been applied")).to_be_visible()
    assert items(server, project)["Mole demand"]["active_power_mw"] == 0.3


def test_documents_are_attached_and_detached(bench: Page, server: str, project: str, tmp_path: Path) -> None:
    sheet = tmp_path / "name plate.txt"
    sheet.write_text("40 MVA")
    find(bench, "T-Q1")
    card(bench).get_by_text("Name, note and documents").click()
    card(bench).get_by_label("File to attach").set_input_files(sheet)
    link = card(bench).get_by_role("link", name="name plate.txt")
    expect(link).to_be_visible()
    with bench.expect_download() as download:
        link.click()
    assert download.value.path().read_text() == "40 MVA"
    card(bench).get_by_role("button", name="Detach name plate.txt").click()
    expect(link).to_have_count(0)
    field(bench, "tags").fill("bulk, north")
    field(bench, "tags").press("Enter")
    settled(bench)
    assert items(server, project)["T-Q1"]["tags"] == ["bulk", "north"]


def test_feeders_are_a_lens(bench: Page, server: str, project: str) -> None:
    command(bench, "Lens: feeders")
    legend = bench.get_by_role("group", name="Feeders")
    expect(legend.get_by_role("button", name="Saltern F2-01")).to_be_visible()
    near, far = (shape(bench, b).locator("path").nth(1).get_attribute("stroke") for b in ("Mill Lane", "Heron End"))
    other = shape(bench, "Salt Quay").locator("path").nth(1).get_attribute("stroke")
    assert near == far != other
    legend.get_by_role("button", name="Saltern F2-01").click()
    expect(card(bench).get_by_role("heading", name="13 selected")).to_be_visible()
    open_bench(bench, server, project)


def test_the_profile_follows_the_slider_and_the_pinned_result_stays(bench: Page) -> None:
    find(bench, "Heron End")
    show(bench, "Profile")
    line = bench.get_by_test_id("profile")
    before = line.get_attribute("d")
    bench.keyboard.press("p")
    bench.get_by_role("slider", name="demand").focus()
    for _ in range(12):
        bench.keyboard.press("ArrowRight")
    settled(bench)
    expect(bench.get_by_test_id("demand")).to_have_text("112 %")
    expect(line).not_to_have_attribute("d", before or "")
    expect(bench.get_by_test_id("ghost")).to_be_attached()
    chart = bench.get_by_role("img", name=re.compile("^Profile of 14 buses"))
    box = chart.bounding_box()
    assert box
    bench.mouse.move(box["x"] + box["width"] - 16, box["y"] + 40)
    expect(bench.locator('[data-halo="Heron End"]').first).to_be_attached()
    expect(bench.get_by_text("14.00 km")).to_be_visible()
    bench.get_by_role("toolbar", name="Profile").get_by_role("button", name="losses, summed").click()
    expect(bench.get_by_test_id("profile")).to_have_count(2)
    with bench.expect_download() as download:
        bench.get_by_role("button", name="CSV").click()
    text = download.value.path().read_text()
    assert (
        text.splitlines()[0]
        == '"bus","distance_km","voltage p.u.","voltage p.u. pinned","losses, summed kW","losses, summed kW pinned"'
    )
    assert len(text.splitlines()) == 15
    for kind in ("SVG", "PNG"):
        with bench.expect_download() as download:
            bench.get_by_role("button", name=kind).click()
        assert download.value.suggested_filename.endswith(kind.lower())
    command(bench, "Lens: difference")
    expect(bench.get_by_text("0.03 p.u.")).to_be_visible()


def test_a_condition_is_copied_and_its_factors_typed_in_place(bench: Page, server: str, project: str) -> None:
    before = bench.get_by_test_id("badge").inner_text()
    bench.get_by_role("button", name="Factors of this condition").click()
    card(bench).get_by_role("button", name="Copy this condition").click()
    expect(card(bench).get_by_role("heading", name="Winter evening, copy")).to_be_visible()
    card(bench).get_by_label("farming").fill("250")
    card(bench).get_by_label("farming").press("Enter")
    settled(bench)
    card(bench).get_by_label("Middle").fill("50")
    card(bench).get_by_label("Middle").press("Enter")
    settled(bench)
    found = items(server, project)
    assert found["Winter evening, copy"]["class_factors"]["farming"] == 2.5
    assert found["Winter evening, copy"]["area_factors"] == {"middle": 0.5}
    assert found["settings"]["condition"] == "Winter evening, copy"
    assert bench.get_by_test_id("badge").inner_text() != before
    card(bench).get_by_label("Middle").fill("lots")
    card(bench).get_by_label("Middle").press("Enter")
    expect(bench.get_by_text("Enter a number from 0 to 1000 %")).to_be_visible()


def test_an_outage_belongs_to_a_condition(bench: Page, server: str, project: str) -> None:
    find(bench, "T-Saltern")
    card(bench).get_by_role("button", name=re.compile("State under Winter evening")).click()
    bench.get_by_role("option", name="out of service").click()
    settled(bench)
    expect(shape(bench, "T-Saltern")).to_have_attribute("data-live", "false")
    found = items(server, project)
    assert found["winter-evening"]["states"] == {"T-Saltern": "out"}
    assert found["T-Saltern"]["in_service"] is True
    bench.get_by_role("button", name="Factors of this condition").click()
    card(bench).get_by_role("button", name="T-Saltern as normal").click()
    settled(bench)
    expect(shape(bench, "T-Saltern")).to_have_attribute("data-live", "true")


def test_sections_ask_how_many_and_how_far(bench: Page, server: str, project: str) -> None:
    before = items(server, project)
    find(bench, "Mole")
    bench.keyboard.press("g")
    bench.get_by_role("dialog").get_by_role("searchbox").fill("feeder sections")
    bench.keyboard.press("Enter")
    bench.get_by_label("How many").fill("none")
    bench.keyboard.press("Enter")
    expect(bench.get_by_role("alert").filter(has_text="Enter a number from 1 to 200")).to_be_visible()
    bench.get_by_label("How many").fill("4")
    bench.get_by_label("Length of each").fill("0,25")
    bench.get_by_role("button", name="Grow", exact=True).click()
    settled(bench)
    found = items(server, project)
    new = [i for i in found.values() if i["id"] not in before]
    assert sorted(i["kind"] for i in new) == ["bus"] * 4 + ["line"] * 4 + ["load"] * 4
    assert {i["length_km"] for i in new if i["kind"] == "line"} == {0.25}
    assert len({(i["x"], i["y"]) for i in new if i["kind"] == "bus"}) == 4
    bench.keyboard.press("Control+z")
    settled(bench)
    assert items(server, project) == before


def test_symbols_grow_and_shrink_from_the_palette(bench: Page, server: str, project: str) -> None:
    find(bench, "T-Saltern")
    command(bench, "Larger symbol")
    assert items(server, project)["T-Saltern"]["symbol_size"] == 1.25
    command(bench, "Smaller symbol")
    assert items(server, project)["T-Saltern"]["symbol_size"] == 1


def test_the_schemes_of_a_plan_get_their_years_in_the_card(bench: Page, server: str, project: str) -> None:
    def steps() -> list[tuple[str, int]]:
        return [
            (s["scheme"], s["year"])
            for s in next(i for i in items(server, project).values() if i.get("name") == "Spend least")["steps"]
        ]

    before = steps()
    show(bench, "Data")
    bench.get_by_role("button", name="More tables").click()
    bench.get_by_role("option", name=re.compile("^Plans")).click()
    bench.get_by_role("grid", name="Data: Plans").get_by_text("Spend least").click()
    plan = card(bench).get_by_role("region", name="Schemes by year")
    year = plan.get_by_role("textbox").first
    year.fill("2029")
    year.press("Enter")
    expect(bench.get_by_role("button", name=re.compile("^Undo: Change a year of Spend least"))).to_be_visible()
    assert sorted(steps()) == sorted([(before[0][0], 2029), *before[1:]])
    year.fill("soon")
    year.press("Enter")
    expect(bench.get_by_text("is no year from 1900 to 2200")).to_be_visible()
    plan.get_by_role("button", name=re.compile("Add a scheme")).click()
    bench.get_by_role("option").first.click()
    expect(plan.get_by_role("textbox")).to_have_count(len(before) + 1)
    plan.get_by_role("button", name=re.compile("^Take .* out of the plan")).first.click()
    expect(plan.get_by_role("textbox")).to_have_count(len(before))
    expect(bench.get_by_role("button", name=re.compile("^Undo: Take a scheme out of Spend least"))).to_be_visible()
    assert len(steps()) == len(before)
