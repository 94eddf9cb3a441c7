"""What is outside a limit per phase: findings name the phase."""

from __future__ import annotations

import numpy as np

from ....electrical.arrays import Floats
from ....electrical.conductor import ConductorArrays
from ....flow.phases import Problem
from ....network import Network, Settings, VoltageLimits, specs
from ....severity import Severity
from ... import Finding, Table
from ..._limits import find_sources, find_windings, loaded, loading_allowed, loading_watched
from ..._rows import Rows

MOST = 2000
_PHASES = ("A", "B", "C")
_PAIRS = ("AB", "BC", "CA")
_WATCH = 0.8  # share of a limit from which unbalance, sequences and neutral voltage are watched


def find(network: Network, limit_set: str, rows: Rows, tables: dict[str, Table]) -> list[Finding]:
    """Findings against a set of limits and the criteria of the settings, the worst first."""
    found = [
        *_voltage(network, limit_set, rows, tables["buses"]),
        *_quality(network.settings, rows, tables["buses"]),
        *_loading(network, limit_set, rows, tables["branches"]),
        *find_sources(network, tables["injections"]),
        *(find_windings(network, limit_set, tables["windings"]) if "windings" in tables else []),
    ]
    found.sort(key=lambda f: (f.severity is Severity.WATCH, -f.excess))
    return found[:MOST]


def _judged(settings: Settings, table: Table) -> tuple[Floats, list[list[str]]]:
    """Voltages to be held against limits, (n, 3), and what each one is called."""
    count = len(table)
    phase = np.stack([table[f"phase_{p.lower()}_voltage_pu"] for p in _PHASES], axis=1)
    single = ~np.isfinite(table["positive_voltage_pu"])
    names = [[f"phase {p}" for p in _PHASES]] * count
    if settings.voltage_criterion == "phase":
        return phase, names
    if settings.voltage_criterion == "line":
        between = np.stack([table[f"line_{p.lower()}_voltage_pu"] for p in _PAIRS], axis=1)
        alone = ~np.isfinite(between).any(axis=1)
        pairs = [names[i] if alone[i] else [f"{p[0]} to {p[1]}" for p in _PAIRS] for i in range(count)]
        return np.where(alone[:, None], phase, between), pairs
    positive = np.stack([table["positive_voltage_pu"], np.full(count, np.nan), np.full(count, np.nan)], axis=1)
    words = [names[i] if single[i] else ["positive sequence"] * 3 for i in range(count)]
    return np.where(single[:, None], phase, positive), words


def _voltage(network: Network, limit_set: str, rows: Rows, table: Table) -> list[Finding]:
    values, names = _judged(network.settings, table)
    nominal = table["nominal_kv"]
    done = np.zeros(len(nominal), np.bool_)
    found: list[Finding] = []
    cases = [(v, rows.own_limits == k) for k, v in enumerate(network.of(VoltageLimits)) if np.any(rows.own_limits == k)]
    cases += [(v, (nominal > v.above_kv) & (nominal <= v.up_to_kv)) for v in network.voltage_limits(limit_set)]
    for limits, where in cases:
        mine = ~done & where & np.isfinite(values).any(axis=1)
        done |= mine
        with np.errstate(invalid="ignore"):
            outside = mine[:, None] & ((values < limits.low_watch_pu) | (values > limits.high_watch_pu))
        for i in np.flatnonzero(outside.any(axis=1)).tolist():
            found += _of_bus(limits, rows, i, values[i], names[i], outside[i], float(nominal[i]))
    return found


def _of_bus(
    limits: VoltageLimits, rows: Rows, i: int, values: Floats, names: list[str], outside: np.ndarray, nominal: float
) -> list[Finding]:
    """At most one finding below and one above for a bus: the worst phase, and how many others."""
    found = []
    for below in (True, False):
        past = [k for k in np.flatnonzero(outside).tolist() if (values[k] < limits.low_watch_pu) == below]
        if not past:
            continue
        k = min(past, key=lambda n: values[n] if below else -values[n])
        value = float(values[k])
        hard, soft = (
            (limits.low_breach_pu, limits.low_watch_pu) if below else (limits.high_breach_pu, limits.high_watch_pu)
        )
        breach = value < hard if below else value > hard
        limit = hard if breach else soft
        word = f"{'at least' if below else 'at most'} {limit:.3f} p.u. allowed" if breach else (
            f"watched {'below' if below else 'above'} {limit:.3f} p.u.")  # fmt: skip
        more = f", and {len(past) - 1} more" if len(past) > 1 else ""
        found.append(
            Finding(
                element=rows.bus_column[i], kind="bus", quantity="voltage_pu", value=value, unit="p.u.", limit=limit,
                limit_name=limits.name, severity=Severity.BREACH if breach else Severity.WATCH,
                direction="below" if below else "above", excess=abs(value - limit) / limit,
                text=f"{names[k]}{more}, of {nominal:g} kV; {word}",
            )
        )  # fmt: skip
    return found


def _quality(settings: Settings, rows: Rows, table: Table) -> list[Finding]:
    """Unbalance, sequences and neutral-to-earth voltage."""
    checks = [
        ("unbalance_pct", settings.unbalance_limit_pct, "%", "Unbalance", "voltage unbalance"),
        ("zero_voltage_pct", settings.zero_limit_pct, "%", "Zero sequence", "zero over positive sequence"),
        ("neutral_voltage_v", settings.neutral_limit_v, "V", "Neutral to earth", "neutral to earth"),
    ]
    if settings.unbalance_definition != "negative":
        checks.append(("negative_voltage_pct", settings.negative_limit_pct, "%", "Negative sequence",
                       "negative over positive sequence"))  # fmt: skip
    elif settings.negative_limit_pct < settings.unbalance_limit_pct:
        checks[0] = ("negative_voltage_pct", settings.negative_limit_pct, "%", "Negative sequence", "voltage unbalance")
    found = []
    for column, limit, unit, name, words in checks:
        if limit is None:
            continue
        values = table[column]
        with np.errstate(invalid="ignore"):
            outside = np.flatnonzero(values > limit * _WATCH)
        found += [
            _above(rows.bus_column[i], "bus", column, float(values[i]), unit, limit, name, words)
            for i in outside.tolist()
        ]
    return found


def _above(
    element: str, kind: str, quantity: str, value: float, unit: str, limit: float, name: str, words: str
) -> Finding:
    breach = value > limit
    bound = limit if breach else limit * _WATCH
    text = f"{words}; " + (f"at most {limit:g} {unit} allowed" if breach else f"watched above {bound:g} {unit}")
    return Finding(
        element=element, kind=kind, quantity=quantity, value=value, unit=unit, limit=bound, limit_name=name,
        severity=Severity.BREACH if breach else Severity.WATCH, direction="above", excess=(value - bound) / bound, text=text,
    )  # fmt: skip


def _loading(network: Network, limit_set: str, rows: Rows, table: Table) -> list[Finding]:
    settings = network.settings
    found = []
    for column, name in (("loading_pct", "Loading"), ("neutral_loading_pct", "Neutral loading")):
        values = table[column]
        for i in loaded(settings, rows, values):
            ident, value = rows.branch_ids[i], float(values[i])
            highest, watched = (
                100 * f(settings, network.items[ident], limit_set) for f in (loading_allowed, loading_watched)
            )
            if value <= watched:
                continue
            breach = value > highest
            limit = highest if breach else watched
            if column == "loading_pct":
                phase = table["worst_phase"][i]
                words = f"phase {phase}: {max(table['from_current_a'][i], table['to_current_a'][i]):.4g} A"
                if settings.loading_criterion == "positive":
                    words = f"positive sequence {table['positive_current_a'][i]:.4g} A"
            else:
                words = f"neutral: {table['neutral_current_a'][i]:.4g} A"
            found.append(
                Finding(
                    element=ident, kind=rows.branch_kinds[i], quantity=column, value=value, unit="%", limit=limit,
                    limit_name=name, severity=Severity.BREACH if breach else Severity.WATCH, direction="above",
                    excess=(value - limit) / 100,
                    text=f"{words}; " + (f"at most {limit:.4g} % allowed" if breach else f"watched above {limit:.4g} %"),
                )
            )  # fmt: skip
    return found


def find_in_model(network: Network, arrays: ConductorArrays, problem: Problem) -> list[Finding]:
    """Conductors that are asked for and not there, parts that nothing earths, blanks and lost supply."""
    found = []
    for ident, blank in arrays.left_out.items():
        item = network[ident]
        words = ", ".join(specs(type(item))[f].label.lower() for f in blank)
        found.append(_model(network, ident, Severity.BREACH, "missing", f"left out: {words} missing"))
    for gap in arrays.gaps:
        severity = Severity.BREACH if gap.breach else Severity.WATCH
        found.append(_model(network, gap.element, severity, gap.field, gap.text))
    for members in problem.floating:
        if (finding := _floating(network, arrays, members)) is not None:
            found.append(finding)
    rows = np.append(problem.row, -1)
    live = np.any(np.where(arrays.node >= 0, rows[np.maximum(arrays.node, -1)], -1) >= 0, axis=1)
    dead = [arrays.bus_id[i] for i in np.flatnonzero(~live).tolist()]
    if dead:
        few = ", ".join(network[b].name for b in dead[:3]) + (" ..." if len(dead) > 3 else "")
        text = f"{len(dead)} {'bus has' if len(dead) == 1 else 'buses have'} no supply: {few}"
        found.append(_model(network, dead[0], Severity.WATCH, "supply", text))
    m = arrays.machine
    for k in problem.clash.tolist():
        first = network[arrays.element_id[m["element"][problem.leader_of[k]]]].name
        text = f"wants to hold a voltage that {first} on the same bus holds already"
        found.append(_model(network, arrays.element_id[m["element"][k]], Severity.WATCH, "set_point", text))
    return found


def _floating(network: Network, arrays: ConductorArrays, members: np.ndarray) -> Finding | None:
    at = np.argwhere(np.isin(arrays.node, members))
    if not len(at):
        return None
    buses = list(dict.fromkeys(arrays.bus_id[b] for b in at[:, 0].tolist()))
    conductors = {"ABCN"[c] for c in at[:, 1].tolist()}
    few = ", ".join(network[b].name for b in buses[:3]) + (" ..." if len(buses) > 3 else "")
    if conductors == {"N"}:
        text = f"its neutral is joined to nothing that fixes it, nor to earth ({few}); taken at earth potential"
    else:
        text = (
            f"nothing earths this part ({len(buses)} {'bus' if len(buses) == 1 else 'buses'}: {few}): its voltages to earth are "
            "not fixed and are shown with their mean at zero; voltages between conductors are right"
        )
    return _model(network, buses[0], Severity.WATCH, "earth", text)


def _model(network: Network, element: str, severity: Severity, quantity: str, text: str) -> Finding:
    return Finding(
        element=element, kind=network[element].kind, quantity=quantity, value=None, unit=None, limit=None, limit_name="Model",
        severity=severity, direction="", excess=0.0, text=text,
    )  # fmt: skip
