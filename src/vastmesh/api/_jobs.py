"""Routes of jobs: a study started, watched, cancelled, started again. The service waits for them without a thread."""

from __future__ import annotations

import asyncio
from contextlib import suppress
from dataclasses import asdict
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Query, Request, Response
from starlette.concurrency import run_in_threadpool

from ..core.options import options_of
from ..core.studies import STUDIES, study_named
from ..runner import Job, Runner, UnknownJob
from ..store import JobRecord
from . import _models as m
from . import _render
from ._routes import All, One, _json

jobs = APIRouter(prefix="/api", responses={s: {"model": m.Problem} for s in (404, 409, 410, 413, 422)})
_AT_ONCE_S = 1.5  # a job that has ended by then is answered at once
_CANCEL_S = 2.0


def runner(request: Request) -> Runner:
    found: Runner = request.app.state.runner
    return found


Jobs = Annotated[Runner, Depends(runner)]


def plain(one: Runner, record: JobRecord) -> dict[str, Any]:
    """How a job stands, without its log."""
    study, job = STUDIES.get(record.study), one.job(record.id)
    left_s = job.left_s if job is not None and not record.ended else None
    found = asdict(record) | {"label": study.label if study else record.study, "left_s": left_s}
    del found["log"]
    return found


def _told(one: Runner, record: JobRecord, *, result: bool = True) -> Response:
    found = plain(one, record) | {"log": record.log, "result": None}
    if result and record.state == "finished":
        with suppress(UnknownJob):
            found["result"] = _render.study(one.result(record.id)[1])
    return _render.Json(found)


async def _ended(job: Job, seconds: float) -> None:
    """Wait until a job has ended, at most so long."""
    loop = asyncio.get_running_loop()
    over = asyncio.Event()

    def wake() -> None:
        with suppress(RuntimeError):  # the service has ended meanwhile
            loop.call_soon_threadsafe(over.set)

    job.then(wake)
    with suppress(TimeoutError):
        await asyncio.wait_for(over.wait(), seconds)


@jobs.post("/projects/{project_id}/runs", summary="Run a study; answered at once when it is quick",
           responses=_json(m.JobOut))  # fmt: skip
async def run_study(body: m.RunIn, one: One, all_jobs: Jobs) -> Response:
    study = study_named(body.study)
    options = options_of(study.options, body.options)
    job = await run_in_threadpool(
        one.start, all_jobs, study, options, keep=body.keep, note=body.note, slot=body.slot, tab=body.tab
    )  # fmt: skip
    await _ended(job, _AT_ONCE_S)
    return await run_in_threadpool(_told, all_jobs, all_jobs.record(job.id))


@jobs.get("/projects/{project_id}/jobs", summary="Studies waiting, under way and done, the newest first")
def listed(project_id: str, all_: All, all_jobs: Jobs) -> list[m.JobLineOut]:
    all_.store.project(project_id)
    return [m.JobLineOut.model_validate(plain(all_jobs, r)) for r in all_jobs.records(project_id)]


@jobs.get("/jobs/{job_id}", summary="How a job is getting on, with its log and its result", responses=_json(m.JobOut))
def job(job_id: str, all_jobs: Jobs) -> Response:
    return _told(all_jobs, all_jobs.record(job_id))


@jobs.delete("/jobs/{job_id}", summary="Cancel a job", responses=_json(m.JobOut))
async def cancel(job_id: str, all_jobs: Jobs) -> Response:
    await run_in_threadpool(all_jobs.record, job_id)
    all_jobs.cancel(job_id)
    if (found := all_jobs.job(job_id)) is not None:
        await _ended(found, _CANCEL_S)
    return await run_in_threadpool(_told, all_jobs, all_jobs.record(job_id), result=False)


@jobs.post(
    "/jobs/{job_id}/again", summary="Start a job again, on the network as it now stands", responses=_json(m.JobOut)
)
async def again(
    job_id: str, all_: All, all_jobs: Jobs,
    tab: Annotated[str, Query(max_length=60, description="Whose screen it is for")] = "",
) -> Response:  # fmt: skip
    record = await run_in_threadpool(all_jobs.record, job_id)
    study = study_named(record.study)
    options = options_of(study.options, record.options)

    def work() -> Job:
        one = all_.get(record.project)
        return one.start(all_jobs, study, options, keep=record.keep, note=record.note, slot=record.slot, tab=tab)

    started = await run_in_threadpool(work)
    return await run_in_threadpool(_told, all_jobs, all_jobs.record(started.id), result=False)


@jobs.post(
    "/jobs/{job_id}/go-on", summary="Let a job that the cluster lost go on on this machine", responses=_json(m.JobOut)
)
def go_on(job_id: str, all_jobs: Jobs) -> Response:
    return _told(all_jobs, all_jobs.go_on(job_id), result=False)


@jobs.post("/jobs/{job_id}/forget", status_code=204, summary="Take a job that has ended off the list, with its result")
def forget(job_id: str, all_jobs: Jobs) -> None:
    all_jobs.forget(job_id)
