"""Initial symmetrical short-circuit current of a three-phase fault.

IEC 60909-0:2016, the equivalent voltage source c·Un/√3 at the fault: I" = c·Un / (√3 |Z|). Sources by their highest
fault level, machines by their sub-transient reactance, motors by their starting current; shunts and static demand are
left out; impedance correction factors are taken as 1.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.sparse import csc_array
from scipy.sparse.linalg import splu

from ..catalogue import source_impedance_ohm
from ..network import Bus, Generator, InductionMotor, LumpedLoad, Network, Source, SynchronousMotor
from .admittance import nodal_pattern, nodal_values, two_ports
from .arrays import NetArrays
from .compile import compile_network
from .topology import trace

_C_MAX = {"low": 1.05, "other": 1.1}  # IEC 60909-0, table 1


def fault_current_ka(network: Network, buses: Sequence[str]) -> dict[str, float]:
    """Current of a three-phase fault at each live bus asked for, kA; buses without supply are left out."""
    arrays = compile_network(network)
    topology = trace(arrays)
    pattern = nodal_pattern(arrays, topology)
    if not pattern.n:
        return {}
    bare = {**arrays.tables["shunt"], "y": np.zeros_like(arrays.tables["shunt"]["y"])}
    branch = arrays.tables["branch"]
    without = {
        **branch,
        "shunt_from": np.zeros_like(branch["shunt_from"]),
        "shunt_to": np.zeros_like(branch["shunt_to"]),
    }
    values = nodal_values(pattern, two_ports(without), bare)
    row = dict(zip(arrays.bus_id, pattern.row.tolist(), strict=True))
    for bus, y in _feeding(network, arrays):
        if (at := row.get(bus, -1)) >= 0:
            values[pattern.diagonal[at]] += y
    wanted = [b for b in dict.fromkeys(buses) if row.get(b, -1) >= 0]
    if not wanted:
        return {}
    lu = splu(csc_array((values, pattern.indices, pattern.indptr), shape=(pattern.n, pattern.n)))
    kv = dict(zip(arrays.bus_id, arrays.bus_kv.tolist(), strict=True))
    found, unit = {}, np.zeros(pattern.n, np.complex128)
    for bus in wanted:
        unit[:] = 0
        unit[row[bus]] = 1
        z = abs(lu.solve(unit)[row[bus]])
        c = _C_MAX["low" if kv[bus] <= 1 else "other"]
        found[bus] = c * arrays.base_mva / z / (np.sqrt(3) * kv[bus])
    return found


def _feeding(network: Network, arrays: NetArrays) -> list[tuple[str, complex]]:
    """Bus and admittance, per unit, of everything that feeds a fault."""
    base, found = arrays.base_mva, []
    for e in network.elements():
        if not e.in_service or not e.buses() or e.missing():
            continue
        bus = network.items.get(e.buses()[0])
        kv = bus.nominal_kv if isinstance(bus, Bus) and bus.nominal_kv else None
        if kv is None or not isinstance(bus, Bus):
            continue
        z: complex | None = None
        if isinstance(e, Source):
            c = _C_MAX["low" if kv <= 1 else "other"]
            z = c * source_impedance_ohm(e.fault_max_mva, e.x_over_r, kv) / kv**2 * base
        elif isinstance(e, Generator) and e.rated_mva:
            z = complex(0, e.xd_pct / 100) * base / e.rated_mva
        elif isinstance(e, InductionMotor):
            z = complex(0.1, 1) / abs(complex(0.1, 1)) / e.starting_current_x * base / e.rated_input_mva(e.power_factor)
        elif isinstance(e, SynchronousMotor):
            z = complex(0, e.xd_pct / 100) * base / e.rated_input_mva(e.power_factor or 1.0)
        elif isinstance(e, LumpedLoad) and e.motor_pct:
            size = abs(e.power_mva()) * e.motor_pct / 100
            z = complex(0.3, 1) / abs(complex(0.3, 1)) / e.motor_starting_x * base / size if size else None
        if z is not None:
            found.append((bus.id, 1 / z))
    return found
