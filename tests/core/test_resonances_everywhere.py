"""Every bus at once equals the scan of each; amplification in closed form."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from tests.helpers import at, bus, line, network, run_study, source
from vastmesh.core.network import Network, Update
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.base import Missing

STEP = {"from_hz": 100.0, "to_hz": 900.0, "step_hz": 20.0}


def test_every_bus_is_as_its_scan_says(demo: Network) -> None:
    result = run_study("resonances", demo, **STEP)
    for ident in ("Kesterby 11", "Quarry", "Lantern Row 0.4"):
        scan = run_study("scan", demo, bus=ident, **STEP).tables["scan"]
        n = list(scan["hz"]).index(at(result, "buses", ident, "at_hz"))
        assert at(result, "buses", ident, "ohm") == pytest.approx(scan["ohm"][n], rel=1e-9)
        # Nowhere on the way is it more of what the short-circuit level gives.
        assert np.all(scan["ohm"] / scan["hz"] <= scan["ohm"][n] / scan["hz"][n] * (1 + 1e-9))
        fifth = run_study("scan", demo, bus=ident, from_hz=250, to_hz=251, step_hz=1, sequence="negative").tables[
            "scan"
        ]["ohm"][0]
        assert at(result, "buses", ident, "order_5_ohm") == pytest.approx(fifth, rel=1e-9)


def works(mvar: float) -> Network:
    return network(
        bus("s"), bus("w"), source("s", fault_max_mva=120, fault_min_mva=100, x_over_r=10),
        line("s", "w", skin_exponent=0.0, b_us_per_km=0.0, length_km=1.5),
        {"kind": "shunt", "id": "c", "bus": "w", "step_mvar": mvar},
        {"kind": "load", "id": "d", "bus": "w", "active_power_mw": 0.5, "reactive_power_mvar": 0.1,
         "spectrum": "Six-pulse drive with choke"},
    )  # fmt: skip


@pytest.mark.parametrize("mvar", [0.8, 1.5, 3.0])
def test_amplification_by_a_bank_in_closed_form(mvar: float) -> None:
    result = run_study("resonances", works(mvar), demand="none", from_hz=60, to_hz=1500, step_hz=1.0)
    z = 121 / 120 / 101**0.5 * complex(1, 10) + 1.5 * complex(0.3, 0.35)
    best = (0.0, 0.0)
    for hz in np.arange(60, 1501, 1.0):
        h = hz / 50
        seen = 1 / (1 / complex(z.real, h * z.imag) + 1j * h * mvar / 121)
        best = max(best, (abs(seen) / (h * abs(z)), hz))
    assert at(result, "buses", "w", "amplification") == pytest.approx(best[0], rel=1e-9)
    assert at(result, "buses", "w", "at_hz") == best[1]


def test_a_resonance_beside_an_injected_order_is_a_finding() -> None:
    near = [m for m in np.linspace(0.5, 4, 15) if run_study("resonances", works(float(m)), demand="none").findings]
    assert near
    found = run_study("resonances", works(float(near[0])), demand="none").findings[0]
    assert found.element in ("s", "w")
    assert "which is injected here" in found.text


def test_parts_in_any_number_are_one_answer_and_a_missing_one_leaves_the_rest(demo: Network) -> None:
    study = STUDIES["resonances"]
    assert study.split is not None
    options = study.options(from_hz=100.0, to_hz=1400.0, step_hz=5.0)
    parts = study.split.plan(Inputs(demo), options)
    ready = study.split.prepare(Inputs(demo), options)
    answers: list[Any] = [study.split.answer(ready, p, lambda share, words: None) for p in reversed(parts)][::-1]
    whole = study.split.join(Inputs(demo), options, parts, answers)
    direct = run_study("resonances", demo, from_hz=100.0, to_hz=1400.0, step_hz=5.0)
    assert np.array_equal(whole.tables["buses"]["amplification"], direct.tables["buses"]["amplification"])
    some = study.split.join(Inputs(demo), options, parts, [answers[0], *(Missing() for _ in parts[1:])])
    assert np.all(some.tables["buses"]["amplification"] <= whole.tables["buses"]["amplification"])
    assert np.isnan(some.tables["buses"]["order_5_ohm"]).all()


def test_a_network_without_solution_says_so_and_a_range_must_be_one() -> None:
    heavy = works(1.0)
    heavy.apply([Update(id="d", values={"active_power_mw": 900.0})])
    result = run_study("resonances", heavy)
    assert not result.tables
    assert "no solution" in result.account.explanation
    with pytest.raises(ValueError, match="above the first"):
        STUDIES["resonances"].options(from_hz=500, to_hz=400)
