"""Everything about an element can be entered on its card, and what stands by itself is made from what is selected."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect
from tools.served import show

from tests.browser.conftest import call, find
from tests.browser.test_accessibility import violations
from tests.browser.test_bench import card, settled
from tests.browser.test_daily_work import pick
from vastmesh.core.network import REGISTRY, specs


@pytest.mark.parametrize("ident", ["Thessel Head hydro", "Ambry - Lowmere", "Bulk supply", "T-Q1"])
def test_no_field_of_an_element_is_out_of_sight(bench: Page, server: str, project: str, ident: str) -> None:
    kind = next(i["kind"] for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == ident)
    fields = specs(REGISTRY[kind])
    wanted = {n for n, s in fields.items() if not s.terminal and s.type != "other" and n != "name" and s.when is None}
    find(bench, ident)
    expect(bench.locator("[data-field]").first).to_be_visible()
    card(bench).locator("details").evaluate_all("all => all.forEach(d => { d.open = true })")
    # What is not open is not there before it is opened.
    bench.wait_for_function("() => [...document.querySelectorAll('aside details, [aria-label=Card] details')]"
                            ".every(d => d.children.length > 1)")  # fmt: skip
    seen = set(bench.locator("[data-field]").evaluate_all("all => all.map(e => e.dataset.field)"))
    assert wanted <= seen, sorted(wanted - seen)


def test_an_outage_is_made_of_what_is_selected_and_more_is_added_to_it(bench: Page, server: str, project: str) -> None:
    find(bench, "Ambry - Lowmere")
    show(bench, "Data")
    pick(bench, "New", "Outage")
    expect(card(bench).get_by_role("heading", name="Outage")).to_be_visible()
    field = bench.locator("[data-field=members] input")
    expect(field).to_have_value("Ambry - Lowmere")
    assert violations(bench) == []
    field.fill("Ambry - Lowmere, T-L1")
    field.press("Enter")
    expect(bench.get_by_text("Ambry - Lowmere, T-L1").first).to_be_visible()
    settled(bench)
    outage = next(i for i in call(f"{server}/api/projects/{project}")["items"] if i["id"] == "Outage")
    assert outage["members"] == ["Ambry - Lowmere", "T-L1"]
    pick(bench, "New", "Growth")
    expect(card(bench).get_by_role("heading", name="Growth")).to_be_visible()
