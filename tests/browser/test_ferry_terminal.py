"""A ferry terminal from nothing, through the interface alone: two supplies, a ring, motors, berths, protection."""

from __future__ import annotations

import re

from playwright.sync_api import Locator, Page, expect
from tools.served import show

from tests.browser.conftest import call


class Planner:
    """What a planner does with keys and pointer, in their words."""

    def __init__(self, page: Page) -> None:
        self.page, self.card = page, page.get_by_role("complementary", name="Card")

    def settle(self) -> None:
        expect(self.page.locator("[data-testid=badge]")).to_have_attribute("data-busy", "false")

    def find(self, name: str) -> None:
        self.page.keyboard.press("/")
        self.page.get_by_role("dialog").get_by_role("searchbox").fill(name)
        self.page.get_by_role("option").filter(has=self.page.get_by_text(name, exact=True)).first.click()
        expect(self.heading(name)).to_be_visible()

    def heading(self, name: str) -> Locator:
        return self.card.get_by_role("heading", name=name, exact=True)

    def grow(self, at: str, what: str, name: str | None = None) -> None:
        """Grow something; what has grown is selected, and renamed when a name is given."""
        self.find(at)
        self.page.keyboard.press("g")
        self.page.get_by_role("dialog").get_by_role("searchbox").fill(what)
        self.page.get_by_role("option").first.click()
        expect(self.heading(at)).to_have_count(0)
        self.settle()
        if name:
            self.rename(name)

    def connect(self, a: str, what: str, b: str, name: str) -> None:
        """Grow a branch between two buses, the second one by its name."""
        self.find(a)
        self.page.keyboard.press("g")
        self.page.get_by_role("dialog").get_by_role("searchbox").fill(f"{what} to another")
        self.page.get_by_role("option").first.click()
        expect(self.page.get_by_text("click the other bus")).to_be_visible()
        self.page.keyboard.press("/")
        self.page.get_by_role("dialog").get_by_role("searchbox").fill(b)
        self.page.get_by_role("option").filter(has=self.page.get_by_text(b, exact=True)).first.click()
        expect(self.heading(a)).to_have_count(0)
        self.settle()
        self.rename(name)

    def rename(self, name: str) -> None:
        self.page.keyboard.press("F2")
        box = self.card.get_by_role("textbox", name="Name", exact=True).first
        box.fill(name)
        box.press("Enter")
        expect(self.heading(name)).to_be_visible()
        self.settle()

    def section(self, words: str) -> None:
        summary = self.card.get_by_text(words, exact=True)
        if summary.locator("xpath=..").get_attribute("open") is None:
            summary.click()

    def put(self, **fields: str | float) -> None:
        for name, value in fields.items():
            box = self.card.locator(f"[data-field={name}] input")
            box.fill(str(value))
            box.press("Enter")
            self.settle()
            box.press("Escape")
            expect(self.card.get_by_role("alert").filter(has_text="not allowed")).to_have_count(0)

    def choose(self, field: str, option: str) -> None:
        self.card.locator(f"[data-field={field}] button").first.click()
        self.page.get_by_role("option", name=option, exact=True).click()
        self.settle()

    def take_type(self, query: str) -> None:
        self.card.get_by_role("button", name=re.compile("Choose from the catalogue")).first.click()
        self.page.get_by_role("dialog").get_by_role("searchbox").fill(query)
        expect(self.page.get_by_role("option").first).to_be_visible()
        self.page.wait_for_timeout(400)
        self.page.get_by_role("option").first.click()
        self.settle()

    def follow(self, field: str) -> None:
        self.card.locator(f"[data-field={field}]").get_by_role("button", name=re.compile("^Open ")).click()

    def far_bus(self, name: str) -> None:
        """Name the new bus at the far end of the branch that has just been grown."""
        self.card.locator("header p button").last.click()
        self.rename(name)


def build_terminal(planner: Planner) -> None:
    p = planner
    # Main supply: 33 kV, by fault level and X/R, over 6 km of overhead line given by its geometry.
    p.find("Supply")
    p.rename("Coast 33")
    p.find("Grid")
    p.rename("Main supply")
    p.put(fault_max_mva=850, fault_min_mva=600, x_over_r=8)
    p.grow("Coast 33", "Line", "Coast line")
    p.put(length_km=6)
    p.choose("geometry", "new geometry …")
    expect(p.heading("Geometry of Coast line")).to_be_visible()
    p.rename("Coast tower")
    p.put(a_x_m=-1.2, a_y_m=10.2, b_x_m=0, b_y_m=11.4, c_x_m=1.2, c_y_m=10.2)
    p.choose("earth_wires", "1") if p.card.locator("[data-field=earth_wires] button").count() else p.put(earth_wires=1)
    p.put(w_y_m=13.5)
    p.find("Coast line")
    p.far_bus("Terminal 33")
    # One 33/11 kV transformer with tap changer, its neutral earthed through a resistor of 1,000 A.
    p.grow("Terminal 33", "Transformer", "T1")
    p.put(rated_mva=10, impedance_pct=8.5, load_loss_kw=55, iron_loss_kw=9, tap_position=-2)
    p.section("Neutral earthing")
    p.choose("lv_neutral", "resistor")
    p.put(lv_neutral_a=1000)
    expect(p.card.locator("[data-field=lv_neutral_ohm] input")).to_have_attribute("placeholder", "6.351")
    p.far_bus("Terminal 11")
    # Stand-by supply: 11 kV by cable from another substation, behind an open switch.
    p.grow("Terminal 11", "Cable", "Stand-by cable")
    p.put(length_km=2.4)
    p.far_bus("Harbour 11")
    p.grow("Harbour 11", "Source", "Stand-by supply")
    p.put(fault_max_mva=160, fault_min_mva=120, x_over_r=6)
    p.grow("Stand-by cable", "Switch at its start", "Stand-by switch")
    p.take_type("breaker 12 kV 630 A 20 kA")
    p.page.keyboard.press("o")
    p.settle()
    # The ring: two stations, 11 kV cable from the catalogue, an open point between them.
    at = "Terminal 11"
    for n in (1, 2):
        p.grow(at, "Cable", f"Ring {n}")
        p.put(length_km=0.35)
        p.take_type("Al 150 11 kV 3")
        p.far_bus(f"Station {n}")
        at = f"Station {n}"
    p.connect("Station 2", "Cable", "Terminal 11", "Ring 3")
    p.put(length_km=0.5)
    p.grow("Ring 2", "Switch at its start", "Open point")
    p.page.keyboard.press("o")
    p.settle()
    # One station by its name plate; the other is a copy of it, pasted onto its bar.
    p.grow("Station 1", "Transformer", "TS 1")
    p.take_type("1000 kVA 11/0.415")
    p.put(impedance_pct=6, load_loss_kw=10.5)
    p.far_bus("Board 1")
    p.grow("Board 1", "Switch", "Berth breaker 1")
    p.take_type("LV air breaker 1600")
    p.far_bus("Berth bay 1")
    p.grow("Berth bay 1", "Load", "Berth 1")
    p.put(active_power_mw=600, power_factor=0.98)  # at low voltage in kW
    p.grow("Board 1", "Switch", "Lights fuse 1")
    p.take_type("gG 250 A")
    p.far_bus("Lights bay 1")
    p.grow("Lights bay 1", "Load", "Lights 1")
    p.put(active_power_mw=50, power_factor=0.95)


def build_rest(planner: Planner) -> None:
    p = planner
    p.find("TS 1")
    p.page.keyboard.press("d")
    expect(p.card.get_by_role("heading", name=re.compile("selected"))).to_be_visible()
    p.page.keyboard.press("Control+c")
    p.find("Station 2")
    p.page.keyboard.press("Control+v")
    expect(p.page.get_by_text("elements pasted").last).to_be_visible()
    p.settle()
    p.find("Berth 2")
    p.page.keyboard.press("Delete")
    p.settle()
    p.grow("Berth bay 2", "Induction motor", "Cold store compressor")
    p.put(rated_kw=160, efficiency_pct=95, power_factor=0.88, starting_current_x=6.5, count=2)
    p.grow("Lights bay 2", "Lumped", "Harbour workshops")
    p.put(apparent_power_mva=450, power_factor=0.9, motor_pct=65)
    expect(p.card.locator("[data-field=impedance_pct] input")).to_have_value("35")


def figures(server: str, project: str) -> dict[str, float]:
    live = call(f"{server}/api/projects/{project}/live")
    columns = {c["name"]: c["values"] for c in live["tables"]["buses"]["columns"]}
    assert live["account"]["ending"] == "converged"
    return dict(zip(columns["name"], columns["voltage_pu"], strict=True))


def test_the_ferry_terminal_is_drawn_solved_and_kept(new_page: object, server: str) -> None:
    page: Page = new_page()  # type: ignore[operator]
    page.set_default_timeout(8000)
    page.goto(f"{server}/projects")
    page.get_by_role("button", name=re.compile("New project")).click()
    page.get_by_role("textbox", name="Name").fill("Quillport ferry terminal")
    page.keyboard.press("Enter")
    page.wait_for_selector("[data-ready=yes]")
    project = page.url.rpartition("/")[2]
    planner = Planner(page)
    build_terminal(planner)
    build_rest(planner)
    normal = figures(server, project)
    assert None not in normal.values(), "everything has a supply"
    assert 0.95 < min(normal.values()) <= max(normal.values()) < 1.06
    # Over to the stand-by supply: close its switch, then take the transformer out; everything stays supplied.
    planner.find("Stand-by switch")
    page.keyboard.press("o")
    planner.settle()
    planner.find("T1")
    planner.choose("in_service", "no")
    standby = figures(server, project)
    assert min(v for b, v in standby.items() if b not in ("Coast 33", "Terminal 33")) > 0.9
    assert abs(standby["Terminal 11"] - normal["Terminal 11"]) > 1e-3
    show(page, "Check")
    assert page.locator("[data-rule=missing]").count() == 0
    before = call(f"{server}/api/projects/{project}")["items"]
    page.reload()
    page.wait_for_selector("[data-ready=yes]")
    after = call(f"{server}/api/projects/{project}")["items"]
    assert after == before
    kinds = {i["kind"] for i in after}
    assert {"line_geometry", "induction_motor", "lumped", "transformer", "switch", "source"} <= kinds
    assert len({i["name"] for i in after if i["kind"] != "settings"}) == len(after) - 1
