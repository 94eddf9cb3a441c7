"""The guide's path through the harmonics: a resonance is found, its bank detuned, and every condition is within its levels."""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

from playwright.sync_api import Page, expect
from tools.served import show

from tests.browser.conftest import find
from tests.browser.test_accessibility import violations
from tests.browser.test_daily_work import saved


def entered(page: Page, **options: str) -> None:
    form = page.get_by_role("form")
    for name, value in options.items():
        box = form.locator(f"[data-option={name}] input")
        box.fill(value)
        box.press("Enter")


def chosen(page: Page, option: str, choice: str) -> None:
    page.get_by_role("form").locator(f"[data-option={option}] button").first.click()
    page.get_by_role("option", name=choice, exact=True).click()


def run(page: Page) -> None:
    page.get_by_role("form").get_by_role("button", name=re.compile("^Run")).click()
    expect(page.get_by_test_id("statement")).to_be_visible()


def test_a_resonance_is_found_its_bank_detuned_and_every_level_kept(bench: Page, tmp_path: Path) -> None:
    bench.get_by_role("button", name="Winter evening Condition", exact=True).first.click()
    bench.get_by_role("option", name="Summer noon", exact=True).click()
    find(bench, "Kesterby 11")

    # The scan names the peak, and the capacitor that makes it.
    show(bench, "Impedance scan")
    entered(bench, to_hz="800", step_hz="10")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text(re.compile(r"order (4\.9|5\.0)"))
    plot = bench.get_by_test_id("figure-scan")
    expect(plot.locator("[data-element='Kesterby bank']")).to_have_count(1)
    bench.get_by_role("button", name="logarithmic").click()
    expect(bench.get_by_role("button", name="logarithmic")).to_have_attribute("aria-pressed", "true")
    with bench.expect_download() as file:
        bench.get_by_role("group", name="Plot: Impedance").get_by_role("button", name="CSV").click()
    rows = list(csv.reader(io.StringIO(saved(file.value, tmp_path).decode("utf-8-sig"))))
    assert rows[0][0] == "Frequency Hz"
    assert len(rows) > 70
    bench.get_by_role("button", name="Resonances", exact=True).click()
    expect(bench.get_by_role("grid")).to_contain_text("Kesterby bank")

    # The distortion says which level it breaks.
    show(bench, "Distortion")
    chosen(bench, "over", "conditions")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text(re.compile(r"[1-9]\d* levels? exceeded"))
    bench.get_by_role("button", name=re.compile(r"^Findings \d")).click()
    findings = bench.get_by_role("region", name="Findings of the study")
    findings.get_by_role("button", name="Why: Quarry").first.click()
    expect(findings).to_contain_text("A parallel resonance lies at order")
    expect(findings).to_contain_text("Detune Kesterby bank with 7 % reactors")
    assert violations(bench) == []

    # A detuned bank in its place; its answer is a scheme, which is on at once.
    show(bench, "Filter design")
    find(bench, "Kesterby 11")
    chosen(bench, "design", "detuned")
    chosen(bench, "size", "entered")
    entered(bench, order="4", mvar="3.8", steps="4")
    chosen(bench, "instead_of", "Kesterby bank")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text("A detuned filter of 4 × 0.95 Mvar")
    bench.get_by_role("button", name="Under every condition").click()
    expect(bench.get_by_role("grid")).to_contain_text("Summer noon")
    assert violations(bench) == []
    bench.get_by_role("button", name="Make it a scheme").click()
    expect(bench.get_by_text("Add Filter Kesterby 11")).to_be_visible()

    show(bench, "Distortion")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text("0 levels exceeded under any condition")

    # What the filter is made of stands in the card, worked out from its name plate; parts that are entered take its place.
    find(bench, "Filter Kesterby 11")
    card = bench.get_by_role("complementary", name="Card")
    card.get_by_text("Its parts", exact=True).click()
    inductance = card.locator("[data-field=l_mh] input")
    expect(inductance).to_have_attribute("placeholder", re.compile(r"\d"))


def test_own_levels_and_spectra_are_made_from_the_palette_and_rows_are_pasted(bench: Page) -> None:
    bench.keyboard.press("Control+k")
    bench.get_by_role("dialog").get_by_role("searchbox").fill("New harmonic spectrum")
    bench.get_by_role("option", name=re.compile("New harmonic spectrum")).click()
    card = bench.get_by_role("complementary", name="Card")
    expect(card.get_by_role("heading", name="Own spectrum")).to_be_visible()
    rows = card.locator("[data-field=orders] input")
    rows.evaluate(
        """(box) => {
            box.focus()
            const data = new DataTransfer()
            data.setData('text', '5\\t31\\t180\\n7\\t12\\n')
            box.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }))
        }"""
    )
    expect(rows).to_have_value("5 31 180; 7 12")
    rows.press("Enter")
    expect(bench.locator("[data-testid=badge]")).to_have_attribute("data-busy", "false")
    rows.fill("0 31")
    rows.press("Enter")
    expect(card.get_by_role("alert")).to_contain_text("order 0")
    rows.press("Escape")
    bench.keyboard.press("Control+k")
    bench.get_by_role("dialog").get_by_role("searchbox").fill("New harmonic levels")
    bench.get_by_role("option", name=re.compile("New harmonic levels")).click()
    expect(card.get_by_role("heading", name="Harmonic levels")).to_be_visible()
    assert violations(bench) == []


def test_a_spectrum_and_a_scan_point_at_the_same_order(bench: Page) -> None:
    find(bench, "Kesterby 11")
    show(bench, "Impedance scan")
    entered(bench, to_hz="600", step_hz="25")
    run(bench)
    show(bench, "Distortion")
    chosen(bench, "over", "schemes")
    chosen(bench, "along", "hz")
    run(bench)
    expect(bench.get_by_test_id("statement")).to_contain_text("no scheme")
    bench.get_by_role("button", name="Lay a second view beside").click()
    bench.get_by_role("button", name="View beside").click()
    bench.get_by_role("option", name="Impedance scan").click()
    scan, spectrum = bench.get_by_test_id("figure-scan"), bench.get_by_test_id("figure-spectrum")
    seventh = spectrum.locator("rect").nth(2)
    expect(spectrum.locator("rect title, g title").nth(2)).to_contain_text("350")
    seventh.hover()
    mark = scan.get_by_test_id("elsewhere")
    expect(mark).to_have_count(1)
    at = mark.get_attribute("d")
    assert at is not None
    # The line stands where the dotted tick of that order does.
    tick = scan.locator("text", has_text=re.compile("^7$")).first
    assert abs(float(at[1:].split()[0]) + 3 - float(tick.get_attribute("x") or 0)) < 0.6
    bench.mouse.move(5, 5)
    expect(mark).to_have_count(0)
