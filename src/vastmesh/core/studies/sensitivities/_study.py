from __future__ import annotations

import numpy as np
from pydantic import BaseModel, ConfigDict

from ...electrical.arrays import Floats
from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...flow.balanced import Linearisation
from ...network import Condition, Element, Network
from ...network.fields import reference
from ...results import Account, Column, Result, Table
from ...results.state import LiveLoadFlow


class SensitivityOptions(BaseModel):
    """Which bus power is injected at, and which branch is watched; either can be left out."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    bus: str | None = reference("Bus", "Bus at which a further MW or Mvar is injected", to="bus", default=None)
    branch: str | None = reference(
        "Branch", "Branch whose active power is watched at its from end", to="branch", default=None
    )


def run_sensitivities(network: Network, options: SensitivityOptions, condition: Condition | None = None) -> Result:
    """Sensitivities of the solution under a condition. Raises :class:`InvalidFields` for a bus or branch without any."""
    found = LiveLoadFlow(network).linearise(condition)
    if found is None:
        text = "The load flow has no solution here, so there is nothing to linearise. See its account first."
        return Result(Account(Ending.ITERATION_LIMIT, "Linearised", 0, explanation=text), {}, {}, [])
    notes = ["A small change at the present solution: sources take up the difference, machines within their limits hold "
             "their voltage, automatic taps and steps stay."]  # fmt: skip
    account = Account(Ending.CONVERGED, "Linearised at the solution", 1, notes=notes)
    tables = {t.name: t for t in (_buses(network, found, options), _branches(network, found, options))}
    return Result(account, tables, {}, [])


def _bus_row(network: Network, found: Linearisation, ident: str) -> int:
    arrays = found.reading.arrays
    network[ident]
    if ident not in arrays.bus_id or found.problem.pattern.row[arrays.bus_id.index(ident)] < 0:
        raise InvalidFields([FieldProblem(ident, "bus", ident, "choose a bus that has a supply")])
    return arrays.bus_id.index(ident)


def _branch_row(network: Network, found: Linearisation, ident: str) -> int:
    arrays = found.reading.arrays
    item = network[ident]
    rows = found.problem.pattern.live_branch
    ids = arrays.tables["branch"]["element"][rows].tolist()
    position = arrays.element_id.index(ident) if ident in arrays.element_id else -1
    if position not in ids or (isinstance(item, Element) and len(item.buses()) != 2):
        allowed = "choose a line, transformer, regulator or reactor that carries current"
        raise InvalidFields([FieldProblem(ident, "branch", ident, allowed)])
    return int(rows[ids.index(position)])


def _buses(network: Network, found: Linearisation, options: SensitivityOptions) -> Table:
    reading = found.reading
    arrays, base = reading.arrays, reading.arrays.base_mva
    outer = arrays.n_bus - arrays.n_inner
    ids = arrays.bus_id[:outer]
    loss_p, loss_q = found.loss_factors()
    columns = [
        Column("id", "Id", ids, fixed=True),
        Column("name", "Name", [network[b].name for b in ids], fixed=True),
        Column("loss_by_mw", "Losses by MW here", loss_p[:outer], "MW/MW", 4, "Further losses for 1 MW injected at this bus"),
        Column("loss_by_mvar", "Losses by Mvar here", loss_q[:outer], "MW/Mvar", 4,
               "Further losses for 1 Mvar injected at this bus"),
    ]  # fmt: skip
    if options.bus:
        by_p, by_q = found.by_injection(_bus_row(network, found, options.bus))
        for name, label, change in (("mw", "MW", by_p), ("mvar", "Mvar", by_q)):
            values = _magnitude(found, change)[:outer] / base * 100
            meaning = f"Change of the voltage here for 1 {label} injected at {network[options.bus].name}"
            columns.append(Column(f"voltage_by_{name}", f"Voltage by {label}", values, f"%/{label}", 4, meaning))
    if options.branch:
        flow_p, flow_q = found.flow_factors(_branch_row(network, found, options.branch))
        name = network[options.branch].name
        columns += [
            Column(
                "flow_by_mw",
                "Flow by MW here",
                flow_p[:outer],
                "MW/MW",
                4,
                f"Change of the flow in {name} for 1 MW here",
            ),
            Column(
                "flow_by_mvar",
                "Flow by Mvar here",
                flow_q[:outer],
                "MW/Mvar",
                4,
                "Change of it for 1 Mvar injected here",
            ),
        ]
    return Table("buses", "Buses", columns)


def _magnitude(found: Linearisation, change: np.ndarray) -> Floats:
    v = found.reading.v0
    live = np.abs(v) > 0
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(live, (np.conj(v) * change).real / np.abs(v), np.nan)


def _branches(network: Network, found: Linearisation, options: SensitivityOptions) -> Table:
    arrays = found.reading.arrays
    live = found.problem.pattern.live_branch
    ids = [arrays.element_id[e] for e in arrays.tables["branch"]["element"][live].tolist()]
    columns = [
        Column("id", "Id", ids, fixed=True),
        Column("name", "Name", [network[i].name for i in ids], fixed=True),
    ]
    if options.bus:
        by_p, by_q = found.by_injection(_bus_row(network, found, options.bus))
        for name, label, change in (("mw", "MW", by_p), ("mvar", "Mvar", by_q)):
            flow = found.flows(change)[live]
            columns.append(Column(f"flow_by_{name}", f"Flow by {label}", flow.real, f"MW/{label}", 4,
                                  f"Change of the flow for 1 {label} injected at {network[options.bus].name}"))  # fmt: skip
    return Table("branches", "Branches", columns)
