"""The daily work: set a condition, see the flow, find what is wrong, explain it, show it to others."""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from playwright.sync_api import Download, Locator, Page, Route, expect
from tools.served import show

from tests.browser.conftest import call, open_bench
from tests.browser.test_accessibility import violations
from tests.browser.test_bench import card, finding, settled, shape


def pick(page: Page, label: str, choice: str) -> None:
    page.get_by_role("button", name=re.compile(rf"{label}$")).first.click()
    page.get_by_role("option", name=choice, exact=True).click()


def saved(download: Download, tmp_path: Path) -> bytes:
    target = tmp_path / download.suggested_filename
    download.save_as(target)
    return target.read_bytes()


def voltage(server: str, project: str, bus: str) -> float:
    table = call(f"{server}/api/projects/{project}/live")["tables"]["buses"]
    columns = {c["name"]: c["values"] for c in table["columns"]}
    return float(columns["voltage_pu"][columns["id"].index(bus)])


def edit(server: str, project: str, **change: Any) -> None:
    revision = call(f"{server}/api/projects/{project}")["project"]["revision"]
    body = {"base_revision": revision, "label": "Set", "changes": [{"op": "update", **change}]}
    call(f"{server}/api/projects/{project}/changes", "POST", body)


@pytest.fixture
def sift(bench: Page) -> Locator:
    show(bench, "Tables")
    return bench.get_by_role("combobox", name="Sift: which rows to show")


# Conditions


def test_taps_off_then_on_at_140_per_cent_says_what_moved_without_a_dialog(
    bench: Page, server: str, project: str
) -> None:
    edit(server, project, id="winter-evening", values={"demand_factor": 1.4})
    expect(bench.get_by_test_id("demand")).to_have_text("140 %")
    pick(bench, "Automatic control", "as entered")
    settled(bench)
    expect(card(bench)).to_contain_text("Nothing had to move")
    low = voltage(server, project, "Heron End")
    pick(bench, "Automatic control", "automatic")
    expect(card(bench)).to_contain_text(
        re.compile(r"T-Saltern went from tap -5 to -\d+ because Saltern 11 stood at 0\.\d{4}")
    )
    assert voltage(server, project, "Heron End") > low + 0.01
    assert bench.get_by_role("dialog").count() == 0


def test_a_cell_of_the_conditions_is_changed_and_the_flow_follows(bench: Page, server: str, project: str) -> None:
    show(bench, "Conditions")
    cell = bench.get_by_role("textbox", name="Demand, domestic, Winter evening")
    before = voltage(server, project, "Heron End")
    cell.fill("60")
    cell.press("Enter")
    settled(bench)
    assert voltage(server, project, "Heron End") > before
    kept = next(i for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == "winter-evening")
    assert kept["class_factors"] == {"domestic": 0.6}
    cell.fill("x")
    cell.press("Enter")
    expect(bench.get_by_role("alert")).to_contain_text("Enter a number from 0 to 1000 %")
    bench.get_by_role("button", name="Summer noon").first.click()
    expect(bench.get_by_role("button", name="Summer noon ✓")).to_be_visible()


def test_a_sweep_runs_is_plotted_and_goes_out_of_date(bench: Page) -> None:
    show(bench, "Conditions")
    show(bench, "Sweep")
    form = bench.get_by_role("form", name="Options: Sweep")
    form.get_by_label("Points").fill("5")
    form.get_by_label("Points").press("Enter")
    form.get_by_role("button", name="Run", exact=True).click()
    expect(bench.get_by_test_id("figure-voltage")).to_be_visible()
    bench.get_by_role("toolbar", name="Sweep").get_by_role("button", name="Points").click()
    expect(bench.get_by_text("10 rows")).to_be_visible()
    expect(bench.get_by_role("gridcell", name="30 %", exact=True).first).to_be_visible()
    assert violations(bench) == []
    show(bench, "Conditions")
    show(bench, "Sweep")
    pick(bench, "Sweep", "conditions")
    expect(form.get_by_label("Points")).to_have_count(0)
    form.get_by_role("button", name="Run again", exact=True).click()
    expect(bench.get_by_text("8 rows")).to_be_visible()
    expect(bench.get_by_role("gridcell", name="Winter evening").first).to_be_visible()
    pick(bench, "Automatic control", "as entered")
    expect(bench.get_by_text("out of date")).to_be_visible()


# Tables


def test_one_line_answers_and_its_rows_are_selected_on_the_sheet(bench: Page, sift: Locator) -> None:
    sift.fill("voltage_pu < 0.95 and feeder ~ Saltern")
    expect(bench.get_by_text(re.compile(r"\d+ of 119"))).to_be_visible()
    bench.get_by_role("button", name="Select on the sheet").click()
    expect(card(bench)).to_contain_text(re.compile(r"\d+ elements|Several|selected"))
    assert bench.locator("[data-halo]").count() > 3
    bench.get_by_role("button", name="Branches 124").click()
    sift.fill("kind = transformer and loading_pct > 70 %, largest loading_pct first")
    expect(bench.get_by_role("row").nth(1)).to_contain_text("T-Q1")


def test_the_line_completes_words_and_says_where_it_does_not_fit(bench: Page, sift: Locator) -> None:
    sift.press_sequentially("volt")
    expect(bench.get_by_role("option").first).to_contain_text("voltage_pu")
    bench.keyboard.press("Tab")
    expect(sift).to_have_value("voltage_pu ")
    sift.press_sequentially("< 10 kV")
    expect(bench.get_by_role("alert")).to_contain_text("can't be compared")
    bench.keyboard.press("Escape")
    bench.keyboard.press("Escape")
    expect(sift).to_have_value("")
    assert violations(bench) == []


def test_rows_are_sorted_by_two_columns_filtered_and_grouped(bench: Page, sift: Locator) -> None:
    bench.get_by_role("button", name="Branches 124").click()
    bench.get_by_role("columnheader", name="Kind").get_by_role("button").click()
    bench.get_by_role("columnheader", name="Loading").get_by_role("button").click(modifiers=["Shift"])
    expect(bench.get_by_role("columnheader", name="Kind")).to_have_attribute("aria-sort", "ascending")
    expect(bench.get_by_role("columnheader", name="Loading")).to_have_attribute("aria-sort", "descending")
    bench.get_by_role("button", name="Filters").click()
    bench.get_by_role("textbox", name="Filter Kind").fill("transformer")
    expect(bench.get_by_text("15 of 124")).to_be_visible()
    expect(bench.get_by_role("row").nth(1)).to_contain_text("T-Q1")
    bench.get_by_role("textbox", name="Filter Loading").fill("60..100")
    expect(bench.get_by_text(re.compile(r"[3-9] of 124"))).to_be_visible()
    bench.get_by_role("textbox", name="Filter Loading").fill("")
    pick(bench, "Groups", "by area")
    group = bench.locator("[data-group='Quillport']")
    expect(group).to_contain_text(re.compile(r"Quillport · \d"))
    assert sift.is_visible()


def test_columns_are_hidden_moved_and_kept_as_a_set(bench: Page, sift: Locator) -> None:
    heads = bench.get_by_role("columnheader")
    expect(heads.nth(3)).to_contain_text("Voltage")
    bench.get_by_role("button", name="Columns …").click()
    bench.get_by_role("group", name="Columns").get_by_label("Nominal kV").uncheck()
    bench.get_by_role("button", name="Area further left").click()
    bench.get_by_role("textbox", name="Name of this set of columns").fill("short")
    bench.get_by_role("group", name="Columns").get_by_role("button", name="Save").click()
    bench.get_by_role("button", name="Back to the usual columns").click()
    bench.get_by_role("group", name="Columns").get_by_role("button", name="short", exact=True).click()
    bench.keyboard.press("Escape")
    expect(heads.first).to_contain_text("Area")
    expect(bench.get_by_role("columnheader", name="Nominal")).to_have_count(0)
    assert sift.is_visible()


def test_what_is_shown_is_exported(bench: Page, sift: Locator, tmp_path: Path) -> None:
    sift.fill("nominal_kv = 132")
    expect(bench.get_by_text("5 of 119")).to_be_visible()
    bench.get_by_role("button", name="Export …").click()
    with bench.expect_download() as waiting:
        bench.get_by_role("menuitem", name="These rows as CSV").click()
    text = saved(waiting.value, tmp_path).decode("utf-8-sig")
    assert len(text.strip().splitlines()) == 6
    assert "Voltage (p.u.)" in text
    bench.get_by_role("button", name="Export …").click()
    with bench.expect_download() as waiting:
        bench.get_by_role("menuitem", name="All result tables as one XLSX").click()
    book = openpyxl.load_workbook(io.BytesIO(saved(waiting.value, tmp_path)))
    assert {"Buses", "Branches", "Injections", "Areas"} <= set(book.sheetnames)


# Findings and workings


def test_a_finding_says_why_and_what_helps_and_can_be_acknowledged(bench: Page) -> None:
    finding(bench, "Heron End").click()
    cause = bench.get_by_test_id("cause")
    expect(cause).to_contain_text("km from Saltern 11")
    expect(cause).to_contain_text("% of the drop")
    aside = bench.get_by_role("complementary", name="Cause")
    aside.get_by_role("textbox", name="Note").fill("rebuilt in spring")
    aside.get_by_role("button", name="Acknowledge").click()
    expect(finding(bench, "Heron End")).to_contain_text("acknowledged: rebuilt in spring")
    bench.get_by_label("hide the 1 acknowledged").check()
    expect(finding(bench, "Heron End")).to_have_count(0)
    bench.keyboard.press("Control+z")
    expect(finding(bench, "Heron End")).to_contain_text("10.2")
    before = bench.get_by_role("tab", name="Findings").inner_text()
    aside.get_by_role("button", name="Do it").first.click()
    expect(bench.get_by_role("tab", name="Findings")).not_to_have_text(before)
    assert violations(bench) == []


def test_findings_are_grouped(bench: Page) -> None:
    pick(bench, "Order", "by what is wrong")
    expect(bench.get_by_text(re.compile(r"^Loading too high · \d+$"))).to_be_visible()
    pick(bench, "Order", "by area")
    expect(bench.get_by_text(re.compile(r"^Quillport · \d+$"))).to_be_visible()


def test_a_figure_is_worked_by_hand_and_leaves_as_a_live_sheet(bench: Page, tmp_path: Path) -> None:
    finding(bench, "T-Q1").click()
    card(bench).get_by_role("tab", name="Workings").click()
    expect(card(bench)).to_contain_text("From name plate to power and losses")
    expect(card(bench)).to_contain_text(re.compile(r"load flow 42\.\d+"))
    with bench.expect_download() as waiting:
        card(bench).get_by_role("link", name="Spreadsheet with live formulas").click()
    page = openpyxl.load_workbook(io.BytesIO(saved(waiting.value, tmp_path))).worksheets[0]
    assert sum(str(c.value).startswith("=") for c in page["D"]) > 15


# Labels, units, lenses, map


def test_units_turn_over_in_every_view_at_once(bench: Page) -> None:
    expect(card(bench)).to_contain_text("130.40MW")
    bench.keyboard.press("l")
    dialog = bench.get_by_role("dialog", name="Labels and units")
    dialog.get_by_role("button", name=re.compile("Power in")).click()
    bench.get_by_role("option", name="kW").click()
    assert violations(bench) == []
    bench.keyboard.press("Escape")
    expect(card(bench)).to_contain_text("kW")
    show(bench, "Tables")
    expect(bench.get_by_role("columnheader", name="Demand").first).to_contain_text("kW")
    expect(bench.locator("svg[role=application] text").filter(has_text="kW").first).to_be_visible()
    bench.reload()
    bench.wait_for_selector("[data-ready=yes]")
    expect(card(bench)).to_contain_text("kW")


def test_a_label_set_of_ones_own_puts_power_at_both_ends(bench: Page) -> None:
    bench.keyboard.press("l")
    dialog = bench.get_by_role("dialog", name="Labels and units")
    dialog.get_by_label("Power and current at both ends of a branch").check()
    expect(dialog.get_by_role("button", name=re.compile("Essentials, own"))).to_be_visible()
    dialog.get_by_label("Angle").check()
    bench.keyboard.press("Escape")
    expect(bench.locator("svg[role=application] text").filter(has_text="°").first).to_be_visible()
    boxes = bench.locator("svg[role=application] text").evaluate_all(
        "ts => ts.map(t => { const b = t.getBoundingClientRect(); return [b.left, b.top, b.right, b.bottom] })"
    )
    covered = [
        (a, b) for i, a in enumerate(boxes) for b in boxes[i + 1 :]
        if min(a[2], b[2]) - max(a[0], b[0]) > 6 and min(a[3], b[3]) - max(a[1], b[1]) > 6
    ]  # fmt: skip
    assert covered == []


@pytest.mark.parametrize("lens", ["voltage drop", "power factor", "flow", "areas", "supply", "losses"])
def test_lenses_colour_the_sheet_each_in_their_way(bench: Page, lens: str) -> None:
    line = shape(bench, "Ambry - Lowmere").locator("path").nth(1)
    before = (line.get_attribute("stroke"), shape(bench, "Ambry - Lowmere").get_attribute("stroke"))
    pick(bench, "Lens", lens)
    after = (line.get_attribute("stroke"), shape(bench, "Ambry - Lowmere").get_attribute("stroke"))
    assert after != before


def test_scales_are_edited_and_put_back(bench: Page) -> None:
    bench.get_by_role("button", name="scale …").click()
    field = bench.get_by_role("textbox", name="voltage, p.u., lowest")
    field.fill("0.90")
    field.press("Enter")
    expect(bench.get_by_text("0.90", exact=True).first).to_be_visible()
    bench.get_by_role("textbox", name="voltage, p.u., lowest").fill("2")
    bench.get_by_role("textbox", name="voltage, p.u., lowest").press("Enter")
    bench.get_by_role("button", name="Back to the usual scales").click()
    bench.keyboard.press("Escape")
    expect(bench.get_by_text("0.94", exact=True).first).to_be_visible()


def test_the_map_shows_the_coast_the_surface_and_bends(bench: Page, server: str, project: str) -> None:
    bench.keyboard.press("m")
    expect(bench.get_by_test_id("backdrop").locator("path").first).to_be_attached()
    expect(bench.get_by_test_id("places")).to_contain_text("Corvane Sound")
    bench.keyboard.press("h")
    painted = bench.get_by_test_id("surface").evaluate(
        "c => c.getContext('2d').getImageData(0, 0, c.width, c.height).data.filter((v, i) => i % 4 === 3 && v > 0).length"
    )
    assert painted > 200
    assert violations(bench) == []
    bench.keyboard.press("/")
    bench.keyboard.type("Ambry - Lowmere")
    bench.keyboard.press("Enter")
    bends = bench.locator("[data-bend]:not([data-bend=new])")
    expect(bends).to_have_count(3)
    box = bends.nth(1).bounding_box()
    assert box
    bench.mouse.move(box["x"] + 5, box["y"] + 5)
    bench.mouse.down()
    bench.mouse.move(box["x"] + 40, box["y"] + 30, steps=4)
    bench.mouse.up()
    settled(bench)
    expect(bench.get_by_role("button", name="Undo: Bend Ambry - Lowmere")).to_be_enabled()
    before = next(i for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == "Ambry - Lowmere")[
        "length_km"
    ]
    bench.keyboard.press("Control+k")
    bench.keyboard.type("from the route")
    bench.keyboard.press("Enter")
    settled(bench)
    after = next(i for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == "Ambry - Lowmere")[
        "length_km"
    ]
    assert after != before


# Runs, find, pictures


def test_a_pinned_run_is_kept_compared_and_looked_at(bench: Page, server: str, project: str) -> None:
    bench.keyboard.press("p")
    show(bench, "Runs")
    expect(bench.get_by_role("list", name="Kept runs")).to_contain_text("Pinned: Winter evening, revision 0")
    edit(server, project, id="T-Q1", values={"rated_mva": 80.0})
    pick(bench, "Quantity", "Loading %, branches")
    first = bench.locator("[role=row][aria-rowindex='2']").last
    expect(first).to_contain_text("T-Q1")
    expect(first).to_contain_text("−")
    bench.get_by_role("button", name="The difference on the sheet").click()
    expect(bench.get_by_role("button", name=re.compile("difference from pinned"))).to_be_visible()
    bench.get_by_role("button", name=re.compile("^Look at the network")).click()
    expect(bench.get_by_text("not to be edited")).to_be_visible()
    bench.get_by_role("application").focus()
    bench.keyboard.press("w")
    expect(card(bench)).to_contain_text("118.3 %")
    bench.keyboard.press("Delete")
    expect(bench.get_by_role("alert")).to_contain_text("picture of an earlier revision")
    bench.get_by_role("button", name="Back to the present").click()
    expect(bench.get_by_text("not to be edited")).to_have_count(0)
    assert violations(bench) == []


def test_a_study_fills_its_own_form_tables_and_lens(bench: Page) -> None:
    show(bench, "Linear load flow")
    bench.get_by_role("button", name="Run", exact=True).click()
    expect(bench.get_by_test_id("statement")).to_contain_text("added as demand at each sending end")
    expect(bench.get_by_role("grid", name="Branches")).to_contain_text("Ambry - Lowmere")
    finding_row = shape(bench, "Heron End")
    finding_row.first.click()
    show(bench, "Sensitivities")
    expect(bench.locator("[data-option=bus]")).to_contain_text("Heron End")
    bench.get_by_role("button", name="Run", exact=True).click()
    toolbar = bench.get_by_role("toolbar", name="Sensitivities")
    toolbar.get_by_role("button", name="Buses", exact=True).click()
    pick(bench, "On the sheet", "Voltage by Mvar")
    expect(bench.get_by_role("button", name=re.compile("Voltage by Mvar Lens"))).to_be_visible()
    # A quick study keeps up with the edits by itself, while that is wanted.
    bench.get_by_role("slider", name="demand").focus()
    bench.keyboard.press("ArrowUp")
    expect(bench.get_by_test_id("demand")).to_have_text("101 %")
    expect(toolbar.get_by_text("out of date")).to_have_count(0)
    bench.get_by_role("checkbox", name="keep up").uncheck()
    bench.get_by_role("slider", name="demand").focus()
    bench.keyboard.press("ArrowUp")
    expect(toolbar.get_by_text("out of date")).to_be_visible()
    toolbar.get_by_role("button", name="Run again").click()
    expect(toolbar.get_by_text("out of date")).to_have_count(0)
    assert violations(bench) == []


def test_find_marks_all_matches_and_steps_through_them(bench: Page) -> None:
    bench.keyboard.press("/")
    bench.keyboard.type("saltern f2")
    bench.get_by_role("button", name="Mark all on the sheet").click()
    expect(bench.locator("[data-halo]").nth(5)).to_be_attached()
    first = card(bench).inner_text()
    bench.keyboard.press("n")
    assert bench.locator("[data-halo]").count() > 5
    assert first


def test_the_sheet_leaves_as_svg_and_pdf_with_type_inside(bench: Page, tmp_path: Path) -> None:
    def take(form: str) -> bytes:
        bench.get_by_role("button", name="Picture", exact=True).click()
        dialog = bench.get_by_role("dialog", name="Picture of the sheet")
        dialog.get_by_role("button", name=re.compile(" As$")).click()
        bench.get_by_role("option", name=re.compile(form)).click()
        with bench.expect_download(timeout=60_000) as waiting:
            dialog.get_by_role("button", name="Save").click()
        return saved(waiting.value, tmp_path)

    svg = take("SVG").decode()
    assert "@font-face" in svg
    assert "data:font/woff2" in svg
    assert "T-Q1" in svg
    assert "Winter evening, revision 0" in svg
    assert take("PDF").startswith(b"%PDF")
    assert take("PNG").startswith(b"\x89PNG")


def test_summaries_name_the_worst_and_lead_to_it(bench: Page) -> None:
    show(bench, "Summary")
    bench.get_by_role("button", name="Feeders", exact=True).click()
    bench.get_by_role("columnheader", name=re.compile("^Lowest voltage")).get_by_role("button").dblclick()
    row = bench.get_by_role("row").filter(has_text="Heron End").first
    expect(row).to_contain_text("Saltern F2-01")
    row.get_by_role("button", name="Heron End").click()
    expect(card(bench).get_by_role("heading", name="Heron End")).to_be_visible()
    assert violations(bench) == []


def test_the_profile_lays_other_conditions_over_the_present_one(bench: Page) -> None:
    show(bench, "Profile")
    bench.get_by_role("button", name="all conditions").click()
    expect(bench.get_by_test_id("overlay")).to_have_count(3)
    shape(bench, "Heron End").first.click()
    bench.get_by_role("button", name="path", exact=True).click()
    expect(bench.get_by_role("img", name=re.compile("Profile of ([2-9]|1[01]) buses"))).to_be_visible()


def test_a_second_tab_of_the_same_project_shows_kept_runs(
    bench: Page, new_page: Any, server: str, project: str
) -> None:
    bench.keyboard.press("p")
    show(bench, "Runs")
    expect(bench.get_by_role("list", name="Kept runs")).to_contain_text("Pinned")
    other = new_page()
    open_bench(other, server, project)
    show(other, "Runs")
    expect(other.get_by_role("list", name="Kept runs")).to_contain_text("Pinned: Winter evening")


def test_a_pin_that_is_slow_to_be_kept_comes_into_an_open_list(bench: Page) -> None:
    held: list[Route] = []
    bench.route("**/keep?*", lambda route: held.append(route))
    with bench.expect_request("**/keep?*"):
        bench.keyboard.press("p")
    with bench.expect_response("**/runs"):
        show(bench, "Runs")
    runs = bench.get_by_role("list", name="Kept runs")
    expect(runs).to_contain_text("No run is kept yet")
    held[0].continue_()
    expect(runs).to_contain_text("Pinned: Winter evening")


def test_a_set_point_is_set_for_one_condition_only(bench: Page, server: str, project: str) -> None:
    finding(bench, "T-Q1").click()
    pick(bench, "Set only in this condition", "Tap position")
    field = card(bench).get_by_role("textbox", name="Tap position in Winter evening")
    field.fill("99")
    field.press("Enter")
    settled(bench)
    expect(bench.get_by_role("alert")).to_contain_text("99")
    field.fill("-6")
    field.press("Enter")
    settled(bench)
    items = {i["id"]: i for i in call(f"{server}/api/projects/{project}")["items"]}
    assert items["winter-evening"]["values"] == {"T-Q1": {"tap_position": -6}}
    assert items["T-Q1"]["tap_position"] == -4
    card(bench).get_by_role("tab", name="Results").click()
    expect(card(bench).get_by_role("tabpanel")).to_contain_text("−6")
    card(bench).get_by_role("button", name="How these figures come about").click()
    expect(card(bench).get_by_role("tab", name="Workings")).to_have_attribute("aria-selected", "true")
