"""The same outages under every scheme, or every condition: which of them cures which."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...flow import Ending
from ...results import Account, Axis, Bound, Column, Figure, Result, Series, Table
from ..base import Answer, Inputs, Missing, Progress, Split, cases
from ._options import ComparedOptions, LostOptions, OutagesOptions
from ._ready import Ready
from ._study import answer as of_part

_KEPT, _BROKEN, _NONE, _LOST = 0.0, 1.0, 2.0, 3.0
_WORDS = {_KEPT: "kept", _BROKEN: "limits broken", _NONE: "no solution", _LOST: "demand lost"}


def _options(options: ComparedOptions) -> OutagesOptions:
    return OutagesOptions(**{f: getattr(options, f) for f in LostOptions.model_fields})


def plan(inputs: Inputs, options: ComparedOptions) -> list[dict[str, int]]:
    return [{"case": k} for k in range(len(cases(inputs, options.over)))]


def prepare(inputs: Inputs, options: ComparedOptions) -> tuple[Inputs, ComparedOptions]:
    return inputs, options


def answer(given: tuple[Inputs, ComparedOptions], part: Mapping[str, int], progress: Progress) -> Answer:
    """Of every outage under one scheme or condition: how it ends, its worst loading, and what is lost."""
    inputs, options = given
    case = cases(inputs, options.over)[part["case"]]
    progress(0.0, case.label)
    ready = Ready(case.inputs, _options(options))
    if not ready.solved:
        return {"solved": False, "names": [x.name for x in ready.losses]}
    found = of_part(ready, {"numbers": range(len(ready.losses))}, progress)
    excess, lost = np.asarray(found["excess"]), np.nan_to_num(np.asarray(found["lost_mw"]))
    verdict = np.where(np.isinf(excess), _NONE, np.where(excess > 0, _BROKEN, np.where(lost > 0, _LOST, _KEPT)))
    at = [
        ready.network[ready.ids[int(k)]].name if k >= 0 else ""
        for k in np.nan_to_num(np.asarray(found["used_at"]), nan=-1)
    ]
    members = [next((m for m in x.members if m in inputs.network.items), "") for x in ready.losses]
    return {
        "solved": True,
        "names": [x.name for x in ready.losses],
        "ids": members,
        "at": at,
        "verdict": verdict.astype(np.float64),
        "used": np.asarray(found["used"], np.float64),
        "lost": lost.astype(np.float64),
    }


def join(inputs: Inputs, options: ComparedOptions, parts: Sequence[Any], answers: Sequence[Answer | Missing]) -> Result:
    every = cases(inputs, options.over)
    labels = [every[p["case"]].label or "as it stands" for p in parts]
    there = [(label, a) for label, a in zip(labels, answers, strict=True) if not isinstance(a, Missing)]
    names = list(dict.fromkeys(n for _, a in there for n in a["names"]))
    place = {n: k for k, n in enumerate(names)}
    ids = [""] * len(names)
    verdict, used = np.full((len(there), len(names)), np.nan), np.full((len(there), len(names)), np.nan)
    at = [[""] * len(names) for _ in there]
    for c, (_, a) in enumerate(there):
        if not a["solved"]:
            continue
        for n, name in enumerate(a["names"]):
            k = place[name]
            verdict[c, k], used[c, k] = float(a["verdict"][n]), float(a["used"][n])
            at[c][k], ids[k] = a["at"][n], ids[k] or a["ids"][n]
    bad = (verdict == _BROKEN) | (verdict == _NONE)
    order = np.lexsort((np.arange(len(names)), -np.nan_to_num(used, nan=0).max(axis=0, initial=0), -bad.sum(axis=0)))
    first = next(iter(inputs.network.items))
    columns = [
        Column("id", "Id", [ids[k] or first for k in order], fixed=True),
        Column("name", "Loss of", [names[k] for k in order], fixed=True),
    ]
    for c, (label, _) in enumerate(there):
        columns += [
            Column(
                f"verdict_{c + 1}",
                label[:60],
                [_WORDS.get(verdict[c, k], "not there") for k in order],
                None,
                None,
                "How the outage ends under it",
            ),
            Column(
                f"used_{c + 1}",
                "Highest loading",
                used[c, order],
                "%",
                1,
                f"Of what is allowed after it, under {label}",
            ),
            Column(f"at_{c + 1}", "There", [at[c][k] for k in order]),
        ]
    table = Table("compared", "Side by side", columns)
    counts = Table(
        "cases",
        "By scheme" if options.over == "schemes" else "By condition",
        [
            Column("id", "Id", [first] * len(there), fixed=True),
            Column("case", "Under", [label for label, _ in there], fixed=True),
            Column(
                "broken",
                "Outages that break limits",
                np.array([float(bad[c].sum()) for c in range(len(there))]),
                None,
                0,
            ),
            Column(
                "worst_pct",
                "Highest loading",
                np.array(
                    [
                        np.nanmax(used[c], initial=np.nan) if np.isfinite(used[c]).any() else np.nan
                        for c in range(len(there))
                    ]
                ),
                "%",
                1,
            ),
            Column(
                "cures",
                "Cures",
                [
                    _named([names[k] for k in order if bad[0, k] and verdict[c, k] in (_KEPT, _LOST)])
                    for c in range(len(there))
                ],
                None,
                None,
                "Outages that break limits in the first line and not under it",
            ),
            Column(
                "spoils",
                "Spoils",
                [_named([names[k] for k in order if not bad[0, k] and bad[c, k]]) for c in range(len(there))],
                None,
                None,
                "Outages that break limits under it and not in the first line",
            ),
        ],
    )
    statement = (
        _statement([label for label, _ in there], bad, names, order) if there else "Nothing has been worked out yet."
    )
    figures = []
    shown = [int(k) for k in order[:40]]
    if there and shown:
        x = [names[k] for _ in there for k in shown]
        y = [label for label, _ in there for _ in shown]
        z = [float(used[c, k]) for c in range(len(there)) for k in shown]
        figures = [
            Figure(
                "sides",
                "Outages side by side",
                Axis("Loss of"),
                Axis("Under"),
                [Series("used", "loading", x, y, "cells", [ids[k] or None for _ in there for k in shown], z=z)],
                [Bound("allowed", 100.0, "z")],
                Axis("Highest loading after it", "%", 1),
            )
        ]
    unsolved = [label for label, a in there if not a["solved"]]
    notes = [f"No load flow has a solution under {', '.join(unsolved)}."] if unsolved else []
    summary: dict[str, float | None] = {
        "cases": float(len(there)),
        "outages": float(len(names)),
        "fewest_broken": float(bad.sum(axis=1).min()) if there else None,
    }
    return Result(
        Account(Ending.CONVERGED, "Outages side by side", len(names) * len(there), notes=notes),
        {t.name: t for t in (counts, table)},
        summary,
        [],
        statement,
        [],
        figures,
    )


def _named(names: Sequence[str]) -> str:
    return ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")


def _statement(labels: Sequence[str], bad: np.ndarray, names: Sequence[str], order: np.ndarray) -> str:
    base = int(bad[0].sum())
    told = (
        f"{base} of {len(names)} outages break limits {'under ' if labels[0] != 'no scheme' else 'with '}{labels[0]}."
    )
    for c in range(1, len(labels)):
        cured = [names[k] for k in order if bad[0, k] and not bad[c, k]]
        spoilt = int((bad[c] & ~bad[0]).sum())
        told += f" {labels[c]}: {int(bad[c].sum())}"
        told += f", curing {_named(cured)}" if cured else ""
        told += f", {spoilt} new" if spoilt else ""
        told += "."
    return told


SPLIT = Split(plan, prepare, answer, join)
