"""A failure as it goes: cleared, located, isolated, supply brought back from both sides, repaired."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass, field

import numpy as np

from ...electrical.arrays import Bools, Floats, Ints
from .capacity import Capacity
from .course import Course
from .demand import Supplied
from .graph import AUTOMATIC, MANUAL, REMOTE, Graph


@dataclass
class Step:
    """``minutes``: after the failure; ``opened``, ``closed``: doors; ``back``: sections that have supply again."""

    minutes: float
    what: str
    opened: tuple[int, ...] = ()
    closed: tuple[int, ...] = ()
    back: tuple[int, ...] = ()


@dataclass
class Story:
    """``sections``: that lose supply; ``hours``: how long each, NaN of those that wait for the repair, (n,); ``tripped``: doors
    that clear it; ``ties``: that were told to close, in order; ``only_supply``: whether nothing but the supply's own breaker
    clears it."""

    seeds: tuple[int, ...]
    sections: Ints
    hours: Floats
    tripped: tuple[int, ...] = ()
    steps: list[Step] = field(default_factory=list)
    only_supply: bool = False
    ties: tuple[int, ...] = ()

    def lasting(self, repair_h: float) -> Floats:
        """Hours without supply of every section, given how long the repair takes: nobody waits longer than for that."""
        return np.where(np.isnan(self.hours), repair_h, np.minimum(self.hours, repair_h))


class Play:
    """``capacity``: what checks transfers; None: they are without limit. ``supply``: ids of sources; ``indicated``: sections
    with a fault indicator. ``matters``: sections in which somebody is supplied, (n_section,)."""

    def __init__(
        self,
        graph: Graph,
        people: Supplied,
        course: Course,
        capacity: Capacity | None,
        *,
        supply: Iterable[str],
        indicated: frozenset[int],
    ) -> None:
        self._indicated = indicated
        self.graph, self.people, self.course, self.capacity = graph, people, course, capacity
        self._supply = {k for k, d in enumerate(graph.doors) if d.node in set(supply)}
        self._tie_at: dict[int, list[int]] = {}
        for k, d in enumerate(graph.doors):
            if not d.closed and graph.a[k] != graph.b[k]:
                for s in (int(graph.a[k]), int(graph.b[k])):
                    self._tie_at.setdefault(s, []).append(k)
        self._fits: dict[int, list[frozenset[int]]] = {}
        self._too_much: dict[int, list[frozenset[int]]] = {}
        self.matters: Bools = (people.n > 0) | (people.mw > 0)

    def tripped(self, seeds: Collection[int], lost: Ints) -> list[int]:
        """Closed doors that clear a fault: those between its zone and what keeps supply."""
        g, zone = self.graph, self.graph.zone
        zones = {int(zone[s]) for s in seeds}
        inside = set(lost.tolist())
        cuts = g.cuts("zone")
        found = []
        for s in cuts.sections(np.array(sorted(zones))).tolist():
            for d in g.at[s]:
                other = g.other(d, s)
                if g.closed[d] and g.doors[d].clears and int(zone[other]) not in zones and other not in inside:
                    found.append(d)
        return sorted(set(found))

    def permanent(
        self,
        seeds: tuple[int, ...],
        *,
        stuck: int | None = None,
        failed: frozenset[int] = frozenset(),
        transfers: bool = True,
    ) -> Story:
        """A fault in sections that stays until it is repaired. ``stuck``: a door that fails to open, so that the next ones clear
        it and it is opened by hand; ``failed``: ties that do not close when they should, which takes as long as if they did;
        ``transfers``: whether ties close at all."""
        g, c = self.graph, self.course
        cuts = g.cuts("zone")
        wider: tuple[int, ...] = ()
        if stuck is not None:
            wider = (int(g.a[stuck]), int(g.b[stuck]))
        every = tuple(sorted({*seeds, *wider}))
        lost = self._without(every)
        if not len(lost):
            return Story(seeds, lost, np.zeros(0))
        tripped = self.tripped(every, lost)
        story = Story(seeds, lost, np.full(len(lost), np.nan), tuple(tripped))
        story.only_supply = bool(tripped) and all(t in self._supply for t in tripped)
        if not self.matters[lost].any():
            return story
        story.steps.append(Step(0.0, "cleared", tuple(tripped)))
        scene = _Scene(self, lost, set(seeds), tripped, transfers, stuck, failed)
        own_zone = set(cuts.sections(np.unique(g.zone[list(every)])).tolist())
        scene.transfer(own_zone, AUTOMATIC, c.automatic_min, story)
        # From the control room: what can be parted from the fault without anybody on site.
        far = g.cuts("remote")
        held = far.lost(every)
        group = set(far.sections(np.unique(g.remote[list(every)])).tolist())
        if not wider:
            scene.upstream(held, group, c.decide_min, story, by_hand=False)
        scene.transfer(group, REMOTE, max(scene.clock, c.decide_min), story)
        # On site, once the section is known.
        known = c.indicated_min if self._tells(seeds, tripped) else c.locate_min
        scene.site(max(known, scene.clock))
        scene.upstream(g.cuts("section").lost(seeds), set(seeds), scene.clock, story, by_hand=True)
        scene.transfer(set(seeds), MANUAL, scene.clock, story)
        for s, h in scene.hours.items():
            story.hours[np.searchsorted(lost, s)] = h
        story.ties = tuple(scene.told)
        story.steps.append(Step(np.nan, "repaired", (), (), tuple(sorted(scene.waiting))))
        return story

    def _without(self, seeds: Collection[int]) -> Ints:
        """Sections that lose their supply when the zones of some are taken away."""
        cuts = self.graph.cuts("zone")
        lost = cuts.lost(seeds)
        return np.asarray(lost[cuts.supplied[lost]])

    def temporary(self, seeds: tuple[int, ...], *, stuck: int | None = None) -> Story:
        """A fault that is over once it has been without voltage. ``stuck``: a door that fails to open, so that the next
        ones clear it; it is not opened for what is over."""
        g, c = self.graph, self.course
        lost = self._without(seeds)
        tripped = self.tripped(seeds, lost)
        if c.fuse_saving and any(g.doors[d].gear == "fuse" for d in tripped):
            before = tuple(
                sorted({g.other(d, s) for d in tripped for s in (int(g.a[d]), int(g.b[d])) if s in set(lost.tolist())})
            )
            wide = self._without((*seeds, *before))
            first = self.tripped((*seeds, *before), wide)
            # Where the recloser does not open, the fuse has to.
            if first and all(g.doors[d].recloses for d in first) and stuck not in first:
                return self._passes(seeds, wide, first)
        if stuck in tripped:
            every = tuple(sorted({*seeds, int(g.a[stuck]), int(g.b[stuck])}))
            lost = self._without(every)
            tripped = self.tripped(every, lost)
        if tripped and all(g.doors[d].recloses for d in tripped):
            return self._passes(seeds, lost, tripped)
        story = Story(seeds, lost, np.zeros(len(lost)), tuple(tripped), [Step(0.0, "cleared", tuple(tripped))])
        by_hand = [d for d in tripped if g.doors[d].way == MANUAL]
        if by_hand:
            fuses = sum(g.doors[d].gear == "fuse" for d in by_hand)
            minutes = c.locate_min + c.manual_min + (len(by_hand) - 1) * c.further_min + (c.fuse_min if fuses else 0.0)
        else:
            minutes = c.decide_min + len(tripped) * c.remote_min
        story.hours[:] = minutes / 60
        story.steps.append(Step(minutes, "closed again", (), tuple(tripped), tuple(lost.tolist())))
        return story

    def _passes(self, seeds: tuple[int, ...], lost: Ints, tripped: list[int]) -> Story:
        moment = 1 / 60  # a minute at most
        steps = [Step(0.0, "cleared", tuple(tripped)), Step(1.0, "recloses", (), tuple(tripped), tuple(lost.tolist()))]
        return Story(
            seeds, lost, np.full(len(lost), min(moment, self.course.sustained_min / 60)), tuple(tripped), steps
        )

    def planned(self, seeds: tuple[int, ...]) -> Story:
        """Sections taken out on purpose: what can be supplied otherwise is, before."""
        cuts = self.graph.cuts("section")
        lost = cuts.lost(seeds)
        lost = lost[cuts.supplied[lost]]
        story = Story(seeds, lost, np.full(len(lost), np.nan))
        if not self.matters[lost].any():
            return story
        scene = _Scene(self, lost, set(seeds), [], transfers=True)
        scene.transfer(set(seeds), MANUAL, 0.0, story)
        for s in scene.hours:
            story.hours[np.searchsorted(lost, s)] = 0.0
        story.steps = [Step(0.0, "taken out"), *story.steps, Step(np.nan, "back", (), (), tuple(sorted(scene.waiting)))]
        return story

    def together(self, seeds: tuple[int, ...], alone: Iterable[Ints]) -> Story:
        """Two failures at once: what loses supply beyond what each takes by itself, until the first is repaired."""
        cuts = self.graph.cuts("zone")
        lost = cuts.lost(seeds)
        lost = lost[cuts.supplied[lost]]
        for one in alone:
            lost = np.setdiff1d(lost, one, assume_unique=True)
        return Story(seeds, lost, np.full(len(lost), np.nan))

    def _tells(self, seeds: Collection[int], tripped: Collection[int]) -> bool:
        g = self.graph
        return any(g.doors[d].tells and d not in tripped for s in seeds for d in g.at[s]) or any(
            s in self._indicated for s in seeds
        )

    def may_carry(self, tie: int, picked: frozenset[int], dead: set[int], ties: list[int]) -> bool:
        """Whether a transfer of sections over a tie keeps limits. What is known to fit lets every part of it fit, and what is too
        much every larger one, as long as nothing feeds in there and no other tie is closed."""
        if self.capacity is None:
            return True
        plain = len(ties) == 1 and not (picked & self.people.machines)
        if plain:
            if any(picked <= known for known in self._fits.get(tie, ())):
                return True
            if any(picked >= known for known in self._too_much.get(tie, ())):
                return False
        fits = self.capacity.keeps(dead, ties)
        if plain:
            (self._fits if fits else self._too_much).setdefault(tie, []).append(picked)
        return fits


class _Scene:
    """What is without supply while it is brought back. ``waiting``: sections still without; ``hours``: of those that have it."""

    def __init__(
        self, play: Play, lost: Ints, seeds: set[int], tripped: list[int], transfers: bool, stuck: int | None = None,
        failed: frozenset[int] = frozenset(),
    ) -> None:  # fmt: skip
        self._stuck, self._failed = stuck, failed
        self.told: list[int] = []
        self.play, self.seeds, self.open = play, seeds, set(tripped)
        self.tripped = tripped
        self.waiting = set(lost.tolist())
        self.hours: dict[int, float] = {}
        self.clock = 0.0
        self.ties: list[int] = []
        self._transfers = transfers and play.course.transfers != "none"
        self._by_hand = 0

    def site(self, minutes: float) -> None:
        self.clock = minutes

    def _takes(self, door: int, *, closes: bool = False) -> float:
        """Minutes that operating one takes, after what was done before; a fuse that closes is a new one."""
        c, way = self.play.course, self.play.graph.doors[door].way
        if way != MANUAL and door != self._stuck:
            return c.remote_min
        self._by_hand += 1
        fuse = c.fuse_min if closes and self.play.graph.doors[door].gear == "fuse" else 0.0
        return (c.manual_min if self._by_hand == 1 else c.further_min) + fuse

    def _back(self, sections: Collection[int], minutes: float) -> None:
        self.waiting -= set(sections)
        for s in sections:
            self.hours[s] = minutes / 60

    def upstream(self, held: Ints, apart: set[int], start: float, story: Story, *, by_hand: bool) -> None:
        """Open what parts the fault from the rest, and close again what had cleared it."""
        g = self.play.graph
        held_ = set(held.tolist())
        back = {s for s in self.waiting if s not in held_}
        if not back:
            return
        opened = sorted({
            d for s in apart for d in g.at[s]
            if g.closed[d] and d not in self.open and g.other(d, s) in back
        })  # fmt: skip
        closed = [d for d in self.tripped if d in self.open and not (int(g.a[d]) in apart or int(g.b[d]) in apart)]
        if not by_hand and any(g.doors[d].way == MANUAL for d in (*opened, *closed)):
            return
        minutes = start + sum(map(self._takes, opened)) + sum(self._takes(d, closes=True) for d in closed)
        self.clock = max(self.clock, minutes)
        self.open = (self.open | set(opened)) - set(closed)
        self._back(back, minutes)
        story.steps.append(Step(minutes, "supply from before it", tuple(opened), tuple(closed), tuple(sorted(back))))

    def transfer(self, apart: set[int], way: int, start: float, story: Story) -> None:
        """Close ties to what is parted from the fault and still without supply."""
        if not self._transfers:
            return
        g, play = self.play.graph, self.play
        clock = start
        tried = self._failed & set(self.told)
        while True:
            ready = [
                d for s in self.waiting - apart for d in play._tie_at.get(s, ())
                if d not in tried and g.doors[d].way <= way and self._alive(g.other(d, s))
            ]  # fmt: skip
            if not ready:
                break
            tie = min(ready, key=lambda d: (g.doors[d].way, d))
            tried |= {tie}
            inner = int(g.a[tie]) if int(g.a[tie]) in self.waiting else int(g.b[tie])
            whole = self._joined(inner, apart)
            picked = self._most(tie, inner, whole)
            if not picked:
                continue
            opened = sorted({
                d for s in picked for d in g.at[s]
                if g.closed[d] and d not in self.open and g.other(d, s) in self.waiting and g.other(d, s) not in picked
            })  # fmt: skip
            if any(not self._by_then(d, way) for d in opened):
                continue
            self.told.append(tie)
            if tie in self._failed:
                # What parts the fault stays open for the next one; nothing else is opened for a tie that may not close.
                opened = opened if picked == whole else []
                if way != AUTOMATIC:
                    clock += sum(map(self._takes, opened)) + self._takes(tie, closes=True)
                self.open |= set(opened)
                story.steps.append(Step(clock, "not transferred", tuple(opened)))
                continue
            if way != AUTOMATIC:
                clock += sum(map(self._takes, opened)) + self._takes(tie, closes=True)
            self.open |= set(opened)
            self.ties.append(tie)
            self._back(picked, clock)
            self.clock = max(self.clock, clock)
            what = "transferred" if picked == whole else "transferred in part"
            story.steps.append(Step(clock, what, tuple(opened), (tie,), tuple(sorted(picked))))

    def _by_then(self, door: int, way: int) -> bool:
        """Whether a door opens without anybody further away than ``way``; a transfer by itself takes its breaker along."""
        found = self.play.graph.doors[door]
        return found.way <= way or (way == AUTOMATIC and found.clears and found.way != MANUAL)

    def _alive(self, section: int) -> bool:
        return section not in self.waiting and bool(self.play.graph.cuts("zone").supplied[section])

    def _joined(self, inner: int, apart: set[int]) -> frozenset[int]:
        """Sections without supply that hang together with one, the fault's own left out."""
        g = self.play.graph
        found, queue = {inner}, [inner]
        while queue:
            s = queue.pop()
            for d in g.at[s]:
                other = g.other(d, s)
                if g.closed[d] and other in self.waiting and other not in apart and other not in found:
                    found.add(other)
                    queue.append(other)
        return frozenset(found)

    def _most(self, tie: int, inner: int, whole: frozenset[int]) -> frozenset[int]:
        """All of it where the network can carry it, else section by section from the tie on: the first priority first, then by
        customers. Empty where not even the first can be carried."""
        play = self.play
        ties = [*self.ties, tie]
        if play.may_carry(tie, whole, self.waiting - whole, ties):
            return whole
        if len(whole) == 1:
            return frozenset()
        g, people = play.graph, play.people
        picked: frozenset[int] = frozenset()
        edge, refused = {inner}, set()
        while edge:
            s = min(edge, key=lambda k: (int(people.first[k]), -float(people.n[k]), k))
            edge.discard(s)
            trial = picked | {s}
            if not play.may_carry(tie, trial, self.waiting - trial, ties):
                refused.add(s)
                continue
            picked = trial
            edge |= {
                o for d in g.at[s] if g.closed[d] and (o := g.other(d, s)) in whole and o not in picked and o not in refused
            }  # fmt: skip
        return picked
