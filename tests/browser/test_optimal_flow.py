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
    expect(bench.get_by_test_id("statement")).to_contain_text(re.compile("Nothing keeps every limit.*T-Q1"))
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
