"""What the control room gets: the largest value of every interface and plant, with what binds, over conditions and outages."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...electrical import compile_network
from ...electrical.arrays import SLACK, Complexes
from ...electrical.topology import components
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...flow.balanced import Without
from ...network import Interface, Network
from ...results import Account, Axis, Bound, Column, Figure, Result, Series, Table, quantity_of
from ...results.state import live_options
from ..base import Answer, Case, Inputs, Missing, Progress, Split, cases
from ..judge import Judge
from ..losses import Asked, Loss, losses
from ._grow import Pair, Way
from ._options import LimitTableOptions, TransferOptions
from ._words import WORDS, value_of, where_of


@dataclass(frozen=True)
class Subject:
    """An interface or a plant: ``now``: its power, MW; members with their signs."""

    ident: str
    kind: str
    pair: Pair | None
    now: float
    members: tuple[tuple[str, float], ...] = ()
    why: str = ""


class State:
    """One condition, solved."""

    def __init__(self, case: Case, options: LimitTableOptions) -> None:
        inputs = case.inputs
        self.network: Network = inputs.network.under(inputs.under)
        self.live = live_options(inputs.network.settings)
        self.without = Without(compile_network(self.network), inputs.under, self.live, controls=False)
        self.lost: list[Loss | None] = [None]
        if options.outages == "model":
            self.lost += losses(inputs.network, inputs.under, Asked())
        self.judge = Judge(self.network, self.without.arrays)
        self.subjects = _subjects(self.network, self.without, options) if self.without.solved else []


def _subjects(network: Network, without: Without, options: LimitTableOptions) -> list[Subject]:
    found: list[Subject] = []
    assert without.base is not None
    if options.of in ("both", "interfaces"):
        found += [_interface(network, without, i) for i in network.of(Interface)]
    if options.of in ("both", "plants"):
        arrays, power = without.arrays, without.base.machine_power
        machine = arrays.tables["injection"]
        for k, e in enumerate(machine["element"].tolist()):
            item = network.items.get(arrays.element_id[e])
            size = max(getattr(item, "rated_mva", None) or 0.0, abs(power[k].real))
            if item is None or int(machine["control"][k]) == SLACK or size < options.from_mw:
                continue
            bus = arrays.bus_id[int(machine["bus"][k])]
            found.append(
                Subject(
                    item.id,
                    "plant",
                    Pair(item.name, frozenset([bus]), frozenset(), complex(-1, 0)),
                    float(power[k].real),
                )
            )
    return found


def _interface(network: Network, without: Without, i: Interface) -> Subject:
    """Demand grows on the side into which its power counts, where the interface parts the network."""
    arrays, node = without.arrays, without.problem.topology.node
    branch = arrays.tables["branch"]
    members = tuple(i.signed(network.items))
    rows = {
        ident: [r for r, e in enumerate(branch["element"].tolist()) if arrays.element_id[e] == ident]
        for ident, _ in members
    }
    gone = [r for found in rows.values() for r in found]
    assert without.base is not None
    now = flow_through(without, members, without.base.v, without.solution.ports)
    if not gone:
        return Subject(i.id, "interface", None, now, members, "none of its branches is in service")
    kept = np.ones(len(branch["element"]), np.bool_)
    kept[gone] = False
    _, part = components(without.problem.topology.n_node, node[branch["from"][kept]], node[branch["to"][kept]])
    near, far = set(), set()
    for ident, sign in members:
        for r in rows[ident]:
            a, b = ("from", "to") if sign > 0 else ("to", "from")
            near.add(int(part[node[branch[a][r]]]))
            far.add(int(part[node[branch[b][r]]]))
    if near & far:
        return Subject(i.id, "interface", None, now, members, "its branches do not part the network in two")
    takes = frozenset(b for k, b in enumerate(arrays.bus_id) if int(part[node[k]]) in far)
    return Subject(i.id, "interface", Pair(i.name, takes, frozenset()), now, members)


def flow_through(without: Without, members: Sequence[tuple[str, float]], v: Complexes, ports: Any) -> float:
    """Active power of an interface, MW."""
    arrays = without.arrays
    b = arrays.tables["branch"]
    v0 = np.where(np.isfinite(v.real), v, 0)
    vf, vt = v0[b["from"]], v0[b["to"]]
    s_from, s_to = vf * np.conj(ports.ff * vf + ports.ft * vt), vt * np.conj(ports.tf * vf + ports.tt * vt)
    sign = dict(members)
    total = 0.0
    for r, e in enumerate(b["element"].tolist()):
        way = sign.get(arrays.element_id[e], 0.0)
        total += float(s_from[r].real) if way > 0 else float(s_to[r].real) if way < 0 else 0.0
    return total * arrays.base_mva


def plan(inputs: Inputs, options: LimitTableOptions) -> list[dict[str, int]]:
    if options.of == "interfaces" and not inputs.network.of(Interface):
        text = "there is no interface; add one to the model, or ask for plants"
        raise InvalidFields([FieldProblem("options", "of", options.of, text)])
    return [{"case": k} for k in range(len(cases(inputs, options.over)))]


def prepare(inputs: Inputs, options: LimitTableOptions) -> tuple[Inputs, LimitTableOptions]:
    return inputs, options


def answer(given: tuple[Inputs, LimitTableOptions], part: Mapping[str, int], progress: Progress) -> Answer:
    inputs, options = given
    case = cases(inputs, options.over)[part["case"]]
    state = State(case, options)
    if not state.without.solved:
        return {"solved": False, "ids": []}
    asked = TransferOptions(
        to="bus",
        most_mw=options.most_mw,
        thermal=options.thermal,
        voltage=options.voltage,
        watched_kv=options.watched_kv,
        already="left_out",
        beyond=False,
    )
    ids, kinds, ends, where, when, why, figures = [], [], [], [], [], [], []
    total = max(len(state.subjects) * len(state.lost), 1)
    ways: dict[int, Way] = {}
    for n, subject in enumerate(state.subjects):
        best = (np.inf, "nothing", "", np.nan, 0)
        for k, loss in enumerate(state.lost):
            progress((n * len(state.lost) + k) / total, f"{case.label or 'now'}: {state.network[subject.ident].name}")
            if subject.pair is None or (loss is not None and subject.ident in loss.members):
                continue
            if k not in ways:
                ways[k] = Way(state.without, state.judge, loss, state.live)
            found = ways[k].follow(subject.pair, asked)
            if not np.isfinite(found.mw):
                continue
            value = subject.now + found.mw
            if subject.kind == "interface":
                # What is set is the power before the outage: the transfer that is survived, seen without it.
                if 0 not in ways:
                    ways[0] = Way(state.without, state.judge, None, state.live)
                whole = before_it(ways[0], subject, asked, found.mw)
                value = whole if np.isfinite(whole) else value
            if value < best[0]:
                best = (value, found.kind, found.where, found.value, k)
        one = state.lost[best[4]]
        ids.append(subject.ident)
        kinds.append(subject.kind)
        ends.append(best[1])
        where.append(where_of(state.network, best[2]))
        when.append("as it stands" if one is None else f"after the loss of {one.name}")
        why.append(subject.why)
        figures.append([subject.now, best[0] if np.isfinite(best[0]) else np.nan, best[3]])
    return {
        "solved": True,
        "ids": ids,
        "kinds": kinds,
        "ends": ends,
        "where": where,
        "when": when,
        "why": why,
        "figures": np.array(figures, np.float64).reshape(-1, 3),
    }


def before_it(way: Way, subject: Subject, asked: TransferOptions, mw: float) -> float:
    """Power of an interface with so much more carried, without any outage."""
    if mw <= 0 or subject.pair is None:
        return subject.now
    free = asked.model_copy(update={"most_mw": mw, "thermal": False, "voltage": False})
    found = way.follow(subject.pair, free)
    if found.v is None or found.kind != "nothing":
        return float("nan")
    return flow_through(way.without, subject.members, found.v, way.ports())


def join(
    inputs: Inputs, options: LimitTableOptions, parts: Sequence[Any], answers: Sequence[Answer | Missing]
) -> Result:
    every = cases(inputs, options.over)
    there = [
        (every[p["case"]].label or "as it stands", a)
        for p, a in zip(parts, answers, strict=True)
        if not isinstance(a, Missing)
    ]
    rows: list[tuple[str, str, str, str, str, str, str, float, float, float]] = []
    for label, a in there:
        figures = np.asarray(a.get("figures", np.zeros((0, 3))), float).tolist()
        for n, ident in enumerate(a["ids"]):
            now, most, value = figures[n]
            rows.append(
                (ident, a["kinds"][n], label, a["ends"][n], a["where"][n], a["when"][n], a["why"][n], now, most, value)
            )
    network = inputs.network
    rows.sort(key=lambda r: (r[1], network[r[0]].name, np.nan_to_num(r[8], nan=1e12)))

    def told(r: tuple[Any, ...]) -> str:
        return r[6] or (f"more than {options.most_mw:g} MW further" if not np.isfinite(r[8]) else WORDS[r[3]])

    table = Table(
        "limits",
        "Limits",
        [
            Column("id", "Id", [r[0] for r in rows], fixed=True),
            Column("name", "Of", [network[r[0]].name for r in rows], fixed=True),
            Column("kind", "Kind", [r[1] for r in rows], fixed=True),
            Column("condition", "Under", [r[2] for r in rows], fixed=True),
            Column("now_mw", "Now", np.array([r[7] for r in rows]), "MW", 2),
            Column("most_mw", "Largest value", np.array([r[8] for r in rows]), "MW", 2),
            Column("binds", "What binds", [told(r) for r in rows]),
            Column("where", "At", [r[4] for r in rows]),
            Column("value", "There", [value_of(r[3], r[9]) for r in rows]),
            Column("when", "When", [r[5] if not r[6] else "" for r in rows]),
        ],
    )
    least: dict[str, tuple[Any, ...]] = {}
    for r in rows:
        if np.isfinite(r[8]) and (r[0] not in least or r[8] < least[r[0]][8]):
            least[r[0]] = r
    room = Table(
        "room",
        "Smallest over all",
        [
            Column("id", "Id", list(least), fixed=True),
            Column("name", "Of", [network[i].name for i in least], fixed=True),
            Column(
                "least_mw",
                "Largest value under all",
                np.array([r[8] for r in least.values()]),
                "MW",
                2,
                "The smallest of its largest values: allowed whatever the condition",
            ),
            Column("under", "Under", [r[2] for r in least.values()]),
            Column("when", "When", [r[5] for r in least.values()]),
            Column("where", "At", [r[4] for r in least.values()]),
        ],
    )
    names = list(dict.fromkeys(network[r[0]].name for r in rows))
    figures_: list[Figure] = []
    if rows:
        labels = list(dict.fromkeys(r[2] for r in rows))
        by = {(network[r[0]].name, r[2]): (r[8], r[0]) for r in rows}
        series = [
            Series(
                f"c{n}",
                label,
                names,
                [by.get((x, label), (np.nan, ""))[0] for x in names],
                "bars",
                [by.get((x, label), (np.nan, ""))[1] or None for x in names],
            )
            for n, label in enumerate(labels)
        ]
        figures_ = [
            Figure(
                "limits", "Largest values", Axis("Of"), Axis("Largest value", "MW", 1), series, [Bound("nothing", 0.0)]
            )
        ]
    said = ". ".join(
        f"{network[i].name}: at most {r[8]:.4g} MW, {WORDS[r[3]]} at {r[4]} {r[5]}"
        + (f" under {r[2]}" if r[2] != "as it stands" else "")
        for i, r in list(least.items())[:4]
        if r[4]
    )
    unsolved = [label for label, a in there if not a["solved"]]
    if there and len(unsolved) == len(there):
        text = "The load flow has no solution: see why behind the solution badge, and mend that first; a source may be missing."
        return Result(Account(Ending.ITERATION_LIMIT, "Limit tables", 0, explanation=text), {}, {}, [], text)
    notes = [f"No load flow has a solution under {', '.join(unsolved)}."] if unsolved else []
    assumed = [
        "A plant gives more and the sources less; through an interface more flows as demand behind it grows.",
        "The largest value is that before an outage which is survived. Limits that are broken already are left out.",
    ]
    account = Account(Ending.CONVERGED, "Limit tables", len(rows), notes=notes, assumed=assumed)
    summary: dict[str, float | None] = {
        "rows": float(len(rows)),
        "least_mw": min((r[8] for r in least.values()), default=None),
    }
    return Result(
        account,
        {"limits": table, "room": room},
        summary,
        [],
        f"{said}." if said else "Nothing binds up to what was tried.",
        [],
        figures_,
        [quantity_of(room, room.columns[2])],
    )


SPLIT = Split(plan, prepare, answer, join)
