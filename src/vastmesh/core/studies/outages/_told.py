"""What all outages come to: tables, findings, a plot, and the answer in a sentence."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from ...electrical.arrays import Floats, Ints
from ...flow import Ending
from ...network import SchemeChange
from ...results import (
    Account,
    Axis,
    Bound,
    Column,
    Figure,
    Finding,
    Quantity,
    Result,
    Scale,
    Series,
    Table,
    quantity_of,
)
from ...severity import Severity
from ._help import Helped
from ._ready import Ready

_DRAWN, _ACROSS, _FOUND = 40, 80, 200
_WHAT = ("loading", "voltage below", "voltage above")
_STAGE = {"just_after": "just after", "after_control": "after control"}

Figures = dict[str, Floats]
Worst = dict[str, tuple[Floats, Ints]]
Lacking = Sequence[tuple[range, str]]


def published(
    ready: Ready, figures: Figures, worst: Worst, listed: Floats, helped: Sequence[Helped], lacking: Lacking
) -> Result:
    order = _order(figures)
    tables = [_outages(ready, figures, order, helped), _matrix(ready, listed)]
    if len(worst["used"][0]):
        tables += [_branches(ready, worst), _buses(ready, worst)]
    if helped:
        tables.append(_help(ready, helped))
    statement = _statement(ready, figures, order, helped)
    notes = _notes(ready, figures, lacking)
    account = Account(Ending.CONVERGED, "Outages", int(np.nansum(figures["iterations"])), notes=notes, assumed=_ASSUMED)
    n = figures["numbers"]
    bad = (figures["excess"] > 0) & (figures["skipped"] == 0)
    worst_used = figures["used"][np.isfinite(figures["used"])]
    summary: dict[str, float | None] = {
        "outages": float(len(n)),
        "outages_bad": float(bad.sum()),
        "outages_without_solution": float(np.isinf(figures["excess"]).sum()),
        "outages_not_there": float(sum(len(r) for r, _ in lacking)),
        "worst_pct": float(worst_used.max()) if len(worst_used) else None,
        "outages_with_loss": float((np.nan_to_num(figures["lost_mw"]) > _LOST_MW).sum()),
        "lost_mw": float(np.nanmax(figures["lost_mw"])) if np.isfinite(figures["lost_mw"]).any() else None,
        "left_out": float((figures["skipped"] > 0).sum()),
    }
    scheme = []
    best = next((h for h in helped if h.cures and len(order) and h.number == int(n[order[0]])), None)
    if best is not None:
        scheme = [
            SchemeChange(
                change=c,
                label=f"{best.way.text[:1].upper()}{best.way.text[1:]}"[:200],
                gain=f"cures the loss of {ready.losses[best.number].name}"[:120],
            ).model_dump(mode="json")
            for c in best.way.changes
        ]
    return Result(
        account,
        {t.name: t for t in tables},
        summary,
        _findings(ready, figures, order),
        statement,
        scheme,
        _figures(ready, figures, order, listed),
        _quantities(tables),
    )


_LOST_MW = 1e-6
_ASSUMED = [
    "What is lost is disconnected at every terminal at once; protection and switching times are not looked at.",
    "Machines hold their voltages within their reactive limits, inverters follow their curves; what active power is missing the "
    "sources take up, or all machines with a participation where the settings say so.",
    "Islands without a source have no supply, whatever plants stand in them.",
    "Of parallel closed switches without impedance each is taken to carry an equal part.",
]


def _order(f: Figures) -> Ints:
    """Outages, the worst first."""
    excess = np.where(f["skipped"] > 0, -1.0, np.nan_to_num(f["excess"], nan=0.0, posinf=1e9))
    share = np.nan_to_num(f["share"], nan=0.0)
    return np.lexsort(
        (f["numbers"], -np.nan_to_num(f["used"], nan=0.0), -np.nan_to_num(f["lost_mw"], nan=0.0), share, -excess)
    )


def _branch_name(ready: Ready, row: float) -> str:
    return ready.network[ready.ids[int(row)]].name if row >= 0 else ""


def _bus_name(ready: Ready, row: float) -> str:
    if not row >= 0:
        return ""
    item = ready.network.items.get(ready.arrays.bus_id[int(row)])
    return item.name if item is not None else ""


def _verdict(f: Figures, k: int) -> str:
    if f["skipped"][k] > 0:
        return "far from limits"
    if np.isinf(f["excess"][k]):
        return "no solution"
    if f["excess"][k] > 0:
        return "limits broken"
    if f["lost_mw"][k] > 0:
        return "demand lost"
    return "as before" if f["before"][k] > 0 else "kept"


def _outages(ready: Ready, f: Figures, order: Ints, helped: Sequence[Helped]) -> Table:
    at = [int(i) for i in f["numbers"][order]]
    rows = [ready.losses[i] for i in at]
    best: dict[int, Helped] = {}
    for h in helped:
        best.setdefault(h.number, h)
    where = [next((m for m in loss.members if m in ready.network.items), loss.ident) for loss in rows]

    def of(name: str) -> Floats:
        return f[name][order]

    columns = [
        Column("id", "Id", where, fixed=True),
        Column("name", "Loss of", [x.name for x in rows], fixed=True),
        Column("kind", "Kind", [x.kind.replace("_", " ") for x in rows], fixed=True),
        Column(
            "verdict",
            "Verdict",
            [_verdict(f, int(k)) for k in order],
            None,
            None,
            "By the limits after this outage; what is broken already without it counts only where it gets worse",
        ),
        Column("worst_pct", "Highest loading", of("used"), "%", 1, "Of what is allowed after it"),
        Column("worst_at", "There", [_branch_name(ready, x) for x in of("used_at")]),
        Column("low_pu", "Lowest voltage", of("low"), "p.u.", 4),
        Column("low_at", "At", [_bus_name(ready, x) for x in of("low_at")]),
        Column("high_pu", "Highest voltage", of("high"), "p.u.", 4),
        Column("step_pct", "Largest step", 100 * of("step"), "%", 2, "Of a voltage, from before to after"),
        Column("step_at", "Step at", [_bus_name(ready, x) for x in of("step_at")]),
        Column(
            "lost_mw",
            "Demand lost",
            of("lost_mw"),
            "MW",
            3,
            "Of what is lost itself and of what has no supply any more",
        ),
        Column("dead", "Buses without supply", of("dead"), None, 0),
        Column("broken", "Limits broken", of("broken"), None, 0),
        Column("before", "Broken before", of("before"), None, 0, "Beyond their limit already without the outage"),
        Column("judged", "Judged", [_STAGE[x.stage] for x in rows], fixed=True),
        Column(
            "members",
            "Elements",
            ["; ".join(x.members) for x in rows],
            None,
            None,
            "Ids of what is lost together",
            fixed=True,
        ),
        Column("limits", "Limits", [x.limit_set for x in rows], fixed=True),
    ]
    if np.isinf(f["excess"]).any():
        columns += [
            Column(
                "share_pct",
                "Solvable share",
                of("share"),
                "%",
                1,
                "Of demand and generation, up to which there is a solution",
            ),
            Column("breaks_at", "Breaks at", [_bus_name(ready, x) for x in of("breaks_at")]),
        ]
    if helped:
        told = [best[i].way.text if i in best else "" for i in at]
        then = [best.get(i) for i in at]
        columns += [
            Column("help", "Best help", told),
            Column("helped_pct", "Loading with it", np.array([h.worst if h else np.nan for h in then]), "%", 1,
                   "Highest loading after what helps best, of what is allowed then"),
            Column("helped", "Verdict with it", [_with_help(h) for h in then], None, None,
                   "After remedies: by the AC load flow with what helps best"),
        ]  # fmt: skip
    return Table("outages", "Outages", columns)


def _with_help(h: Helped | None) -> str:
    if h is None:
        return ""
    if h.cures:
        return "cured by shedding" if h.way.kind == "shedding" else "cured"
    return "relieved"


def _matrix(ready: Ready, listed: Floats) -> Table:
    """What is near or beyond a limit after which outage: one row for every such element and outage."""
    order = np.lexsort((listed[:, 0], -np.where(listed[:, 1] == 0, listed[:, 4], 200.0)))
    rows = listed[order]
    ids, names, kinds = [], [], []
    for _, what, row, _, _ in rows.tolist():
        ident = ready.ids[int(row)] if what == 0 else ready.arrays.bus_id[int(row)]
        ids.append(ident)
        item = ready.network.items.get(ident)
        names.append(item.name if item is not None else "")
        kinds.append(_WHAT[int(what)])
    loading = rows[:, 1] == 0
    blank = np.full(len(rows), np.nan)
    return Table(
        "matrix",
        "Matrix",
        [
            Column("id", "Id", ids, fixed=True),
            Column("name", "Element", names, fixed=True),
            Column("outage", "After the loss of", [ready.losses[int(k)].name for k in rows[:, 0]], fixed=True),
            Column("outage_id", "Id of it", [ready.losses[int(k)].ident for k in rows[:, 0]], fixed=True),
            Column("what", "What", kinds, fixed=True),
            Column(
                "before_pct",
                "Loading before",
                np.where(loading, rows[:, 3], blank),
                "%",
                1,
                "Of what is allowed after the outage",
            ),
            Column(
                "after_pct",
                "Loading after",
                np.where(loading, rows[:, 4], blank),
                "%",
                1,
                "Of what is allowed after the outage",
            ),
            Column("before_pu", "Voltage before", np.where(loading, blank, rows[:, 3]), "p.u.", 4),
            Column("after_pu", "Voltage after", np.where(loading, blank, rows[:, 4]), "p.u.", 4),
        ],
    )


def _by(ready: Ready, by: Ints, rows: Sequence[int]) -> list[str]:
    return [ready.losses[int(by[r])].name if by[r] >= 0 else "" for r in rows]


def _branches(ready: Ready, worst: Worst) -> Table:
    value, by = worst["used"]
    rows = [int(r) for r in np.flatnonzero(np.isfinite(value) & (value > 0))]
    # Of a transformer with three windings the one loaded most stands for it.
    best: dict[str, int] = {}
    for r in rows:
        if ready.ids[r] not in best or value[r] > value[best[ready.ids[r]]]:
            best[ready.ids[r]] = r
    kept = sorted(best.values(), key=lambda r: -value[r])
    return Table(
        "branches",
        "Branches",
        [
            Column("id", "Id", [ready.ids[r] for r in kept], fixed=True),
            Column("name", "Name", [ready.network[ready.ids[r]].name for r in kept], fixed=True),
            Column("base_pct", "Loading before", 100 * ready.base.used[kept], "%", 1, "Of what is allowed normally"),
            Column(
                "worst_after_pct", "Worst after an outage", 100 * value[kept], "%", 1, "Of what is allowed after it"
            ),
            Column("by", "After the loss of", _by(ready, by, kept)),
        ],
    )


def _buses(ready: Ready, worst: Worst) -> Table:
    (low, low_by), (high, high_by), (step, step_by) = worst["low"], worst["high"], worst["step"]
    rows = [int(r) for r in np.flatnonzero(ready.bus_in_view & np.isfinite(low))]
    rows.sort(key=lambda r: -step[r])
    return Table(
        "buses",
        "Buses",
        [
            Column("id", "Id", [ready.arrays.bus_id[r] for r in rows], fixed=True),
            Column("name", "Name", [_bus_name(ready, r) for r in rows], fixed=True),
            Column("base_pu", "Voltage before", np.abs(ready.base_v)[rows], "p.u.", 4),
            Column("lowest_pu", "Lowest after an outage", -low[rows], "p.u.", 4),
            Column("lowest_by", "After the loss of", _by(ready, low_by, rows)),
            Column("highest_pu", "Highest after an outage", high[rows], "p.u.", 4),
            Column("highest_by", "After that of", _by(ready, high_by, rows)),
            Column("largest_step_pct", "Largest step", 100 * step[rows], "%", 2),
            Column("step_by", "By the loss of", _by(ready, step_by, rows)),
        ],
    )


def _help(ready: Ready, helped: Sequence[Helped]) -> Table:
    rows = list(helped)
    return Table(
        "help",
        "What helps",
        [
            Column("id", "Id", [h.way.element for h in rows], fixed=True),
            Column("outage", "After the loss of", [ready.losses[h.number].name for h in rows], fixed=True),
            Column("do", "Do", [h.way.text for h in rows], fixed=True),
            Column("kind", "Kind", [h.way.kind for h in rows], fixed=True),
            Column(
                "cures",
                "Cures",
                [h.cures for h in rows],
                None,
                None,
                "All limits kept, nothing without supply, by the AC load flow",
            ),
            Column("worst_before_pct", "Highest loading", np.array([h.worst_before for h in rows]), "%", 1),
            Column("worst_then_pct", "Then", np.array([h.worst for h in rows]), "%", 1),
            Column(
                "excess_before",
                "Limits exceeded by",
                np.array([100 * h.excess_before for h in rows]),
                "%",
                1,
                "Sum over all branches and voltages, of what is allowed",
            ),
            Column("excess_then", "Exceeded then", np.array([100 * h.excess for h in rows]), "%", 1),
            Column("moved_mw", "Moved or shed", np.array([h.way.mw for h in rows]), "MW", 2),
            Column("dead_before", "Buses without supply", np.array([float(h.dead_before) for h in rows]), None, 0),
            Column("dead_then", "Then without", np.array([float(h.dead) for h in rows]), None, 0),
        ],
    )


def _quantities(tables: Sequence[Table]) -> list[Quantity]:
    scales: dict[str, Scale] = {"worst_after_pct": "loading", "lowest_pu": "voltage", "highest_pu": "voltage"}
    return [
        quantity_of(t, c, scales[c.name])
        for t in tables
        if t.name in ("branches", "buses")
        for c in t.columns
        if c.name in scales
    ]


def _figures(ready: Ready, f: Figures, order: Ints, listed: Floats) -> list[Figure]:
    shown = [int(k) for k in order if f["skipped"][k] == 0 and np.isfinite(f["used"][k])]
    shown = sorted(shown, key=lambda k: -f["used"][k])[:_DRAWN]
    if not shown:
        return []
    names = [ready.losses[int(f["numbers"][k])].name for k in shown]
    elements = [
        next((m for m in ready.losses[int(f["numbers"][k])].members if m in ready.network.items), None) for k in shown
    ]
    first = ready.losses[0].limit_set
    before = 100 * float(ready.base_by_set[first].max(initial=0.0))
    return [
        *_cells(ready, order, f, listed),
        Figure(
            "severity",
            "Severity",
            Axis("Loss of"),
            Axis("Highest loading after it", "%", 1),
            [Series("after", "after it", names, [float(f["used"][k]) for k in shown], "bars", elements)],
            [Bound("allowed", 100.0), Bound("before it", before)],
        ),
    ]


def _cells(ready: Ready, order: Ints, f: Figures, listed: Floats) -> list[Figure]:
    """Loadings near and beyond what is allowed, and voltages beyond it, outage by element: both the worst first."""
    loading, volts = listed[listed[:, 1] == 0], listed[listed[:, 1] > 0]
    beyond = []
    for number, what, row, _, after in volts.tolist():
        limits = ready.limits[ready.losses[int(number)].limit_set]
        beyond.append(100 * (limits.low[int(row)] - after if what == 1 else after - limits.high[int(row)]))
    place = {int(f["numbers"][k]): n for n, k in enumerate(order.tolist())}
    return [
        *_crossed(
            ready, place, "cells", "Outages and elements", loading, loading[:, 4], lambda r: _branch_name(ready, r),
            lambda r: ready.ids[r], Axis("Loading after it", "%", 1), [Bound("allowed", 100.0, "z")],
        ),
        *_crossed(
            ready, place, "voltages", "Outages and voltages", volts, np.array(beyond), lambda r: _bus_name(ready, r),
            lambda r: ready.arrays.bus_id[r], Axis("Voltage beyond its limit", "% of nominal", 2), [],
        ),
    ]  # fmt: skip


def _crossed(
    ready: Ready, place: dict[int, int], name: str, label: str, rows: Floats, values: Floats, called: Callable[[int], str],
    ident: Callable[[int], str], z: Axis, bounds: list[Bound],
) -> list[Figure]:  # fmt: skip
    """Cells of outages across and elements down; none where nothing is listed."""
    if not len(rows):
        return []
    triples = [(int(k), int(row), v) for (k, _, row, _, _), v in zip(rows.tolist(), values.tolist(), strict=True)]
    worst: dict[int, float] = {}
    for _, row, v in triples:
        worst[row] = max(worst.get(row, -np.inf), v)
    elements = {row: n for n, row in enumerate(sorted(worst, key=lambda r: -worst[r])[:_DRAWN])}
    met = sorted({k for k, row, _ in triples if row in elements}, key=lambda k: place[k])[:_ACROSS]
    shown = set(met)
    cells = sorted((place[k], elements[row], k, row, v) for k, row, v in triples if row in elements and k in shown)
    # A first series without figures puts the words along both axes in order.
    across = [ready.losses[k].name for k in met]
    down = [called(row) for row in elements]
    longest = max(len(across), len(down))
    ordered = Series(
        "order", "", [across[min(n, len(across) - 1)] for n in range(longest)],
        [down[min(n, len(down) - 1)] for n in range(longest)], "cells", z=[np.nan] * longest,
    )  # fmt: skip
    found = Series(
        name, z.label.lower(), [ready.losses[k].name for _, _, k, _, _ in cells], [called(row) for *_, row, _ in cells],
        "cells", [ident(row) for *_, row, _ in cells], z=[v for *_, v in cells],
    )  # fmt: skip
    return [Figure(name, label, Axis("Loss of"), Axis("Element"), [ordered, found], bounds, z)]


def _text(ready: Ready, f: Figures, k: int) -> str:
    if np.isinf(f["excess"][k]):
        share = (
            f"; solutions end at {f['share'][k]:.1f} % of demand, at {_bus_name(ready, f['breaks_at'][k])}"
            if np.isfinite(f["share"][k])
            else ""
        )
        return f"there is no solution{share}"
    loss = ready.losses[int(f["numbers"][k])]
    limits = ready.limits[loss.limit_set]
    parts = []
    if not f["low_at"][k] >= 0:
        parts.append("nothing has a supply any more")
    if f["used"][k] > 100:
        parts.append(f"{_branch_name(ready, f['used_at'][k])} carries {f['used'][k]:.1f} % of what is allowed")
    if f["low_at"][k] >= 0 and f["low"][k] < limits.low[int(f["low_at"][k])]:
        parts.append(f"{_bus_name(ready, f['low_at'][k])} falls to {f['low'][k]:.3f} p.u.")
    if f["high_at"][k] >= 0 and f["high"][k] > limits.high[int(f["high_at"][k])]:
        parts.append(f"{_bus_name(ready, f['high_at'][k])} rises to {f['high'][k]:.3f} p.u.")
    if loss.lost_mw is not None and f["lost_mw"][k] > loss.lost_mw + 1e-9:
        parts.append(f"{f['lost_mw'][k]:.3g} MW are lost, {loss.lost_mw:g} allowed")
    return ", ".join(parts[:3]) or "limits are broken further"


def _findings(ready: Ready, f: Figures, order: Ints) -> list[Finding]:
    found: list[Finding] = []
    for k in order.tolist():
        if not f["excess"][k] > 0 or f["skipped"][k] > 0 or len(found) >= _FOUND:
            continue
        loss = ready.losses[int(f["numbers"][k])]
        ident = next((m for m in loss.members if m in ready.network.items), loss.ident)
        solved = bool(np.isfinite(f["excess"][k]))
        found.append(
            Finding(
                ident,
                ready.network[ident].kind,
                "worst_pct",
                float(f["used"][k]) if np.isfinite(f["used"][k]) else None,
                "%",
                100.0,
                "after an outage",
                Severity.BREACH,
                "above",
                float(f["excess"][k]) if solved else 10.0,
                f"after the loss of {loss.name} {_text(ready, f, k)}",
            )
        )
    return found


def _statement(ready: Ready, f: Figures, order: Ints, helped: Sequence[Helped]) -> str:
    count = len(f["numbers"])
    if not count:
        return "No outage has been worked out yet."
    bad = [k for k in order.tolist() if f["excess"][k] > 0 and f["skipped"][k] == 0]
    lost = np.nan_to_num(f["lost_mw"])
    most = int(np.argmax(lost))
    cut = (
        f" Most demand is lost with {ready.losses[int(f['numbers'][most])].name}: {lost[most]:.3g} MW."
        if lost[most] > 0
        else ""
    )
    before = (
        " Limits are broken already as things stand; that counts only where it gets worse."
        if f["before"].max() > 0
        else ""
    )
    if not bad:
        dark = int((lost > _LOST_MW).sum())
        kept = f"all limits are kept after each of {count} outages"
        if not dark:
            return f"Secure: {kept}, and none takes demand.{before}"
        takes = "one of them takes" if dark == 1 else f"{dark} of them take"
        return f"{kept[:1].upper()}{kept[1:]}, but {takes} demand.{cut}{before}"
    worst = ready.losses[int(f["numbers"][bad[0]])]
    told = (
        f"{len(bad)} of {count} outages break limits. The worst is the loss of {worst.name}: {_text(ready, f, bad[0])}"
    )
    told += "" if told.endswith(".") else "."
    ways = [h for h in helped if h.number == int(f["numbers"][bad[0]])]
    if ways:
        told += (
            f" {ways[0].way.text[:1].upper()}{ways[0].way.text[1:]} {'cures it' if ways[0].cures else 'helps most'}."
        )
    return f"{told}{cut}{before}"


def _notes(ready: Ready, f: Figures, lacking: Lacking) -> list[str]:
    notes = []
    if (skipped := int((f["skipped"] > 0).sum())) > 0:
        notes.append(
            f"{skipped} outages were left out by linear factors, {ready.options.margin_pct:g} % and more below every limit."
        )
    for numbers, why in lacking:
        if why:
            names = ", ".join(ready.losses[i].name for i in list(numbers)[:3])
            notes.append(f"{len(numbers)} outages have no answer ({names} ...): {why}")
    waiting = sum(len(r) for r, why in lacking if not why)
    if waiting:
        notes.append(f"{waiting} outages are still to come.")
    return notes
