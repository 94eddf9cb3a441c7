"""What helps after an outage: switching, taps, redispatch, and shedding as the last; each tried by the AC load flow, and one on
top of the other where none is enough."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import islice
from typing import Any

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.linalg import splu

from ...electrical import trace
from ...electrical.admittance import linear_reactance
from ...electrical.arrays import Floats
from ...errors import SingularMatrix
from ...network import Condition, Line, Network, Role, Transformer, Update
from ..base import Progress
from ..losses import Loss
from ..variants import Measured, Variants
from ._ready import Ready

_SAME = 1e-6
_JOINT_X = 1e-6  # p.u., of a closed switch where linear factors ask what it carries
_KEPT = 3  # of each kind
_ROUNDS = 10  # in which an amount is found
_HARDLY = 0.02  # of a MW, by which demand has to relieve what is loaded most to be shed


@dataclass(frozen=True)
class Way:
    """Something that can be done: ``kind`` in order of preference, in words, and as changes of the network."""

    kind: str
    text: str
    element: str
    changes: tuple[Update, ...]
    mw: float = 0.0


@dataclass(frozen=True)
class Helped:
    """A way that helps after an outage, and how things stood before and stand then: worst loading, %; sum by which limits are
    exceeded; buses without a supply."""

    number: int
    way: Way
    worst_before: float
    worst: float
    excess_before: float
    excess: float
    dead_before: int
    dead: int

    @property
    def cures(self) -> bool:
        return (
            self.excess < _SAME
            and self.dead <= self.dead_before
            and (self.dead < self.dead_before or self.excess_before > _SAME)
        )

    def plain(self, number: int) -> dict[str, Any]:
        w = self.way
        figures = (self.worst_before, self.worst, self.excess_before, self.excess, self.dead_before, self.dead)
        return {
            "number": number,
            "kind": w.kind,
            "text": w.text,
            "element": w.element,
            "mw": float(w.mw),
            "changes": [c.model_dump(mode="json") for c in w.changes],
            # What is no number, or beyond all, does not travel as one.
            "figures": [float(f) if np.isfinite(f) else None for f in figures],
        }

    @classmethod
    def of(cls, found: dict[str, Any]) -> Helped:
        changes = tuple(Update.model_validate(c) for c in found["changes"])
        way = Way(found["kind"], found["text"], found["element"], changes, found["mw"])
        f = [np.inf if x is None else float(x) for x in found["figures"]]
        return cls(found["number"], way, f[0], f[1], f[2], f[3], int(f[4]), int(f[5]))


KINDS = ("switching", "tap", "redispatch", "together", "shedding")
_TOGETHER = 4  # steps that are done one on top of the other, shedding not counted


def lost(condition: Condition, loss: Loss) -> Condition:
    """A condition under which something is lost, judged by the limits that hold after it."""
    states = {**condition.states, **dict.fromkeys(loss.members, "out")}
    return condition.model_copy(update={"states": states, "limit_set": loss.limit_set})


def help_after(ready: Ready, loss: Loss, progress: Progress) -> list[Helped]:
    """The best ways of each kind, those first that cure; and several together, where no single one cures without shedding."""
    condition = lost(ready.inputs.under, loss)
    # Buses that had a supply and are not lost themselves; star points inside elements included.
    gone = {k for k, ident in enumerate(ready.arrays.bus_id) if ident in loss.members}
    most = int(ready.live.sum()) - sum(bool(ready.live[k]) for k in gone)
    present = ready.inputs.network.under(condition)
    variants = Variants(present, condition)
    now = variants.measure()
    before = (now.worst_pct, now.excess, most - now.fed) if now else (np.nan, np.inf, most)

    def helped(way: Way, m: Measured) -> Helped:
        return Helped(0, way, before[0], m.worst_pct, before[1], m.excess, before[2], most - m.fed)

    tried = _tried(ready, present, variants, now, loss, progress)
    found = [helped(*t) for t in tried]
    if now is not None and found and not any(h.cures and h.way.kind != "shedding" for h in found):
        found += [helped(*t) for t in _together(ready, present, condition, now, loss, tried, progress)]
    found.sort(key=lambda h: (h.dead, not h.cures, KINDS.index(h.way.kind), round(h.excess, 9), h.way.mw, h.worst))
    kept: list[Helped] = []
    for h in found:
        if sum(k.way.kind == h.way.kind for k in kept) < _KEPT:
            kept.append(h)
    return kept


def _tried(
    ready: Ready, network: Network, variants: Variants, now: Measured | None, loss: Loss, progress: Progress
) -> list[tuple[Way, Measured]]:
    """Ways that leave less broken than it is on a network as it stands."""
    found = []
    for ways in _kinds(variants, network, now, loss):
        for way, measured in islice(ways, ready.options.tried):
            progress(0.5, f"loss of {loss.name}: {way.text}")
            if measured is not None and _better(measured, now):
                found.append((way, measured))
    return found


def _together(
    ready: Ready, network: Network, condition: Condition, now: Measured, loss: Loss, tried: list[tuple[Way, Measured]],
    progress: Progress,
) -> list[tuple[Way, Measured]]:  # fmt: skip
    """The best that sheds nothing, then the best on top of it and so on; at last what has to be shed even then."""
    done: list[Way] = []
    state, found = network, now
    for _ in range(_TOGETHER):
        ways = [t for t in tried if t[0].kind != "shedding"]
        if not ways:
            break
        way, found = min(ways, key=lambda t: (-t[1].fed, t[1].excess, KINDS.index(t[0].kind), t[0].mw))
        done.append(way)
        state = state.copy()
        state.apply(list(way.changes))
        if found.excess < _SAME:
            break
        tried = _tried(ready, state, Variants(state, condition), found, loss, progress)
    if len(done) > 1 and found.excess < _SAME:
        return [(_joined("together", done), found)]
    shed = [t for t in tried if t[0].kind == "shedding" and t[1].excess < _SAME] if done else []
    together = [(_joined("together", done), found)] if len(done) > 1 else []
    return together + [(_joined("shedding", [*done, way]), m) for way, m in shed[:1]]


def _joined(kind: str, ways: list[Way]) -> Way:
    """Several as one; power counts where it is shed, else where it is moved."""
    mw = sum(w.mw for w in ways if kind != "shedding" or w.kind == "shedding")
    return Way(kind, "; ".join(w.text for w in ways), ways[-1].element, tuple(c for w in ways for c in w.changes), mw)


def _better(m: Measured, now: Measured | None) -> bool:
    if now is None:
        return True
    if m.fed != now.fed:
        return m.fed > now.fed and m.excess <= now.excess + _SAME
    return m.excess < 0.95 * now.excess - _SAME


Ways = Iterator[tuple[Way, Measured | None]]


def _kinds(v: Variants, network: Network, now: Measured | None, loss: Loss) -> list[Ways]:
    kept = now is not None and now.excess < _SAME
    effect = np.zeros(v.arrays.n_bus) if now is None or kept else _effect(v, now.worst_at)
    found = [_closed(v, network, loss, ties_alone=kept)]
    if now is not None and not kept:
        found += [_split(v, network, loss), _opened(v, network, loss, effect), _tapped(v, network, loss)]
        found.append(_moved(v, network, now, loss, effect))
        found.append(_shed(v, network, now, effect))
    return found


def _closed(v: Variants, network: Network, loss: Loss, *, ties_alone: bool) -> Ways:
    """Open switches closed, those first that bring supply back."""
    switch = v.arrays.tables["switch"]
    closed, live = switch["closed"], v.live
    ids = [v.arrays.element_id[e] for e in switch["element"].tolist()]
    kv = v.arrays.bus_kv
    ties = [
        k
        for k in np.flatnonzero(~closed).tolist()
        if ids[k] not in loss.members and np.isclose(kv[switch["from"][k]], kv[switch["to"][k]], rtol=1e-3)
    ]
    ties.sort(key=lambda k: live[switch["from"][k]] == live[switch["to"][k]])
    for k in ties:
        both = bool(live[switch["from"][k]]) + bool(live[switch["to"][k]])
        if both == 0 or (ties_alone and both == 2):
            continue
        state = closed.copy()
        state[k] = True
        name = network[ids[k]].name
        yield (
            Way("switching", f"close {name}", ids[k], (Update(id=ids[k], values={"closed": True}),)),
            _safe(v, closed=state),
        )


def _split(v: Variants, network: Network, loss: Loss) -> Ways:
    """Closed couplers and ties opened, where nothing loses its supply by it: they no longer share what they shared."""
    switch = v.arrays.tables["switch"]
    closed, live = switch["closed"], v.live
    for k in np.flatnonzero(closed & live[switch["from"]] & live[switch["to"]]).tolist():
        ident = v.arrays.element_id[int(switch["element"][k])]
        if ident in loss.members:
            continue
        state = closed.copy()
        state[k] = False
        tables = {**v.arrays.tables, "switch": {**switch, "closed": state}}
        if int(trace(replace(v.arrays, tables=tables)).live.sum()) < int(live.sum()):
            continue
        change = Update(id=ident, values={"closed": False})
        yield Way("switching", f"open {network[ident].name}", ident, (change,)), _safe(v, closed=state)


def _opened(v: Variants, network: Network, loss: Loss, effect: Floats) -> Ways:
    """Lines opened, those first that by linear factors relieve most what is loaded most, as far as nothing is cut off."""
    branch = v.arrays.tables["branch"]
    f, t = branch["from"], branch["to"]
    turned = v.phasors[f] * np.exp(-1j * branch["shift"]) / branch["ratio_from"]
    flow = (turned * np.conj((turned - v.phasors[t] / branch["ratio_to"]) / (branch["r"] + 1j * branch["x"]))).real
    gain = (effect[f] - effect[t]) * flow
    rows = [
        r
        for r, e in enumerate(branch["element"].tolist())
        if isinstance(network.items.get(v.arrays.element_id[e]), Line) and v.live[f[r]]
    ]
    live = int(v.live.sum())
    for r in sorted(rows, key=lambda r: (round(float(gain[r]), 9), r)):
        ident = v.arrays.element_id[int(branch["element"][r])]
        if ident in loss.members or not _leaves_supply(v, r, live):
            continue
        name = network[ident].name
        change = Update(id=ident, values={"in_service": False})
        yield Way("switching", f"open {name}", ident, (change,)), _safe(v, out=np.array([r]))


def _leaves_supply(v: Variants, row: int, live: int) -> bool:
    branch = v.arrays.tables["branch"]
    tables = {**v.arrays.tables, "branch": {c: np.delete(x, row) for c, x in branch.items()}}
    return int(trace(replace(v.arrays, tables=tables)).live.sum()) == live


def _tapped(v: Variants, network: Network, loss: Loss) -> Ways:
    """Taps that nothing moves by itself, by a step and by as many as are left."""
    branch = v.arrays.tables["branch"]
    for r, e in enumerate(branch["element"].tolist()):
        item = network.items.get(v.arrays.element_id[e])
        if not isinstance(item, Transformer) or item.id in loss.members or not v.live[branch["from"][r]]:
            continue
        if item.tap_min == item.tap_max or item.regulates or item.holds_flow:
            continue
        for position in sorted(
            {item.tap_position - 1, item.tap_position + 1, item.tap_min, item.tap_max} - {item.tap_position}
        ):
            if not item.tap_min <= position <= item.tap_max:
                continue
            factor = item.tapped_turns(item.tap_position) / item.tapped_turns(position)
            change = Update(id=item.id, values={"tap_position": position})
            text = f"tap of {item.name} from {item.tap_position} to {position}"
            yield (
                Way("tap", text, item.id, (change,)),
                _safe(v, boosts=[(r, 0 if item.tap_side == "hv" else 1, factor)]),
            )


def _moved(v: Variants, network: Network, now: Measured, loss: Loss, effect: Floats) -> Ways:
    """Power moved between two plants, by the effect on what is loaded most."""
    base = v.arrays.base_mva
    machine = v.arrays.tables["injection"]
    plants = []
    for k, e in enumerate(machine["element"].tolist()):
        item = network.items.get(v.arrays.element_id[e])
        if (
            item is None
            or item.id in loss.members
            or not v.live[machine["bus"][k]]
            or not getattr(item, "dispatched", True)
        ):
            continue
        is_source = int(machine["control"][k]) == 2
        p = float(machine["p"][k])
        most = getattr(item, "most_mw", None)
        rated = getattr(item, "rated_mva", None)
        top = most / base if most is not None else (rated / base if rated else p)
        least = getattr(item, "least_mw", None)
        low = (least or 0.0) / base
        if getattr(item, "energy", "") in ("wind", "solar"):
            top = p if most is None else min(top, p)
        room = (np.inf, np.inf) if is_source else (max(top - p, 0.0), max(p - low, 0.0))
        plants.append((item, int(machine["bus"][k]), p, room, is_source))
    pairs = []
    for up in plants:
        for down in plants:
            gain = effect[down[1]] - effect[up[1]]
            if up[0].id != down[0].id and gain > 0.02 and min(up[3][0], down[3][1]) > 1e-6:
                pairs.append((-gain, up[0].id, down[0].id, up, down))
    pairs.sort(key=lambda x: x[:3])
    for _, _, _, up, down in pairs[:6]:
        most = min(up[3][0], down[3][1], 20.0)

        def shift(amount: float, up: Any = up, down: Any = down) -> list[tuple[int, complex]]:
            return [(p[1], complex(sign * amount)) for p, sign in ((up, 1.0), (down, -1.0)) if not p[4]]

        amount, m = _amount(v, now, shift, most)
        if m is None:
            continue
        changes = tuple(
            Update(
                id=p[0].id, values={"active_power_mw": round(float(_entered(v, p[0], p[2] + sign * amount) * base), 3)}
            )
            for p, sign in ((up, 1.0), (down, -1.0))
            if not p[4] and hasattr(p[0], "active_power_mw")
        )
        text = f"{amount * base:.3g} MW more from {up[0].name}, less from {down[0].name}"
        yield Way("redispatch", text, down[0].id, changes, amount * base), m


def _shed(v: Variants, network: Network, now: Measured, effect: Floats) -> Ways:
    """Demand of a bus shed, as much as it takes."""
    base, load = v.arrays.base_mva, v.arrays.tables["load"]
    buses: dict[int, list[tuple[str, complex]]] = {}
    for k, e in enumerate(load["element"].tolist()):
        if e >= 0 and v.live[load["bus"][k]] and load["p"][k] > 1e-9:
            buses.setdefault(int(load["bus"][k]), []).append(
                (v.arrays.element_id[e], complex(load["p"][k], load["q"][k]))
            )
    # Of what is loaded too much the demand that relieves it most, else that where the voltage is lowest.
    order = sorted(
        buses, key=(lambda b: (float(effect[b]), b)) if now.worst_pct > 100 else (lambda b: (float(v.volts[b]), b))
    )
    if now.worst_pct > 100:
        order = [b for b in order if effect[b] < -_HARDLY]
    wholes = [sum((s for _, s in buses[b]), 0j) for b in order]

    def shares(amount: float) -> Iterator[tuple[int, complex, float]]:
        for bus, whole in zip(order, wholes, strict=True):
            if amount <= 0:
                return
            share = min(amount / whole.real, 1.0)
            yield bus, whole, share
            amount -= share * whole.real

    total = float(sum(w.real for w in wholes))
    if not total > 0:
        return
    amount, m = _amount(v, now, lambda a: [(bus, share * whole) for bus, whole, share in shares(a)], total)
    if m is None:
        return
    cut = list(shares(amount))
    ids = [(i, 1 - share) for bus, _, share in cut for i, _ in buses[bus]]
    names = ", ".join(network[i].name for i, _ in ids[:2]) + (f" and {len(ids) - 2} more" if len(ids) > 2 else "")
    changes = tuple(c for i, left in ids for c in _less(network, i, left))
    yield Way("shedding", f"shed {amount * base:.3g} MW of {names}", ids[0][0], changes, amount * base), m


def _entered(v: Variants, item: Any, power: float) -> float:
    """Active power to be entered for what is to be given, the factor of the condition taken out."""
    c = v.condition
    factor = c.generation_factor * c.energy_factors.get(getattr(item, "energy", ""), 1.0)
    return power / factor if factor > 1e-9 else power


def _less(network: Network, ident: str, left: float) -> Iterator[Update]:
    item = network.items.get(ident)
    p = getattr(item, "active_power_mw", None)
    if item is None or getattr(item, "role", None) is not Role.DEMAND or p is None:
        return
    values: dict[str, Any] = {"active_power_mw": round(float(p * left), 6)}
    if (q := getattr(item, "reactive_power_mvar", None)) is not None:
        values["reactive_power_mvar"] = round(float(q * left), 6)
    yield Update(id=ident, values=values)


def _amount(
    v: Variants, now: Measured, powers: Callable[[float], Sequence[tuple[int, complex]]], most: float
) -> tuple[float, Measured | None]:
    """The least amount that keeps all limits, else what is best of some up to the most."""
    tried = [
        (a, m)
        for a in (most * np.array([1.0, 0.5, 0.25, 0.1])).tolist()
        if (m := _safe(v, powers=powers(a))) is not None
    ]
    if not tried:
        return 0.0, None
    curing = [(a, m) for a, m in tried if m.excess < _SAME and m.fed >= now.fed]
    if not curing:
        return min(tried, key=lambda x: (x[1].excess, x[0]))
    high, found = min(curing, key=lambda x: x[0])
    low = max((a for a, _ in tried if a < high), default=0.0)
    for _ in range(_ROUNDS):
        middle = (low + high) / 2
        m = _safe(v, powers=powers(middle))
        if m is not None and m.excess < _SAME and m.fed >= now.fed:
            high, found = middle, m
        else:
            low = middle
    return high, found


def _safe(v: Variants, **how: Any) -> Measured | None:
    try:
        return v.measure(**how)
    except SingularMatrix:
        return None


def _effect(v: Variants, ident: str) -> Floats:
    """By how much the current of a branch or closed switch rises with active power at each bus, as a share of it, linear,
    (n_bus,); negative where power at the bus relieves it."""
    arrays, whole = v.arrays, trace(v.arrays)
    branch, switch = arrays.tables["branch"], arrays.tables["switch"]
    joint = [
        k for k, e in enumerate(switch["element"].tolist()) if arrays.element_id[e] == ident and switch["closed"][k]
    ]
    ends, topology, x = [branch["from"], branch["to"]], whole, linear_reactance(branch)
    if joint:  # a branch of hardly any reactance in its place
        closed = switch["closed"].copy()
        closed[joint] = False
        topology = trace(replace(arrays, tables={**arrays.tables, "switch": {**switch, "closed": closed}}))
        ends = [np.r_[e, switch[c][joint]] for e, c in zip(ends, ("from", "to"), strict=True)]
        x = np.r_[x, np.full(len(joint), _JOINT_X)]
    node = topology.node
    f, t, b = node[ends[0]], node[ends[1]], 1 / x
    live = np.zeros(topology.n_node, np.bool_)
    live[node[whole.live]] = True
    injection = arrays.tables["injection"]
    held = np.zeros(topology.n_node, np.bool_)
    held[node[injection["bus"][injection["control"] == 2]]] = True
    held |= ~live
    on = live[f] & live[t]
    f, t, b = f[on], t[on], b[on]
    rows, cols, values = np.r_[f, t, f, t], np.r_[f, t, t, f], np.r_[b, b, -b, -b]
    keep = ~(held[rows] | held[cols])
    ref = np.flatnonzero(held)
    matrix = coo_array(
        (np.r_[values[keep], np.ones(len(ref))], (np.r_[rows[keep], ref], np.r_[cols[keep], ref])),
        shape=(topology.n_node, topology.n_node),
    ).tocsc()
    mine = [r for r, e in enumerate(branch["element"].tolist()) if arrays.element_id[e] == ident]
    mine += [len(branch["element"])] if joint else []
    found = np.zeros(topology.n_node)
    if mine:
        r = mine[0]
        rhs = np.zeros(topology.n_node)
        rhs[node[ends[0][r]]] += 1 / x[r]
        rhs[node[ends[1][r]]] -= 1 / x[r]
        rhs[held] = 0
        factors = splu(matrix)
        found = factors.solve(rhs)
        if joint:  # its ends have one voltage, which does not say which way it carries
            given = np.zeros(topology.n_node)
            for name, sign in (("load", -1.0), ("injection", 1.0)):
                np.add.at(given, node[arrays.tables[name]["bus"]], sign * arrays.tables[name]["p"])
            given[held] = 0
            theta = factors.solve(given)
            return np.asarray((found if theta[node[ends[0][r]]] >= theta[node[ends[1][r]]] else -found)[node])
        volts = v.phasors
        a = volts[branch["from"][r]]
        c = volts[branch["to"][r]]
        turn = branch["shift"][r]
        flow = (a * np.conj((a * np.exp(-1j * turn) - c) / complex(branch["r"][r], branch["x"][r]))).real
        found = found * (1.0 if flow >= 0 else -1.0)
    return np.asarray(found[node])
