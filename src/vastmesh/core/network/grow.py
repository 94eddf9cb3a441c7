"""Growing a network outwards: what can be added at a bus, in a line or between two buses, arrives connected.

Everything that was not entered is marked typical. Each shoot is declared once; the interface, the keyboard menu and
scripts read the same list.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from math import sqrt
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field

from ..catalogue import find_type, standard_rating, typical_line_type, typical_transformer
from ..errors import FieldProblem, InvalidFields, UnknownElement
from .changes import Add, Change, Remove, Update
from .elements._demand import Demand
from .elements._phases import phases_of
from .elements.bus import Bus
from .elements.line import Line
from .names import Namer
from .network import Network, dump_item

_LEVELS = [0.4, 11.0, 33.0, 132.0]


class GrowOptions(BaseModel):
    """What may be said when growing; everything has a default."""

    model_config = ConfigDict(extra="forbid")

    count: Annotated[int, Field(ge=1, le=200, description="How many, one after the other")] = 1
    spacing_km: Annotated[float, Field(gt=0, le=2000, description="Length of each line")] | None = None
    distance_km: Annotated[float, Field(gt=0, le=2000, description="Where to split a line, from its start")] | None = (
        None
    )
    kv: Annotated[float, Field(gt=0, le=1500, description="Nominal voltage of a new bus")] | None = None


@dataclass(frozen=True)
class Shoot:
    """One thing that can be grown: at a bus, in a line, or between two buses.

    ``asks``: the options worth asking for. ``strip``: it stands among the handles at the selected element.
    """

    name: str
    label: str
    meaning: str
    build: Callable[[_Grower], list[Change]]
    at: tuple[str, ...] = ("bus",)
    asks: tuple[str, ...] = ()
    strip: bool = False


@dataclass(frozen=True)
class Grown:
    """Changes that add it, what to select afterwards, and the new buses, which still need a place."""

    changes: list[Change]
    select: str
    buses: list[str]


def grow(network: Network, at: str, what: str, *, to: str | None = None, options: GrowOptions | None = None) -> Grown:
    """Plan growing something at a bus or in a line, or between two buses when ``to`` names the second one.

    Raises :class:`UnknownElement` or :class:`InvalidFields` for a place or shoot that isn't there.
    """
    place = network[at]
    if not isinstance(place, Bus | Line):
        raise UnknownElement(at, wanted_by="growing")
    shoot = SHOOTS.get(what)
    where = "pair" if to is not None else place.kind
    if shoot is None or where not in shoot.at:
        fitting = [s.name for s in SHOOTS.values() if where in s.at]
        raise InvalidFields([FieldProblem(at, "grow", what, "choose one of " + ", ".join(fitting))])
    second = network[to] if to is not None else None
    if second is not None and (not isinstance(second, Bus) or second is place):
        raise InvalidFields([FieldProblem(at, "to", to, "choose another bus")])
    grower = _Grower(network, place, second if isinstance(second, Bus) else None, options or GrowOptions())
    changes = shoot.build(grower)
    items = [c.item for c in changes if isinstance(c, Add)]
    made = [i for i in items if i["kind"] == shoot.name] or [i for i in items if i["kind"] != "bus"] or items
    return Grown(changes, made[-1]["id"], [i["id"] for i in items if i["kind"] == "bus"])


def _typical(values: dict[str, Any]) -> dict[str, Any]:
    """Values marked as typical until somebody confirms them."""
    return {**values, "origins": dict.fromkeys(values, "typical")}


@dataclass
class _Grower:
    """Where something grows, and the names that are still free there."""

    network: Network
    place: Bus | Line
    second: Bus | None
    options: GrowOptions

    def __post_init__(self) -> None:
        self.names = Namer(self.network)

    @property
    def bus(self) -> Bus:
        assert isinstance(self.place, Bus)
        return self.place

    @property
    def line(self) -> Line:
        assert isinstance(self.place, Line)
        return self.place

    def level(self) -> float:
        return min(_LEVELS, key=lambda level: abs(level - (self.bus.nominal_kv or 11.0)) / level)

    def new_bus(self, kv: float | None, stem: str, near: Bus | None = None, *, whole: bool = False) -> dict[str, Any]:
        """A new bus; ``whole``: the stem is its name, as it stands."""
        near = near or self.bus
        same = {f: v for f in ("area",) if (v := getattr(near, f))}
        if kv == near.nominal_kv:
            same |= {"conductors": near.conductors}
        elif kv is not None and kv <= 1:  # low voltage is four-wire until somebody says otherwise
            same |= {"conductors": "ABCN"}
        ident = self.names.plain(stem) if whole else self.names.next(stem)
        return {"kind": "bus", "id": ident, "nominal_kv": kv, **same}

    def along(self) -> str:
        """Stem of the names of buses further along: a bus named after its voltage is counted beside it, not from it."""
        kv = self.bus.nominal_kv
        return f"{self.bus.name}/" if kv and self.bus.name.endswith(f" {kv:g}") else self.bus.name

    def at_level(self, kv: float) -> str:
        """Name of a bus of another voltage at the same station: \"Ambry 33\" beside \"Ambry 132\"."""
        own = f" {self.bus.nominal_kv:g}" if self.bus.nominal_kv else ""
        return f"{self.bus.name.removesuffix(own)} {kv:g}"

    def far_end(self, kv: float | None, stem: str, made: list[dict[str, Any]], *, whole: bool = False) -> str:
        """The second bus, or a new one that is added to ``made``."""
        if self.second is not None:
            return self.second.id
        made.append(self.new_bus(kv, stem, whole=whole))
        return str(made[-1]["id"])

    def hang(self, kind: str, stem: str, values: dict[str, Any], **entered: Any) -> list[Change]:
        if self.bus.conductors != "ABC" and "conductors" not in entered:
            entered = {"conductors": self.bus.conductors, **entered}
        item = {"kind": kind, "id": self.names.plain(stem), "bus": self.bus.id, **entered, **_typical(values)}
        return [Add(item=item)]

    def branch(self, kind: str, stem: str, ends: tuple[str, str], frm: str, to: str, values: dict[str, Any],
               **entered: Any) -> dict[str, Any]:  # fmt: skip
        if (
            ends == _ENDS
            and isinstance(self.place, Bus)
            and self.place.conductors != "ABC"
            and "conductors" not in entered
        ):
            entered = {"conductors": self.place.conductors, **entered}
        return {"kind": kind, "id": self.names.plain(stem), ends[0]: frm, ends[1]: to, **entered, **_typical(values)}


_ENDS = ("from_bus", "to_bus")


def _adds(items: list[dict[str, Any]]) -> list[Change]:
    return [Add(item=i) for i in items]


def _load(g: _Grower) -> list[Change]:
    size = {0.4: 0.02, 11.0: 0.5, 33.0: 5.0}.get(g.level(), 20.0)
    return g.hang("load", f"Load {g.bus.name}", {"active_power_mw": size, "power_factor": 0.95})


def _lumped(g: _Grower) -> list[Change]:
    size = {0.4: 0.1, 11.0: 1.0, 33.0: 5.0}.get(g.level(), 20.0)
    values = {
        "apparent_power_mva": size,
        "power_factor": 0.9,
        "motor_pct": 60.0,
        "impedance_pct": 40.0,
        "current_pct": 0.0,
    }
    return g.hang("lumped", f"Demand {g.bus.name}", values)


def _motor_kw(g: _Grower) -> float:
    return {0.4: 90.0, 11.0: 800.0}.get(g.level(), 4000.0)


def _motor_kv(g: _Grower) -> dict[str, Any]:
    return {"rated_kv": g.bus.nominal_kv} if g.bus.nominal_kv and g.bus.nominal_kv <= 50 else {}


def _induction_motor(g: _Grower) -> list[Change]:
    values = {"rated_kw": _motor_kw(g), **_motor_kv(g), "efficiency_pct": 94.0, "power_factor": 0.87}
    return g.hang("induction_motor", f"Motor {g.bus.name}", values)


def _synchronous_motor(g: _Grower) -> list[Change]:
    values = {"rated_kw": _motor_kw(g) * 2, **_motor_kv(g), "efficiency_pct": 95.5, "power_factor": 1.0}
    return g.hang("synchronous_motor", f"Motor {g.bus.name}", values)


def _generator(g: _Grower) -> list[Change]:
    size = {0.4: 0.01, 11.0: 1.0, 33.0: 10.0}.get(g.level(), 50.0)
    values = {"active_power_mw": size, "rated_mva": round(size * 1.1, 4), "control": "power_factor",
              "power_factor": 1.0}  # fmt: skip
    return g.hang("generator", f"Gen {g.bus.name}", values)


def _inverter(g: _Grower) -> list[Change]:
    size = {0.4: 0.005, 11.0: 1.0, 33.0: 10.0}.get(g.level(), 50.0)
    values = {"active_power_mw": size, "rated_mva": round(size * 1.1, 4), "energy": "solar"}
    return g.hang("inverter", f"Solar {g.bus.name}", values)


def _source(g: _Grower) -> list[Change]:
    level = {0.4: 20.0, 11.0: 250.0, 33.0: 1000.0}.get(g.level(), 5000.0)
    values = {"voltage_pu": 1.0, "fault_max_mva": level, "fault_min_mva": 0.8 * level, "x_over_r": 10.0}
    return g.hang("source", "Grid" if g.bus.name.startswith("Supply") else f"Supply {g.bus.name}", values)


def _shunt(g: _Grower) -> list[Change]:
    size = {0.4: 0.025, 11.0: 1.2, 33.0: 6.0}.get(g.level(), 20.0)
    return g.hang("shunt", f"Capacitor {g.bus.name}", {"step_mvar": size, "steps": 1, "steps_on": 1})


def _filter(g: _Grower) -> list[Change]:
    """For the fifth, a little below it, as that is the order of most drives."""
    size = {0.4: 0.025, 11.0: 1.2, 33.0: 6.0}.get(g.level(), 20.0)
    values = {"step_mvar": size, "tuned_order": 4.7, "steps": 1, "steps_on": 1}
    return g.hang("filter", f"Filter {g.bus.name}", values, design="single")


def _detuned(g: _Grower) -> list[Change]:
    size = {0.4: 0.025, 11.0: 1.2, 33.0: 6.0}.get(g.level(), 20.0)
    values = {"step_mvar": size, "reactor_pct": 7.0, "steps": 1, "steps_on": 1}
    return g.hang("filter", f"Detuned bank {g.bus.name}", values, design="detuned")


def _line_values(g: _Grower, construction: str | None) -> dict[str, Any]:
    """As the line that feeds the bus when it is alike, else the typical one of the voltage."""
    feeding = next((e for e in g.network.connected(g.bus.id) if isinstance(e, Line)), None)
    length = g.options.spacing_km or {0.4: 0.05, 11.0: 0.8, 33.0: 6.0}.get(g.level(), 20.0)
    alike = feeding is not None and (construction is None or feeding.construction == construction)
    if feeding is not None and alike:
        if feeding.geometry:
            return {"length_km": length, "geometry": feeding.geometry, "construction": feeding.construction}
        if feeding.type:
            return {"length_km": length, "type": feeding.type}
        fields = ("r_ohm_per_km", "x_ohm_per_km", "b_us_per_km", "rating_a", "construction")
        return {"length_km": length} | {f: v for f in fields if (v := getattr(feeding, f)) is not None}
    kind = typical_line_type(g.bus.nominal_kv or 11.0, construction)
    if kind and find_type("line", kind):
        return {"length_km": length, "type": kind}
    return {"length_km": length, "r_ohm_per_km": 0.03, "x_ohm_per_km": 0.3, "b_us_per_km": 4.0, "rating_a": 1500.0}


def _run(g: _Grower, construction: str | None, *, with_load: bool = False) -> list[Change]:
    """One or several line sections in a row; the last one ends at the second bus when there is one."""
    changes: list[Change] = []
    values, at = _line_values(g, construction), g.bus.id
    stem = "Cable" if construction == "cable" else "Line"
    for n in range(g.options.count):
        made: list[dict[str, Any]] = []
        if g.second is not None and n == g.options.count - 1:
            to = g.second.id
        else:
            made.append(g.new_bus(g.bus.nominal_kv, g.along()))
            to = made[-1]["id"]
        entered = {"length_km": values["length_km"]} if g.options.spacing_km else {}
        rest = {f: v for f, v in values.items() if f not in entered}
        name = f"{stem} {g.bus.name}" if n == 0 and not with_load else f"{stem} {to}"
        made.append(g.branch("line", name, _ENDS, at, to, rest, **entered))
        changes += _adds(made)
        if with_load:
            size = {0.4: 0.005, 11.0: 0.2, 33.0: 2.0}.get(g.level(), 10.0)
            load = {"kind": "load", "id": g.names.plain(f"Load {to}"), "bus": to}
            if g.bus.conductors != "ABC":
                load["conductors"] = g.bus.conductors
            changes.append(Add(item={**load, **_typical({"active_power_mw": size, "power_factor": 0.95})}))
        at = to
    return changes


def _lower(g: _Grower) -> float:
    kv = g.bus.nominal_kv or 11.0
    if g.options.kv:
        return g.options.kv
    return max((level for level in _LEVELS if level < kv * 0.6), default=kv / 2)


def _transformer(g: _Grower) -> list[Change]:
    kv, made = g.bus.nominal_kv or 11.0, list[dict[str, Any]]()
    low = (g.second.nominal_kv or kv) if g.second else _lower(g)
    other = g.far_end(low, g.at_level(low), made, whole=True)
    # Between two buses the higher voltage is the HV side, whichever was chosen first.
    hv, lv, high, low = (g.bus.id, other, kv, low) if kv >= low else (other, g.bus.id, low, kv)
    rated = standard_rating({0.4: 0.4, 11.0: 10.0, 33.0: 40.0}.get(min(_LEVELS, key=lambda v: abs(v - low)), 100.0))
    values = {"rated_mva": rated, **typical_transformer(rated, high, low)}
    return _adds([*made, g.branch("transformer", f"T {g.bus.name}", ("hv_bus", "lv_bus"), hv, lv, values)])


def least_loaded_phase(network: Network, bus: Bus) -> str:
    """The phase of a bus that the loads near it use least: there, and at its neighbours."""
    phases = phases_of(bus.conductors) or "A"
    near = dict.fromkeys((bus.id, *(b for e in network.connected(bus.id) for b in e.buses())))
    load = dict.fromkeys(phases, 0.0)
    for place in near:
        for e in network.connected(place):
            mine = phases_of(e.conductors)
            if isinstance(e, Demand) and mine in load:
                load[mine] += e.power_mva().real
    return min(phases, key=lambda p: (load[p], p))


def _lateral(g: _Grower) -> list[Change]:
    """A two-wire line to a new bus, on the phase that is used least."""
    if len(phases_of(g.bus.conductors)) < 2:
        raise InvalidFields([FieldProblem(g.bus.id, "grow", "lateral", "choose a bus with more than one phase")])
    conductors = least_loaded_phase(g.network, g.bus) + ("N" if "N" in g.bus.conductors else "")
    new = {**g.new_bus(g.bus.nominal_kv, g.along()), "conductors": conductors}
    values = _line_values(g, None)
    line = g.branch("line", f"Lateral {g.bus.name}", _ENDS, g.bus.id, new["id"], values, conductors=conductors)
    return _adds([new, line])


def _single_transformer(g: _Grower, *, split: bool) -> list[Change]:
    """A single-phase unit to a low-voltage bus: between a phase and the neutral, else between two phases."""
    phase = least_loaded_phase(g.network, g.bus)
    others = [p for p in phases_of(g.bus.conductors) if p != phase]
    neutral = "N" in g.bus.conductors
    if not neutral and not others:
        raise InvalidFields(
            [FieldProblem(g.bus.id, "grow", "single-phase transformer", "choose a bus with a neutral or two phases")]
        )
    hv = phase + "N" if neutral else "".join(sorted(phase + others[0]))
    kv = g.bus.nominal_kv or 11.0
    hv_kv = round(kv / sqrt(3), 4) if neutral else kv
    low = "ABN" if split else "AN" if neutral is False else hv
    # The nominal voltage of a bus is from phase to phase: one phase of 0.4 kV, or both ends of a split winding.
    bus = {**g.new_bus(0.24 if split else 0.4, f"{g.bus.name} service"), "conductors": low}
    if split:
        bus["split_phase"] = True
    values = {"rated_mva": 0.025, "hv_kv": hv_kv, "lv_kv": 0.24, "impedance_pct": 2.5, "x_over_r": 1.5,
              "vector_group": "Iii0" if split else "Ii0"}  # fmt: skip
    made = g.branch("transformer", f"T {g.bus.name}", ("hv_bus", "lv_bus"), g.bus.id, str(bus["id"]), values, conductors=hv,
                    lv_conductors=low)  # fmt: skip
    return _adds([bus, made])


def _phase_capacitor(g: _Grower) -> list[Change]:
    """A capacitor in each phase of its own, so that they can differ."""
    size = {0.4: 0.008, 11.0: 0.4, 33.0: 2.0}.get(g.level(), 7.0)
    neutral = "N" if "N" in g.bus.conductors else ""
    found: list[Change] = []
    for phase in phases_of(g.bus.conductors):
        found += g.hang("shunt", f"Capacitor {g.bus.name} {phase}", {"step_mvar": size, "steps": 1, "steps_on": 1},
                        conductors=phase + neutral)  # fmt: skip
    return found


def _electrode(g: _Grower) -> list[Change]:
    """An electrode; a bus without neutral gets one, as that is what an electrode earths."""
    made = g.hang("electrode", f"Electrode {g.bus.name}", {"type": "Earth rod 3 m in loam"}, conductors="N")
    if "N" in g.bus.conductors:
        return made
    return [Update(id=g.bus.id, values={"conductors": g.bus.conductors + "N"}), *made]


def _auto(g: _Grower) -> list[Change]:
    changes = _transformer(_towards_half(g))
    item = next(c.item for c in changes if isinstance(c, Add) and c.item["kind"] == "transformer")
    item.update({"windings": "auto", "vector_group": "YNa0", "impedance_pct": 8.0})
    return changes


def _towards_half(g: _Grower) -> _Grower:
    """An auto-transformer joins voltages that are not far apart: the next level above half."""
    if g.options.kv or g.second:
        return g
    kv = g.bus.nominal_kv or 132.0
    return replace(g, options=g.options.model_copy(update={"kv": 132.0 if kv > 200 else round(kv / 2, 3)}))


def _three_winding(g: _Grower) -> list[Change]:
    kv = g.bus.nominal_kv or 132.0
    middle = _lower(g)
    low = max((level for level in _LEVELS if level < middle * 0.6), default=middle / 3)
    mv_bus, lv_bus = (g.new_bus(kv, g.at_level(kv), whole=True) for kv in (middle, low))
    rated = 60.0 if kv > 60 else 20.0
    values = {
        "hv_mva": rated, "mv_mva": rated, "lv_mva": rated / 3, "hv_kv": kv, "mv_kv": middle, "lv_kv": low,
        "z_hm_pct": 12.0, "z_ml_pct": 7.0, "z_hl_pct": 20.0, "iron_loss_kw": 0.6 * rated, "no_load_current_pct": 0.4,
        "tap_step_pct": 1.25, "tap_min": -8, "tap_max": 8,
    }  # fmt: skip
    item = {"kind": "three_winding", "id": g.names.plain(f"T {g.bus.name}"), "hv_bus": g.bus.id, "mv_bus": mv_bus["id"],
            "lv_bus": lv_bus["id"], **_typical(values)}  # fmt: skip
    return _adds([mv_bus, lv_bus, item])


def _inline(g: _Grower, kind: str, stem: str, values: dict[str, Any], **entered: Any) -> list[Change]:
    made: list[dict[str, Any]] = []
    to = g.far_end(g.bus.nominal_kv, g.along(), made)
    return _adds([*made, g.branch(kind, f"{stem} {g.bus.name}", _ENDS, g.bus.id, to, values, **entered)])


def _split(g: _Grower) -> list[Change]:
    """A bus in a line: in its middle, or at a distance from its start."""
    line, length = g.line, g.line.length_km
    at = g.options.distance_km if g.options.distance_km is not None else (length or 1.0) / 2
    if length is not None and not 0 < at < length:
        raise InvalidFields(
            [FieldProblem(line.id, "distance_km", at, f"enter a distance above 0 and below {length:g} km")]
        )
    start, end = g.network[line.from_bus], g.network[line.to_bus]
    assert isinstance(start, Bus)
    assert isinstance(end, Bus)
    bus = g.new_bus(start.nominal_kv, start.name, start)
    if None not in (start.x, start.y, end.x, end.y):
        share = at / length if length else 0.5
        bus |= {
            "x": _between(start.x, end.x, share),
            "y": _between(start.y, end.y, share),
            "bar": 36.0,
            "upright": True,
        }
    rest = dump_item(line)
    second = {**rest, "id": g.names.plain(f"{line.id} b"), "from_bus": bus["id"], "attachments": None, "label_dx": None,
              "label_dy": None}  # fmt: skip
    second["name"] = second["id"]
    lengths = (at, length - at) if length is not None else (None, None)
    if lengths[1] is not None:
        second["length_km"] = round(lengths[1], 9)
    first: dict[str, Any] = {"to_bus": bus["id"]} | ({"length_km": lengths[0]} if lengths[0] is not None else {})
    origins = {f: o for f, o in line.origins.items() if f in first}
    return [Add(item=bus), Update(id=line.id, values=first, origins=origins),
            Add(item={f: v for f, v in second.items() if v is not None})]  # fmt: skip


def _between(a: float | None, b: float | None, share: float) -> float:
    return round(((a or 0.0) + ((b or 0.0) - (a or 0.0)) * share) / 10) * 10.0


def _switch_in_line(g: _Grower, end: str) -> list[Change]:
    """A switch at one end of a line, with the bus between them."""
    line = g.line
    near, far = g.network[getattr(line, end)], g.network[line.to_bus if end == "from_bus" else line.from_bus]
    assert isinstance(near, Bus)
    assert isinstance(far, Bus)
    bus = g.new_bus(near.nominal_kv, near.name, near)
    if None not in (near.x, near.y, far.x, far.y):
        bus |= {"x": _between(near.x, far.x, 0.4), "y": _between(near.y, far.y, 0.4), "bar": 24.0, "upright": True}
    switch = {"kind": "switch", "id": g.names.plain(f"Switch {line.name}"), "from_bus": near.id, "to_bus": bus["id"],
              "device": "breaker"}  # fmt: skip
    return [Add(item=bus), Add(item=switch), Update(id=line.id, values={end: bus["id"]})]


_PAIR = ("bus", "pair")
SHOOTS = {
    s.name: s
    for s in (
        Shoot("load", "Load", "Demand at this bus", _load, strip=True),
        Shoot("line", "Line", "An overhead line, or like the line that feeds the bus, to a new bus",
              lambda g: _run(g, None), _PAIR, strip=True),
        Shoot("cable", "Cable", "A cable to a new bus", lambda g: _run(g, "cable"), _PAIR, strip=True),
        Shoot("transformer", "Transformer", "A transformer down to a new bus", _transformer, _PAIR, ("kv",), strip=True),
        Shoot("switch", "Switch", "A closed breaker to a new bus",
              lambda g: _inline(g, "switch", "Switch", {}, device="breaker"), _PAIR, strip=True),
        Shoot("induction_motor", "Induction motor", "A motor by its name plate", _induction_motor, strip=True),
        Shoot("generator", "Generator", "A generator at this bus", _generator, strip=True),
        Shoot("shunt", "Capacitor", "A capacitor bank at this bus", _shunt, strip=True),
        Shoot("filter", "Harmonic filter", "A filter tuned below the fifth order, at this bus", _filter),
        Shoot("detuned", "Detuned capacitor", "A capacitor bank with reactors that keep it from resonance", _detuned),
        Shoot("source", "Source", "A strong network that feeds this bus", _source, strip=True),
        Shoot("section", "Feeder sections", "Lines with buses and loads in a row", lambda g: _run(g, None, with_load=True),
              ("bus",), ("count", "spacing_km")),
        Shoot("inverter", "Solar, wind or storage", "A plant behind an inverter", _inverter),
        Shoot("lumped", "Lumped demand", "Demand with its mix of motors, constant impedance and current", _lumped),
        Shoot("synchronous_motor", "Synchronous motor", "A motor that can support the voltage", _synchronous_motor),
        Shoot("three_winding", "Three-winding transformer", "A transformer down to two new buses", _three_winding, ("bus",),
              ("kv",)),
        Shoot("auto", "Auto-transformer", "An auto-transformer to a new bus", _auto, _PAIR, ("kv",)),
        Shoot("regulator", "Voltage regulator", "A line voltage regulator to a new bus",
              lambda g: _inline(g, "regulator", "Regulator", {"rating_a": 300.0}), _PAIR),
        Shoot("series_reactor", "Series reactor", "A reactor that limits current, to a new bus",
              lambda g: _inline(g, "series_reactor", "Reactor", {"x_ohm": 0.5, "rating_a": 630.0}), _PAIR),
        Shoot("phase_regulator", "Regulator per phase", "A line voltage regulator with one control for each phase, to a new bus",
              lambda g: _inline(g, "regulator", "Regulator", {"rating_a": 300.0}, taps="per_phase"), _PAIR),
        Shoot("phase_capacitor", "Capacitor per phase", "One capacitor in each phase of this bus", _phase_capacitor),
        Shoot("lateral", "Single-phase lateral", "A two-wire line on the phase used least, to a new bus", _lateral),
        Shoot("single_transformer", "Single-phase transformer", "One limb, to a new low-voltage bus of one phase",
              lambda g: _single_transformer(g, split=False)),
        Shoot("service_transformer", "Centre-tapped transformer", "One limb with its middle at the neutral, to a split-phase bus",
              lambda g: _single_transformer(g, split=True)),
        Shoot("electrode", "Earthing electrode", "Joins the neutral of this bus to earth", _electrode),
        Shoot("insert_bus", "Bus in the line", "Splits the line, in its middle or at a distance", _split, ("line",),
              ("distance_km",), strip=True),
        Shoot("switch_at_start", "Switch at its start", "A breaker where the line begins",
              lambda g: _switch_in_line(g, "from_bus"), ("line",), strip=True),
        Shoot("switch_at_end", "Switch at its end", "A breaker where the line ends",
              lambda g: _switch_in_line(g, "to_bus"), ("line",), strip=True),
    )
}  # fmt: skip


def first_bus(network: Network, kv: float = 33.0) -> list[Change]:
    """What an empty network starts from: a bus with a source."""
    bus = Bus(id=Namer(network).next("Bus"), name="Supply", nominal_kv=kv)
    grower = _Grower(network, bus, None, GrowOptions())
    return [Add(item=bus.model_dump(mode="json", exclude_none=True)), *_source(grower)]


def join(network: Network, gone: str, kept: str) -> list[Change]:
    """Make two buses one: everything at the first moves to the second; what joined only the two falls away.

    Raises :class:`InvalidFields` when their nominal voltages differ.
    """
    a, b = network[gone], network[kept]
    if not isinstance(a, Bus) or not isinstance(b, Bus) or a is b:
        raise InvalidFields([FieldProblem(gone, "join", kept, "choose two different buses")])
    if a.nominal_kv and b.nominal_kv and abs(a.nominal_kv - b.nominal_kv) > 1e-3 * b.nominal_kv:
        allowed = f"only buses of one nominal voltage can be one; here {a.nominal_kv:g} and {b.nominal_kv:g} kV"
        raise InvalidFields([FieldProblem(gone, "join", kept, allowed)])

    changes: list[Change] = []
    for e in network.connected(gone):
        ends = {t: kept for t in type(e).terminals() if getattr(e, t) == gone}
        after = [kept if bus == gone else bus for bus in e.buses()]
        changes.append(Remove(id=e.id) if len(set(after)) < len(after) else Update(id=e.id, values=ends))
    return [*changes, Remove(id=gone)]


__all__ = ["SHOOTS", "GrowOptions", "Grown", "Shoot", "first_bus", "grow", "join"]
