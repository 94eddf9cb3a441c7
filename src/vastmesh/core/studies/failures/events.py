"""Everything that interrupts somebody: which elements, how often, and the story of it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property
from math import inf, isfinite

from ...errors import FieldProblem, InvalidFields
from ...network import Bus, CommonFailure, Element, Item, Network, Source, Switch
from ...network.elements._failing import Failing
from ...network.failures import Failures, failures_of
from ..base import Inputs, Progress
from .capacity import Capacity
from .course import Course
from .demand import supplied
from .graph import Rules, graph_of
from .play import Play, Story
from .weather import HOURS, Weather, older

KINDS = ("failure", "temporary", "planned", "stuck", "overlap", "common")
SAID = {
    "failure": "Permanent failures", "temporary": "Temporary failures", "planned": "Planned outages",
    "stuck": "What fails to operate", "overlap": "Two at once", "common": "Common failures",
}  # fmt: skip
_CHUNK, _PAIRS, _MOST_PAIRS = 200, 4000, 400_000
_RARE = 1e-6  # of a failure: rarer than this no further tie is tried


@dataclass(frozen=True)
class Event:
    """``per_year``: how often; ``repair_h``: how long those wait who wait for the repair, endless where there is none;
    ``elements``: which count for it, in equal parts."""

    kind: str
    elements: tuple[str, ...]
    per_year: float
    repair_h: float
    story: Story

    @property
    def repaired(self) -> bool:
        """Whether somebody has to repair something."""
        return self.kind != "planned" and isfinite(self.repair_h)


@dataclass
class Group:
    """What fails with the same consequences. ``seeds``: sections with the fault."""

    seeds: tuple[int, ...]
    elements: list[tuple[str, Failures]] = field(default_factory=list)


class Ready:
    """What all failures of a network under a condition need. Raises :class:`InvalidFields` where nobody is supplied."""

    def __init__(self, inputs: Inputs, course: Course) -> None:
        self.condition = inputs.under
        self.network: Network = inputs.network.under(self.condition)
        self.course = course
        self.graph = graph_of(self.network, Rules(course.breakers_from_kv, course.fails_pct, course.fuse_fails_pct))
        if not len(self.graph.fed):
            raise InvalidFields(
                [FieldProblem("network", "source", None, "nothing is supplied; add a source, or put it in service")]
            )
        self.people = supplied(self.network, self.graph, course.average_pct)
        if not self.people.loads:
            raise InvalidFields(
                [FieldProblem("network", "load", None, "there is no load in service; add who is supplied")]
            )
        self.weather = Weather(course)
        self.groups = self._groups()
        self.indicated = frozenset(
            self.graph.section[e.id] for e in self.network.elements()
            if getattr(e, "indicator", False) and e.id in self.graph.section
        )  # fmt: skip
        self.common = [c for c in self.network.of(CommonFailure) if c.failure_rate]

    @cached_property
    def capacity(self) -> Capacity | None:
        """What checks transfers; it takes load flows, and whoever only counts the work needs none."""
        if self.course.transfers != "checked":
            return None
        return Capacity(self.network, self.condition, self.graph, self.course.limit_set)

    def play(self) -> Play:
        """Anew: what it has found to fit belongs to one part of the work."""
        supply = [s.id for s in self.network.of(Source)]
        return Play(self.graph, self.people, self.course, self.capacity, supply=supply, indicated=self.indicated)

    def seeds(self, e: Item | None) -> tuple[int, ...]:
        """Sections in which a fault of an element lies; both sides of a closed switch, none where it is not part of the
        network."""
        of = self.graph.section
        if isinstance(e, Switch):
            if not e.closed:
                return ()
            return tuple(sorted({of[b] for b in e.buses() if b in of}))
        return (of[e.id],) if e is not None and e.id in of else ()

    def _groups(self) -> list[Group]:
        found: dict[tuple[int, ...], Group] = {}
        for e in self.network.elements():
            if isinstance(e, Failing) and e.in_service and (seeds := self.seeds(e)):
                data = failures_of(self.network, e, typical=self.course.typical)
                if not self.course.planned:
                    data = replace(data, planned=0.0, planned_h=0.0)
                if (age := older(self.course, e)) != 1:
                    data = replace(data, rate=data.rate * age, temporary=data.temporary * age)
                if data.rate or data.temporary or data.planned:
                    found.setdefault(seeds, Group(seeds)).elements.append((e.id, data))
        for g in found.values():  # equal repairs follow each other, so that what they come to is worked out once
            g.elements.sort(key=lambda e: e[1].hours)
        return list(found.values())


def courses(play: Play, seeds: tuple[int, ...]) -> Iterator[tuple[float, bool, Story]]:
    """Ways in which a permanent fault may go, by what fails to operate: share of all, whether everything operates, the story.

    What clears it fails on its own, and of several that stay closed the first stands for all; every tie fails on its own when
    it is told to close, and the best of what is left is taken. Shares sum to 1.
    """
    story = play.permanent(seeds)
    left = 1.0
    for door in story.tripped:
        if p := play.graph.doors[door].fails:
            for share, _, other in _closing(play, seeds, left * p, play.permanent(seeds, stuck=door), door):
                yield share, False, other
            left *= 1 - p
    yield from _closing(play, seeds, left, story)


def _closing(
    play: Play, seeds: tuple[int, ...], share: float, story: Story, stuck: int | None = None,
    failed: frozenset[int] = frozenset(), sure: frozenset[int] = frozenset(),
) -> Iterator[tuple[float, bool, Story]]:  # fmt: skip
    """A story and those in which ties of it do not close. ``failed``: that did not; ``sure``: that did."""
    known = sure
    for tie in story.ties:
        p = play.graph.doors[tie].fails
        if share > 0 and p and tie not in known and tie not in failed:
            if (rare := share * p) > _RARE:
                without = failed | {tie}
                other = play.permanent(seeds, stuck=stuck, failed=without)
                yield from _closing(play, seeds, rare, other, stuck, without, known)
            else:
                yield rare, False, play.permanent(seeds, stuck=stuck, transfers=False)
            share *= 1 - p
        known |= {tie}
    if share > 0:
        yield share, not failed, story


def passing(play: Play, seeds: tuple[int, ...]) -> Iterator[tuple[float, bool, Story]]:
    """The same of a temporary fault: only what clears it can fail."""
    story = play.temporary(seeds)
    left = 1.0
    for door in story.tripped:
        if p := play.graph.doors[door].fails:
            yield left * p, False, play.temporary(seeds, stuck=door)
            left *= 1 - p
    yield left, True, story


def of_group(ready: Ready, play: Play, group: Group) -> Iterator[Event]:
    """All that one group of elements does by itself."""

    def lasting(kind: str, ident: str, per_year: float, hours: float, story: Story) -> Iterator[Event]:
        exposed = ready.weather.exposed(ready.network[ident], kind)
        for rate, repair in ready.weather.parts(exposed, per_year, hours):
            yield Event(kind, (ident,), rate, repair, story)

    if any(d.rate for _, d in group.elements):
        for share, smooth, story in courses(play, group.seeds):
            for ident, d in group.elements:
                if d.rate:
                    yield from lasting("failure" if smooth else "stuck", ident, share * d.rate, d.hours, story)
    if any(d.temporary for _, d in group.elements):
        for share, smooth, story in passing(play, group.seeds):
            for ident, d in group.elements:
                if d.temporary:
                    yield Event("temporary" if smooth else "stuck", (ident,), share * d.temporary, inf, story)
    if any(d.planned for _, d in group.elements):
        story = play.planned(group.seeds)
        for ident, d in group.elements:
            if d.planned:
                yield Event("planned", (ident,), d.planned, d.planned_h, story)


def of_common(ready: Ready, play: Play, item: CommonFailure) -> Iterator[Event]:
    """A failure of several elements from one cause. Raises :class:`InvalidFields` that names members that are not there."""
    problems, sections, there = [], set(), []
    for m in item.members or ():
        e = ready.network.items.get(m)
        if not isinstance(e, Element):
            problems.append(
                FieldProblem(item.id, "members", m, "there is no such element any more; take it off the list")
            )
        elif seeds := ready.seeds(e):
            sections |= set(seeds)
            there.append(m)
    if not item.members:
        problems.append(FieldProblem(item.id, "members", "", "name what fails together, by id; or blank its failures"))
    if problems:
        raise InvalidFields(problems)
    if there:
        for share, _, story in courses(play, tuple(sorted(sections))):
            for rate, repair in ready.weather.parts(False, share * (item.failure_rate or 0.0), item.repair_h or 0.0):
                yield Event("common", tuple(there), rate, repair, story)


def meshed(ready: Ready) -> list[Group]:
    """Groups whose failures may overlap: elements from a nominal voltage up, in one section each; none where
    overlaps do not count."""
    kept: list[Group] = []
    from_kv = ready.course.overlap_from_kv
    if from_kv is None:
        return kept
    for g in ready.groups:
        inside = [
            (i, d) for i, d in g.elements if _kv(ready.network, ready.network[i]) >= from_kv and (d.rate or d.planned)
        ]
        if inside and len(g.seeds) == 1:
            kept.append(Group(g.seeds, inside))
    return kept


def _kv(network: Network, e: Item) -> float:
    ends = [e] if isinstance(e, Bus) else [network.items.get(b) for b in e.buses()] if isinstance(e, Element) else []
    return max((b.nominal_kv or 0.0 for b in ends if isinstance(b, Bus)), default=0.0)


def of_pair(ready: Ready, play: Play, a: Group, b: Group) -> Iterator[Event]:
    """One fails while the other is away: rates and durations of two-state elements that are rarely away, independent but for
    storms that reach both."""
    alone = [play.graph.cuts("zone").lost(g.seeds) for g in (a, b)]
    story = play.together((*a.seeds, *b.seeds), alone)
    if not len(story.sections) or not play.matters[story.sections].any():
        return
    for i, d in a.elements:
        for j, e in b.elements:
            out, beside = (ready.weather.exposed(ready.network[x], "failure") for x in (i, j))
            if d.rate and e.rate:
                for rate, hours in ready.weather.together((d.rate, d.hours, out), (e.rate, e.hours, beside)):
                    yield Event("overlap", (i, j), rate, hours, story)
            # A failure during a planned outage; nobody takes something out while the other is away.
            for r1, h1, r2, h2 in (
                (d.planned, d.planned_h, e.rate, ready.weather.mean(beside, e.hours)),
                (e.planned, e.planned_h, d.rate, ready.weather.mean(out, d.hours)),
            ):
                if r1 and r2:
                    yield Event("overlap", (i, j), r1 * h1 / HOURS * r2, h1 * h2 / (h1 + h2), story)


def parts(ready: Ready) -> list[dict[str, int]]:
    """The work in pieces, always the same for the same network. Raises :class:`InvalidFields` for too many pairs."""
    found = [{"groups": k} for k in range(0, max(len(ready.groups), 1), _CHUNK)]
    if ready.common:
        found.append({"common": 0})
    from_kv = ready.course.overlap_from_kv
    if from_kv is not None:
        n = len(meshed(ready))
        pairs = n * (n - 1) // 2
        if pairs > _MOST_PAIRS:
            text = f"{n} elements make {pairs} pairs; raise the voltage, or leave it blank"
            raise InvalidFields([FieldProblem("options", "overlap_from_kv", from_kv, text)])
        found += [{"pairs": k} for k in range(0, pairs, _PAIRS)]
    return found


def events(ready: Ready, part: dict[str, int], progress: Progress) -> Iterator[Event]:
    """Those of one part, in order."""
    play = ready.play()
    if "groups" in part:
        chosen = ready.groups[part["groups"] : part["groups"] + _CHUNK]
        for k, g in enumerate(chosen):
            if k % 20 == 0:
                progress(k / len(chosen), "Playing failures")
            yield from of_group(ready, play, g)
    elif "common" in part:
        for c in ready.common:
            yield from of_common(ready, play, c)
    else:
        kept = meshed(ready)
        at, wanted = 0, range(part["pairs"], part["pairs"] + _PAIRS)
        for k, a in enumerate(kept):
            row = len(kept) - k - 1
            if at + row > wanted.start and at < wanted.stop:
                progress(min(1.0, (at - wanted.start) / _PAIRS) if at > wanted.start else 0.0, "Two at once")
                for m, b in enumerate(kept[k + 1 :]):
                    if at + m in wanted:
                        yield from of_pair(ready, play, a, b)
            at += row


def _silent(share: float, doing: str) -> None:
    """Nobody is waiting."""


def every(ready: Ready, progress: Progress = _silent) -> Iterator[Event]:
    """All of them, in order."""
    for part in parts(ready):
        yield from events(ready, part, progress)
