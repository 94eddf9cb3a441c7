"""Sessions under random use: whatever is done, undone, restarted or done at once by several, they stay consistent."""

from __future__ import annotations

import asyncio
import shutil
import sqlite3
import tempfile
import threading
import zlib
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import orjson
import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from tests.api.conftest import Project
from tests.core.test_every_field_at_its_bounds import everything
from tests.helpers import bus, line, load, network, source, volts
from vastmesh.api._sessions import LiveSession, Outcome, RevisionConflict, Sessions
from vastmesh.core.errors import InvalidFields, UnknownElement
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Bus, Network, Update
from vastmesh.core.results.state import run_load_flow
from vastmesh.store import Store


def small() -> Network:
    return network(bus("a", x=0.0, y=0.0), bus("b"), source("a"), line("a", "b"), load("b", 1.0, 0.3))


class SessionMachine(RuleBasedStateMachine):
    """A session against the simplest model there is: the list of all states the network has been in."""

    @initialize()
    def begin(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.store = Store(self.folder)
        self.ident = self.store.create("p", small()).id
        self.session = self.opened()
        self.past: list[list[dict[str, Any]]] = []
        self.future: list[list[dict[str, Any]]] = []
        self.now = self.session.items()

    def opened(self) -> LiveSession:
        loaded = self.store.load(self.ident)
        network_, revision, history = loaded.network, loaded.revision, loaded.history
        return LiveSession(self.ident, self.store, network_, revision, history)

    def done(self, outcome: Outcome) -> None:
        """A change went well: what was is past, nothing can be redone, and the answer tells all that changed."""
        self.past.append(self.now)
        self.future.clear()
        self.check_answer(outcome)

    def check_answer(self, outcome: Outcome) -> None:
        before = {i["id"]: i for i in self.now}
        self.now = self.session.items()
        told = {**before, **{i["id"]: i for i in outcome.changed}}
        for ident in outcome.removed:
            told.pop(ident)
        assert told == {i["id"]: i for i in self.now}

    def a_bus(self, data: st.DataObject) -> str:
        return data.draw(st.sampled_from([b.id for b in self.session.network.of(Bus)]))

    @rule(data=st.data(), what=st.sampled_from(["load", "line", "transformer", "switch", "shunt"]))
    def grow(self, data: st.DataObject, what: str) -> None:
        if len(self.session.network.items) < 25:
            self.done(self.session.grow(self.session.revision, self.a_bus(data), what))

    @rule(data=st.data(), x=st.integers(0, 500), on=st.booleans())
    def alter(self, data: st.DataObject, x: int, on: bool) -> None:
        values = {"x": float(x), "note": "moved", "in_service": on}
        changes = [Update(id=self.a_bus(data), values=values)]
        self.done(self.session.change(self.session.revision, "alter", list(changes)))

    @rule(data=st.data())
    def remove(self, data: st.DataObject) -> None:
        ids = [i for i in self.session.network.items if i not in ("a", "source-a")]
        if ids:
            self.done(self.session.remove(self.session.revision, [data.draw(st.sampled_from(ids))]))

    @rule()
    def refused(self) -> None:
        with pytest.raises(InvalidFields):
            self.session.change(self.session.revision, "bad", [Update(id="a", values={"nominal_kv": -1})])

    @precondition(lambda self: self.past)
    @rule()
    def undo(self) -> None:
        self.future.append(self.now)
        wanted = self.past.pop()
        self.check_answer(self.session.undo())
        assert self.now == wanted

    @precondition(lambda self: self.future)
    @rule()
    def redo(self) -> None:
        self.past.append(self.now)
        wanted = self.future.pop()
        self.check_answer(self.session.redo())
        assert {i["id"]: i for i in self.now} == {i["id"]: i for i in wanted}

    @rule()
    def restart(self) -> None:
        self.session = self.opened()
        assert self.session.items() == self.now

    @invariant()
    def patched_result_is_that_of_a_fresh_solve(self) -> None:
        if not hasattr(self, "session"):
            return
        live = self.session.solve().result
        fresh = run_load_flow(self.session.network, LoadFlowOptions(tolerance_pu=1e-10))
        assert live.account.ending == fresh.account.ending
        if live.account.converged:
            ours, theirs = volts(live), volts(fresh)
            for ident, v in theirs.items():
                assert (v != v and ours[ident] != ours[ident]) or abs(ours[ident] - v) < 1e-6, ident

    def teardown(self) -> None:
        if hasattr(self, "store"):
            self.store.close()
            shutil.rmtree(self.folder)


SessionMachine.TestCase.settings = settings(max_examples=25, stateful_step_count=15, deadline=None)
TestSession = SessionMachine.TestCase


@pytest.fixture
def session(tmp_path: Path) -> LiveSession:
    store = Store(tmp_path)
    return Sessions(store).get(store.create("p", small()).id)


def test_many_threads_at_once_lose_nothing(session: LiveSession) -> None:
    """Eight clients grow loads on their own last known revision: each is merged or refused, none lost."""
    errors: list[BaseException] = []

    def client(number: int) -> None:
        try:
            for k in range(10):
                base = session.revision
                item = {"kind": "load", "id": f"{number}.{k}", "bus": "b", "active_power_mw": 0.01, "power_factor": 0.9}
                from vastmesh.core.network import Add

                session.change(base, "add", [Add(item=item)])
        except BaseException as error:
            errors.append(error)

    threads = [threading.Thread(target=client, args=(n,)) for n in range(8)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert errors == []
    assert session.revision == 80
    loaded = session.store.load(session.project_id)
    stored, revision = loaded.network, loaded.revision
    assert revision == 80
    assert stored == session.network


def test_a_failed_write_leaves_network_and_result_as_they_were(
    session: LiveSession, monkeypatch: pytest.MonkeyPatch
) -> None:
    before, solved = session.items(), volts(session.solve().result)

    def broken(*arguments: Any, **more: Any) -> None:
        raise OSError("disk full")

    monkeypatch.setattr(session.store, "append", broken)
    with pytest.raises(OSError, match="disk full"):
        session.change(0, "x", [Update(id="load-b", values={"active_power_mw": 9.0})])
    assert session.items() == before
    assert session.revision == 0
    assert volts(session.solve().result) == pytest.approx(solved)


def test_conflict_names_both_sides(session: LiveSession) -> None:
    session.change(0, "first", [Update(id="load-b", values={"active_power_mw": 2.0})])
    with pytest.raises(RevisionConflict, match="load-b, active_power_mw has been changed meanwhile") as caught:
        session.change(0, "second", [Update(id="load-b", values={"active_power_mw": 3.0})])
    assert [e.label for e in caught.value.entries] == ["first"]
    with pytest.raises(UnknownElement):
        session.remove(1, ["nobody"])


def test_listeners_hear_every_revision(session: LiveSession) -> None:
    async def listen() -> list[int]:
        queue = session.listen()
        assert session.watched
        await asyncio.to_thread(session.change, 0, "one", [Update(id="b", values={"note": "1"})])
        await asyncio.to_thread(session.undo)
        heard = [await asyncio.wait_for(queue.get(), 5) for _ in range(2)]
        session.forget(queue)
        return heard

    with ThreadPoolExecutor(1) as own:  # browser tests may leave a loop running in this thread
        assert own.submit(asyncio.run, listen()).result() == [1, 2]
    assert not session.watched


def test_unused_sessions_are_closed_and_reopened_unharmed(tmp_path: Path) -> None:
    store = Store(tmp_path)
    sessions = Sessions(store)
    ids = [store.create(f"p{n}", small()).id for n in range(12)]
    sessions.get(ids[0]).change(0, "note", [Update(id="b", values={"note": "kept"})])
    for ident in ids[1:]:
        sessions.get(ident)
    again = sessions.get(ids[0])
    assert again.network["b"].note == "kept"  # type: ignore[attr-defined]
    assert again.words() == ("note", None)


def test_new_buses_without_a_place_get_one_in_the_same_step(project: Project) -> None:
    added = [{"op": "add", "item": {"kind": "bus", "id": "new", "nominal_kv": 11}}]
    done = project.post("changes", label="add", changes=added).json()
    item = next(i for i in done["changed"] if i["id"] == "new")
    assert item["x"] is not None
    project.post("undo")
    assert all(i["id"] != "new" for i in project.opened()["items"])


def test_what_is_opened_is_what_dumping_would_give(tmp_path: Path) -> None:
    """Data that is handed out as it was stored: after edits, with blank and typical fields, and where a default came later."""
    from vastmesh.core.network import dump_item
    from vastmesh.store import FILE_NAME

    network = everything()
    store = Store(tmp_path)
    ident = store.create("Everything", network).id
    first = Sessions(store).get(ident)
    first.change(0, "edit", [Update(id="motor", values={"note": "seen"}), Update(id="m-n", values={"length_km": 3.0})])
    store.close()
    with sqlite3.connect(tmp_path / FILE_NAME) as db:
        items = orjson.loads(zlib.decompress(db.execute("select items from snapshot").fetchone()[0]))
        for item in items[::3]:
            item.pop("in_service", None)
        db.execute("update snapshot set items = ?", (zlib.compress(orjson.dumps(items)),))
    again = Sessions(Store(tmp_path)).get(ident)
    expected = [dump_item(i) for i in again.network.items.values()]
    assert len(again.plain) > 10
    assert orjson.loads(again.items_json()) == expected
    again.change(1, "edit", [Update(id="motor", values={"note": "again"})])
    assert orjson.loads(again.items_json()) == [dump_item(i) for i in again.network.items.values()]
