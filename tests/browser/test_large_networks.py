"""A network of some thousand elements on the sheet: marks far out, everything on the canvas nearer, quick lists."""

from __future__ import annotations

import json
import urllib.request

import pytest
from benchmarks.synthetic import synthetic
from playwright.sync_api import Page, expect

from tests.browser.conftest import call, find
from vastmesh.core.layout import place
from vastmesh.core.network import with_rules
from vastmesh.exchange import write_network

pytestmark = pytest.mark.xdist_group("large")  # one server for all of them


@pytest.fixture(scope="session")
def large(
    server: str, demo_project: str
) -> str:  # the demonstration is the last changed project until this one is there
    network = synthetic(1500)
    network.apply(place(network))
    network.apply(with_rules(network))
    data = write_network(network, "Large", "document")
    made = urllib.request.Request(f"{server}/api/projects/import?file_name=large.json", data, method="POST")
    with urllib.request.urlopen(made, timeout=120) as answer:
        found: str = json.load(answer)["project"]["id"]
    return found


@pytest.fixture
def sheet(new_page: object, server: str, large: str) -> Page:
    page: Page = new_page()  # type: ignore[operator]
    page.goto(f"{server}/p/{large}")
    page.wait_for_selector("[data-ready=yes]")
    page.get_by_role("button", name="Show everything").click()
    return page


def wheel(page: Page, steps: int) -> None:
    box = page.get_by_role("application").bounding_box()
    assert box
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    for _ in range(abs(steps)):
        page.mouse.wheel(0, -200 if steps > 0 else 200)


def drawn(page: Page) -> None:
    page.evaluate("() => new Promise(done => requestAnimationFrame(() => requestAnimationFrame(done)))")


def test_marks_tell_and_open(sheet: Page) -> None:
    wheel(sheet, -8)
    marks = sheet.locator("[data-group]")
    expect(marks.first).to_be_attached()
    expect(sheet.get_by_test_id("marks-key")).to_contain_text("worst voltage left, highest loading right")
    site = sheet.locator('[data-group-kind="site"]').first
    site.hover()
    detail = sheet.get_by_test_id("mark-detail")
    expect(detail).to_contain_text("station with its feeders")
    expect(detail).to_contain_text("p.u. at")
    key = site.get_attribute("data-group")
    site.click()
    expect(sheet.locator(f'[data-group="{key}"]')).to_have_count(0)


def test_what_is_drawn_on_the_canvas_can_be_pointed_at_and_chosen(sheet: Page) -> None:
    for _ in range(12):
        if sheet.locator("canvas").count():
            break
        wheel(sheet, 1)
        drawn(sheet)
    expect(sheet.locator("canvas")).to_be_attached()
    box = sheet.get_by_role("application").bounding_box()
    assert box
    card = sheet.get_by_role("complementary", name="Card")
    met = sheet.locator("[data-halo]")
    for x in range(100, int(box["width"]) - 100, 23):  # along a slanting way something is met
        sheet.mouse.move(box["x"] + x, box["y"] + box["height"] / 3 + x / 9)
        drawn(sheet)
        if met.count():
            break
    name = sheet.locator("[data-halo]").first.get_attribute("data-halo")
    assert name
    sheet.mouse.down()
    sheet.mouse.up()
    expect(card.get_by_role("heading", name=name, exact=True)).to_be_visible()


def test_a_line_is_found_among_a_thousand_by_typing(sheet: Page, server: str, large: str) -> None:
    find(sheet, "D3.2.5")
    card = sheet.get_by_role("complementary", name="Card")
    card.get_by_role("button", name="Spread along").click()
    options = sheet.get_by_role("option")
    expect(options.nth(1)).to_contain_text("F3.2.")  # after "none": lines at its own bus
    sheet.get_by_role("searchbox", name="Find spread along").fill("2.5 F3")
    expect(options.filter(has_text="F3.2.5")).to_have_count(1)
    options.filter(has_text="F3.2.5").click()
    expect(sheet.get_by_role("button", name="Undo: Set spread along of D3.2.5")).to_be_enabled()
    items = call(f"{server}/api/projects/{large}")["items"]
    assert next(i for i in items if i["id"] == "D3.2.5")["along"] == "F3.2.5"
