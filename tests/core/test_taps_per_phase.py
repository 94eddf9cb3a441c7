"""One tap control for each phase: every group, the taps on either side, the bus held on either side, up and down."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest

from tests.helpers import Item, bus, load, network, source, transformer
from vastmesh.core.network import Network, Transformer
from vastmesh.core.results.state import LoadFlowResult, run_unbalanced

HIGH, LOW = ("Y", "YN", "D", "ZN"), ("y", "yn", "d", "zn")
KW = (120.0, 20.0, 60.0)


def groups(hv: str, lv: str) -> list[str]:
    return [g for n in range(12) if (g := f"{hv}{lv}{n}") == Transformer.possible_group(g)]


def unit(
    group: str, tap_side: str, held: str, kw: tuple[float, ...] = KW, volts: float = 1.0, **more: object
) -> Network:
    """A unit whose taps hold every phase of the bus that is not fed, with unequal loads there."""
    feed, fed = ("h", "l") if held == "lv" else ("l", "h")
    four = held == "lv" and group.rstrip("0123456789").endswith("n")
    items: list[Item] = [
        bus("h", 11.0), bus("l", 0.4, conductors="ABCN" if group.rstrip("0123456789").endswith("n") else "ABC"),
        source(feed, voltage_pu=volts, fault_max_mva=200.0, fault_min_mva=200.0, neutral="solid"),
        {**transformer("h", "l", 11.0, 0.4, id="T", vector_group=group, rated_mva=0.4, impedance_pct=6.0, x_over_r=3.0,
                    tap_side=tap_side, tap_step_pct=1.25, tap_min=-8, tap_max=8, regulates=True, taps="per_phase", band_pct=2.0,
                    held_bus=None if held == "lv" else "h", hv_neutral="solid" if group[:2] in ("YN", "ZN") else "isolated",
                    lv_neutral="solid" if four else "isolated"), **more},
    ]  # fmt: skip
    for (p, ends), each in zip((("A", "AB"), ("B", "BC"), ("C", "AC")), kw, strict=True):
        wires = {"conductors": p + "N"} if four else {"conductors": ends, "connection": "delta"}
        items.append(load(fed, each / 1000, each / 3000, id=f"load {p}", **wires))
    return network(*items)


def held_at(result: LoadFlowResult, ident: str) -> np.ndarray:
    table = result.tables["buses"]
    k = list(table["id"]).index(ident)
    return np.array([table[f"phase_{p}_voltage_pu"][k] for p in "abc"])


def trial_of_taps(group: str, tap_side: str, held: str, kw: tuple[float, ...] = KW, volts: float = 1.0) -> float:
    """How far the worst phase stays from its target, p.u.; the half band is 0.01."""
    result = run_unbalanced(unit(group, tap_side, held, kw, volts))
    assert result.account.converged
    return float(np.abs(held_at(result, "l" if held == "lv" else "h") - 1).max())


@pytest.mark.parametrize(("hv", "lv"), list(product(HIGH, LOW)))
def test_every_group_holds_all_phases_from_either_side(hv: str, lv: str) -> None:
    # A star on a floating star, or on a zigzag, gives single-phase loads no way back that taps could make up for.
    unequal = (68.0, 62.0, 70.0) if (hv, lv) == ("Y", "yn") else KW
    tried = 0
    for group, tap_side, held in product(groups(hv, lv), ("hv", "lv"), ("lv", "hv")):
        if (hv, lv) == ("ZN", "yn") and held == "lv":
            continue
        for volts in (1.05, 0.97):
            assert trial_of_taps(group, tap_side, held, unequal, volts) < 0.0101, (group, tap_side, held, volts)
            tried += 1
    assert tried >= 24


@pytest.mark.parametrize(
    ("group", "phase"),
    [("Dyn11", "a"), ("Dyn5", "a"), ("Dyn1", "b"), ("Dyn7", "b"), ("Dyn3", "c"), ("Dyn9", "c"), ("YNyn0", "a"), ("YNyn6", "a"),
     ("YNyn2", "b"), ("YNyn8", "b"), ("YNyn4", "c"), ("YNyn10", "c")],
)  # fmt: skip
def test_tap_a_is_that_of_the_winding_that_begins_at_a(group: str, phase: str) -> None:
    """IEC 60076-1: of Dyn11 a lies on the limb of A-B, of Dyn1 (and, reversed, Dyn7) b does, of Dyn9 and Dyn3 c; of a star that
    changes its letters by 60 or 120 degrees likewise. More turns there lower that phase alone."""
    still = {"regulates": False, "tap_b": 0, "tap_c": 0}
    usual, moved = (
        held_at(run_unbalanced(unit(group, "hv", "lv", (30.0, 30.0, 30.0), **(still | {"tap_a": tap}))), "l")
        for tap in (0, 4)
    )
    change = dict(zip("abc", (moved - usual).tolist(), strict=True))
    assert change[phase] == pytest.approx(-0.05, abs=0.01)
    assert all(abs(change[p]) < 0.01 for p in "abc" if p != phase)


def test_two_limbs_in_open_delta_hold_the_two_phases_that_each_moves() -> None:
    for tap_side, held in product(("hv", "lv"), ("lv", "hv")):
        result = run_unbalanced(unit("Vv0", tap_side, held, (60.0, 20.0, 100.0)))
        assert not any("last tap" in n for n in result.account.notes), result.account.notes
        at = held_at(result, "l" if held == "lv" else "h")
        assert abs(at[0] - 1) < 0.0101
        assert abs(at[2] - 1) < 0.0101
