"""How far every pair can be loaded, as things stand and after every outage."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...electrical import compile_network
from ...flow import Ending
from ...flow.balanced import Without
from ...network import Network
from ...results import Account, Axis, Bound, Column, Figure, Finding, Result, Series, Table
from ...results.state import live_options
from ...severity import Severity
from ..base import Answer, Inputs, Missing, Progress, Split
from ..judge import Judge
from ..losses import Asked, Loss, losses
from ._grow import Found, Pair, Step, Way, interpolated, pairs
from ._options import TransferOptions
from ._words import WORDS, after, value_of, where_of

_CURVES, _TOLD = 6, 60


class Ready:
    """The solved network, its limits, and the ways that have been followed without an outage."""

    def __init__(self, inputs: Inputs, options: TransferOptions) -> None:
        self.inputs, self.options = inputs, options
        condition = inputs.under
        self.network: Network = inputs.network.under(condition)
        self.pairs: list[Pair] = pairs(self.network, options)
        self.losses: list[Loss | None] = [None]
        if options.outages == "model":
            self.losses += losses(inputs.network, condition, Asked())
        live = live_options(inputs.network.settings)
        self.live = live
        self.without = Without(compile_network(self.network), condition, live, controls=False)
        self.judge = Judge(self.network, self.without.arrays)
        self._base: dict[int, Found] = {}

    def base(self, pair: int) -> Found:
        if pair not in self._base:
            self._base[pair] = Way(self.without, self.judge, None, self.live).follow(self.pairs[pair], self.options)
        return self._base[pair]

    def found(self, pair: int, loss: int) -> Found:
        one = self.losses[loss]
        if one is None:
            return self.base(pair)
        before = interpolated(self.base(pair).steps) if self.options.step_pct is not None else None
        return Way(self.without, self.judge, one, self.live).follow(self.pairs[pair], self.options, before)


def plan(inputs: Inputs, options: TransferOptions) -> list[dict[str, int]]:
    condition = inputs.under
    count = len(pairs(inputs.network.under(condition), options))
    more = len(losses(inputs.network, condition, Asked())) if options.outages == "model" else 0
    return [{"pair": p, "loss": k} for p in range(count) for k in range(more + 1)]


def answer(ready: Ready, part: Mapping[str, int], progress: Progress) -> Answer:
    loss = ready.losses[part["loss"]]
    progress(0.0, f"{ready.pairs[part['pair']].label}{f', after the loss of {loss.name}' if loss else ''}")
    if not ready.without.solved:
        return {"kind": "unsolved"}
    found = ready.found(part["pair"], part["loss"])
    # Curves: of the weakest buses as things stand, of the weakest one after an outage.
    curves = _curves(ready, found.steps, _CURVES if loss is None else 1, found.weakest)
    buses, branches = found.modes
    return {
        "kind": found.kind, "where": found.where, "weakest": found.weakest, "already": list(found.already),
        "figures": np.array([found.mw, found.value, found.nose_mw, len(found.steps)], np.float64),
        "step_mw": np.array([s.mw for s in found.steps], np.float64),
        "curve_ids": [ident for ident, _ in curves], "curve_pu": np.array([v for _, v in curves], np.float64),
        "bus_ids": [i for i, _ in buses], "bus_part": np.array([p for _, p in buses], np.float64),
        "branch_ids": [i for i, _ in branches], "branch_part": np.array([p for _, p in branches], np.float64),
    }  # fmt: skip


def _read(a: Answer) -> dict[str, Any]:
    """An answer as it is told of."""
    if a["kind"] == "unsolved":
        return {"kind": "unsolved"}
    mw, value, nose, points = np.asarray(a["figures"], float).tolist()
    return {
        "kind": a["kind"], "where": a["where"], "weakest": a["weakest"], "already": a["already"], "mw": mw, "value": value,
        "nose_mw": nose, "points": points, "step_mw": np.asarray(a["step_mw"], float).tolist(),
        "curves": list(zip(a["curve_ids"], np.asarray(a["curve_pu"], float).tolist(), strict=True)),
        "buses": list(zip(a["bus_ids"], np.asarray(a["bus_part"], float).tolist(), strict=True)),
        "branches": list(zip(a["branch_ids"], np.asarray(a["branch_part"], float).tolist(), strict=True)),
    }  # fmt: skip


def _curves(ready: Ready, steps: list[Step], count: int, weakest: str) -> list[list[Any]]:
    if len(steps) < 2:
        return []
    size = np.abs(np.array([s.v for s in steps]))
    peak = int(np.argmax([s.mw for s in steps]))
    drop = np.where(ready.judge.in_view, size[0] - size[peak], -np.inf)
    drop = np.where(np.isfinite(drop), drop, -np.inf)
    ids = ready.judge.arrays.bus_id
    order = [int(k) for k in np.argsort(-drop)[:count] if np.isfinite(drop[k])]
    if weakest in ids and (k := ids.index(weakest)) not in order:
        order = [k, *order[: count - 1]]
    return [[ids[k], size[:, k].tolist()] for k in order]


def join(inputs: Inputs, options: TransferOptions, parts: Sequence[Any], answers: Sequence[Answer | Missing]) -> Result:
    condition = inputs.under
    network = inputs.network.under(condition)
    every = pairs(network, options)
    lost: list[Loss | None] = [
        None,
        *(losses(inputs.network, condition, Asked()) if options.outages == "model" else []),
    ]
    there = [(p, _read(a)) for p, a in zip(parts, answers, strict=True) if not isinstance(a, Missing)]
    if any(a["kind"] == "unsolved" for _, a in there):
        text = "The load flow has no solution as things stand: see why behind the solution badge, and mend that first."
        return Result(Account(Ending.ITERATION_LIMIT, "Transfer", 0, explanation=text), {}, {}, [], text)
    missing = [a.why for a in answers if isinstance(a, Missing)]
    order = sorted(there, key=lambda x: (x[0]["pair"], np.nan_to_num(float(x[1]["mw"]), nan=np.inf), x[0]["loss"]))
    limits = _limits_table(network, every, lost, order)
    best = {p["pair"]: a for p, a in reversed(order)}  # the least of every pair
    tables = [limits]
    if len(every) > 1:
        tables.insert(0, _pairs_table(network, every, lost, order, options))
    base = next((a for p, a in there if p["loss"] == 0 and p["pair"] == 0), None)
    figures: list[Figure] = []
    if base is not None:
        figures = _figures(network, lost, there, options)
        for name, label, found in (
            ("buses", "Buses in the collapse", base["buses"]),
            ("elements", "Branches in it", base["branches"]),
        ):
            if found:
                tables.append(_part_table(network, name, label, found))
    statement = _statement(network, every, lost, order, options) if order else "Nothing has been worked out yet."
    statement = statement[:1].upper() + statement[1:]
    notes = (
        [f"{len(missing)} of {len(parts)} have no answer: {next((w for w in missing if w), 'they are still to come')}"]
        if missing
        else []
    )
    past = sorted({where_of(network, i) for _, a in there for i in a["already"]} - {""})
    if past:
        few = ", ".join(past[:4]) + (f" and {len(past) - 4} more" if len(past) > 4 else "")
        does = "left out" if options.already == "left_out" else "counted"
        notes.append(f"Beyond limits before anything more is carried, and {does}: {few}.")
    known = [float(a["mw"]) for a in best.values() if np.isfinite(float(a["mw"]))]
    least = min(known, default=None)
    summary: dict[str, float | None] = {
        "limit_mw": least,
        "available_mw": None if least is None else max(least - options.reserve_mw, 0.0),
        "collapse_mw": float(base["nose_mw"]) if base is not None and np.isfinite(float(base["nose_mw"])) else None,
        "worked_out": float(len(there)),
    }
    iterations = int(sum(float(a.get("points", 0)) for _, a in there))
    account = Account(Ending.CONVERGED, "Continuation", iterations, notes=notes, assumed=_ASSUMED)
    return Result(
        account, {t.name: t for t in tables}, summary, _findings(network, lost, order), statement, [], figures
    )


_ASSUMED = [
    "Taps, phase shifters and capacitors stay where the load flow leaves them; machines hold their voltages within "
    "their limits, inverters stay on the part of their curve that they are on.",
    "Demand grows at its power factor and follows the voltage as it does now.",
    "Losses and what the plants that are named do not give the sources take up.",
]


def _limits_table(
    network: Network, every: Sequence[Pair], lost: Sequence[Loss | None], order: Sequence[tuple[Any, Answer]]
) -> Table:
    return Table(
        "limits",
        "Limits",
        [
            Column("id", "Id", [_limiting(network, lost, p, a) for p, a in order], fixed=True),
            Column("pair", "Transfer", [every[p["pair"]].label for p, _ in order], fixed=True),
            Column("when", "When", [after(lost, p["loss"]) for p, _ in order], fixed=True),
            Column("limit_mw", "More that can be carried", np.array([float(a["mw"]) for _, a in order]), "MW", 2),
            Column("kind", "Ends by", [WORDS[str(a["kind"])] for _, a in order]),
            Column("where", "At", [where_of(network, str(a["where"])) for _, a in order]),
            Column("value", "There", [_value(a) for _, a in order]),
            Column(
                "nose_mw",
                "Voltage collapse at",
                np.array([float(a["nose_mw"]) for _, a in order]),
                "MW",
                2,
                "Blank where it lies beyond what was tried",
            ),
            Column("weakest", "Weakest bus there", [where_of(network, str(a["weakest"])) for _, a in order]),
        ],
    )


def _limiting(network: Network, lost: Sequence[Loss | None], p: Mapping[str, int], a: Answer) -> str:
    one = lost[p["loss"]]
    for ident in (str(a["where"]), *(one.members if one else ())):
        if ident in network.items:
            return ident
    return next(iter(network.items))


def _value(a: Answer) -> str:
    return value_of(str(a["kind"]), float(a["value"]))


def _pairs_table(
    network: Network,
    every: Sequence[Pair],
    lost: Sequence[Loss | None],
    order: Sequence[tuple[Any, Answer]],
    options: TransferOptions,
) -> Table:
    least: dict[int, tuple[Any, Answer]] = {}
    for p, a in order:
        least.setdefault(p["pair"], (p, a))
    rows = sorted(least)
    mw = np.array([float(least[k][1]["mw"]) for k in rows])
    return Table(
        "pairs",
        "Pairs",
        [
            Column("id", "Id", [_limiting(network, lost, *least[k]) for k in rows], fixed=True),
            Column("pair", "Transfer", [every[k].label for k in rows], fixed=True),
            Column("total_mw", "More that can be carried", mw, "MW", 2),
            Column("reserve_mw", "Reserve", np.full(len(rows), options.reserve_mw), "MW", 1),
            Column("available_mw", "Available", np.maximum(mw - options.reserve_mw, 0), "MW", 2),
            Column("kind", "Ends by", [WORDS[str(least[k][1]["kind"])] for k in rows]),
            Column("where", "At", [where_of(network, str(least[k][1]["where"])) for k in rows]),
            Column("when", "When", [after(lost, least[k][0]["loss"]) for k in rows]),
        ],
    )


def _part_table(network: Network, name: str, label: str, found: Any) -> Table:
    return Table(
        name,
        label,
        [
            Column("id", "Id", [x[0] for x in found], fixed=True),
            Column("name", "Name", [where_of(network, x[0]) for x in found], fixed=True),
            Column(
                "part_pct",
                "Takes part",
                np.array([100 * float(x[1]) for x in found]),
                "%",
                1,
                "In the direction in which voltages collapse at the turn, beside the one that takes most part",
            ),
        ],
    )


def _figures(
    network: Network, lost: Sequence[Loss | None], there: Sequence[tuple[Any, Answer]], options: TransferOptions
) -> list[Figure]:
    first = [(p, a) for p, a in there if p["pair"] == 0 and np.isfinite(float(a["mw"]))]
    base = next((a for p, a in first if p["loss"] == 0), None)
    if base is None:
        return []
    series = [
        Series(f"c{n}", where_of(network, ident), list(base["step_mw"]), values, "line", [ident] * len(values))
        for n, (ident, values) in enumerate(base["curves"])
    ]
    worst = min((x for x in first if x[0]["loss"]), key=lambda x: float(x[1]["mw"]), default=None)
    if worst is not None and worst[1]["curves"]:
        ident, values = worst[1]["curves"][0]
        label = f"{where_of(network, ident)} {after(lost, worst[0]['loss'])}"
        series.append(Series("after", label, list(worst[1]["step_mw"]), values, "line", [ident] * len(values)))
    least = min(float(a["mw"]) for _, a in first)
    bounds = [Bound(f"limit {least:.4g} MW", least, "x")]
    figures = (
        [Figure("pv", "Voltage by transfer", Axis("More carried", "MW", 1), Axis("Voltage", "p.u.", 3), series, bounds)]
        if series
        else []
    )
    shown = sorted(first, key=lambda x: float(x[1]["mw"]))[:_TOLD]
    if len(shown) > 1:
        names = [after(lost, p["loss"]).removeprefix("after the loss of ") for p, _ in shown]
        elements = [_limiting(network, lost, p, a) for p, a in shown]
        figures.append(
            Figure(
                "least",
                "By outage",
                Axis("After the loss of"),
                Axis("More that can be carried", "MW", 1),
                [Series("limit", "limit", names, [float(a["mw"]) for _, a in shown], "bars", elements)],
            )
        )
    return figures


def _statement(
    network: Network,
    every: Sequence[Pair],
    lost: Sequence[Loss | None],
    order: Sequence[tuple[Any, Answer]],
    options: TransferOptions,
) -> str:
    p, a = min(order, key=lambda x: np.nan_to_num(float(x[1]["mw"]), nan=np.inf))
    mw = float(a["mw"])
    pair = every[p["pair"]]
    kind, where = str(a["kind"]), where_of(network, str(a["where"]))
    if kind == "nothing":
        return f"{pair.label}: {mw:.4g} MW more can be carried and nothing stands against it; try more."
    if kind == "nothing to take it":
        return f"{pair.label}: nothing live takes it there."
    by = WORDS[kind] + (f" at {where}" if where else "") + (f", {_value(a)}" if _value(a) else "")
    told = f"{pair.label}: {mw:.4g} MW more can be carried; {after(lost, p['loss'])}, {by} stands against more."
    base = next((x for q, x in order if q["loss"] == 0 and q["pair"] == p["pair"]), None)
    if base is not None and p["loss"] != 0:
        told += f" As it stands {float(base['mw']):.4g} MW."
    if base is not None and np.isfinite(float(base["nose_mw"])):
        told += f" Voltages collapse at {float(base['nose_mw']):.4g} MW, at {where_of(network, str(base['weakest']))} first."
    if options.reserve_mw:
        told += f" With {options.reserve_mw:g} MW in reserve {max(mw - options.reserve_mw, 0):.4g} MW are available."
    return told


def _findings(network: Network, lost: Sequence[Loss | None], order: Sequence[tuple[Any, Answer]]) -> list[Finding]:
    found = []
    for p, a in order:
        if float(a["mw"]) > 1e-6 or a["kind"] in ("nothing", "nothing to take it"):
            continue
        ident = _limiting(network, lost, p, a)
        found.append(
            Finding(
                ident,
                network[ident].kind,
                "limit_mw",
                0.0,
                "MW",
                None,
                "transfer",
                Severity.WATCH,
                "",
                0.1,
                f"{after(lost, p['loss'])} nothing more can be carried: {WORDS[str(a['kind'])]}",
            )
        )
    return found[:200]


SPLIT = Split(plan, Ready, answer, join)
