from __future__ import annotations

import traceback
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import IO, Any

import orjson

from ..core.errors import VastMeshError
from ..core.studies import Answer, Inputs, Missing, StopRequested
from ..version import __version__
from ._packing import load_inputs, pack_answer, pack_result, unpack_answer
from ._task import Ask, Task, TaskError

_NETWORKS_KEPT = 2
_UNEXPECTED = "The run ended in an unexpected way; its log says more."

Tell = Callable[[float, str], None]
Reply = list[
    bytes
]  # what a task is answered with: whole and join: facts, tables; plan: JSON; parts: a packed answer each


class Bench:
    """Where one process does its tasks: networks and preparations stay on it while they are needed.

    ``opened``: opens the packed inputs of a name.
    """

    def __init__(self, opened: Callable[[str], IO[bytes]]) -> None:
        self.opened = opened
        self._inputs: OrderedDict[str, Inputs] = OrderedDict()
        self._ready: tuple[str, Any] | None = None

    def carry_out(self, task: Task, tell: Tell) -> Reply:
        """Do a task; ``tell`` may raise to stop it. Raises :class:`TaskError`, whatever goes wrong."""
        try:
            if task.version != __version__:
                text = (
                    f"This worker runs version {__version__}, the service {task.version}: install the same everywhere."
                )
                raise TaskError("other-version", text)
            return _DOING[task.ask](self, task, tell)
        except TaskError:
            raise
        except StopRequested as error:
            raise TaskError(error.code, str(error), stopped=True) from None
        except VastMeshError as error:
            raise TaskError(error.code, str(error)) from None
        except MemoryError:
            raise TaskError("memory", "There was not enough memory for it.", traceback.format_exc()) from None
        except Exception:
            raise TaskError("unexpected", _UNEXPECTED, traceback.format_exc()) from None

    def inputs(self, name: str) -> Inputs:
        if name not in self._inputs:
            while len(self._inputs) >= _NETWORKS_KEPT:
                self._inputs.popitem(last=False)
            with self.opened(name) as source:
                self._inputs[name] = load_inputs(source)
        self._inputs.move_to_end(name)
        return self._inputs[name]

    def _whole(self, task: Task, tell: Tell) -> Reply:
        inputs = self.inputs(task.inputs)
        # A study may alter the network it gets; the next one shall find it as it was.
        own = replace(inputs, network=inputs.network.copy())
        result = task.study.run(own, task.options, tell)
        packed = pack_result(result, inputs, task.options.model_dump(mode="json"))
        return [packed.facts, packed.tables]

    def _plan(self, task: Task, tell: Tell) -> Reply:
        assert task.study.split is not None
        return [orjson.dumps(list(task.study.split.plan(self.inputs(task.inputs), task.options)))]

    def _parts(self, task: Task, tell: Tell) -> Reply:
        split = task.study.split
        assert split is not None
        if self._ready is None or self._ready[0] != task.job:
            self._ready = None  # room for the next one first
            self._ready = task.job, split.prepare(self.inputs(task.inputs), task.options)
        found = []
        for n, (_, part) in enumerate(task.parts):
            share = _share(tell, n, len(task.parts))
            share(0.0, "")
            found.append(pack_answer(split.answer(self._ready[1], part, share)))
        return found

    def _join(self, task: Task, tell: Tell) -> Reply:
        assert task.study.split is not None
        assert task.spool is not None
        tell(0.0, "joining")
        inputs = self.inputs(task.inputs)
        with task.spool.open("rb") as spool:
            answers = [_answer(spool, a) for a in task.answers]
        split = task.study.split
        result = split.join(inputs, task.options, task.plan, answers)
        packed = pack_result(result, inputs, task.options.model_dump(mode="json"))
        enough = split.enough is not None and split.enough(task.options, answers)
        return [packed.facts, packed.tables, *([ENOUGH] if enough else [])]


ENOUGH = b"enough"
"""Behind a result that is so far: no further part is needed."""

_DOING: dict[Ask, Callable[[Bench, Task, Tell], Reply]] = {
    Ask.WHOLE: Bench._whole, Ask.PLAN: Bench._plan, Ask.PARTS: Bench._parts, Ask.JOIN: Bench._join,
}  # fmt: skip


def _share(tell: Tell, n: int, of: int) -> Tell:
    return lambda fraction, doing: tell((n + fraction) / of, doing)


def _answer(spool: IO[bytes], where: tuple[int, int] | str) -> Answer | Missing:
    if isinstance(where, str):
        return Missing(where)
    offset, size = where
    spool.seek(offset)
    return unpack_answer(spool.read(size))


def plain_plan(reply: Sequence[bytes]) -> list[Any]:
    """The parts that a plan named."""
    found: list[Any] = orjson.loads(reply[0])
    return found
