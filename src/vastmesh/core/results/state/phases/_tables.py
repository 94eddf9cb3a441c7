"""From solved conductor voltages to tables. What the balanced load flow has too bears the same column names."""

from __future__ import annotations

import numpy as np

from ....electrical.arrays import Complexes, Floats, Ints
from ....electrical.conductor import ConductorArrays
from ....flow.phases import SEQUENCES, PhaseControls, Reading, deviation, percent
from ....network import Network, Role, Transformer, roles_of
from ... import Column, Table
from ..._rows import Rows, angle_deg, area_table, picked, power_factor, state_words

PHASES, SEQ, LINE = "phases", "sequences", "line"
PU, DEG, KV, MW, MVAR, AMP, PCT, VOLT, KW = "p.u.", "°", "kV", "MW", "Mvar", "A", "%", "V", "kW"
_NAMES = ("A", "B", "C")
_PAIRS = ("AB", "BC", "CA")
_TINY_A, _TINY_V = 1e-6, 1e-6


class PhaseRows(Rows):
    """What the rows of the tables stand for, and what is known of them without a solution: one for each compiled network.

    ``branch_ends``: compiled bus of the from and to end of each branch, -1 where there is none, (2, n). ``ends_kv``: turns
    currents of transformers into kVA-wise amperes at 1 kV, 1 elsewhere, (n, 2).
    """

    def __init__(self, network: Network, arrays: ConductorArrays) -> None:
        super().__init__(network, arrays)
        compiled = {b: i for i, b in enumerate(arrays.bus_id)}
        shown = {b: i for i, b in enumerate(self.bus_column)}
        at = [[compiled.get(b, -1) for b in names] for names in (self.branch_from, self.branch_to)]
        self.branch_ends = np.array(at, np.int64)
        self.injection_bus_compiled = np.array([compiled.get(b, -1) for b in self.injection_bus], np.int64)
        self.injection_row = np.array([shown[b] for b in self.injection_bus], np.int64)
        branches = [network.items[i] for i in self.branch_ids]
        self.branch_phases = np.array([[p in e.conductors for p in _NAMES] for e in branches], np.bool_).reshape(-1, 3)  # type: ignore[attr-defined]
        self.closed = np.array([getattr(e, "closed", True) for e in branches], np.bool_)
        self.tapped = [k for k, e in enumerate(branches) if hasattr(e, "tap_position")]
        self.is_transformer = np.array([isinstance(e, Transformer) for e in branches], np.bool_)
        self.ends_kv = np.ones((len(branches), 2))
        for k in np.flatnonzero(self.is_transformer).tolist():
            e = branches[k]
            self.ends_kv[k] = getattr(e, "hv_kv", None) or np.nan, getattr(e, "lv_kv", None) or np.nan
        self.roles = np.array(roles_of(arrays.element_kind), np.str_)
        self.is_plant, self.is_shunt = self.roles == Role.GENERATION, self.roles == Role.SHUNT
        self.is_demand = self.roles == Role.DEMAND
        hung = np.array(roles_of(self.injection_kinds), np.str_)
        self.injection_plant = hung == Role.GENERATION
        self.injection_phases = [network[i].conductors for i in self.injection_ids]  # type: ignore[attr-defined]
        self.is_electrode = hung == Role.EARTH


_WINDINGS = ("hv", "mv", "lv")


def build_tables(network: Network, rows: PhaseRows, reading: Reading, controls: PhaseControls) -> dict[str, Table]:
    lost = np.nan_to_num(picked(reading.element_power.sum(axis=1).real / 1e6, rows.branch_element))
    generation, demand = _at_buses(rows, reading)
    found = [
        _bus_table(network, rows, reading, generation, demand), _branch_table(network, rows, reading, controls),
        *([_winding_table(rows, reading)] if rows.winding_units else []),
        _injection_table(rows, reading), area_table(rows, generation, demand, lost),
    ]  # fmt: skip
    return {t.name: t for t in found}


def farthest(volts: Floats) -> tuple[Floats, Ints]:
    """The voltage farthest from nominal of several per bus (n, 3), and its column; NaN and -1 where there is none."""
    at = np.where(np.isfinite(volts), np.abs(volts - 1), -1.0).argmax(axis=1)
    found = volts[np.arange(len(volts)), at]
    return found, np.where(np.isfinite(found), at, -1)


def _bus_table(network: Network, rows: PhaseRows, r: Reading, generation: Complexes, demand: Complexes) -> Table:
    a, at = r.arrays, rows.bus_row
    phase = picked(np.abs(r.to_neutral) / a.phase_v[:, None], at)
    apart = a.bus_kv[:, None] * 1e3
    between = picked(np.abs(r.between) / apart, at)
    sequences = r.bus_sequences
    size = np.abs(sequences)
    neutral = picked(r.bus_v[:, 3], at)
    positive = picked(size[:, 1] / a.phase_v, at)
    worst, where = farthest(phase)
    named = [(*_NAMES, "")[k] for k in where.tolist()]
    criterion = network.settings.voltage_criterion
    alone = ~np.isfinite(positive)
    shown = {"phase": worst, "line": farthest(between)[0], "positive": np.where(alone, worst, positive)}[criterion]
    shown = np.where(np.isfinite(shown), shown, worst)
    angle = picked(np.where(np.isfinite(sequences[:, 1]), sequences[:, 1], np.nan), at)
    first = picked(r.to_neutral, at)
    lead = np.where(np.isfinite(angle.real), angle, np.nansum(np.where(np.isfinite(first), first, 0), axis=1))
    live = picked(r.bus_live.astype(np.float64), at) == 1
    left = np.full(a.n_node + 1, np.nan)
    left[: a.n_node] = r.kirchhoff * a.base_mva
    by_bus = np.where(a.node >= 0, left[np.maximum(a.node, -1)], 0.0).max(axis=1) if a.n_bus else np.zeros(0)
    to_earth = picked(r.bus_v, at)
    columns = [
        Column("id", "Id", rows.bus_column, fixed=True),
        Column("name", "Name", rows.bus_names, fixed=True),
        Column("nominal_kv", "Nominal", rows.bus_kv, KV, 1, fixed=True),
        Column("area", "Area", rows.areas, fixed=True),
        Column("voltage_pu", "Voltage", shown, PU, 4, _CRITERIA[criterion]),
        Column("worst_phase", "Phase", named, None, None, "The phase farthest from its nominal voltage"),
        *(Column(f"phase_{n.lower()}_voltage_pu", f"V {n}", phase[:, k], PU, 4, "To the neutral; to earth where there is none",
                 view=PHASES) for k, n in enumerate(_NAMES)),
        *(Column(f"line_{n.lower()}_voltage_pu", f"V {n}", between[:, k], PU, 4, "Between two phases", view=LINE)
          for k, n in enumerate(_PAIRS)),
        Column("positive_voltage_pu", "V1", positive, PU, 4, "Positive sequence", view=SEQ),
        Column("negative_voltage_pct", "V2/V1", picked(percent(size[:, 2], size[:, 1]), at), PCT, 2,
               "Negative over positive sequence: the unbalance of IEC 61000-4-30", view=SEQ),
        Column("zero_voltage_pct", "V0/V1", picked(percent(size[:, 0], size[:, 1]), at), PCT, 2,
               "Zero over positive sequence, of the voltages to neutral", view=SEQ),
        *(Column(f"{w}_angle_deg", f"∠ V{k}", angle_deg(np.where(picked(size[:, k], at) > _TINY_V, picked(sequences[:, k], at),
                                                                   np.nan)),
                 DEG, 1, f"{w.capitalize()} sequence", view=SEQ) for w, k in (("negative", 2), ("zero", 0))),
        Column("neutral_voltage_v", "N to earth", np.abs(neutral), VOLT, 2, "Voltage between neutral and earth"),
        Column("unbalance_pct", "Unbalance", picked(_unbalance(network, r), at), PCT, 2,
               _DEFINITIONS[network.settings.unbalance_definition]),
        Column("unbalance_line_pct", "Line deviation", picked(deviation(np.abs(r.between)), at), PCT, 2,
               "Greatest deviation of the line-to-line voltages from their mean, over it", view=LINE),
        Column("unbalance_phase_pct", "Phase deviation", picked(deviation(np.abs(r.to_neutral)), at), PCT, 2,
               "Greatest deviation of the phase voltages from their mean, over it", view=PHASES),
        Column("voltage_kv", "Voltage", shown * rows.bus_kv, KV, 3, "The voltage shown, as a line-to-line value"),
        Column("angle_deg", "Angle", angle_deg(lead), DEG, 2, "Of the positive sequence; of the only phase where there is one"),
        *(Column(f"phase_{n.lower()}_angle_deg", f"∠ {n}", angle_deg(first[:, k]), DEG, 2, "To the neutral", view=PHASES)
          for k, n in enumerate(_NAMES)),
        *(Column(f"phase_{n.lower()}_earth_v", f"{n} to earth", np.abs(to_earth[:, k]), VOLT, 1, view=PHASES)
          for k, n in enumerate(_NAMES)),
        Column("neutral_angle_deg", "∠ N", angle_deg(neutral), DEG, 1, "Of the voltage between neutral and earth", view=PHASES),
        Column("generation_mw", "Generation", generation.real, MW, 4),
        Column("generation_mvar", "Generation", generation.imag, MVAR, 4),
        Column("demand_mw", "Demand", demand.real, MW, 4, "At the voltage found"),
        Column("demand_mvar", "Demand", demand.imag, MVAR, 4, "At the voltage found"),
        Column("mismatch_mva", "Mismatch", np.where(live, picked(by_bus, at), np.nan), "MVA", 9,
               "Largest of its conductors, when all currents are added up"),
        Column("state", "State", state_words(live)),
    ]  # fmt: skip
    return Table("buses", "Buses", columns)


_CRITERIA = {
    "phase": "Of the phase farthest from nominal, to the neutral",
    "line": "Of the pair of phases farthest from nominal; of the phase where there is one only",
    "positive": "Of the positive sequence; of the phase where there is one only",
}
_DEFINITIONS = {
    "negative": "Negative over positive sequence", "line": "Greatest deviation of line-to-line voltages from their mean",
    "phase": "Greatest deviation of phase voltages from their mean",
}  # fmt: skip


def _unbalance(network: Network, r: Reading) -> Floats:
    """Voltage unbalance by the definition chosen, %, (n_bus,)."""
    size = np.abs(r.bus_sequences)
    match network.settings.unbalance_definition:
        case "line":
            return deviation(np.abs(r.between))
        case "phase":
            return deviation(np.abs(r.to_neutral))
        case _:
            return percent(size[:, 2], size[:, 1])


def _at_buses(rows: PhaseRows, r: Reading) -> tuple[Complexes, Complexes]:
    """Generation and demand of each bus of the table, MVA; shunts and electrodes are neither."""
    power, n = r.injection_power / 1e6, len(rows.bus_column)
    generation, demand = np.zeros(n, np.complex128), np.zeros(n, np.complex128)
    there = rows.injection_element >= 0
    element, at = rows.injection_element[there], rows.injection_row[there]
    for total, wanted, sign in ((generation, rows.is_plant, -1), (demand, rows.is_demand, 1)):
        own = wanted[element]
        np.add.at(total, at[own], sign * power[element[own]])
    return generation, demand


def branch_currents(rows: PhaseRows, r: Reading) -> tuple[Complexes, Complexes]:
    """Currents into both ends of every branch of the table by conductor, A, (n, 4); switches by Kirchhoff's law."""
    found = picked(r.element_current, rows.branch_element)
    first, second = found[:, 0, :], found[:, 1, :]
    at = {ident: k for k, ident in enumerate(rows.branch_ids)}
    for ident, conductors in r.switch_flows.items():
        k = at[ident]
        first[k], second[k] = conductors, -conductors
    return first, second


def _branch_table(network: Network, rows: PhaseRows, r: Reading, controls: PhaseControls) -> Table:
    a, at = r.arrays, rows.branch_element
    i_from, i_to = branch_currents(rows, r)
    ends = rows.branch_ends
    v_from, v_to = (picked(r.bus_v, e) for e in ends)
    s_from, s_to = (np.nansum(v * np.conj(i), axis=1) for v, i in ((v_from, i_from), (v_to, i_to)))
    whole = picked(r.element_power, at)
    exact = np.isfinite(whole[:, 0]) & ~rows.is_switch
    s_from, s_to = (
        np.asarray(np.where(exact, whole[:, k], s), np.complex128) / 1e6 for k, s in enumerate((s_from, s_to))
    )
    live = (at >= 0) & np.isfinite(v_from[:, :3].real).any(axis=1) & np.isfinite(v_to[:, :3].real).any(axis=1)
    carries = live & rows.closed
    to_n_from, to_n_to = (picked(r.to_neutral, e) for e in ends)
    phase_power = to_n_from * np.conj(i_from[:, :3]) / 1e6
    size_f, size_t = np.abs(i_from), np.abs(i_to)
    symmetric = i_from[:, :3] @ SEQUENCES.T
    symmetric_to = i_to[:, :3] @ SEQUENCES.T
    # One end stands for the branch, the one with the larger current, so that sizes, angles and sequences belong together.
    further = size_t[:, :3].max(axis=1, initial=0.0) > size_f[:, :3].max(axis=1, initial=0.0)
    through = np.where(further[:, None], -i_to, i_from)
    passing = through[:, :3] @ SEQUENCES.T
    earth = np.abs(through.sum(axis=1))
    loading, by_phase, by_sequence, neutral_loading, which = loadings(
        network, rows, r, size_f, size_t, symmetric, symmetric_to
    )
    loss = np.where(rows.is_switch, 0, s_from + s_to)
    parts = picked(r.losses, at) / 1e3
    powers = np.where(rows.branch_phases, phase_power.real, np.nan)  # a phase that carries nothing counts as one
    used = (rows.branch_phases.sum(axis=1) > 1) & (np.abs(size_f[:, :3]).max(axis=1, initial=0.0) > _TINY_A)
    mean = np.where(used, np.nanmean(np.where(used[:, None], powers, 0), axis=1), np.nan)
    uneven = percent(
        np.nanmax(np.abs(np.where(used[:, None], powers, 0) - np.nan_to_num(mean)[:, None]), axis=1), np.abs(mean)
    )
    worst_from = size_f[:, :3].max(axis=1) if len(size_f) else np.zeros(0)
    worst_to = size_t[:, :3].max(axis=1) if len(size_t) else np.zeros(0)
    high, low = (
        farthest(np.abs(v) / picked(a.phase_v, e)[:, None])[0] for v, e in ((to_n_from, ends[0]), (to_n_to, ends[1]))
    )
    taps = _taps(rows, controls)
    turn = angle_deg(np.where(np.abs(through) > _TINY_A, through, np.nan))

    def on(values: np.ndarray) -> np.ndarray:
        return np.where(carries.reshape(-1, *([1] * (values.ndim - 1))), values, np.nan)

    columns = [
        Column("id", "Id", rows.branch_ids, fixed=True),
        Column("name", "Name", rows.branch_names, fixed=True),
        Column("kind", "Kind", rows.branch_kinds, fixed=True),
        Column("from_bus", "From", rows.branch_from, fixed=True),
        Column("to_bus", "To", rows.branch_to, fixed=True),
        Column("loading_pct", "Loading", on(loading), PCT, 1, _LOADINGS[network.settings.loading_criterion]),
        Column("worst_phase", "Phase", [w if c else "" for w, c in zip(which, carries.tolist(), strict=True)], None, None,
               "The phase with the largest current"),
        *(Column(f"phase_{n.lower()}_loading_pct", f"Loading {n}", on(by_phase[:, k]), PCT, 1, "Its current over the rating",
                 view=PHASES) for k, n in enumerate(_NAMES)),
        Column("positive_loading_pct", "Loading 1", on(by_sequence), PCT, 1, _LOADINGS["positive"], view=SEQ),
        Column("neutral_loading_pct", "Neutral loading", on(neutral_loading), PCT, 1, "Neutral current over its rating"),
        *(Column(f"phase_{n.lower()}_current_a", f"I {n}", on(np.abs(through)[:, k]), AMP, 1,
                 _THROUGH, view=PHASES) for k, n in enumerate(_NAMES)),
        Column("neutral_current_a", "I N", on(np.abs(through[:, 3])), AMP, 1, _THROUGH),
        Column("earth_current_a", "I earth", on(earth), AMP, 2, "What returns through earth: the sum of all conductors",
               view=PHASES),
        *(Column(f"phase_{n.lower()}_power_mw", f"P {n}", on(phase_power[:, k].real), MW, 4,
                 "Into the branch at its from end, against the neutral", view=PHASES) for k, n in enumerate(_NAMES)),
        *(Column(f"phase_{n.lower()}_power_mvar", f"Q {n}", on(phase_power[:, k].imag), MVAR, 4,
                 "Into the branch at its from end, against the neutral", view=PHASES) for k, n in enumerate(_NAMES)),
        Column("power_unbalance_pct", "Power unbalance", on(uneven), PCT, 1,
               "Greatest deviation of the phases' active power from their mean, over it"),
        *(Column(f"{w}_current_a", f"I{s}", on(np.abs(passing[:, k])), AMP, 1, f"{w.capitalize()} sequence",
                 view=SEQ) for w, s, k in (("positive", "1", 1), ("negative", "2", 2), ("zero", "0", 0))),
        *(Column(f"{w}_current_deg", f"∠ I{k}", angle_deg(np.where(np.abs(passing[:, k]) > _TINY_A, passing[:, k], np.nan)),
                 DEG, 1, f"{w.capitalize()} sequence", view=SEQ)
          for w, k in (("positive", 1), ("negative", 2), ("zero", 0))),
        *(Column(f"phase_{n.lower()}_current_deg", f"∠ I {n}", on(turn[:, k]), DEG, 1, _THROUGH, view=PHASES)
          for k, n in enumerate(_NAMES)),
        Column("neutral_current_deg", "∠ I N", on(turn[:, 3]), DEG, 1, _THROUGH, view=PHASES),
        *(Column(f"{w}_loss_kw", f"Loss {s}", on(parts[:, k]), KW, 3, m, view=PHASES) for w, s, k, m in (
            ("phase_a", "A", 0, _LOST), ("phase_b", "B", 1, _LOST), ("phase_c", "C", 2, _LOST),
            ("neutral", "N", 3, "In its own resistance"),
            ("earth", "earth", 4, "In earth and in what the conductors share"))),
        Column("from_active_power_mw", "P from", on(s_from.real), MW, 4, "Into the branch at its from (HV) end"),
        Column("from_reactive_power_mvar", "Q from", on(s_from.imag), MVAR, 4, "Into the branch at its from (HV) end"),
        Column("to_active_power_mw", "P to", on(s_to.real), MW, 4, "Into the branch at its to (LV) end"),
        Column("to_reactive_power_mvar", "Q to", on(s_to.imag), MVAR, 4, "Into the branch at its to (LV) end"),
        Column("from_current_a", "I from", on(worst_from), AMP, 1, "Largest phase"),
        Column("to_current_a", "I to", on(worst_to), AMP, 1, "Largest phase"),
        Column("from_power_factor", "cos φ from", on(power_factor(s_from)), None, 3),
        Column("to_power_factor", "cos φ to", on(power_factor(s_to)), None, 3),
        Column("active_loss_mw", "Loss", on(loss.real), MW, 5),
        Column("reactive_loss_mvar", "Loss", on(loss.imag), MVAR, 5, "Negative where charging exceeds it"),
        Column("voltage_drop_pct", "Drop", on((high - low) * 100), PCT, 2, "Between the worst phases of both ends, of nominal"),
        *taps,
        Column("state", "State", state_words(carries)),
    ]  # fmt: skip
    return Table("branches", "Branches", columns)


_THROUGH = "Towards its to end, at the end with the larger current (the LV end of a step-down transformer)"
_LOST = "In its own resistance; of a transformer in the limb of this phase, copper and iron"
_LOADINGS = {
    "worst": "Current of the phase loaded most, larger of both ends, over rating",
    "positive": "Positive-sequence current, larger of both ends, over rating",
}


def _taps(rows: PhaseRows, controls: PhaseControls) -> list[Column]:
    found = {i: s.position for i, s in controls.arrays.taps.items()} | controls.tap_positions()
    per = np.full((len(rows.branch_ids), 3), np.nan)
    for k in rows.tapped:
        if (position := found.get(rows.branch_ids[k])) is not None:
            per[k] = position
    equal = (per[:, 0] == per[:, 1]) & (per[:, 1] == per[:, 2])
    common = np.where(equal, per[:, 0], np.nan)
    each = [Column(f"tap_{n.lower()}", f"Tap {n}", np.where(equal, np.nan, per[:, k]), None, 0, "Where phases differ",
                   view=PHASES) for k, n in enumerate(_NAMES)]  # fmt: skip
    return [Column("tap_position", "Tap", common, None, 0, "As entered, or where automatic control put it"), *each]


def loadings(
    network: Network,
    rows: PhaseRows,
    r: Reading,
    size_f: Floats,
    size_t: Floats,
    symmetric: Complexes,
    symmetric_to: Complexes,
) -> tuple[Floats, Floats, Floats, Floats, list[str]]:
    """Loading, %, by the criterion chosen, of each phase (n, 3), by positive sequence (NaN without three phases) and of the
    neutral; and the phase with the largest current.

    The rating of a transformer is its power: its amperes at each end follow from the rated voltage there.
    """
    a, at = r.arrays, rows.branch_element
    rating, neutral = picked(a.rating, at), picked(a.neutral_rating, at)
    kv = rows.ends_kv
    f, t = size_f * kv[:, :1], size_t * kv[:, 1:]
    largest = np.maximum(f[:, :3], t[:, :3])
    which = largest.argmax(axis=1)
    positive = np.maximum(np.abs(symmetric[:, 1]) * kv[:, 0], np.abs(symmetric_to[:, 1]) * kv[:, 1])
    three = (largest > _TINY_A).sum(axis=1) == 3
    own = network.settings.loading_criterion == "positive"
    with np.errstate(divide="ignore", invalid="ignore"):
        share = np.where(np.isfinite(rating), 100 / rating, np.nan)
        by_phase = np.where(largest > _TINY_A, largest * share[:, None], np.nan)
        by_sequence = np.where(three, positive * share, np.nan)
        worst = largest.max(axis=1) * share if len(at) else np.zeros(0)
        loading = np.where(own & three, by_sequence, worst)
        in_neutral = np.maximum(f[:, 3], t[:, 3])
        neutral_loading = np.where(np.isfinite(neutral) & (in_neutral > _TINY_A), in_neutral / neutral * 100, np.nan)
    neutral_loading = np.where(rows.is_transformer, np.nan, neutral_loading)
    return loading, by_phase, by_sequence, neutral_loading, [_NAMES[k] for k in which.tolist()]


def _winding_table(rows: PhaseRows, r: Reading) -> Table:
    """One row for each three-winding transformer: power and current of its windings."""
    at, count = rows.winding_element, len(rows.winding_units)
    power = picked(r.side_power, at) / 1e6
    amps = np.abs(picked(r.element_current, at)[:, :, :3])
    rated = [[(getattr(e, f"{n}_mva") or np.nan) * 1e3 / np.sqrt(3) / (getattr(e, f"{n}_kv") or np.nan) for n in _WINDINGS]
             for e in rows.winding_units]  # fmt: skip
    loading = 100 * amps / np.array(rated).reshape(count, 3, 1)
    whole = r.element_power.sum(axis=1)
    loss = picked(whole / 1e6, at)
    live = (at >= 0) & np.isfinite(loss.real) & (amps.max(axis=(1, 2)) > _TINY_A)
    parts = picked(r.losses, at) / 1e3

    def on(values: np.ndarray) -> np.ndarray:
        return np.where(live.reshape(-1, *([1] * (values.ndim - 1))), values, np.nan)

    places = [f"{w.upper()} {p}" for w in _WINDINGS for p in _NAMES]
    most = np.nan_to_num(loading).reshape(count, 9).argmax(axis=1).tolist()
    where = [places[k] if ok else "" for k, ok in zip(most, live.tolist(), strict=True)]
    return Table("windings", "Three-winding transformers", [
        Column("id", "Id", [e.id for e in rows.winding_units], fixed=True),
        Column("name", "Name", [e.name for e in rows.winding_units], fixed=True),
        *(Column(f"{n}_bus", f"{n.upper()} bus", [getattr(e, f"{n}_bus") for e in rows.winding_units], fixed=True)
          for n in _WINDINGS),
        Column("loading_pct", "Loading", on(loading.max(axis=(1, 2))), PCT, 1, "Of the phase and winding loaded most"),
        Column("worst_phase", "Phase", where, None, None, "The winding and phase loaded most"),
        *(column for k, n in enumerate(_WINDINGS) for column in (
            Column(f"{n}_active_power_mw", f"P {n.upper()}", on(power[:, k].real), MW, 3, "Into the transformer"),
            Column(f"{n}_reactive_power_mvar", f"Q {n.upper()}", on(power[:, k].imag), MVAR, 3, "Into the transformer"),
            Column(f"{n}_current_a", f"I {n.upper()}", on(amps[:, k].max(axis=1)), AMP, 1, "Largest phase"),
            *(Column(f"{n}_phase_{p.lower()}_current_a", f"I {n.upper()} {p}", on(amps[:, k, c]), AMP, 1, view=PHASES)
              for c, p in enumerate(_NAMES)))),
        *(Column(f"{w}_loss_kw", f"Loss {s}", on(parts[:, k]), KW, 3, _LOST, view=PHASES)
          for w, s, k in (("phase_a", "A", 0), ("phase_b", "B", 1), ("phase_c", "C", 2))),
        Column("active_loss_mw", "Loss", on(loss.real), MW, 5), Column("reactive_loss_mvar", "Loss", on(loss.imag), MVAR, 5),
        Column("state", "State", state_words(live)),
    ])  # fmt: skip


def _injection_table(rows: PhaseRows, r: Reading) -> Table:
    power, at = r.injection_power / 1e6, rows.injection_element
    given = np.where(rows.is_plant, -power, np.where(rows.is_shunt, np.conj(power), power))
    s = picked(given, at)
    amps = picked(r.injection_phase_current, at)
    current = np.abs(amps)
    own = picked(r.injection_phase_power, at) / 1e6
    own = np.where(rows.injection_plant[:, None], -own, own)
    own = np.where(current[:, :3] > _TINY_A, own, np.nan)
    turn = angle_deg(np.where(current > _TINY_A, np.where(rows.injection_plant[:, None], -amps, amps), np.nan))
    live = (at >= 0) & (picked(r.bus_live.astype(np.float64), rows.injection_bus_compiled) == 1)

    def on(values: np.ndarray) -> np.ndarray:
        return np.where(live.reshape(-1, *([1] * (values.ndim - 1))), values, np.nan)

    largest = current[:, :3].max(axis=1) if len(current) else np.zeros(0)
    return Table(
        "injections", "Injections",
        [
            Column("id", "Id", rows.injection_ids, fixed=True),
            Column("name", "Name", rows.injection_names, fixed=True),
            Column("kind", "Kind", rows.injection_kinds, fixed=True),
            Column("bus", "Bus", rows.injection_bus, fixed=True),
            Column("phases", "Phases", rows.injection_phases, None, None, "What it is connected to", fixed=True),
            Column("active_power_mw", "P", on(s.real), MW, 4, "Delivered by sources and generators, drawn by loads and shunts"),
            Column("reactive_power_mvar", "Q", on(s.imag), MVAR, 4,
                   "Delivered by sources, generators and shunts, drawn by loads"),
            Column("current_a", "I", on(np.where(rows.is_electrode, current[:, 3], largest)), AMP, 1,
                   "Of the phase with the largest; of an electrode into earth"),
            *(Column(f"phase_{n.lower()}_current_a", f"I {n}", on(current[:, k]), AMP, 1, view=PHASES)
              for k, n in enumerate(_NAMES)),
            Column("neutral_current_a", "I N", on(current[:, 3]), AMP, 1, view=PHASES),
            *(Column(f"phase_{n.lower()}_power_{unit.lower()}", f"{sign} {n}", on(part[:, k]), unit, 4,
                     "Against the neutral; delivered by sources and plants, drawn by all else", view=PHASES)
              for sign, unit, part in (("P", MW, own.real), ("Q", MVAR, own.imag)) for k, n in enumerate(_NAMES)),
            *(Column(f"phase_{n.lower()}_current_deg", f"∠ I {n}", on(turn[:, k]), DEG, 1, view=PHASES)
              for k, n in enumerate(_NAMES)),
            Column("neutral_current_deg", "∠ I N", on(turn[:, 3]), DEG, 1, view=PHASES),
            Column("power_factor", "cos φ", on(power_factor(s)), None, 3),
            Column("state", "State", state_words(live)),
        ],
    )  # fmt: skip


def summarise(rows: PhaseRows, r: Reading, tables: dict[str, Table]) -> dict[str, float | None]:
    """Totals of everything live, MW and Mvar, and the extremes over all phases."""
    power, branch = r.injection_power / 1e6, rows.roles == Role.BRANCH
    generation = complex(-power[rows.is_plant].sum())
    other = complex(power[np.isin(rows.roles, (Role.SHUNT, Role.EARTH))].sum())
    drawn = complex(power[rows.is_demand].sum())
    loss = complex(r.element_power[branch].sum() / 1e6)
    phase = np.abs(r.to_neutral) / r.arrays.phase_v[:, None]
    known = phase[np.isfinite(phase)]
    neutral, uneven = np.abs(r.bus_v[:, 3]), tables["buses"]["unbalance_pct"]
    live = int(r.bus_live.sum())
    return {
        "generation_mw": generation.real, "generation_mvar": generation.imag, "demand_mw": drawn.real,
        "demand_mvar": drawn.imag, "active_loss_mw": loss.real, "reactive_loss_mvar": loss.imag,
        "loss_pct": 100 * loss.real / generation.real if generation.real > 1e-9 else None,
        "shunt_mw": other.real, "shunt_mvar": 0.0 - other.imag,
        "lowest_voltage_pu": float(known.min()) if len(known) else None,
        "highest_voltage_pu": float(known.max()) if len(known) else None,
        "highest_neutral_v": float(np.nanmax(neutral)) if np.any(np.isfinite(neutral)) else None,
        "highest_unbalance_pct": float(np.nanmax(uneven)) if np.any(np.isfinite(uneven)) else None,
        "live_buses": float(live), "dead_buses": float(r.arrays.n_bus - live),
    }  # fmt: skip
