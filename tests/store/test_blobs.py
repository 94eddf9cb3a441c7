"""Attached files: kept once by their contents, there after a restart, in the backup, and after a migration."""

from __future__ import annotations

import hashlib
import sqlite3
import zlib
from pathlib import Path

import orjson
from alembic import command
from alembic.config import Config
from sqlalchemy import create_engine

import vastmesh.store
from tests.helpers import bus, network, source
from vastmesh.store import Store
from vastmesh.store._store import FILE_NAME, migrate

FOLDER = Path(vastmesh.store.__file__).parent / "migrations"


def test_the_same_contents_are_kept_once(tmp_path: Path) -> None:
    store = Store(tmp_path)
    first, second, other = store.keep_blob(b"plate"), store.keep_blob(b"plate"), store.keep_blob(b"other")
    assert first == second == hashlib.sha256(b"plate").hexdigest() != other
    with sqlite3.connect(tmp_path / FILE_NAME) as raw:
        assert raw.execute("select count(*), sum(size) from blob").fetchone() == (2, 10)
    assert store.blob("0" * 64) is None


def test_files_are_there_after_a_restart_and_in_the_backup(tmp_path: Path) -> None:
    store = Store(tmp_path / "live")
    digest = store.keep_blob(bytes(range(256)) * 40)
    store.close()
    assert Store(tmp_path / "live").blob(digest) == bytes(range(256)) * 40
    (tmp_path / "copy").mkdir()
    Store(tmp_path / "live").backup(tmp_path / "copy" / FILE_NAME)
    assert Store(tmp_path / "copy").blob(digest) == bytes(range(256)) * 40


def test_a_database_of_the_first_release_is_brought_up_with_all_it_holds(tmp_path: Path) -> None:
    """Made with the first migration only, filled as that release did, then opened by this one."""
    path = tmp_path / FILE_NAME
    engine = create_engine(f"sqlite:///{path}")
    migrate(engine, "0001")
    with sqlite3.connect(path) as raw:
        tables = {r[0] for r in raw.execute("select name from sqlite_master where type = 'table'")}
        assert "blob" not in tables
    engine.dispose()
    net = network(bus("a"), source("a"))
    with sqlite3.connect(path) as raw:
        now = "2025-01-01T00:00:00+00:00"
        raw.execute("insert into project values ('old', 'Old', ?, ?, null, 0)", (now, now))
        raw.execute("insert into snapshot values ('old', 0, ?)", (zlib.compress(orjson.dumps(net.to_items())),))
    store = Store(tmp_path)
    assert store.load("old").network == net
    digest = store.keep_blob(b"new")
    assert store.blob(digest) == b"new"


def test_migrations_go_back_as_well(tmp_path: Path) -> None:
    engine = create_engine(f"sqlite:///{tmp_path / 'm.sqlite'}")
    migrate(engine)
    config = Config()
    config.set_main_option("script_location", str(FOLDER))
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.downgrade(config, "0001")
    with sqlite3.connect(tmp_path / "m.sqlite") as raw:
        tables = {r[0] for r in raw.execute("select name from sqlite_master where type = 'table'")}
    assert "journal" in tables
    assert "blob" not in tables
