"""The ferry terminal as it ships: sound, solved on either supply, identical after saving."""

from __future__ import annotations

import runpy
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import ROOT
from vastmesh import Draft
from vastmesh.core.network import Bus, LineGeometry, Transformer, neutral_ohm
from vastmesh.core.results.state import LoadFlowResult

OPEN_POINT = "Switch Ring 3"  # its id, given when it grew; its name is "Open point"


@pytest.fixture
def net() -> Draft:
    found: Draft = runpy.run_path(str(ROOT / "demo" / "ferry_terminal.py"))["terminal"]()
    return found


def volts(result: LoadFlowResult) -> dict[str, float]:
    table = result.tables["buses"]
    return dict(zip(table["id"], table["voltage_pu"].tolist(), strict=True))


def test_it_is_sound_and_within_limits_on_its_main_supply(net: Draft) -> None:
    result = net.solve()
    assert result.account.converged
    assert net.check() == []
    assert result.findings == []
    assert result.summary["dead_buses"] == 0
    loading = result.tables["branches"]
    assert loading["loading_pct"][~(loading["loading_pct"] != loading["loading_pct"])].max() < 80


def test_the_stand_by_supply_carries_it_when_the_transformer_is_out(net: Draft) -> None:
    main = volts(net.solve())
    net.set("T1", in_service=False)
    assert net.solve().summary["dead_buses"] > 10, "the switch is open"
    net.set("Stand-by switch", closed=True)
    standby = net.solve()
    assert standby.summary["dead_buses"] == 0
    found = volts(standby)
    lowest = min(v for b, v in found.items() if v == v and b not in ("Coast 33", "Terminal 33"))
    assert 0.94 < lowest < 1.06
    assert found["Terminal 11"] != pytest.approx(main["Terminal 11"], abs=1e-3)


def test_its_parts_are_what_the_guide_says(net: Draft) -> None:
    unit, tower = net["T1"], net["Coast tower"]
    assert isinstance(unit, Transformer)
    assert isinstance(tower, LineGeometry)
    assert neutral_ohm(unit.lv_neutral, unit.lv_neutral_ohm, unit.lv_neutral_a, 11.0) == pytest.approx(6.351, abs=1e-3)
    assert net["Harbour workshops"].motor_pct == 65  # type: ignore[attr-defined]
    after = net.trace().if_thrown(OPEN_POINT)
    assert (after.loses, after.gains) == ([], []), "closing the ring changes nobody's supply"
    opened = net.trace().if_thrown("Berth breaker 1")
    assert opened.loses == ["Berth bay 1"]
    net.set("Ring 1", in_service=False)
    lost = net.trace().dead()
    assert {"Station 1", "Station 2", "Board 1", "Board 2"} <= set(lost)
    net.set(OPEN_POINT, closed=True)
    assert net.trace().dead() == [], "the ring feeds the stations from the other side"


def test_saved_and_opened_it_is_identical(net: Draft, tmp_path: Path) -> None:
    net.save(tmp_path / "a.json")
    again = Draft.open(tmp_path / "a.json")
    assert again.network == net.network
    assert all(b.x is not None for b in again.network.of(Bus))
    spots = [(b.x, b.y) for b in again.network.of(Bus)]
    assert len(set(spots)) == len(spots)


def test_the_script_writes_its_document(tmp_path: Path) -> None:
    target = tmp_path / "terminal.json"
    subprocess.run([sys.executable, str(ROOT / "demo" / "ferry_terminal.py"), str(target)], check=True)
    assert Draft.open(target).title == "Quillport ferry terminal"
