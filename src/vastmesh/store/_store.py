"""The store: every acknowledged change is on disk before it is acknowledged."""

from __future__ import annotations

import hashlib
import secrets
import sqlite3
import zlib
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import orjson
from alembic import command
from alembic.config import Config
from alembic.util import CommandError
from sqlalchemy import Engine, Select, create_engine, delete, event, func, select
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session

from ..core.errors import DataError
from ..core.network import Change, Item, Network, dump_item
from ._errors import BeyondRepair, DamagedRow, ProjectGone, StaleRevision, UnknownProject, UnknownRun, in_words
from ._jobs import JobBook
from ._journal import Entry, EntryKind, History, decode, encode
from ._mending import mended
from ._seal import seal_of
from ._tables import BlobRow, JournalRow, ProjectRow, RunRow, SnapshotRow

FILE_NAME = "vast-mesh.sqlite"
_WAIT_S = 4  # for a lock that another program holds; then it is said
_SNAPSHOT_EVERY = 100
_SNAPSHOTS_KEPT = 3


# What comes of reading a row that is not what was written.
_UNREADABLE = (DataError, ValueError, TypeError, KeyError, AttributeError, zlib.error)


@dataclass(frozen=True)
class ProjectInfo:
    id: str
    name: str
    created_at: str
    modified_at: str
    removed_at: str | None
    revision: int


@dataclass(frozen=True)
class RunInfo:
    """A line of the list of runs."""

    id: str
    at: str
    study: str
    name: str
    note: str
    revision: int
    condition: str


@dataclass(frozen=True)
class Run:
    """What is kept of a run. ``facts``: plain data of options, condition, account, summary, findings, columns;
    ``tables``: all result tables in one file."""

    study: str
    name: str
    note: str
    revision: int
    condition: str
    facts: dict[str, Any]
    tables: bytes


Plain = dict[str, tuple[Item, dict[str, Any]]]


@dataclass(frozen=True)
class Loaded:
    """A network with the revision it is of. ``newest``: the one the project stands at, another only where stored rows are
    damaged; ``damage``: what is wrong, in words, None where all is well; ``plain``: items of the snapshot with their data, so
    that those that are still there need not be dumped again."""

    network: Network
    revision: int
    history: History
    newest: int
    damage: str | None = None
    plain: Plain = field(default_factory=dict)


class Store:
    """Projects in one SQLite file in a folder. Safe for use by several threads."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self.path = folder / FILE_NAME
        self._engine = _engine(self.path)
        try:
            migrate(self._engine)
        except (SQLAlchemyError, CommandError) as error:
            self._engine.dispose()
            raise in_words(error, str(self.path)) from error
        self.jobs = JobBook(self._engine, self._writing)

    def close(self) -> None:
        self._engine.dispose()

    @contextmanager
    def _writing(self) -> Iterator[Session]:
        """One transaction that holds the write lock from its start and is on disk when it ends."""
        with Session(self._engine) as session:
            session.connection().exec_driver_sql("BEGIN IMMEDIATE")
            yield session
            session.commit()

    def projects(self, *, removed: bool = False) -> list[ProjectInfo]:
        """Projects, the last changed first; the removed ones when asked for."""
        wanted = ProjectRow.removed_at.is_not(None) if removed else ProjectRow.removed_at.is_(None)
        with Session(self._engine) as session:
            rows = session.scalars(select(ProjectRow).where(wanted).order_by(ProjectRow.modified_at.desc()))
            return [_info(r) for r in rows]

    def project(self, project_id: str) -> ProjectInfo:
        """Raises :class:`UnknownProject`, or :class:`ProjectGone` when it has been removed."""
        with Session(self._engine) as session:
            return _info(_row(session, project_id))

    def create(self, name: str, network: Network) -> ProjectInfo:
        """A new project that starts from a network, at revision 0."""
        with self._writing() as session:
            row = ProjectRow(
                id=secrets.token_hex(6), name=_fit(name), created_at=_now(), modified_at=_now(), revision=0
            )
            session.add(row)
            session.flush()
            session.add(_snapshot(row.id, 0, network))
            return _info(row)

    def rename(self, project_id: str, name: str) -> ProjectInfo:
        with self._writing() as session:
            row = _row(session, project_id)
            row.name, row.modified_at = _fit(name), _now()
            return _info(row)

    def remove(self, project_id: str) -> None:
        """Put a project among the removed ones; :meth:`restore` brings it back."""
        with self._writing() as session:
            _row(session, project_id).removed_at = _now()

    def restore(self, project_id: str) -> ProjectInfo:
        with self._writing() as session:
            row = session.get(ProjectRow, project_id)
            if row is None:
                raise UnknownProject(project_id)
            row.removed_at = None
            return _info(row)

    def load(self, project_id: str) -> Loaded:
        """The network as it stands, its revision, and what can be undone and redone.

        Where stored rows are damaged, the latest revision that can still be read, and what is wrong. Raises
        :class:`UnknownProject`, or :class:`BeyondRepair` when nothing can be read any more.
        """
        with Session(self._engine) as session:
            row = _row(session, project_id)
            snapshots = session.scalars(
                select(SnapshotRow.revision)
                .where(SnapshotRow.project_id == project_id)
                .order_by(SnapshotRow.revision.desc())
            ).all()
            best: tuple[Network, Plain, int] | None = None
            damage: list[str] = []
            for revision in snapshots:
                network, plain, reached, trouble = _replayed(session, project_id, revision, row.revision)
                if network is not None and (best is None or reached > best[2]):
                    best = network, plain, reached
                if trouble is None:
                    break
                damage.append(trouble)
            if best is None:
                raise BeyondRepair(project_id, damage[0] if damage else "it has no snapshot")
            network, plain, reached = best
            if reached == row.revision:
                damage = []  # an older snapshot and the whole journal led to the same
            history, unreadable = _history(session, project_id)
            if unreadable:
                damage.append(unreadable)
            newest = row.revision
            with suppress(SQLAlchemyError):  # seals put on just now spare time the next time, no more
                session.commit()
            return Loaded(network, reached, history, newest, damage[0] if damage else None, plain)

    def repair(self, project_id: str, label: str) -> int:
        """Go on from the latest revision that can be read: a new one, before which nothing can be undone. Returns it."""
        found = self.load(project_id)
        with self._writing() as session:
            row = _row(session, project_id)
            if row.revision != found.newest:
                raise StaleRevision(found.newest, row.revision)
            row.revision, row.modified_at = found.newest + 1, _now()
            session.add(
                JournalRow(
                    project_id=project_id, revision=row.revision, at=row.modified_at, label=label[:200],
                    kind=EntryKind.REPAIR.value, target=None, changes=encode([]), inverse=encode([]),
                )
            )  # fmt: skip
            session.add(_snapshot(project_id, row.revision, found.network))
            return row.revision

    def load_at(self, project_id: str, revision: int) -> Network:
        """The network as it stood at an earlier revision: from the present one backwards."""
        found = self.load(project_id)
        network, now = found.network, found.revision
        if not 0 <= revision <= now:
            raise StaleRevision(revision, now)
        for entry in reversed(self.since(project_id, revision)):
            network.apply(entry.inverse)
        return network

    def append(
        self, project_id: str, expected: int, label: str, changes: list[Change], inverse: list[Change],
        *, kind: EntryKind = EntryKind.DO, target: int | None = None, key: str | None = None,
    ) -> Entry:  # fmt: skip
        """Write one entry; it is on disk when this returns. ``key``: under which it is found again. Raises
        :class:`StaleRevision`."""
        with self._writing() as session:
            row = _row(session, project_id)
            if row.revision != expected:
                raise StaleRevision(expected, row.revision)
            entry = Entry(expected + 1, _now(), label[:200], kind, target, changes, inverse)
            session.add(
                JournalRow(
                    project_id=project_id, revision=entry.revision, at=entry.at, label=entry.label, kind=kind.value,
                    target=target, changes=encode(changes), inverse=encode(inverse), key=key,
                )
            )  # fmt: skip
            row.revision, row.modified_at = entry.revision, entry.at
            return entry

    def revision_of(self, project_id: str, key: str) -> int | None:
        """Revision that an edit with this key led to; None when there is none."""
        with Session(self._engine) as session:
            return session.scalar(
                select(JournalRow.revision).where(JournalRow.project_id == project_id, JournalRow.key == key)
            )

    def wants_snapshot(self, revision: int) -> bool:
        return revision % _SNAPSHOT_EVERY == 0

    def write_snapshot(self, project_id: str, revision: int, network: Network) -> None:
        """Keep the whole network at a revision, so that opening need not replay everything."""
        with self._writing() as session:
            session.merge(_snapshot(project_id, revision, network))
            session.flush()
            kept = session.scalars(
                select(SnapshotRow.revision)
                .where(SnapshotRow.project_id == project_id)
                .order_by(SnapshotRow.revision.desc())
                .limit(_SNAPSHOTS_KEPT)
            ).all()
            old = (
                SnapshotRow.project_id == project_id, SnapshotRow.revision > 0, SnapshotRow.revision.not_in(kept)
            )  # fmt: skip
            session.execute(delete(SnapshotRow).where(*old))

    def entry(self, project_id: str, revision: int) -> Entry:
        with Session(self._engine) as session:
            row = session.get(JournalRow, (project_id, revision))
            if row is None:
                raise UnknownProject(project_id)
            return _entry(row)

    def label(self, project_id: str, revision: int) -> str | None:
        """What an entry is called; None when there is none."""
        with Session(self._engine) as session:
            return session.scalar(
                select(JournalRow.label).where(JournalRow.project_id == project_id, JournalRow.revision == revision)
            )

    def logbook(self, project_id: str, after: int) -> list[Entry]:
        """Entries after a revision as they are told, the oldest first; damaged ones without their changes."""
        with Session(self._engine) as session:
            return [_told(r) for r in session.scalars(_later(project_id, after))]

    def since(self, project_id: str, revision: int) -> list[Entry]:
        """Journal entries after a revision, the oldest first."""
        with Session(self._engine) as session:
            return [_entry(r) for r in session.scalars(_later(project_id, revision))]

    def keep_blob(self, data: bytes) -> str:
        """Keep a file; returns the hash by which it is found again. The same contents are kept once."""
        digest = hashlib.sha256(data).hexdigest()
        with self._writing() as session:
            if session.get(BlobRow, digest) is None:
                session.add(BlobRow(sha256=digest, size=len(data), data=data))
        return digest

    def blob(self, digest: str) -> bytes | None:
        """A kept file by its hash; None when there is none."""
        with Session(self._engine) as session:
            row = session.get(BlobRow, digest)
            return row.data if row else None

    def keep_run(self, project_id: str, run: Run) -> RunInfo:
        """Keep a run; it stays whatever becomes of the network."""
        with self._writing() as session:
            _row(session, project_id)
            row = RunRow(
                id=secrets.token_hex(6), project_id=project_id, at=_now(), study=run.study, name=_fit(run.name), note=run.note,
                revision=run.revision, condition=run.condition[:120], facts=zlib.compress(orjson.dumps(run.facts)),
                tables=run.tables,
            )  # fmt: skip
            session.add(row)
            session.flush()
            return _run_info(row)

    def runs(self, project_id: str) -> list[RunInfo]:
        """Kept runs, the newest first."""
        with Session(self._engine) as session:
            _row(session, project_id)
            rows = session.scalars(
                select(RunRow).where(RunRow.project_id == project_id).order_by(RunRow.at.desc(), RunRow.id)
            )
            return [_run_info(r) for r in rows]

    def run(self, project_id: str, run_id: str) -> tuple[RunInfo, Run]:
        """A kept run, whole. Raises :class:`UnknownRun`."""
        with Session(self._engine) as session:
            row = _run_row(session, project_id, run_id)
            facts = orjson.loads(zlib.decompress(row.facts))
            run = Run(row.study, row.name, row.note, row.revision, row.condition, facts, row.tables)
            return _run_info(row), run

    def describe_run(self, project_id: str, run_id: str, *, name: str | None, note: str | None) -> RunInfo:
        """Name a run, or put a note to it."""
        with self._writing() as session:
            row = _run_row(session, project_id, run_id)
            row.name = row.name if name is None else _fit(name)
            row.note = row.note if note is None else note[:4000]
            return _run_info(row)

    def forget_run(self, project_id: str, run_id: str) -> None:
        with self._writing() as session:
            session.delete(_run_row(session, project_id, run_id))

    def copy(self, project_id: str, name: str) -> ProjectInfo:
        """A new project with the network as it stands; its journal starts afresh."""
        return self.create(name, self.load(project_id).network)

    def backup(self, target: Path) -> None:
        """Write a consistent copy of everything to one file, also while in use."""
        with sqlite3.connect(self.path) as source, sqlite3.connect(target) as copy:
            source.backup(copy)


def _engine(path: Path) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"check_same_thread": False, "timeout": _WAIT_S})

    @event.listens_for(engine, "connect")
    def _prepare(connection: Any, record: Any) -> None:
        connection.isolation_level = None  # transactions begin where we say so
        cursor = connection.cursor()
        for pragma in ("journal_mode=WAL", "foreign_keys=ON", "synchronous=FULL"):
            cursor.execute(f"PRAGMA {pragma}")
        cursor.close()

    return engine


def migrate(engine: Engine, revision: str = "head") -> None:
    """Bring the schema of a database up to a revision."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    with engine.connect() as connection:
        connection.exec_driver_sql("BEGIN IMMEDIATE")  # a migration happens whole or not at all
        config.attributes["connection"] = connection
        command.upgrade(config, revision)


def _row(session: Session, project_id: str) -> ProjectRow:
    row = session.get(ProjectRow, project_id)
    if row is None:
        raise UnknownProject(project_id)
    if row.removed_at:
        raise ProjectGone(project_id)
    return row


def _info(row: ProjectRow) -> ProjectInfo:
    return ProjectInfo(row.id, row.name, row.created_at, row.modified_at, row.removed_at, row.revision)


def _run_row(session: Session, project_id: str, run_id: str) -> RunRow:
    row = session.get(RunRow, run_id)
    if row is None or row.project_id != project_id:
        raise UnknownRun(run_id)
    return row


def _run_info(row: RunRow) -> RunInfo:
    return RunInfo(row.id, row.at, row.study, row.name, row.note, row.revision, row.condition)


def _entry(row: JournalRow) -> Entry:
    """Raises :class:`DamagedRow` when the row can't be read."""
    try:
        kind = EntryKind(row.kind)
        return Entry(row.revision, row.at, row.label, kind, row.target, decode(row.changes), decode(row.inverse))
    except _UNREADABLE as error:
        raise DamagedRow(row.revision, _brief(error)) from error


def _told(row: JournalRow) -> Entry:
    """An entry to be told of: without its changes where they can't be read."""
    try:
        return _entry(row)
    except DamagedRow:
        kind = next((k for k in EntryKind if k.value == row.kind), EntryKind.DO)
        return Entry(row.revision, row.at, f"{row.label} (damaged)", kind, row.target, [], [])


def _later(project_id: str, revision: int) -> Select[Any]:
    """Rows of the journal after a revision, the oldest first."""
    return (
        select(JournalRow)
        .where(JournalRow.project_id == project_id, JournalRow.revision > revision)
        .order_by(JournalRow.revision)
    )


def _replayed(
    session: Session, project_id: str, start: int, newest: int
) -> tuple[Network | None, Plain, int, str | None]:
    """A snapshot with the journal after it, as far as both can be read: network, revision, and what stopped it."""
    row = session.get(SnapshotRow, (project_id, start))
    assert row is not None
    try:
        network, plain = _restored(row)
    except _UNREADABLE as error:
        return None, {}, -1, f"the snapshot at revision {start} can't be read ({_brief(error)})"
    reached = start
    for entry in session.scalars(_later(project_id, start)):
        if entry.revision != reached + 1:
            return network, plain, reached, f"revision {reached + 1} is missing"
        if entry.kind == EntryKind.REPAIR.value:
            text = f"revision {entry.revision} began anew after damage, and its snapshot can't be read"
            return network, plain, reached, text
        try:
            network.apply(decode(entry.changes))
        except _UNREADABLE as error:
            text = f"revision {entry.revision} ({entry.label!r}) can't be replayed ({_brief(error)})"
            return network, plain, reached, text
        reached = entry.revision
    return network, plain, reached, None if reached == newest else f"revision {reached + 1} is missing"


def _restored(row: SnapshotRow) -> tuple[Network, Plain]:
    """The network of a snapshot, and of its items those that stand as they are stored; sealed if that is all of them.

    Raises one of ``_UNREADABLE``."""
    stored = orjson.loads(zlib.decompress(row.items))
    if row.seal == seal_of(row.items):
        network = Network.restored(stored, validated=True)
        return network, {d["id"]: (item, d) for d, item in zip(stored, network.items.values(), strict=True)}
    network = Network.restored(mended(i) for i in stored)
    plain = {d["id"]: (item, d) for d in stored if dump_item(item := network.items[d["id"]]) == d}
    if len(plain) == len(stored):
        row.seal = seal_of(row.items)
    return network, plain


def _history(session: Session, project_id: str) -> tuple[History, str | None]:
    """What can be undone and redone; nothing, with a reason, where the journal contradicts itself."""
    own = JournalRow.project_id == project_id
    repaired = session.scalar(
        select(func.max(JournalRow.revision)).where(own, JournalRow.kind == EntryKind.REPAIR.value)
    )
    kinds = session.execute(
        select(JournalRow.kind, JournalRow.revision, JournalRow.target)
        .where(own, JournalRow.revision >= (repaired or 0))
        .order_by(JournalRow.revision)
    )
    try:
        return History.of((k.kind, k.revision, k.target) for k in kinds), None
    except ValueError:
        return History(), "the journal contradicts itself about what was undone"


def _brief(error: Exception) -> str:
    return str(error).splitlines()[0][:160] if str(error) else type(error).__name__


def _snapshot(project_id: str, revision: int, network: Network) -> SnapshotRow:
    data = zlib.compress(orjson.dumps(network.to_items()), 3)
    return SnapshotRow(project_id=project_id, revision=revision, items=data, seal=seal_of(data))


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def _fit(name: str) -> str:
    return " ".join(name.split())[:120] or "Network"
