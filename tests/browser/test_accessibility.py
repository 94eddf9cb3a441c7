"""WCAG 2.2 AA by axe, in both themes and in every state that covers the screen; and the themes themselves."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from playwright.sync_api import Page, expect
from tools.served import show

from tests.browser.conftest import find, open_bench
from tests.conftest import ROOT

AXE = ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js"
RULES = {"runOnly": ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]}
# The other theme has the same elements, and other colours: those rules alone are looked at once more.
COLOURS = {"runOnly": {"type": "rule", "values": ["color-contrast", "link-in-text-block"]}}


def violations(page: Page) -> list[str]:
    dark = page.evaluate("() => matchMedia('(prefers-color-scheme: dark)').matches")
    if not page.evaluate("() => 'axe' in window"):
        page.evaluate(AXE.read_text())
    found: dict[str, Any] = page.evaluate("rules => axe.run(document, rules)", COLOURS if dark else RULES)
    return [
        f"{v['id']}: {v['help']} at {n['target']} {n['failureSummary'][:200]}"
        for v in found["violations"]
        for n in v["nodes"]
    ]


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_bench_passes_axe(new_page: Callable[..., Page], server: str, demo_project: str, scheme: str) -> None:
    page = new_page(color_scheme=scheme, reduced_motion="reduce")
    open_bench(page, server, demo_project)
    assert violations(page) == []
    page.locator("li button[data-severity]").first.click()
    expect(page.get_by_role("heading", name="T-Q1")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("tab", name="Results").click()
    show(page, "Tables")
    assert violations(page) == []
    show(page, "Logbook")
    assert violations(page) == []
    show(page, "Findings")
    page.get_by_role("listitem").filter(has_text="Heron End").get_by_role("button").click()
    expect(page.get_by_role("toolbar", name="Grow at Heron End")).to_be_visible()
    assert violations(page) == []


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_overlays_and_projects_pass_axe(
    new_page: Callable[..., Page], server: str, demo_project: str, scheme: str
) -> None:
    page = new_page(color_scheme=scheme, reduced_motion="reduce")
    open_bench(page, server, demo_project)
    page.keyboard.press("Control+k")
    expect(page.get_by_role("option").first).to_be_visible()
    assert violations(page) == []
    page.keyboard.press("Escape")
    page.get_by_test_id("badge").click()
    expect(page.get_by_role("dialog", name="Account of the solution")).to_be_visible()
    assert violations(page) == []
    page.goto(f"{server}/projects")
    expect(page.get_by_role("button", name="New project")).to_be_visible()
    assert violations(page) == []


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_views_per_phase_and_schemes_pass_axe(
    new_page: Callable[..., Page], server: str, project: str, scheme: str
) -> None:
    page = new_page(color_scheme=scheme, reduced_motion="reduce")
    open_bench(page, server, project)
    show(page, "Phasors")
    expect(page.get_by_text("The balanced load flow has one phase")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="Solve per phase", exact=True).click()
    expect(page.get_by_text("Select one or several buses")).to_be_visible()
    find(page, "LR 3")
    expect(page.get_by_test_id("phasor").first).to_be_visible()
    assert violations(page) == []
    show(page, "Schemes")
    page.get_by_role("button", name="New scheme").click()
    expect(page.get_by_role("checkbox", name="Scheme on", exact=True)).to_be_visible()
    assert violations(page) == []
    show(page, "Phase balancing")
    expect(page.get_by_role("button", name="Run", exact=True)).to_be_visible()
    assert violations(page) == []
    show(page, "Compare")
    expect(page.get_by_role("grid", name="Totals")).to_be_visible()
    assert violations(page) == []


def test_theme_is_switched_and_remembered(new_page: Callable[..., Page], server: str, demo_project: str) -> None:
    page = new_page(color_scheme="light")
    open_bench(page, server, demo_project)
    page.get_by_role("button", name="Dark theme").click()
    expect(page.locator("body")).to_have_css("background-color", "rgb(20, 25, 31)")
    page.reload()
    expect(page.locator("body")).to_have_css("background-color", "rgb(20, 25, 31)")


def test_keyboard_reaches_every_part_with_visible_focus(
    new_page: Callable[..., Page], server: str, demo_project: str
) -> None:
    page = new_page()
    open_bench(page, server, demo_project)
    reached = set()
    for _ in range(70):
        page.keyboard.press("Tab")
        found = page.evaluate(
            """() => {
                const e = document.activeElement
                const by = e.getAttribute('aria-labelledby')?.split(' ').map(i => document.getElementById(i)?.textContent)
                const label = e.type === 'range' ? by?.join(' ') : e.closest('[aria-label]')?.getAttribute('aria-label')
                return [label || e.textContent || e.id, getComputedStyle(e).outlineStyle]
            }"""
        )
        if found[1] == "none" and "slider" not in str(found[0]).lower():
            # a hidden input stands for a slider's thumb, which shows the focus in its place
            assert page.evaluate("() => document.activeElement.matches('input[type=range], body')"), found
        reached.add(found[0][:30])
    for part in ("Project Corvane Coast", "Condition", "Find anything", "demand"):
        assert any(part in str(r) for r in reached), (part, reached)
    assert any("Schematic" in str(r) for r in reached)
    assert any("Shelf" in str(r) for r in reached)
