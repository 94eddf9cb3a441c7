"""Trial at the edge of solvability: random meshed networks with tight machines, judged by a solver of its own.

The judge shares nothing with the program: dense matrices, machines' reactive power as unknowns of their own, limits as
complementarity conditions in the Fischer-Burmeister form, and the path of solutions followed by arc length from no load
round its first turning point. Source: A. Fischer, "A special Newton-type optimization method", Optimization 24, 1992;
H. B. Keller, "Numerical solution of bifurcation and nonlinear eigenvalue problems", 1977.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import Any

import numpy as np

KV, BASE = 132.0, 100.0
SHARES = (0.3, 0.6, 0.9, 0.97, 0.99, 0.998)
_SHARP = 1e-9  # rounds the corner of the complementarity conditions, per unit squared


@dataclass(frozen=True)
class Case:
    """A random network as plain numbers: lines (from, to, km), machines (bus, MW, set-point, Mvar from, to), loads (bus,
    MW, Mvar); bus 0 has the source."""

    n: int
    lines: list[tuple[int, int, float]]
    machines: list[tuple[int, float, float, float, float]]
    loads: list[tuple[int, float, float]]
    source: float = 1.02
    per_km: tuple[float, float, float] = (0.08, 0.4, 2.8e-6)

    def scaled(self, factor: float) -> Case:
        """Demand and generation times a factor; limits and set-points stay."""
        return replace(
            self, machines=[(i, mw * factor, *rest) for i, mw, *rest in self.machines],
            loads=[(i, mw * factor, mvar * factor) for i, mw, mvar in self.loads],
        )  # fmt: skip

    def items(self) -> list[dict[str, Any]]:
        """The same as items of a network."""
        r, x, b = self.per_km
        found: list[dict[str, Any]] = [{"kind": "bus", "id": f"b{i}", "nominal_kv": KV} for i in range(self.n)]
        found.append({"kind": "source", "id": "s", "bus": "b0", "voltage_pu": self.source})
        found += [
            {"kind": "line", "id": f"l{k}", "from_bus": f"b{i}", "to_bus": f"b{j}", "length_km": km, "r_ohm_per_km": r,
             "x_ohm_per_km": x, "b_us_per_km": b * 1e6}
            for k, (i, j, km) in enumerate(self.lines)
        ]  # fmt: skip
        found += [
            {"kind": "generator", "id": f"g{k}", "bus": f"b{i}", "active_power_mw": mw, "control": "voltage",
             "voltage_pu": v, "q_min_mvar": low, "q_max_mvar": high}
            for k, (i, mw, v, low, high) in enumerate(self.machines)
        ]  # fmt: skip
        found += [
            {"kind": "load", "id": f"d{k}", "bus": f"b{i}", "active_power_mw": mw, "reactive_power_mvar": mvar}
            for k, (i, mw, mvar) in enumerate(self.loads)
        ]
        return found


def random_case(seed: int, smallest: int = 30, largest: int = 300) -> Case:
    """A meshed network of 132 kV lines; every fifth bus or so has a machine with narrow reactive limits."""
    rng = np.random.default_rng(seed)
    n = int(rng.integers(smallest, largest + 1))
    km = lambda: float(np.round(rng.uniform(4, 40), 1))  # noqa: E731
    lines = [(int(i * rng.beta(1.0, 2.0)), i, km()) for i in range(1, n)]  # towards the source: not too deep
    known = {(i, j) for i, j, _ in lines}
    for _ in range(int(n * rng.uniform(0.3, 0.8))):
        i, j = sorted(rng.integers(0, n, 2).tolist())
        if i != j and (i, j) not in known:
            known.add((i, j))
            lines.append((i, j, km()))
    machines = []
    for i in np.flatnonzero(rng.random(n) < rng.uniform(0.1, 0.35)).tolist():
        if i:
            mw = float(np.round(rng.uniform(5, 60), 1))
            low, high = -float(np.round(rng.uniform(0, 0.2) * mw)), float(np.round(rng.uniform(0.02, 0.5) * mw))
            machines.append((i, mw, float(np.round(rng.uniform(1.0, 1.05), 2)), low, high))
    loads = []
    for i in np.flatnonzero(rng.random(n) < 0.65).tolist():
        if i:
            mw = float(np.round(rng.uniform(2, 40), 1))
            loads.append((i, mw, float(np.round(mw * rng.uniform(0.1, 0.6), 1))))
    return Case(n, lines, machines, loads)


@dataclass
class Judge:
    """The equations of a case at a share of its demand and generation; unknowns: angles, magnitudes (not of the source),
    reactive power of machines."""

    case: Case
    y: np.ndarray = field(init=False)

    def __post_init__(self) -> None:
        c, base = self.case, KV**2 / BASE
        self.y = np.zeros((c.n, c.n), complex)
        r, x, b = c.per_km
        for i, j, km in c.lines:
            series, half = base / ((r + 1j * x) * km), 0.5j * b * km * base
            self.y[[i, j], [i, j]] += series + half
            self.y[i, j] -= series
            self.y[j, i] -= series
        self.at = np.array([m[0] for m in c.machines], int)
        self.set = np.array([m[2] for m in c.machines])
        self.low, self.high = (np.array([m[k] for m in c.machines]) / BASE for k in (3, 4))
        self.s = np.zeros(c.n, complex)
        for i, mw, *_ in c.machines:
            self.s[i] += mw / BASE
        for i, mw, mvar in c.loads:
            self.s[i] -= complex(mw, mvar) / BASE
        self.free = c.n - 1

    def parts(self, x: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        m = self.free
        return np.r_[0.0, x[:m]], np.r_[self.case.source, x[m : 2 * m]], x[2 * m :]

    def residual(self, x: np.ndarray, share: float) -> tuple[np.ndarray, np.ndarray]:
        """Residual and its derivative by the unknowns, dense."""
        theta, v, q = self.parts(x)
        m, k = self.free, len(self.at)
        volts = v * np.exp(1j * theta)
        current = self.y @ volts
        s = volts * np.conj(current) - share * self.s
        s[self.at] -= 1j * q
        unit = volts / v
        by_v = volts[:, None] * np.conj(self.y * unit) + np.diag(np.conj(current) * unit)
        by_t = 1j * volts[:, None] * np.conj(np.diag(current) - self.y * volts)
        a, b, f = q - self.low, self.high - q, v[self.at] - self.set
        inner, inner_b, inner_f = _fb(b, -f)
        outer, outer_a, outer_i = _fb(a, -inner)
        jac = np.zeros((2 * m + k, 2 * m + k))
        jac[:m, :m], jac[:m, m : 2 * m] = by_t.real[1:, 1:], by_v.real[1:, 1:]
        jac[m : 2 * m, :m], jac[m : 2 * m, m : 2 * m] = by_t.imag[1:, 1:], by_v.imag[1:, 1:]
        jac[m + self.at - 1, 2 * m + np.arange(k)] = -1.0
        rows = 2 * m + np.arange(k)
        jac[rows, rows] = outer_a - outer_i * -inner_b
        jac[rows, m + self.at - 1] = outer_i * inner_f
        return np.r_[s.real[1:], s.imag[1:], outer], jac

    def solve(self, x: np.ndarray, share: float, steps: int = 25) -> np.ndarray | None:
        """Newton at a fixed share."""
        for _ in range(steps):
            f, jac = self.residual(x, share)
            if np.max(np.abs(f)) < 1e-10:
                return x
            x = x - np.linalg.solve(jac, f)
            if not np.all(np.isfinite(x)) or np.max(np.abs(x)) > 1e3:
                return None
        return None

    def start(self) -> np.ndarray | None:
        """The solution without demand and generation: limits are drawn in from where nobody meets them. None where its
        voltages are beyond reason: too much charging for the machines there are."""
        m, (low, high) = self.free, (self.low, self.high)
        v = np.ones(self.case.n) * self.case.source
        v[self.at] = self.set
        x: np.ndarray | None = np.r_[np.zeros(m), v[1:], np.zeros(len(self.at))]
        try:
            for wide in (1e3, 30.0, 10.0, *np.linspace(3.0, 0.0, 31).tolist()):
                self.low, self.high = low - wide, high + wide
                x = self.solve(x, 0.0, 60)
                if x is None or np.min(self.parts(x)[1]) < 0.7 or np.max(self.parts(x)[1]) > 1.3:
                    return None
        finally:
            self.low, self.high = low, high
        return x

    def path(self, most: float = 50.0) -> list[tuple[float, np.ndarray]]:
        """Points of the path of solutions from no load, round its turns, until the share has fallen to 85 % of the largest."""
        x = self.start()
        if x is None:
            return []
        size = len(x)
        found = [(0.0, x)]
        way, step, share, peak = np.r_[np.zeros(size), 1.0], 0.05, 0.0, 0.0
        load = np.r_[self.s.real[1:], self.s.imag[1:], np.zeros(len(self.at))]
        for _ in range(4000):
            _, jac = self.residual(x, share)
            bordered = np.block([[jac, -load[:, None]], [way[None, :-1], way[None, -1:]]])
            try:
                tangent = np.linalg.solve(bordered, np.r_[np.zeros(size), 1.0])
            except np.linalg.LinAlgError:
                return found
            tangent /= np.linalg.norm(tangent)
            z0 = np.r_[x, share]
            z = z0 + step * tangent
            done = 0
            for turn in range(8):
                f, jac = self.residual(z[:-1], z[-1])
                g = np.r_[f, tangent @ (z - z0) - step]
                if np.max(np.abs(g)) < 1e-10:
                    done = turn + 1
                    break
                bordered = np.block([[jac, -load[:, None]], [tangent[None, :-1], tangent[None, -1:]]])
                try:
                    z = z - np.linalg.solve(bordered, g)
                except np.linalg.LinAlgError:
                    break
                if not np.all(np.isfinite(z)):
                    break
            near = done and np.linalg.norm(z - z0 - step * tangent) < 0.3 * step
            # Towards a turn in steps that leave the largest share uncertain by little.
            turning = tangent[-1] * (z[-1] - share) < 0 and abs(z[-1] - share) > 1e-4 * max(share, 1e-3)
            if near and not turning:
                way, x, share = (z - z0) / np.linalg.norm(z - z0), z[:-1], float(z[-1])
                found.append((share, x))
                peak = max(peak, share)
                step = min(step * (1.5 if done < 5 else 1.0), 0.4)
                if share > most or share < 0.85 * peak:
                    return found
            elif step < 1e-6:
                return found
            else:
                step /= 2
        return found

    def at_share(self, path: Sequence[tuple[float, np.ndarray]], share: float) -> list[np.ndarray]:
        """Magnitudes of all buses where the path passes a share on its way up."""
        found = []
        for (s0, x0), (s1, x1) in pairwise(path):
            if s0 < share <= s1:
                solved = self.solve(x0 + (x1 - x0) * (share - s0) / (s1 - s0), share)
                if solved is not None:
                    found.append(self.parts(solved)[1])
        return found

    def breaks_conditions(self, v: np.ndarray, volts: np.ndarray, share: float) -> bool:
        """Whether magnitudes and complex voltages of all buses miss the machines' conditions, to 1e-5."""
        q = (volts * np.conj(self.y @ volts)).imag[self.at] - share * self.s.imag[self.at]
        off = v[self.at] - self.set
        inside = (q >= self.low - 1e-5) & (q <= self.high + 1e-5)
        good = inside & ((off > -1e-5) | (q > self.high - 1e-5)) & ((off < 1e-5) | (q < self.low + 1e-5))
        return not bool(np.all(good))


def _fb(a: np.ndarray, b: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """a + b - sqrt(a² + b²) with its derivatives."""
    root = np.sqrt(a * a + b * b + _SHARP)
    return a + b - root, 1 - a / root, 1 - b / root


@dataclass
class Verdict:
    """What became of solvable cases, and of those beyond the limit."""

    solvable: int = 0
    missed: list[str] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)
    lower: list[str] = field(default_factory=list)
    beyond: int = 0
    bad_share: list[str] = field(default_factory=list)

    def counts(self) -> dict[str, int]:
        return {
            "solvable": self.solvable, "missed": len(self.missed), "conditions_broken": len(self.wrong),
            "lower_root": len(self.lower), "beyond": self.beyond, "share_off": len(self.bad_share),
        }  # fmt: skip


def run_trial(cases: Iterable[tuple[str, Case]], shares: Sequence[float] = SHARES, beyond: float = 1.05) -> Verdict:
    """Solve every case from a cold start at shares of its limit and a little beyond it, and judge the answers."""
    from vastmesh.core.flow.balanced import LoadFlowOptions
    from vastmesh.core.network import Condition, Network
    from vastmesh.core.results.state import LiveLoadFlow

    found = Verdict()
    options = LoadFlowOptions()
    for name, case in cases:
        judge = Judge(case)
        path = judge.path()
        if len(path) < 3:
            continue
        limit = max(s for s, _ in path)
        network = Network.from_items(case.scaled(limit).items())
        live = LiveLoadFlow(network)
        order = [f"b{i}" for i in range(case.n)]
        for share in (*shares, beyond):
            factor = share * limit
            live.without_memory()
            result = live.solve(Condition(id="c", name="c", demand_factor=share, generation_factor=share), options)
            label = f"{name} at {100 * share:g} %"
            if share > 1:
                found.beyond += 1
                told = result.account.share_pct
                if result.account.converged:
                    found.wrong.append(f"{label}: answered beyond the limit")
                elif told is None or abs(told / 100 * share - 1) > 0.01:
                    found.bad_share.append(f"{label}: told {told}")
                continue
            references = judge.at_share(path, factor)
            if not references:
                continue
            found.solvable += 1
            if not result.account.converged:
                found.missed.append(f"{label}: {result.account.explanation}")
                continue
            table = result.tables["buses"]
            row = {b: k for k, b in enumerate(table["id"])}
            at = np.array([row[b] for b in order])
            v = np.asarray(table["voltage_pu"])[at]
            volts = v * np.exp(1j * np.radians(np.asarray(table["angle_deg"])[at]))
            if judge.breaks_conditions(v, volts, factor):
                found.wrong.append(label)
            elif all(np.max(reference - v) > 1e-3 for reference in references):
                found.lower.append(f"{label}: {np.min(v):.4f} for {np.min(references[-1]):.4f}")
    return found


def main(count: int, first: int = 0, smallest: int = 30, largest: int = 300) -> dict[str, Any]:
    verdict = run_trial((f"network {s}", random_case(s, smallest, largest)) for s in range(first, first + count))
    return {**verdict.counts(), "examples": (verdict.missed + verdict.wrong + verdict.lower + verdict.bad_share)[:12]}


if __name__ == "__main__":
    import json
    import sys

    print(json.dumps(main(*(int(a) for a in sys.argv[1:])), indent=1))
