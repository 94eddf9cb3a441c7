"""Ways to search for an assignment of phases. All see the same space and the same score; each says how sure it is."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import islice

import numpy as np
from scipy.sparse import coo_array, csr_array

from ...electrical.arrays import Floats, Ints
from ._descent import Flat, anneal, descend, flatten, scores_of
from ._model import Assignment, Feeder, Layout, Measures
from ._objective import score, values

_LEAST_COST = 1e-5  # of two answers alike the one with fewer changes
SMALL = 100_000  # assignments up to which all are solved exactly
_BATCH = 1024  # of them solved side by side
_MANY = 2**31  # moves: as many as help
_PAIRS = 200_000  # candidates of one descent by the linear model after which no further pair is begun
_CHILD = 15_000  # the same for one of a population
_PATIENCE = 2  # searches in a row that may lead to none better
_WARM, _COLD = 20.0, 0.024  # first and last temperature, in shares of the score that fall to one unit
_COOLER = 0.4  # first temperature of a search in those of the one before
_STEPS, _FEW = 45_000, 1_500_000  # random moves for each unit, up to so many; a third for each where that is more
_SLICES = 60  # parts of a search, after each of which it can be stopped
_PEOPLE, _GENERATIONS = 16, 400
_STILL = 25  # generations in a row that may bring nothing better


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

    def all_exactly(self, candidates: Ints) -> Floats:
        """Scores of many assignments (k, n_unit) by their own load flows, side by side where that is possible."""
        measured = [feeder.many(candidates) for feeder in self.feeders]
        if any(m is None for m in measured):
            return np.array([self.exactly(c) for c in candidates])
        self.exact += len(candidates)
        found = [values(m, f.layout) for m, f in zip(measured, self.feeders, strict=True) if m is not None]
        total = score(found, self.before, self.weight) + self.change_cost * np.count_nonzero(candidates, axis=1)
        return np.asarray(total)

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
    flat: Flat = field(init=False)

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
        self.flat = flatten(self.models, self.search.sizes, self.search.before, self.search.weight)

    def scores(self, candidates: Ints) -> Floats:
        """Scores of assignments (k, n_unit) by the linear model, cost of changes included."""
        self.search.linear += len(candidates)
        found = scores_of(candidates, self.flat) + self.search.change_cost * np.count_nonzero(candidates, axis=1)
        return np.asarray(found)

    def descended(
        self, start: Assignment, rng: np.random.Generator, *, moves: int = _MANY, pairs: int = _PAIRS
    ) -> tuple[Assignment, float]:
        """Where moves of single units and of pairs lead from a state, and its score by the linear model."""
        found = start.copy()
        score_, tried = descend(found, rng.permutation(len(start)), self.search.most_changes, self.search.change_cost,
                                moves, pairs, self.flat)  # fmt: skip
        self.search.linear += int(tried)
        return found, float(score_)


def count_allowed(sizes: Ints, most_changes: int) -> int:
    """How many assignments there are with no more than so many units moved."""
    by_moved = [1] + [0] * len(sizes)
    for size in sizes.tolist():
        for k in range(len(sizes), 0, -1):
            by_moved[k] += by_moved[k - 1] * (size - 1)
    return sum(by_moved[: most_changes + 1])


def allowed_assignments(sizes: Ints, most_changes: int) -> Iterator[Assignment]:
    """All of them, in the order of a counter whose last digit turns fastest."""
    chosen = np.zeros(len(sizes), np.int64)

    def from_unit(u: int, left: int) -> Iterator[Assignment]:
        if u == len(sizes):
            yield chosen.copy()
            return
        for c in range(int(sizes[u]) if left else 1):
            chosen[u] = c
            yield from from_unit(u + 1, left - (c > 0))
        chosen[u] = 0

    yield from from_unit(0, most_changes)


def exhaustive(search: Search) -> None:
    """Every assignment allowed by its own load flow: the answer is the optimum.

    The few best are solved again by Newton's method, so that the figure told is the usual one.
    """
    total = count_allowed(search.sizes, search.most_changes)
    rest = allowed_assignments(search.sizes, search.most_changes)
    best: list[tuple[float, bytes]] = []
    done = 0
    while batch := list(islice(rest, _BATCH)):
        candidates = np.array(batch, np.int64)
        found = search.all_exactly(candidates)
        order = np.argsort(found, kind="stable")[:4]
        best = sorted(best + [(float(found[k]), candidates[k].tobytes()) for k in order])[:4]
        done += len(batch)
        search.report(done / total, f"{done} of {total} assignments")
        if search.over():
            break
    for _, key in best:
        search.exactly(np.frombuffer(key, np.int64))
    if done == total:
        search.bound = search.lowest


def exchange(search: Search) -> None:
    """Moves of one and of two units: downhill; then with worse ones taken now and then, less and less, and downhill again;
    from the best so far, a little less warm each time, until some in a row lead to none better."""
    rng = np.random.default_rng(search.seed)
    model = _settle(search, search.best.copy(), rng)
    warm, idle = _WARM, 0
    while model is not None and not search.over() and idle < _PATIENCE:
        before = search.lowest
        _settle(search, _annealed(search, model, rng, warm, idle), rng)
        idle = idle + 1 if search.lowest > (1 - 1e-4) * before else 0
        if search.lowest < before:
            model = Around.of(search, search.best)
        warm = max(warm * _COOLER, 4 * _COLD)


def thorough(search: Search) -> None:
    """Exchange, then a population that begins with its answer; exchange again where that found a better one."""
    whole, found = search.report, np.inf

    def part(first: float, share: float) -> Callable[[float, str], None]:
        return lambda fraction, words: whole(first + share * fraction, words)

    for method, first, share in ((exchange, 0.0, 0.5), (genetic, 0.5, 0.3), (exchange, 0.8, 0.2)):
        if search.over() or (method is exchange and search.lowest > (1 - 1e-4) * found):
            return
        search.report, found = part(first, share), search.lowest
        method(search)


def _annealed(search: Search, model: Around, rng: np.random.Generator, warm: float, idle: int) -> Assignment:
    """The best that random moves with a falling temperature meet by a linear model; in slices, so that it can be stopped."""
    at, best, low = search.best.copy(), search.best, search.lowest
    hot, cold = [share * search.lowest / len(at) for share in (warm, _COLD)]
    steps = max(min(_STEPS * len(at), _FEW), _STEPS * len(at) // 3) // _SLICES
    for k in range(_SLICES):
        if search.over():
            break
        one, other = (hot * (cold / hot) ** ((k + e) / _SLICES) for e in (0, 1))
        seed = int(rng.integers(2**31))
        score_, found = anneal(at, seed, steps, one, other, search.most_changes, search.change_cost, model.flat)
        search.linear += steps
        if score_ < low:
            low, best = float(score_), found
        search.report((idle + k / _SLICES) / (_PATIENCE + 1), f"best so far {low:.2f} % of the present objective")
    return best


def _settle(search: Search, start: Assignment, rng: np.random.Generator) -> Around | None:
    """Descend by linear models, each around the last state solved in full, until the exact score falls no further.

    A model is trusted for as many moves as the last ones proved good for. Returns the last model, None without an answer.
    """
    at, now, trusted = start.copy(), search.exactly(start), 16
    model = Around.of(search, at)
    while model is not None and not search.over():
        trial, _ = model.descended(at, rng, moves=trusted)
        if np.array_equal(trial, at):
            break
        exact = search.exactly(trial)
        if exact < now - 1e-9:
            at, now, trusted = trial, exact, 2 * trusted
            model = Around.of(search, at)
            search.report(0.0, f"best so far {search.lowest:.2f} % of the present objective")
        elif trusted > 1:
            trusted = max(1, min(trusted, int(np.count_nonzero(trial != at))) // 4)
        else:
            break
    return model


def genetic(search: Search) -> None:
    """A population that is crossed and mutated, each child led downhill; the best are solved in full."""
    rng = np.random.default_rng(search.seed)
    sizes, n = search.sizes, len(search.sizes)
    model = _settle(search, search.best.copy(), rng)
    if model is None:
        return

    def raised(children: Ints, model: Around) -> tuple[Ints, Floats]:
        grown = [model.descended(_reduced(c, search, rng), rng, pairs=_CHILD) for c in children]
        return np.array([g[0] for g in grown]), np.array([g[1] for g in grown])

    people, fitness = raised(rng.integers(0, sizes, size=(_PEOPLE, n)), model)
    people, fitness = np.vstack([search.best[None], people]), np.r_[model.scores(search.best[None]), fitness]
    last = 0
    for generation in range(_GENERATIONS):
        search.report(generation / _GENERATIONS, f"generation {generation + 1}, best {search.lowest:.2f} %")
        if search.over() or generation - last > _STILL:
            break
        parents = people[np.argsort(fitness, kind="stable")[: _PEOPLE // 2]]
        mothers, fathers = (parents[rng.integers(0, len(parents), _PEOPLE)] for _ in range(2))
        children = np.where(rng.random((_PEOPLE, n)) < 0.5, mothers, fathers)
        children = np.where(rng.random(children.shape) < 2 / n, rng.integers(0, sizes, size=children.shape), children)
        young, theirs = raised(children, model)
        together, all_fitness = np.vstack([people, young]), np.r_[fitness, theirs]
        together, first = np.unique(together, axis=0, return_index=True)
        order = np.argsort(all_fitness[first], kind="stable")[:_PEOPLE]
        people, fitness = together[order], all_fitness[first][order]
        before = search.lowest
        if fitness[0] < before - 1e-6:
            last = generation
            search.exactly(people[0])
            if search.lowest < before - 1e-6 and (nearer := Around.of(search, search.best)) is not None:
                model = nearer
                fitness = model.scores(people)
    _settle(search, search.best, rng)


def _reduced(p: Assignment, search: Search, rng: np.random.Generator) -> Assignment:
    """An assignment within the changes allowed: moves taken back at random."""
    spare = int(np.count_nonzero(p)) - search.most_changes
    if spare <= 0:
        return p
    found = p.copy()
    found[rng.choice(np.flatnonzero(p), size=spare, replace=False)] = 0
    return found


_SIDES = 16
_SHARE = 0.3  # of the time left, for each programme
_MOST_BRANCHES = 24  # told apart by the programme; the rest weigh little
_MOST_PLACES = 12  # of which the largest is sought
_MOST_NODES = 400  # of the tree of a programme: work and not time ends it, so that it repeats


def mixed_integer(search: Search) -> None:
    """A mixed-integer linear programme around the present state, its answer checked exactly and taken as the next state.

    One binary for each choice of each unit. Deviations of power are linear in them; magnitudes of currents and voltages lie
    in regular polygons of 16 sides, which come out at most 2 % too small. Losses are quadratic: the longest side of the phase
    currents by resistance stands for them. What bounds this model bounds nothing else, so that none is told.
    """
    at = np.zeros(len(search.sizes), np.int64)
    search.exactly(at)
    for round_ in range(3):
        model = Around.of(search, at)
        if model is None or search.over():
            return
        search.report(round_ / 3, f"mixed-integer model {round_ + 1}, best {search.lowest:.2f} %")
        found = _programme(search, model)
        if found is None:
            break
        chosen = found
        now = search.exactly(chosen)
        if np.array_equal(chosen, at) or now > search.lowest + 1e-9:
            break
        at = chosen
    _settle(search, search.best, np.random.default_rng(search.seed))


def _programme(search: Search, model: Around) -> Assignment | None:
    """Build and solve the linear programme (HiGHS): the assignment it finds within a number of nodes."""
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
        if "squares" in share:  # stands for them: deviations, more where they are large now
            apart = (base - base.mean(axis=1, keepdims=True)) ** 2
            weight += share["squares"] * lay.lengths / 1e6 * np.sqrt(apart.sum(axis=1))
        if "losses" in share:  # stands for them: unevenness where resistance is
            ohm = np.bincount(lay.branch[lay.first], lay.own_ohm[lay.first], lay.n_branch)
            weight += share["losses"] * ohm * was["losses"] / max(float((ohm * _spread_of(base)).sum()), 1e-12)
        heaviest = np.argsort(-weight * _spread_of(base))[:_MOST_BRANCHES]
        for branch in heaviest[weight[heaviest] > 0].tolist():
            bounded(*_deviations(base[branch], effect[branch]), float(weight[branch]))
        if "neutral" in share:
            rows = np.flatnonzero((lay.conductor == 3) & lay.first)
            rows = rows[np.argsort(-np.abs(now.i[rows, 0]))[:_MOST_PLACES]]
            bounded(*_polygon(now.i[rows, 0], added.i[rows]), share["neutral"])
        if "voltage" in share and len(now.v1):
            scale = 100 / np.abs(now.v1[:, 0])
            rows = np.argsort(-np.abs(now.v2[:, 0]) * scale)[:_MOST_PLACES]
            bounded(*_polygon(now.v2[rows, 0] * scale[rows], added.v2[rows] * scale[rows, None]), share["voltage"])
    width = n_x + len(further)
    one = csr_array((np.ones(n_x), (np.repeat(np.arange(n), sizes), np.arange(n_x))), shape=(n, width))
    moved = np.ones(n_x)
    moved[first[:-1]] = 0.0
    most = csr_array(np.r_[moved, np.zeros(len(further))][None])
    from scipy.optimize import Bounds, LinearConstraint, milp  # slow to load, and only this method needs it

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
        options={"time_limit": max(0.5, (search.deadline - time.monotonic()) * _SHARE), "mip_rel_gap": 2e-3,
                 "node_limit": _MOST_NODES},
    )  # fmt: skip
    if found.x is None:
        return None
    return np.array([int(found.x[first[u] : first[u + 1]].argmax()) for u in range(n)], np.int64)


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
    "exact": exhaustive, "thorough": thorough, "exchange": exchange, "genetic": genetic, "mixed_integer": mixed_integer,
}  # fmt: skip


__all__ = ["METHODS", "SMALL", "Search", "count_allowed"]
