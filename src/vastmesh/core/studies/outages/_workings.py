"""The flow of a branch after its worst outage, by distribution factors beside the AC load flow."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ...network import Condition, Network
from ...options import options_of
from ...results import Result
from ...workings import Ledger, Working
from ..base import Inputs
from ._options import OutagesOptions
from ._ready import Ready
from ._screen import Screen


def explain(
    network: Network, result: Result, condition: Condition, ident: str, options: Mapping[str, Any]
) -> list[Working]:
    """Workings of a branch that stands in the table of branches; none where its worst outage is not the loss of one branch."""
    table = result.tables.get("branches")
    if table is None or ident not in list(table["id"]) or network[ident].kind == "switch":
        return []
    name = table["by"][list(table["id"]).index(ident)]
    given = options_of(OutagesOptions, options).model_copy(update={"screen": "none", "help": "none"})
    ready = Ready(Inputs(network, condition), given)
    loss = next((x for x in ready.losses if x.name == name), None)
    if loss is None or len(loss.members) != 1 or loss.members[0] not in ready.judge.branch_ids:
        return []
    factors = Screen(ready)
    found = factors.shares(ident, loss.members[0])
    after = ready.without(loss.stage).lose(loss.members)
    if found is None or not after.solved:
        return []
    share, own, p, p_lost, row = found
    branch, base = ready.arrays.tables["branch"], ready.arrays.base_mva
    v = np.where(np.isfinite(after.v.real), after.v, 0)
    f, t = branch["from"][row], branch["to"][row]
    into = complex(v[f] * np.conj(after.ports.ff[row] * v[f] + after.ports.ft[row] * v[t])) * base
    told = Ledger(
        f"After the loss of {loss.name}",
        "Active power, linear: what the lost branch carried spreads over the ways that are left, in proportion to what they take "
        "of a power sent between its ends. Resistance, charging, reactive power and voltages are left out; that makes the "
        "difference from the AC load flow.",
    )
    told.given("P", "active power here before it", p * base, "MW", "load flow")
    told.given("Pk", f"active power of {loss.name} before it", p_lost * base, "MW", "load flow")
    told.given("s", "of 1 MW sent between the ends of the lost branch this one takes", share, "", "series reactances")
    told.given("sk", "of the same the lost branch itself takes", own, "", "series reactances")
    told.line("d", "distribution factor", "s / (1 - sk)", "", "what this one takes over of each MW lost there")
    told.line("Pa", "active power after it", "P + d * Pk", "MW", solver=into.real)
    told.given("Pac", "the same by the AC load flow", into.real, "MW", "this study")
    told.line("D", "difference", "Pac - Pa", "MW")
    told.given("Q", "reactive power here after it", into.imag, "Mvar", "this study")
    told.line("S", "apparent power after it", "sqrt(Pac**2 + Q**2)", "MVA")
    told.given("V", "voltage here after it", float(abs(v[f]) * ready.arrays.bus_kv[f]), "kV", "this study")
    told.line("I", "current after it", "1000 * S / (sqrt(3) * V)", "A")
    limit = ready.limits[loss.limit_set].most_from[row] * ready.amps[f]
    if np.isfinite(limit):
        told.given("Im", "current allowed after it", float(limit), "A", f"{loss.limit_set} limits")
        told.line("x", "loading at this end", "100 * I / Im", "%")
    return [told.working()]
