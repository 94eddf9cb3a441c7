"""Names that are given out: never taken, counted on from what is there."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.helpers import bus, load, network
from vastmesh.core.network import Namer


@pytest.mark.parametrize(
    ("stem", "expected"),
    [("Feeder", "Feeder 1"), ("Feeder 1", "Feeder 2"), ("Berth 07", "Berth 08"), ("F1-9", "F1-10"), ("12", "13"),
     ("Line-", "Line-1"), ("A/1", "A/2"), ("Bay 099", "Bay 100")],
)  # fmt: skip
def test_numbers_count_on(stem: str, expected: str) -> None:
    assert Namer(network()).next(stem) == expected


def test_what_is_taken_is_passed_over() -> None:
    net = network(bus("F 2"), bus("F 3"), load("F 2", 1.0, name="F 4"))
    assert Namer(net).next("F 1") == "F 5"
    assert Namer(net, "ids").next("F 1") == "F 4", "a name alone does not take an id"
    assert Namer(net, "names").next("load-F 1") == "load-F 2", "nor an id a name"
    assert Namer(net).plain("F 2") == "F 2 (2)"


@given(st.lists(st.sampled_from(["A", "A 1", "A 2", "B-7", "Ring 01", "x"]), max_size=30))
def test_no_name_is_given_out_twice(stems: list[str]) -> None:
    net = network(bus("A"), bus("A 3"), bus("Ring 02"))
    names = Namer(net)
    found = [names.next(s) if n % 2 else names.plain(s) for n, s in enumerate(stems)]
    assert len(set(found)) == len(found)
    assert not set(found) & set(net.items)
