"""A study of many parts that nobody needs: what can go wrong in a worker goes wrong in it when it is told to."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict

from vastmesh.core.errors import FieldProblem, InvalidFields
from vastmesh.core.flow import Ending
from vastmesh.core.results import Account, Column, Result, Table
from vastmesh.core.studies import Answer, Inputs, Missing, Progress, Split, Study
from vastmesh.core.studies.base import register


class Options(BaseModel):
    """``trouble``: what happens at the part ``at``: raise, refuse, kill, kill_once, loop, leak, nonsense, mark; or in
    the plan or the join. ``once``: a file that is made by kill_once and mark. ``enough``: so many parts do; all when 0."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    parts: int = 20
    seed: int = 1
    work: int = 0
    slow_s: float = 0.0
    size: int = 3
    trouble: str = ""
    at: int = 7
    once: str = ""
    enough: int = 0


def plan(inputs: Inputs, options: Options) -> list[dict[str, int]]:
    if options.trouble == "plan":
        raise InvalidFields([FieldProblem("options", "trouble", "plan", "choose another")])
    return [{"number": n} for n in range(options.parts)]


def prepare(inputs: Inputs, options: Options) -> Options:
    return options


def spin(turns: int) -> float:
    """Some work for the processor, in the interpreter."""
    found = 0.0
    for n in range(turns):
        found += (n % 7) * 0.5
    return found


def answer(options: Options, part: Mapping[str, int], progress: Progress) -> Answer:
    n = part["number"]
    if n == options.at:
        _trouble(options, progress)
    spin(options.work)
    if options.slow_s:
        for k in range(10):
            progress(k / 10, f"part {n}")
            time.sleep(options.slow_s / 10)
    if options.trouble == "nonsense" and n == options.at:
        return {"square": object()}
    drawn = np.random.default_rng([options.seed, n]).normal(size=options.size)
    return {"square": n * n, "drawn": drawn, "name": np.array([f"part {n}"])}


def _trouble(options: Options, progress: Progress) -> None:
    if options.trouble == "raise":
        raise ZeroDivisionError("as it was told to")
    if options.trouble == "refuse":
        raise InvalidFields([FieldProblem("part", "at", options.at, "choose another")])
    if options.trouble == "kill" or (options.trouble == "kill_once" and _first(options)):
        os.kill(os.getpid(), signal.SIGKILL)
    if options.trouble == "mark":
        Path(options.once).touch()
    if options.trouble == "loop":
        while True:
            pass
    if options.trouble == "leak":
        held = []
        while True:
            held.append(np.ones(4_000_000))
            time.sleep(0.01)


def _first(options: Options) -> bool:
    mark = Path(options.once)
    if mark.exists():
        return False
    mark.touch()
    return True


def join(
    inputs: Inputs, options: Options, parts: Sequence[Mapping[str, int]], answers: Sequence[Answer | Missing]
) -> Result:
    if options.trouble == "join":
        raise ZeroDivisionError("as it was told to")
    if options.trouble == "slow_join":
        spin(2_000_000_000)
    there = [(p["number"], a) for p, a in zip(parts, answers, strict=True) if not isinstance(a, Missing)]
    lacking = [
        f"{p['number']}: {a.why}" for p, a in zip(parts, answers, strict=True) if isinstance(a, Missing) and a.why
    ]
    return Result(
        Account(Ending.CONVERGED, "By parts", len(there), notes=lacking),
        {"squares": Table("squares", "Squares", [
            Column("id", "Id", [str(a["name"][0]) for _, a in there], fixed=True),
            Column("square", "Square", np.array([float(a["square"]) for _, a in there]), None, 0),
            Column("drawn", "Drawn", np.array([float(a["drawn"].sum()) for _, a in there]), None, 6),
        ])},
        {"parts": float(len(there))},
    )  # fmt: skip


def not_a_result(inputs: Inputs, options: Options, progress: Progress) -> Any:
    """In one piece: answers with nonsense, loops, or works for long, as told."""
    if options.trouble == "loop":
        while True:
            pass
    if options.trouble == "raise":
        raise ZeroDivisionError("as it was told to")
    if options.trouble in ("kill", "kill_once"):
        _trouble(options, progress)
    if options.trouble == "nonsense":
        return {"not": "a result"}
    for k in range(options.parts):
        progress(k / options.parts, f"step {k}")
        spin(options.work)
        time.sleep(options.slow_s)
    return Result(Account(Ending.CONVERGED, "In one piece", 1), {}, {"done": 1.0})


def enough(options: Options, answers: Sequence[Answer | Missing]) -> bool:
    return 0 < options.enough <= sum(not isinstance(a, Missing) for a in answers)


SPLIT = Split(plan, prepare, answer, join, enough)
IN_PARTS = Study("made-up-parts", "Made-up parts", "Squares, part by part", Options, SPLIT.run, split=SPLIT)
IN_ONE = Study("made-up-piece", "Made-up piece", "One long piece", Options, not_a_result)


if __name__ == "__main__":
    import sys

    from tests.made_up_parts import IN_ONE as ONE
    from tests.made_up_parts import IN_PARTS as PARTS
    from vastmesh.cli import main

    register(PARTS)
    register(ONE)
    sys.exit(main(sys.argv[1:]))
