"""The street of the demonstration: from looking at its phases over balancing them to the comparison."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect
from tools.served import show

from tests.browser.conftest import call, find
from tests.browser.test_daily_work import pick


def per_phase(bench: Page) -> None:
    bench.get_by_role("button", name="Balanced Load flow", exact=True).first.click()
    bench.get_by_role("option", name="Per phase").click()
    expect(bench.get_by_role("button", name="worst phase Results by", exact=True).first).to_be_visible()


def look_by(bench: Page, now: str, way: str) -> None:
    bench.get_by_role("button", name=f"{now} Results by", exact=True).first.click()
    bench.get_by_role("option", name=way, exact=True).click()


def test_phases_in_profile_tables_and_phasors(bench: Page) -> None:
    per_phase(bench)
    find(bench, "LR 5")
    look_by(bench, "worst phase", "phases")
    show(bench, "Profile")
    expect(bench.get_by_test_id("profile").and_(bench.locator("[data-phase=B]")).first).to_be_visible()
    bench.get_by_role("button", name="neutral to earth").click()
    expect(bench.locator("[data-testid=profile][data-phase=N]")).to_be_visible()
    show(bench, "Tables")
    expect(bench.get_by_role("columnheader", name=re.compile("^V A")).first).to_be_visible()
    look_by(bench, "phases", "sequences")
    expect(bench.get_by_role("columnheader", name=re.compile("^V2.V1")).first).to_be_visible()
    bench.get_by_role("button", name="Outside limits").click()
    expect(bench.get_by_role("button", name="Every row")).to_be_visible()
    show(bench, "Phasors")
    expect(bench.get_by_test_id("phasor")).to_have_count(3)  # positive, negative and zero sequence
    look_by(bench, "sequences", "phases")
    expect(bench.get_by_test_id("phasor")).to_have_count(4)
    show(bench, "Phasors")
    bench.keyboard.press("p")
    expect(bench.get_by_test_id("phasor-ghost")).to_have_count(4)


def test_a_home_changes_its_phase_in_the_card(bench: Page) -> None:
    per_phase(bench)
    find(bench, "LR home 27")
    group = bench.get_by_role("group", name="Phase", exact=True)
    expect(group.get_by_role("button", pressed=True)).to_have_count(1)
    other = group.get_by_role("button", pressed=False).first
    wanted = other.inner_text()
    other.click()
    expect(group.get_by_role("button", pressed=True)).to_have_text(wanted)


def test_a_home_changes_its_phase_on_the_sheet_and_by_a_key(bench: Page) -> None:
    per_phase(bench)
    find(bench, "LR home 05")
    strip = bench.get_by_role("toolbar", name="Phase of LR home 05")
    on = strip.get_by_role("button", pressed=True)
    expect(on).to_have_text("A")
    strip.get_by_role("button", name="On phase C").click()
    expect(on).to_have_text("C")
    bench.keyboard.press("y")
    expect(on).to_have_text("A")
    find(bench, "LR crescent-1")
    lateral = bench.get_by_role("toolbar", name="Grow at LR crescent-1")
    lateral.get_by_role("button", name="On phase B").click()
    expect(lateral.get_by_role("button", pressed=True)).to_have_text("B")
    find(bench, "Crescent 3 charger")
    expect(bench.locator("[data-field=conductors] input")).to_have_value("BN")


def test_by_phases_the_sheet_shows_strands_and_tables_every_conductor(bench: Page) -> None:
    per_phase(bench)
    main = bench.locator("g[data-id='LR main-03']")
    expect(main.locator("[data-strand]")).to_have_count(0)
    look_by(bench, "worst phase", "phases")
    expect(main.locator("[data-strand]")).to_have_count(3)
    expect(bench.locator("g[data-id='LR 5'] [data-strand]")).to_have_count(3)
    expect(bench.locator("g[data-id='Crescent 2'] [data-strand]")).to_have_count(1)
    expect(bench.get_by_role("note", name="Strands")).to_have_text(re.compile("A.*B.*C"))
    look_by(bench, "phases", "worst phase")
    show(bench, "Tables")
    heading = bench.get_by_role("columnheader", name=re.compile("^V AB"))
    expect(heading).to_have_count(0)
    bench.get_by_role("button", name="Every conductor").click()
    expect(heading.first).to_be_attached()
    bench.get_by_role("button", name="Usual columns").click()
    expect(heading).to_have_count(0)


def test_phasors_of_a_home_and_settings_by_command(bench: Page) -> None:
    per_phase(bench)
    find(bench, "LR home 05")
    show(bench, "Phasors")
    expect(bench.get_by_test_id("phasor")).to_have_count(2)  # its phase and the neutral
    expect(bench.get_by_test_id("phasor-beside")).to_have_count(3)
    bench.keyboard.press("Control+k")
    bench.keyboard.type("settings")
    bench.keyboard.press("Enter")
    expect(bench.get_by_role("heading", name="Per phase: what counts")).to_be_in_viewport()
    limit = bench.locator("[data-field=neutral_limit_v] input")
    limit.fill("40")
    limit.press("Enter")
    show(bench, "Findings")
    expect(bench.get_by_text("neutral to earth; at most 10 V allowed")).to_have_count(0)


def test_all_conditions_lie_behind_the_worst_phase(bench: Page) -> None:
    per_phase(bench)
    find(bench, "LR 5")
    show(bench, "Profile")
    bench.get_by_role("button", name="all conditions").click()
    overlays = bench.get_by_test_id("overlay")
    expect(overlays.first).to_be_attached()
    expect(bench.get_by_text("Summer noon").last).to_be_visible()
    look_by(bench, "worst phase", "phases")
    expect(bench.get_by_role("button", name="all conditions")).to_have_count(0)


def test_loads_at_low_voltage_are_entered_in_kilowatts(bench: Page, server: str, project: str) -> None:
    def stored(ident: str) -> float:
        opened = call(f"{server}/api/projects/{project}")
        return float(next(i for i in opened["items"] if i["id"] == ident)["active_power_mw"])

    field = bench.locator("[data-field=active_power_mw]")
    find(bench, "LR home 05")
    expect(field).to_contain_text("kW")
    expect(field.locator("input")).to_have_value("2.6")
    field.locator("input").fill("3.1")
    field.locator("input").press("Enter")
    expect(bench.locator("[data-field=apparent_power_mva] input")).to_have_attribute(
        "placeholder", re.compile(r"^3\.19")
    )
    assert stored("LR home 05") == pytest.approx(0.0031)
    bench.get_by_role("application").focus()
    find(bench, "LR 3 roof")
    expect(bench.locator("[data-field=rated_mva]")).to_contain_text("kVA")
    expect(bench.locator("[data-field=rated_mva] input")).to_have_value("8.5")
    find(bench, "Heron End demand")
    expect(field).to_contain_text("MW")
    assert stored("Heron End demand") == pytest.approx(float(field.locator("input").input_value()))


def test_a_finding_leads_to_balancing_what_is_behind_its_cause(bench: Page) -> None:
    per_phase(bench)
    bench.locator("li button[data-severity=breach]").filter(has_text="LR 7").first.click()
    expect(bench.get_by_test_id("cause")).to_contain_text("loaded unequally")
    bench.get_by_role("button", name="Balance the phases behind LR main-01").click()
    expect(bench.locator("[data-option=feeder]")).to_contain_text("LR main-01")
    expect(bench.get_by_role("button", name="Run", exact=True)).to_be_enabled()


def test_two_schemes_that_clash_are_settled_by_choice(bench: Page) -> None:
    for name, power in (("Scheme", "0.05"), ("Scheme 2", "0.06")):
        bench.keyboard.press("s")
        bench.get_by_role("button", name="New scheme").click()
        bench.get_by_role("button", name=f"Record edits into {name}", exact=True).click()
        expect(bench.get_by_text(f"edits go into {name}", exact=True)).to_be_visible()
        find(bench, "Heron End demand")
        field = bench.locator("[data-field=active_power_mw] input")
        field.fill(power)
        field.press("Enter")
        expect(field).to_have_value(power)
    expect(bench.get_by_text("Overrides Scheme, which sets the same")).to_be_visible()
    bench.get_by_role("button", name="let the other").click()
    expect(bench.locator("[data-field=active_power_mw] input")).to_have_value("0.05")
    expect(bench.get_by_text("Overrides Scheme, which sets the same")).to_have_count(0)


def test_from_selection_over_balancing_to_comparison(bench: Page) -> None:
    per_phase(bench)
    find(bench, "T-Lantern Row")
    bench.keyboard.press("s")
    show(bench, "Phase balancing")
    for name in ("Winter evening", "Summer noon"):
        pick(bench, "Add to conditions together", name)
    pick(bench, "Method", "genetic")  # what it chooses itself takes twice as long to find the same
    bench.get_by_role("button", name="Run", exact=True).click()
    said = bench.get_by_test_id("statement")
    said.wait_for(timeout=600_000)
    expect(said).to_contain_text("move; power unbalance at the head")
    bench.get_by_role("button", name="Make it a scheme").click()
    changes = bench.get_by_role("table", name="Changes")
    crescent = changes.get_by_role("row").filter(has_text="LR crescent-1")
    expect(crescent).to_contain_text("and 12 elements with it")
    expect(crescent).to_contain_text("points")
    expect(bench.get_by_role("checkbox", name="Phase balancing, T-Lantern Row on", exact=True)).to_be_checked()
    expect(bench.get_by_test_id("scheme-mark").first).to_be_visible()
    effect = bench.get_by_test_id("scheme-effect")
    expect(effect).to_contain_text("N to earth")
    expect(effect).to_contain_text(re.compile(r"Breaches ?28 → 4"))
    best = bench.get_by_role("textbox", name="keep the best")
    moved = int(best.input_value())
    best.fill("3")
    best.press("Enter")
    expect(changes.get_by_role("checkbox", name=re.compile(" on$"), checked=True)).to_have_count(3)
    best.fill(str(moved))
    best.press("Enter")
    expect(changes.get_by_role("checkbox", name=re.compile(" on$"), checked=True)).to_have_count(moved)
    # Nothing of the street is outside its limits any more, on neither condition.
    for condition, other in (("Winter evening", "Summer noon"), ("Summer noon", "Winter evening")):
        show(bench, "Findings")
        street = bench.locator("li button[data-severity=breach]").filter(
            has_text=re.compile("^(LR|Wick Yard|Lamp|Crescent)")
        )
        expect(street).to_have_count(0)
        bench.get_by_role("button", name=f"{condition} Condition", exact=True).first.click()
        bench.get_by_role("option", name=other, exact=True).click()
        expect(bench.get_by_role("button", name=f"{other} Condition", exact=True).first).to_be_visible()
    show(bench, "Schemes")
    show(bench, "Compare")
    totals = bench.get_by_role("grid", name="Totals")
    expect(totals.get_by_role("row").filter(has_text="Lowest voltage")).to_contain_text("+0.")
    expect(bench.get_by_test_id("findings-change")).to_contain_text(re.compile(r"lost [1-9]"))
    bench.get_by_role("button", name="Diagram").click()
    expect(bench.get_by_role("img", name=re.compile("^Diagram of"))).to_have_count(2)
    bench.get_by_role("button", name="Data", exact=True).click()
    expect(bench.get_by_role("grid", name="Changed data").get_by_role("row").nth(3)).to_be_visible()


def test_edits_are_recorded_into_a_scheme_and_switched_off_again(bench: Page) -> None:
    bench.keyboard.press("s")
    bench.get_by_role("button", name="New scheme").click()
    bench.get_by_role("button", name="Record edits into Scheme").click()
    expect(bench.get_by_text("edits go into Scheme")).to_be_visible()
    find(bench, "Heron End demand")
    field = bench.locator("[data-field=active_power_mw] input")
    before = field.input_value()
    field.fill("0.05")
    field.press("Enter")
    expect(bench.get_by_role("table", name="Changes").get_by_role("row")).to_have_count(2)
    bench.get_by_role("checkbox", name="Scheme on", exact=True).uncheck()
    expect(field).to_have_value(before)
    bench.get_by_role("button", name="Stop recording").first.click()
    expect(bench.get_by_text("edits go into Scheme")).to_have_count(0)


def test_what_a_scheme_takes_out_stays_as_a_ghost(bench: Page) -> None:
    bench.keyboard.press("s")
    bench.get_by_role("button", name="New scheme").click()
    bench.get_by_role("button", name="Record edits into Scheme").click()
    find(bench, "Heron End")
    bench.keyboard.press("Delete")
    ghost = bench.locator("[data-ghost='Heron End']")
    expect(ghost).to_have_count(1)
    expect(ghost).to_have_text(re.compile("^Heron End, taken out by"))
    expect(bench.locator("[data-ghost]")).to_have_count(3)  # the bus, its line and its demand
    bench.keyboard.press("Control+z")
    expect(ghost).to_have_count(0)
