"""Building from Python: the example of the guide runs as it is printed, and says what is wrong."""

from __future__ import annotations

import doctest
import re
from pathlib import Path

import pytest

import vastmesh.script
from tests.conftest import ROOT
from vastmesh import Draft
from vastmesh.core.errors import InvalidFields


def test_the_printed_example_runs(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    text = (ROOT / "docs" / "guide.md").read_text()
    code = re.search(r"```python\n(.*?)```", text, re.DOTALL)
    assert code
    lines = [x for x in code[1].splitlines() if x.strip() and not x.startswith("#")]
    assert len(lines) <= 16, "it is meant to be read at a glance"
    scope: dict[str, object] = {}
    exec(compile(code[1], "guide.md", "exec"), scope)
    assert (tmp_path / "quay.json").exists()
    again = Draft.open(tmp_path / "quay.json")
    assert again.solve().summary["demand_mw"] == pytest.approx(scope["net"].solve().summary["demand_mw"])  # type: ignore[attr-defined]


def test_the_docstring_examples_run() -> None:
    assert doctest.testmod(vastmesh.script).failed == 0


def test_wrong_values_are_named_and_nothing_is_added() -> None:
    net = Draft()
    net.bus("A", 11)
    before = dict(net.network.items)
    with pytest.raises(InvalidFields, match=r"enter a number from 0\.001 to 1500 kV"):
        net.bus("B", -11)
    with pytest.raises(AttributeError, match="there is no kind of equipment 'teapot'"):
        net.teapot("A")
    with pytest.raises(TypeError, match="connects to 1 buses, 2 were given"):
        net.load("A", "A", active_power_mw=1)
    assert net.network.items == before


def test_everything_of_the_bench_is_there() -> None:
    net = Draft("Feeder")
    net.bus("S", 11)
    net.source("S", fault_max_mva=150, fault_min_mva=120)
    net.grow("S", "section", count=3, spacing_km=0.5)
    fed = net.trace().fed("S")
    assert len(fed.buses) == 4
    made = net.paste([i for i in net.network.items if i not in ("S", "Source S")], onto="S", times=4)
    assert len(made) == 4
    assert net.solve().summary["live_buses"] == 16
    assert net.check() == []
    assert net.explain("Source S")
    net.set("Source S", voltage_pu=1.02)
    net.remove(*made[0])
    assert net.solve().summary["live_buses"] == 13
