"""A network from nothing: what has been grown is in sight, and everything that carries a name can be pointed at by it."""

from __future__ import annotations

import re
from collections.abc import Callable

from playwright.sync_api import Page, expect

from tests.browser.conftest import find
from tests.browser.test_bench import card, settled, shape


def inside(page: Page, ident: str) -> bool:
    """Whether a drawn element lies wholly in the sheet's window."""
    sheet = page.get_by_role("application").bounding_box()
    box = shape(page, ident).bounding_box()
    assert sheet
    assert box
    return bool(
        sheet["x"] <= box["x"]
        and sheet["y"] <= box["y"]
        and box["x"] + box["width"] <= sheet["x"] + sheet["width"]
        and box["y"] + box["height"] <= sheet["y"] + sheet["height"]
    )


def test_source_and_new_buses_stay_in_sight_while_a_network_grows(new_page: Callable[..., Page], server: str) -> None:
    page = new_page()
    page.goto(f"{server}/projects")
    page.get_by_role("button", name=re.compile("New project")).click()
    page.get_by_role("textbox", name="Name").fill("From nothing")
    page.keyboard.press("Enter")
    page.wait_for_selector("[data-ready=yes]")
    find(page, "Supply")
    for step in (1, 2, 3):
        page.keyboard.press("g")
        page.get_by_role("dialog").get_by_role("searchbox").fill("Line")
        page.get_by_role("option").first.click()
        expect(shape(page, f"Supply {step}")).to_be_attached()
        settled(page)
        page.wait_for_function("() => !document.getAnimations().some(a => a.playState === 'running')")
        drawn = page.locator("svg [data-id]").evaluate_all("l => l.map(e => e.dataset.id)")
        assert {"Grid", "Bus 1", f"Supply {step}"} <= set(drawn)
        outside = [d for d in drawn if not inside(page, d)]
        assert outside == []


def test_a_name_on_the_sheet_is_pointed_at_and_clicked_like_what_it_names(bench: Page) -> None:
    name = bench.locator("svg text").get_by_text("Kesterby 33", exact=True)
    name.hover()
    expect(bench.locator('[data-halo="Kesterby 33"]')).to_have_count(1)
    expect(bench.get_by_text(re.compile(r"0\.9\d\d\d p\.u\. · 3\d\.\d+ kV"))).to_be_visible()
    name.click()
    expect(card(bench).get_by_role("heading", name="Kesterby 33")).to_be_visible()
