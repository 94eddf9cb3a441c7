"""The best open points of linear equations, as a mixed-integer programme.

Unknown are active and reactive power through every branch, angles, squares of voltages and what is closed. Where a branch
is closed

    θ_i - θ_j = x P - r Q,   u_i - u_j = 2 (r P + x Q)

(losses left out, 1 p.u.); where it is open nothing flows and both may be anything. Where no loop is left, neither is needed.
Losses r (P² + Q²) stand along tangents, added where the last answer lies until they hold. Further answers follow by forbidding
those that are known.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
from scipy.optimize import Bounds, LinearConstraint, milp
from scipy.sparse import csc_array

from ...electrical import SLACK
from ...electrical.arrays import Bools, Floats
from ...electrical.topology import components, trace
from ..rows import RowsOf
from ._graph import Choice

_WIDE = 2.0  # rad and p.u. of squares across what is open
_ROUNDS, _SECONDS, _NEAR = 6, 60.0, 1e-3


def best_of_linear(choice: Choice, count: int, stop: Callable[[], None]) -> Iterator[Bools]:
    """What is closed, the best first, with this many closed. ``stop``: asked between programmes."""
    model = _Model(choice, count)
    while True:
        found = model.solve(stop)
        if found is None:
            return
        yield found
        model.forbid(found)


class _Model:
    def __init__(self, choice: Choice, count: int) -> None:
        arrays = choice.variants.arrays
        branch, switch = arrays.tables["branch"], arrays.tables["switch"]
        # Nodes where what may be switched is open; every node has its angle and square of voltage.
        held = switch["closed"].copy()
        held[[e.switch for e in choice.edges if e.switch >= 0]] = False
        live = trace(arrays).live
        _, joined = components(arrays.n_bus, switch["from"][held], switch["to"][held])
        node = {x: k for k, x in enumerate(dict.fromkeys(joined[live].tolist()))}
        at = [node[x] if on else -1 for x, on in zip(joined.tolist(), live.tolist(), strict=True)]
        n = len(node)
        rows = [r for r in range(len(branch["element"])) if live[branch["from"][r]]]
        may = {e.branch: k for k, e in enumerate(choice.edges) if e.branch >= 0}
        # Branches, then switches that may be switched.
        ends = [(at[int(branch["from"][r])], at[int(branch["to"][r])], float(branch["r"][r]), float(branch["x"][r]),
                 may.get(r, -1)) for r in rows]  # fmt: skip
        ends += [(at[int(switch["from"][e.switch])], at[int(switch["to"][e.switch])], 0.0, 0.0, k)
                 for k, e in enumerate(choice.edges) if e.switch >= 0]  # fmt: skip
        m, z = len(ends), len(choice.edges)
        self.m, self.z = m, z
        self.r = np.array([e[2] for e in ends])
        load, injection, shunt = (arrays.tables[t] for t in ("load", "injection", "shunt"))
        holds = injection["control"] == SLACK
        given = np.where(holds, 0, injection["p"] + 1j * injection["q"])
        bus = np.r_[load["bus"], injection["bus"], shunt["bus"]]
        power = np.r_[load["p"] + 1j * load["q"], -given, np.conj(shunt["y"])]
        place = np.array(at)[bus]
        drawn = np.bincount(place[place >= 0], power.real[place >= 0], n) + 1j * np.bincount(
            place[place >= 0], power.imag[place >= 0], n
        )
        slack = {at[b]: v for b, v in zip(injection["bus"][holds].tolist(), injection["voltage"][holds].tolist(), strict=True)
                 if at[b] >= 0}  # fmt: skip
        # Unknowns: P, Q, commodity of branches; θ, u of nodes; closed; losses by P and by Q.
        self.at_q, self.at_c, self.at_t = m, 2 * m, 3 * m
        self.at_u, self.at_z = 3 * m + n, 3 * m + 2 * n
        self.at_hp, self.at_hq = self.at_z + z, self.at_z + z + m
        self.size = self.at_hq + m
        self.rows = RowsOf()
        self._add = self.rows.add
        into: list[list[tuple[int, float]]] = [[] for _ in range(n)]
        for k, (i, j, *_) in enumerate(ends):
            if i != j:
                into[j].append((k, 1.0))
                into[i].append((k, -1.0))
        total = float(np.abs(drawn).sum()) + 1.0
        for part, offset in ((drawn.real, 0), (drawn.imag, m), (np.ones(n), 2 * m)):
            for i in range(n):
                if i in slack:
                    continue
                terms = [(offset + k, sign) for k, sign in into[i]]
                self._add(terms, float(part[i]), float(part[i]))
        # Without loops the flows follow from the demand alone, whatever voltages and angles are.
        radial = m - z + count - n + len(slack) == 0
        for k, (i, j, r, x, choice_at) in enumerate(ends):
            for terms in () if radial else ([(self.at_t + i, 1.0), (self.at_t + j, -1.0), (k, -x), (self.at_q + k, r)],
                          [(self.at_u + i, 1.0), (self.at_u + j, -1.0), (k, -2 * r), (self.at_q + k, -2 * x)]):  # fmt: skip
                if choice_at < 0:
                    self._add(terms, 0.0, 0.0)
                else:
                    self._add([*terms, (self.at_z + choice_at, _WIDE)], -np.inf, _WIDE)
                    self._add([*terms, (self.at_z + choice_at, -_WIDE)], -_WIDE, np.inf)
            if choice_at >= 0:
                for offset, most in ((0, total), (self.at_q, total), (self.at_c, float(n))):
                    self._add([(offset + k, 1.0), (self.at_z + choice_at, -most)], -np.inf, 0.0)
                    self._add([(offset + k, 1.0), (self.at_z + choice_at, most)], 0.0, np.inf)
        self._add([(self.at_z + k, 1.0) for k in range(z)], float(count), float(count))
        lower, upper = np.full(self.size, -np.inf), np.full(self.size, np.inf)
        for i, v in slack.items():
            lower[self.at_u + i] = upper[self.at_u + i] = v**2
            lower[self.at_t + i] = upper[self.at_t + i] = 0.0
        lower[self.at_z : self.at_z + z], upper[self.at_z : self.at_z + z] = 0.0, 1.0
        lower[self.at_hp :] = 0.0
        self.lower, self.upper = lower, upper
        for point in (0.0, 0.1, 0.3, 1.0):
            for sign in (-1.0, 1.0):
                self._tangents(np.full(m, sign * point * total / 4), np.full(m, sign * point * total / 4))

    def _tangents(self, p: Floats, q: Floats) -> None:
        for k in np.flatnonzero(self.r > 0).tolist():
            for x, at, height in ((float(p[k]), k, self.at_hp), (float(q[k]), self.at_q + k, self.at_hq)):
                r = float(self.r[k])
                self._add([(height + k, 1.0), (at, -2 * r * x)], -r * x * x, np.inf)

    def forbid(self, closed: Bools) -> None:
        """This way is known."""
        terms = [(self.at_z + k, 1.0 if on else -1.0) for k, on in enumerate(closed.tolist())]
        self._add(terms, -np.inf, float(closed.sum()) - 1)

    def solve(self, stop: Callable[[], None]) -> Bools | None:
        cost, whole = np.zeros(self.size), np.zeros(self.size)
        cost[self.at_hp :] = 1.0
        whole[self.at_z : self.at_z + self.z] = 1
        found = None
        for _ in range(_ROUNDS):
            stop()
            rows = self.rows.done()
            limits = LinearConstraint(csc_array(rows.matrix(self.size)), rows.low, rows.high)
            answer = milp(cost, integrality=whole, bounds=Bounds(self.lower, self.upper), constraints=limits,
                          options={"time_limit": _SECONDS, "mip_rel_gap": 1e-6})  # fmt: skip
            if answer.x is None:
                return found
            x = answer.x
            found = x[self.at_z : self.at_z + self.z] > 0.5
            p, q = x[: self.m], x[self.at_q : self.at_q + self.m]
            real = float((self.r * (p * p + q * q)).sum())
            if real <= answer.fun * (1 + _NEAR) + 1e-12:
                break
            self._tangents(p, q)
        return found
