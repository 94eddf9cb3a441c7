"""What is outside its limits, and what is wrong with the model that a load flow can tell."""

from __future__ import annotations

import numpy as np

from ....electrical import SLACK, NetArrays, NodalPattern
from ....electrical.arrays import Floats, Ints
from ....flow.balanced import LEAST_RATIO, MOST_RATIO, REF, Problem, Solution, spread
from ....network import Item, Network, VoltageLimits, specs
from ....severity import Severity
from ... import Finding, Table
from ..._limits import MOST, find_sources, find_windings, loaded, loading_allowed, loading_watched, overload_words
from ..._rows import Rows


def find(network: Network, limit_set: str, rows: Rows, tables: dict[str, Table]) -> list[Finding]:
    """Findings of voltage and loading against a set of limits, the worst first."""
    found = [
        *_voltage(network, limit_set, rows, tables["buses"]),
        *_loading(network, limit_set, rows, tables["branches"]),
    ]
    found += find_sources(network, tables["injections"])
    if "windings" in tables:
        found += find_windings(network, limit_set, tables["windings"])
    found.sort(key=lambda f: (f.severity is Severity.WATCH, -f.excess))
    return found[:MOST]


def _voltage(network: Network, limit_set: str, rows: Rows, table: Table) -> list[Finding]:
    volts, nominal = table["voltage_pu"], table["nominal_kv"]
    done = np.zeros(len(volts), np.bool_)
    found: list[Finding] = []
    # Limits of single buses come first, then those of the set by nominal voltage.
    cases = [(v, rows.own_limits == k) for k, v in enumerate(network.of(VoltageLimits)) if np.any(rows.own_limits == k)]
    levels = network.voltage_limits(limit_set)
    cases += [(v, (nominal > v.above_kv) & (nominal <= v.up_to_kv)) for v in levels]
    for limits, where in cases:
        mine = ~done & where & np.isfinite(volts)
        done |= mine
        outside = np.flatnonzero(mine & ((volts < limits.low_watch_pu) | (volts > limits.high_watch_pu)))
        for i in outside:
            value = float(volts[i])
            below = value < limits.low_watch_pu
            hard = limits.low_breach_pu if below else limits.high_breach_pu
            soft = limits.low_watch_pu if below else limits.high_watch_pu
            breach = value < hard if below else value > hard
            limit = hard if breach else soft
            word = f"{'at least' if below else 'at most'} {limit:.3f} p.u. allowed"
            if not breach:
                word = f"watched {'below' if below else 'above'} {limit:.3f} p.u."
            found.append(
                Finding(
                    element=rows.bus_column[i], kind="bus", quantity="voltage_pu", value=value, unit="p.u.",
                    limit=limit, limit_name=limits.name, severity=Severity.BREACH if breach else Severity.WATCH,
                    direction="below" if below else "above", excess=abs(value - limit) / limit,
                    text=f"{value * nominal[i]:.4g} kV of {nominal[i]:g} kV; {word}",
                )
            )  # fmt: skip
    return found


_LOADING = {"normal": "Loading", "emergency": "Emergency loading", "short_time": "Short-time loading"}


def _loading(network: Network, limit_set: str, rows: Rows, table: Table) -> list[Finding]:
    settings, loading = network.settings, table["loading_pct"]
    i_from, i_to, p = table["from_current_a"], table["to_current_a"], table["from_active_power_mw"]
    found: list[Finding] = []
    for i in loaded(settings, rows, loading):
        value, item = float(loading[i]), network.items[rows.branch_ids[i]]
        highest, watched = (100 * f(settings, item, limit_set) for f in (loading_allowed, loading_watched))
        if value <= watched:
            continue
        breach = value > highest
        limit = highest if breach else watched
        beyond = overload_words(item, value) if limit_set == "normal" else ""
        name = _LOADING[limit_set]
        found.append(
            Finding(
                element=rows.branch_ids[i], kind=rows.branch_kinds[i], quantity="loading_pct", value=value, unit="%",
                limit=limit, limit_name=name, severity=Severity.BREACH if breach else Severity.WATCH,
                direction="above", excess=(value - limit) / 100,
                text=f"{max(i_from[i], i_to[i]):.4g} A, {abs(p[i]):.3g} MW; "
                + (f"at most {limit:.4g} % allowed" if breach else f"watched above {limit:.4g} %") + beyond,
            )
        )  # fmt: skip
    return found


def find_in_model(
    network: Network, arrays: NetArrays, problem: Problem, solution: Solution, rows: Rows
) -> list[Finding]:
    """Gaps, contradictions and lost supply: what the planner must know to trust the answer."""
    found = [
        _model(
            ident,
            network[ident].kind,
            Severity.BREACH,
            "missing",
            f"left out: {_labels(network[ident], blank)} missing",
        )
        for ident, blank in arrays.left_out.items()
    ]
    for ident, kind in arrays.unknown.items():
        what = type(network[ident]).label.lower()
        text = f"the balanced load flow does not know what a {what} does: it is left out"
        found.append(_model(ident, kind, Severity.BREACH, "kind", text))
    live = np.append(problem.pattern.row >= 0, False)[rows.bus_row]  # -1, not compiled, picks the last one
    in_service = [rows.bus_column[i] for i in np.flatnonzero(~live & rows.in_service)]
    if in_service:
        few = ", ".join(network[b].name for b in in_service[:3]) + (" ..." if len(in_service) > 3 else "")
        text = f"{len(in_service)} {'bus has' if len(in_service) == 1 else 'buses have'} no supply: {few}"
        machine = arrays.tables["injection"]
        dead = np.flatnonzero(problem.pattern.row[machine["bus"]] < 0)
        if len(dead):
            names = ", ".join(network[arrays.element_id[e]].name for e in machine["element"][dead[:3]].tolist())
            text += (f"; {names}{' ...' if len(dead) > 3 else ''} {'stands' if len(dead) == 1 else 'stand'} there, but without "
                     "a source nothing sets voltage and frequency")  # fmt: skip
        found.append(_model(in_service[0], "bus", Severity.WATCH, "supply", text))
    found += _clashes(network, arrays, problem, solution)
    found += _opposed_sources(network, arrays, problem, solution)
    found += _contradicting_loops(network, arrays, problem)
    found += _ill_fitting(network, arrays, problem)
    found += _unequal_switches(network, arrays)
    return found


def _labels(item: Item, fields: tuple[str, ...]) -> str:
    known = specs(type(item))
    return ", ".join(known[f].label.lower() for f in fields)


def _model(element: str, kind: str, severity: Severity, quantity: str, text: str) -> Finding:
    return Finding(
        element=element, kind=kind, quantity=quantity, value=None, unit=None, limit=None, limit_name="Model",
        severity=severity, direction="", excess=0.0, text=text,
    )  # fmt: skip


def _clashes(network: Network, arrays: NetArrays, problem: Problem, solution: Solution) -> list[Finding]:
    clash = solution.targets.clash
    if not np.any(clash):
        return []
    machine = arrays.tables["injection"]
    at = problem.row_of(machine["bus"])
    found = []
    for node in np.flatnonzero(clash):
        mine = np.flatnonzero((at == node) & (machine["control"] != 0))
        mine = mine[np.argsort(machine["control"][mine] != SLACK, kind="stable")]
        first, *others = (arrays.element_id[machine["element"][m]] for m in mine)
        held, angle = float(machine["voltage"][mine[0]]), float(machine["angle"][mine[0]])
        for k, other in zip(mine[1:], others, strict=True):
            wants = []
            if abs(machine["voltage"][k] - held) > 1e-9:
                wants.append(("another voltage", f"{held:.4g} p.u. is held"))
            if machine["control"][k] == SLACK and abs(machine["angle"][k] - angle) > 1e-9:
                wants.append(("another angle", f"{np.degrees(angle):.4g}° is held"))
            if wants:
                text = f"wants {' and '.join(w for w, _ in wants)} than {network[first].name} on the same node; " + ", ".join(
                    h for _, h in wants)  # fmt: skip
                found.append(_model(other, network[other].kind, Severity.WATCH, "set_point", text))
    return found


def _carry(pattern: NodalPattern, along: Floats, kind: Ints, potential: Floats) -> None:
    """Carry potentials from the nodes of kind ``REF`` to all others; ``along`` (live branches,): what each takes off."""
    lead, count = np.zeros(len(pattern.indices)), len(along)
    lead[pattern.slots[count : 2 * count]] = along
    lead[pattern.slots[2 * count : 3 * count]] = -along
    spread(pattern.indptr, pattern.indices, lead, np.ones(len(lead)), kind, potential, np.ones(pattern.n))


_APART_DEG = 45.0  # between the angle of a source and what another source of its island gives there at no load


def _opposed_sources(network: Network, arrays: NetArrays, problem: Problem, solution: Solution) -> list[Finding]:
    """Sources far from the angle that the rest of their island has at no load: vector groups or angles are wrong."""
    machine = arrays.tables["injection"]
    at = problem.row_of(machine["bus"])
    sources = np.flatnonzero((at >= 0) & (machine["control"] == SLACK))
    island = problem.topology.island[machine["bus"][sources]]
    _, first = np.unique(island, return_index=True)
    if len(first) == len(sources):
        return []
    pattern, leading = problem.pattern, sources[first]
    kind, angle = np.zeros(pattern.n, np.int64), np.zeros(pattern.n)
    kind[at[leading]], angle[at[leading]] = REF, machine["angle"][leading]
    _carry(pattern, arrays.tables["branch"]["shift"][pattern.live_branch], kind, angle)
    found = []
    for k in sources.tolist():
        off = np.degrees(np.angle(np.exp(1j * (machine["angle"][k] - angle[at[k]]))))
        if abs(off) > _APART_DEG:
            ident = arrays.element_id[machine["element"][k]]
            other = next(m for m in leading.tolist() if problem.topology.island[machine["bus"][m]]
                         == problem.topology.island[machine["bus"][k]])  # fmt: skip
            text = (f"stands {off:.4g}° from where {network[arrays.element_id[machine['element'][other]]].name} puts its bus "
                    "without load: check its angle and the vector groups between them")  # fmt: skip
            found.append(_model(ident, network[ident].kind, Severity.BREACH, "set_point", text))
    return found


def _ill_fitting(network: Network, arrays: NetArrays, problem: Problem) -> list[Finding]:
    """Nominal voltages that don't go with the ratio of a branch; of a bus where none of several branches fits."""
    branch, live = arrays.tables["branch"], problem.pattern.live_branch
    ratio = branch["ratio_from"][live] / branch["ratio_to"][live]
    off = (ratio < LEAST_RATIO) | (ratio > MOST_RATIO)
    if not np.any(off):
        return []
    frm, to, n = branch["from"][live], branch["to"][live], arrays.n_bus
    every = np.bincount(np.r_[frm, to], minlength=n)
    misfits = np.bincount(np.r_[frm[off], to[off]], minlength=n)
    wrong = np.flatnonzero((misfits == every) & (every > 1))
    found = []
    for i in wrong.tolist():
        text = (f"its nominal voltage of {arrays.bus_kv[i]:g} kV goes with none of the {every[i]} branches that meet here: "
                "mistyped?")  # fmt: skip
        found.append(_model(arrays.bus_id[i], network[arrays.bus_id[i]].kind, Severity.BREACH, "nominal_kv", text))
    told = np.isin(frm, wrong) | np.isin(to, wrong)
    for k in np.flatnonzero(off & ~told).tolist():
        ident = arrays.element_id[branch["element"][live[k]]]
        kv = " and ".join(f"{arrays.bus_kv[i]:g}" for i in (frm[k], to[k]))
        text = (f"joins nominal voltages of {kv} kV, which don't go with its ratio: behind it the voltage is "
                f"{1 / ratio[k]:.3g} times what it should be")  # fmt: skip
        found.append(_model(ident, network[ident].kind, Severity.BREACH, "nominal_kv", text))
    return found


def _contradicting_loops(network: Network, arrays: NetArrays, problem: Problem) -> list[Finding]:
    """Branches that close a loop whose ratios or vector groups do not come out even.

    Potentials of log ratio and phase shift are spread over a spanning forest; a branch that disagrees
    with them by more than 10 % or 1° drives a circulating current that is a data error more often than not.
    """
    branch, live = arrays.tables["branch"], problem.pattern.live_branch
    shift, ratio = branch["shift"][live], np.log(branch["ratio_from"][live] / branch["ratio_to"][live])
    special = (np.abs(shift) > 1e-9) | (np.abs(ratio) > 1e-9)
    if not np.any(special):
        return []
    pattern = problem.pattern
    reference = np.zeros(pattern.n, np.int64)
    _, first = np.unique(problem.topology.island[problem.topology.live], return_index=True)
    reference[pattern.row[np.flatnonzero(problem.topology.live)[first]]] = REF
    f, t = pattern.row[branch["from"][live]], pattern.row[branch["to"][live]]
    found = []
    for values, allowed, word in ((shift, np.radians(1.0), "phase shift"), (ratio, 0.1, "ratio")):
        potential = np.zeros(pattern.n)
        _carry(pattern, values, reference, potential)
        gap = potential[f] - potential[t] - values
        if word == "phase shift":
            gap = np.angle(np.exp(1j * gap))
        for k in np.flatnonzero(np.abs(gap) > allowed):
            ident = arrays.element_id[branch["element"][live[k]]]
            size = f"{np.degrees(gap[k]):.3g}°" if word == "phase shift" else f"{100 * (np.exp(abs(gap[k])) - 1):.3g} %"
            text = f"closes a loop whose {word} does not come out even by {size}: check vector groups, ratios and taps"
            found.append(_model(ident, network[ident].kind, Severity.BREACH, "loop", text))
    return found


def _unequal_switches(network: Network, arrays: NetArrays) -> list[Finding]:
    switch = arrays.tables["switch"]
    unequal = switch["closed"] & ~np.isclose(arrays.bus_kv[switch["from"]], arrays.bus_kv[switch["to"]], rtol=1e-3)
    return [
        _model(
            arrays.element_id[switch["element"][k]], "switch", Severity.BREACH, "nominal_kv",
            "joins buses of different nominal voltage; taken as open",
        )
        for k in np.flatnonzero(unequal)
    ]  # fmt: skip
