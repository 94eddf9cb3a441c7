from __future__ import annotations

from collections.abc import Callable

from pydantic import BaseModel

from ..core.results import Result
from ..core.studies import Inputs, Study
from ..worker import TaskError
from ._cluster import cluster_named
from ._pool import LocalPool
from ._runner import Runner


def run_beside(
    study: Study, inputs: Inputs, options: BaseModel, workers: int, tell: Callable[[float, str], None]
) -> Result:
    """A study by worker processes of its own, or on the cluster that ``VASTMESH_CLUSTER`` names, waited for.

    ``tell``: called every moment with the share that is done and words. Ctrl+C once: what is done counts; twice: nothing.
    Raises :class:`TaskError` with the reason when there is no result.
    """
    pool = LocalPool(workers)
    runner = Runner(pool=pool, cluster=cluster_named())
    try:
        job = runner.submit(study, inputs, options)
        asked = 0
        while not job.done:
            try:
                while not job.wait(0.2):
                    tell(job.record.fraction, job.record.doing)
            except KeyboardInterrupt:
                asked += 1
                (runner.stop if asked == 1 else runner.cancel)(job.id)
        if not job.record.has_result:
            raise TaskError(job.record.code or "unexpected", job.record.problem or "The study gave nothing.")
        return runner.result(job.id)[1]
    finally:
        runner.close()
        pool.close()
