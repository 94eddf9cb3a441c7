"""Ways to search for an assignment of phases. All see the same space and the same score; each says how sure it is."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import product

import numpy as np
from scipy.optimize import Bounds, LinearConstraint, milp
from scipy.sparse import coo_array, csr_array

from ...electrical.arrays import Complexes, Floats, Ints
from ._model import Assignment, Feeder, Layout, Measures
from ._objective import score, values

_LEAST_COST = 1e-5  # of two answers alike the one with fewer changes
SMALL = 4000  # assignments up to which all are solved exactly
_BATCH = 256
_FIELDS = ("v", "i", "v1", "v2")


@dataclass
class Search:
    """The space, its score, and what has been found so far.

    ``lowest``: score of the best exact assignment. ``report``: called with the share done and words; raises to stop.
    """

    feeders: list[Feeder]
    before: list[dict[str, float]]
    weight: dict[str, float]
    most_changes: int
    change_cost: float
    deadline: float
    seed: int
    report: Callable[[float, str], None]
    best: Assignment = field(default_factory=lambda: np.zeros(0, np.int64))
    lowest: float = np.inf
    exact: int = 0
    linear: int = 0
    bound: float | None = None
    stopped: bool = False
    known: dict[bytes, float] = field(default_factory=dict)

    @property
    def sizes(self) -> Ints:
        return np.array([len(u.choices) for u in self.feeders[0].units], np.int64)

    def over(self) -> bool:
        self.stopped = self.stopped or time.monotonic() > self.deadline
        return self.stopped

    def cost(self, chosen: Assignment) -> float:
        return self.change_cost * int(np.count_nonzero(chosen))

    def __post_init__(self) -> None:
        self.change_cost = max(self.change_cost, _LEAST_COST)

    def allowed(self, chosen: Assignment) -> bool:
        return int(np.count_nonzero(chosen)) <= self.most_changes

    def exactly(self, chosen: Assignment) -> float:
        """Score by the full load flow under every condition, with the cost of changes; infinite without an answer."""
        key = chosen.tobytes()
        if key in self.known:
            return self.known[key]
        found = []
        for feeder in self.feeders:
            reading = feeder.solve(chosen)
            if reading is None:
                self.known[key] = np.inf
                return np.inf
            found.append(values(feeder.measures(reading), feeder.layout))
        self.exact += 1
        total = float(score(found, self.before, self.weight)[0]) + self.cost(chosen)
        self.known[key] = total
        if total < self.lowest - 1e-12 and self.allowed(chosen):
            self.lowest, self.best = total, chosen.copy()
        return total


@dataclass
class Around:
    """The linear model around one assignment, under every condition."""

    search: Search
    at: Assignment
    models: list[tuple[Measures, Measures, Layout]]

    @classmethod
    def of(cls, search: Search, at: Assignment) -> Around | None:
        models = []
        for feeder in search.feeders:
            reading = feeder.solve(at)
            if reading is None:
                return None
            models.append((*feeder.linear(reading, at), feeder.layout))
        return cls(search, at.copy(), models)

    def __post_init__(self) -> None:
        sizes = self.search.sizes
        self._first = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)[:-1]

    def scores(self, candidates: Ints, about: Assignment | None = None) -> Floats:
        """Scores of assignments (k, n_unit) by the linear model, cost of changes included.

        ``about``: an assignment that the candidates differ little from; what they share with it is added up once.
        """
        about = self.at if about is None else about
        found = np.empty(len(candidates))
        base = self._sums(about)
        for start in range(0, len(candidates), _BATCH):
            batch = candidates[start : start + _BATCH]
            k, u = np.nonzero(batch != about)
            weight = csr_array(
                (np.r_[np.ones(len(k)), -np.ones(len(k))],
                 (np.r_[self._first[u] + batch[k, u], self._first[u] + about[u]], np.r_[k, k])),
                shape=(int(self.search.sizes.sum()), len(batch)),
            )  # fmt: skip
            of = []
            for (_, added, lay), sums in zip(self.models, base, strict=True):
                fields = [s + getattr(added, f) @ weight for f, s in zip(_FIELDS, sums, strict=True)]
                of.append(values(Measures(*fields), lay))
            found[start : start + _BATCH] = score(of, self.search.before, self.search.weight)
        self.search.linear += len(candidates)
        return np.asarray(found + self.search.change_cost * np.count_nonzero(candidates, axis=1))

    def _sums(self, chosen: Assignment) -> list[list[Complexes]]:
        """Measures of one assignment, one column, under every condition."""
        columns = self._first + chosen
        return [
            [getattr(now, f) + getattr(added, f)[:, columns].sum(axis=1, keepdims=True) for f in _FIELDS]
            for now, added, _ in self.models
        ]


def exhaustive(search: Search) -> None:
    """Every assignment by the full load flow: the answer is the optimum."""
    sizes = search.sizes
    total = int(np.prod(sizes.astype(np.float64)))
    for n, choice in enumerate(product(*(range(s) for s in sizes))):
        chosen = np.array(choice, np.int64)
        if search.allowed(chosen):
            search.exactly(chosen)
        if n % 16 == 0:
            search.report(n / total, f"{n} of {total} assignments")
            if search.over():
                return
    search.bound = search.lowest


def exchange(search: Search) -> None:
    """From the present state, from random ones and from what is best so far: the best move or swap by the linear model, checked
    exactly, until none helps."""
    rng = np.random.default_rng(search.seed)
    starts = 0
    at = np.zeros(len(search.sizes), np.int64)
    search.exactly(at)
    idle = 0
    while not search.over() and idle < 8:
        before = search.lowest
        _descend(search, at)
        idle = idle + 1 if search.lowest > before - 1e-9 else 0
        starts += 1
        # Shake the best found: a few units at random, within the changes allowed.
        at = search.best.copy()
        if not len(at):
            return
        for u in rng.choice(len(at), size=min(len(at), 2 + len(at) // 8), replace=False).tolist():
            at[u] = rng.integers(search.sizes[u])
        while not search.allowed(at):
            at[rng.choice(np.flatnonzero(at))] = 0
        search.report(min(0.95, starts / 12), f"best so far {search.lowest:.2f} % of the present objective")


def _descend(search: Search, start: Assignment) -> None:
    at, now = start.copy(), search.exactly(start)
    while not search.over():
        model = Around.of(search, at)
        if model is None:
            return
        improved = False
        # Several moves by one linear model; then the truth, and a new model around it.
        trial, guess = at.copy(), now
        for _ in range(12):
            if search.over():
                break
            candidates = _neighbours(search, trial)
            if not len(candidates):
                break
            found = model.scores(candidates, trial)
            k = int(found.argmin())
            if found[k] >= guess - 1e-6:
                break
            trial, guess = candidates[k], float(found[k])
            improved = True
        if not improved:
            return
        exact = search.exactly(trial)
        if exact >= now - 1e-9:
            # The linear model promised too much: try its best single moves for what they are.
            candidates = _neighbours(search, at)
            order = np.argsort(model.scores(candidates))[:6]
            tried = [(search.exactly(candidates[k]), k) for k in order.tolist()]
            exact, k = min(tried)
            if exact >= now - 1e-9:
                return
            trial = candidates[k]
        at, now = trial, exact
        search.report(0.5, f"best so far {search.lowest:.2f} % of the present objective")


def _neighbours(search: Search, at: Assignment) -> Ints:
    """Assignments one move away, and where that is cheap one swap of two units away."""
    sizes, n = search.sizes, len(at)
    found = []
    for u in range(n):
        for c in range(int(sizes[u])):
            if c != at[u]:
                new = at.copy()
                new[u] = c
                found.append(new)
    if n <= 40:
        for u in range(n):
            for w in range(u + 1, n):
                if at[u] != at[w] and at[u] < sizes[w] and at[w] < sizes[u]:
                    new = at.copy()
                    new[u], new[w] = at[w], at[u]
                    found.append(new)
    stacked = np.array(found, np.int64).reshape(-1, n)
    return np.asarray(stacked[np.count_nonzero(stacked, axis=1) <= search.most_changes])


def genetic(search: Search) -> None:
    """A population that is crossed and mutated; scored by linear models around the best, the best checked exactly."""
    rng = np.random.default_rng(search.seed)
    sizes, n = search.sizes, len(search.sizes)
    search.exactly(np.zeros(n, np.int64))
    size, rounds = 80, 60
    people = rng.integers(0, sizes, size=(size, n))
    people[0] = 0
    model = Around.of(search, search.best)
    if model is None:
        return
    for generation in range(rounds):
        if search.over():
            return
        people = np.array([_reduced(p, search, rng) for p in people])
        fitness = model.scores(people)
        order = np.argsort(fitness)
        people = people[order]
        before = search.lowest
        for p in people[:3]:
            search.exactly(p)
        if search.lowest < before - 1e-9 or generation % 10 == 9:
            model = Around.of(search, search.best) or model
        parents = people[: size // 2]
        mothers, fathers = (parents[rng.integers(0, len(parents), size - 4)] for _ in range(2))
        children = np.where(rng.random((size - 4, n)) < 0.5, mothers, fathers)
        mutate = rng.random(children.shape) < 1.5 / n
        children = np.where(mutate, rng.integers(0, sizes, size=children.shape), children)
        people = np.vstack([people[:3], search.best[None], children])
        search.report((generation + 1) / rounds, f"generation {generation + 1}, best {search.lowest:.2f} %")
    _descend(search, search.best)


def _reduced(p: Assignment, search: Search, rng: np.random.Generator) -> Assignment:
    """An assignment within the changes allowed: moves taken back at random."""
    spare = int(np.count_nonzero(p)) - search.most_changes
    if spare <= 0:
        return p
    found = p.copy()
    found[rng.choice(np.flatnonzero(p), size=spare, replace=False)] = 0
    return found


_SIDES = 16
_MOST_BRANCHES = 40  # told apart by the programme; the rest weigh little


def mixed_integer(search: Search) -> None:
    """A mixed-integer linear programme around the present state, its answer checked exactly and taken as the next state.

    One binary for each choice of each unit. Deviations of power are linear in them; magnitudes of currents and voltages lie
    in regular polygons of 16 sides, which come out at most 2 % too small. Losses are quadratic: the longest side of the phase
    currents by resistance stands for them. The bound is one of this linear model.
    """
    at = np.zeros(len(search.sizes), np.int64)
    search.exactly(at)
    bound: float | None = None
    for round_ in range(4):
        model = Around.of(search, at)
        if model is None or search.over():
            return
        search.report(round_ / 4, f"mixed-integer model {round_ + 1}, best {search.lowest:.2f} %")
        found = _programme(search, model)
        if found is None:
            break
        chosen, low = found
        bound = low if bound is None else bound
        now = search.exactly(chosen)
        if np.array_equal(chosen, at) or now > search.lowest + 1e-9:
            break
        at = chosen
    _descend(search, search.best)
    search.bound = bound


def _programme(search: Search, model: Around) -> tuple[Assignment, float] | None:
    """Build and solve the linear programme (HiGHS); the assignment and a lower bound of its score."""
    sizes, n = search.sizes, len(search.sizes)
    first = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
    n_x = int(first[-1])
    price = np.full(n_x, search.change_cost)
    price[first[:-1]] = 0.0
    further: list[float] = []
    blocks: list[tuple[Floats, Floats, int]] = []
    total = sum(search.weight.values()) * len(model.models)

    def bounded(base: Floats, effect: Floats, cost: float) -> None:
        """A new variable above base + effect x of every row, (r,) and (r, n_x), at a cost."""
        blocks.append((base, effect, n_x + len(further)))
        further.append(cost)

    for (now, added, lay), was in zip(model.models, search.before, strict=True):
        share = {k: 100 * w / total / max(was[k], 1e-9) for k, w in search.weight.items()}
        base, effect = _powers(now, added, lay)
        if "head" in share:
            b, e = _at_head(now, added, lay)
            bounded(*_deviations(b, e), share["head"] * 100 / max(abs(float(b.mean())), 1e-6))
        weight = np.zeros(lay.n_branch)
        if "branches" in share:
            weight += share["branches"] * lay.lengths / 1e3
        if "losses" in share:  # stands for them: unevenness where resistance is
            ohm = np.bincount(lay.branch[lay.first], lay.own_ohm[lay.first], lay.n_branch)
            weight += share["losses"] * ohm * was["losses"] / max(float((ohm * _spread_of(base)).sum()), 1e-12)
        heaviest = np.argsort(-weight * _spread_of(base))[:_MOST_BRANCHES]
        for branch in heaviest[weight[heaviest] > 0].tolist():
            bounded(*_deviations(base[branch], effect[branch]), float(weight[branch]))
        if "neutral" in share:
            rows = np.flatnonzero((lay.conductor == 3) & lay.first)
            bounded(*_polygon(now.i[rows, 0], added.i[rows]), share["neutral"])
        if "voltage" in share and len(now.v1):
            scale = 100 / np.abs(now.v1[:, 0])
            bounded(*_polygon(now.v2[:, 0] * scale, added.v2 * scale[:, None]), share["voltage"])
    width = n_x + len(further)
    one = csr_array((np.ones(n_x), (np.repeat(np.arange(n), sizes), np.arange(n_x))), shape=(n, width))
    moved = np.ones(n_x)
    moved[first[:-1]] = 0.0
    most = csr_array(np.r_[moved, np.zeros(len(further))][None])
    rules = [LinearConstraint(one, 1, 1), LinearConstraint(most, 0, search.most_changes)]
    for base, effect, t in blocks:
        column = coo_array(
            (-np.ones(len(base)), (np.arange(len(base)), np.full(len(base), t))), shape=(len(base), width)
        )
        rows = csr_array(np.hstack([effect, np.zeros((len(base), len(further)))])) + column.tocsr()
        rules.append(LinearConstraint(rows, -np.inf, -base))
    found = milp(
        np.r_[price, further], integrality=np.r_[np.ones(n_x), np.zeros(len(further))],
        bounds=Bounds(0, np.r_[np.ones(n_x), np.full(len(further), np.inf)]), constraints=rules,
        options={"time_limit": max(0.5, (search.deadline - time.monotonic()) / 3), "mip_rel_gap": 2e-3},
    )  # fmt: skip
    if found.x is None:
        return None
    chosen = np.array([int(found.x[first[u] : first[u + 1]].argmax()) for u in range(n)], np.int64)
    return chosen, float(found.mip_dual_bound)


def _spread_of(base: Floats) -> Floats:
    return np.asarray(np.abs(base - base.mean(axis=1, keepdims=True)).max(axis=1))


def _powers(now: Measures, added: Measures, lay: Layout) -> tuple[Floats, Floats]:
    """Active power of each branch and phase at its from end, W, (n, 3), and what each choice adds, (n, 3, n_x)."""
    own = np.flatnonzero(lay.first & (lay.conductor < 3))
    return _power_of(now, added, lay, own, lay.branch[own], lay.n_branch)


def _at_head(now: Measures, added: Measures, lay: Layout) -> tuple[Floats, Floats]:
    base, effect = _power_of(now, added, lay, lay.head, np.zeros(len(lay.head), np.int64), 1)
    return base[0], effect[0]


def _power_of(
    now: Measures, added: Measures, lay: Layout, rows: Ints, group: Ints, count: int
) -> tuple[Floats, Floats]:
    v = now.v[:, 0] - np.where(lay.neutral_of >= 0, now.v[np.maximum(lay.neutral_of, 0), 0], 0)
    base, effect = np.zeros((count, 3)), np.zeros((count, 3, added.i.shape[1]))
    np.add.at(base, (group, lay.conductor[rows]), (v[rows] * np.conj(now.i[rows, 0])).real)
    np.add.at(effect, (group, lay.conductor[rows]), (v[rows, None] * np.conj(added.i[rows])).real)
    return base, effect


def _deviations(base: Floats, effect: Floats) -> tuple[Floats, Floats]:
    """Rows p − mean and mean − p of three phases: base (3,), effect (3, n_x)."""
    b, e = base - base.mean(), effect - effect.mean(axis=0)
    return np.r_[b, -b], np.vstack([e, -e])


def _polygon(base: np.ndarray, effect: np.ndarray) -> tuple[Floats, Floats]:
    """Projections of complex rows on the sides of a regular polygon: their largest is the magnitude, nearly."""
    turn = np.exp(-2j * np.pi * np.arange(_SIDES) / _SIDES)
    b = (base[:, None] * turn).real.ravel()
    e = (effect[:, None, :] * turn[None, :, None]).real.reshape(len(b), -1)
    return b, e


METHODS: dict[str, Callable[[Search], None]] = {
    "exact": exhaustive, "exchange": exchange, "genetic": genetic, "mixed_integer": mixed_integer,
}  # fmt: skip


__all__ = ["METHODS", "SMALL", "Search"]
