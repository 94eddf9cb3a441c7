"""The service with studies that do nothing but keep a processor busy, whole and in parts; for measuring."""

from __future__ import annotations

import sys
import time
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict

from vastmesh.core.flow import Ending
from vastmesh.core.results import Account, Result
from vastmesh.core.studies import Inputs, Progress, Study
from vastmesh.core.studies.base import register


class Options(BaseModel):
    """``seconds``: of a whole; ``parts``: how many, ``turns``: of a loop in each."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    seconds: float = 120.0
    parts: int = 100
    turns: int = 100_000


def spin(turns: int) -> float:
    found = 0.0
    for n in range(turns):
        found += (n % 7) * 0.5
    return found


def run(inputs: Inputs, options: Options, progress: Progress) -> Result:
    started = time.monotonic()
    while (gone := time.monotonic() - started) < options.seconds:
        progress(gone / options.seconds, "busy")
        spin(20_000)
        np.linalg.norm(np.random.default_rng(1).normal(size=(60, 60)) @ np.ones((60, 60)))
    return done(0)


def done(parts: int) -> Result:
    return Result(Account(Ending.CONVERGED, "Busy", parts), {}, {"parts": float(parts)})


BUSY = Study("busy", "Busy", "Keeps a processor busy", Options, run)


def in_parts() -> Study:
    """The same in parts (later than the versions that this file also measures)."""
    from vastmesh.core.studies import Split

    split = Split(_plan, _prepare, _answer, _join)
    return Study("busy-parts", "Busy in parts", "Keeps processors busy", Options, split.run, split=split)


def _plan(inputs: Inputs, options: Options) -> list[int]:
    return list(range(options.parts))


def _prepare(inputs: Inputs, options: Options) -> Options:
    return options


def _answer(options: Options, part: int, progress: Progress) -> dict[str, Any]:
    return {"sum": spin(options.turns)}


def _join(inputs: Inputs, options: Options, parts: Any, answers: Any) -> Result:
    return done(len(answers))


if __name__ == "__main__":
    from busy import BUSY as AS_IMPORTED

    from vastmesh.cli import main

    register(AS_IMPORTED)
    sys.exit(main(sys.argv[1:]))
