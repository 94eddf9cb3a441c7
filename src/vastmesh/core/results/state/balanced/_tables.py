"""From solved voltages to tables: rows to ids, per unit to MW, kV and A."""

from __future__ import annotations

import numpy as np

from ....electrical import NetArrays
from ....flow.balanced import Ends, Reading, ends_by_element
from ... import Column, Table
from ..._rows import AMP, DEG, KV, MVAR, MW, PCT, PU, Rows, angle_deg, area_table, picked, power_factor, state_words


def build_tables(
    rows: Rows, reading: Reading, arrays: NetArrays, positions: dict[int, float] | None = None
) -> dict[str, Table]:
    """Bus, branch, injection, totals and area tables. Dead or left-out elements have blanks for figures.

    ``positions``: tap or steps that an automatic control found, by position in ``element_id``.
    """
    ends = ends_by_element(reading)
    buses = _bus_table(rows, reading)
    branches = _branch_table(rows, ends, positions or {})
    injections = _injection_table(rows, reading, arrays)
    generation, demand = picked(reading.bus_generation, rows.bus_row, 0), picked(reading.bus_demand, rows.bus_row, 0)
    loss = np.nan_to_num(picked((ends.s_from + ends.s_to).real, rows.branch_element, 0))
    areas = area_table(rows, generation, demand, loss)
    found = [buses, branches, injections, areas]
    if rows.winding_units:
        found.insert(2, _winding_table(rows, reading, arrays))
    return {t.name: t for t in found}


def _bus_table(rows: Rows, reading: Reading) -> Table:
    v = picked(reading.v, rows.bus_row)
    kv = rows.bus_kv
    live = picked(reading.live, rows.bus_row, False).astype(bool)
    generation, demand = picked(reading.bus_generation, rows.bus_row), picked(reading.bus_demand, rows.bus_row)
    mismatch = np.where(live, np.abs(picked(reading.bus_mismatch, rows.bus_row)), np.nan)
    return Table(
        "buses", "Buses",
        [
            Column("id", "Id", rows.bus_column, fixed=True),
            Column("name", "Name", rows.bus_names, fixed=True),
            Column("nominal_kv", "Nominal", kv, KV, 1, fixed=True),
            Column("area", "Area", rows.areas, fixed=True),
            Column("voltage_pu", "Voltage", np.abs(v), PU, 4, "Magnitude, per unit of the nominal voltage"),
            Column("voltage_kv", "Voltage", np.abs(v) * kv, KV, 2, "Line-to-line magnitude"),
            Column("angle_deg", "Angle", angle_deg(v), DEG, 2, "Against the reference, vector groups included"),
            Column("generation_mw", "Generation", generation.real, MW, 3),
            Column("generation_mvar", "Generation", generation.imag, MVAR, 3),
            Column("demand_mw", "Demand", demand.real, MW, 3, "At the voltage found"),
            Column("demand_mvar", "Demand", demand.imag, MVAR, 3, "At the voltage found"),
            Column("mismatch_mva", "Mismatch", mismatch, "MVA", 9, "What is left when all flows are added up"),
            Column("state", "State", state_words(live)),
            Column("role", "Role", _roles(reading, rows), None, None, "Slack, voltage held, or held until the limit"),
        ],
    )  # fmt: skip


def _roles(reading: Reading, rows: Rows) -> list[str]:
    """What holds the voltage of each bus: a source, a machine, or a machine that is at its limit."""
    kind = np.append(reading.roles, 0)[reading.problem.pattern.row]
    words = ("", "voltage", "slack", "at limit")
    return [words[k] for k in picked(kind, rows.bus_row, 0).astype(np.int64).tolist()]


def _branch_table(rows: Rows, ends: Ends, positions: dict[int, float]) -> Table:
    at = rows.branch_element
    tap = rows.tap_entered.copy()
    if positions:
        found = np.array([positions.get(e, np.nan) for e in at.tolist()], np.float64)
        tap = np.where(np.isfinite(found), found, tap)
    s_from, s_to = picked(ends.s_from, at), picked(ends.s_to, at)
    carries = picked(ends.carries, at, False).astype(bool)
    loss = np.where(carries & rows.is_switch, 0, s_from + s_to)
    return Table(
        "branches", "Branches",
        [
            Column("id", "Id", rows.branch_ids, fixed=True),
            Column("name", "Name", rows.branch_names, fixed=True),
            Column("kind", "Kind", rows.branch_kinds, fixed=True),
            Column("from_bus", "From", rows.branch_from, fixed=True),
            Column("to_bus", "To", rows.branch_to, fixed=True),
            Column("loading_pct", "Loading", picked(ends.loading, at), PCT, 1, "Larger current of both ends over rating"),
            Column("from_active_power_mw", "P from", s_from.real, MW, 3, "Into the branch at its from (HV) end"),
            Column("from_reactive_power_mvar", "Q from", s_from.imag, MVAR, 3, "Into the branch at its from (HV) end"),
            Column("to_active_power_mw", "P to", s_to.real, MW, 3, "Into the branch at its to (LV) end"),
            Column("to_reactive_power_mvar", "Q to", s_to.imag, MVAR, 3, "Into the branch at its to (LV) end"),
            Column("from_current_a", "I from", picked(ends.i_from, at), AMP, 1),
            Column("to_current_a", "I to", picked(ends.i_to, at), AMP, 1),
            Column("from_power_factor", "cos φ from", power_factor(s_from), None, 3),
            Column("to_power_factor", "cos φ to", power_factor(s_to), None, 3),
            Column("active_loss_mw", "Loss", loss.real, MW, 4),
            Column("reactive_loss_mvar", "Loss", loss.imag, MVAR, 4, "Negative where charging exceeds it"),
            Column("voltage_drop_pct", "Drop", picked(ends.drop_pct, at), PCT, 2,
                   "Difference of both voltage magnitudes, of nominal"),
            Column("tap_position", "Tap", tap, None, 0, "As entered, or where automatic control put it"),
            Column("state", "State", state_words(carries)),
        ],
    )  # fmt: skip


def _injection_table(rows: Rows, reading: Reading, arrays: NetArrays) -> Table:
    count = len(arrays.element_id)
    power, current, live = np.zeros(count, np.complex128), np.zeros(count), np.zeros(count, np.bool_)
    amps = arrays.base_current_a()
    delivered = np.conj(reading.shunt_power)  # Mvar as delivered: positive for a capacitor
    for table, values in (("load", reading.load_power), ("injection", reading.machine_power), ("shunt", delivered)):
        columns = arrays.tables[table]
        element, bus = columns["element"], columns["bus"]
        volts = np.abs(reading.v0[bus])
        with np.errstate(divide="ignore", invalid="ignore"):
            part = np.where(volts > 0, np.abs(values) / arrays.base_mva / volts * amps[bus], 0.0)
        # Demand along a line has a row for each end.
        power += np.bincount(element, values.real, count) + 1j * np.bincount(element, values.imag, count)
        current += np.bincount(element, part, count)
        live[element[volts > 0]] = True
    power, current = np.where(live, power, np.nan), np.where(live, current, np.nan)
    at = rows.injection_element
    s = picked(power, at)
    return Table(
        "injections", "Injections",
        [
            Column("id", "Id", rows.injection_ids, fixed=True),
            Column("name", "Name", rows.injection_names, fixed=True),
            Column("kind", "Kind", rows.injection_kinds, fixed=True),
            Column("bus", "Bus", rows.injection_bus, fixed=True),
            Column("active_power_mw", "P", s.real, MW, 3, "Delivered by sources and generators, drawn by loads and shunts"),
            Column("reactive_power_mvar", "Q", s.imag, MVAR, 3,
                   "Delivered by sources, generators and shunts, drawn by loads"),
            Column("current_a", "I", picked(current, at), AMP, 1),
            Column("power_factor", "cos φ", power_factor(s), None, 3),
            Column("state", "State", state_words(picked(live, at, False).astype(bool))),
        ],
    )  # fmt: skip


def _winding_table(rows: Rows, reading: Reading, arrays: NetArrays) -> Table:
    """One row for each three-winding transformer: power and current of its windings."""
    branch, power = arrays.tables["branch"], reading.branch_power
    at = rows.winding_element
    # The rows of the branch table of each unit: HV, MV, LV in this order.
    first = np.searchsorted(branch["element"], at) if np.all(np.diff(branch["element"]) >= 0) else None
    if first is None:
        first = np.array([int(np.argmax(branch["element"] == a)) for a in at], np.int64)
    row = first[:, None] + np.arange(3)
    on = (at >= 0)[:, None] & np.ones(3, np.bool_)
    row = np.where(on, row, 0)
    on &= reading.live[branch["from"][row]] if len(branch["from"]) else on
    blank = np.full(row.shape, np.nan)
    if len(branch["from"]):
        s = np.where(on, power[0][row], np.nan)
        v = np.abs(reading.v0[branch["from"][row]])
        with np.errstate(divide="ignore", invalid="ignore"):
            amps = np.where(on, np.abs(s) / arrays.base_mva / v * arrays.base_current_a()[branch["from"][row]], np.nan)
        loading = amps / np.where(on, branch["rating_from_a"][row], np.nan) * 100
        loss = np.where(on, (power[0] + power[1])[row], np.nan).sum(axis=1)
    else:
        s, amps, loading, loss = blank + 0j, blank, blank, blank.sum(axis=1) + 0j
    columns = [
        Column("id", "Id", [e.id for e in rows.winding_units], fixed=True),
        Column("name", "Name", [e.name for e in rows.winding_units], fixed=True),
        *(Column(f"{n}_bus", f"{n.upper()} bus", [getattr(e, f"{n}_bus") for e in rows.winding_units], fixed=True)
          for n in ("hv", "mv", "lv")),
        Column("loading_pct", "Loading", loading.max(axis=1), PCT, 1, "Of the winding loaded most"),
    ]  # fmt: skip
    for k, n in enumerate(("hv", "mv", "lv")):
        columns += [
            Column(f"{n}_active_power_mw", f"P {n.upper()}", s[:, k].real, MW, 3, "Into the transformer"),
            Column(f"{n}_reactive_power_mvar", f"Q {n.upper()}", s[:, k].imag, MVAR, 3, "Into the transformer"),
            Column(f"{n}_current_a", f"I {n.upper()}", amps[:, k], AMP, 1),
        ]
    columns += [
        Column("active_loss_mw", "Loss", loss.real, MW, 4), Column("reactive_loss_mvar", "Loss", loss.imag, MVAR, 4),
        Column("state", "State", state_words(on[:, 0])),
    ]  # fmt: skip
    return Table("windings", "Three-winding transformers", columns)


def summarise(reading: Reading) -> dict[str, float | None]:
    """Totals of everything live, MW and Mvar, and the extremes."""
    s_from, s_to = reading.branch_power
    loss = complex((s_from + s_to).sum())
    generation, demand = complex(reading.machine_power.sum()), complex(reading.load_power.sum())
    shunt = complex(reading.shunt_power.sum())
    outer = np.arange(reading.arrays.n_bus) < reading.arrays.n_bus - reading.arrays.n_inner
    volts = np.abs(reading.v[reading.live & outer])
    return {
        "generation_mw": generation.real,
        "generation_mvar": generation.imag,
        "demand_mw": demand.real,
        "demand_mvar": demand.imag,
        "active_loss_mw": loss.real,
        "reactive_loss_mvar": loss.imag,
        "loss_pct": 100 * loss.real / generation.real if generation.real > 1e-9 else None,
        "shunt_mw": shunt.real,
        "shunt_mvar": 0.0 - shunt.imag,
        "lowest_voltage_pu": float(volts.min()) if len(volts) else None,
        "highest_voltage_pu": float(volts.max()) if len(volts) else None,
        "live_buses": float((reading.live & outer).sum()),
        "dead_buses": float((~reading.live & outer).sum()),
    }
