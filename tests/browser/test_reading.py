"""Reading on the bench: lenses, details, tables, projects, and what happens when the service is gone."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, Route, expect
from tools.served import show

from tests.browser.conftest import call, open_bench
from tests.browser.test_bench import card, colour, field, finding, settled, shape


def test_hovering_shows_figures_and_finding_hover_marks_the_sheet(bench: Page) -> None:
    shape(bench, "Ambry 132").hover()
    expect(bench.get_by_text(re.compile(r"1\.0250 p\.u\. · 135\.300 kV"))).to_be_visible()
    finding(bench, "T-Q1").hover()
    expect(bench.locator('[data-halo="T-Q1"]')).to_have_count(1)
    expect(bench.get_by_text(re.compile(r"11[78]\.\d % loaded"))).to_be_visible()


def test_lens_changes_what_the_colours_mean(bench: Page) -> None:
    both = colour(bench, "Ambry 132")
    bench.get_by_role("button", name="voltage & loading Lens").click()
    bench.get_by_role("option", name="none").click()
    assert colour(bench, "Ambry 132") != both
    expect(bench.get_by_text("1.06 p.u.")).to_have_count(0)


def test_severity_is_told_without_colour(bench: Page) -> None:
    """Two notches for a breach, one for a watch; the arrow points to the side of the limit."""
    breach = finding(bench, "T-Q1").locator(".mark svg")
    watch = finding(bench, "Kesterby F2-01").locator(".mark svg")
    assert breach.locator("rect").count() == 2
    assert watch.locator("rect").count() == 1
    above = breach.locator("path").get_attribute("d")
    below = finding(bench, "Heron End").locator(".mark path").get_attribute("d")
    assert above != below
    expect(finding(bench, "Kesterby F2-01")).to_contain_text("watched above 80 %")


def test_arrow_keys_walk_along_the_feeder(bench: Page) -> None:
    finding(bench, "Heron End").click()
    bench.get_by_role("application").focus()
    bench.keyboard.press("ArrowLeft")
    expect(card(bench).get_by_role("heading", name="Heron End", exact=True)).to_have_count(0)
    for _ in range(3):
        bench.keyboard.press("ArrowLeft")
    bench.keyboard.press("Escape")
    expect(card(bench)).to_contain_text("Whole network")


def test_zoom_keys_and_fit(bench: Page) -> None:
    def scale() -> float:
        found = re.search(
            r"scale\(([\d.]+)\)", bench.locator("svg[role=application] > g").first.get_attribute("transform") or ""
        )
        assert found
        return float(found[1])

    start = scale()
    bench.get_by_role("application").focus()
    bench.keyboard.press("+")
    bench.keyboard.press("+")
    assert scale() > 1.5 * start
    bench.keyboard.press("f")
    transform = "document.querySelector('svg[role=application] > g').getAttribute('transform')"
    bench.wait_for_function(f"s => {transform}.includes(`scale(${{s}})`)", arg=start)


def test_table_sorts_both_ways_and_back_to_file_order(bench: Page) -> None:
    show(bench, "Tables")
    grid = bench.get_by_role("grid", name="Buses")
    head = grid.get_by_role("columnheader", name=re.compile(r"^Voltage.*p\.u\.$"))
    first = grid.get_by_role("row").nth(1)
    expect(first).to_contain_text("Ambry 132")
    head.get_by_role("button").click()
    expect(head).to_have_attribute("aria-sort", "descending")
    expect(first).to_contain_text("1.0250")
    head.get_by_role("button").click()
    expect(head).to_have_attribute("aria-sort", "ascending")
    expect(first).to_contain_text("Heron End")
    head.get_by_role("button").click()
    expect(head).to_have_attribute("aria-sort", "none")
    expect(first).to_contain_text("Ambry 132")


def test_results_tab_shows_both_ends_with_units(bench: Page) -> None:
    finding(bench, "T-Q1").click()
    card(bench).get_by_role("tab", name="Results").click()
    panel = card(bench).get_by_role("tabpanel")
    for words in ("P from", "Q to", "Loading", "Drop"):
        expect(panel).to_contain_text(words)
    expect(panel).to_contain_text("Mvar")


def test_card_links_lead_from_branch_to_bus(bench: Page) -> None:
    finding(bench, "T-Q1").click()
    card(bench).get_by_role("button", name="Quillport 132").click()
    expect(card(bench).get_by_role("heading", name="Quillport 132")).to_be_visible()


def test_catalogue_type_fills_the_constants(bench: Page) -> None:
    finding(bench, "Kesterby F2-01").click()
    row = card(bench).locator("[data-field=type]")
    row.get_by_role("button", name="Choose from the catalogue").click()
    bench.get_by_role("dialog").get_by_role("searchbox").fill("al 1×400 xlpe 11kV")
    bench.get_by_role("option", name="Al 1×400 XLPE 11 kV cable").click()
    expect(field(bench, "rating_a")).to_have_value("485")
    expect(card(bench).locator("[data-field=r_ohm_per_km]")).to_contain_text("§")
    expect(finding(bench, "Kesterby F2-01")).to_have_count(0)


def test_panels_fold_by_key_and_button(bench: Page) -> None:
    bench.keyboard.press("c")
    expect(card(bench)).to_have_count(0)
    bench.keyboard.press("b")
    expect(bench.locator("li button[data-severity]")).to_have_count(0)
    bench.keyboard.press("w")
    expect(card(bench).get_by_role("heading", name="T-Q1")).to_be_visible()
    bench.get_by_role("button", name="Unfold the shelf").click()
    expect(finding(bench, "T-Q1")).to_be_visible()


def test_project_is_renamed_copied_and_saved(bench: Page, server: str, project: str, tmp_path: Path) -> None:
    menu = bench.get_by_role("button", name=re.compile("^Project "))
    menu.click()
    bench.get_by_role("menuitem", name="Rename").click()
    bench.get_by_role("textbox", name="Name").fill("Renamed")
    bench.keyboard.press("Enter")
    expect(bench.get_by_role("button", name="Project Renamed")).to_be_visible()
    bench.get_by_role("button", name="Project Renamed").click()
    with bench.expect_download() as download:
        bench.get_by_role("menuitem", name="Save as Vast Mesh document").click()
    assert download.value.suggested_filename == "Renamed.json"
    download.value.save_as(tmp_path / "n.json")
    saved = json.loads((tmp_path / "n.json").read_text())
    assert len(saved["items"]) == len(call(f"{server}/api/projects/{project}")["items"])
    bench.get_by_role("button", name="Project Renamed").click()
    bench.get_by_role("menuitem", name="Make a copy").click()
    expect(bench.get_by_role("button", name="Project Renamed (copy)")).to_be_visible()
    assert project not in bench.url


def test_an_unknown_project_says_so_and_leads_back(new_page: Callable[..., Page], server: str) -> None:
    page = new_page()
    page.goto(f"{server}/p/nowhere")
    expect(page.get_by_role("alert")).to_contain_text("no project with the id 'nowhere'")
    page.get_by_role("button", name="All projects").click()
    expect(page.get_by_role("button", name="New project")).to_be_visible()


def test_when_the_service_is_gone_the_edit_is_taken_back_and_said(
    new_page: Callable[..., Page], server: str, project: str
) -> None:
    page = new_page()
    open_bench(page, server, project)
    finding(page, "T-Q1").click()

    def refuse(route: Route) -> None:
        route.fulfill(status=503, content_type="text/plain", body="gone")

    page.route("**/changes?*", refuse)
    rating = field(page, "rated_mva")
    rating.fill("80")
    rating.press("Enter")
    expect(card(page).get_by_role("alert")).to_contain_text("The service answered 503")
    rating.press("Escape")
    expect(rating).to_have_value("40")
    page.unroute("**/changes?*")
    rating.fill("80")
    rating.press("Enter")
    settled(page)
    expect(finding(page, "T-Q1")).to_have_count(0)


def test_a_conflict_between_tabs_is_said_and_the_newer_value_shown(
    new_page: Callable[..., Page], server: str, project: str
) -> None:
    page = new_page()
    page.route("**/events", lambda route: route.abort())  # this tab hears nothing of the other
    open_bench(page, server, project)
    finding(page, "T-Q1").click()
    change = {"op": "update", "id": "T-Q1", "values": {"rated_mva": 55}}
    call(
        f"{server}/api/projects/{project}/changes", "POST", {"base_revision": 0, "label": "other", "changes": [change]}
    )
    rating = field(page, "rated_mva")
    rating.fill("80")
    rating.press("Enter")
    expect(card(page).get_by_role("alert")).to_contain_text("it is 55 MVA now, you entered 80")
    item = next(i for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == "T-Q1")
    assert item["rated_mva"] == 55


def test_a_desk_whose_pages_are_not_listed_yet_opens_when_they_are(
    new_page: Callable[..., Page], server: str, project: str
) -> None:
    page = new_page()
    held: list[Route] = []
    page.route("**/api/studies", lambda route: held.append(route))
    with page.expect_request("**/api/studies"):
        page.goto(f"{server}/p/{project}")
    page.wait_for_selector("[data-ready=yes]")
    desk = page.get_by_role("navigation", name="Desks").get_by_role("button", name=re.compile("^Studies"))
    desk.click()
    tab = page.get_by_role("tablist", name="Views").get_by_role("tab", name="Sensitivities")
    expect(tab).to_have_count(0)
    for route in held:
        route.continue_()
    expect(tab).to_be_visible()
    expect(desk).to_have_attribute("aria-current", re.compile("true|page"))
