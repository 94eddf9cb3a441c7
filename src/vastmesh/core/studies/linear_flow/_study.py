from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict

from ...electrical import SLACK, NetArrays, NodalPattern, SparseLU, nodal_pattern, trace
from ...electrical.arrays import Bools, Columns, Floats, Ints
from ...errors import SingularMatrix
from ...flow import Ending
from ...flow.balanced import Reading
from ...network import Condition, Network
from ...network.fields import choice
from ...results import Account, Column, Result, Table
from ...results.state import LiveLoadFlow

_SMALL_X = 1e-7  # p.u.; below it a branch counts with its whole impedance


class LinearFlowOptions(BaseModel):
    """What the linear load flow assumes beyond 1 p.u. everywhere and small angles."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    losses: Literal["none", "from_ac"] = choice(
        "Losses", "None: generation equals demand. From the AC solution: each branch's losses at the present AC voltages are "
        "added as demand at one of its ends", default="from_ac",
    )  # fmt: skip
    losses_at: Literal["sending", "receiving"] = choice(
        "Losses at", "The end at which a branch's losses are added: they flow through what lies before it, or also through the "
        "branch itself", default="sending", when={"losses": ("from_ac",)},
    )  # fmt: skip
    susceptance: Literal["x", "r_and_x"] = choice(
        "Susceptance", "Of a branch: from its reactance alone, 1 / x, or from resistance too, x / (r² + x²), which is less where "
        "resistance is not small", default="x",
    )  # fmt: skip


@dataclass(frozen=True)
class Variant:
    """One solution: angles of the nodes, rad (n,), and flows into branches at both ends, p.u. (n_branch,)."""

    theta: Floats
    p_from: Floats
    p_to: Floats
    generation: float
    demand: float


class LinearEquations:
    """B θ = P on the nodes of the live part; the sources' angles are given.

    Flow into a branch at its from end: b (θ_from - θ_to - shift), b = 1 / (x a c) or x / ((r² + x²) a c) with the ratios a
    and c of both ends. Shunt conductance draws what it does at 1 p.u.
    Source: Stott, Jardim, Alsaç, "DC power flow revisited", IEEE Trans. PWRS-24, 2009.
    """

    def __init__(self, arrays: NetArrays, susceptance: Literal["x", "r_and_x"] = "x") -> None:
        self.arrays = arrays
        self.pattern: NodalPattern = nodal_pattern(arrays, trace(arrays))
        branch, pattern = arrays.tables["branch"], self.pattern
        self.live: Ints = pattern.live_branch
        r, x = branch["r"][self.live], branch["x"][self.live]
        whole = x if susceptance == "x" else (r * r + x * x) / np.where(x == 0, 1.0, x)
        size = np.where(np.abs(x) > _SMALL_X, whole, np.hypot(r, x))
        self.b = 1 / (size * branch["ratio_from"][self.live] * branch["ratio_to"][self.live])
        self.shift = branch["shift"][self.live]
        self.frm, self.to = pattern.row[branch["from"][self.live]], pattern.row[branch["to"][self.live]]
        machine = arrays.tables["injection"]
        at = pattern.row[machine["bus"]]
        held = (machine["control"] == SLACK) & (at >= 0)
        self.reference: Bools = np.zeros(pattern.n, np.bool_)
        self.reference[at[held]] = True
        self.angle = np.zeros(pattern.n)
        self.angle[at[held][::-1]] = machine["angle"][held][::-1]
        b, nnz = self.b, len(pattern.indices)
        self.values = np.bincount(pattern.slots[: 4 * len(b)], np.concatenate([b, -b, -b, b]), nnz).astype(np.float64)

    def solve(self, extra_from: Floats, extra_to: Floats) -> Variant:
        """Solve with further demand at the ends of branches, p.u. (n_live,). Raises :class:`SingularMatrix`."""
        n, pattern = self.pattern.n, self.pattern
        machine, load = self.arrays.tables["injection"], self.arrays.tables["load"]
        given = machine["control"] != SLACK
        injected = self._at_nodes(machine["bus"][given], machine["p"][given]) - self._at_nodes(load["bus"], load["p"])
        shunt = self.arrays.tables["shunt"]
        injected = injected - self._at_nodes(shunt["bus"], shunt["y"].real)
        demand = sum(
            float(x[pattern.row[t["bus"]] >= 0].sum()) for t, x in ((load, load["p"]), (shunt, shunt["y"].real))
        )
        turned = np.bincount(self.frm, self.b * self.shift, n) - np.bincount(self.to, self.b * self.shift, n)
        more = np.bincount(self.frm, extra_from, n) + np.bincount(self.to, extra_to, n)
        rhs = injected - more + turned
        # The sources' angles are known: their columns go to the other side, their rows say what they are.
        column = np.repeat(np.arange(n), np.diff(pattern.indptr))
        known = self.reference[column]
        rhs -= np.bincount(pattern.indices[known], self.values[known] * self.angle[column[known]], n)
        values = self.values.copy()
        values[known | self.reference[pattern.indices]] = 0.0
        values[pattern.diagonal[self.reference]] = 1.0
        rhs[self.reference] = self.angle[self.reference]
        with SparseLU(pattern.indptr, pattern.indices, in_order=True) as lu:
            lu.factorise(values)
            theta = lu.solve(rhs)
        flow = self.b * (theta[self.frm] - theta[self.to] - self.shift)
        p_from, p_to = flow + extra_from, -flow + extra_to
        out = np.bincount(self.frm, p_from, n) + np.bincount(self.to, p_to, n)
        generation = float((out - injected)[self.reference].sum())
        live = pattern.row[machine["bus"]] >= 0
        return Variant(theta, p_from, p_to, generation + float(machine["p"][given & live].sum()), demand)

    def _at_nodes(self, bus: Ints, values: Floats) -> Floats:
        at = self.pattern.row[bus]
        return np.asarray(np.bincount(at[at >= 0], values[at >= 0], self.pattern.n))


def run_linear_flow(
    network: Network, options: LinearFlowOptions | None = None, condition: Condition | None = None
) -> Result:
    """Solve the linear load flow of a network under a condition, with the AC result beside it where there is one."""
    options = options or LinearFlowOptions()
    found = LiveLoadFlow(network).linearise(condition)
    arrays = found.reading.arrays if found else _arrays(network, condition)
    equations = LinearEquations(arrays, options.susceptance)
    if not equations.pattern.n:
        text = "No island has a source in service, so nothing is live. Add a source, or close the switch that leads to one."
        return _failed(Ending.NOTHING_TO_SOLVE, text)
    none = np.zeros(len(equations.live))
    try:
        lossless = equations.solve(none, none)
        lossy = _with_losses(equations, found.reading, options) if found and options.losses == "from_ac" else None
    except SingularMatrix as error:
        return _failed(Ending.SINGULAR, f"The linear equations have no solution: {error}. Look for branches whose reactances "
                       "cancel each other.")  # fmt: skip
    return _published(network, equations, lossless, lossy, found.reading if found else None, options)


def _arrays(network: Network, condition: Condition | None) -> NetArrays:
    from ...electrical import apply_condition, compile_network

    condition = condition or network.condition
    return apply_condition(compile_network(network.under(condition)), condition)


def _with_losses(equations: LinearEquations, reading: Reading, options: LinearFlowOptions) -> Variant:
    base = reading.arrays.base_mva
    p_from, p_to = (p.real[equations.live] / base for p in reading.branch_power)
    loss = p_from + p_to
    sends = (p_from >= p_to) == (options.losses_at == "sending")
    return equations.solve(np.where(sends, loss, 0.0), np.where(sends, 0.0, loss))


def _failed(ending: Ending, text: str) -> Result:
    account = Account(ending=ending, method="Linear, lossless", iterations=0, explanation=text)
    return Result(account, {}, {}, [], text)


def _published(
    network: Network, eq: LinearEquations, lossless: Variant, lossy: Variant | None, ac: Reading | None,
    options: LinearFlowOptions,
) -> Result:  # fmt: skip
    a, base = eq.arrays, eq.arrays.base_mva
    chosen = lossy or lossless
    loss = float((chosen.p_from + chosen.p_to).sum())
    gap = (chosen.generation - chosen.demand) * base
    if lossy:
        text = (f"Branch losses at the present AC voltages, {loss * base:.4g} MW, are added as demand at each "
                f"{options.losses_at} end: "
                f"generation exceeds demand by {gap:.4g} MW, the sum of these losses.")  # fmt: skip
    elif options.losses == "from_ac":
        text = "There is no AC solution to take losses from: without losses, so generation equals demand."
    else:
        text = f"Without losses: generation equals demand ({chosen.demand * base:.4g} MW)."
    of = "resistances as zero" if options.susceptance == "x" else "susceptances as x / (r² + x²)"
    text += f" Voltages count as 1 p.u., {of}, demand at its nominal power, shunt conductance as demand."
    summary: dict[str, float | None] = {
        "generation_mw": chosen.generation * base, "demand_mw": chosen.demand * base, "active_loss_mw": loss * base,
        "difference_mw": gap,
    }  # fmt: skip
    account = Account(Ending.CONVERGED, "Linear, with losses of the AC solution" if lossy else "Linear, lossless", 1,
                      notes=[text])  # fmt: skip
    tables = {
        t.name: t for t in (_branches(network, eq, lossless, lossy, ac), _buses(network, eq, chosen, lossless, ac))
    }
    assert a.n_bus >= len(tables["buses"])
    return Result(account, tables, summary, [], text)


def _branches(
    network: Network, eq: LinearEquations, lossless: Variant, lossy: Variant | None, ac: Reading | None
) -> Table:
    a, base = eq.arrays, eq.arrays.base_mva
    branch: Columns = a.tables["branch"]
    ids = [a.element_id[e] for e in branch["element"][eq.live].tolist()]
    items = [network[i] for i in ids]
    blank = np.full(len(ids), np.nan)
    ac_from, ac_to = (p.real[eq.live] for p in ac.branch_power) if ac else (blank, blank)
    with_from, with_to = (lossy.p_from * base, lossy.p_to * base) if lossy else (blank, blank)
    plain = lossless.p_from * base
    best = with_from if lossy else plain
    return Table(
        "branches", "Branches",
        [
            Column("id", "Id", ids, fixed=True),
            Column("name", "Name", [i.name for i in items], fixed=True),
            Column("kind", "Kind", [i.kind for i in items], fixed=True),
            Column("lossless_mw", "P, lossless", plain, "MW", 3, "Into the branch at its from end; the same leaves it"),
            Column("from_mw", "P from, with losses", with_from, "MW", 3, "Into the branch at its from end"),
            Column("to_mw", "P to, with losses", with_to, "MW", 3, "Into the branch at its to end"),
            Column("loss_mw", "Loss taken", with_from + with_to, "MW", 4, "Of the AC solution"),
            Column("ac_from_mw", "P from, AC", ac_from, "MW", 3),
            Column("ac_to_mw", "P to, AC", ac_to, "MW", 3),
            Column("difference_mw", "Linear less AC", best - ac_from, "MW", 3, "At the from end"),
        ],
    )  # fmt: skip


def _buses(network: Network, eq: LinearEquations, chosen: Variant, lossless: Variant, ac: Reading | None) -> Table:
    a = eq.arrays
    outer = a.n_bus - a.n_inner
    row = eq.pattern.row[:outer]

    def angle(v: Variant) -> Floats:
        found = np.where(row >= 0, v.theta[row], np.nan)
        return np.asarray(np.degrees(np.angle(np.exp(1j * found))))

    ac_angle = np.degrees(np.angle(ac.v[:outer])) if ac else np.full(outer, np.nan)
    return Table(
        "buses", "Buses",
        [
            Column("id", "Id", a.bus_id[:outer], fixed=True),
            Column("name", "Name", [network[b].name for b in a.bus_id[:outer]], fixed=True),
            Column("angle_deg", "Angle", angle(chosen), "°", 3),
            Column("lossless_angle_deg", "Angle, lossless", angle(lossless), "°", 3),
            Column("ac_angle_deg", "Angle, AC", np.where(row >= 0, ac_angle, np.nan), "°", 3),
        ],
    )  # fmt: skip
