from __future__ import annotations

import asyncio
import contextlib
import getpass
import logging
import queue
import secrets
import threading
import time
import traceback
import zlib
from collections import OrderedDict, deque
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any

import orjson
from pydantic import BaseModel

from ..core.errors import VastMeshError
from ..core.network import dump_item
from ..core.results import Result
from ..core.studies import NOT_NEEDED, Inputs, Study
from ..store import JobBook, JobRecord, utc_now
from ..worker import ENOUGH, Ask, Packed, Task, TaskError, pack_inputs, plain_plan, unpack_result
from ._cluster import ClusterPool
from ._job import Going, Job, JobState
from ._pool import Answered, Event, Executor, Failed, LocalPool, Lost, Progressed

_log = logging.getLogger(__name__)
_TICK_S = 0.25
_TELL_EVERY_S = 0.3
_NOTE_EVERY_S = 10.0  # progress and partial results on disk
_JOIN_EVERY_S = 1.5
_QUICK_S = 2.0  # a study that took less the last time is not put behind longer ones
_LONG_S = 2.0  # what has held a worker for longer may not keep another project waiting
_AT_HAND = 6  # results kept unpacked
_REMEMBERED = 60  # jobs that have ended, in memory
_NAMES_KEPT = 3
_NOBODY = "-"  # project of what is on nobody's list
_CANCELLED = "It was cancelled."
_ENDED = "The service ended while it was under way. Start it again."


class UnknownJob(VastMeshError):
    code = "unknown-job"

    def __init__(self, job: str) -> None:
        super().__init__(job)
        self.job = job

    def __str__(self) -> str:
        return f"There is no job {self.job!r} any more. The list of jobs shows those there are."


class AsideFailed(VastMeshError):
    """What was done aside has no result."""

    def __init__(self, why: str, code: str | None) -> None:
        super().__init__(why)
        self.code = code or "cancelled"


Listener = Callable[[JobRecord], None]


class Runner:
    """Does studies beside the service and keeps book of them. Safe for use by several threads.

    One thread of its own hands out tasks and gathers what comes back; another writes into the book, so that a slow disk holds
    nobody up. ``pool``: processes of this machine, of its own when none is given; ``cluster``: where parts and whole studies
    are done instead; plans and joins stay here.
    """

    def __init__(
        self, book: JobBook | None = None, pool: LocalPool | None = None, *, cluster: ClusterPool | None = None
    ) -> None:
        self._book, self._own_pool = book, pool is None
        self.pool = pool or LocalPool()
        self.cluster = cluster
        self._jobs: OrderedDict[str, Job] = OrderedDict()
        self._events: queue.SimpleQueue[tuple[str, Any, Any]] = queue.SimpleQueue()
        self._lock = threading.RLock()
        self._uses: OrderedDict[str, int] = OrderedDict()
        self._usual_s: dict[tuple[str, str], float] = {}
        self._results: OrderedDict[str, tuple[dict[str, Any], Result]] = OrderedDict()
        self._unwritten: dict[str, tuple[JobRecord, Packed | None]] = {}
        self._listeners: list[Listener] = []
        self._keeper = ThreadPoolExecutor(1, thread_name_prefix="job-book")
        self._closed = False
        if book is not None and (found := book.interrupt(_ENDED)):
            _log.info("%d jobs were interrupted by the end of the last service", found)
        self._thread: threading.Thread | None = None

    # Asked by anybody

    def submit(
        self, study: Study, inputs: Inputs, options: BaseModel, *, project: str = "", keep: str | None = None,
        note: str = "", slot: str = "", tab: str = "",
    ) -> Job:  # fmt: skip
        """Start a study on inputs that nobody alters; its result is kept as a run when ``keep`` names one. Raises what the book
        raises when it can't be written: then nothing was started."""
        job = self._made(study, inputs, options, project, keep=keep, note=note, slot=slot, tab=tab)
        if self._book is not None:
            try:
                self._book.write(replace(job.record))
            except BaseException:
                self._let_go(job.inputs)
                raise
        return self._begun(job)

    async def aside(self, study: Study, inputs: Inputs, options: BaseModel, project: str) -> Result:
        """The result of a study that is on nobody's list, waited for without a thread; given up when who waits is gone. Raises
        :class:`AsideFailed` with what went wrong."""
        job = await asyncio.to_thread(self._made, study, inputs, options, project)
        job.record.project = _NOBODY
        loop = asyncio.get_running_loop()
        done: asyncio.Future[None] = loop.create_future()

        def ended() -> None:
            loop.call_soon_threadsafe(lambda: None if done.done() else done.set_result(None))

        job.then(ended)
        self._begun(job)
        try:
            await done
            if job.state is not JobState.FINISHED:
                raise AsideFailed(job.record.problem or "It ended without a result.", job.record.code)
            return self.result(job.id)[1]
        except asyncio.CancelledError:
            self.cancel(job.id)
            raise
        finally:
            with self._lock:
                self._jobs.pop(job.id, None)
                self._results.pop(job.id, None)

    def _made(self, study: Study, inputs: Inputs, options: BaseModel, project: str, **more: Any) -> Job:
        name = self._bring(inputs, project)
        record = JobRecord(
            secrets.token_hex(6), project, study.name, inputs.revision, inputs.under.name,
            options.model_dump(mode="json"), list(inputs.schemes), who=_who(), **more,
        )  # fmt: skip
        return Job(record, study, options, name)

    def _begun(self, job: Job) -> Job:
        with self._lock:
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, daemon=True, name="runner")
                self._thread.start()
            self._jobs[job.id] = job
            ended = [i for i, j in self._jobs.items() if j.done and i not in self._unwritten]
            for old in ended[: max(0, len(self._jobs) - _REMEMBERED)]:
                del self._jobs[old]
        self._events.put(("submitted", job, None))
        return job

    def cancel(self, ident: str) -> None:
        """End a job; nothing happens to one that has ended. A second time nothing is waited for."""
        self._events.put(("cancel", ident, None))

    def stop(self, ident: str) -> None:
        """Let a job that comes apart end with the parts that are done."""
        self._events.put(("stop", ident, None))

    def go_on(self, ident: str) -> JobRecord:
        """Let a job that the cluster lost go on on this machine, with the parts that are done. Raises :class:`UnknownJob`."""
        with self._lock:
            job = self._jobs.get(ident)
        if job is None or job.state is not JobState.INTERRUPTED:
            raise UnknownJob(ident)
        job.go_on()
        self._events.put(("go on", job, None))
        return self.record(ident)

    def job(self, ident: str) -> Job | None:
        """A job of this service, as long as it is remembered."""
        with self._lock:
            return self._jobs.get(ident)

    def record(self, ident: str) -> JobRecord:
        """How a job stands. Raises :class:`UnknownJob`."""
        with self._lock:
            if ident in self._jobs:
                return replace(self._jobs[ident].record)
        found = self._book.get(ident) if self._book is not None else None
        if found is None:
            raise UnknownJob(ident)
        return found

    def records(self, project: str) -> list[JobRecord]:
        """Jobs of a project, the newest first."""
        with self._lock:
            here = {i: replace(j.record) for i, j in self._jobs.items() if j.record.project == project}
        found = {r.id: r for r in self._book.of(project)} if self._book is not None else {}
        active = {
            i: r for i, r in here.items() if i in found or not r.ended or self._book is None or i in self._unwritten
        }
        return sorted({**found, **active}.values(), key=lambda r: (r.at, r.id), reverse=True)

    def result(self, ident: str) -> tuple[dict[str, Any], Result]:
        """Facts and result of a job, or as much as there is of it. Raises :class:`UnknownJob` when there is nothing."""
        with self._lock:
            if ident in self._results:
                self._results.move_to_end(ident)
                return self._results[ident]
            job = self._jobs.get(ident)
            packed = job.result if job is not None else None
        if packed is None and self._book is not None and (stored := self._book.result(ident)) is not None:
            packed = Packed(*stored)
        if packed is None:
            raise UnknownJob(ident)
        found = unpack_result(packed)
        with self._lock:
            if job is None or job.result is packed or job.result is None:
                self._results[ident] = found
            while len(self._results) > _AT_HAND:
                self._results.popitem(last=False)
        return found

    def forget(self, ident: str) -> None:
        """Take a job that has ended off the list. Raises :class:`UnknownJob`."""
        if not self.record(ident).ended:
            return
        if self._book is not None:
            self._book.forget(ident)
        with self._lock:
            self._jobs.pop(ident, None)
            self._results.pop(ident, None)
            self._unwritten.pop(ident, None)

    def listen(self, listener: Listener) -> Callable[[], None]:
        """Be told of every step of every job, in the thread of the runner; returns how to end that."""
        with self._lock:
            self._listeners.append(listener)

        def forget() -> None:
            with self._lock, contextlib.suppress(ValueError):
                self._listeners.remove(listener)

        return forget

    def close(self) -> None:
        """End everything; what was under way is marked as interrupted."""
        if self._closed:
            return
        self._closed = True
        self._events.put(("close", None, None))
        if self._thread is not None:
            self._thread.join(10)
        with self._lock:
            under_way = [j for j in self._jobs.values() if not j.record.ended]
        for job in under_way:
            for task in list(job.going):
                self.pool.stop(task, at_once=True)
            job.close_spool()
        if self._own_pool:
            self.pool.close()
        if self.cluster is not None:
            self.cluster.close()
        self._keeper.shutdown(wait=True)
        if self._book is not None and under_way:
            with contextlib.suppress(Exception):  # the next start marks them just as well
                self._book.interrupt(_ENDED)

    # Inputs, once for all jobs of the same network

    def _bring(self, inputs: Inputs, project: str) -> str:
        condition = zlib.crc32(orjson.dumps([dump_item(inputs.under), inputs.schemes]))
        name = f"in-{project}-{inputs.revision}-{condition:08x}" if project else f"in-{secrets.token_hex(8)}"
        with self._lock:
            self._uses[name] = self._uses.get(name, 0) + 1
            self._uses.move_to_end(name)
        self.pool.bring(name, pack_inputs(inputs))
        if self.cluster is not None:
            self.cluster.attach(self.pool.folder)
        return name

    def _let_go(self, name: str) -> None:
        with self._lock:
            self._uses[name] = self._uses.get(name, 1) - 1
            unused = [n for n, uses in self._uses.items() if uses <= 0]
            old = unused[: max(0, len(unused) - _NAMES_KEPT)]
            for n in old:
                del self._uses[n]
                self.pool.drop(n)  # within the lock: nobody may be bringing it anew
                if self.cluster is not None:
                    self.cluster.drop(n)

    # The thread

    def _run(self) -> None:
        doing: dict[str, Callable[[Any, Any], None]] = {
            "submitted": lambda job, _: None, "cancel": self._cancel, "stop": self._stop, "event": self._hear,
            "written": self._written, "go on": self._go_on,
        }  # fmt: skip
        while not self._closed:
            try:
                word, what, more = self._events.get(timeout=_TICK_S)
            except queue.Empty:
                word = ""
            if self._closed:
                return
            try:
                if word:
                    doing[word](what, more)
            except Exception as error:
                self._end_somehow(what, error)
            self._hand_out()

    def _end_somehow(self, what: Any, error: Exception) -> None:
        """Something of ours went wrong with a job: it ends and says so, rather than hang."""
        _log.exception("the runner met something unexpected")
        job = what if isinstance(what, Job) else self.job(what) if isinstance(what, str) else None
        if job is not None and not job.ending and not job.done:
            job.note(f"{utc_now()} {''.join(traceback.format_exception(error))}")
            full = isinstance(error, OSError)
            text = f"It could not go on: {error}." if full else "The run ended in an unexpected way; its log says more."
            self._give_up(job, "full" if full else "unexpected", text)

    def _under_way(self) -> list[Job]:
        with self._lock:
            return [j for j in self._jobs.values() if not j.done and not j.ending]

    # Handing out

    def _hand_out(self) -> None:
        while (found := self._next()) is not None:
            job, ask, where, extra = found
            try:
                self._begin(job, ask, where, extra=extra)
            except Exception as error:
                self._end_somehow(job, error)

    def _next(self) -> tuple[Job, Ask, Executor, bool] | None:
        """What is begun next: of the project with the least under way, then of the job with the least, then the quick one."""
        jobs = self._under_way()
        going = [g for j in jobs for g in j.going.values()]
        by_project: dict[str, int] = {}
        for j in jobs:
            by_project[j.record.project] = by_project.get(j.record.project, 0) + len(j.going)
        order = sorted(jobs, key=lambda j: (by_project[j.record.project], len(j.going), not self._quick(j)))
        for j in order:
            ask = self._wants(j)
            if ask is None:
                continue
            where = self._where(j, ask)
            if where.trouble:
                self._finish_without(j, where.trouble)
                continue
            mine = [g for g in going if g.where is where]
            if sum(not g.extra for g in mine) < where.size:
                return j, ask, where, False
            if where is self.pool and self._may_push_in(j, ask, mine, by_project):
                return j, ask, where, True
        return None

    def _may_push_in(self, job: Job, ask: Ask, mine: list[Going], by_project: dict[str, int]) -> bool:
        """Beyond the usual number: one quick thing, and one of each project that would wait for another's long study."""
        if job.going or sum(g.extra for g in mine) > self.pool.size:
            return False
        if (ask is Ask.PLAN or self._quick(job)) and not any(
            g.extra and time.monotonic() - g.since < _LONG_S for g in mine
        ):
            return True
        held = all(g.task.ask is Ask.WHOLE and time.monotonic() - g.since > _LONG_S for g in mine)
        return held and by_project[job.record.project] == 0

    def _quick(self, job: Job) -> bool:
        usual = self._usual_s.get((job.record.project, job.study.name))
        return usual < _QUICK_S if usual is not None else job.study.follows

    def _wants(self, job: Job) -> Ask | None:
        if job.cancelled:
            return None
        if job.study.split is None:
            return None if job.going else Ask.WHOLE
        if job.plan is None:
            return None if job.going else Ask.PLAN
        if job.todo:
            return Ask.PARTS
        if job.complete and not job.going:
            return Ask.JOIN
        return None

    def _where(self, job: Job, ask: Ask) -> Executor:
        far = self.cluster if ask in (Ask.WHOLE, Ask.PARTS) and not job.here else None
        return far if far is not None else self.pool

    def _begin(self, job: Job, ask: Ask, where: Executor, *, extra: bool) -> None:
        before = job.state
        if job.state is JobState.WAITING:
            job.record.state, job.started, job.record.started_at = "running", time.monotonic(), utc_now()
            job.record.ran_on, job.record.doing = self._where(job, Ask.WHOLE).place, "starting"
        if ask is Ask.PARTS:
            assert job.plan is not None
            task = job.task(ask, parts=[(n, job.plan[n]) for n in job.batch(where.size)])
        elif ask is Ask.JOIN:
            job.record.state, job.record.doing = "joining", "joining"
            task = self._join(job)
        else:
            task = job.task(ask)
        self._start(job, task, where, extra=extra)
        self._tell(job, at_once=job.state is not before)

    def _start(self, job: Job, task: Task, where: Executor, *, extra: bool) -> None:
        job.going[task.id] = Going(task, where, extra)
        try:
            where.start(task, lambda event: self._events.put(("event", job, event)))
        except Exception as error:
            self._events.put(("event", job, Lost(task.id, f"no worker could be started ({error})")))

    def _join(self, job: Job) -> Task:
        if job.spool_file is not None:
            job.spool_file.flush()
        return job.task(
            Ask.JOIN, plan=job.plan, answers=list(job.answers), spool=job.spool or self.pool.folder / "none"
        )

    # What comes back

    def _hear(self, job: Job, event: Event) -> None:
        going = job.going.get(event.task)
        if going is None or job.done:
            return
        if isinstance(event, Progressed):
            going.fraction = event.fraction
            self._count(job, event.doing)
            self._tell(job)
            return
        del job.going[event.task]
        if isinstance(event, Answered):
            self._answered(job, going, event)
        else:
            self._went_wrong(job, going, event)
        if not job.ending and job.cancelled and not job.going:
            self._finish(job, JobState.CANCELLED, "cancelled", _CANCELLED)

    def _answered(self, job: Job, going: Going, event: Answered) -> None:
        task = going.task
        if task.ask is Ask.PARTS:
            self._take_in(job, going, event)
        elif job.cancelled and not job.study.ends_with_best:
            return
        elif task.ask is Ask.PLAN:
            self._planned(job, plain_plan(event.reply))
        elif task.ask is Ask.WHOLE or _last(task):
            job.result = Packed(event.reply[0], event.reply[1])
            job.record.partial = False
            if task.ask is Ask.WHOLE:
                job.worked = event.took_s
            self._finish(job, JobState.FINISHED)
        else:
            job.result, job.join_s = Packed(event.reply[0], event.reply[1]), event.took_s
            if ENOUGH in event.reply[2:]:
                self._leave_the_rest(job)
            job.record.has_result = job.record.partial = True
            with self._lock:
                self._results.pop(job.id, None)
            self._tell(job, at_once=True)

    def _leave_the_rest(self, job: Job) -> None:
        """No part is begun any more: what is there is enough."""
        for n in job.todo:
            job.answers[n] = NOT_NEEDED
        job.record.parts -= len(job.todo)
        job.todo.clear()

    def _planned(self, job: Job, plan: list[Any]) -> None:
        job.plan, job.answers, job.todo = plan, [""] * len(plan), deque(range(len(plan)))
        job.spool = self.pool.folder / f"{job.id}.answers"
        job.spool.touch()
        job.record.parts = len(plan)
        job.joined_at = time.monotonic()

    def _take_in(self, job: Job, going: Going, event: Answered) -> None:
        try:
            for (n, _), answer in zip(going.task.parts, event.reply, strict=True):
                job.put_away(n, answer)
        except OSError as error:
            text = f"What the parts answered could not be put down: {error.strerror or error}. Make room, then start it again."
            self._give_up(job, "full", text)
            return
        job.measure(event.took_s, len(event.reply))
        job.record.parts_done += len(event.reply)
        self._count(job, f"{job.record.parts_done} of {job.record.parts} parts")
        self._tell(job)
        waited = time.monotonic() - job.joined_at
        joining = any(g.task.ask is Ask.JOIN for g in job.going.values())
        if waited > max(_JOIN_EVERY_S, 8 * job.join_s) and job.todo and not joining and not job.cancelled:
            job.joined_at = time.monotonic()
            self._start(job, self._join(job), self.pool, extra=True)

    def _went_wrong(self, job: Job, going: Going, event: Failed | Lost) -> None:
        task = going.task
        why = str(event.error) if isinstance(event, Failed) else event.why
        log = event.error.log if isinstance(event, Failed) else event.log
        stopped = event.error.stopped if isinstance(event, Failed) else event.stopped
        if job.cancelled or (stopped and job.stopping):
            for n, _ in task.parts:
                job.answers[n] = "It was stopped before."
            if job.cancelled or task.ask is not Ask.PARTS:
                job.cancelled = True
            return
        what = f"part{'s' if len(task.parts) > 1 else ''} {_range(task.parts)}" if task.parts else task.ask.value
        job.note(f"{utc_now()} {what}: {why}\n{log}")
        if isinstance(event, Lost) and event.everywhere:
            self._interrupt(job, task, why)
        elif task.ask is Ask.PARTS:
            self._part_went_wrong(job, task, why, again=isinstance(event, Lost) or event.error.ours)
        elif task.ask is Ask.JOIN and not _last(task):
            job.joined_at = time.monotonic() + 60  # an attempt to show what is there; the last one tells what is wrong
        elif isinstance(event, Lost) and job.losses == 0 and not event.hopeless:
            job.losses += 1  # and it is handed out once more
        else:
            error = event.error if isinstance(event, Failed) else None
            text = why if error is not None else f"It was given up: {why}."
            self._give_up(job, error.code if error is not None else "worker-lost", text)

    def _part_went_wrong(self, job: Job, task: Task, why: str, *, again: bool) -> None:
        for n, _ in reversed(task.parts):
            if len(task.parts) == 1:
                job.tries[n] = job.tries.get(n, 0) + 1
                if not again or job.tries[n] > 1:
                    job.answers[n] = why
                    job.record.missing += 1
                    job.record.parts_done += 1
                    continue
            job.alone.add(n)
            job.todo.appendleft(n)
        if job.complete and job.record.missing == job.record.parts:
            self._give_up(job, "all-parts-failed", f"None of its {job.record.parts} parts has an answer. {why}")

    def _interrupt(self, job: Job, task: Task, why: str) -> None:
        for n, _ in reversed(task.parts):
            job.todo.appendleft(n)
        self._finish_without(job, why)

    def _finish_without(self, job: Job, why: str) -> None:
        """The cluster is gone: what is done stays, and the rest can be done here."""
        if not job.going:
            done = f" {job.record.parts_done} of {job.record.parts} parts are done." if job.record.parts else ""
            self._finish(job, JobState.INTERRUPTED, "cluster-lost", f"{why}.{done} It can go on on this machine.")

    def _give_up(self, job: Job, code: str, text: str) -> None:
        for task, going in job.going.items():
            going.where.stop(task, at_once=True)
        job.going.clear()
        self._finish(job, JobState.FAILED, code, text)

    def _cancel(self, ident: str, _: Any) -> None:
        job = self.job(ident)
        if job is None or job.done or job.ending:
            return
        if job.study.ends_with_best and not job.stopping and (job.parts_out or job.record.parts_done):
            self._stop(ident, None)
            return
        again, job.cancelled = job.cancelled or job.stopping, True
        job.record.doing = "stopping"
        for task, going in job.going.items():
            going.where.stop(task, at_once=again)
        if not job.going:
            self._finish(job, JobState.CANCELLED, "cancelled", _CANCELLED)
        else:
            self._tell(job, at_once=True)

    def _stop(self, ident: str, _: Any) -> None:
        job = self.job(ident)
        if job is None or job.done or job.ending:
            return
        if job.plan is None or not (job.record.parts_done or job.study.ends_with_best):
            self._cancel(ident, None)
            return
        job.stopping = True
        for n in job.todo:
            job.answers[n] = "It was stopped before."
        job.todo.clear()
        job.record.doing = "stopping"
        for task, going in job.going.items():
            if going.task.ask is Ask.PARTS:
                going.where.stop(task)
        self._tell(job, at_once=True)

    def _go_on(self, job: Job, _: Any) -> None:
        job.here, job.ending = True, False
        record = job.record
        record.state, record.problem, record.code, record.ended_at = "waiting", None, None, None
        self._tell(job, at_once=True)

    # Ending and telling

    def _finish(self, job: Job, state: JobState, code: str | None = None, problem: str | None = None) -> None:
        if job.ending:
            return
        job.ending = True
        job.record.doing = ""
        # Starting a process is not the study's time: by it a page would take a quick one for too slow to keep up with edits.
        wall = time.monotonic() - job.started if job.started else 0.0
        took = job.worked if job.worked is not None else wall
        final = replace(
            job.record, state=state.value, ended_at=utc_now(), took_s=round(took, 4), code=code, problem=problem,
            has_result=job.result is not None, partial=job.result is not None and state is not JobState.FINISHED,
            fraction=1.0 if state is JobState.FINISHED else job.record.fraction,
        )  # fmt: skip
        if state is JobState.FINISHED:
            self._usual_s[final.project, final.study] = took
        if state is not JobState.INTERRUPTED:  # which may go on, with its inputs and what is done
            job.close_spool()
            self._let_go(job.inputs)
        self._keeper.submit(self._write, job, final)

    def _in_book(self, record: JobRecord) -> bool:
        return self._book is not None and record.project != _NOBODY

    def _write(self, job: Job, final: JobRecord) -> None:
        """In the thread of the book: put down how it ended; where that fails the result stays in memory."""
        if self._book is not None and self._in_book(final):
            try:
                self._book.write(final, (job.result.facts, job.result.tables) if job.result else None)
            except Exception as error:
                _log.warning("job %s could not be written: %s", final.id, error)
                told = f"Its result is in memory only, as it could not be written: {error}"
                final.problem = f"{final.problem} {told}" if final.problem else told
                final.code = final.code or "not-written"
                with self._lock:
                    self._unwritten[final.id] = final, job.result
            else:
                self._write_what_could_not_be()
        self._events.put(("written", job, final))

    def _write_what_could_not_be(self) -> None:
        with self._lock:
            waiting = list(self._unwritten.items())
        for ident, (record, packed) in waiting:
            try:
                clean = replace(record, code=None, problem=None) if record.code == "not-written" else record
                assert self._book is not None
                self._book.write(clean, (packed.facts, packed.tables) if packed else None)
            except Exception:
                return
            with self._lock:
                self._unwritten.pop(ident, None)
                if (job := self._jobs.get(ident)) is not None:
                    job.record = clean

    def _written(self, job: Job, final: JobRecord) -> None:
        with self._lock:
            job.record = final
            self._results.pop(job.id, None)
            if self._in_book(final) and job.id not in self._unwritten and final.state != "interrupted":
                job.result = None  # the book has it
            if final.state != "interrupted":  # which can go on
                job.plan, job.answers = None, []
        job.end()
        self._tell(job, at_once=True)

    def _count(self, job: Job, doing: str) -> None:
        record = job.record
        if record.parts:
            out = sum(g.fraction * len(g.task.parts) for g in job.going.values())
            record.fraction = max(record.fraction, min((record.parts_done + out) / record.parts, 1.0))
            record.doing = f"{record.parts_done} of {record.parts} parts" if record.parts > 1 else doing or record.doing
        elif doing:
            share = sum(g.fraction for g in job.going.values())
            record.fraction, record.doing = max(record.fraction, min(max(share, 0.0), 1.0)), doing

    def _tell(self, job: Job, *, at_once: bool = False) -> None:
        moment = time.monotonic()
        if not at_once and moment - job.told < _TELL_EVERY_S:
            return
        job.told = moment
        if self._in_book(job.record) and not job.ending and moment - max(job.noted, job.started) > _NOTE_EVERY_S:
            job.noted = moment
            self._keeper.submit(self._note, replace(job.record), job.result)
        with self._lock:
            listeners = list(self._listeners)
        told = replace(job.record)
        for listener in listeners:
            try:
                listener(told)
            except Exception:
                _log.exception("a listener of jobs failed")

    def _note(self, record: JobRecord, packed: Packed | None) -> None:
        with contextlib.suppress(Exception):  # progress is told again in a moment
            assert self._book is not None
            self._book.write(record, (packed.facts, packed.tables) if packed else None)


def _last(task: Task) -> bool:
    """Whether it joins all there will ever be."""
    return "" not in task.answers


def _range(parts: Any) -> str:
    return str(parts[0][0] + 1) if len(parts) == 1 else f"{parts[0][0] + 1} to {parts[-1][0] + 1}"


def _who() -> str:
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""


__all__ = ["Runner", "TaskError", "UnknownJob"]
