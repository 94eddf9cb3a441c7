"""Kept runs: whole after a restart, apart from the network they were made of, and earlier revisions come back exactly."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import create_engine, inspect, text

from tests.helpers import bus, line, load, network, source
from vastmesh.core.network import Add, Change, Network, Remove, Update
from vastmesh.core.results.state import run_load_flow
from vastmesh.exchange import pack_tables, unpack_tables
from vastmesh.store import ProjectGone, Run, StaleRevision, Store, UnknownProject, UnknownRun
from vastmesh.store._store import FILE_NAME, migrate


def base() -> Network:
    return network(bus("a"), bus("b"), source("a"), line("a", "b"), load("b", 1.0))


def run_of(net: Network, name: str = "Before", revision: int = 0) -> Run:
    result = run_load_flow(net)
    tables, columns = pack_tables(result.tables)
    return Run("load_flow", name, "a note", revision, "Winter", {"tables": columns, "summary": result.summary}, tables)


def test_a_run_comes_back_whole_after_a_restart(tmp_path: Path) -> None:
    store, net = Store(tmp_path), base()
    project = store.create("p", net).id
    info = store.keep_run(project, run_of(net))
    store.close()
    again = Store(tmp_path)
    found, run = again.run(project, info.id)
    assert found == info
    assert (run.name, run.note, run.condition) == ("Before", "a note", "Winter")
    tables = unpack_tables(run.tables, run.facts["tables"])
    assert tables["buses"]["voltage_pu"].tolist() == run_load_flow(net).tables["buses"]["voltage_pu"].tolist()
    assert run.facts["summary"]["demand_mw"] == pytest.approx(1.0)


def test_runs_are_listed_the_newest_first_named_noted_and_forgotten(tmp_path: Path) -> None:
    store, net = Store(tmp_path), base()
    project = store.create("p", net).id
    kept = [store.keep_run(project, run_of(net, f"Run {n}")) for n in range(3)]
    assert {r.id for r in store.runs(project)} == {r.id for r in kept}
    times = [r.at for r in store.runs(project)]
    assert times == sorted(times, reverse=True)
    named = store.describe_run(project, kept[0].id, name="  First   of all ", note=None)
    assert (named.name, named.note) == ("First of all", "a note")
    assert store.describe_run(project, kept[0].id, name=None, note="x" * 9000).note == "x" * 4000
    store.forget_run(project, kept[1].id)
    assert kept[1].id not in {r.id for r in store.runs(project)}
    with pytest.raises(UnknownRun):
        store.run(project, kept[1].id)


def test_a_run_is_found_in_its_own_project_only(tmp_path: Path) -> None:
    store, net = Store(tmp_path), base()
    one, two = (store.create(n, net).id for n in ("one", "two"))
    kept = store.keep_run(one, run_of(net))
    for action in (store.run, store.forget_run):
        with pytest.raises(UnknownRun, match="The list of runs"):
            action(two, kept.id)
    with pytest.raises(UnknownRun):
        store.describe_run(two, kept.id, name="x", note=None)
    with pytest.raises(UnknownProject):
        store.keep_run("nowhere", run_of(net))
    store.remove(one)
    with pytest.raises(ProjectGone):
        store.runs(one)


def edits(seed: list[int]) -> list[Change]:
    """A row of changes that always fits: demand moves, buses come and go."""
    made: list[Change] = []
    extra: list[str] = []
    for n, kind in enumerate(seed):
        if kind == 0:
            made.append(Update(id="load-b", values={"active_power_mw": 1.0 + n}))
        elif kind == 1 or not extra:
            extra.append(f"x{n}")
            made.append(Add(item=bus(extra[-1])))
        else:
            made.append(Remove(id=extra.pop()))
    return made


@settings(max_examples=20, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.lists(st.integers(0, 2), min_size=1, max_size=12))
def test_every_earlier_revision_comes_back_exactly(tmp_path_factory: pytest.TempPathFactory, seed: list[int]) -> None:
    store, net = Store(tmp_path_factory.mktemp("store")), base()
    project = store.create("p", net).id
    stood = [net.to_items()]
    for revision, change in enumerate(edits(seed)):
        done = net.apply([change])
        store.append(project, revision, "edit", [change], done.inverse)
        stood.append(net.to_items())
    for revision, items in enumerate(stood):
        assert store.load_at(project, revision).to_items() == items
    with pytest.raises(StaleRevision):
        store.load_at(project, len(stood))


@pytest.mark.parametrize("version", ["0001", "0002"])
def test_data_of_earlier_versions_gets_a_place_for_runs(tmp_path: Path, version: str) -> None:
    """A store as an earlier version left it, with a project in it, opens and keeps runs."""
    engine = create_engine(f"sqlite:///{tmp_path / FILE_NAME}")
    migrate(engine, version)
    with engine.begin() as connection:
        connection.execute(text(
            "INSERT INTO project (id, name, created_at, modified_at, revision) VALUES ('p', 'Old', 't', 't', 0)"
        ))  # fmt: skip
    assert "run" not in inspect(engine).get_table_names()
    engine.dispose()
    store = Store(tmp_path)
    assert [p.name for p in store.projects()] == ["Old"]
    kept = store.keep_run("p", run_of(base()))
    assert [r.id for r in store.runs("p")] == [kept.id]
