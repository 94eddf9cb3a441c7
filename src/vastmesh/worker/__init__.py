"""What a worker process does, whoever started it: takes tasks, tells how far it is, answers with plain bytes."""

from ._carry import ENOUGH, Bench, Reply, plain_plan
from ._far import far_stop, far_task, far_version, in_words
from ._packing import Packed, load_inputs, pack_answer, pack_inputs, pack_result, unpack_answer, unpack_result
from ._task import Ask, Task, TaskError

__all__ = [
    "ENOUGH",
    "Ask",
    "Bench",
    "Packed",
    "Reply",
    "Task",
    "TaskError",
    "far_stop",
    "far_task",
    "far_version",
    "in_words",
    "load_inputs",
    "pack_answer",
    "pack_inputs",
    "pack_result",
    "plain_plan",
    "unpack_answer",
    "unpack_result",
]
