"""A study that only one file knows of has a page with everything; it goes on whatever the shelf shows."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

import pytest
from playwright.sync_api import Page, expect
from tools.served import served, show

from tests.browser.test_accessibility import violations
from tests.browser.test_bench import shape
from tests.browser.test_daily_work import edit, pick

pytestmark = pytest.mark.xdist_group("made-up")  # one server for all of them


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    with served(tmp_path_factory.mktemp("lanterns"), "demo", module="tests.made_up") as address:
        yield address


@pytest.fixture(scope="module")
def demo_project(server: str) -> str:
    from tests.browser.conftest import call

    found: str = next(p["id"] for p in call(f"{server}/api/projects") if p["name"] == "Corvane Coast")
    return found


def test_a_study_of_one_file_has_a_page_with_everything(bench: Page, server: str, project: str) -> None:
    show(bench, "Lantern light")
    form = bench.get_by_role("form", name="Options: Lantern light")
    expect(form.get_by_text("Soot")).to_have_count(0)  # matters with a long wick alone
    pick(bench, "Wick", "long")
    expect(form.get_by_text("Soot")).to_be_visible()
    form.get_by_label("Reach").fill("far")
    form.get_by_label("Reach").press("Enter")
    expect(form.get_by_role("alert")).to_contain_text("is not a number")
    form.get_by_label("Reach").fill("3")
    form.get_by_label("Reach").press("Enter")
    shape(bench, "Heron End").first.click()
    expect(form.locator("[data-option=keeper]")).to_contain_text("Heron End")
    form.get_by_role("button", name="Run", exact=True).click()
    expect(bench.get_by_test_id("statement")).to_contain_text("is the brightest of 119")
    expect(bench.get_by_test_id("figure-reach").locator("rect")).to_have_count(12)
    assert violations(bench) == []
    toolbar = bench.get_by_role("toolbar", name="Lantern light")
    toolbar.get_by_role("button", name="Lanterns").click()
    line = bench.get_by_role("combobox", name="Sift: which rows to show")
    line.fill("light_km > 2 km")
    expect(bench.get_by_text("2 of 119")).to_be_visible()
    pick(bench, "On the sheet", "Lantern light")
    expect(bench.get_by_role("button", name=re.compile("Light Lens"))).to_be_visible()
    toolbar.get_by_role("button", name="Findings 1").click()
    expect(bench.get_by_role("region", name="Findings of the study")).to_contain_text("at most 1 km is pleasant")
    toolbar.get_by_role("button", name="Workings").click()
    expect(bench.get_by_role("region", name="Workings of Heron End")).to_contain_text("Light of a lantern")
    assert violations(bench) == []
    toolbar.get_by_role("button", name="Keep").click()
    with bench.expect_download(timeout=120_000) as printed:
        toolbar.get_by_role("button", name="PDF of Lantern light").click()
    assert printed.value.path().read_bytes().startswith(b"%PDF")
    show(bench, "Runs")
    expect(bench.get_by_role("list", name="Kept runs")).to_contain_text("Lantern light")
    bench.get_by_role("checkbox", name="Lantern light in the document").check()
    with bench.expect_download(timeout=120_000) as printed:
        bench.get_by_role("button", name="Document of the chosen runs").click()
    assert printed.value.path().read_bytes().startswith(b"%PDF")
    # Colours of figures that are no longer those of the network say so.
    legend = bench.get_by_text("out of date")
    expect(legend).to_have_count(0)
    edit(server, project, id="T-Q1", values={"rated_mva": 45.0})
    expect(legend).to_be_visible()


def test_a_running_study_goes_on_while_other_views_are_shown_and_is_cancelled(bench: Page) -> None:
    show(bench, "Lantern light")
    form = bench.get_by_role("form", name="Options: Lantern light")
    form.get_by_label("Slowness").fill("50")
    form.get_by_label("Slowness").press("Enter")
    form.get_by_role("button", name="Run", exact=True).click()
    expect(form.get_by_role("progressbar", name="Progress")).to_be_visible()
    show(bench, "Tables")
    bench.keyboard.press("b")
    expect(form).to_have_count(0)
    show(bench, "Lantern light")
    expect(form.get_by_label("Slowness")).to_have_value("50")
    expect(form.get_by_text(re.compile("lighting lantern"))).to_be_visible()
    form.get_by_role("button", name="Cancel").click()
    expect(form.get_by_role("alert")).to_contain_text("cancelled")
    expect(form.get_by_role("button", name="Run", exact=True)).to_be_visible()


def test_what_one_tab_tries_and_runs_is_not_seen_in_another(
    new_page: Callable[..., Page], server: str, project: str
) -> None:
    one, two = new_page(), new_page()
    for page in (one, two):
        page.goto(f"{server}/p/{project}")
        page.wait_for_selector("[data-ready=yes]")
        show(page, "Tables")
        page.get_by_role("combobox", name="Sift: which rows to show").fill("voltage_pu < 0.95")
    found = two.get_by_text(re.compile(r"^\d+ of 119$"))
    before = found.inner_text()
    track = one.get_by_role("slider", name="demand").locator("xpath=..").bounding_box()
    assert track
    y = track["y"] + track["height"] / 2
    one.mouse.move(track["x"] + track["width"] / 2, y)
    one.mouse.down()
    one.mouse.move(track["x"] + 4, y, steps=4)  # held: tried, and not kept
    expect(one.get_by_test_id("badge")).to_contain_text("trying")
    expect(one.get_by_text(re.compile(r"^0 of 119$"))).to_be_visible()
    two.get_by_role("combobox", name="Sift: which rows to show").fill("voltage_pu < 0.95 and voltage_pu > 0")
    expect(found).to_have_text(before)
    expect(two.get_by_test_id("demand")).to_have_text("100 %")
    show(two, "Lantern light")
    two.get_by_role("button", name="Run", exact=True).click()
    expect(two.get_by_test_id("statement")).to_be_visible()
    one.mouse.up()
    show(one, "Lantern light")
    expect(one.get_by_role("button", name="Run", exact=True)).to_be_visible()
    expect(one.get_by_test_id("statement")).to_have_count(0)


def test_a_study_goes_on_while_the_page_is_elsewhere_and_is_found_again_after_a_reload(bench: Page) -> None:
    show(bench, "Made-up parts")
    form = bench.get_by_role("form", name="Options: Made-up parts")
    for label, value in (("Parts", "4000"), ("Slow s", "0.2")):
        form.get_by_label(label).fill(value)
        form.get_by_label(label).press("Enter")
    form.get_by_role("button", name="Run", exact=True).click()
    expect(form.get_by_role("progressbar")).to_be_visible()
    mark = bench.get_by_test_id("jobs-mark")
    expect(mark).to_be_visible()
    bench.get_by_role("button", name="Fold the shelf").click()
    expect(mark).to_be_visible()
    show(bench, "Findings")
    bench.reload()
    bench.wait_for_selector("[data-ready=yes]")
    expect(mark).to_be_visible()
    show(bench, "Made-up parts")
    expect(form.get_by_role("button", name="Cancel")).to_be_visible()
    expect(bench.get_by_text("so far")).to_be_visible()  # what there is so far
    mark.click()
    jobs = bench.get_by_role("region", name="Jobs")
    row = jobs.locator("li").first
    expect(row).to_contain_text("of 4000 parts")
    assert violations(bench) == []
    row.get_by_role("button", name="Cancel").click()
    expect(row).to_contain_text("cancelled, in part")
    expect(mark).to_have_count(0)
    row.get_by_role("button", name="Again").click()
    expect(jobs.locator("li")).to_have_count(2)
    expect(jobs.locator("li").first).to_contain_text("running")
    jobs.locator("li").nth(1).get_by_role("button", name="Open").click()  # the one that was cancelled, with what it had
    expect(bench.get_by_role("form", name="Options: Made-up parts")).to_be_visible()
    expect(bench.get_by_text("so far")).to_be_visible()
    show(bench, "Jobs")
    jobs.locator("li").first.get_by_role("button", name="Cancel").click()
    expect(jobs.locator("li").first).to_contain_text("cancelled")
    jobs.get_by_role("button", name="Take Made-up parts off the list").first.click()
    expect(jobs.locator("li")).to_have_count(1)
