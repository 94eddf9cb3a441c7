"""A network in which demand of some grows and plants of others give more: who takes part, and the way between both ends."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from ...electrical import NetArrays, TwoPorts
from ...electrical.arrays import SLACK, Complexes, Floats, Ints, with_rows
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...flow.balanced import LoadFlowOptions, Path, Point, Problem, Reading, Solution, SwitchFlows, Without
from ...network import Area, Bus, Network
from ..judge import Judge
from ..losses import Loss
from ._options import TransferOptions

_LONGEST = 0.08


@dataclass(frozen=True)
class Pair:
    """Who takes and who gives, by bus; ``label`` in words. ``added``: what comes to the buses that take, in equal parts, for each
    MW, beside what is there; else what is there grows."""

    label: str
    takes: frozenset[str]
    gives: frozenset[str]
    added: complex | None = None


def pairs(network: Network, options: TransferOptions) -> list[Pair]:
    """Pairs that are asked for. Raises :class:`InvalidFields` where a group is not named or holds nothing."""
    buses = network.of(Bus)
    every = frozenset(b.id for b in buses)

    def of_area(ident: str | None, field: str) -> frozenset[str]:
        if ident is None:
            raise InvalidFields([FieldProblem("options", field, None, "name an area")])
        found = frozenset(b.id for b in buses if b.area == ident)
        if not found:
            raise InvalidFields(
                [FieldProblem("options", field, ident, "no bus belongs to this area; set it at its buses")]
            )
        return found

    if options.to == "pairs":
        areas = [(a, frozenset(b.id for b in buses if b.area == a.id)) for a in network.of(Area)]
        areas = [(a, inside) for a, inside in areas if inside]
        if len(areas) < 2:
            text = "there are not two areas with buses; set areas at the buses, or choose another group"
            raise InvalidFields([FieldProblem("options", "to", "pairs", text)])
        return [Pair(f"{a.name} to {b.name}", to, frm) for a, frm in areas for b, to in areas if a is not b]
    if options.to == "area":
        takes = of_area(options.to_area, "to_area")
    elif options.to == "bus":
        if options.to_bus is None:
            raise InvalidFields([FieldProblem("options", "to_bus", None, "name a bus")])
        takes = frozenset([options.to_bus])
    else:
        takes = every
    if options.given_by == "area":
        gives = of_area(options.from_area, "from_area")
    elif options.given_by == "bus":
        if options.from_bus is None:
            raise InvalidFields([FieldProblem("options", "from_bus", None, "name a bus")])
        gives = frozenset([options.from_bus])
    else:
        gives = frozenset()
    names = {"all": "all demand", "area": _name(network, options.to_area), "bus": _name(network, options.to_bus)}
    giver = {
        "sources": "the sources",
        "area": _name(network, options.from_area),
        "bus": _name(network, options.from_bus),
    }
    return [Pair(f"{giver[options.given_by]} to {names[options.to]}", takes, gives)]


def _name(network: Network, ident: str | None) -> str:
    item = network.items.get(ident or "")
    return item.name if item is not None else ""


@dataclass
class Step:
    """A point of the way: megawatts moved, voltages of all buses of the whole network, NaN where dead."""

    mw: float
    v: Complexes


@dataclass
class Found:
    """Where it ends: megawatts, what stops it (loading, voltage, angle, step, collapse, nothing, no solution) and where, by id.

    ``steps``: the points on the way, those behind the turn included; ``v``: voltages where it ends; ``nose_mw``, ``weakest``: of
    the turn, where it was reached, and the bus whose voltage falls fastest there; ``already``: what was beyond its limits before.
    """

    mw: float
    kind: str
    where: str
    steps: list[Step]
    value: float = np.nan
    nose_mw: float = np.nan
    v: Complexes | None = None
    weakest: str = ""
    modes: tuple[list[tuple[str, float]], list[tuple[str, float]]] = field(default_factory=lambda: ([], []))
    already: list[str] = field(default_factory=list)


class Way:
    """One state of the network, ready to be loaded further. Taps, phase shifters and banks stay where the load flow before it
    leaves them; machines hold their voltages within their limits."""

    def __init__(self, without: Without, judge: Judge, loss: Loss | None, options: LoadFlowOptions) -> None:
        self.judge, self.loss, self.without = judge, loss, without
        self.limit_set = loss.limit_set if loss else "normal"
        self.arrays, self.kept = without.left(loss.members if loss else ())
        # Following a path asks for the plain equations: no easing at low voltage, and limits of machines as they are.
        self.options = options.model_copy(update={"low_voltage_pu": 0.0, "method": "automatic", "start": "last"})
        self.problem = Problem(self.arrays)
        self.solution: Solution = self.problem.solve(self.arrays, self.options, without.carried(self.problem))
        self.solved = self.solution.attempt.ending is Ending.CONVERGED
        self.y = self.problem.admittance(self.arrays)
        self._switches: SwitchFlows | None = None
        self._gone = without.rows_lost(loss.members if loss else ()).get("switch")

    def grown(self, pair: Pair, most: float, *, equal: bool) -> NetArrays | None:
        """Arrays with so much more, per unit of power, taken and given; None where nothing live takes it."""
        a, row = self.arrays, self.problem.pattern.row
        place = {b: k for k, b in enumerate(a.bus_id)}
        takes = {place[b] for b in pair.takes if b in place and row[place[b]] >= 0}
        load = dict(a.tables["load"])
        mine = np.array([int(b) in takes for b in load["bus"].tolist()], np.bool_) & (load["p"] > 0)
        if pair.added is not None and len(takes) == len(pair.takes) > 0:
            each = most * pair.added / len(takes)
            load = with_rows(load, bus=sorted(takes), p=each.real, q=each.imag)
        elif pair.added is None and mine.any():
            share = np.zeros(len(mine))
            share[mine] = most / mine.sum() if equal else most * load["p"][mine] / load["p"][mine].sum()
            factor = np.ones(len(mine))
            factor[mine] = 1 + share[mine] / load["p"][mine]
            load["p"], load["q"] = load["p"] * factor, load["q"] * factor
        elif pair.added is None and len(takes) == 1:
            load = with_rows(load, bus=[takes.pop()], p=most)
        else:
            return None
        machine = dict(a.tables["injection"])
        gives = {place[b] for b in pair.gives if b in place and row[place[b]] >= 0}
        give = np.array([int(b) in gives for b in machine["bus"].tolist()], np.bool_) & (machine["control"] != SLACK)
        if give.any():
            size = np.where(give, np.maximum(machine["weight"], 1e-9), 0.0) if not equal else give.astype(np.float64)
            machine["p"] = machine["p"] + most * size / size.sum()
        return replace(a, tables={**a.tables, "load": load, "injection": machine})

    def at(self, last: NetArrays, share: float) -> NetArrays:
        """Arrays at a share of the way to what :meth:`grown` gave."""
        tables = dict(last.tables)
        for name, fields in (("load", ("p", "q")), ("injection", ("p",))):
            own = {f: self.arrays.tables[name][f] for f in fields}
            tables[name] = {**tables[name], **{
                f: (1 - share) * np.r_[c, np.zeros(len(tables[name][f]) - len(c))] + share * tables[name][f]
                for f, c in own.items()
            }}  # fmt: skip
        return replace(last, tables=tables)

    def through_switches(self, path: Path, last: NetArrays, point: Point) -> Floats:
        """Current through the rated switches at a point of a path, p.u."""
        asked = self.judge.switches
        if not len(asked):
            return np.zeros(0)
        if self._switches is None:
            self._switches = SwitchFlows(self.arrays, self.problem)
        known = self.problem.standing(path.at(point.share), self.y, point.state, self.options)
        seen = Reading(self.at(last, point.share), self.problem, known, self._switches)
        return seen.through_switches(asked, self._gone)

    def volts(self, point: Point) -> Complexes:
        v = np.full(self.arrays.n_bus, np.nan + 0j)
        row = self.problem.pattern.row
        live = row >= 0
        v[live] = (point.state.v * np.exp(1j * point.state.theta))[row[live]]
        return v

    def ports(self) -> TwoPorts:
        """Of all branches of the whole network, zero where they are lost."""
        full = np.zeros((4, len(self.kept)), np.complex128)
        full[:, self.kept] = self.y.two_ports
        return TwoPorts(*full)

    def follow(
        self, pair: Pair, options: TransferOptions, before: Callable[[float], Complexes | None] | None = None
    ) -> Found:
        """Load further until something stops it. ``before``: voltages without the outage at so many megawatts, for steps."""
        most = options.most_mw / self.arrays.base_mva
        last = self.grown(pair, most, equal=options.shared == "equal")
        if last is None:
            return Found(np.nan, "nothing to take it", "", [])
        if not self.solved:
            return Found(0.0, "no solution", "", [])
        path = Path(self.problem, self.y, self.problem.targets(self.arrays), self.problem.targets(last), self.options)
        points: list[Point] = []
        start = self.solution.attempt.state
        limits = _Limits(self, path, last, options, before)
        stopped: list[tuple[Point, Point]] = []
        first: list[tuple[float, str, str, float]] = []
        turned = False

        def met(point: Point) -> bool:
            nonlocal turned
            if points and point.share < points[-1].share and not turned:
                turned = True
                if not options.beyond:
                    points.append(point)
                    return True
            points.append(point)
            if len(points) == 1:
                limits.begin(point)
                first.append(limits.worst(point))
                return False
            if not stopped and not turned and limits.worst(point)[0] > 0:
                stopped.append((points[-2], point))
            return False

        path.walk(start, met, back=0.6 if options.beyond else 0.98, longest=_LONGEST)
        if not points:
            return Found(0.0, "no solution", "", [])
        peak = int(np.argmax([p.share for p in points]))
        nose = points[peak]
        if turned and peak + 1 < len(points):
            low = points[peak - 1] if peak else points[peak]
            nose = max(
                (
                    path.highest(p, q)
                    for p, q in ((low, points[peak]), (points[peak], points[peak + 1]))
                    if p is not q and p.tangent is not None
                ),
                key=lambda p: p.share,
                default=nose,
            )
            if nose.share > points[peak].share:
                points.insert(peak + 1 if nose.state.v.min() < points[peak].state.v.min() else peak, nose)
        steps = [Step(p.share * options.most_mw, self.volts(p)) for p in points]
        found = Found(nose.share * options.most_mw, "collapse" if turned else "nothing", "", steps)
        if turned:
            found.nose_mw = found.mw
            row = self.problem.pattern.row
            weakest = path.weakest(nose)
            found.weakest = found.where = self.arrays.bus_id[int(np.argmax(row == weakest))]
            found.modes = _modes(self, path, nose)
        elif nose.share < 1.0:
            found.kind = "no solution further"
        found.already = limits.already
        found.v = self.volts(nose)
        if first[0][0] > 0:
            found.mw, (_, found.kind, found.where, found.value), found.v = 0.0, first[0], self.volts(points[0])
        elif stopped:
            found.mw, (_, found.kind, found.where, found.value), found.v = self._crossing(
                path, *stopped[0], limits, options
            )
        return found

    def _crossing(
        self, path: Path, low: Point, high: Point, limits: _Limits, options: TransferOptions
    ) -> tuple[float, tuple[float, str, str, float], Complexes]:
        """Megawatts at which the first limit is met, which, and voltages there."""
        told = limits.worst(high)
        begin, end, base = low.share, high.share, low
        for _ in range(40):
            if end - begin < 1e-9 + 1e-7 * end:
                break
            middle = (begin + end) / 2
            point = path.between(base, high, middle)
            if point is None:
                break
            seen = limits.worst(point)
            if seen[0] > 0:
                end, told = middle, seen
            else:
                begin, base = middle, point if point.tangent is not None else base
        return begin * options.most_mw, told, self.volts(base)


class _Limits:
    """What is held against its limit on the way; what is beyond it at the start is left out, or ends the way there."""

    def __init__(
        self, way: Way, path: Path, last: NetArrays, options: TransferOptions,
        before: Callable[[float], Complexes | None] | None,
    ) -> None:  # fmt: skip
        self.way, self.path, self.last, self.options, self.before = way, path, last, options, before
        self.ports = way.ports()
        self.limits = way.judge.limits[way.limit_set]
        b = way.judge.arrays.tables["branch"]
        self.frm, self.to = b["from"], b["to"]
        kv = way.judge.arrays.bus_kv
        self.watched = kv >= options.watched_kv
        switch = way.judge.arrays.tables["switch"]
        ends = (np.r_[b[end], switch[end][way.judge.switches]] for end in ("from", "to"))
        self.heavy = np.minimum(*(kv[e] for e in ends)) >= options.watched_kv
        kinds = way.judge.arrays.element_kind
        line = np.array([kinds[e] == "line" for e in b["element"].tolist()], np.bool_)
        self.line = line & way.kept & self.heavy[: len(line)]

    def begin(self, point: Point) -> None:
        """Take the start as it is."""
        v = self.way.volts(point)
        used, out = self._used(point, v), self._out(v)
        free = np.inf if self.options.already == "left_out" else None
        self.allowed_used = np.where(used > 1, free if free else 1.0, 1.0)
        self.allowed_out = np.where(out > 0, free if free else 0.0, 0.0)
        ids = self.way.judge.ids
        self.already = [ids[k] for k in np.flatnonzero(used > 1)] if self.options.thermal else []
        if self.options.voltage:
            self.already += [self.way.judge.arrays.bus_id[k] for k in np.flatnonzero(out > 0)]

    def _used(self, point: Point, v: Complexes) -> Floats:
        switched = self.way.through_switches(self.path, self.last, point)
        return np.where(self.heavy, self.way.judge.used(v, self.ports, switched, self.way.limit_set), 0.0)

    def _out(self, v: Complexes) -> Floats:
        size = np.abs(v)
        with np.errstate(invalid="ignore", divide="ignore"):
            out = np.fmax(self.limits.low / size - 1, size / self.limits.high - 1)
        return np.where(self.way.judge.in_view & self.watched & np.isfinite(size), np.nan_to_num(out, nan=-1.0), -1.0)

    def worst(self, point: Point) -> tuple[float, str, str, float]:
        """By how much the worst limit is passed, per unit of it (below zero: none is), which, where, and the value there."""
        o, judge = self.options, self.way.judge
        v, mw = self.way.volts(point), point.share * self.options.most_mw
        found: list[tuple[float, str, str, float]] = [(-1.0, "nothing", "", np.nan)]
        if o.thermal and len(judge.ids):
            used = self._used(point, v)
            over = used - self.allowed_used
            k = int(np.argmax(over))
            found.append((float(over[k]), "loading", judge.ids[k], 100 * float(used[k])))
        if o.voltage:
            out = self._out(v) - self.allowed_out
            k = int(np.argmax(out))
            found.append((float(out[k]), "voltage", judge.arrays.bus_id[k], float(np.abs(v[k]))))
        if o.angle_deg is not None and self.line.any():
            turn = np.abs(np.degrees(np.angle(v[self.frm] * np.conj(v[self.to]))))
            turn = np.where(self.line & np.isfinite(turn), turn, 0.0)
            k = int(np.argmax(turn))
            found.append((float(turn[k]) / o.angle_deg - 1, "angle", judge.ids[k], float(turn[k])))
        if o.step_pct is not None and self.before is not None:
            base = self.before(mw)
            if base is not None:
                with np.errstate(invalid="ignore"):
                    step = np.abs(np.abs(v) - np.abs(base)) / np.abs(base)
                step = np.where(judge.in_view & self.watched & np.isfinite(step), step, 0.0)
                k = int(np.argmax(step))
                found.append(
                    (100 * float(step[k]) / o.step_pct - 1, "step", judge.arrays.bus_id[k], 100 * float(step[k]))
                )
        return max(found, key=lambda f: f[0])


def _modes(way: Way, path: Path, nose: Point) -> tuple[list[tuple[str, float]], list[tuple[str, float]]]:
    """Which buses and branches take part in the collapse: of the Jacobian's smallest singular direction at the turn the product
    of its right and left vector at every bus's reactive row, and the change of reactive losses of every branch along it; both of
    the largest. Source: Gao, Morison, Kundur, "Voltage stability evaluation using modal analysis", IEEE Trans. PWRS-7, 1992.
    """
    from scipy.sparse import csr_array
    from scipy.sparse.linalg import splu

    run = path.run_at(nose)
    ptr, rows = way.problem.jacobian_index
    n = way.problem.n
    matrix = csr_array((run.jac.copy(), rows, ptr), shape=(2 * n, 2 * n)).tocsc()
    try:
        lu = splu(matrix)
    except RuntimeError:
        return [], []
    right, left = np.ones(2 * n), np.ones(2 * n)
    for _ in range(8):
        right, left = lu.solve(right), lu.solve(left, trans="T")
        right, left = right / np.linalg.norm(right), left / np.linalg.norm(left)
    part = np.abs(right[1::2] * left[1::2])
    row = way.problem.pattern.row
    view = np.flatnonzero(way.judge.in_view & (row >= 0))
    of_bus = np.zeros(way.arrays.n_bus)
    of_bus[view] = part[row[view]]
    buses = [
        (way.arrays.bus_id[k], float(of_bus[k] / max(of_bus.max(), 1e-30)))
        for k in np.argsort(-of_bus)[:15].tolist()
        if of_bus[k] > 1e-3 * of_bus.max()
    ]
    v = way.volts(nose)
    ports = way.ports()
    b = way.judge.arrays.tables["branch"]
    eps = 1e-5

    def losses(sign: float) -> Floats:
        moved = v.copy()
        live = row >= 0
        turn, rise = right[0::2], right[1::2]
        moved[live] = v[live] * np.exp(sign * eps * (rise[row[live]] + 1j * turn[row[live]]))
        v0 = np.where(np.isfinite(moved.real), moved, 0)
        vf, vt = v0[b["from"]], v0[b["to"]]
        s = vf * np.conj(ports.ff * vf + ports.ft * vt) + vt * np.conj(ports.tf * vf + ports.tt * vt)
        return np.asarray(s.imag)

    change = np.abs(losses(1.0) - losses(-1.0))
    order: Ints = np.argsort(-change)[:15]
    branches = [
        (way.judge.ids[k], float(change[k] / max(change.max(), 1e-30)))
        for k in order.tolist()
        if change[k] > 1e-3 * change.max()
    ]
    return buses, branches


def interpolated(steps: list[Step]) -> Callable[[float], Complexes | None]:
    """Voltages at so many megawatts, between the points of a way up to its turn."""
    mw = np.array([s.mw for s in steps])
    peak = int(np.argmax(mw)) + 1 if len(mw) else 0

    def at(wanted: float) -> Complexes | None:
        if not peak or wanted > mw[peak - 1] + 1e-9:
            return None
        k = int(np.clip(np.searchsorted(mw[:peak], wanted), 1, max(peak - 1, 1)))
        if peak == 1:
            return steps[0].v
        a, b = steps[k - 1], steps[k]
        share = (wanted - a.mw) / max(b.mw - a.mw, 1e-12)
        return np.asarray(a.v + share * (b.v - a.v))

    return at
