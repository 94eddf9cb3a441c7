"""Make the pictures in docs/screenshots again, from the demo data. Run with ``make screenshots``."""

from __future__ import annotations

import re
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

sys.path.insert(0, str(Path(__file__).parents[1]))
from tools.served import BROWSER_FLAGS, CHROMIUM, served, show

TARGET = Path(__file__).parent / "screenshots"


def bench_worst(page: Page) -> None:
    page.locator("li button[data-severity]").first.click()


def tables(page: Page) -> None:
    show(page, "Tables")
    page.get_by_role("button", name="Branches").click()
    line = page.get_by_role("combobox", name="Sift: which rows to show")
    line.fill("kind = line and loading_pct > 70 %, largest loading_pct first")
    page.get_by_text(re.compile(r" of 12\d")).wait_for()
    page.get_by_role("button", name="Select on the sheet").click()
    page.wait_for_timeout(400)


def map_(page: Page) -> None:
    page.keyboard.press("m")
    page.keyboard.press("h")
    page.keyboard.press("b")
    page.wait_for_timeout(400)
    page.keyboard.press("f")
    page.wait_for_timeout(600)


def unsolved(page: Page) -> None:
    page.keyboard.press("/")
    page.keyboard.type("Heron End demand")
    page.keyboard.press("Enter")
    field = page.locator("[data-field=active_power_mw] input")
    field.fill("60")
    field.press("Enter")
    page.get_by_text("out of date").wait_for()
    page.get_by_test_id("badge").click()


def find(page: Page, name: str) -> None:
    page.keyboard.press("/")
    page.keyboard.type(name)
    page.get_by_role("option").filter(has=page.get_by_text(name, exact=True)).first.click()
    page.wait_for_timeout(500)


def workings(page: Page) -> None:
    find(page, "T-Q1")
    page.get_by_role("tab", name="Workings").click()


def run_study(page: Page) -> None:
    page.get_by_role("form").get_by_role("button", name=re.compile("^Run")).click()
    page.get_by_test_id("statement").wait_for()
    page.wait_for_timeout(600)


def option(page: Page, name: str, value: str) -> None:
    row = page.get_by_role("form").locator(f"[data-option={name}]")
    if row.locator("input").count():
        row.locator("input").fill(value)
        row.locator("input").press("Enter")
        return
    row.locator("button").first.click()
    page.get_by_role("option", name=value, exact=True).click()


def distortion_lens(page: Page) -> None:
    page.get_by_role("button", name="Summer noon Condition").or_(
        page.get_by_role("button", name="Winter evening Condition")
    ).first.click()
    page.get_by_role("option", name="Summer noon", exact=True).click()
    page.wait_for_timeout(500)
    find(page, "Kesterby 11")
    show(page, "Distortion")
    run_study(page)
    page.get_by_role("button", name="Buses", exact=True).click()
    page.get_by_role("button", name=re.compile("On the sheet$")).first.click()
    page.get_by_role("option", name="Voltage distortion", exact=True).click()
    page.wait_for_timeout(300)


def harmonics(page: Page) -> None:
    """The scan of the bus with the bank under every condition, the distortion as colours above it."""
    distortion_lens(page)
    show(page, "Impedance scan")
    option(page, "over", "conditions")
    option(page, "to_hz", "900")
    page.get_by_role("button", name="Half of the height").click()
    run_study(page)


def followed(page: Page) -> None:
    """The bench as it opens, once its outages are worked out."""
    page.wait_for_selector("[data-testid=security][data-state=bad]", timeout=120_000)


def outages(page: Page) -> None:
    """Outage by element, and above it the network after the loss that the demonstration is planted with."""
    followed(page)
    show(page, "Outages")
    page.get_by_role("button", name="Half of the height").click()
    run_study(page)
    page.get_by_role("button", name="Show on the sheet the loss of").click()
    page.get_by_role("option", name="Ambry - Lowmere", exact=True).click()
    page.get_by_text("After the loss of Ambry - Lowmere").wait_for()
    page.mouse.move(1120, 70)  # off the sheet, where it would show a bus
    page.wait_for_timeout(800)


def transfer(page: Page) -> None:
    """How far demand can grow, and where voltages turn."""
    show(page, "Transfer")
    page.get_by_role("button", name="Half of the height").click()
    option(page, "voltage", "no")
    run_study(page)
    page.wait_for_timeout(400)


def over_time(page: Page) -> None:
    """A winter by day and hour, and above it its hardest hour."""
    show(page, "Over time")
    page.get_by_role("button", name="Half of the height").click()
    box = page.locator("form [data-option=days] input")
    box.fill("59")
    box.press("Enter")
    run_study(page)
    page.get_by_role("button", name="Show a step on the sheet").click()
    page.get_by_role("option").first.click()
    page.wait_for_timeout(1500)


def interruptions(page: Page) -> None:
    """What interrupts most, and above it a failure once the control room has brought back what it can."""
    show(page, "Interruptions")
    page.get_by_role("button", name="Half of the height").click()
    run_study(page)
    page.get_by_role("group", name="step by step on the sheet").get_by_role("button").nth(1).click()
    page.get_by_text("Back to the whole network").wait_for()
    page.wait_for_timeout(1000)


def board(page: Page) -> None:
    """Three plans: which limits are broken in which year, and above them the network of one in ten years."""
    show(page, "Board")
    page.get_by_role("button", name="Half of the height").click()
    option(page, "of", "plans")
    option(page, "outages", "no")
    run_study(page)
    page.get_by_role("button", name="SAIDI over the years").wait_for(timeout=240_000)
    page.wait_for_timeout(30_000)
    page.get_by_role("button", name="Limits broken").click()
    page.get_by_role("button", name="Show on the sheet").click()
    page.get_by_role("option", name="Everybody, 2034").click()
    page.get_by_text("With the demand of 2034").wait_for()
    page.wait_for_timeout(1500)


def plan(page: Page) -> None:
    """The plan of least cost, proven by mixed-integer programming: what is built when."""
    show(page, "Best plan")
    page.get_by_role("button", name="Half of the height").click()
    for name, value in (("method", "mixed integer"), ("conditions", "present"), ("every", "4"),
                        ("breach_k", "45"), ("most_states", "60")):  # fmt: skip
        option(page, name, value)
    page.get_by_role("button", name="Run", exact=True).click()
    page.get_by_role("button", name="What is built when").wait_for(timeout=400_000)
    page.get_by_role("button", name="What is built when").click()
    page.wait_for_timeout(800)


def model(page: Page) -> None:
    find(page, "T-Saltern")
    for name, value in (("lv_kv", "6.6"), ("impedance_pct", "")):
        page.locator(f"[data-field={name}] input").fill(value)
        page.locator(f"[data-field={name}] input").press("Enter")
        page.wait_for_timeout(300)
    page.keyboard.press("Escape")
    show(page, "Check")


def per_phase(page: Page, way: str) -> None:
    page.get_by_role("button", name="Balanced Load flow", exact=True).first.click()
    page.get_by_role("option", name="Per phase").click()
    if way != "worst phase":
        page.get_by_role("button", name="worst phase Results by", exact=True).first.click()
        page.get_by_role("option", name=way, exact=True).click()
    page.wait_for_timeout(600)


def phases_profile(page: Page) -> None:
    per_phase(page, "phases")
    find(page, "Lantern Row 0.4")
    show(page, "Profile")
    page.get_by_role("button", name="Feeder").first.click()
    page.get_by_role("option", name="from Lantern Row 0.4").click()
    page.get_by_role("button", name="neutral to earth").click()
    page.get_by_role("button", name="unbalance").click()
    page.get_by_role("button", name="Half of the height").click()
    page.wait_for_timeout(500)


def balanced_scheme(page: Page) -> None:
    per_phase(page, "worst phase")
    find(page, "T-Lantern Row")
    page.keyboard.press("s")
    show(page, "Phase balancing")
    for condition in ("Winter evening", "Summer noon"):
        page.get_by_role("button", name=re.compile("Add to conditions together$")).first.click()
        page.get_by_role("option", name=condition, exact=True).click()
    page.get_by_role("button", name="Run", exact=True).click()
    page.get_by_role("button", name="Make it a scheme").click(timeout=60_000)
    page.get_by_role("table", name="Changes").wait_for()


def optimal(page: Page) -> None:
    """The best dispatch of a night of tower work, what its limits cost, and prices as colours above it."""
    page.get_by_role("button", name="Winter evening Condition").first.click()
    page.get_by_role("option", name="Tower work, night", exact=True).click()
    page.wait_for_timeout(500)
    show(page, "Optimal flow")
    page.get_by_role("button", name="Half of the height").click()
    run_study(page)
    page.get_by_role("button", name="More tables").first.click()
    page.get_by_role("option", name="Prices").click()
    page.get_by_role("button", name=re.compile("On the sheet$")).first.click()
    page.get_by_role("option", name="Price beside energy", exact=True).click()
    page.get_by_role("button", name="What binds", exact=True).click()
    page.wait_for_timeout(400)


def nothing_fits(page: Page) -> None:
    """The winter evening as it stands has no dispatch that keeps every limit: what would have to give."""
    show(page, "Optimal flow")
    page.get_by_role("button", name="Half of the height").click()
    run_study(page)
    page.get_by_role("button", name=re.compile("^What would have to give$")).click()
    page.wait_for_timeout(400)


def phasors(page: Page) -> None:
    balanced_scheme(page)
    show(page, "Tables")
    line = page.get_by_role("combobox", name="Sift: which rows to show")
    line.fill('name ~ "LR " or name ~ "Crescent 3"')
    page.locator("span.count", has_text=re.compile(r"^\d+ of \d+")).wait_for()
    page.get_by_role("button", name="Select on the sheet").click()
    page.get_by_role("button", name="Half of the height").click()
    show(page, "Phasors")
    page.wait_for_timeout(500)


def compare_schemes(page: Page) -> None:
    balanced_scheme(page)
    show(page, "Compare")
    page.get_by_role("button", name="Diagram").click()
    page.wait_for_timeout(2500)


SHOTS: list[tuple[str, str, Callable[[Page], None]]] = [
    ("bench-light", "light", followed),
    ("nothing-fits", "dark", nothing_fits),
    ("finding", "light", bench_worst),
    ("tables", "light", tables),
    ("not-solved", "light", unsolved),
    ("workings", "light", workings),
    ("harmonics", "light", harmonics),
    ("model", "light", model),
    ("map", "light", map_),
    ("interruptions", "light", interruptions),
    ("board", "light", board),
    ("plan", "dark", plan),
    ("profile-phases", "light", phases_profile),
    ("optimal", "light", optimal),
    ("outages", "light", outages),
    ("transfer", "dark", transfer),
    ("over-time", "light", over_time),
    ("phasors", "light", phasors),
    ("compare-schemes", "light", compare_schemes),
]


def main() -> None:
    TARGET.mkdir(exist_ok=True)
    wanted = set(sys.argv[1:])
    with tempfile.TemporaryDirectory() as folder:
        for name, scheme, prepare in SHOTS:
            if not wanted or name in wanted:
                shoot(Path(folder) / name, name, scheme, prepare)


def shoot(folder: Path, name: str, scheme: str, prepare: Callable[[Page], None]) -> None:
    """One picture from a server of its own, so that no picture shows what another one did."""
    with served(folder, "demo") as address, sync_playwright() as play:
        browser = play.chromium.launch(executable_path=CHROMIUM, args=BROWSER_FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme=scheme)  # type: ignore[arg-type]
        page.goto(f"{address}/")
        page.wait_for_selector("[data-ready=yes]")
        page.wait_for_timeout(400)
        prepare(page)
        page.wait_for_timeout(700)
        page.screenshot(path=TARGET / f"{name}.png")
        browser.close()
    print(f"{name}.png")


if __name__ == "__main__":
    main()
