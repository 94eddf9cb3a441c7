"""Jobs on disk: what was asked, how it went, and what came of it, found again after a restart."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import asdict, dataclass, field, fields
from datetime import UTC, datetime, timedelta
from typing import Any

import orjson
from sqlalchemy import Engine, delete, select
from sqlalchemy.orm import Session, defer

from ._tables import JobRow, ProjectRow, RunRow

UNDER_WAY = ("waiting", "running", "joining")
_MOST_KEPT = 40  # that have ended, of one project
_DAYS_KEPT = 14


@dataclass
class JobRecord:
    """One study that was asked for. ``fraction``: how much is done; ``parts``: of how many parts it consists, 0 when it is one
    piece; ``missing``: parts that failed twice; ``keep``: name under which its result is to be kept, ``kept``: as which run;
    ``partial``: its result is only what there is so far; ``slot``, ``tab``: which view
    asked, and of whom. Times are ISO 8601 in UTC."""

    id: str
    project: str
    study: str
    revision: int
    condition: str
    options: dict[str, Any] = field(default_factory=dict)
    schemes: list[str] = field(default_factory=list)
    slot: str = ""
    tab: str = ""
    at: str = field(default_factory=lambda: utc_now())
    state: str = "waiting"
    fraction: float = 0.0
    doing: str = ""
    parts: int = 0
    parts_done: int = 0
    missing: int = 0
    started_at: str | None = None
    ended_at: str | None = None
    took_s: float = 0.0
    who: str = ""
    ran_on: str = ""
    keep: str | None = None
    note: str = ""
    kept: str | None = None
    code: str | None = None
    problem: str | None = None
    log: str = ""
    has_result: bool = False
    partial: bool = False

    @property
    def ended(self) -> bool:
        return self.state not in UNDER_WAY


def utc_now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


class JobBook:
    """The jobs of all projects. ``writing``: opens a transaction that holds the write lock."""

    def __init__(self, engine: Engine, writing: Callable[[], AbstractContextManager[Session]]) -> None:
        self._engine, self._writing = engine, writing

    def write(self, record: JobRecord, result: tuple[bytes, bytes] | None = None) -> None:
        """Put down how a job stands, with facts and tables of its result where there are new ones. One that ends is kept as a
        run when that was wanted. Nothing is written for a project that is gone."""
        with self._writing() as session:
            if session.get(ProjectRow, record.project) is None:
                return
            kept = record.kept
            if record.state == "finished" and record.keep and kept is None and result is not None:
                kept = _keep(session, record, result)
            row = session.get(JobRow, record.id, options=[defer(JobRow.facts), defer(JobRow.tables)])
            if row is None:
                row = JobRow(id=record.id, project_id=record.project, at=record.at)
                session.add(row)
            row.state, row.about = record.state, orjson.dumps({**asdict(record), "kept": kept})
            if result is not None:
                row.facts, row.tables = result
            if record.ended:
                session.flush()
                _forget_old(session, record.project)
        record.kept = kept  # only now is it true

    def of(self, project: str) -> list[JobRecord]:
        """Jobs of a project, the newest first."""
        with Session(self._engine) as session:
            rows = session.execute(
                select(JobRow.about).where(JobRow.project_id == project).order_by(JobRow.at.desc(), JobRow.id)
            )
            return [_record(r.about) for r in rows]

    def get(self, ident: str) -> JobRecord | None:
        with Session(self._engine) as session:
            about = session.scalar(select(JobRow.about).where(JobRow.id == ident))
            return _record(about) if about else None

    def result(self, ident: str) -> tuple[bytes, bytes] | None:
        """Facts and tables of a job's result."""
        with Session(self._engine) as session:
            found = session.execute(select(JobRow.facts, JobRow.tables).where(JobRow.id == ident)).first()
            return (found.facts, found.tables) if found and found.facts is not None else None

    def forget(self, ident: str) -> None:
        """Take a job that has ended off the list, with its result; a run that was kept of it stays."""
        with self._writing() as session:
            session.execute(delete(JobRow).where(JobRow.id == ident, JobRow.state.not_in(UNDER_WAY)))

    def interrupt(self, why: str) -> int:
        """Mark all that is waiting or under way as interrupted; how many there were."""
        with self._writing() as session:
            rows = session.scalars(
                select(JobRow).where(JobRow.state.in_(UNDER_WAY)).options(defer(JobRow.facts), defer(JobRow.tables))
            ).all()
            for row in rows:
                record = _record(row.about)
                record.state, record.code, record.problem, record.ended_at = (
                    "interrupted",
                    "interrupted",
                    why,
                    utc_now(),
                )
                row.state, row.about = record.state, orjson.dumps(asdict(record))
            return len(rows)


def _keep(session: Session, record: JobRecord, result: tuple[bytes, bytes]) -> str:
    row = RunRow(
        id=secrets.token_hex(6), project_id=record.project, at=utc_now(), study=record.study,
        name=" ".join((record.keep or "").split())[:120] or record.study, note=record.note, revision=record.revision,
        condition=record.condition[:120], facts=result[0], tables=result[1],
    )  # fmt: skip
    session.add(row)
    return row.id


def _forget_old(session: Session, project: str) -> None:
    """Of what has ended only the newest stay; what waits or runs is never forgotten."""
    ended = (JobRow.project_id == project, JobRow.state.not_in(UNDER_WAY))
    newest = select(JobRow.id).where(*ended).order_by(JobRow.at.desc(), JobRow.id).limit(_MOST_KEPT)
    long_ago = (datetime.now(UTC) - timedelta(days=_DAYS_KEPT)).isoformat(timespec="milliseconds")
    session.execute(delete(JobRow).where(*ended, JobRow.id.not_in(newest) | (JobRow.at < long_ago)))


def _record(about: bytes) -> JobRecord:
    known = {f.name for f in fields(JobRecord)}
    return JobRecord(**{k: v for k, v in orjson.loads(about).items() if k in known})
