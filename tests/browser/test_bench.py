"""The bench as a planner uses it: slide, find, edit, undo, grow, reload; by pointer and by keyboard."""

from __future__ import annotations

import re
from collections.abc import Callable

import pytest
from playwright.sync_api import Locator, Page, expect
from tools.served import show

from tests.browser.conftest import call, open_bench
from tests.conftest import DATA


def card(page: Page) -> Locator:
    return page.get_by_role("complementary", name="Card")


def field(page: Page, name: str) -> Locator:
    return card(page).locator(f"[data-field={name}] input")


def finding(page: Page, name: str) -> Locator:
    return page.locator("li button[data-severity]").filter(has=page.get_by_text(name, exact=True))


def count(page: Page) -> int:
    return int(re.sub(r"\D", "", page.get_by_role("tab", name="Findings").inner_text()))


def shape(page: Page, ident: str) -> Locator:
    return page.locator(f'svg [data-id="{ident}"]')


def colour(page: Page, ident: str) -> str:
    return shape(page, ident).locator("path").nth(1).get_attribute("stroke") or ""


def settled(page: Page) -> None:
    expect(page.locator("[data-testid=badge]")).to_have_attribute("data-busy", "false", timeout=20_000)


def test_opens_solved_with_the_worst_finding_first(bench: Page) -> None:
    expect(bench.get_by_test_id("badge")).to_contain_text("solved")
    expect(bench.locator("li button[data-severity]").first).to_contain_text("T-Q1")
    expect(shape(bench, "Heron End")).to_be_visible()
    expect(bench).to_have_title("test_opens_solved_with_the_worst_finding_first[chromium] · Vast Mesh")


def test_sliding_demand_moves_colours_and_findings_while_it_moves(bench: Page, server: str, project: str) -> None:
    before, tint = count(bench), colour(bench, "Kesterby 11")
    thumb = bench.get_by_role("slider", name="demand")
    box = thumb.locator("xpath=..").bounding_box()
    assert box
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    bench.mouse.move(x, y)
    bench.mouse.down()
    for step in range(1, 13):
        bench.mouse.move(x + step * 2, y)
    expect(bench.get_by_test_id("badge")).to_contain_text("trying")
    expect(bench.get_by_role("tab", name="Findings")).not_to_have_text(f"Findings {before}")
    assert colour(bench, "Kesterby 11") != tint
    kept = next(i for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == "winter-evening")
    assert kept["demand_factor"] == 1.0  # nothing is kept before it is let go
    bench.mouse.up()
    expect(bench.get_by_test_id("badge")).to_contain_text("solved")
    settled(bench)
    assert count(bench) > before
    shown = int(bench.get_by_test_id("demand").inner_text().split()[0])
    kept = next(i for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == "winter-evening")
    assert round(kept["demand_factor"] * 100) == shown > 120


def test_slider_by_keyboard(bench: Page) -> None:
    bench.get_by_role("slider", name="demand").focus()
    bench.keyboard.press("PageUp")
    expect(bench.get_by_test_id("demand")).not_to_have_text("100 %")
    bench.keyboard.press("Home")
    expect(bench.get_by_test_id("demand")).to_have_text("0 %")
    settled(bench)
    expect(bench.get_by_role("button", name="Undo: Set demand to 0 %")).to_be_visible()


def test_worst_finding_leads_to_its_transformer_and_a_new_rating_is_solved(
    bench: Page, server: str, project: str
) -> None:
    finding(bench, "T-Q1").click()
    expect(card(bench).get_by_role("heading", name="T-Q1")).to_be_visible()
    expect(shape(bench, "T-Q1")).to_be_in_viewport()
    before = count(bench)
    rating = field(bench, "rated_mva")
    rating.fill("80")
    rating.press("Enter")
    expect(finding(bench, "T-Q1")).to_have_count(0)
    expect(rating).to_have_value("80")
    assert count(bench) < before
    bench.keyboard.press("Escape")
    bench.keyboard.press("Control+z")
    expect(finding(bench, "T-Q1")).to_have_count(1)
    bench.keyboard.press("Control+Shift+Z")
    expect(finding(bench, "T-Q1")).to_have_count(0)
    settled(bench)
    item = next(i for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == "T-Q1")
    assert item["rated_mva"] == 80


def test_a_refused_value_stays_with_its_reason(bench: Page) -> None:
    finding(bench, "T-Q1").click()
    rating = field(bench, "rated_mva")
    rating.fill("-5")
    rating.press("Enter")
    reason = card(bench).get_by_role("alert")
    expect(reason).to_contain_text("-5 is not allowed: enter a number from 1e-06 to 5000 MVA")
    expect(rating).to_have_value("-5")
    rating.fill("forty")
    rating.press("Enter")
    expect(reason).to_contain_text("“forty” is not a number")
    rating.press("Escape")
    expect(rating).to_have_value("40")


@pytest.fixture
def other(new_page: Callable[..., Page], bench: Page, server: str, project: str) -> Page:
    """A second window; both have T-Q1 on their card."""
    page = new_page()
    open_bench(page, server, project)
    for window in (bench, page):
        finding(window, "T-Q1").click()
    return page


def test_the_later_of_two_edits_of_one_field_is_asked_with_both_values(
    bench: Page, other: Page, server: str, project: str
) -> None:
    mine, theirs = field(bench, "rated_mva"), field(other, "rated_mva")
    mine.press("ControlOrMeta+a")
    mine.press_sequentially("66")
    theirs.fill("77")
    theirs.press("Enter")
    settled(other)
    expect(bench.get_by_role("button", name="Undo: Set rated power of T-Q1")).to_be_visible()  # it has come over
    mine.press("Enter")
    asked = card(bench).get_by_role("alert")
    expect(asked).to_contain_text(
        "Changed elsewhere since you began (“Set rated power of T-Q1”): it is 77 MVA now, you entered 66"
    )
    expect(mine).to_have_value("77")
    assert rated(server, project) == 77
    asked.get_by_role("button", name="Take 66").click()
    expect(asked).to_have_count(0)
    settled(bench)
    assert rated(server, project) == 66
    expect(theirs).to_have_value("66")


def test_each_window_takes_back_its_own_edit_first(bench: Page, other: Page, server: str, project: str) -> None:
    field(bench, "rated_mva").fill("41")
    field(bench, "rated_mva").press("Enter")
    settled(bench)
    expect(field(other, "rated_mva")).to_have_value("41")
    field(other, "iron_loss_kw").fill("25")
    field(other, "iron_loss_kw").press("Enter")
    settled(other)
    expect(field(bench, "iron_loss_kw")).to_have_value("25")
    bench.get_by_role("button", name="Undo: Set rated power of T-Q1").click()
    expect(field(bench, "rated_mva")).to_have_value("40")
    expect(field(other, "rated_mva")).to_have_value("40")
    expect(field(other, "iron_loss_kw")).to_have_value("25")
    expect(bench.get_by_role("button", name="Undo: Set iron loss of T-Q1 (another window's)")).to_be_visible()


def rated(server: str, project: str) -> float:
    return float(next(i for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == "T-Q1")["rated_mva"])


def test_undo_in_a_field_takes_back_what_is_typed_and_after_enter_the_edit(
    bench: Page, server: str, project: str
) -> None:
    finding(bench, "T-Q1").click()
    rating = field(bench, "rated_mva")
    rating.fill("80")
    rating.press("ControlOrMeta+z")
    expect(rating).to_have_value("40")
    rating.fill("80")
    rating.press("Enter")
    settled(bench)
    rating.press("ControlOrMeta+z")
    expect(bench.get_by_role("button", name="Nothing to undo")).to_be_visible()
    expect(rating).to_have_value("40")
    rating.press("Tab")
    settled(bench)
    assert rated(server, project) == 40
    # A field that was blank before: no blank is kept over the value.
    blank = field(bench, "short_time_mva")
    blank.fill("55")
    blank.press("Enter")
    settled(bench)
    blank.press("ControlOrMeta+z")
    expect(bench.get_by_role("button", name="Nothing to undo")).to_be_visible()
    expect(blank).to_have_value("")
    blank.press("ControlOrMeta+Shift+z")
    expect(blank).to_have_value("55")
    blank.press("Tab")
    settled(bench)
    expect(bench.get_by_role("button", name="Undo: Set short-time rating of T-Q1")).to_be_visible()


def test_typical_marks_leave_when_a_value_is_entered(bench: Page) -> None:
    finding(bench, "T-Q1").click()
    row = card(bench).locator("[data-field=no_load_current_pct]")
    expect(row).to_contain_text("≈")
    row.locator("input").fill("0,5")
    row.locator("input").press("Enter")
    expect(row).not_to_contain_text("≈")
    expect(row.locator("input")).to_have_value("0.5")


def test_find_grow_and_remove_by_keyboard_alone(bench: Page) -> None:
    bench.keyboard.press("/")
    bench.keyboard.type("heron e")
    expect(bench.get_by_role("option").first).to_contain_text("Heron End")
    bench.keyboard.press("Enter")
    expect(card(bench).get_by_role("heading", name="Heron End")).to_be_visible()
    bench.keyboard.press("g")
    bench.keyboard.type("load")
    bench.keyboard.press("Enter")
    expect(card(bench).get_by_role("heading", name="Load Heron End")).to_be_visible()
    expect(shape(bench, "Load Heron End")).to_be_attached()
    expect(card(bench)).to_contain_text("typical, nobody")
    power = card(bench).locator("[data-field=active_power_mw]")
    power.get_by_role("button", name="Confirm active power").click()
    expect(power).not_to_contain_text("≈")
    expect(field(bench, "active_power_mw")).to_have_value("0.5")
    card(bench).get_by_role("button", name=re.compile("^confirm all")).click()
    expect(card(bench)).not_to_contain_text("typical, nobody")
    bench.keyboard.press("Control+z")
    bench.keyboard.press("Control+z")
    settled(bench)
    bench.keyboard.press("Delete")
    expect(shape(bench, "Load Heron End")).to_have_count(0)
    bench.keyboard.press("Control+z")
    expect(shape(bench, "Load Heron End")).to_be_attached()


def test_grow_handles_add_a_line_with_a_bus_and_a_transformer(bench: Page) -> None:
    finding(bench, "Heron End").click()
    handles = bench.get_by_role("toolbar", name="Grow at Heron End")
    handles.get_by_role("button", name="Grow Line").click()
    expect(card(bench).get_by_role("heading", name="Line Heron End")).to_be_visible()
    shape(bench, "Heron End 1").click()
    expect(card(bench).get_by_role("heading", name="Heron End 1")).to_be_visible()
    bench.get_by_role("toolbar", name="Grow at Heron End 1").get_by_role("button", name="Grow Transformer").click()
    expect(card(bench).get_by_role("heading", name="T Heron End 1")).to_be_visible()
    expect(bench.get_by_test_id("badge")).to_contain_text("solved")
    bench.keyboard.press("Escape")
    expect(card(bench)).to_contain_text("121 buses")


def test_a_bus_is_dragged_and_moved_by_keys_and_stays(bench: Page, server: str, project: str) -> None:
    def place() -> tuple[float, float]:
        item = next(i for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == "Heron End")
        return item["x"], item["y"]

    finding(bench, "Heron End").click()
    bench.mouse.move(700, 20)
    before = place()
    box = shape(bench, "Heron End").bounding_box()
    assert box
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    bench.mouse.move(x, y)
    bench.mouse.down()
    bench.mouse.move(x + 40, y + 25, steps=4)
    bench.mouse.move(x + 90, y + 50, steps=4)
    bench.mouse.up()
    expect(bench.get_by_role("button", name="Undo: Move Heron End")).to_be_visible()
    settled(bench)
    dragged = place()
    assert dragged[0] > before[0] + 50
    assert dragged[0] % 10 == 0
    bench.get_by_role("application").focus()
    bench.keyboard.press("Shift+ArrowRight")
    settled(bench)
    assert place() == (dragged[0] + 10, dragged[1])


def test_selection_is_one_in_tables_sheet_and_card(bench: Page) -> None:
    show(bench, "Tables")
    bench.get_by_role("button", name=re.compile("^Branches")).click()
    grid = bench.get_by_role("grid", name="Branches")
    grid.get_by_role("columnheader", name="Loading").get_by_role("button").click()
    first = grid.get_by_role("row").nth(1)
    expect(first).to_contain_text("T-Q1")
    first.click()
    expect(card(bench).get_by_role("heading", name="T-Q1")).to_be_visible()
    expect(bench.locator('[data-halo="T-Q1"]')).to_have_count(1)
    bench.keyboard.press("ArrowDown")
    expect(card(bench).get_by_role("heading", name="T-Q1")).to_have_count(0)
    expect(grid.locator("[aria-selected=true]")).to_have_count(1)


def test_a_hopeless_change_keeps_the_last_result_marked_out_of_date(bench: Page) -> None:
    bench.keyboard.press("/")
    bench.keyboard.type("Heron End demand")
    bench.keyboard.press("Enter")
    power = field(bench, "active_power_mw")
    power.fill("800")
    power.press("Enter")
    expect(bench.get_by_text("out of date")).to_be_visible()
    badge = bench.get_by_test_id("badge")
    expect(badge).to_contain_text("not solved")
    badge.click()
    expect(bench.get_by_role("dialog")).to_contain_text("beyond what the network can carry")
    bench.keyboard.press("Escape")
    expect(shape(bench, "Heron End")).to_be_attached()
    bench.keyboard.press("Escape")
    bench.keyboard.press("Control+z")
    expect(badge).to_contain_text("solved")
    expect(bench.get_by_text("out of date")).to_have_count(0)


def test_dead_parts_are_drawn_as_dead(bench: Page) -> None:
    bench.keyboard.press("/")
    bench.keyboard.type("Saltern F2-08")
    bench.keyboard.press("Enter")
    expect(card(bench).get_by_role("heading", name="Saltern F2-08")).to_be_visible()
    card(bench).locator("[data-field=in_service]").get_by_role("button").click()
    bench.get_by_role("option", name="no").click()
    expect(shape(bench, "Heron End")).to_have_attribute("data-live", "false")
    expect(shape(bench, "Stone Beck")).to_have_attribute("data-live", "true")
    expect(bench.locator("li button[data-severity]").filter(has_text="no supply")).to_have_count(1)


def test_conditions_are_chosen_in_the_bar(bench: Page) -> None:
    demand = card(bench).get_by_text(re.compile(r"^130\.\d\d$"))
    expect(demand).to_have_count(1)
    bench.get_by_role("region", name="Condition").get_by_role("button", name=re.compile("Winter evening")).click()
    bench.get_by_role("option", name="Summer noon").click()
    expect(bench.get_by_test_id("demand")).to_have_text("45 %")
    expect(demand).to_have_count(0)


def test_everything_is_there_after_a_reload(bench: Page) -> None:
    finding(bench, "Heron End").click()
    bench.get_by_role("button", name="Grow Load", exact=True).click()
    expect(card(bench).get_by_role("heading", name="Load Heron End")).to_be_visible()
    settled(bench)
    bench.reload()
    bench.wait_for_selector("[data-ready=yes]")
    expect(shape(bench, "Load Heron End")).to_be_attached()
    expect(bench.get_by_role("button", name="Undo: Grow load at Heron End")).to_be_enabled()
    show(bench, "Logbook")
    expect(bench.get_by_role("region", name="Logbook")).to_contain_text("Grow load at Heron End")


def test_two_tabs_stay_consistent(new_page: Callable[..., Page], server: str, project: str) -> None:
    one, two = new_page(), new_page()
    open_bench(one, server, project)
    open_bench(two, server, project)
    for page in (one, two):
        finding(page, "T-Q1").click()
    field(one, "rated_mva").fill("80")
    field(one, "rated_mva").press("Enter")
    expect(field(two, "rated_mva")).to_have_value("80")
    expect(finding(two, "T-Q1")).to_have_count(0)
    field(two, "impedance_pct").fill("12")
    field(two, "impedance_pct").press("Enter")
    expect(field(one, "impedance_pct")).to_have_value("12")
    shown = [page.get_by_role("tab", name="Findings").inner_text() for page in (one, two)]
    assert shown[0] == shown[1]


def test_own_file_is_opened_laid_out_and_solved(new_page: Callable[..., Page], server: str) -> None:
    page = new_page()
    page.goto(f"{server}/projects")
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Open a network file").click()
    chooser.value.set_files(DATA / "nine-bus.cdf")
    report = page.get_by_role("dialog", name="Import report")
    expect(report).to_contain_text("9 buses, 9 branches")
    expect(report).to_contain_text("line 3")
    report.get_by_role("button", name="Go to the network").click()
    expect(page.get_by_test_id("badge")).to_contain_text("solved")
    expect(page.locator("svg [data-kind=bus]")).to_have_count(9)


def test_a_damaged_file_is_refused_in_words(new_page: Callable[..., Page], server: str) -> None:
    page = new_page()
    page.goto(f"{server}/projects")
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Open a network file").click()
    broken = (DATA / "nine-bus.cdf").read_bytes()[:900]
    chooser.value.set_files({"name": "broken.cdf", "mimeType": "text/plain", "buffer": broken})
    expect(page.get_by_role("alert")).to_contain_text("The file can't be read (line ")


def test_a_project_from_nothing(new_page: Callable[..., Page], server: str) -> None:
    page = new_page()
    page.goto(f"{server}/projects")
    page.get_by_role("button", name="New project").click()
    page.get_by_role("textbox", name="Name").fill("From nothing")
    page.get_by_role("button", name="Create").click()
    expect(page.get_by_test_id("badge")).to_contain_text("solved")
    shape(page, "Bus 1").click()
    page.get_by_role("button", name="Grow Transformer").click()
    expect(page.get_by_test_id("badge")).to_contain_text("solved")
    page.get_by_role("button", name="Project From nothing").click()
    page.get_by_role("menuitem", name="Remove (can be restored)").click()
    row = page.get_by_role("listitem").filter(has_text="From nothing")
    row.get_by_role("button", name="Restore").click()
    expect(page.get_by_role("button", name=re.compile("^From nothing changed"))).to_be_visible()
