"""Proposals: what could be built, each tried, ranked by what it cures for its cost."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from pydantic import TypeAdapter

from ...errors import VastMeshError
from ...flow import Ending
from ...network import Change, SchemeChange
from ...network.growth import grown
from ...results import Account, Axis, Column, Figure, Result, Series, Table, quantity_of
from ..base import Answer, Inputs, Missing, Progress, Split
from ..failures import Course, Ready, Tally, every
from ._candidates import Candidate, candidates
from ._options import Money, ProposalOptions
from ._standing import Standing, solved_as, standing

_CHANGES: TypeAdapter[list[Change]] = TypeAdapter(list[Change])
_BARS = 15


def _at(inputs: Inputs, options: ProposalOptions) -> Inputs:
    inputs = solved_as(inputs, options.load_flow)
    return replace(inputs, network=grown(inputs.network, options.year)) if options.year is not None else inputs


def _candidates(inputs: Inputs, options: ProposalOptions) -> list[Candidate]:
    own = _at(inputs, options)
    course = Course(overlap_from_kv=None)
    ready = Ready(own, course)
    tally = Tally(ready.people, course.sustained_min).take(every(ready))
    return candidates(own, ready, tally, options)


def _plan(inputs: Inputs, options: ProposalOptions) -> Sequence[Any]:
    found = [{"name": "", "what": "", "at": "", "cost_k": 0.0, "changes": []}]
    for c in _candidates(inputs, options):
        changes = _CHANGES.dump_python(list(c.changes), mode="json")
        found.append({"name": c.name, "what": c.what, "at": c.at, "cost_k": c.cost_k, "changes": changes})
    return found


def _prepare(inputs: Inputs, options: ProposalOptions) -> Inputs:
    return _at(inputs, options)


def _answer(own: Inputs, part: Mapping[str, Any], progress: Progress) -> Answer:
    progress(0.0, part["name"] or "as it is")
    network = own.network.copy()
    try:
        network.apply(_CHANGES.validate_python(part["changes"]))
    except VastMeshError as error:
        return {"unfit": str(error)}
    return standing(replace(own, network=network), [own.under], outages=False, reliability=True).plain()


def benefit_k(base: Standing, now: Standing, money: Money) -> tuple[float, float, float]:
    """What a year is worth more, in thousands: losses, interruptions, limits kept."""
    a, b = base.under[0], now.under[0]
    losses = (a.losses_mw - b.losses_mw if a.solved and b.solved else 0.0) * money.loss_hours * money.loss_price / 1000
    return losses, base.cost_k - now.cost_k, (base.breaches - now.breaches) * money.breach_k


def _join(inputs: Inputs, options: ProposalOptions, plan: Sequence[Any], answers: Sequence[Answer | Missing]) -> Result:
    base = answers[0] if answers else Missing()
    if isinstance(base, Missing):
        text = "The network as it is has not been solved yet."
        return Result(Account(Ending.CONVERGED, "Proposals", 0, explanation=text), {}, {}, [], text)
    before, money = Standing.of(dict(base)), Money()
    rows = []
    unfit = 0
    for p, a in zip(plan[1:], answers[1:], strict=True):
        if isinstance(a, Missing):
            continue
        if "unfit" in a:
            unfit += 1
            continue
        now = Standing.of(dict(a))
        parts = benefit_k(before, now, money)
        rows.append((p, now, parts, sum(parts), sum(parts) / max(p["cost_k"], 0.1)))
    rows.sort(key=lambda r: -r[4])
    return _published(inputs, options, before, rows, unfit)


def best_of(inputs: Inputs, options: ProposalOptions, most: int) -> list[dict[str, Any]]:
    """The proposals that are worth something, the most for their cost first: name, what, at, cost_k, changes as plain data."""
    own = _prepare(inputs, options)
    plan = _plan(inputs, options)
    before = Standing.of(dict(_answer(own, plan[0], lambda share, words: None)))
    found = []
    for p in plan[1:]:
        a = _answer(own, p, lambda share, words: None)
        if "unfit" not in a:
            worth = sum(benefit_k(before, Standing.of(dict(a)), Money()))
            if worth > 0:
                found.append((worth / max(p["cost_k"], 0.1), p))
    return [p for _, p in sorted(found, key=lambda f: -f[0])[:most]]


SPLIT = Split(plan=_plan, prepare=_prepare, answer=_answer, join=_join)


def _published(inputs: Inputs, options: ProposalOptions, before: Standing, rows: list[Any], unfit: int) -> Result:
    network, money = inputs.network, Money()
    helping = [r for r in rows if r[3] > 0]
    first = next(iter(network.items))
    chosen = next((r for r in rows if r[0]["name"] == options.take), helping[0] if helping else None)
    notes = [f"{unfit} proposals do not fit the network and were left out."] if unfit else []
    if options.take is not None and all(r[0]["name"] != options.take for r in rows):
        notes.append(f"There is no proposal called {options.take}.")
    scheme = []
    if chosen is not None:
        p = chosen[0]
        for change in _CHANGES.validate_python(p["changes"]):
            entry = SchemeChange(
                change=change, label=p["name"][:200], gain=f"{chosen[3]:,.1f} k a year"[:120], group=p["name"][:80]
            )
            scheme.append(entry.model_dump(mode="json"))
    columns = [
        Column("id", "Id", [r[0]["at"] if r[0]["at"] in network.items else first for r in rows], fixed=True),
        Column("name", "Proposal", [r[0]["name"] for r in rows], fixed=True),
        Column("what", "Kind", [r[0]["what"] for r in rows], fixed=True),
        Column("cost_k", "Cost", np.array([r[0]["cost_k"] for r in rows]), "k", 1, "By the costs that are assumed"),
        Column(
            "worth_k",
            "Worth a year",
            np.array([r[3] for r in rows]),
            "k/a",
            2,
            "Losses, interruptions and limits together",
        ),
        Column(
            "ratio", "Worth per cost", np.array([r[4] for r in rows]), "1/a", 3, "What a year is worth, over its cost"
        ),
        Column("cured", "Limits cured", np.array([float(before.breaches - r[1].breaches) for r in rows]), None, 0),
        Column("saidi_min", "SAIDI less", np.array([60 * (before.saidi - r[1].saidi) for r in rows]), "min/a", 2),
        Column("ens_mwh", "Not supplied less", np.array([before.ens_mwh - r[1].ens_mwh for r in rows]), "MWh/a", 3),
        Column(
            "losses_kw",
            "Losses less",
            np.array([1000 * (before.under[0].losses_mw - r[1].under[0].losses_mw) for r in rows]),
            "kW",
            1,
        ),
        Column("worst_pct", "Highest loading", np.array([r[1].under[0].worst_pct for r in rows]), "%", 1),
        Column("low_pu", "Lowest voltage", np.array([r[1].under[0].low_pu for r in rows]), "p.u.", 4),
    ]
    unbalance = np.array([r[1].under[0].unbalance_pct for r in rows], float)
    if np.isfinite(unbalance).any():
        columns.append(Column("unbalance_pct", "Highest voltage unbalance", unbalance, "%", 2))
    table = Table("proposals", "Proposals", columns)
    if chosen is None:
        statement = f"{len(rows)} proposals were tried; none is worth anything."
    else:
        p = chosen[0]
        statement = (
            f"{len(rows)} proposals were tried, {len(helping)} are worth something. {p['name']}: {p['cost_k']:,.0f} k, worth "
            f"{chosen[3]:,.1f} k a year; of it a scheme can be made."
        )
    top = helping[:_BARS]
    names = [r[0]["name"] for r in top]
    series = [
        Series(key, label, names, [r[2][k] for r in top], "bars", [r[0]["at"] for r in top])
        for k, (key, label) in enumerate(
            (("losses", "losses"), ("interruptions", "interruptions"), ("limits", "limits kept"))
        )
        if any(abs(r[2][k]) > 1e-9 for r in top)
    ]
    figures = (
        [Figure("worth", "What each is worth", Axis("Proposal"), Axis("Worth a year", "k/a", 1), series)] if top else []
    )
    assumed = [
        f"Losses at {money.loss_price:g} a MWh over {money.loss_hours:g} hours; a broken limit weighs {money.breach_k:g} k.",
        "Each is tried by itself, at the demand of the year asked for, under the condition in use; costs are general ones.",
        "A second circuit of a line does not make it more reliable; a line of several circuits fails as one.",
    ]
    summary: dict[str, float | None] = {"tried": float(len(rows)), "helping": float(len(helping))}
    account = Account(Ending.CONVERGED, "Each proposal solved", len(rows), notes=notes, assumed=assumed)
    quantities = [quantity_of(table, c) for c in columns if c.name in ("worth_k", "ratio")]
    return Result(account, {table.name: table}, summary, [], statement, scheme, figures, quantities)
