"""Open projects in memory: the network, its compiled load flow, and who listens to it."""

from __future__ import annotations

import asyncio
import atexit
import gc
import logging
import mimetypes
import re
import secrets
import threading
import time
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import numpy as np
import orjson
from pydantic import BaseModel

from ..core.catalogue import EquipmentType, neighbour, types_of
from ..core.checks import Check, run_checks
from ..core.errors import FieldProblem, InvalidFields, UnknownElement, VastMeshError
from ..core.flow import Ending
from ..core.layout import COLUMN, ROW, copies_beside, free_spot, place
from ..core.network import (
    REGISTRY,
    Applied,
    Attachment,
    Bus,
    Change,
    Condition,
    Element,
    GrowOptions,
    Item,
    Layered,
    Network,
    OwnType,
    Scheme,
    Trace,
    Update,
    catalogue_family,
    clashing,
    dump_item,
    grow,
    join,
    layered,
    merged,
    paste,
    removal,
    root_of,
    route,
    touched_fields,
    written,
)
from ..core.network.growth import states_in, values_in
from ..core.network.hours import at_moment
from ..core.results import Result, Table, words_of
from ..core.results.state import LiveLoadFlow, LiveUnbalanced, LoadFlowResult, guarded
from ..core.sift import Texts
from ..core.studies import Inputs, Study
from ..exchange import facts_of, own_as_type, pack_tables, read_rows, result_from, unpack_tables
from ..runner import Job, Runner
from ..store import Entry, EntryKind, History, ProjectInfo, ReadOnly, Run, RunInfo, Store
from ._whose import WINDOW

_log = logging.getLogger(__name__)
_MOST_OPEN = 8
_KEPT_AT_HAND = 4
_MOST_PREVIEWS = 32
MEDIA_TYPE = re.compile(r"[a-z]+/[a-z0-9.+-]{1,80}")
MOST_ATTACHED = 16 * 2**20


class RevisionConflict(VastMeshError):
    """Two changes of one field: somebody else's came first."""

    code = "conflict"

    def __init__(self, revision: int, entries: list[Entry], fields: list[tuple[str, str]]) -> None:
        super().__init__(revision, entries, fields)
        self.revision, self.entries, self.fields = revision, entries, fields

    def __str__(self) -> str:
        few = ", ".join(i if f == "*" else f"{i}, {f}" for i, f in self.fields[:3])
        return f"{few} has been changed meanwhile. Look at the newer value, then decide again."


_FURTHEST_UNDO = 50  # edits of others over which one's own is looked for
Told = int | dict[str, Any]  # a new revision, or how a job stands


@dataclass(frozen=True)
class Solved:
    """A live result with how long it took and the token of its rows."""

    revision: int
    rows: str
    solve_ms: float
    result: LoadFlowResult


@dataclass(frozen=True)
class Outcome:
    """What a change did."""

    revision: int
    changed: list[dict[str, Any]]
    removed: list[str]
    order: list[str] | None
    undo: str | None
    redo: str | None
    solved: Solved
    select: str | None = None
    merged: bool = False


@dataclass
class LiveSession:
    """One open project. Every method takes the session's lock; the store is the truth."""

    project_id: str
    store: Store
    network: Network
    revision: int
    history: History
    lock: threading.RLock = field(default_factory=threading.RLock)
    damage: ReadOnly | None = None  # why it can only be read
    plain: dict[str, tuple[Item, dict[str, Any]]] = field(default_factory=dict)  # data of items as they were loaded

    def __post_init__(self) -> None:
        # The store keeps the present network; what is shown and edited is that network under its schemes.
        self.base = self.network
        self.layers = layered(self.base)
        self.network = self.layers.network
        self._live = LiveLoadFlow(self.network)
        self._per_phase = LiveUnbalanced(self.network)
        self._token = secrets.token_hex(4)
        self._touched: list[str] = []  # by the last edit
        # Not the session's lock: who listens does so on the event loop, which must not wait for a calculation.
        self._listening = threading.Lock()
        self._listeners: list[tuple[asyncio.AbstractEventLoop, asyncio.Queue[Told]]] = []
        self._labels: dict[int, str] = {}
        self._fields: dict[int, set[tuple[str, str]]] = {}
        self._whose: dict[int, str] = {}  # windows that made edits since the session began, by revision
        self._traced: tuple[int, Trace] | None = None
        self._checked: tuple[int, list[Check]] | None = None
        self._last: tuple[Condition, Solved] | None = None
        self._tried: tuple[int, dict[str, Any], tuple[Condition, Solved]] | None = None
        self._previews: OrderedDict[str, tuple[Condition, Solved]] = OrderedDict()  # by the tab that tries them
        self._texts: tuple[str, dict[tuple[str, str], Texts]] = ("", {})
        self._items: tuple[int, bytes] = (-1, b"")
        self._kept: OrderedDict[str, tuple[RunInfo, dict[str, Any], Result]] = OrderedDict()

    # Results

    def solve(
        self, *, demand: float | None = None, generation: float | None = None, lost: Sequence[str] = (),
        closed: Sequence[str] = (), moment: str | None = None, year: int | None = None,
        tab: str | None = None,
    ) -> Solved:  # fmt: skip
        """Solve as the network stands, or with other factors, at a moment by its profiles, in a year by its growth, without
        what is lost and with switches
        closed, none of it kept: ``tab`` names whose screen that is for."""
        with self.lock:
            condition = self.network.condition
            factors = {"demand_factor": demand, "generation_factor": generation}
            given: dict[str, Any] = {k: v for k, v in factors.items() if v is not None}
            if moment:
                given |= self._at(moment, condition)
            if year is not None:
                values = {k: dict(v) for k, v in (given.get("values") or condition.values).items()}
                for ident, own in values_in(self.network, year).items():
                    values[ident] = {**own, **values.get(ident, {})}
                given["values"] = values
                here = {i: "in" if s else "out" for i, s in states_in(self.network, year).items()}
                given["states"] = {**here, **condition.states}
            if lost or closed:
                states = given.get("states") or condition.states
                given["states"] = {**states, **dict.fromkeys(closed, "closed"), **dict.fromkeys(lost, "out")}
            if given:
                if (same := self._tried_before(given)) is not None:
                    if tab is not None:
                        self._keep_preview(tab, same)
                    return same[1]
                condition = condition.model_copy(update=given)
            started = time.perf_counter()
            live = self._per_phase if self.per_phase else self._live
            kind = type(live)
            result = guarded(live.solve, condition, self.network, self._touched, lambda n: kind(n).solve)
            if result.account.ending is Ending.FAILED:
                # What was half compiled is not built upon.
                self._live, self._per_phase = LiveLoadFlow(self.network), LiveUnbalanced(self.network)
                self._token = secrets.token_hex(4)
            took = (time.perf_counter() - started) * 1e3
            solved = Solved(self.revision, self._rows_token(), took, result)
            if not given:
                self._last = condition, solved
                self._previews.pop(tab or "", None)
                return solved
            self._tried = self.revision, given, (condition, solved)
            if tab is not None:
                self._keep_preview(tab, (condition, solved))
            return solved

    def _at(self, moment: str, condition: Condition) -> dict[str, Any]:
        """What the profiles make of a condition at a moment. Raises :class:`InvalidFields` for one that is none."""
        try:
            when = datetime.fromisoformat(moment)
        except ValueError:
            raise InvalidFields([FieldProblem("preview", "moment", moment, "enter it as 2025-01-31T18:30")]) from None
        then = at_moment(self.network, condition, when)
        changed = ("demand_factor", "class_factors", "area_factors", "energy_factors", "values")
        return {f: getattr(then, f) for f in changed}

    def _tried_before(self, given: dict[str, Any]) -> tuple[Condition, Solved] | None:
        """What somebody has tried just now with the same factors on the same network."""
        if self._tried is not None and self._tried[:2] == (self.revision, given):
            return self._tried[2]
        return None

    def _keep_preview(self, tab: str, found: tuple[Condition, Solved]) -> None:
        self._previews[tab] = found
        self._previews.move_to_end(tab)
        while len(self._previews) > _MOST_PREVIEWS:
            self._previews.popitem(last=False)

    def _rows_token(self) -> str:
        """Names what the tables say of their rows: as long as it stays, so do their fixed columns."""
        live = self._per_phase if self.per_phase else self._live
        return f"{self._token}-{'p' if self.per_phase else 'b'}{live.rows_version}"

    @property
    def per_phase(self) -> bool:
        """Whether the live load flow is the one per phase."""
        return self.network.settings.study == "per_phase"

    def last(self, tab: str | None = None) -> tuple[Condition, Solved]:
        """The result of the network as it stands, with its condition; what a tab is trying, where it tries something."""
        with self.lock:
            trying = self._previews.get(tab or "")
            if trying is not None and trying[1].revision == self.revision:
                return trying
            if self._last is None or self._last[1].revision != self.revision:
                self.solve()
            assert self._last is not None
            return self._last

    def texts(self, table: Table) -> dict[str, Texts]:
        """The fixed texts of a result table for the sift line, kept while its rows stay."""
        with self.lock:
            token = self._rows_token()
            if self._texts[0] != token:
                self._texts = (token, {})
            kept, words = self._texts[1], None
            found = {}
            for c in table.columns:
                if not c.fixed or isinstance(c.values, np.ndarray):
                    continue
                if (table.name, c.name) not in kept:
                    words = words_of(self.network) if words is None else words
                    kept[table.name, c.name] = Texts(c.values, words)
                found[c.name] = kept[table.name, c.name]
            return found

    # Runs

    def kept(self, run_id: str) -> tuple[RunInfo, dict[str, Any], Result]:
        """A kept run: line of the list, facts, result. Raises :class:`UnknownRun`."""
        with self.lock:
            if run_id not in self._kept:
                info, run = self.store.run(self.project_id, run_id)
                tables = unpack_tables(run.tables, run.facts["tables"])
                self._kept[run_id] = info, run.facts, result_from(run.facts, tables)
                while len(self._kept) > _KEPT_AT_HAND:
                    self._kept.popitem(last=False)
            return self._kept[run_id]

    def forget_kept(self, run_id: str) -> None:
        with self.lock:
            self._kept.pop(run_id, None)

    def start(
        self,
        runner: Runner,
        study: Study,
        options: BaseModel,
        *,
        keep: str | None,
        note: str,
        slot: str = "",
        tab: str = "",
    ) -> Job:
        """Start a study on the network as it stands; kept under a name when it has finished."""
        with self.lock:
            network, revision, condition = self.network.copy(), self.revision, self.network.condition
            schemes, back = tuple(s.id for s in self.base.of(Scheme) if s.active), self.layers.back
        inputs = Inputs(network, condition, schemes, revision, back)
        return runner.submit(study, inputs, options, project=self.project_id, keep=keep, note=note, slot=slot, tab=tab)

    def items(self) -> list[dict[str, Any]]:
        with self.lock:
            return self.network.to_items()

    def items_json(self) -> bytes:
        """All items as JSON, kept while the revision stays."""
        with self.lock:
            if self._items[0] != self.revision:
                plain, self.plain = self.plain, {}  # once: what is loaded is dumped when it is opened
                self._items = self.revision, orjson.dumps([
                    plain[i][1] if i in plain and plain[i][0] is item else dump_item(item)
                    for i, item in self.network.items.items()
                ])  # fmt: skip
            return self._items[1]

    def words(self) -> tuple[str | None, str | None]:
        """Labels of what would be undone and redone next by the window that asks; another's edit is said to be one."""
        with self.lock:
            undo, redo = (self._next(s) for s in (self.history.undoable, self.history.redoable))
            return self._label(undo), self._label(redo)

    def _label(self, revision: int | None) -> str | None:
        if revision is None or self.damage is not None:
            return None
        if revision not in self._labels:
            self._labels[revision] = self.store.label(self.project_id, revision) or ""
        return self._labels[revision] + ("" if self._own(revision) else " (another window's)")

    def _own(self, revision: int) -> bool:
        """Whether the window that asks made an edit, or nobody knows who did."""
        return self._whose.get(revision) in (None, WINDOW.get())

    def _next(self, stack: list[int]) -> int | None:
        """The edit to be taken back, or done again, by the window that asks: its own last one, unless somebody has gone on from
        that; else the last of all."""
        if not stack or self._own(stack[-1]):
            return stack[-1] if stack else None
        window = WINDOW.get()
        for k in range(len(stack) - 2, max(len(stack) - 2 - _FURTHEST_UNDO, -1), -1):
            # What nobody is known to have made stays beneath the others'.
            if window is not None and self._whose.get(stack[k]) == window:
                theirs = set().union(*map(self._written_by, stack[k + 1 :]))
                return stack[-1] if clashing(self._written_by(stack[k]), theirs) else stack[k]
        return stack[-1]

    def _written_by(self, revision: int) -> set[tuple[str, str]]:
        """Fields that an edit writes. Every window asks with every answer: each edit is read once."""
        if revision not in self._fields:
            entry = self.store.entry(self.project_id, revision)
            self._fields[revision] = written(entry.changes, entry.inverse)
        return self._fields[revision]

    # Changes

    def change(
        self,
        base_revision: int,
        label: str,
        changes: list[Change],
        *,
        select: str | None = None,
        key: str | None = None,
    ) -> Outcome:
        """Apply a group of changes made on a revision; later ones of others that touch other fields are kept.

        ``key``: names this edit; sent again under the same key it is not done again, and the answer is what became of it.
        Raises :class:`RevisionConflict` with what changed since, or a :class:`DataError`.
        """
        with self.lock:
            if key is not None and (done := self.store.revision_of(self.project_id, key)) is not None:
                return self.since(done - 1)
            merged = self._check_base(base_revision, changes)
            return self._commit(label, changes, EntryKind.DO, None, select=select, merged=merged, key=key)

    def grow(
        self, base_revision: int, at: str, what: str, to: str | None = None, options: GrowOptions | None = None
    ) -> Outcome:
        """Grow something at a bus, in a line or between two buses; a new bus is put where there is room."""
        with self.lock:
            plan = grow(self.network, at, what, to=to, options=options)
            changes = list(plan.changes)
            if isinstance(self.network[at], Bus):
                changes += self._spots(at, plan.buses, what)
            label = f"Grow {what.replace('_', ' ')} at {self.network[at].name}"
            return self.change(base_revision, label, changes, select=plan.select)

    def join(self, base_revision: int, gone: str, kept: str) -> Outcome:
        """Make two buses one."""
        with self.lock:
            changes = join(self.network, gone, kept)
            label = f"Join {self.network[gone].name} with {self.network[kept].name}"
            return self.change(base_revision, label, changes, select=kept)

    def paste(
        self, base_revision: int, items: list[dict[str, Any]], onto: str | None, times: int
    ) -> tuple[Outcome, list[str], list[str]]:
        """Paste a clip; returns what was done, the ids of the copies and the ids of what was left out."""
        for number, item in enumerate(items, 1):
            if not isinstance(item.get("id"), str) or not isinstance(item.get("kind"), str):
                raise InvalidFields(
                    [FieldProblem(f"item {number}", "id", item.get("id"), "copy items with an id and a kind")]
                )
        with self.lock:
            spots = [(float(i["x"]), float(i["y"])) for i in items if _placed(i)]
            root, target = self.network.items.get(root_of(items) or ""), self.network.items.get(onto or "")
            start = (0.0, 0.0)
            if isinstance(root, Bus) and isinstance(target, Bus) and root is not target:
                start = ((target.x or 0.0) - (root.x or 0.0), (target.y or 0.0) - (root.y or 0.0))
            below = isinstance(target, Bus) and not target.upright
            shifts = copies_beside(self.network, spots, min(times, 1000), start, down=below)
            plan = paste(self.network, items, onto=onto, times=times, shifts=shifts)
            changes = list(plan.changes)
            if isinstance(target, Bus) and not target.upright:
                ways = len(self.network.connected(target.id)) + times
                if (needed := min(40.0 + 30.0 * ways, 4000.0)) > (target.bar or 0.0):
                    changes.append(Update(id=target.id, values={"bar": needed}))
            made = [i for copy in plan.ids for i in copy]
            what = str(items[0].get("name") or items[0]["id"])
            more = f" and {len(items) - 1} more" if len(items) > 1 else ""
            label = f"Paste {what}{more}{f', {times} times' if times > 1 else ''}"
            done = self.change(base_revision, label, changes, select=made[0] if len(made) == 1 else None)
            return done, made, plan.left_out

    def swap(self, base_revision: int, ids: list[str], step: int) -> Outcome:
        """The next size up or down in the series of each element's type."""
        with self.lock:
            changes: list[Change] = []
            words = ""
            for ident in ids:
                item = self.network[ident]
                found = self._type_of(item)
                after = neighbour(found, step, self.types(found.family)) if found else None
                if after is not None:
                    changes.append(Update(id=ident, values={"type": after.name}))
                    words = after.name
            if not changes:
                allowed = "choose something with a catalogue type that has a neighbour in its series"
                raise InvalidFields(
                    [FieldProblem(ids[0], "type", getattr(self.network[ids[0]], "type", None), allowed)]
                )
            label = (
                f"Take {words}" if len(changes) == 1 else f"Next size {'up' if step > 0 else 'down'} for {len(changes)}"
            )
            return self.change(base_revision, label, changes)

    def types(self, family: str) -> list[EquipmentType]:
        """Types of a family: the catalogue's and the network's own."""
        with self.lock:
            own = [own_as_type(t) for t in self.network.of(OwnType) if t.family == family]
            return [*own, *types_of(family).values()]

    def _type_of(self, item: Item) -> EquipmentType | None:
        family, name = catalogue_family(type(item)), getattr(item, "type", None)
        return next((t for t in self.types(family) if t.name == name), None) if family and name else None

    def attach(self, base_revision: int, ident: str, file_name: str, data: bytes) -> Outcome:
        """Keep a file with an element."""
        if not 0 < len(data) <= MOST_ATTACHED:
            allowed = f"attach files of 1 byte to {MOST_ATTACHED // 2**20} MB"
            raise InvalidFields([FieldProblem(ident, "attachments", f"{len(data)} bytes", allowed)])
        with self.lock:
            item = self.network[ident]
            if not isinstance(item, Element):
                raise InvalidFields(
                    [FieldProblem(ident, "attachments", item.kind, "choose a piece of equipment or a bus")]
                )
            name = file_name.replace("\\", "/").rpartition("/")[2]
            name = "".join(c for c in name if c.isprintable()).strip()[-120:] or "file"
            guessed = (mimetypes.guess_type(name)[0] or "").lower()
            if not MEDIA_TYPE.fullmatch(guessed):
                guessed = "application/octet-stream"
            new = Attachment(name=name, sha256=self.store.keep_blob(data), size=len(data), media_type=guessed)
            kept = [*(item.attachments or ()), new]
            values = {"attachments": [a.model_dump() for a in kept]}
            return self.change(base_revision, f"Attach {new.name} to {item.name}", [Update(id=ident, values=values)])

    def attached(self, digest: str) -> tuple[str, bytes]:
        """Name and contents of a file that an element of this project has. Raises :class:`UnknownElement`."""
        with self.lock:
            for e in self.network.elements():
                for a in e.attachments or ():
                    if a.sha256 == digest and (data := self.store.blob(digest)) is not None:
                        return a.name, data
        raise UnknownElement(digest, wanted_by="opening a document")

    def paste_table(self, base_revision: int, kind: str, text: str) -> Outcome:
        """Apply pasted rows: all of them or none."""
        with self.lock:
            changes = read_rows(self.network, kind, text)
            label = (
                f"Paste {len(changes)} {'row' if len(changes) == 1 else 'rows'} into {REGISTRY[kind].plural.lower()}"
            )
            return self.change(base_revision, label, changes)

    def trace(self) -> Trace:
        """The supply trace of the network as it stands, kept until it changes."""
        with self.lock:
            if self._traced is None or self._traced[0] != self.revision:
                # Of a copy: it is read on after the lock is let go, while edits go on.
                self._traced = (self.revision, Trace(self.network.under(self.network.condition).copy()))
            return self._traced[1]

    def checks(self) -> list[Check]:
        """The model check of the network as it stands; edits go on while it runs."""
        with self.lock:
            if self._checked is not None and self._checked[0] == self.revision:
                return self._checked[1]
            revision, network = self.revision, self.network.under(self.network.condition).copy()
        found = run_checks(network)
        with self.lock:
            if self._checked is None or self._checked[0] < revision:
                self._checked = (revision, found)
        return found

    def remove(self, base_revision: int, ids: list[str]) -> Outcome:
        """Remove items with everything that is connected to removed buses."""
        with self.lock:
            essential = [i for i in ids if i in (self.network.settings.id, self.network.condition.id)]
            if essential:
                text = "the settings and the condition in use stay; choose another condition first"
                raise InvalidFields([FieldProblem(i, "id", i, text) for i in essential])
            changes = removal(self.network, ids)
            name = self.network[ids[0]].name
            further = f" and {len(changes) - 1} more" if len(changes) > 1 else ""
            return self.change(base_revision, f"Remove {name}{further}", changes)

    def merge(self, base_revision: int, scheme: str) -> Outcome:
        """Put a scheme's changes into the present network; the scheme stays, empty and off."""
        with self.lock:
            self._check_base(base_revision, [])
            label = f"Merge {self.network[scheme].name} into the network"
            return self._commit(label, merged(self.base, scheme), EntryKind.DO, None, plain=True)

    def tidy(self, base_revision: int, ids: list[str] | None = None) -> Outcome:
        """Lay the whole sheet out anew, or only some buses."""
        with self.lock:
            loose = [i for i in ids or [] if isinstance(self.network.items.get(i), Bus)]
            changes = place(self.network, loose=loose) if ids else place(self.network, anew=True)
            if not changes:
                raise InvalidFields([FieldProblem("sheet", "layout", "empty", "choose at least one bus")])
            return self.change(base_revision, f"Tidy {len(loose)} buses" if ids else "Lay out the sheet anew", changes)

    def undo(self, base_revision: int | None = None) -> Outcome:
        """Take the last edit back. With a revision that is not the present one it is a conflict: somebody else's edit would
        be taken back unseen."""
        return self._step(self.history.undoable, EntryKind.UNDO, "undo", base_revision)

    def redo(self, base_revision: int | None = None) -> Outcome:
        return self._step(self.history.redoable, EntryKind.REDO, "redo", base_revision)

    def _step(self, stack: list[int], kind: EntryKind, word: str, base: int | None) -> Outcome:
        with self.lock:
            if base is not None and self._check_base(base, []):
                entries = self.store.since(self.project_id, base)
                fields = set().union(*(written(e.changes, e.inverse) for e in entries))
                raise RevisionConflict(self.revision, entries, sorted(fields))
            revision = self._next(stack)
            if revision is None:
                raise InvalidFields([FieldProblem("project", word, "nothing", f"there is nothing to {word}")])
            entry = self.store.entry(self.project_id, revision)
            changes = entry.inverse if kind is EntryKind.UNDO else entry.changes
            return self._commit(f"{word.capitalize()}: {entry.label}", changes, kind, entry.revision)

    def _spots(self, near: str, new: list[str], what: str) -> list[Change]:
        """Places for what has grown at a bus: one bus, the two below a transformer, or a row of them."""
        if len(new) == 1:
            return [self._spot(near, new[0], what)]
        bus = self.network[near]
        assert isinstance(bus, Bus)
        x, y = bus.x or 0.0, bus.y or 0.0
        if what == "three_winding":
            beside = (bus.bar or 0.0) / 2 * (not bus.upright) + 1.2 * COLUMN
            ways = [(0.0, 1.6 * ROW), (1.5 * COLUMN, 1.6 * ROW), (-1.5 * COLUMN, 1.6 * ROW)]
            ways += [(beside + k * COLUMN, 1.4 * ROW) for k in range(5)] + [(0.0, 2.4 * ROW)]
            first = free_spot(self.network, x, y, ways)
            aside = [(1.5 * COLUMN, 0.3 * ROW), (-1.5 * COLUMN, 0.3 * ROW), (1.5 * COLUMN, ROW)]
            second = free_spot(self.network, *first, aside, [(*first, 40.0)])
            return [
                Update(id=b, values={"x": p[0], "y": p[1], "bar": 80.0})
                for b, p in zip(new, (first, second), strict=True)
            ]
        start = (COLUMN, 0.0) if bus.upright else ((bus.bar or 0.0) / 2 + COLUMN / 2, ROW)
        row = [(x + start[0] + COLUMN * k, y + start[1]) for k in range(len(new))]
        dx, dy = copies_beside(self.network, row, 1, down=True)[0]
        where = {"bar": 36.0, "upright": True}
        return [Update(id=b, values={"x": p[0] + dx, "y": p[1] + dy, **where}) for b, p in zip(new, row, strict=True)]

    def _spot(self, near: str, new: str, what: str) -> Change:
        bus = self.network[near]
        assert isinstance(bus, Bus)
        x, y = bus.x or 0.0, bus.y or 0.0
        if what == "transformer":
            at = free_spot(self.network, x, y, [(0, 1.4 * ROW), (COLUMN, 1.4 * ROW), (-COLUMN, 1.4 * ROW)])
            return Update(id=new, values={"x": at[0], "y": at[1], "bar": 80.0})
        if bus.upright:
            ways = [(COLUMN, 0.0), (COLUMN, -ROW), (COLUMN, ROW), (2 * COLUMN, 0.0), (COLUMN, 2 * ROW)]
        else:
            half = (bus.bar or 0.0) / 2
            ways = [(half + COLUMN / 2, ROW), (half + COLUMN / 2, 2 * ROW), (-half - COLUMN / 2, ROW), (0.0, ROW)]
        at = free_spot(self.network, x, y, ways)
        return Update(id=new, values={"x": at[0], "y": at[1], "bar": 36.0, "upright": True})

    def _check_base(self, base: int, changes: list[Change]) -> bool:
        """Whether others' later changes had to be merged with. Raises on a conflict."""
        if base > self.revision:
            allowed = f"the project stands at revision {self.revision}; open it again"
            raise InvalidFields([FieldProblem("project", "base_revision", base, allowed)])
        if base == self.revision:
            return False
        entries = self.store.since(self.project_id, base)
        theirs = set().union(*(written(e.changes, e.inverse) for e in entries))
        if both := clashing(written(changes, []), theirs):
            raise RevisionConflict(self.revision, entries, sorted(both))
        return True

    def _commit(
        self, label: str, changes: list[Change], kind: EntryKind, target: int | None, *, select: str | None = None,
        merged: bool = False, plain: bool = False, key: str | None = None,
    ) -> Outcome:  # fmt: skip
        if self.damage is not None:
            raise self.damage
        before = dict(self.network.items)
        ordered = any(c.op == "add" and c.before for c in changes)
        # Undo and redo give back exactly what was in the present network and its schemes.
        edits = kind is EntryKind.DO and not plain
        with self.base.whole():
            if edits and (self.layered or self.network.settings.recording is not None):
                trial = self.network.copy()
                changes, _ = _carried_out(trial, changes)
                changes = route(self.layers, trial, changes, self.network.settings.recording)
                applied = self.base.apply(changes)
            elif edits:
                changes, applied = _carried_out(self.base, changes)
            else:
                applied = self.base.apply(changes)
            layers = layered(self.base)
            entry = self.store.append(
                self.project_id, self.revision, label, changes, applied.inverse, kind=kind, target=target, key=key
            )
        # From here on the edit is kept: nothing that follows may turn the answer into a refusal.
        self.revision = entry.revision
        self.history.follow(kind, entry.revision, target)
        self._labels[entry.revision] = entry.label
        if (window := WINDOW.get()) is not None:
            # What is undone stays whose it was.
            self._whose[entry.revision] = window
        changed, removed = self._lay(layers, before, applied)
        self._touched = changed
        self._snapshot()
        solved = self.solve()
        self._tell()
        undo, redo = self.words()
        ordered = ordered or self.layered
        return Outcome(
            self.revision, [dump_item(self.network[i]) for i in changed], removed,
            list(self.network.items) if ordered else None, undo, redo, solved, select, merged,
        )  # fmt: skip

    @property
    def layered(self) -> bool:
        """Whether a scheme is on that changes something."""
        return self.network is not self.base

    def _snapshot(self) -> None:
        """Keep the whole network now and then; one that can't be written is for the log, the journal has everything."""
        try:
            if self.store.wants_snapshot(self.revision):
                self.store.write_snapshot(self.project_id, self.revision, self.base)
        except Exception:
            _log.exception("no snapshot of %s at revision %d", self.project_id, self.revision)

    def _lay(self, layers: Layered, before: dict[str, Item], applied: Applied) -> tuple[list[str], list[str]]:
        """Lay the schemes anew; what has changed and what is gone of what is shown."""
        was_layered = self.layered
        self.layers = layers
        self.network = self.layers.network
        self._live.network = self._per_phase.network = self.network
        now = self.network.items
        if self.layered or was_layered:
            # What was touched and is as it was still counts as changed for whoever waits for it.
            touched = set(applied.changed)
            changed = [i for i, item in now.items() if before.get(i) is not item or i in touched]
            removed = [i for i in before if i not in now]
        else:
            changed, removed = applied.changed, applied.removed
        previous = {i: before[i] for i in (*changed, *removed) if i in before}
        self._live.changed([*changed, *removed], previous)
        self._per_phase.changed([*changed, *removed], previous)
        return changed, removed

    def since(self, revision: int) -> Outcome:
        """What changed after a revision: for a second tab that fell behind."""
        with self.lock:
            entries = self.store.since(self.project_id, revision)
            idents = dict.fromkeys(i for e in entries for c in e.changes for i, _ in touched_fields(c))
            if any(isinstance(self.base.items.get(i), Scheme) for i in idents) or self.layered:
                idents = dict.fromkeys([*self.network.items, *idents])  # a scheme may alter anything
            undo, redo = self.words()
            return Outcome(
                self.revision, [dump_item(self.network[i]) for i in idents if i in self.network],
                [i for i in idents if i not in self.network], list(self.network.items), undo, redo, self.solve(),
            )  # fmt: skip

    # Listeners

    def listen(self) -> asyncio.Queue[Told]:
        """A queue that gets the number of every new revision and how jobs stand, for the event loop that asks."""
        queue: asyncio.Queue[Told] = asyncio.Queue(maxsize=1000)
        with self._listening:
            self._listeners = [*self._listeners, (asyncio.get_running_loop(), queue)]
        return queue

    def forget(self, queue: asyncio.Queue[Told]) -> None:
        with self._listening:
            self._listeners = [(loop, q) for loop, q in self._listeners if q is not queue]

    def _tell(self) -> None:
        self.tell(self.revision)

    def tell(self, what: Told) -> None:
        """Let all listeners know."""
        for loop, queue in self._listeners:
            if not loop.is_closed():
                loop.call_soon_threadsafe(_put, queue, what)

    @property
    def watched(self) -> bool:
        return bool(self._listeners)


def packed(
    study: str, name: str, note: str, revision: int, condition: Condition, options: dict[str, Any], result: Result
) -> Run:
    """A result as it is kept: all of it, with everything that is needed to repeat it."""
    tables, columns = pack_tables(result.tables)
    facts = {"options": options, "condition": dump_item(condition), "tables": columns, **facts_of(result)}
    return Run(study, name, note, revision, condition.name, facts, tables)


def _carried_out(network: Network, changes: list[Change]) -> tuple[list[Change], Applied]:
    """Apply edits with what follows from them, and places for new buses; the whole list of changes, and what was done."""
    applied = network.apply(changes)
    if follows := network.consequences(applied.changed):
        changes, applied = [*changes, *follows], _joined(applied, network.apply(follows), network)
    fresh = (network.items[i] for i in applied.changed)
    if any(isinstance(i, Bus) and (i.x is None or i.y is None) for i in fresh) and (placed := place(network)):
        changes, applied = [*changes, *placed], _joined(applied, network.apply(placed), network)
    return changes, applied


def _joined(first: Applied, second: Applied, network: Network) -> Applied:
    changed = dict.fromkeys([*first.changed, *second.changed])
    return Applied([*second.inverse, *first.inverse], [i for i in changed if i in network], first.removed)


def _placed(item: dict[str, Any]) -> bool:
    return (
        item.get("kind") == "bus" and isinstance(item.get("x"), int | float) and isinstance(item.get("y"), int | float)
    )


def _put(queue: asyncio.Queue[Told], what: Told) -> None:
    if not queue.full():
        queue.put_nowait(what)


_loading = threading.Lock()
_loads = 0
atexit.register(gc.unfreeze)  # what is left at the end is let go in order


@contextmanager
def _without_collection() -> Iterator[None]:
    """A network is some hundred thousand objects that stay: the collector would look through all of them again and again
    while they are made, and at every sweep after."""
    global _loads
    with _loading:
        _loads += 1
        gc.disable()
    try:
        yield
    finally:
        with _loading:
            _loads -= 1
            if not _loads:
                gc.freeze()
                gc.enable()


class Sessions:
    """Open sessions by project; the least used unwatched ones are closed when there are many."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self._open: OrderedDict[str, LiveSession] = OrderedDict()
        self._opening: dict[str, threading.Lock] = {}
        self._lock = threading.Lock()

    def get(self, project_id: str) -> LiveSession:
        """The session of a project, opened when need be; others are served meanwhile. Raises :class:`UnknownProject`."""
        self.store.project(project_id)
        with self._lock:
            opening = self._opening.setdefault(project_id, threading.Lock())
        with opening:
            with self._lock:
                session = self._open.get(project_id)
            if session is None:
                with _without_collection():
                    found = self.store.load(project_id)
                    session = LiveSession(
                        project_id, self.store, found.network, found.revision, found.history,
                        damage=ReadOnly(found.revision, found.newest, found.damage) if found.damage else None,
                        plain=found.plain,
                    )  # fmt: skip
                with self._lock:
                    self._open[project_id] = session
        with self._lock:
            self._open[project_id] = session
            self._open.move_to_end(project_id)
            for other in [i for i, s in self._open.items() if i != project_id and not s.watched]:
                if len(self._open) <= _MOST_OPEN:
                    break
                del self._open[other]
                gc.unfreeze()  # what is left of it is collected after all
            return session

    def repair(self, project_id: str) -> ProjectInfo:
        """Let a damaged project go on from what can be read of it. Raises :class:`InvalidFields` where nothing is damaged."""
        one = self.get(project_id)
        with one.lock:
            if one.damage is None:
                raise InvalidFields([FieldProblem("project", "repair", "whole", "nothing is damaged; go on as it is")])
            self.store.repair(project_id, f"Repaired: goes on from revision {one.revision}")
            self.close(project_id)
        return self.store.project(project_id)

    def tell(self, project_id: str, what: Told) -> None:
        """Let those know who listen to a project that is open."""
        with self._lock:
            session = self._open.get(project_id)
        if session is not None:
            session.tell(what)

    def close(self, project_id: str) -> None:
        with self._lock:
            self._opening.pop(project_id, None)
            if self._open.pop(project_id, None) is not None:
                gc.unfreeze()
