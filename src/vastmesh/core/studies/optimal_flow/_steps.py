"""Taps, shifters and capacitors on whole steps: what an exact answer leaves between them is set, and all else solved again."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from itertools import product

import numpy as np

from ...network import Transformer
from ..base import Progress
from ..rows import Rows
from ._build import Case
from ._changer import changer_of, shift_steps
from ._grid import Optimum, Soft, State
from ._options import OptimalFlowOptions
from ._problem import solve
from ._published import positions

_FEW = 4
Side = tuple[str, int, float, float]


def in_whole_steps(
    case: Case, found: Optimum, options: OptimalFlowOptions, progress: Progress, soft: Soft | None
) -> tuple[Case, Optimum, str]:
    """Taps, shifters and banks set to whole steps, and all else solved again; what that costs, in words. As found where nothing
    moves by steps, or where steps may be any.

    Few are tried on both sides of where they stand, all combinations; of more the nearest step of each, and where that leaves no
    answer one after another, those nearest to a step first, with its other side where the first fails.
    """
    if options.steps != "whole" or not (case.movers.turns or case.movers.banks):
        return case, found, ""
    sides = _sides(case, found)
    best: Optimum | None = None
    tried = 0

    def held(chosen: dict[int, float]) -> Optimum | None:
        nonlocal tried
        tried += 1
        progress(0.95, f"whole steps, try {tried}")
        answer = solve([_held(case, case.state, found, sides, chosen)], progress, soft=soft, warm=True)[0]
        return answer if answer.found else None

    choices = [(near, far) if near != far else (near,) for _, _, near, far in sides]
    if len([c for c in choices if len(c) > 1]) <= _FEW:
        for combination in product(*choices):
            answer = held(dict(enumerate(combination)))
            if answer is not None and (best is None or answer.value < best.value - 1e-12 * abs(best.value)):
                best = answer
    else:
        best = held({k: c[0] for k, c in enumerate(choices)}) or _one_by_one(sides, choices, held)
    if best is None:
        text = "No whole steps near those found keep every limit: taps and capacitors stay between steps here."
        return case, found, text
    lost = best.value - found.value
    text = f"Whole steps cost {max(lost, 0.0):.4g} {options.unit} more than steps of any size ({found.value:.6g})."
    # What was held is still what may move: bounds stay as they are in the tables, and no multiplier stands for them.
    return (
        case,
        replace(best, iterations=best.iterations + found.iterations, at_moving=np.zeros_like(best.at_moving)),
        text,
    )


def _sides(case: Case, found: Optimum) -> list[Side]:
    """Of everything that moves by steps: unknown, place, the nearest whole step and the one on the other side."""
    sides: list[Side] = []
    limits = case.limits

    def both(x: float, low: float, high: float) -> tuple[float, float]:
        near = min(max(round(x), low), high)
        far = min(max(near + (1 if x > near else -1), low), high)
        return (near, far) if abs(x - near) > 1e-4 else (near, near)

    for k, (ident, (_, best, _, _)) in enumerate(positions(case, found).items()):
        t = case.network[ident]
        changer = changer_of(t)
        assert changer is not None
        if limits.turn[0][k] < limits.turn[1][k]:
            near, far = (changer.turns(x) / case.movers.turns_now[k] for x in both(best, changer.low, changer.high))
            sides.append(("turn", k, near, far))
        if limits.shift[0][k] < limits.shift[1][k] and isinstance(t, Transformer):
            zero, step, most = shift_steps(t, float(case.movers.angle_now[k]))
            near, far = (zero + step * x for x in both((found.shift[k] - zero) / step, -most, most))
            sides.append(("shift", k, near, far))
    for k, x in enumerate(found.bank.tolist()):
        near, far = both(x, 0, float(limits.bank[1][k]))
        sides.append(("bank", k, near, far))
    return sides


def _held(case: Case, state: State, found: Optimum, sides: list[Side], chosen: dict[int, float]) -> State:
    """The state with some of what moves held."""
    at = {name: getattr(found, name).copy() for name in ("turn", "shift", "bank")}
    bounds = {name: getattr(case.limits, name).copy() for name in at}
    for n, value in chosen.items():
        name, k, _, _ = sides[n]
        at[name][k] = bounds[name][0][k] = bounds[name][1][k] = value
    start = replace(found, **at).unknowns
    return replace(state, limits=replace(state.limits, **bounds), start=start)


def _one_by_one(
    sides: list[Side], choices: Sequence[tuple[float, ...]], held: Callable[[dict[int, float]], Optimum | None]
) -> Optimum | None:
    chosen: dict[int, float] = {}
    answer: Optimum | None = None
    for n in sorted(range(len(sides)), key=lambda n: len(choices[n])):
        for value in choices[n]:
            answer = held({**chosen, n: value})
            if answer is not None:
                chosen[n] = value
                break
        else:
            return None
    return answer


def whole_hours(
    cases: Sequence[Case], states: Sequence[State], coupling: Rows, found: list[Optimum], options: OptimalFlowOptions,
    progress: Progress, soft: Soft | None,
) -> tuple[list[Optimum], str]:  # fmt: skip
    """Of every hour the nearest steps held, and the whole day solved again; what that costs, in words. As found where that leaves
    no answer."""
    if options.steps != "whole" or not (cases[0].movers.turns or cases[0].movers.banks):
        return found, ""
    held = []
    for case, state, f in zip(cases, states, found, strict=True):
        sides = _sides(case, f)
        held.append(_held(case, state, f, sides, {n: near for n, (_, _, near, _) in enumerate(sides)}))
    progress(0.95, "whole steps")
    answer = solve(held, progress, coupling, soft, warm=True)
    if not answer[0].found:
        return (
            found,
            "No day on the whole steps next to those found keeps every limit: taps and capacitors stay between steps here.",
        )
    lost = answer[0].value - found[0].value
    text = f"Whole steps cost {max(lost, 0.0):.4g} more over the day than steps of any size ({found[0].value:.6g})."
    return [
        replace(a, iterations=a.iterations + found[0].iterations, at_moving=np.zeros_like(a.at_moving)) for a in answer
    ], text
