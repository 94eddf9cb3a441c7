"""The guide's path: nothing fits, the least that would have to give is named; with it the best dispatch, its prices, a scheme."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect
from tools.served import show

from tests.browser.test_accessibility import violations
from tests.browser.test_harmonics import chosen, run


def test_what_has_to_give_then_the_best_dispatch_and_its_prices(bench: Page) -> None:
    show(bench, "Optimal flow")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text(
        re.compile("No state was found that keeps every limit.*T-Q1")
    )
    expect(bench.get_by_role("grid")).to_contain_text("T-Q1")
    assert violations(bench) == []
    chosen(bench, "branches", "none")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text("less than now")
    expect(bench.get_by_test_id("figure-dispatch")).to_be_visible()
    bench.get_by_role("button", name="What binds", exact=True).click()
    expect(bench.get_by_role("grid")).to_contain_text("Highest voltage")
    bench.get_by_role("button", name="More tables").first.click()
    bench.get_by_role("option", name="Prices").click()
    bench.get_by_role("button", name="on the sheet On the sheet").click()
    bench.get_by_role("option", name="Price beside energy").click()
    assert violations(bench) == []
    bench.get_by_role("button", name="Make it a scheme").click()
    expect(bench.get_by_text("Set Thessel Head hydro")).to_be_visible()


def test_a_night_in_which_the_cheapest_dispatch_overloads_a_circuit(bench: Page) -> None:
    """The demonstration's path: what binds, what it saves, the price split, and the answer set in the condition."""
    bench.get_by_role("button", name="Winter evening Condition").first.click()
    bench.get_by_role("option", name="Tower work, night", exact=True).click()
    show(bench, "Optimal flow")
    chosen(bench, "branches", "none")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text("less than now")
    chosen(bench, "branches", "current")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text("what binds most is Ambry - Thessel Head, rating")
    bench.get_by_role("button", name="What binds", exact=True).click()
    expect(bench.get_by_role("grid")).to_contain_text("Ambry - Thessel Head")
    bench.get_by_role("button", name="Set it in Tower work, night").click()
    expect(bench.get_by_text("Set in Tower work, night")).to_be_visible()
    expect(bench.get_by_text("out of date").first).to_be_visible()


def test_open_points_become_a_scheme(bench: Page) -> None:
    show(bench, "Open points")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text(re.compile("Close Tie .*losses fall"))
    bench.get_by_role("button", name="Changes", exact=True).click()
    expect(bench.get_by_role("grid")).to_contain_text("Tie Moor End")
    assert violations(bench) == []
    bench.get_by_role("button", name="Make it a scheme").click()
    expect(bench.get_by_text("Close Tie Moor End")).to_be_visible()
