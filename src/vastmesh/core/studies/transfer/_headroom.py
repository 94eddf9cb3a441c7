"""How much more demand and how much more generation each bus can have, within all limits and after all outages."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import combinations
from typing import Any

import numpy as np

from ...electrical import compile_network
from ...electrical.arrays import SLACK
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...flow.balanced import Without
from ...network import Bus, Network
from ...results import Account, Axis, Column, Figure, Result, Series, Table, quantity_of
from ...results.state import live_options
from ..base import Answer, Inputs, Missing, Progress, Split
from ..judge import Judge
from ..losses import Asked, Loss, losses
from ._grow import Pair, Way
from ._options import HeadroomOptions, TransferOptions
from ._words import WORDS, after, value_of, where_of

_DRAWN, _MOST_PAIRS = 30, 2000
_WAYS = ("demand", "generation")


class Room:
    """The solved network, and the state after every outage, made when it is first needed."""

    def __init__(self, inputs: Inputs, options: HeadroomOptions) -> None:
        self.inputs, self.options = inputs, options
        self.network: Network = inputs.network.under(inputs.under)
        self.groups = groups(self.network, options)
        self.lost = outages(inputs, options)
        self.live = live_options(inputs.network.settings)
        self.without = Without(compile_network(self.network), inputs.under, self.live, controls=False)
        self.judge = Judge(self.network, self.without.arrays)
        self._ways: dict[int, Way] = {}
        self.asked = TransferOptions(
            to="bus", most_mw=options.most_mw, thermal=options.thermal, voltage=options.voltage, watched_kv=options.watched_kv,
            already=options.already, beyond=False,
        )  # fmt: skip

    def way(self, loss: int) -> Way:
        if loss not in self._ways:
            self._ways[loss] = Way(self.without, self.judge, self.lost[loss], self.live)
        return self._ways[loss]


def outages(inputs: Inputs, options: HeadroomOptions) -> list[Loss | None]:
    more = losses(inputs.network, inputs.under, Asked()) if options.outages == "model" else []
    return [None, *more]


def chosen(network: Network, options: HeadroomOptions) -> list[Bus]:
    """Buses that are asked about. Raises :class:`InvalidFields` where there is none."""
    found = [b for b in network.of(Bus) if b.in_service
             and (b.id == options.bus if options.bus else (b.nominal_kv or 0) >= options.from_kv)]  # fmt: skip
    if not found:
        raise InvalidFields(
            [FieldProblem("options", "from_kv", options.from_kv, "no bus in service fits; take a lower voltage")]
        )
    return found


def groups(network: Network, options: HeadroomOptions) -> list[tuple[Bus, ...]]:
    """Buses that are asked about together. Raises :class:`InvalidFields` where there are none, or too many."""
    if options.together == "each":
        return [(b,) for b in chosen(network, options)]
    every = chosen(network, options.model_copy(update={"bus": None}))
    found: list[tuple[Bus, ...]] = list(combinations(every, 2))
    if options.bus:
        (named,) = chosen(network, options)
        found = [(named, b) for b in every if b.id != named.id]
    if not found:
        text = "there are no two buses in service; take a lower voltage"
    elif len(found) > _MOST_PAIRS:
        text = f"{len(found)} pairs of buses are too many, {_MOST_PAIRS} at most; take a higher voltage, or name a bus"
    else:
        return found
    raise InvalidFields([FieldProblem("options", "from_kv", options.from_kv, text)])


def _label(group: Sequence[Bus]) -> str:
    return " + ".join(b.name for b in group)


def plan(inputs: Inputs, options: HeadroomOptions) -> list[dict[str, int]]:
    outages(inputs, options)
    return [{"group": k} for k in range(len(groups(inputs.network.under(inputs.under), options)))]


def answer(room: Room, part: Mapping[str, int], progress: Progress) -> Answer:
    group = room.groups[part["group"]]
    label, ids = _label(group), frozenset(b.id for b in group)
    if not room.without.solved:
        return {"kind": "unsolved"}
    t = np.tan(np.arccos(room.options.power_factor))
    told: dict[str, Any] = {"kind": ""}
    fixed = any(_held(room, i) for i in ids)
    for name, added in zip(_WAYS, (complex(1, t), complex(-1, 0)), strict=True):
        pair = Pair(label, ids, frozenset(), added)
        least, kind, where, value, when = np.inf, "nothing", "", np.nan, 0
        for k, loss in enumerate(room.lost):
            progress(k / len(room.lost), f"{label}: {name}{f' after the loss of {loss.name}' if loss else ''}")
            if loss is not None and not ids.isdisjoint(loss.members):
                continue
            found = room.way(k).follow(pair, room.asked)
            if k == 0 and found.kind == "nothing to take it":
                kind = found.kind  # without a supply there is nothing to have room for
                break
            if np.isfinite(found.mw) and (found.mw < least or (found.mw == least and kind == "nothing")):
                least, kind, where, value, when = found.mw, found.kind, found.where, found.value, k
        told |= {f"{name}_kind": kind, f"{name}_where": where}
        told[f"{name}_figures"] = np.array([least, value, when], np.float64)
    told["held"] = fixed
    return told


def _held(room: Room, ident: str) -> bool:
    """Whether a source holds the bus, so that whatever is taken there burdens nothing that is modelled."""
    arrays = room.without.arrays
    machine, node = arrays.tables["injection"], room.without.problem.pattern.row
    row = arrays.bus_id.index(ident) if ident in arrays.bus_id else -1
    return row >= 0 and bool(np.any(node[machine["bus"][machine["control"] == SLACK]] == node[row]))


def join(inputs: Inputs, options: HeadroomOptions, parts: Sequence[Any], answers: Sequence[Answer | Missing]) -> Result:
    network = inputs.network.under(inputs.under)
    asked, lost = groups(network, options), outages(inputs, options)
    there = [(asked[p["group"]], a) for p, a in zip(parts, answers, strict=True) if not isinstance(a, Missing)]
    if any(a["kind"] == "unsolved" for _, a in there):
        text = "The load flow has no solution as things stand: see why behind the solution badge, and mend that first."
        return Result(Account(Ending.ITERATION_LIMIT, "Headroom", 0, explanation=text), {}, {}, [], text)

    def figure(a: Answer, name: str, k: int) -> float:
        return float(np.asarray(a[f"{name}_figures"])[k])

    def least(a: Answer, name: str) -> float:
        mw = figure(a, name, 0)
        return mw if np.isfinite(mw) else np.nan

    there.sort(key=lambda x: np.nan_to_num(least(x[1], "demand"), nan=1e9))
    columns = [
        Column("id", "Id", [g[0].id for g, _ in there], fixed=True),
        Column("name", "Bus", [g[0].name for g, _ in there], fixed=True),
        Column("kv", "Nominal", np.array([g[0].nominal_kv or np.nan for g, _ in there]), "kV", 1, fixed=True),
    ]  # fmt: skip
    pairs = options.together == "pairs"
    if pairs:
        columns.insert(2, Column("with", "Together with", [g[1].name for g, _ in there], fixed=True))
    for name in _WAYS:
        columns += [
            Column(f"{name}_room_mw", f"More {name}", np.array([least(a, name) for _, a in there]), "MW", 3,
                   "Least over the state now and all outages; what was tried at most where nothing stands against it"),
            Column(f"{name}_ends", "Ends by", [WORDS[str(a[f"{name}_kind"])] for _, a in there]),
            Column(f"{name}_at", "At", [where_of(network, str(a[f"{name}_where"])) for _, a in there]),
            Column(f"{name}_value", "There", [value_of(str(a[f"{name}_kind"]), figure(a, name, 1)) for _, a in there]),
            Column(f"{name}_when", "When", [after(lost, int(figure(a, name, 2))) for _, a in there]),
        ]  # fmt: skip
    columns.append(
        Column("held", "Held by a source", ["yes" if a["held"] else "" for _, a in there], None, None,
               "What is taken here the source gives at once: its own limits are not known")
    )  # fmt: skip
    table = Table("headroom", "Headroom", columns)
    # Of a bus in several pairs no single colour tells.
    quantities = [] if pairs else [quantity_of(table, c) for c in columns if c.name.endswith("_room_mw")]
    names = [_label(g) for g, _ in there][:_DRAWN]
    ids = [g[0].id for g, _ in there][:_DRAWN]
    series = [Series(n, f"more {n}", names, [least(a, n) for _, a in there][:_DRAWN], "bars", ids) for n in _WAYS]
    figures = (
        [Figure("room", "Least room", Axis("Bus"), Axis("More that can be had", "MW", 2), series)] if there else []
    )
    missing = len(answers) - len(there)
    notes = [f"{missing} {'pairs' if pairs else 'buses'} have no answer yet."] if missing else []
    said = ""
    if there:
        live = [(g, x) for g, x in there if x["demand_kind"] != "nothing to take it"]
        if not live:
            said = "None of the buses that were asked about has a supply."
        first, a = next(((g, x) for g, x in live if not x["held"]), (live or there)[0])
    if there and live:
        said = (f"The least room for more demand is {least(a, 'demand'):.3g} MW at {_label(first)}, "
                f"{after(lost, int(figure(a, 'demand', 2)))}: {WORDS[str(a['demand_kind'])]}")  # fmt: skip
        at = where_of(network, str(a["demand_where"]))
        said += f" at {at}." if at else "."
    known = [least(a, "demand") for _, a in there if np.isfinite(least(a, "demand"))]
    summary = {"buses": float(len(there)), "least_mw": min(known) if known else None}
    assumed = [
        f"{'Two buses at a time, each half of it' if pairs else 'One bus at a time'}: demand at power factor "
        f"{options.power_factor:g}, generation at power factor one; room at one bus is not there any more once it is used at "
        "another.",
        "Taps, phase shifters and capacitors stay where the load flow leaves them; the sources take up the difference.",
    ]
    account = Account(Ending.CONVERGED, "Continuation", len(there) * len(lost) * 2, notes=notes, assumed=assumed)
    return Result(account, {"headroom": table}, summary, [], said, [], figures, quantities)


SPLIT = Split(plan, Room, answer, join)
