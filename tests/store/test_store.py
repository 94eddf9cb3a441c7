"""The store: nothing acknowledged is lost, undo is an entry, and the schema is what migrations make of it."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
import zlib
from pathlib import Path

import numpy as np
import orjson
import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import create_engine

from tests.helpers import bus, line, load, network, source, transformer, volts
from vastmesh.core.network import Network, Transformer, Update
from vastmesh.core.results.state import run_load_flow
from vastmesh.store import Entry, EntryKind, History, ProjectGone, StaleRevision, Store, UnknownProject
from vastmesh.store._store import FILE_NAME, migrate
from vastmesh.store._tables import Base


def base() -> Network:
    return network(bus("a"), bus("b"), source("a"), line("a", "b"), load("b", 1.0))


def rate(store: Store, project: str, revision: int, net: Network, mw: float) -> Entry:
    changes = [Update(id="load-b", values={"active_power_mw": mw})]
    done = net.apply(changes)
    return store.append(project, revision, f"Set {mw}", list(changes), done.inverse)


def test_a_project_opens_as_it_was_left(tmp_path: Path) -> None:
    store, net = Store(tmp_path), base()
    project = store.create("  Two   buses ", net)
    assert project.name == "Two buses"
    for revision in range(5):
        rate(store, project.id, revision, net, 2.0 + revision)
    store.close()
    loaded = Store(tmp_path).load(project.id)
    found, revision, history = loaded.network, loaded.revision, loaded.history
    assert found == net
    assert revision == 5
    assert history == History([1, 2, 3, 4, 5], [])


def test_snapshots_shorten_the_way_and_change_nothing(tmp_path: Path) -> None:
    store, net = Store(tmp_path), base()
    project = store.create("p", net)
    for revision in range(12):
        rate(store, project.id, revision, net, 2.0 + revision)
        if revision % 2:
            store.write_snapshot(project.id, revision + 1, net)
    with sqlite3.connect(tmp_path / FILE_NAME) as raw:
        kept = [r for (r,) in raw.execute("select revision from snapshot order by revision")]
    assert kept == [0, 8, 10, 12]
    loaded = store.load(project.id)
    found, revision = loaded.network, loaded.revision
    assert (found, revision) == (net, 12)


def test_a_stale_append_is_refused_and_leaves_nothing(tmp_path: Path) -> None:
    store, net = Store(tmp_path), base()
    project = store.create("p", net)
    rate(store, project.id, 0, net, 2.0)
    with pytest.raises(StaleRevision, match="stands at revision 1"):
        store.append(project.id, 0, "late", [], [])
    assert [e.revision for e in store.since(project.id, 0)] == [1]


def test_history_follows_undo_and_redo() -> None:
    history = History.of([("do", 1, None), ("do", 2, None), ("undo", 3, 2), ("undo", 4, 1), ("redo", 5, 1)])
    assert history == History([1], [2])
    history.follow(EntryKind.DO, 6, None)
    assert history == History([1, 6], [])


def test_projects_are_copied_renamed_removed_and_restored(tmp_path: Path) -> None:
    store = Store(tmp_path)
    first = store.create("first", base())
    copy = store.copy(first.id, "second")
    assert store.load(copy.id).network == store.load(first.id).network
    assert store.rename(copy.id, "renamed").name == "renamed"
    store.remove(first.id)
    assert [p.name for p in store.projects()] == ["renamed"]
    assert [p.name for p in store.projects(removed=True)] == ["first"]
    with pytest.raises(ProjectGone):
        store.load(first.id)
    with pytest.raises(UnknownProject):
        store.load("nobody")
    store.restore(first.id)
    assert store.load(first.id).network == base()


def test_database_is_durable_and_guarded(tmp_path: Path) -> None:
    store = Store(tmp_path)
    with store._engine.connect() as connection:
        read = {
            p: connection.exec_driver_sql(f"PRAGMA {p}").scalar()
            for p in ("journal_mode", "foreign_keys", "synchronous")
        }
    assert read == {"journal_mode": "wal", "foreign_keys": 1, "synchronous": 2}


def test_backup_is_one_file_with_everything(tmp_path: Path) -> None:
    store = Store(tmp_path / "live")
    project = store.create("p", base())
    (tmp_path / "copy").mkdir()
    store.backup(tmp_path / "copy" / FILE_NAME)
    assert Store(tmp_path / "copy").load(project.id).network == base()


def test_migrations_make_the_declared_schema(tmp_path: Path) -> None:
    engine = create_engine(f"sqlite:///{tmp_path / 'm.sqlite'}")
    migrate(engine)
    with engine.connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection), Base.metadata) == []
    migrate(engine)  # and again, on a database that is up to date


KILLED = """
import sys
import zlib
from pathlib import Path
from tests.store.test_store import base, rate
from vastmesh.store import Store
store, net = Store(Path(sys.argv[1])), base()
project = store.create("p", net)
print(project.id, flush=True)
revision = 0
while True:
    rate(store, project.id, revision, net, 1.0 + revision)
    revision += 1
    print(revision, flush=True)
    if revision % 7 == 0:
        store.write_snapshot(project.id, revision, net)
"""


@pytest.mark.parametrize("delay", range(3))
def test_killed_in_the_middle_of_writing_nothing_acknowledged_is_lost(tmp_path: Path, delay: int) -> None:
    writer = subprocess.Popen(
        [sys.executable, "-c", KILLED, str(tmp_path)], stdout=subprocess.PIPE, text=True,
        cwd=Path(__file__).parents[2], env={**os.environ},
    )  # fmt: skip
    assert writer.stdout is not None
    project = writer.stdout.readline().strip()
    acknowledged = 0
    for _ in range(20 + 11 * delay):
        acknowledged = int(writer.stdout.readline())
    os.kill(writer.pid, signal.SIGKILL)
    rest = writer.stdout.read().split()
    writer.wait()
    acknowledged = max([acknowledged, *map(int, rest)])
    loaded = Store(tmp_path).load(project)
    found, revision = loaded.network, loaded.revision
    assert revision in (acknowledged, acknowledged + 1)  # the one in flight may be there or not, whole
    assert found["load-b"].active_power_mw == float(revision)  # type: ignore[attr-defined]


def test_a_project_with_a_vector_group_no_longer_accepted_opens_with_the_angle_it_had(tmp_path: Path) -> None:
    """Dyn0 was taken by earlier versions: from snapshot and journal it comes as Dyn1, turned back to 0°."""
    net = network(bus("a", 33.0), bus("b"), source("a"), transformer("a", "b", vector_group="Dyn1"), load("b", 1.0))
    expected = volts(run_load_flow(net))["b"]
    store = Store(tmp_path)
    project = store.create("p", net)
    done = net.apply([Update(id="a/b", values={"vector_group": "Dyn5"})])
    store.append(project.id, 0, "Set group", [Update(id="a/b", values={"vector_group": "Dyn5"})], done.inverse)
    with sqlite3.connect(tmp_path / FILE_NAME) as raw:
        (items,) = raw.execute("select items from snapshot").fetchone()
        old = zlib.decompress(items).replace(b'"Dyn1"', b'"Dyn0"')
        raw.execute("update snapshot set items = ?", (zlib.compress(old),))
        (changes,) = raw.execute("select changes from journal").fetchone()
        raw.execute("update journal set changes = ?", (changes.replace(b"Dyn5", b"Dyn6"),))
    before = store.load_at(project.id, 0)
    turned = volts(run_load_flow(before))["b"]
    assert turned == pytest.approx(expected * np.exp(1j * np.radians(30)), abs=1e-9)
    loaded = store.load(project.id)
    found, revision = loaded.network, loaded.revision
    assert revision == 1
    unit = found["a/b"]
    assert isinstance(unit, Transformer)
    assert unit.vector_group == "Dyn7"
    assert run_load_flow(found).account.converged


def test_references_once_written_as_an_empty_text_are_blank(tmp_path: Path) -> None:
    """In a snapshot, and in the journal after it: the project opens whole."""
    store = Store(tmp_path)
    project = store.create("old", network(bus("a"), source("a"), {"kind": "area", "id": "north"}))
    with sqlite3.connect(store.path) as db:
        items = orjson.loads(zlib.decompress(db.execute("select items from snapshot").fetchone()[0]))
        items[0]["limits"] = ""
        db.execute("update snapshot set items = ?", (zlib.compress(orjson.dumps(items)),))
    for k, area in enumerate(("north", "north")):
        change = [Update(id="a", values={"area": area})]
        store.append(project.id, k, "Set area", change, change)
    with sqlite3.connect(store.path) as db:
        db.execute("update journal set changes = replace(changes, '\"north\"', '\"\"') where revision = 2")
    loaded = store.load(project.id)
    assert (loaded.revision, loaded.damage) == (2, None)
    assert (loaded.network["a"].area, loaded.network["a"].limits) == (None, None)  # type: ignore[attr-defined]
