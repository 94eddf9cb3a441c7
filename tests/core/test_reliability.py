"""Reliability: printed figures, closed forms, and every failure played again by slow code of its own."""

from __future__ import annotations

import json
import math
import random
from collections.abc import Iterable
from math import isnan
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.helpers import at, bus, line, load, network, run_study, source, switch, transformer
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import Line, Network, Remove, Update
from vastmesh.core.results import Result
from vastmesh.core.results.state import run_load_flow
from vastmesh.core.studies import Inputs
from vastmesh.core.studies.failures.events import Ready
from vastmesh.core.studies.failures.graph import Cuts, _reach
from vastmesh.core.studies.reliability import ReliabilityOptions

DATA = Path(__file__).parents[1] / "data"
# Plain times: half an hour for whatever is done on site, nothing for what is done from elsewhere.
PLAIN = {
    "typical": False, "transfers": "unlimited", "average_pct": 100.0, "sustained_min": 0.0, "decide_min": 0.0, "remote_min": 0.0,
    "automatic_min": 0.0, "locate_min": 0.0, "indicated_min": 0.0, "manual_min": 30.0, "further_min": 0.0, "fuse_min": 0.0,
    "breakers_from_kv": 1000.0, "fails_pct": 0.0, "overlap_from_kv": None,
}  # fmt: skip


def reliability(net: Network, **more: Any) -> Result:
    return run_study("reliability", net, **{**PLAIN, **more})


def feeder(*, fuses: bool = True, disconnectors: bool = True, tie: bool = False) -> Network:
    """The textbook feeder with four load points."""
    given = json.loads((DATA / "four-load-points.json").read_text())
    items = [bus("head"), source("head")]
    before = "head"
    for k, s in enumerate(given["sections"]):
        here, point = f"m{k}", s["load_point"]
        people = given["load_points"][point]
        gear = "breaker" if k == 0 else "disconnector" if disconnectors else "none"
        items += [
            bus(here), bus(point),
            line(before, here, length_km=s["main_km"], failure_rate=0.1, repair_h=4.0, from_gear=gear),
            line(here, point, length_km=s["lateral_km"], failure_rate=0.2, repair_h=2.0, from_gear="fuse" if fuses else "none"),
            load(point, people["kw"] / 1000, customers=people["customers"]),
        ]  # fmt: skip
        before = here
    if tie:
        items += [bus("other"), source("other"), switch(before, "other", closed=False, device="disconnector")]
    return network(*items)


@pytest.mark.parametrize(
    ("case", "made", "options"),
    [
        ("1_no_fuses", {"fuses": False, "disconnectors": False}, {}),
        ("2_lateral_fuses", {"disconnectors": False}, {}),
        ("3_fuses_and_disconnects", {}, {}),
        ("4_fuses_fail_one_in_ten", {}, {"fuse_fails_pct": 10.0}),
    ],
)
def test_the_textbook_feeder_to_its_printed_digits(case: str, made: dict[str, bool], options: dict[str, float]) -> None:
    expected = json.loads((DATA / "four-load-points.json").read_text())["expected"][case]
    result = reliability(feeder(**made), **options)
    for point, figures in expected["load_points"].items():
        assert at(result, "loads", f"load-{point}", "interruptions") == pytest.approx(figures["lambda"], rel=1e-12)
        assert at(result, "loads", f"load-{point}", "hours") == pytest.approx(figures["U"], rel=1e-12)
        assert at(result, "loads", f"load-{point}", "mean_h") == pytest.approx(figures["r"], rel=1e-12)
    system, found = expected["system"], result.summary
    for name, key, factor in (
        ("saifi", "SAIFI", 1), ("saidi", "SAIDI", 1), ("caidi", "CAIDI", 1), ("asai", "ASAI", 100), ("asui", "ASUI", 100),
        ("ens", "ENS_MWh", 1), ("aens", "AENS_kWh", 1),
    ):  # fmt: skip
        assert found[name] == pytest.approx(factor * system[key], rel=1e-12), name


def test_with_a_transfer_the_textbook_feeder_is_as_printed() -> None:
    """R. Billinton, R. N. Allan, chapter 7: disconnectors and a transfer without limit, table of system indices."""
    found = reliability(feeder(tie=True)).summary
    printed = {"saifi": (1.15, 2), "saidi": (1.80, 2), "caidi": (1.56, 2), "ens": (25.1, 1), "aens": (8.4, 1)}
    for name, (value, digits) in printed.items():
        figure = found[name]
        assert figure is not None
        assert round(figure, digits) == value
    assert round((found["asai"] or 0) / 100, 6) == 0.999795


def pair(**more: Any) -> Network:
    """A load behind two lines in a row."""
    a, b = {"failure_rate": 0.4, "repair_h": 3.0}, {"failure_rate": 0.7, "repair_h": 5.0}
    return network(
        bus("s"), bus("m"), bus("e"), source("s"), line("s", "m", from_gear="breaker", **a, **more),
        line("m", "e", from_gear="breaker", **b), load("m", 0.5, customers=30), load("e", 1.0, customers=10),
    )  # fmt: skip


def test_a_series_system_adds_rates_and_hours() -> None:
    result = reliability(pair())
    assert at(result, "loads", "load-e", "interruptions") == pytest.approx(0.4 + 0.7)
    assert at(result, "loads", "load-e", "hours") == pytest.approx(0.4 * 3 + 0.7 * 5)
    assert at(result, "loads", "load-m", "hours") == pytest.approx(0.4 * 3)
    assert result.summary["saidi"] == pytest.approx((30 * 1.2 + 10 * 4.7) / 40)
    assert result.summary["caifi"] == pytest.approx(
        (30 * 0.4 + 10 * 1.1) / (30 * -np.expm1(-0.4) + 10 * -np.expm1(-1.1))
    )


def test_a_parallel_system_fails_when_both_are_away() -> None:
    """Two two-state elements: L1 L2 (r1 + r2) / 8760 a year, each r1 r2 / (r1 + r2) long; and a failure while one is
    maintained."""
    gear = {"from_gear": "breaker", "to_gear": "breaker"}
    net = network(
        bus("s"), bus("e"), source("s"), load("e", 1.0, customers=10),
        line("s", "e", failure_rate=0.5, repair_h=8.0, **gear),
        line("s", "e", failure_rate=1.5, repair_h=2.0, **gear) | {"id": "second", "maintenance_rate": 2.0, "maintenance_h": 24.0},
    )  # fmt: skip
    assert reliability(net).summary["saifi"] == 0.0
    found = reliability(net, overlap_from_kv=1.0).summary
    both, planned = 0.5 * 1.5 * 10 / 8760, 2.0 * 24 / 8760 * 0.5
    assert found["saifi"] == pytest.approx(both + planned, rel=1e-12)
    assert found["saidi"] == pytest.approx(both * 1.6 + planned * 24 * 8 / 32, rel=1e-12)
    only = reliability(net, overlap_from_kv=1.0, planned=False).summary
    assert only["saifi"] == pytest.approx(both, rel=1e-12)


def test_a_recloser_turns_temporary_faults_into_momentary_interruptions() -> None:
    plain = reliability(pair(temporary_rate=2.0), decide_min=6.0, sustained_min=5.0)
    assert plain.summary["maifi"] == 0.0
    assert plain.summary["saifi"] == pytest.approx((30 * 2.4 + 10 * 3.1) / 40)
    net = pair(temporary_rate=2.0)
    net.apply([Update(id="s-m", values={"from_gear": "recloser"})])
    result = reliability(net, decide_min=6.0, sustained_min=5.0)
    assert result.summary["maifi"] == pytest.approx(2.0)
    assert result.summary["saifi"] == pytest.approx((30 * 0.4 + 10 * 1.1) / 40)


def test_a_fuse_is_saved_by_the_recloser_before_it_only_when_that_is_asked() -> None:
    net = pair()
    net.apply([Update(id="s-m", values={"from_gear": "recloser"})])
    net.apply([Update(id="m-e", values={"from_gear": "fuse", "temporary_rate": 3.0})])
    blown = reliability(net, sustained_min=5.0)
    assert at(blown, "loads", "load-e", "interruptions") == pytest.approx(1.1 + 3.0)
    assert at(blown, "loads", "load-e", "hours") == pytest.approx(4.7 + 3.0 * 0.5)
    saved = reliability(net, sustained_min=5.0, fuse_saving=True)
    assert at(saved, "loads", "load-e", "interruptions") == pytest.approx(1.1)
    assert at(saved, "loads", "load-m", "brief") == pytest.approx(3.0)


def test_a_breaker_that_sticks_leaves_it_to_the_one_before() -> None:
    result = reliability(pair(), fails_pct=10.0)
    # A fault of the second line takes the first load along one time in ten; it comes back once the line is parted by hand.
    assert at(result, "loads", "load-m", "interruptions") == pytest.approx(0.4 + 0.07)
    assert at(result, "loads", "load-m", "hours") == pytest.approx(0.4 * 3 + 0.07 * 0.5)
    assert at(result, "loads", "load-e", "hours") == pytest.approx(4.7)
    kinds = result.tables["kinds"]
    assert kinds["saidi"][list(kinds["name"]).index("What fails to operate")] > 0


def test_a_transfer_that_fails_one_time_in_five() -> None:
    net = feeder(tie=True)
    sure, never = reliability(net), reliability(net, transfers="none")
    net.apply([Update(id="m3|other", values={"fails_pct": 20.0})])
    some = reliability(net)
    for point in "ABCD":
        a, b, c = (at(r, "loads", f"load-{point}", "hours") for r in (sure, never, some))
        assert c == pytest.approx(0.8 * a + 0.2 * b, rel=1e-12)


def test_maintenance_interrupts_only_whom_nothing_else_supplies() -> None:
    net = feeder(tie=True)
    net.apply([Update(id="m0-m1", values={"maintenance_rate": 0.5, "maintenance_h": 6.0})])
    base = feeder(tie=True)
    result, before = reliability(net), reliability(base)
    for point, hours in (("A", 0.0), ("B", 3.0), ("C", 0.0), ("D", 0.0)):
        more = at(result, "loads", f"load-{point}", "hours") - at(before, "loads", f"load-{point}", "hours")
        assert more == pytest.approx(hours, abs=1e-12)


def test_common_failures_take_both_ways_at_once() -> None:
    gear = {"from_gear": "breaker", "to_gear": "breaker", "failure_rate": 0.5, "repair_h": 8.0}
    net = network(
        bus("s"), bus("e"), source("s"), load("e", 1.0, customers=10), line("s", "e", **gear),
        line("s", "e", **gear) | {"id": "second"},
        {"kind": "common_failure", "id": "tower", "members": ["s-e", "second"], "failure_rate": 0.02, "repair_h": 30.0},
    )  # fmt: skip
    found = reliability(net).summary
    assert (found["saifi"], found["saidi"]) == (pytest.approx(0.02), pytest.approx(0.6))
    net.apply([Update(id="tower", values={"members": ["s-e", "nowhere"]})])
    with pytest.raises(InvalidFields, match="nowhere"):
        reliability(net)


def test_interruptions_cost_by_class_and_length() -> None:
    net = pair()
    net.apply(
        [Update(id="load-m", values={"demand_class": "works"}), Update(id="load-e", values={"demand_class": "homes"})]
    )
    from vastmesh.core.network import Add

    own = {"minute": 1.0, "twenty": 2.0, "hour": 4.0, "four": 10.0, "eight": 20.0, "day": 60.0}
    net.apply([Add(item={"kind": "interruption_cost", "id": "c", "demand_class": "works", **own})])
    result = reliability(net)
    # Three hours cost 4 + 2/3 of 6 = 8 a kW; 0.4 times a year; 500 kW.
    assert at(result, "loads", "load-m", "cost_k") == pytest.approx(0.4 * 8.0 * 500 / 1000)
    # General ones: three hours 5 + 13 * 2/3, five hours 18 + 17/4.
    assert at(result, "loads", "load-e", "cost_k") == pytest.approx(0.4 * (5 + 13 * 2 / 3) + 0.7 * (18 + 17 / 4))
    assert result.summary["cost"] == pytest.approx(sum(result.tables["loads"]["cost_k"]))


def test_what_each_element_causes_adds_up_to_the_whole() -> None:
    result = reliability(feeder(tie=True), fails_pct=3.0, fuse_fails_pct=5.0)
    table = result.tables["elements"]
    for name, total in (("saidi", "saidi"), ("saifi", "saifi"), ("ens_mwh", "ens"), ("cost_k", "cost")):
        assert sum(table[name]) == pytest.approx(result.summary[total], rel=1e-12)
    assert sum(table["share_pct"]) == pytest.approx(100)
    for t in ("feeders", "classes"):
        assert sum(result.tables[t]["ens"]) == pytest.approx(result.summary["ens"])


# --- every failure again, by slow code that shares nothing with the study ------------------------------------------------------


class Slow:
    """Plays a fault on a network by walking its pieces: buses and branches, with gear between them as words."""

    def __init__(self, net: Network) -> None:
        self.net = net
        self.links: list[tuple[str, str, str, bool]] = []  # piece, piece, gear, closed
        for e in net.elements():
            if e.kind == "line":
                for end in ("from", "to"):
                    gear = getattr(e, f"{end}_gear") or "none"
                    self.links.append((e.id, getattr(e, f"{end}_bus"), gear, True))
            elif e.kind == "source":
                self.links.append((e.id, e.bus, "breaker", True))  # type: ignore[attr-defined]
            elif e.kind == "switch":
                way = f"{e.device}:{e.operated or 'manual'}"  # type: ignore[attr-defined]
                self.links.append((e.from_bus, e.to_bus, way, e.closed))  # type: ignore[attr-defined]

    def walk(
        self, starts: Iterable[str], stop: Any, banned: frozenset[str] = frozenset(), closed: Any = None
    ) -> set[str]:
        """Pieces reached over links that are closed (those named in ``closed`` too) and at which ``stop`` does not hold."""
        seen = set(starts)
        queue = list(seen)
        while queue:
            here = queue.pop()
            for n, (a, b, gear, is_closed) in enumerate(self.links):
                if not (is_closed or (closed and n in closed)) or here not in (a, b) or stop(gear):
                    continue
                other = b if here == a else a
                if other not in seen and other not in banned:
                    seen.add(other)
                    queue.append(other)
        return seen

    def sources(self) -> set[str]:
        return {e.id for e in self.net.elements() if e.kind == "source"}

    def hours(self, piece: str, repair_h: float) -> dict[str, float]:
        """Hours without supply of every bus, with half an hour for anything by hand and nothing for anything else."""

        def clears(g: str) -> bool:
            return g in ("breaker", "recloser", "fuse")

        def any_gear(g: str) -> bool:
            return g != "none"

        def far(g: str) -> bool:
            return g in ("breaker", "recloser", "remote") or g.endswith(":remote")

        every = self.walk(self.sources(), lambda g: False)
        zone = self.walk([piece], clears)
        alive = self.walk(self.sources(), lambda g: False, frozenset(zone))
        out = {p for p in every if p not in alive}
        found = {}
        waiting = set(out)
        # From afar: parted by what is operated from there; a fuse that cleared it has to be replaced by hand.
        group = self.walk([piece], far)
        blown = any(
            g == "fuse" and ((a in zone) != (b in zone)) and (a in alive or b in alive) for a, b, g, _ in self.links
        )
        back = self.walk(self.sources(), lambda g: False, frozenset(group)) & waiting
        if back and not blown:
            found |= dict.fromkeys(back, 0.0)
            waiting -= back
        waiting = self._ties(waiting, group, lambda g: g.endswith(":remote"), far, found, 0.0)
        section = self.walk([piece], any_gear)
        back = self.walk(self.sources(), lambda g: False, frozenset(section)) & waiting
        if back:
            found |= dict.fromkeys(back, 0.5)
            waiting -= back
        waiting = self._ties(waiting, section, lambda g: ":" in g, any_gear, found, 0.5)
        found |= dict.fromkeys(waiting, repair_h)
        return {p: min(h, repair_h) for p, h in found.items()}

    def _ties(
        self, waiting: set[str], apart: set[str], may: Any, parts: Any, found: dict[str, float], hours: float
    ) -> set[str]:
        changed = True
        while changed:
            changed = False
            for a, b, gear, closed in self.links:
                if closed or not may(gear):
                    continue
                for inner, outer in ((a, b), (b, a)):
                    if inner in waiting - apart and outer not in waiting:
                        back = self.walk([inner], lambda g: False, frozenset(apart)) & waiting
                        found |= dict.fromkeys(back, hours)
                        waiting = waiting - back
                        changed = True
        return waiting


def random_feeders(seed: int) -> Network:
    """Two trees of lines with any gear at their ends, and ties between them."""
    dice = random.Random(seed)
    items: list[Any] = []
    buses: list[list[str]] = [[], []]
    for t in range(2):
        items += [bus(f"h{t}"), source(f"h{t}")]
        buses[t].append(f"h{t}")
        for k in range(dice.randint(3, 9)):
            parent, here = dice.choice(buses[t][-3:]), f"t{t}b{k}"
            gear = dice.choice(["none", "none", "breaker", "fuse", "disconnector", "remote", "recloser"])
            to_gear = dice.choice(["none", "none", "none", "disconnector", "breaker"])
            items += [
                bus(here),
                line(parent, here, failure_rate=dice.uniform(0.05, 1), repair_h=dice.choice([0.3, 2.0, 5.0]),
                     from_gear="breaker" if parent == f"h{t}" else gear, to_gear=to_gear),
                load(here, 0.05, customers=dice.randint(0, 40)),
            ]  # fmt: skip
            buses[t].append(here)
    for _ in range(dice.randint(0, 3)):
        a, b = dice.choice(buses[0][1:]), dice.choice(buses[dice.randint(0, 1)][1:])
        if a != b and f"{a}|{b}" not in {i["id"] for i in items}:
            operated = dice.choice(["manual", "remote"])
            items.append(switch(a, b, closed=False, device="disconnector", operated=operated))
    return network(*items)


@pytest.mark.parametrize("seed", range(40))
def test_random_feeders_as_slow_code_of_its_own_plays_them(seed: int) -> None:
    net = random_feeders(seed)
    slow, result = Slow(net), reliability(net)
    rate: dict[str, float] = {}
    away: dict[str, float] = {}
    for e in net.elements():
        if e.kind != "line":
            continue
        for piece, hours in slow.hours(e.id, e.repair_h).items():  # type: ignore[attr-defined]
            if hours > 0:
                rate[piece] = rate.get(piece, 0.0) + e.failure_rate  # type: ignore[attr-defined]
                away[piece] = away.get(piece, 0.0) + e.failure_rate * hours  # type: ignore[attr-defined]
    for e in net.elements():
        if e.kind == "load":
            assert at(result, "loads", e.id, "hours") == pytest.approx(away.get(e.bus, 0.0), rel=1e-12, abs=1e-14), e.id  # type: ignore[attr-defined]
            assert at(result, "loads", e.id, "interruptions") == pytest.approx(
                rate.get(e.bus, 0.0), rel=1e-12, abs=1e-14
            ), e.id  # type: ignore[attr-defined]


def trial_of_ties_that_fail(seed: int) -> float:
    """Hours without supply where every tie fails on its own, against slow code that plays each set of ties that may be left;
    the largest difference, relative. Switching on site takes the same half an hour however much of it there is."""
    net, dice = random_feeders(seed), random.Random(seed + 1000)
    ties = [e.id for e in net.elements() if e.kind == "switch"]
    share = {i: dice.choice([0.0, 10.0, 35.0, 100.0]) for i in ties}
    net.apply([Update(id=i, values={"fails_pct": p}) for i, p in share.items()])
    away: dict[str, float] = {}
    for n in range(2 ** len(ties)):
        failed = [i for k, i in enumerate(ties) if n >> k & 1]
        chance = math.prod(share[i] / 100 if i in failed else 1 - share[i] / 100 for i in ties)
        left = net.copy()
        left.apply([Remove(id=i) for i in failed])
        slow = Slow(left)
        for e in net.elements():
            if isinstance(e, Line):
                for piece, hours in slow.hours(e.id, e.repair_h or 0.0).items():
                    away[piece] = away.get(piece, 0.0) + chance * (e.failure_rate or 0.0) * hours
    result, worst = reliability(net), 0.0
    for ident, found in zip(result.tables["loads"]["id"], result.tables["loads"]["hours"], strict=True):
        expected = away.get(net[ident].bus, 0.0)  # type: ignore[attr-defined]
        worst = max(worst, abs(found - expected) / max(expected, 1e-3))
    return worst


@pytest.mark.parametrize("seed", range(40))
def test_every_tie_fails_on_its_own_and_the_best_of_what_is_left_is_taken(seed: int) -> None:
    assert trial_of_ties_that_fail(seed) < 1e-9


def two_laterals(**fails: float) -> Network:
    """A head section that fails once a year, and two laterals behind it with a tie each."""
    items: list[Any] = [
        bus("s"),
        source("s"),
        bus("m"),
        line("s", "m", failure_rate=1.0, repair_h=10.0, from_gear="breaker"),
    ]
    for name, pct in fails.items():
        items += [
            bus(name), line("m", name, failure_rate=0.0, from_gear="disconnector"), load(name, 1.0, customers=10),
            bus(f"far {name}"), source(f"far {name}"),
            switch(name, f"far {name}", closed=False, device="disconnector", fails_pct=pct),
        ]  # fmt: skip
    return network(*items)


TIMES = {"locate_min": 50.0, "indicated_min": 50.0, "manual_min": 25.0, "further_min": 10.0}


@pytest.mark.parametrize(("b", "c"), [(0.0, 100.0), (100.0, 0.0)])
def test_a_tie_that_never_closes_leaves_its_own_lateral_without_supply_and_no_other(b: float, c: float) -> None:
    result = reliability(two_laterals(b=b, c=c), **TIMES)
    hours = {name: at(result, "loads", f"load-{name}", "hours") for name in "bc"}
    dark, lit = ("c", "b") if c else ("b", "c")
    assert hours[dark] == pytest.approx(10.0)
    # Located 50 min, first switch 25 min, each further one 10 min: its own disconnector and tie, after those of the other or not.
    assert hours[lit] in (pytest.approx(85 / 60), pytest.approx(95 / 60), pytest.approx(105 / 60))


@pytest.mark.parametrize("ties", [1, 2, 3])
def test_ties_beside_each_other_fail_one_after_another(ties: int) -> None:
    items = [bus("s"), source("s"), bus("m"), bus("e"), load("e", 1.0, customers=10)]
    items.append(line("s", "m", failure_rate=1.0, repair_h=10.0, from_gear="breaker"))
    items.append(line("m", "e", failure_rate=0.0, to_gear="none", from_gear="none"))
    for k in range(ties):
        items += [
            bus(f"f{k}"),
            source(f"f{k}"),
            switch("e", f"f{k}", closed=False, device="disconnector", fails_pct=20.0),
        ]
    items[5] |= {"to_gear": "remote"}  # opens from the control room, so that ties are all that is done on site
    net = network(*items)
    # The k-th tie has closed after 50 + 25 + 10 (k - 1) minutes.
    expected = sum(0.8 * 0.2**k * (75 + 10 * k) / 60 for k in range(ties)) + 0.2**ties * 10
    assert reliability(net, **TIMES).summary["saidi"] == pytest.approx(expected, rel=1e-12)


def test_gear_that_fails_counts_for_temporary_faults_too() -> None:
    net = pair()
    net.apply([Update(id="s-m", values={"from_gear": "recloser", "failure_rate": 0.0})])
    net.apply([Update(id="m-e", values={"from_gear": "fuse", "failure_rate": 0.0, "temporary_rate": 5.0})])
    result = reliability(net, fuse_fails_pct=50.0, sustained_min=5.0)
    # Half of them blow the fuse, the others are left to the recloser, which lets them pass for both.
    assert at(result, "loads", "load-m", "interruptions") == pytest.approx(0.0, abs=1e-12)
    assert at(result, "loads", "load-m", "brief") == pytest.approx(2.5)
    assert at(result, "loads", "load-e", "interruptions") == pytest.approx(2.5)
    assert at(result, "loads", "load-e", "brief") == pytest.approx(2.5)
    net.apply([Update(id="s-m", values={"from_gear": "breaker"})])
    plain = reliability(net, fuse_fails_pct=50.0, sustained_min=5.0, decide_min=6.0)
    # A breaker is closed again from the control room, after six minutes.
    assert at(plain, "loads", "load-m", "interruptions") == pytest.approx(2.5)
    assert at(plain, "loads", "load-m", "hours") == pytest.approx(2.5 * 0.1)
    # A recloser that saves the fuse, but sticks one time in four, leaves it to the fuse then.
    net.apply([Update(id="s-m", values={"from_gear": "recloser"})])
    saved = reliability(net, fails_pct=25.0, fuse_saving=True, sustained_min=5.0)
    assert at(saved, "loads", "load-m", "brief") == pytest.approx(3.75)
    assert at(saved, "loads", "load-e", "interruptions") == pytest.approx(1.25)


def test_closing_again_after_a_temporary_fault_takes_its_time_however_short_a_repair_is() -> None:
    net = pair()
    net.apply([Update(id="s-m", values={"failure_rate": 0.0})])
    net.apply(
        [Update(id="m-e", values={"from_gear": "fuse", "failure_rate": 0.0, "temporary_rate": 4.0, "repair_h": 0.2})]
    )
    assert at(reliability(net), "loads", "load-e", "hours") == pytest.approx(4.0 * 0.5)


@pytest.mark.parametrize("seed", range(30))
def test_what_falls_away_with_any_group_is_what_a_walk_does_not_reach(seed: int) -> None:
    dice = np.random.default_rng(seed)
    n = int(dice.integers(2, 40))
    a, b = dice.integers(0, n, 2 * n), dice.integers(0, n, 2 * n)
    kept = dice.random(2 * n) < dice.uniform(0.3, 0.9)
    cuts = Cuts(np.arange(n), a[kept], b[kept], np.unique(dice.integers(0, n, 2)))
    for k in range(n):
        banned = np.zeros(n + 1, np.bool_)
        banned[k] = True
        reached = _reach(n + 1, cuts.start, cuts.next, n, banned)[:n]
        away = {i for i in range(n) if not reached[i] and cuts.supplied[i]} | {k}
        assert set(cuts.lost([k]).tolist()) == away
        assert {s for s in cuts.lost([k, (k + 1) % n]).tolist() if cuts.supplied[s]} >= {
            s for s in away if cuts.supplied[s]
        }


# --- transfers that the network can and cannot carry
# -----------------------------------------------------------------------------


def ring(rating_a: float, *, mw: float = 1.0) -> Network:
    """Two feeders of three sections with disconnectors, and a tie between their ends."""
    items: list[Any] = [bus("s"), source("s")]
    for t in "ab":
        before = "s"
        for k in range(3):
            here = f"{t}{k}"
            items += [
                bus(here),
                line(before, here, rating_a=rating_a, failure_rate=0.5, repair_h=6.0,
                     from_gear="breaker" if k == 0 else "disconnector"),
                load(here, mw, customers=100, priority=1 if k == 1 else 3),
            ]  # fmt: skip
            before = here
    items.append(switch("a2", "b2", closed=False, device="disconnector"))
    return network(*items)


def hours_after(net: Network, lost: str, **more: Any) -> dict[str, float]:
    """Hours without supply of every load after a failure of one element."""
    ready = Ready(Inputs(net), ReliabilityOptions(**{**PLAIN, "transfers": "checked", **more}))
    story = ready.play().permanent(ready.seeds(net[lost]))  # type: ignore[arg-type]
    hours = dict(zip(story.sections.tolist(), story.lasting(6.0).tolist(), strict=True))
    return {i: hours.get(int(s), 0.0) for i, s in zip(ready.people.loads, ready.people.place, strict=True)}


def test_a_transfer_carries_all_part_or_nothing_as_ratings_allow() -> None:
    # All five loads over one way are some 265 A, four 212 A, three 158 A.
    enough = hours_after(ring(300.0), "s-a0")
    assert enough == {"load-a0": 6.0, "load-a1": 0.5, "load-a2": 0.5, "load-b0": 0.0, "load-b1": 0.0, "load-b2": 0.0}
    part = hours_after(ring(240.0), "s-a0")
    assert part["load-a2"] == 0.5
    assert part["load-a1"] == 6.0
    nothing = hours_after(ring(190.0), "s-a0")
    assert nothing["load-a2"] == 6.0
    assert nothing["load-a1"] == 6.0


@pytest.mark.parametrize("rating", [170.0, 220.0, 250.0, 300.0])
@pytest.mark.parametrize("lost", ["s-a0", "a0-a1", "s-b0", "b1-b2"])
def test_every_transfer_keeps_its_limits_in_a_load_flow_of_its_own(rating: float, lost: str) -> None:
    """The state after switching, made by hand of a copy, and what is left out would have been too much."""
    net = ring(rating)
    hours = hours_after(net, lost)
    waiting = [i for i, h in hours.items() if h == 6.0]
    moved = [i for i, h in hours.items() if h == 0.5]

    def loaded(without: list[str], *, tie: bool) -> float:
        trial = net.copy()
        gone = {i.removeprefix("load-") for i in without}
        for e in list(trial.elements()):
            touches = set(e.buses()) & gone if e.kind != "bus" else set()
            if e.id == lost or touches:
                trial.apply([Update(id=e.id, values={"in_service": False})])
        if tie:
            trial.apply([Update(id="a2|b2", values={"closed": True})])
        result = run_load_flow(trial)
        return float(np.nanmax(result.tables["branches"]["loading_pct"]))

    assert loaded(waiting, tie=bool(moved)) <= 100.0
    behind = [i for i in waiting if i != f"load-{net[lost].to_bus}"]  # type: ignore[attr-defined]
    for one in behind[-1:]:
        assert loaded([i for i in waiting if i != one], tie=True) > 100.0


@pytest.mark.parametrize("urgent", ["x", "y"])
def test_who_comes_first_is_transferred_first(urgent: str) -> None:
    """Behind the section with the tie hang two more, alike but for their priority, and only one of them can be carried."""
    other = "y" if urgent == "x" else "x"
    rated = {"rating_a": 170.0}
    items: list[Any] = [bus("s"), source("s"), bus("t"), line("s", "t", from_gear="breaker", **rated), load("t", 1.0)]
    items += [bus("u"), line("s", "u", from_gear="breaker", failure_rate=1.0, repair_h=6.0, **rated)]
    items += [bus("hub"), line("u", "hub", from_gear="disconnector", **rated), load("hub", 1.0, customers=1)]
    for end in "xy":
        items += [bus(end), line("hub", end, from_gear="disconnector", **rated)]
    items += [load(urgent, 1.0, customers=10, priority=1), load(other, 1.0, customers=500, priority=3)]
    items.append(switch("hub", "t", closed=False, device="disconnector"))
    hours = hours_after(network(*items), "s-u")
    assert hours["load-hub"] == 0.5
    assert hours[f"load-{urgent}"] == 0.5
    assert hours[f"load-{other}"] == 6.0


def test_a_network_without_a_load_flow_transfers_nothing_and_says_so() -> None:
    net = ring(300.0, mw=2000.0)
    result = reliability(net, transfers="checked")
    assert any("no load flow" in n for n in result.account.notes)
    assert result.summary["saidi"] == pytest.approx(reliability(net, transfers="none").summary["saidi"])


# --- told
# -------------------------------------------------------------------------------------------------------------------------


def test_a_story_goes_from_the_fault_to_the_repair() -> None:
    result = reliability(
        ring(240.0), transfers="checked", locate_min=40.0, indicated_min=40.0, further_min=10.0, story="s-a0"
    )
    rows = result.tables["story"].records()
    assert [r["at"] for r in rows] == ["0:00", rows[1]["at"], "6:00"]
    assert "clears it" in rows[0]["what"]
    assert "close a2|b2" in rows[1]["what"]
    assert "repaired" in rows[-1]["what"]
    assert [r["left"] for r in rows] == [300.0, 200.0, 0.0]
    assert rows[1]["ties"] == "a2|b2"
    assert "a0" in rows[1]["without"].split("; ")


def test_indicators_shorten_the_search() -> None:
    net = feeder()
    slow = reliability(net, locate_min=60.0, indicated_min=15.0)
    net.apply([Update(id="m1-m2", values={"indicator": True})])
    quick = reliability(net, locate_min=60.0, indicated_min=15.0)
    saved = 0.1 * 3 * 0.75  # a fault of the third section, 45 minutes sooner
    assert at(slow, "loads", "load-A", "hours") - at(quick, "loads", "load-A", "hours") == pytest.approx(saved)


def test_what_is_blank_is_typical_and_said_to_be() -> None:
    net = network(bus("s"), bus("e"), source("s"), line("s", "e", length_km=10.0, from_gear="breaker"), load("e", 1.0))
    assert reliability(net).summary["saifi"] == 0.0
    result = reliability(net, typical=True)
    assert result.summary["saifi"] == pytest.approx(0.6 + 2 * 0.002)
    assert at(result, "elements", "s-e", "from_") == "typical"
    assert any("typical" in n for n in result.account.notes)


def test_protection_that_never_clears_and_loads_without_customers_are_named() -> None:
    net = network(
        bus("s"), bus("m"), bus("e"), source("s"), line("s", "m", failure_rate=0.1), line("m", "e", failure_rate=0.1),
        load("e", 1.0, customers=0),
    )  # fmt: skip
    result = reliability(net)
    assert {f.element for f in result.findings if f.quantity == "clears"} == {"s-m", "m-e"}
    assert any("have no customers, load-e" in n for n in result.account.notes)
    assert result.summary["saifi"] is None
    assert result.summary["ens"] is not None


@pytest.mark.parametrize(
    ("item", "words"),
    [
        (line("s", "m", failure_rate=-0.1), "failure_rate"),
        (line("s", "m", maintenance_rate=1.0), "maintenance_h"),
        (line("s", "m", repair_h=0.0), "repair_h"),
        (line("s", "m", repair_spread="weibull", repair_shape=0.0), "repair_shape"),
        ({"kind": "interruption_cost", "id": "c", "hour": 9.0, "four": 2.0}, "four"),
    ],
)
def test_bad_data_is_refused_by_field(item: Any, words: str) -> None:
    with pytest.raises(InvalidFields, match=words):
        network(bus("s"), bus("m"), source("s"), item)


def test_nothing_to_supply_is_said() -> None:
    with pytest.raises(InvalidFields, match="no load in service"):
        reliability(network(bus("s"), source("s")))
    with pytest.raises(InvalidFields, match="add a source"):
        reliability(network(bus("s"), load("s", 1.0)))


def test_transformers_fuses_and_voltage_levels_take_gear_by_rule() -> None:
    items = [
        bus("hv", 33.0), bus("mv", 11.0, substation="site"), bus("lv", 0.4), source("hv"), transformer("hv", "mv"),
        transformer("mv", "lv", 11.0, 0.4, rated_mva=0.5, failure_rate=1.0, repair_h=2.0), load("lv", 0.1), load("mv", 0.1),
        {"kind": "substation", "id": "site", "name": "Site"},
    ]  # fmt: skip
    ready = Ready(Inputs(network(*items)), ReliabilityOptions())
    gear = {(d.node, d.bus): d.gear for d in ready.graph.doors}
    assert gear["hv/mv", "hv"] == gear["hv/mv", "mv"] == gear["mv/lv", "mv"] == "breaker"
    assert ("mv/lv", "lv") not in gear
    items[1] = bus("mv", 11.0)
    ready = Ready(Inputs(network(*items)), ReliabilityOptions())
    assert {(d.node, d.bus): d.gear for d in ready.graph.doors}["mv/lv", "mv"] == "fuse"
    story = ready.play().permanent(ready.seeds(ready.network["mv/lv"]))  # type: ignore[arg-type]
    assert [ready.graph.members[s] for s in story.sections.tolist()] == [["lv", "mv/lv"]] or len(story.sections) == 1
    assert all(isnan(h) for h in story.hours)
