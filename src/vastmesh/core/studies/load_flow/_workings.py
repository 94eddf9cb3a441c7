"""Figures of a solved load flow, recomputed by hand: bus balance, line, transformer, load, source equivalent."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from math import degrees
from typing import Any

from ...electrical.stamps.line import in_effect
from ...network import Bus, Condition, Element, Item, Line, Load, Network, Role, Source, Transformer, role_of
from ...workings import Ledger, Working

Tables = Mapping[str, Any]  # name -> a result table with records by id
Records = Mapping[str, Mapping[str, Any]]
Flow = Callable[["Solved", Any], Iterator[Working]]
_FLOWS: dict[type[Item], Flow] = {}


class Solved:
    """A network under its condition with the rows of its load flow by id."""

    def __init__(self, network: Network, tables: Tables, condition: Condition) -> None:
        self.network, self.condition = network, condition
        self.buses, self.branches, self.injections = (
            {r["id"]: r for r in tables[t].records()} if t in tables else {}
            for t in ("buses", "branches", "injections")
        )
        self.windings: Records = {r["id"]: r for r in tables["windings"].records()} if "windings" in tables else {}

    def live(self, bus: str) -> bool:
        return self.buses.get(bus, {}).get("voltage_pu") is not None


def flow_of(kind: type[Item]) -> Callable[[Flow], Flow]:
    def register(function: Flow) -> Flow:
        _FLOWS[kind] = function
        return function

    return register


def explain_flow(network: Network, tables: Tables, condition: Condition, ident: str) -> list[Working]:
    """How the figures of an element in a solved load flow follow from voltages and data; empty where it is dead."""
    item = network[ident]
    found = _FLOWS.get(type(item))
    return list(found(Solved(network, tables, condition), item)) if found and tables else []


def _end(sheet: Ledger, solved: Solved, bus: str, mark: str, word: str) -> tuple[float, float]:
    """Voltage of a bus in kV and degrees, as given lines."""
    row = solved.buses[bus]
    u = sheet.given(f"U{mark}", f"Voltage at {word}", row["voltage_kv"], "kV", f"load flow, {row['name']}")
    a = sheet.given(f"d{mark}", f"Angle at {word}", row["angle_deg"], "°", f"load flow, {row['name']}")
    return u, a


@flow_of(Line)
def line(solved: Solved, e: Line) -> Iterator[Working]:
    row = solved.branches.get(e.id)
    if row is None or row["from_active_power_mw"] is None or not e.length_km:
        return
    data = in_effect(e, solved.network.items.get, solved.network.settings.frequency_hz)
    s = Ledger("Power and losses, from the voltages at both ends",
               "Nominal pi: series impedance between the ends, half of the susceptance at each.")  # fmt: skip
    _end(s, solved, e.from_bus, "1", "from end")
    _end(s, solved, e.to_bus, "2", "to end")
    s.given("r", "Resistance", data.r, "Ω/km", data.origin)
    s.given("x", "Reactance", data.x, "Ω/km", data.origin)
    s.given("b", "Susceptance", data.b, "µS/km", data.origin)
    s.given("L", "Length", e.length_km, "km", "data")
    s.given("n", "Circuits", e.parallel, "", "data")
    s.line("R", "Series resistance", "r * L / n", "Ω")
    s.line("X", "Series reactance", "x * L / n", "Ω")
    s.line("Bh", "Susceptance at each end", "b * L * n / 2 / 1000000", "S")
    _rectangular(s, "1")
    _rectangular(s, "2")
    s.line("G", "Series conductance", "R / (R**2 + X**2)", "S")
    s.line("Y", "Series susceptance", "-X / (R**2 + X**2)", "S")
    s.line("Ja", "Series current times √3, real part", "(V1a - V2a) * G - (V1b - V2b) * Y", "kA")
    s.line("Jb", "Series current times √3, imaginary part", "(V1a - V2a) * Y + (V1b - V2b) * G", "kA")
    for k, sign in (("1", 1), ("2", -1)):
        j = ("Ja", "Jb") if sign > 0 else ("-Ja", "-Jb")
        s.line(f"J{k}a", f"Current times √3 into end {k}, real", f"{j[0]} - V{k}b * Bh", "kA")
        s.line(f"J{k}b", f"Current times √3 into end {k}, imaginary", f"{j[1]} + V{k}a * Bh", "kA")
    for k, end in (("1", "from"), ("2", "to")):
        s.line(f"P{k}", f"Active power into the {end} end", f"V{k}a * J{k}a + V{k}b * J{k}b", "MW",
               solver=row[f"{end}_active_power_mw"])  # fmt: skip
        s.line(f"Q{k}", f"Reactive power into the {end} end", f"V{k}b * J{k}a - V{k}a * J{k}b", "Mvar",
               solver=row[f"{end}_reactive_power_mvar"])  # fmt: skip
        s.line(f"I{k}", f"Current at the {end} end", f"sqrt(P{k}**2 + Q{k}**2) / (sqrt(3) * U{k}) * 1000", "A",
               solver=row[f"{end}_current_a"])  # fmt: skip
    _losses(s, solved, e, row)
    if row["loading_pct"] is not None and data.rating < float("inf"):
        s.given("Ir", "Rating of one circuit", data.rating, "A", "data")
        s.line("k", "Loading", "max(I1, I2) / (Ir * n) * 100", "%", solver=row["loading_pct"])
    yield s.working()


def _rectangular(s: Ledger, k: str, turned: str = "") -> None:
    s.line(f"V{k}a", f"Voltage at end {k}, real part", f"U{k} * cos(radians(d{k}{turned}))", "kV")
    s.line(f"V{k}b", f"Voltage at end {k}, imaginary part", f"U{k} * sin(radians(d{k}{turned}))", "kV")


def _losses(s: Ledger, solved: Solved, e: Element, row: Mapping[str, Any]) -> None:
    s.line("Pl", "Active loss", "P1 + P2", "MW", solver=row["active_loss_mw"])
    s.line("Ql", "Reactive loss", "Q1 + Q2", "Mvar", solver=row["reactive_loss_mvar"])
    one, two = (solved.buses[b]["nominal_kv"] for b in e.buses())
    s.given("Un1", "Nominal voltage at end 1", one, "kV", "data")
    s.given("Un2", "Nominal voltage at end 2", two, "kV", "data")
    s.line("du", "Voltage drop", "(U1 / Un1 - U2 / Un2) * 100", "%", solver=row["voltage_drop_pct"])


@flow_of(Transformer)
def transformer(solved: Solved, e: Transformer) -> Iterator[Working]:
    row = solved.branches.get(e.id)
    if row is None or row["from_active_power_mw"] is None or not e.rated_mva:
        return
    s = Ledger("From name plate to power and losses",
               "Per unit of rated power; each side's voltage on its rated voltage times the turns in use, the HV side turned "
               "back by the vector group.")  # fmt: skip
    _end(s, solved, e.hv_bus, "1", "HV")
    _end(s, solved, e.lv_bus, "2", "LV")
    s.given("S", "Rated power", e.rated_mva, "MVA", "name plate")
    s.given("Ur1", "Rated HV", e.hv_kv or 0.0, "kV", "name plate")
    s.given("Ur2", "Rated LV", e.lv_kv or 0.0, "kV", "name plate")
    s.given("z", "Impedance", e.impedance_pct or 0.0, "%", "name plate")
    size = "z" if (e.impedance_pct or 0.0) >= 0 else "-z"
    if e.load_loss_kw is not None:
        s.given("Pk", "Load loss", e.load_loss_kw, "kW", "name plate")
        s.line("r", "Resistance", "Pk / 1000 / S", "p.u.", "IEC 60076-1")
    else:
        s.given("m", "X / R", e.ratio_x_r(), "", "entered" if e.x_over_r is not None else "typical of the rating")
        s.line("r", "Resistance", f"{size} / 100 / sqrt(1 + m**2)", "p.u.")
    sign = "" if size == "z" else "-"
    s.line("x", "Reactance", f"{sign}sqrt((z / 100)**2 - r**2)", "p.u.")
    s.given("Pi", "Iron loss", e.iron_loss_kw, "kW", "name plate")
    s.given("i0", "No-load current", e.no_load_current_pct, "%", "name plate")
    s.line("g", "No-load conductance", "Pi / 1000 / S", "p.u.")
    s.line("b", "No-load susceptance", "-sqrt(max((i0 / 100)**2 - g**2, 0))", "p.u.")
    s.given("t", "Tap position", row["tap_position"], "", "load flow" if e.regulates else "data")
    s.given("t0", "Neutral tap", e.tap_neutral, "", "data")
    s.given("st", "Tap step", e.tap_step_pct, "%", "data")
    s.line("w", f"Turns in use, {e.tap_side.upper()} side", "1 + (t - t0) * st / 100", "p.u.")
    s.given("a", "HV leads LV by", degrees(e.clock_shift_rad()), "°", f"vector group {e.vector_group}")
    turns = ("w", "1") if e.tap_side == "hv" else ("1", "w")
    for k, turn, shift in (("1", turns[0], " - a"), ("2", turns[1], "")):
        s.line(
            f"v{k}a", f"Voltage inside, side {k}, real", f"U{k} / (Ur{k} * {turn}) * cos(radians(d{k}{shift}))", "p.u."
        )
        s.line(
            f"v{k}b",
            f"Voltage inside, side {k}, imaginary",
            f"U{k} / (Ur{k} * {turn}) * sin(radians(d{k}{shift}))",
            "p.u.",
        )
    s.line("ja", "Current, real", "((v1a - v2a) * r + (v1b - v2b) * x) / (r**2 + x**2)", "p.u.")
    s.line("jb", "Current, imaginary", "((v1b - v2b) * r - (v1a - v2a) * x) / (r**2 + x**2)", "p.u.")
    s.line("P1", "Active power into HV", "(v1a * ja + v1b * jb + (v1a**2 + v1b**2) * g) * S", "MW",
           solver=row["from_active_power_mw"])  # fmt: skip
    s.line("Q1", "Reactive power into HV", "(v1b * ja - v1a * jb - (v1a**2 + v1b**2) * b) * S", "Mvar",
           solver=row["from_reactive_power_mvar"])  # fmt: skip
    s.line("P2", "Active power into LV", "-(v2a * ja + v2b * jb) * S", "MW", solver=row["to_active_power_mw"])
    s.line("Q2", "Reactive power into LV", "-(v2b * ja - v2a * jb) * S", "Mvar", solver=row["to_reactive_power_mvar"])
    for k, end in (("1", "from"), ("2", "to")):
        s.line(f"I{k}", f"Current, side {k}", f"sqrt(P{k}**2 + Q{k}**2) / (sqrt(3) * U{k}) * 1000", "A",
               solver=row[f"{end}_current_a"])  # fmt: skip
        s.line(f"Ir{k}", f"Rated current, side {k}", f"S / (sqrt(3) * Ur{k}) * 1000", "A")
    s.line("k", "Loading", "max(I1 / Ir1, I2 / Ir2) * 100", "%", solver=row["loading_pct"])
    _losses(s, solved, e, row)
    yield s.working()


@flow_of(Bus)
def bus(solved: Solved, e: Bus) -> Iterator[Working]:
    if not solved.live(e.id):
        return
    row = solved.buses[e.id]
    s = Ledger("Balance of the bus", "What comes in less what goes out; what is left is the mismatch of the solution.")
    come: list[tuple[str, str]] = []
    for n, (name, p, q, sign) in enumerate(_at_bus(solved, e.id), 1):
        way = "into the bus" if sign > 0 else "out of the bus"
        s.given(f"P{n}", f"{name}, {way}", p, "MW", "load flow")
        s.given(f"Q{n}", f"{name}, {way}", q, "Mvar", "load flow")
        come.append((str(n), "+" if sign > 0 else "-"))
    if not come:
        return
    for part, unit in (("P", "MW"), ("Q", "Mvar")):
        total = "0" + "".join(f" {sign} {part}{n}" for n, sign in come)
        s.line(f"d{part}", f"Left over, {'active' if part == 'P' else 'reactive'}", total, unit)
    s.line("m", "Mismatch", "sqrt(dP**2 + dQ**2)", "MVA", solver=row["mismatch_mva"])
    s.given("U", "Voltage", row["voltage_kv"], "kV", "load flow")
    s.given("Un", "Nominal voltage", row["nominal_kv"], "kV", "data")
    s.line("u", "Voltage", "U / Un", "p.u.", solver=row["voltage_pu"])
    yield s.working()


def _at_bus(solved: Solved, bus: str) -> Iterator[tuple[str, float, float, int]]:
    """Name, P and Q, and +1 in or -1 out, of everything at a bus that carries something."""
    for e in solved.network.connected(bus):
        if (inj := solved.injections.get(e.id)) and inj["active_power_mw"] is not None:
            delivers = role_of(e.kind) is Role.GENERATION
            q = inj["reactive_power_mvar"] * (-1 if role_of(e.kind) is Role.SHUNT else 1)
            yield e.name, inj["active_power_mw"], q, 1 if delivers else -1
        elif (branch := solved.branches.get(e.id)) and branch["from_active_power_mw"] is not None:
            end = "from" if e.buses()[0] == bus else "to"
            yield e.name, branch[f"{end}_active_power_mw"], branch[f"{end}_reactive_power_mvar"], -1
        elif winding := solved.windings.get(e.id):
            for side in ("hv", "mv", "lv"):
                if getattr(e, f"{side}_bus") == bus and winding[f"{side}_active_power_mw"] is not None:
                    yield e.name, winding[f"{side}_active_power_mw"], winding[f"{side}_reactive_power_mvar"], -1


@flow_of(Load)
def load(solved: Solved, e: Load) -> Iterator[Working]:
    row = solved.injections.get(e.id)
    if row is None or row["active_power_mw"] is None:
        return
    c, power = solved.condition, e.power_mva()
    at = solved.network[e.bus]
    s = Ledger(
        "Demand at the voltage found", "Entered demand, times the factors of the condition, by the mix of the load."
    )
    s.given("P0", "Active power entered", power.real, "MW", "data")
    s.given("Q0", "Reactive power entered", power.imag, "Mvar", "data")
    s.given("f", "Factor of all demand", c.demand_factor, "", c.name)
    s.given("fc", "Factor of its class", c.class_factors.get(e.demand_class, 1.0), "", c.name)
    s.given("fa", "Factor of its area", c.area_factors.get(getattr(at, "area", None) or "", 1.0), "", c.name)
    for mark, word, share in (("kp", "power", e.constant_power_pct), ("ki", "current", e.constant_current_pct),
                              ("kz", "impedance", e.constant_impedance_pct)):  # fmt: skip
        s.given(mark, f"Share of constant {word}", share, "%", "data")
    low = solved.network.settings.low_voltage_pu
    drawn_at = [b for b in e.drawn_at(solved.network.items.get) if solved.live(b)]
    volts = [solved.buses[b]["voltage_pu"] for b in drawn_at]
    if low and min(volts) < low:
        s.given("ul", "Voltage below which constant power gives way", low, "p.u.", "settings")
    mixes = []
    for k, (b, u) in enumerate(zip(drawn_at, volts, strict=True)):
        mark = "u" if k == 0 else "w"
        s.given(mark, "Voltage" if k == 0 else "Voltage at the other end", u, "p.u.",
                f"load flow, {solved.network[b].name}")  # fmt: skip
        constant = f"kp * ({mark} / ul)**2" if low and u < low else "kp"
        mixes.append(f"({constant} + ki * {mark} + kz * {mark}**2)")
    s.line("m", "Mix at this voltage" if len(mixes) == 1 else "Mean mix, half of it drawn at each end",
           f"{mixes[0]} / 100" if len(mixes) == 1 else f"({' + '.join(mixes)}) / 200")  # fmt: skip
    s.line("P", "Active power", "P0 * f * fc * fa * m", "MW", solver=row["active_power_mw"])
    s.line("Q", "Reactive power", "Q0 * f * fc * fa * m", "Mvar", solver=row["reactive_power_mvar"])
    yield s.working()


@flow_of(Source)
def source(solved: Solved, e: Source) -> Iterator[Working]:
    kv = e.impedance_kv or solved.buses.get(e.bus, {}).get("nominal_kv")
    if not kv:
        return
    s = Ledger("Equivalent of the source", "The strong network behind the boundary as a voltage behind an impedance.")
    s.given("U", "Nominal voltage", kv, "kV", "data")
    s.given("Sk", "Fault level, highest", e.fault_max_mva, "MVA", "data")
    s.given("Sm", "Fault level, lowest", e.fault_min_mva, "MVA", "data")
    s.given("m", "X / R", e.x_over_r, "", "data")
    for mark, level, word in (("", "Sk", "highest"), ("m", "Sm", "lowest")):
        s.line(f"Z{mark}", f"Impedance at the {word} fault level", f"U**2 / {level}", "Ω", "IEC 60909-0, 6.2")
        s.line(f"R{mark}", f"Resistance, {word}", f"Z{mark} / sqrt(1 + m**2)", "Ω")
        s.line(f"X{mark}", f"Reactance, {word}", f"R{mark} * m", "Ω")
        s.line(f"I{mark}", f"Fault current, {word}", f"{level} / (sqrt(3) * U)", "kA")
    row = solved.injections.get(e.id)
    if row and row["active_power_mw"] is not None:
        s.given("P", "Active power delivered", row["active_power_mw"], "MW", "load flow")
        s.given("Q", "Reactive power delivered", row["reactive_power_mvar"], "Mvar", "load flow")
        s.given("Ub", "Voltage at the bus", solved.buses[e.bus]["voltage_kv"], "kV", "load flow")
        s.line("Ib", "Current", "sqrt(P**2 + Q**2) / (sqrt(3) * Ub) * 1000", "A", solver=row["current_a"])
    yield s.working()
