"""Every study in parts as one process works on it: run by :mod:`tests.test_hash_seeds` under several hash seeds."""

from __future__ import annotations

import pickle
import sys
from typing import Any

from tests.helpers import Item, bus, line, load, network, source, switch
from vastmesh.core.network import Network
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.failures import events

OPTIONS: dict[str, dict[str, Any]] = {
    "adequacy": {"supply_mw": 6.0, "step_mw": 1.0},
    "balancing": {"feeder": "r0", "method": "genetic", "searches": 2, "most_changes": 1},
    "best_plan": {"years": 1, "conditions": "present", "method": "exact"},
    "board": {"of": "schemes", "years": 1, "outages": True, "conditions": "present"},
    "failure_years": {"years": 40, "transfers": "unlimited"},
    "headroom": {"from_kv": 10.0},
    "limit_table": {"outages": "none", "most_mw": 5.0},
    "outages": {"help": "worst", "tried": 2},
    "proposals": {"most": 3},
    "reliability": {"overlap_from_kv": 10.0, "transfers": "unlimited", "fails_pct": 10.0},
    "scan": {"bus": "A 1", "to_hz": 350.0},
    "sweep": {"start": 0.5, "stop": 1.0, "steps": 3},
    "transfer": {"to": "bus", "to_bus": "A 2"},
}


def small_town() -> Network:
    """Three feeders from one busbar, each with two laterals behind switches and fuses, and ties between their ends."""
    items: list[Item] = [bus("Town"), source("Town", fault_max_mva=300.0, fault_min_mva=200.0)]
    for n, name in enumerate("ABC"):
        before = "Town"
        for k in range(4):
            here = f"{name} {k}"
            items.append(bus(here))
            items.append(line(before, here, id=f"r{n}" if k == 0 else f"{before}-{here}", length_km=0.4 + 0.1 * k + 0.07 * n,
                              rating_a=260.0, from_gear="recloser" if k == 0 else "remote" if k == 2 else "disconnector",
                              failure_rate=20.0))  # fmt: skip
            items.append(load(here, 0.4 + 0.1 * n, 0.1, customers=40 + 7 * k + n, spectrum="LED lighting"))
            if k in (1, 3):
                side = f"{name} {k} side"
                items += [
                    bus(side),
                    line(here, side, length_km=0.5, from_gear="fuse", temporary_rate=30.0),
                    load(side, 0.1, customers=9),
                ]
            before = here
    items += [load(f"A {k}", 0.05, id=f"Kiosk {k}", conductors="AB", connection="delta") for k in range(3)]
    items += [switch("A 3", "B 3", closed=False), switch("B 2", "C 3", closed=False, operated="remote")]
    added = {"op": "add", "item": line("A 1 side", "B 1 side", length_km=0.3)}
    items.append(
        {"kind": "scheme", "id": "Second way", "cost_k": 40.0, "changes": [{"change": added, "label": "line"}]}
    )
    return network(*items)


def worked_on() -> dict[str, Any]:
    """Of every study in parts: its parts, and an answer to each."""
    events._CHUNK = 3  # several parts where there would be one
    inputs, found = Inputs(small_town()), {}
    for name, study in STUDIES.items():
        if study.split is not None:
            options = study.options(**OPTIONS.get(name, {}))
            parts = list(study.split.plan(inputs, options))
            ready = study.split.prepare(inputs, options)
            found[name] = parts, [study.split.answer(ready, p, lambda *_: None) for p in parts]
    return found


if __name__ == "__main__":
    sys.stdout.buffer.write(pickle.dumps(worked_on()))
