"""The rules of the model check, one function each; a new one is added to ``RULES``."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from itertools import pairwise
from typing import Any

from ..catalogue import find_type, typical_line_type, typical_transformer, typical_x_over_r
from ..electrical.conductor import find_gaps
from ..errors import InvalidFields
from ..network import (
    Bus,
    CommonFailure,
    Condition,
    CurrentTransformer,
    Demand,
    Element,
    Filter,
    Interface,
    Item,
    Line,
    LineGeometry,
    Origin,
    Outage,
    OwnType,
    Plan,
    Regulator,
    Scheme,
    Shunt,
    Source,
    Switch,
    ThreeWinding,
    Transformer,
    Update,
    capability_of,
    cost_blocks_of,
    dump_item,
    make_item,
    removal,
    specs,
)
from ..severity import Severity
from ._subject import Check, Repair, Rule, Subject

_FAR_KM = ((1.0, 2.0), (15.0, 60.0), (40.0, 120.0), (160.0, 300.0), (1500.0, 1000.0))  # up to kV, plausible km


def _set(item: Item, label: str, values: dict[str, Any], *, typical: bool = True) -> Repair:
    origins = dict.fromkeys(values, Origin.TYPICAL) if typical else {}
    return Repair(label, [Update(id=item.id, values=values, origins=origins)])


def missing(s: Subject) -> Iterator[Check]:
    """Required data that is blank: the element is left out of calculations meanwhile."""
    for item in s.network.items.values():
        if blank := item.missing():
            known = specs(type(item))
            words = ", ".join(known[f].label.lower() for f in blank)
            text = f"{words} missing; it is left out of calculations meanwhile"
            yield Check("missing", item.id, Severity.BREACH, text, blank[0], _typical_for(s, item))


def _typical_for(s: Subject, item: Item) -> Repair | None:
    blank = item.missing()
    if isinstance(item, Line):
        kind = typical_line_type(s.kv(item.from_bus) or 11.0, item.construction)
        values: dict[str, Any] = {"length_km": 1.0} if item.length_km is None else {}
        if kind and item.r_ohm_per_km is None:
            values["type"] = kind
        return _set(item, "take typical data", values)
    if isinstance(item, Transformer):
        hv, lv = s.kv(item.hv_bus), s.kv(item.lv_bus)
        if hv and lv:
            rated = item.rated_mva or (0.4 if lv < 1 else 10.0)
            full = {"rated_mva": rated, **typical_transformer(rated, hv, lv)}
            return _set(item, "take typical data", {f: v for f, v in full.items() if f in blank})
    if isinstance(item, Bus):
        near = next((kv for e in s.at_bus[item.id] if isinstance(e, Line | Switch)
                     for b in e.buses() if (kv := s.kv(b))), None)  # fmt: skip
        return _set(item, f"take {near:g} kV from its neighbour", {"nominal_kv": near}) if near else None
    if "power_factor" in blank or blank == ("active_power_mw", "reactive_power_mvar"):
        values = {"power_factor": 0.95} if "power_factor" in blank else {"active_power_mw": 0.1, "power_factor": 0.95}
        return _set(item, "take typical data", values)
    if "reactive_power_mvar" in blank:
        return _set(item, "take a power factor of 0.95", {"power_factor": 0.95})
    return None


def names(s: Subject) -> Iterator[Check]:
    """Two elements that cannot be told apart by their names."""
    count = Counter(e.name for e in s.network.elements())
    seen: Counter[str] = Counter()
    for e in s.network.elements():
        if count[e.name] > 1:
            seen[e.name] += 1
            if seen[e.name] > 1:
                new = f"{e.name} ({seen[e.name]})"
                text = f"{count[e.name]} elements are called {e.name}"
                yield Check(
                    "names", e.id, Severity.WATCH, text, "name", _set(e, f"call it {new}", {"name": new}, typical=False)
                )


def ends(s: Subject) -> Iterator[Check]:
    """Buses at which nothing, or nothing but one branch, is connected."""
    several = len(s.at_bus) > 1
    for bus in s.network.of(Bus):
        here = s.at_bus[bus.id]
        if not here:
            repair = Repair("remove it", removal(s.network, [bus.id])) if several else None
            yield Check("ends", bus.id, Severity.WATCH, "nothing is connected to this bus", None, repair)
        elif len(here) == 1 and len(here[0].buses()) > 1 and not (isinstance(here[0], Switch) and not here[0].closed):
            yield Check(
                "ends", bus.id, Severity.WATCH, f"an open end: only {here[0].name} leads here, and nothing uses it"
            )


def supply(s: Subject) -> Iterator[Check]:
    """Networks without a source, and parts without a supply."""
    if s.network.of(Bus) and not any(x.in_service for x in s.network.of(Source)):
        yield Check("supply", s.network.of(Bus)[0].id, Severity.BREACH, "no source is in service: nothing is live")
        return
    dead = s.trace.dead()
    if dead:
        few = ", ".join(s.network[b].name for b in dead[:3]) + (" ..." if len(dead) > 3 else "")
        yield Check("supply", dead[0], Severity.WATCH, f"{len(dead)} buses have no supply: {few}" if len(dead) > 1
                    else "this bus has no supply", None, _closing(s, dead))  # fmt: skip


def _closing(s: Subject, dead: list[str]) -> Repair | None:
    lost = set(dead)
    for e in s.network.of(Switch):
        if not e.closed and e.in_service and sum(b in lost for b in e.buses()) == 1:
            return _set(e, f"close {e.name}", {"closed": True}, typical=False)
    return None


def transformers(s: Subject) -> Iterator[Check]:
    """Rated voltages against their buses, impedance and X/R against the rating class."""
    for t in s.network.of(Transformer):
        hv, lv = s.kv(t.hv_bus), s.kv(t.lv_bus)
        if hv and lv and hv < lv:
            swap = {"hv_bus": t.lv_bus, "lv_bus": t.hv_bus}
            yield Check("voltage", t.id, Severity.BREACH, f"its HV side is at {hv:g} kV, its LV side at {lv:g} kV: turned round?",
                        "hv_bus", _set(t, "turn it round", swap, typical=False))  # fmt: skip
            continue
        for side, rated, nominal in (("hv", t.hv_kv, hv), ("lv", t.lv_kv, lv)):
            if rated and nominal and not 0.85 <= rated / nominal <= 1.2:
                repair = _set(t, f"set it to {nominal:g} kV", {f"{side}_kv": nominal})
                yield Check("voltage", t.id, Severity.BREACH,
                            f"rated {rated:g} kV on a bus of {nominal:g} kV", f"{side}_kv", repair)  # fmt: skip
        if not t.rated_mva or not t.impedance_pct:
            continue
        usual = typical_transformer(t.rated_mva, t.hv_kv or 33.0, t.lv_kv or 11.0)["impedance_pct"]
        if not 0.5 <= t.impedance_pct / usual <= 2.0:
            text = f"{t.impedance_pct:g} % is unusual for {t.rated_mva:g} MVA, where {usual:g} % is ordinary"
            yield Check("impedance", t.id, Severity.WATCH, text, "impedance_pct")
        z = t.impedance_pu()
        ratio, ordinary = (z.imag / z.real if z.real else float("inf")), typical_x_over_r(t.rated_mva)
        if not 0.25 <= ratio / ordinary <= 4.0:
            text = f"X/R of {ratio:.3g} is unusual for {t.rated_mva:g} MVA, where {ordinary:g} is ordinary"
            yield Check(
                "x_over_r", t.id, Severity.WATCH, text, "x_over_r" if t.load_loss_kw is None else "load_loss_kw"
            )
        if t.emergency_mva is not None and t.emergency_mva < t.rated_mva:
            text = f"{t.emergency_mva:g} MVA with forced cooling is less than the {t.rated_mva:g} MVA without"
            yield Check("cooling", t.id, Severity.WATCH, text, "emergency_mva")
        if t.short_time_mva is not None and t.short_time_mva < (most := t.overload_mva() or t.rated_mva):
            text = f"{t.short_time_mva:g} MVA for minutes is less than the {most:g} MVA for hours"
            yield Check("cooling", t.id, Severity.WATCH, text, "short_time_mva")


def parallels(s: Subject) -> Iterator[Check]:
    """Transformers side by side whose ratios, vector groups or impedances make them fight."""
    near: dict[tuple[str, str], list[Transformer]] = {}
    node = _nodes(s)
    for t in s.network.of(Transformer):
        if t.in_service and not t.missing():
            near.setdefault((node.get(t.hv_bus, t.hv_bus), node.get(t.lv_bus, t.lv_bus)), []).append(t)
    for group in near.values():
        first = group[0]
        for other in group[1:]:
            if abs(first.clock_shift_rad() - other.clock_shift_rad()) > 1e-3:
                text = f"in parallel with {first.name}, but {other.vector_group} against {first.vector_group}: a short circuit"
                yield Check("parallel", other.id, Severity.BREACH, text, "vector_group")
                continue
            gap = _no_load_ratio(first) / _no_load_ratio(other) - 1
            base = first.rated_mva or 1.0
            z = first.impedance_pu() + other.impedance_pu() * base / (other.rated_mva or 1.0)
            share = 100 * abs(gap) / abs(z)
            if share > 5:
                text = f"in parallel with {first.name} at another ratio: {share:.0f} % of rated current circulates"
                repair = _set(other, f"set its tap to {first.tap_position}", {"tap_position": first.tap_position},
                              typical=False) if _same_taps(first, other) else None  # fmt: skip
                yield Check(
                    "parallel",
                    other.id,
                    Severity.WATCH if share < 20 else Severity.BREACH,
                    text,
                    "tap_position",
                    repair,
                )
            a, b = first.impedance_pct or 1.0, other.impedance_pct or 1.0
            if abs(a - b) > 0.1 * max(a, b):
                text = f"{b:g} % beside {a:g} % of {first.name}: they share load unequally"
                yield Check("parallel", other.id, Severity.WATCH, text, "impedance_pct")


def _same_taps(a: Transformer, b: Transformer) -> bool:
    fits = b.tap_min <= a.tap_position <= b.tap_max and a.tap_position != b.tap_position
    return fits and (a.tap_step_pct, a.tap_side, a.tap_neutral) == (b.tap_step_pct, b.tap_side, b.tap_neutral)


def _no_load_ratio(t: Transformer) -> float:
    turns = t.tapped_turns()
    return (t.hv_kv or 1.0) / (t.lv_kv or 1.0) * (turns if t.tap_side == "hv" else 1 / turns)


def _nodes(s: Subject) -> dict[str, str]:
    """One bus for all buses joined by closed switches."""
    parent: dict[str, str] = {}

    def find(b: str) -> str:
        while parent.get(b, b) != b:
            b = parent[b]
        return b

    for e in s.network.of(Switch):
        if e.closed and e.in_service:
            a, b = find(e.from_bus), find(e.to_bus)
            if a != b:
                parent[max(a, b)] = min(a, b)
    return {b.id: find(b.id) for b in s.network.of(Bus)}


def lines(s: Subject) -> Iterator[Check]:
    """Voltages at both ends, length, X/R, and types below the voltage they are used at."""
    for e in s.network.of(Line):
        a, b = s.kv(e.from_bus), s.kv(e.to_bus)
        if a and b and abs(a - b) > 0.01 * max(a, b):
            yield Check("voltage", e.id, Severity.BREACH, f"joins buses of {a:g} and {b:g} kV", "to_bus")
        if a and e.length_km is not None:
            most = next(km for kv, km in _FAR_KM if a <= kv)
            if e.length_km > most:
                yield Check("length", e.id, Severity.WATCH, f"{e.length_km:g} km is long for {a:g} kV: metres typed as km?",
                            "length_km", _set(e, f"take {e.length_km / 1000:g} km", {"length_km": e.length_km / 1000},
                                              typical=False))  # fmt: skip
        if e.r_ohm_per_km and e.x_ohm_per_km is not None and not e.geometry:
            if not 0.05 <= e.x_ohm_per_km <= 0.8:
                text = f"{e.x_ohm_per_km:g} Ω/km is an unusual reactance; lines have 0.25 to 0.45, cables 0.07 to 0.15"
                yield Check("reactance", e.id, Severity.WATCH, text, "x_ohm_per_km")
            if not 0.01 <= e.r_ohm_per_km <= 4:
                text = f"{e.r_ohm_per_km:g} Ω/km is an unusual resistance for a power line"
                yield Check("resistance", e.id, Severity.WATCH, text, "r_ohm_per_km")
        meant = _type_kv(e.type)
        if a and meant and a > meant * 1.15:
            text = f"a type for {meant:g} kV on a bus of {a:g} kV"
            better = typical_line_type(a, e.construction)
            repair = _set(e, f"take {better}", {"type": better}) if better else None
            yield Check("voltage", e.id, Severity.BREACH, text, "type", repair)


def _type_kv(name: str | None) -> float | None:
    found = find_type("line", name) if name else None
    return next((n for unit, n in found.numbers if unit == "kv"), None) if found else None


def ratings(s: Subject) -> Iterator[Check]:
    """Ratings against what feeds them: a thin section that feeds a thick one, a cable behind too large a fuse."""
    up: dict[str, Element] = {}
    for e in s.network.elements():
        if isinstance(e, Line | Switch) and e.in_service:
            path = s.trace.path(e.id)
            before = next(
                (s.network[i] for i in path[2:] if isinstance(s.network[i], Line | Switch | Transformer)), None
            )
            if isinstance(before, Element):
                up[e.id] = before
    for e in s.network.of(Line):
        before, mine = up.get(e.id), e.rating_a
        if mine is None or before is None:
            continue
        mine *= e.parallel
        if isinstance(before, Line) and before.rating_a and before.rating_a * before.parallel < 0.4 * mine:
            text = f"{mine:g} A behind {before.name} of {before.rating_a * before.parallel:g} A, which feeds it"
            yield Check("rating", e.id, Severity.WATCH, text, "rating_a")
        if isinstance(before, Switch) and before.device != "disconnector":
            trips = before.carries_a() if before.plug_a is not None or before.fuse_a is not None else None
            if trips and trips > mine * 1.01:
                text = (
                    f"{mine:g} A behind {before.name}, which lets {trips:g} A through: not protected against overload"
                )
                yield Check("protection", e.id, Severity.WATCH, text, "rating_a")


def switchgear(s: Subject) -> Iterator[Check]:
    """Voltage and breaking capacity of switchgear, and current transformers, against where they stand."""
    for e in s.network.of(Switch):
        kv = s.kv(e.from_bus)
        if kv and e.rated_kv and e.rated_kv < kv * 0.999:
            text = f"for {e.rated_kv:g} kV, on a bus of {kv:g} kV"
            yield Check("switchgear", e.id, Severity.BREACH, text, "rated_kv")
        level = max((s.fault_ka.get(b, 0.0) for b in e.buses()), default=0.0)
        if e.breaking_ka and level > e.breaking_ka and e.device != "disconnector":
            text = f"breaks {e.breaking_ka:g} kA; a three-phase fault here draws {level:.3g} kA (IEC 60909)"
            yield Check("breaking", e.id, Severity.BREACH, text, "breaking_ka")
        elif e.breaking_ka and level > 0.9 * e.breaking_ka and e.device != "disconnector":
            text = f"breaks {e.breaking_ka:g} kA; a three-phase fault here draws {level:.3g} kA, near it"
            yield Check("breaking", e.id, Severity.WATCH, text, "breaking_ka")
    for t in s.network.of(CurrentTransformer):
        bay = s.network[t.at]
        if isinstance(bay, Switch) and t.primary_a and bay.rating_a and t.primary_a * t.continuous_x < bay.rating_a:
            text = f"{t.primary_a * t.continuous_x:g} A limit the bay {bay.name} of {bay.rating_a:g} A"
            yield Check("switchgear", t.id, Severity.WATCH, text, "primary_a")


def loops(s: Subject) -> Iterator[Check]:
    """Closed loops at voltages that are meant to be run radially."""
    most = s.network.settings.radial_up_to_kv
    for ident in s.trace.loops():
        e = s.network[ident]
        assert isinstance(e, Element)
        kvs = [s.kv(b) or 0.0 for b in e.buses()]
        twins = [x for x in s.at_bus[e.buses()[0]] if x is not e and set(x.buses()) == set(e.buses())]
        if max(kvs) > most or twins or isinstance(e, Transformer):
            continue
        way = _loop(s, e)
        switch = next((x for i in way if isinstance(x := s.network[i], Switch)), None)
        repair = _set(switch, f"open {switch.name}", {"closed": False}, typical=False) if switch else None
        text = f"closes a loop of {len(way)} branches at {max(kvs):g} kV, which is meant to be radial"
        yield Check("loop", ident, Severity.WATCH, text, None, repair)


def _loop(s: Subject, e: Element) -> list[str]:
    a, b = (s.trace.path(x) for x in e.buses()[:2])
    shared = set(a) & set(b)
    return [e.id, *(i for i in a + b if i not in shared and not isinstance(s.network[i], Bus))]


def own_types(s: Subject) -> Iterator[Check]:
    """Types of the network's own that nothing uses, or that name fields nothing has."""
    for t in s.network.of(OwnType):
        users = [s.network[r] for r in s.network.referrers(t.id)]
        unknown = [f for f in t.values if users and f not in type(users[0]).model_fields]
        if unknown:
            yield Check(
                "types", t.id, Severity.WATCH, f"gives {', '.join(unknown)}, which no {users[0].label.lower()} has"
            )


def conditions(s: Subject) -> Iterator[Check]:
    """What a condition sets of elements that are not there, or to values they can't have: it counts for nothing."""
    for c in s.network.of(Condition):
        for ident in {**c.states, **c.values}:
            item = s.network.items.get(ident)
            fit = {f: v for f, v in c.values.get(ident, {}).items() if isinstance(item, Element) and _fits(item, f, v)}
            bad = [f for f in c.values.get(ident, {}) if f not in fit]
            if isinstance(item, Element) and not bad:
                continue
            what = f"{', '.join(bad)} of {item.name}" if isinstance(item, Element) else f"{ident}, which is not there"
            kept = {k: v for k, v in c.values.items() if k != ident} | ({ident: fit} if fit else {})
            states = {k: v for k, v in c.states.items() if isinstance(s.network.items.get(k), Element)}
            repair = _set(c, "forget it", {"values": kept, "states": states}, typical=False)
            yield Check(
                "conditions", c.id, Severity.WATCH, f"sets {what} in a way that counts for nothing", "values", repair
            )


def _fits(item: Element, field: str, value: Any) -> bool:
    known = specs(type(item)).get(field)
    if known is None or known.terminal or known.group in ("identity", "place"):
        return False
    try:
        make_item({**dump_item(item), field: value})
    except InvalidFields:
        return False
    return True


def phases(s: Subject) -> Iterator[Check]:
    """Elements that ask for a phase or neutral that is not there, and neutrals that are broken on their way."""
    for gap in find_gaps(s.network):
        yield Check("phases", gap.element, Severity.BREACH if gap.breach else Severity.WATCH, gap.text, gap.field)


def star_points(s: Subject) -> Iterator[Check]:
    """Units of three windings that feed a neutral from a star point that is not brought out: nothing comes back by it."""
    for e in s.network.of(ThreeWinding):
        for side, clock in (("hv", 0), ("mv", e.mv_clock), ("lv", e.lv_clock)):
            bus = s.network.items.get(getattr(e, f"{side}_bus"))
            if not isinstance(bus, Bus) or "N" not in bus.conductors or bus.neutral == "earthed" or clock % 2:
                continue
            here = s.network.connected(bus.id)
            tied = any(
                x.kind == "electrode" or ("N" in x.conductors and len(x.buses()) > 1) for x in here if x.id != e.id
            )
            served = [x for x in here if isinstance(x, Demand) and "N" in x.conductors]
            if "N" in e.conductors or tied or not served or not e.in_service:
                continue
            text = (f"its star point at {bus.name} is not brought out, and nothing else holds the neutral there: what hangs between a "
                    f"phase and it ({served[0].name}) has no way back")  # fmt: skip
            change = {"conductors": "ABCN", f"{side}_neutral": "solid"}
            yield Check("star_point", e.id, Severity.BREACH, text, "conductors",
                        _set(e, "bring the neutral out, solidly earthed", change, typical=False))  # fmt: skip


def ignored(s: Subject) -> Iterator[Check]:
    """What is entered but counts for nothing beside something else that is entered."""
    for e in s.network.elements():
        if isinstance(e, Transformer | Regulator) and e.taps == "ganged":
            for phase in "abc":
                if getattr(e, f"tap_{phase}") is not None:
                    text = f"a tap of phase {phase.upper()} counts only when taps are set per phase; all are at {e.tap_position}"
                    yield Check("ignored", e.id, Severity.WATCH, text, f"tap_{phase}",
                                _set(e, "set taps per phase", {"taps": "per_phase"}, typical=False))  # fmt: skip
                    break
        elif isinstance(e, Line):
            yield from _ignored_of_line(s, e)
        elif isinstance(e, Demand) and e.along and e.bus not in s.network[e.along].buses():  # type: ignore[attr-defined]
            text = f"{s.network[e.along].name}, along which it is to be spread, does not touch its bus: all is drawn at the bus"
            yield Check("ignored", e.id, Severity.WATCH, text, "along", _set(e, "draw it at the bus", {"along": None},
                                                                             typical=False))  # fmt: skip


def _ignored_of_line(s: Subject, e: Line) -> Iterator[Check]:
    geometry = s.network.items.get(e.geometry or "")
    if e.matrix and (e.r_ohm_per_km is not None or e.x_ohm_per_km is not None):
        name = s.network[e.matrix].name
        text = f"resistance and reactance entered on it count for nothing: {name} takes their place"
        yield Check("ignored", e.id, Severity.WATCH, text, "r_ohm_per_km", _set(e, "blank them", {
            "r_ohm_per_km": None, "x_ohm_per_km": None, "b_us_per_km": None}, typical=False))  # fmt: skip
    if e.neutral == "reduced" and e.construction == "cable" and "N" in e.conductors:
        text = "its neutral is reduced, as if earthed all along the route, which a cable's core is not: its voltage counts as zero"
        yield Check("ignored", e.id, Severity.WATCH, text, "neutral", _set(e, "keep the neutral", {"neutral": "kept"},
                                                                           typical=False))  # fmt: skip
    if isinstance(geometry, LineGeometry) and e.r_ohm_per_km is not None and e.x_ohm_per_km is not None:
        text = f"resistance and reactance are entered, so that {geometry.name} counts for little: per phase for nothing"
        yield Check("ignored", e.id, Severity.WATCH, text, "geometry")


def rated_voltages(s: Subject) -> Iterator[Check]:
    """Capacitors and reactors on a bus of another voltage: their power goes with its square."""
    banks: list[Shunt | Filter] = [*s.network.of(Shunt), *s.network.of(Filter)]
    for e in banks:
        nominal = s.kv(e.bus)
        if nominal and e.rated_kv and not 0.8 <= e.rated_kv / nominal <= 1.25:
            share = 100 * (nominal / e.rated_kv) ** 2
            yield Check("voltage", e.id, Severity.BREACH,
                        f"rated {e.rated_kv:g} kV on a bus of {nominal:g} kV: it would give {share:.4g} % of its power",
                        "rated_kv", _set(e, f"set it to {nominal:g} kV", {"rated_kv": nominal}))  # fmt: skip


def dispatch(s: Subject) -> Iterator[Check]:
    """What an optimal flow could not take as it is meant: costs that fall, and interfaces that name what is not there."""
    for e in s.network.elements():
        text = getattr(e, "cost_blocks", None)
        costs = [cost for _, cost in cost_blocks_of(text)] if text else []
        if any(b < a for a, b in pairwise(costs)):
            told = "costs in steps fall from one to the next; an optimal flow takes rising ones only"
            yield Check("cost_blocks", e.id, Severity.WATCH, told, "cost_blocks")
        curve = getattr(e, "capability", None)
        points = capability_of(curve) if curve else []
        least, most = getattr(e, "least_mw", None), getattr(e, "most_mw", None)
        if points and ((most is not None and most < points[0][0]) or (least is not None and least > points[-1][0])):
            told = (f"its capability goes from {points[0][0]:g} to {points[-1][0]:g} MW, outside the powers it can be set to: an "
                    "optimal flow refuses it; add rows for these powers")  # fmt: skip
            yield Check("capability", e.id, Severity.BREACH, told, "capability")
    for i in s.network.of(Interface):
        gone = [ident for ident, _ in i.signed(s.network.items) if not isinstance(s.network.items.get(ident), Element)]
        if gone:
            yield Check(
                "interface", i.id, Severity.WATCH, f"names {', '.join(gone[:5])}, which is not there", "members"
            )
        elif not i.members:
            yield Check("interface", i.id, Severity.WATCH, "names no branches, so that it holds nothing", "members")
        elif i.most_mw is None and i.least_mw is None:
            yield Check("interface", i.id, Severity.WATCH, "has no bound, so that it holds nothing", "most_mw")


def outages(s: Subject) -> Iterator[Check]:
    """Outages that name what is not there, or nothing."""
    for o in s.network.of(Outage):
        gone = [m for m in o.members or () if not isinstance(s.network.items.get(m), Element)]
        if gone:
            yield Check("outage", o.id, Severity.WATCH, f"names {', '.join(gone[:5])}, which is not there", "members")
        elif not o.members:
            yield Check("outage", o.id, Severity.WATCH, "names nothing that is lost", "members")


def futures(s: Subject) -> Iterator[Check]:
    """Common failures and plans that name what is not there, plans out of order, loads nobody is counted at."""
    items = s.network.items
    for c in s.network.of(CommonFailure):
        gone = [m for m in c.members or () if not isinstance(items.get(m), Element)]
        if gone:
            yield Check(
                "common_failure", c.id, Severity.WATCH, f"names {', '.join(gone[:5])}, which is not there", "members"
            )
    for p in s.network.of(Plan):
        year = {step.scheme: step.year for step in p.steps}
        for step in p.steps:
            scheme = items.get(step.scheme)
            if not isinstance(scheme, Scheme):
                yield Check("plan", p.id, Severity.WATCH, f"names {step.scheme}, which is not there", "steps")
            elif scheme.needs and year.get(scheme.needs, 9999) > step.year:
                text = f"has {scheme.name} before {scheme.needs}, which that needs"
                yield Check("plan", p.id, Severity.WATCH, text, "steps")


RULES: tuple[Rule, ...] = (
    phases, star_points, conditions, missing, supply, transformers, lines, parallels, switchgear, ratings, loops, ends, names, own_types,
    ignored, rated_voltages, dispatch, outages, futures,
)  # fmt: skip
