"""Name plates: sources, demand, motors, transformers, neutrals, switchgear."""

from __future__ import annotations

from collections.abc import Iterator
from math import degrees, sqrt

from ..catalogue import (
    COOLING,
    SQRT3,
    FilterCircuit,
    earthing_a,
    earthing_ohm,
    motor_circuit,
    source_impedance_ohm,
    zero_sequence_share,
)
from ..electrical.fault import fault_current_ka
from ..network import (
    Bus,
    Demand,
    Electrode,
    Filter,
    Generator,
    InductionMotor,
    Inverter,
    Load,
    LumpedLoad,
    Network,
    Shunt,
    Source,
    Switch,
    SynchronousMotor,
    ThreeWinding,
    Transformer,
)
from ._base import Step, Working, explains
from ._base import figures as fig
from ._ledger import Ledger


def _kv(network: Network, bus: str) -> float:
    item = network.items.get(bus)
    return item.nominal_kv or 0.0 if isinstance(item, Bus) else 0.0


@explains(Source)
def source(network: Network, e: Source) -> Iterator[Working]:
    kv = e.impedance_kv or _kv(network, e.bus)
    if not kv:
        return
    z = source_impedance_ohm(e.fault_max_mva, e.x_over_r, kv)
    low = source_impedance_ohm(e.fault_min_mva, e.x_over_r, kv)
    steps = [
        Step("Z", "Source impedance", "U² / S", f"{fig(kv)}² / {fig(e.fault_max_mva)}", abs(z), "Ω", "IEC 60909-0, 6.2"),
        Step("R", "Resistance", "Z / √(1 + (X/R)²)", f"{fig(abs(z))} / √(1 + {fig(e.x_over_r)}²)", z.real, "Ω", field="r_ohm"),
        Step("X", "Reactance", "R · X/R", f"{fig(z.real)} · {fig(e.x_over_r)}", z.imag, "Ω", field="x_ohm"),
        Step("I″", "Fault current, highest", "S / (√3 U)", f"{fig(e.fault_max_mva)} / (√3 · {fig(kv)})",
             e.fault_max_mva / SQRT3 / kv, "kA"),
        Step("Zmin", "Impedance at the lowest fault level", "U² / Smin", f"{fig(kv)}² / {fig(e.fault_min_mva)}", abs(low), "Ω"),
    ]  # fmt: skip
    yield Working("Source impedance from its fault level", steps)


@explains(Load, LumpedLoad)
def demand(network: Network, e: Demand) -> Iterator[Working]:
    if e.missing():
        return
    s, kv = e.power_mva(), e.rated_kv or _kv(network, e.bus)
    size = abs(s)
    given = {f for f in ("active_power_mw", "reactive_power_mvar", "apparent_power_mva", "current_a", "power_factor")
             if getattr(e, f) is not None}  # fmt: skip
    pf = s.real / size * (-1 if s.imag < 0 else 1) if size else 1.0
    every = {
        "apparent_power_mva": Step("S", "Apparent power", "√(P² + Q²)", f"√({fig(s.real)}² + {fig(s.imag)}²)", size, "MVA",
                                   field="apparent_power_mva"),
        "active_power_mw": Step("P", "Active power", "S · cos φ", f"{fig(size)} · {fig(abs(pf))}", s.real, "MW",
                                field="active_power_mw"),
        "reactive_power_mvar": Step("Q", "Reactive power", "P · tan φ", f"{fig(s.real)} · tan(acos {fig(abs(pf))})", s.imag,
                                    "Mvar", field="reactive_power_mvar"),
        "power_factor": Step("cos φ", "Power factor", "P / S", f"{fig(s.real)} / {fig(size)}", pf, "", field="power_factor"),
    }  # fmt: skip
    steps = [step for f, step in every.items() if f not in given]
    if "current_a" not in given and kv:
        each = e.mva_per_ampere(kv)
        ways = {1.0: "S / (U / √3)", 2.0: "S / (2 U / √3)", 3.0: "S / (√3 U)"}
        way = ways.get(round(each * 1e3 * SQRT3 / kv, 6), "S / U")  # else between two phases
        steps.append(Step("I", "Current", way, f"{fig(size)} MVA at {fig(kv)} kV, {e.conductors}", size / each, "A",
                          field="current_a"))  # fmt: skip
    yield Working("The other figures of the demand", steps, note="At nominal voltage and 100 % demand.")


@explains(InductionMotor, SynchronousMotor)
def motor(network: Network, e: InductionMotor | SynchronousMotor) -> Iterator[Working]:
    kv = e.rated_kv or _kv(network, e.bus)
    if e.missing() or not kv:
        return
    pf = e.power_factor or 1.0
    one = e.rated_input_mva(pf) / e.count
    amps = e.rated_a(pf, kv)
    s = e.power_mva()
    steps = [
        Step("S", "Rated input of one", "P / (η cos φ)", f"{fig(e.rated_kw or 0)} / ({fig(e.efficiency_pct)} % · {fig(abs(pf))})",
             one * 1e3, "kVA", "IEC 60034-1"),
        Step("I", "Rated current of one", "S / (√3 U)", f"{fig(one * 1e3)} / (√3 · {fig(kv)})", amps, "A"),
        Step("P", "Active power drawn", "n · P · load / η",
             f"{e.count} · {fig(e.rated_kw or 0)} · {fig(e.load_factor_pct)} % / {fig(e.efficiency_pct)} %", s.real, "MW"),
        Step("Q", "Reactive power drawn", "P tan φ", f"{fig(s.real)} · tan(acos {fig(abs(pf))})", s.imag, "Mvar"),
    ]  # fmt: skip
    if isinstance(e, InductionMotor):
        steps.append(Step("Ia", "Starting current of one", "k · I", f"{fig(e.starting_current_x)} · {fig(amps)}",
                          e.starting_current_x * amps, "A"))  # fmt: skip
    yield Working("From the name plate", steps)
    if isinstance(e, InductionMotor):
        yield _circuit(e, kv, one)


def _circuit(e: InductionMotor, kv: float, one_mva: float) -> Working:
    c = motor_circuit(
        e.efficiency_pct / 100, e.power_factor, e.starting_current_x, e.starting_power_factor, e.slip_pct / 100
    )
    base = kv * kv / one_mva
    s, shaft = c.plate(c.slip)
    start = c.impedance(1.0)
    steps = [
        Step("Zb", "Base impedance", "U² / S", f"{fig(kv)}² / {fig(one_mva)}", base, "Ω"),
        Step("R1", "Stator resistance", "solved", "", c.r1, "p.u."),
        Step("X1", "Stator leakage reactance", "solved, X1 = X2", "", c.x1, "p.u."),
        Step("R2", "Rotor resistance", "solved", "", c.r2, "p.u."),
        Step("X2", "Rotor leakage reactance", "solved, X1 = X2", "", c.x2, "p.u."),
        Step("Xm", "Magnetising reactance", "solved", "", c.xm, "p.u."),
        Step("P", "Checked: input at rated slip", "Re(1/Z*)", "the circuit at its slip", s.real, "p.u."),
        Step("η", "Checked: efficiency", "shaft / input", f"{fig(shaft)} / {fig(s.real)}", 100 * shaft / s.real, "%"),
        Step("Ia", "Checked: starting current", "1 / |Z(1)|", "the circuit at standstill", 1 / abs(start), "×"),
        Step("cos φa", "Starting power factor", "R / |Z(1)|", "as near as one rotor resistance allows",
             start.real / abs(start), ""),
    ]  # fmt: skip
    note = "Five unknowns fitted to power factor, efficiency and starting current by least squares; slip and starting " \
           "power factor are typical unless entered."  # fmt: skip
    return Working("Equivalent circuit per phase", steps, note=note)


@explains(Transformer)
def transformer(network: Network, e: Transformer) -> Iterator[Working]:
    if not e.rated_mva or not e.impedance_pct:
        return
    z = e.impedance_pu()
    loss = z.real * e.rated_mva * 1e3
    ratio = z.imag / z.real if z.real else 0.0
    by_loss = e.load_loss_kw is not None
    steps = [
        Step("uR", "Resistance", "Pk / S" if by_loss else "Z / √(1 + (X/R)²)",
             f"{fig(e.load_loss_kw or 0)} kW / {fig(e.rated_mva)} MVA" if by_loss
             else f"{fig(e.impedance_pct)} % / √(1 + {fig(e.ratio_x_r())}²)", z.real * 100, "%", "IEC 60076-1"),
        Step("uX", "Reactance", "√(Z² − R²)", f"√({fig(e.impedance_pct)}² − {fig(z.real * 100)}²)", z.imag * 100, "%"),
        Step("Pk", "Load loss", "uR · S", f"{fig(z.real * 100)} % · {fig(e.rated_mva)} MVA", loss, "kW", field="load_loss_kw"),
        Step("X/R", "X over R", "uX / uR" if by_loss else "entered" if e.x_over_r is not None else "typical of the rating", f"{fig(z.imag * 100)} / {fig(z.real * 100)}",
             ratio, "", field="x_over_r"),
    ]  # fmt: skip
    for side, kv in (("HV", e.hv_kv), ("LV", e.lv_kv)):
        if kv:
            ohm = kv * kv / e.rated_mva
            steps += [
                Step(f"Z{side}", f"Impedance at {side}", "Z · U² / S", f"{fig(e.impedance_pct)} % · {fig(kv)}² / {fig(e.rated_mva)}",
                     abs(z) * ohm, "Ω"),
                Step(f"I{side}", f"Rated current at {side}", "S / (√3 U)", f"{fig(e.rated_mva)} / (√3 · {fig(kv)})",
                     e.rated_mva * 1e3 / SQRT3 / kv, "A"),
            ]  # fmt: skip
    steps.append(Step("α", "LV lags HV by", "30° · clock + shift", e.vector_group, degrees(e.clock_shift_rad()), "°",
                      "IEC 60076-1, 7"))  # fmt: skip
    if e.windings == "auto" and e.hv_kv and e.lv_kv:
        own = (1 - min(e.hv_kv, e.lv_kv) / max(e.hv_kv, e.lv_kv)) * e.rated_mva
        steps.append(Step("Sw", "Power through the windings", "S (1 − U₂/U₁)",
                          f"{fig(e.rated_mva)} · (1 − {fig(e.lv_kv)}/{fig(e.hv_kv)})", own, "MVA"))  # fmt: skip
    yield Working("From the name plate", steps)
    stages = COOLING[e.cooling]
    if len(stages) > 1:
        yield Working("Ratings by cooling stage", [
            Step(f"S{n}", stage, "k · S", f"{fig(k)} · {fig(e.rated_mva)}", k * e.rated_mva, "MVA", "customary steps",
                 field="emergency_mva" if k == stages[-1] else None)
            for n, (stage, k) in enumerate(zip(e.cooling.split("/"), stages, strict=True), 1)
        ])  # fmt: skip
    zero = e.zero_sequence_pct()
    share = zero_sequence_share(e.vector_group, e.core)
    if zero is None:
        note = "No winding lets zero-sequence current flow from either side to earth."
        yield Working("Zero sequence", [Step("Z0", "Zero sequence", "none", e.vector_group, "open")], note=note)
    else:
        formula = "k · Z" if e.z0_pct is None else "entered"
        steps = [Step("Z0", "Impedance from the earthed star side", formula,
                      f"{fig(share or 0)} · {fig(e.impedance_pct)} %; {e.vector_group}, {e.core.replace('_', '-')} core", zero, "%",
                      "IEC 60909-2; IEC 60076-8", field="z0_pct"),
                 Step("X0/R0", "X0 over R0", "as X / R", "", e.x0_over_r0 or ratio, "", field="x0_over_r0")]  # fmt: skip
        yield Working("Zero sequence", steps)
    for side, mode, neutral, amps, rated in (("HV", e.hv_neutral, e.hv_neutral_ohm, e.hv_neutral_a, e.hv_kv),
                                      ("LV", e.lv_neutral, e.lv_neutral_ohm, e.lv_neutral_a, e.lv_kv)):  # fmt: skip
        if rated and mode in ("resistor", "reactor") and (neutral or amps):
            yield _neutral(side, mode, neutral, amps, rated)


def _neutral(side: str, mode: str, ohm: float | None, amps: float | None, kv: float) -> Working:
    name, field = f"{side} neutral {mode}".strip(), side.lower() + "_" if side else ""
    if ohm is not None:
        step = Step("I", "Earth-fault current", "U / (√3 Z)", f"{fig(kv)} / (√3 · {fig(ohm)})", earthing_a(ohm, kv), "A",
                    field=f"{field}neutral_a")  # fmt: skip
    else:
        step = Step("Z", "Neutral impedance", "U / (√3 I)", f"{fig(kv)} / (√3 · {fig(amps or 0)})",
                    earthing_ohm(amps or 1.0, kv), "Ω", field=f"{field}neutral_ohm")  # fmt: skip
    return Working(name, [step], note="For a fault at the terminals, the network's own impedance left out.")


@explains(ThreeWinding)
def three_winding(network: Network, e: ThreeWinding) -> Iterator[Working]:
    if e.missing():
        return
    legs = e.star_pu()
    pairs = (("HV–MV", e.z_hm_pct), ("HV–LV", e.z_hl_pct), ("MV–LV", e.z_ml_pct))
    words = ((0, 1, 2), (0, 2, 1), (1, 2, 0))
    steps = []
    for name, leg, (a, b, c) in zip(("HV", "MV", "LV"), legs, words, strict=True):
        inputs = (
            f"({fig(pairs[a][1] or 0)} + {fig(pairs[b][1] or 0)} − {fig(pairs[c][1] or 0)}) / 2 %, as complex figures"
        )
        formula = f"(Z{pairs[a][0]} + Z{pairs[b][0]} − Z{pairs[c][0]}) / 2"
        steps.append(Step(f"Z{name}", f"{name} leg", formula, inputs, f"{leg.real * 100:.4f} + j{leg.imag * 100:.4f}", "%",
                          "IEC 60909-0, 6.3.2"))  # fmt: skip
    for name, mva, kv in (("HV", e.hv_mva, e.hv_kv), ("MV", e.mv_mva, e.mv_kv), ("LV", e.lv_mva, e.lv_kv)):
        steps.append(Step(f"I{name}", f"Rated current, {name}", "S / (√3 U)", f"{fig(mva or 0)} / (√3 · {fig(kv or 1)})",
                          (mva or 0) * 1e3 / SQRT3 / (kv or 1), "A"))  # fmt: skip
    yield Working("Equivalent star", steps, note=f"Per cent of {fig(e.hv_mva or 0)} MVA.")


@explains(Generator)
def generator(network: Network, e: Generator) -> Iterator[Working]:
    kv = _kv(network, e.bus)
    if e.rated_mva and kv:
        x = e.xd_pct / 100 * kv * kv / e.rated_mva
        yield Working("Ratings", [
            Step("I", "Rated current", "S / (√3 U)", f"{fig(e.rated_mva)} / (√3 · {fig(kv)})", e.rated_mva * 1e3 / SQRT3 / kv, "A"),
            Step("X″d", "Sub-transient reactance", "x″d · U² / S", f"{fig(e.xd_pct)} % · {fig(kv)}² / {fig(e.rated_mva)}", x, "Ω",
                 "IEC 60909-0, 6.6"),
        ])  # fmt: skip
    if e.neutral in ("resistor", "reactor") and kv and (e.neutral_ohm or e.neutral_a):
        yield _neutral("", e.neutral, e.neutral_ohm, e.neutral_a, kv)


@explains(Inverter)
def inverter(network: Network, e: Inverter) -> Iterator[Working]:
    kv = _kv(network, e.bus)
    if not e.rated_mva or not kv:
        return
    steps = [
        Step(
            "I",
            "Rated current",
            "S / (√3 U)",
            f"{fig(e.rated_mva)} / (√3 · {fig(kv)})",
            e.rated_mva * 1e3 / SQRT3 / kv,
            "A",
        )
    ]
    if e.control == "voltage_curve":
        most = e.curve_q_pct / 100 * e.rated_mva
        steps.append(Step("Qmax", "Reactive power at the ends of the curve", "k · S", f"{fig(e.curve_q_pct)} % · {fig(e.rated_mva)}",
                          most, "Mvar"))  # fmt: skip
        note = f"+{fig(most)} Mvar up to {e.v1_pu:g} p.u., 0 from {e.v2_pu:g} to {e.v3_pu:g}, −{fig(most)} from {e.v4_pu:g}; " \
               "straight between."  # fmt: skip
        yield Working("Reactive power by voltage", steps, note=note)
    else:
        steps.append(Step("Q", "Reactive power", "P tan φ", "", e.set_reactive_mvar(), "Mvar"))
        yield Working("Reactive power", steps)


@explains(Shunt)
def shunt(network: Network, e: Shunt) -> Iterator[Working]:
    kv = _kv(network, e.bus)
    if not e.step_mvar or not kv:
        return
    rated = e.rated_kv or kv
    q = e.step_mvar * e.steps_on * (kv / rated) ** 2
    omega = 2 * 3.141592653589793 * network.settings.frequency_hz
    b = e.step_mvar / rated**2
    yield Working("At nominal voltage", [
        Step("Q", "Reactive power", "n · Q₁ · (U/Ur)²", f"{e.steps_on} · {fig(e.step_mvar)} · ({fig(kv)}/{fig(rated)})²", q, "Mvar"),
        Step("I", "Current", "Q / (√3 U)", f"{fig(q)} / (√3 · {fig(kv)})", q * 1e3 / SQRT3 / kv, "A"),
        Step("C", "Capacitance of one step", "Q₁ / (ω Ur²)", f"{fig(e.step_mvar)} / (2π {fig(network.settings.frequency_hz)} · {fig(rated)}²)",
             b / omega * 1e6, "µF") if e.device == "capacitor" else
        Step("X", "Reactance of one step", "Ur² / Q₁", f"{fig(rated)}² / {fig(e.step_mvar)}", 1 / b, "Ω"),
    ])  # fmt: skip


@explains(Filter)
def harmonic_filter(network: Network, e: Filter) -> Iterator[Working]:
    kv = _kv(network, e.bus)
    if e.missing() or not kv:
        return
    f = network.settings.frequency_hz
    c = e.circuit(kv, f)
    rated, p = e.rated_kv or kv, c.parts(f)
    y = 1 / complex(c.impedance(1.0))
    q = rated**2 * y.imag
    reactor = c.xl or c.xb
    tuned = sqrt((c.xc / reactor) + 1) if e.design == "c_type" else sqrt(c.xc / reactor)
    quality = 1 / (c.g * reactor * tuned) if c.g else tuned * reactor / c.r if c.r else float("inf")
    plate = [
        Step("Q", "Power of one step", "Ur² · Im(1/Z)", f"{fig(rated)}² · {fig(y.imag)} S", q, "Mvar",
             "Z of its circuit at the network's frequency", field="step_mvar"),
        Step("n", "Tuned order", "√(Xc/Xl + 1)" if e.design == "c_type" else "√(Xc/Xl)",
             f"√({fig(c.xc)} / {fig(reactor)}{' + 1' if e.design == 'c_type' else ''})", tuned, "", field="tuned_order"),
    ] if e.design != "double" else [
        Step("Q", "Power of one step", "Ur² · Im(1/Z)", f"{fig(rated)}² · {fig(y.imag)} S", q, "Mvar", field="step_mvar"),
    ]  # fmt: skip
    if e.design in ("single", "detuned"):
        plate.append(Step("p", "Reactor share", "100 Xl / Xc", f"100 · {fig(reactor)} / {fig(c.xc)}", 100 * reactor / c.xc, "%",
                          field="reactor_pct"))  # fmt: skip
    if e.design != "double" and quality < float("inf"):
        words = "n Xl / R" if not c.g else "R / (n Xl)"
        plate.append(Step("q", "Quality", words, f"n {fig(tuned)}, Xl {fig(reactor)} Ω", quality, "", field="quality"))
    yield Working("Name plate", plate, note="Of one step.")
    names = {"c_uf": ("C", "Capacitance", "µF"), "l_mh": ("L", "Inductance", "mH"), "r_ohm": ("R", "Resistance", "Ω"),
             "c2_uf": ("C₂", "Second capacitance", "µF"), "l2_mh": ("L₂", "Second inductance", "mH")}  # fmt: skip
    r_words = {"single": ("n Xl / q", f"{fig(tuned)} · {fig(reactor)} / {fig(quality)}"), "detuned": ("n Xl / q", f"{fig(tuned)} · "
               f"{fig(reactor)} / {fig(quality)}"), "double": ("n₁ Xl / q", f"of both reactors alike, q {fig(e.quality_factor())}"),
               "high_pass": ("q n Xl", f"{fig(quality)} · {fig(tuned)} · {fig(reactor)}"),
               "c_type": ("q n Xl", f"{fig(quality)} · {fig(tuned)} · {fig(reactor)}")}[e.design]  # fmt: skip
    reach = {
        "c_uf": ("1 / (2π f Xc)", f"1 / (2π {fig(f)} · {fig(c.xc)})"), "l_mh": ("Xl / (2π f)", f"{fig(reactor)} / (2π {fig(f)})"),
        "r_ohm": r_words, "l2_mh": ("Xl₂ / (2π f)", f"{fig(c.xb)} / (2π {fig(f)})"),
        "c2_uf": ("1 / (2π f Xl)", f"1 / (2π {fig(f)} · {fig(reactor)})") if e.design == "c_type" else
        ("B₂ / (2π f)", f"{fig(c.b)} / (2π {fig(f)})"),
    }  # fmt: skip
    parts = [Step(names[k][0], names[k][1], *reach[k], v, names[k][2], field=k) for k, v in p.items()]
    first = rated * c.xc * abs(y)
    parts.append(Step("Uc", "Voltage of the capacitors", "Ur · Xc / |Z|", f"{fig(rated)} · {fig(c.xc)} / {fig(1 / abs(y))}", first,
                      "kV", "at the network's frequency, between phases", field="capacitor_kv"))  # fmt: skip
    parts.append(
        Step("P", "Losses", "Ur² · Re(1/Z)", f"{fig(rated)}² · {fig(y.real)} S", 1e3 * rated**2 * y.real, "kW")
    )
    yield Working("Its parts", parts, note="Of one step, each phase of the star.")
    if not e.by_parts():
        yield _sizing(e, c, rated, f)


def _sizing(e: Filter, c: FilterCircuit, kv: float, f: float) -> Working:
    """The sizing of a filter as live formulas: from its name plate to the parts to order."""
    told = Ledger("Its sizing", "From the name plate: a step delivers exactly its power at the network's frequency.")
    told.given("Q", "power of one step", e.step_mvar or 0.0, "Mvar", "entered")
    told.given("U", "rated voltage", kv, "kV")
    told.given("f", "frequency", f, "Hz")
    told.given("n", "tuned order", e.order(), "1")
    told.given("q", "quality", e.quality_factor(), "1")
    told.line("w", "angular frequency", "2 * 3.141592653589793 * f", "1/s")
    if e.design == "c_type":
        told.line("Xc", "reactance of the capacitor", "U ** 2 / Q", "Ω", solver=c.xc)
        told.line("X", "reactance of the reactor", "Xc / (n ** 2 - 1)", "Ω", solver=c.xb)
        told.line("C2", "second capacitance, which cancels the reactor", "1000000 / (w * X)", "µF")
        told.line("R", "resistance beside them", "q * n * X", "Ω", solver=1 / c.g)
    elif e.design == "high_pass":
        told.line("x", "reactor over the capacitor's reactance", "1 / n ** 2", "1")
        told.line("r", "resistance over the capacitor's reactance", "q / n", "1")
        told.line("a", "of the capacitor left by both beside each other", "1 - r ** 2 * x / (r ** 2 + x ** 2)", "1")
        told.line("b", "their resistance over the capacitor's reactance", "r * x ** 2 / (r ** 2 + x ** 2)", "1")
        told.line("Xc", "reactance of the capacitor", "U ** 2 / Q * a / (a ** 2 + b ** 2)", "Ω", solver=c.xc)
        told.line("X", "reactance of the reactor", "Xc * x", "Ω", solver=c.xb)
        told.line("R", "resistance beside it", "Xc * r", "Ω", solver=1 / c.g)
    elif e.design == "double":
        _sizing_of_two(told, e, c)
    else:
        told.line("a", "of the capacitor left by the reactor", "1 - 1 / n ** 2", "1")
        told.line("b", "resistance over the capacitor's reactance", "1 / (n * q)", "1")
        told.line("Xc", "reactance of the capacitor", "U ** 2 / Q * a / (a ** 2 + b ** 2)", "Ω", solver=c.xc)
        told.line("X", "reactance of the reactor", "Xc / n ** 2", "Ω", solver=c.xl)
        told.line("R", "resistance of the reactor", "n * X / q", "Ω", solver=c.r)
    told.line("C", "capacitance", "1000000 / (w * Xc)", "µF", solver=c.parts(f)["c_uf"])
    told.line("L", "inductance", "1000 * X / w", "mH", solver=c.parts(f)["l_mh"])
    return told.working()


def _sizing_of_two(told: Ledger, e: Filter, c: FilterCircuit) -> None:
    """Two single-tuned filters beside each other, as one: Arrillaga and Watson, 6.4.3."""
    told.given("m", "second order", e.second_order or 2 * e.order(), "1")
    told.line("ca", "first one: capacitance for as much power as the second", "1 - 1 / n ** 2", "1")
    told.line("cb", "second one", "1 - 1 / m ** 2", "1")
    told.line("la", "inductance that tunes the first", "1 / (ca * n ** 2)", "1")
    told.line("lb", "inductance that tunes the second", "1 / (cb * m ** 2)", "1")
    told.line("c1", "capacitance in series", "ca + cb", "1")
    told.line("l1", "inductance in series", "la * lb / (la + lb)", "1")
    told.line("d", "how far they are apart", "(la * ca - lb * cb) ** 2", "1")
    told.line("c2", "capacitance beside", "ca * cb * (ca + cb) * (la + lb) ** 2 / d", "1")
    told.line("l2", "inductance beside", "d / ((ca + cb) ** 2 * (la + lb))", "1")
    told.line("r1", "resistance in series", "n * l1 / q", "1")
    told.line("r2", "resistance beside", "n * l2 / q", "1")
    told.line("p", "of both beside each other: real part of 1 + Z·jB", "1 - c2 * l2", "1")
    told.line("s", "imaginary part", "c2 * r2", "1")
    told.line("zr", "resistance of the whole", "r1 + (r2 * p + l2 * s) / (p ** 2 + s ** 2)", "1")
    told.line("zx", "reactance of the whole, capacitive", "1 / c1 - l1 - (l2 * p - r2 * s) / (p ** 2 + s ** 2)", "1")
    told.line("k", "ohms for one", "U ** 2 / Q * zx / (zr ** 2 + zx ** 2)", "Ω")
    told.line("Xc", "reactance of the capacitor in series", "k / c1", "Ω", solver=c.xc)
    told.line("X", "reactance of the reactor in series", "k * l1", "Ω", solver=c.xl)
    told.line("R", "resistance of the reactor in series", "k * r1", "Ω", solver=c.r)
    told.line("C2", "capacitance beside", "1000000 * c2 / (w * k)", "µF", solver=1e6 * c.b / told.cells["w"].value)
    told.line("L2", "inductance beside", "1000 * k * l2 / w", "mH", solver=1e3 * c.xb / told.cells["w"].value)


@explains(Switch)
def switch(network: Network, e: Switch) -> Iterator[Working]:
    given = [("rating", e.rating_a), ("fuse", e.fuse_a)]
    if e.device == "breaker" and e.plug_a is not None:
        given.append((f"plug {fig(e.plug_a)} A × long time {fig(e.long_x or 1.0)}", e.plug_a * (e.long_x or 1.0)))
    known = [(w, v) for w, v in given if v is not None]
    steps = []
    if known:
        steps.append(Step("Iz", "May carry without end", "the least of", ", ".join(f"{w} {fig(v)} A" for w, v in known),
                          e.carries_a() or 0.0, "A"))  # fmt: skip
    level = fault_current_ka(network, e.buses())
    if level:
        kv = _kv(network, e.from_bus)
        most = max(level.values())
        steps.append(Step("I″k", "Three-phase fault here", "c Un / (√3 |Z|)", f"Un = {fig(kv)} kV, sources at their highest", most,
                          "kA", "IEC 60909-0, 7"))  # fmt: skip
        if e.breaking_ka:
            steps.append(Step("", "Used of breaking capacity", "I″k / Icn", f"{fig(most)} / {fig(e.breaking_ka)}",
                              100 * most / e.breaking_ka, "%"))  # fmt: skip
    if steps:
        yield Working("Ratings and breaking capacity", steps)


@explains(Electrode)
def electrode(network: Network, e: Electrode) -> Iterator[Working]:
    """What a neutral at some volts drives into earth."""
    if e.resistance_ohm is None:
        return
    size = abs(complex(e.resistance_ohm, e.reactance_ohm))
    yield Working("Current into earth", [
        Step("Z", "Impedance", "√(R² + X²)", f"√({fig(e.resistance_ohm)}² + {fig(e.reactance_ohm)}²)", size, "Ω"),
        Step("I10", "At 10 V between neutral and earth", "10 / Z", f"10 / {fig(size)}", 10 / size, "A"),
    ])  # fmt: skip
