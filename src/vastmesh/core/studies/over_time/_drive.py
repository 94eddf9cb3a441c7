"""What profiles make of the arrays at every step, without a new network each time."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...electrical import NetArrays, apply_condition
from ...electrical.arrays import Floats, Ints
from ...network import Condition, Generator, Inverter, Load, Network
from ...network.elements.profile import Profile
from ...network.hours import Clock, figures_over, under_figures


@dataclass
class _Part:
    """Rows that a profile moves, its figures by step; ``own``: it is of one
    element and stands for what is entered there; ``power``: in MW."""

    table: str
    rows: Ints
    figures: Floats
    own: bool
    power: bool
    reactive: bool


@dataclass
class Powers:
    """Powers of loads and machines of steps from ``first`` on, (steps, elements), p.u."""

    first: int
    load_p: Floats
    load_q: Floats
    machine_p: Floats
    machine_q: Floats

    def __len__(self) -> int:
        return len(self.load_p)


class Drive:
    """Arrays by step. ``left``: names of profiles that have nothing to move here."""

    def __init__(self, network: Network, arrays: NetArrays, condition: Condition, clock: Clock) -> None:
        ones = {p.id: 1.0 for p in network.of(Profile) if p.packed and p.scales != "element"}
        self.entered, self.base = arrays, apply_condition(arrays, under_figures(network, condition, ones))
        self.parts: list[_Part] = []
        self.left: list[str] = []
        load, machine = arrays.tables["load"], arrays.tables["injection"]
        group = {g: k for k, g in enumerate(arrays.groups)}
        of = {e: k for k, e in enumerate(arrays.element_id)}
        for p in network.of(Profile):
            if not p.packed:
                continue
            figures = figures_over(p, clock)
            rows: Ints = np.zeros(0, np.int64)
            table, power, reactive = "load", False, True
            if p.scales == "demand":
                rows = np.arange(len(load["element"]))
            elif p.scales == "class":
                rows = np.flatnonzero(load["group"] == group.get(f"class:{p.key}", -2))
            elif p.scales == "area":
                rows = np.flatnonzero(load["area"] == group.get(f"area:{p.key}", -2))
            elif p.scales == "energy":
                table, rows = "injection", np.flatnonzero(machine["group"] == group.get(f"energy:{p.key}", -2))
            else:
                item = network.items.get(p.key)
                if isinstance(item, Load | Generator | Inverter) and item.active_power_mw is not None:
                    table = "load" if isinstance(item, Load) else "injection"
                    rows = np.flatnonzero(arrays.tables[table]["element"] == of.get(p.key, -2))
                    power = p.means == "mw"
                    reactive = isinstance(item, Load) or getattr(item, "control", "") == "power_factor"
            if len(rows):
                self.parts.append(_Part(table, rows, figures, p.scales == "element", power, reactive))
            else:
                self.left.append(p.name or p.id)

    def powers(self, first: int, end: int) -> Powers:
        """Powers of loads and machines from one step up to another."""
        many = end - first
        found = {
            name: [np.repeat(self.base.tables[name][c][None], many, 0) for c in ("p", "q")]
            for name in ("load", "injection")
        }
        # The profile of an element stands for it alone, whatever others say.
        for part in sorted(self.parts, key=lambda x: x.own):
            (p, q), rows = found[part.table], part.rows
            figures = np.asarray(part.figures[first:end], np.float64)[:, None]
            if not part.own:
                p[:, rows] *= figures
                q[:, rows] *= figures
                continue
            old = self.entered.tables[part.table]
            new = old["p"][rows] * figures
            if part.power:  # of demand along a line every part its share
                whole = old["p"][rows].sum()
                shares = old["p"][rows] / whole if whole else np.full(len(rows), 1 / len(rows))
                new = figures / self.base.base_mva * shares
            if part.reactive:
                share = np.divide(new, old["p"][rows], out=np.zeros_like(new), where=old["p"][rows] != 0)
                q[:, rows] = old["q"][rows] * share
            p[:, rows] = new
        return Powers(first, *found["load"], *found["injection"])

    def at(self, n: int, powers: Powers | None = None) -> NetArrays:
        """Arrays at a step; ``powers``: of steps of which it is one."""
        powers = powers or self.powers(n, n + 1)
        k, tables = n - powers.first, dict(self.base.tables)
        tables["load"] = {**tables["load"], "p": powers.load_p[k], "q": powers.load_q[k]}
        tables["injection"] = {**tables["injection"], "p": powers.machine_p[k], "q": powers.machine_q[k]}
        return replace(self.base, tables=tables)
