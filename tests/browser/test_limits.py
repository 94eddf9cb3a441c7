"""The guide's path through the limits: the worst outage found and helped, the transfer limit, the worst hour of a winter."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from tools.served import show

from tests.browser.test_accessibility import violations
from tests.browser.test_harmonics import chosen, run

FOLLOWS_OUTAGES = True


def test_the_worst_outage_is_found_shown_and_helped(bench: Page) -> None:
    badge = bench.get_by_test_id("security")
    expect(badge).to_have_attribute("data-state", "bad")
    badge.click()
    dialog = bench.get_by_role("dialog", name="Outages of the model")
    expect(dialog).to_contain_text("T-Q2 carries 210")
    assert violations(bench) == []
    dialog.get_by_role("button", name="Show all outages").click()
    expect(bench.get_by_test_id("figure-cells")).to_be_visible()
    assert violations(bench) == []
    bench.get_by_test_id("figure-cells").focus()
    bench.keyboard.press("ArrowRight")
    bench.keyboard.press("Enter")
    expect(bench.get_by_role("complementary", name="Card").get_by_role("heading", name="T-Q2")).to_be_visible()
    bench.get_by_role("button", name="Show on the sheet the loss of").click()
    bench.get_by_role("option", name="Ambry - Lowmere", exact=True).click()
    expect(bench.get_by_text("After the loss of Ambry - Lowmere")).to_be_visible()
    expect(bench.get_by_test_id("badge")).to_contain_text("trying")
    bench.get_by_role("button", name="Back to the whole network").click()
    expect(bench.get_by_test_id("badge")).to_contain_text("solved")
    chosen(bench, "help", "worst")
    run(bench)
    bench.get_by_role("button", name="More tables").first.click()
    bench.get_by_role("option", name="What helps").click()
    expect(bench.get_by_role("grid")).to_contain_text("shed")


def test_the_badge_follows_an_edit(bench: Page) -> None:
    badge = bench.get_by_test_id("security")
    expect(badge).to_have_attribute("data-state", "bad")
    bench.get_by_role("button", name="Winter evening Condition").first.click()
    bench.get_by_role("option", name="Summer noon", exact=True).click()
    # Only the loss of the busbar that all supply comes by is left, and that is no security either.
    expect(badge).to_contain_text("1 of 24")
    expect(badge).to_contain_text("Ambry 132")


def test_a_transfer_ends_at_its_first_limit_and_turns(bench: Page) -> None:
    show(bench, "Transfer")
    chosen(bench, "voltage", "no")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text(
        re.compile("MW more can be carried.*Voltages collapse at")
    )
    expect(bench.get_by_test_id("figure-pv")).to_be_visible()
    assert violations(bench) == []


def test_the_worst_hour_of_a_winter_is_found_and_shown(bench: Page) -> None:
    show(bench, "Over time")
    box = bench.locator("form [data-option=days] input")
    box.fill("18")
    box.press("Enter")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text(re.compile(r"at T-Q1, 2025-01-17 1\d:00"))
    expect(bench.get_by_test_id("figure-calendar")).to_be_visible()
    assert violations(bench) == []
    bench.get_by_role("button", name="Show a step on the sheet").click()
    bench.get_by_role("option").first.click()
    expect(bench.get_by_role("status").filter(has_text="by the profiles")).to_be_visible()
    expect(bench.get_by_role("status").filter(has_text="2025-01-17 1")).to_be_visible()
    bench.get_by_role("button", name="Back to the condition").click()
    expect(bench.get_by_test_id("badge")).to_contain_text("solved")
    # A cell of the calendar is a step as well, by keyboard too.
    calendar = bench.get_by_test_id("figure-calendar")
    calendar.focus()
    bench.keyboard.press("ArrowRight")
    bench.keyboard.press("Enter")
    expect(bench.get_by_role("status").filter(has_text="by the profiles")).to_be_visible()
    # A stretch of the course, by keyboard and by pointer.
    bench.get_by_role("button", name="Course", exact=True).click()
    stretch = bench.get_by_test_id("stretch")
    expect(stretch).to_have_text("2025-01-01 00:00 to 2025-01-18 23:00")
    assert violations(bench) == []
    bench.get_by_role("slider", name="Stretch begins").focus()
    bench.keyboard.press("ArrowRight")
    expect(stretch).to_have_text("2025-01-01 01:00 to 2025-01-18 23:00")
    strip = bench.get_by_role("slider", name="Stretch begins").locator("xpath=..").bounding_box()
    assert strip
    bench.mouse.move(strip["x"] + strip["width"] * 0.1, strip["y"] + 20)
    bench.mouse.down()
    bench.mouse.move(strip["x"] + strip["width"] * 0.3, strip["y"] + 20, steps=4)
    bench.mouse.up()
    expect(stretch).to_contain_text(re.compile(r"2025-01-02 .* to 2025-01-06"))
    bench.get_by_role("button", name="Show the worst", exact=True).click()
    expect(bench.get_by_role("status").filter(has_text=re.compile("2025-01-0[2-6]"))).to_be_visible()
    bench.get_by_role("button", name="All", exact=True).click()
    expect(stretch).to_have_text("2025-01-01 00:00 to 2025-01-18 23:00")
