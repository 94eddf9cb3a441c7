"""Every study from Python and from the command line, as the settings of the network say."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from vastmesh import Draft
from vastmesh.cli import main
from vastmesh.core.errors import InvalidFields, VastMeshError
from vastmesh.core.network import Condition
from vastmesh.core.network.elements.profile import pack
from vastmesh.core.studies import STUDIES


def street() -> Draft:
    """A load on one phase at the end of a four-wire cable: per phase it is another world than balanced."""
    net = Draft("Street")
    net.bus("Head", 0.4, conductors="ABCN")
    net.bus("End", 0.4, conductors="ABCN")
    net.source("Head")
    net.line("Head", "End", length_km=0.3, conductors="ABCN", type="Al 4×150 XLPE 0.4 kV cable")
    net.load("End", active_power_mw=0.018, power_factor=0.97, conductors="AN", spectrum="LED lighting")
    net.add("interface", name="Street lamps", members=("Line Head - End",))
    capacitor = {"kind": "shunt", "id": "bank", "bus": "End", "step_mvar": 0.005, "steps": 1, "steps_on": 1}
    net.add("scheme", name="Bank", changes=[{"change": {"op": "add", "item": capacitor}, "label": "bank"}])
    net.add("profile", name="Evenings", packed=pack([0.2, 0.5, 1.0, 0.7]))
    return net


def test_settings_are_settings_and_not_an_item_of_their_own() -> None:
    net = street()
    net.settings(frequency_hz=60.0, study="per_phase")
    net.settings(base_mva=1.0)
    found = net.network.settings
    assert (found.frequency_hz, found.study, found.base_mva) == (60.0, "per_phase", 1.0)
    with pytest.raises(InvalidFields, match="frequency_hz"):
        net.settings(frequency_hz=-5.0)


def test_solving_is_per_phase_where_the_settings_say_so() -> None:
    net = street()
    balanced = net.solve().summary["lowest_voltage_pu"]
    net.settings(study="per_phase")
    result = net.solve()
    assert "per phase" in result.account.method
    assert result.summary["lowest_voltage_pu"] < balanced - 0.01
    assert net.solve(tolerance_pu=1e-6).account.converged
    with pytest.raises(InvalidFields, match="the options are"):
        net.solve(colour="red")


OPTIONS: dict[str, dict[str, Any]] = {
    "open_points": {"loops": "none"},
    "placing": {"above_kv": 0.1, "step_mvar": 0.01, "most": 1},
    "sweep": {"start": 0.5, "stop": 1.0, "steps": 3}, "sensitivities": {"bus": "End"}, "balancing": {"feeder": "Line Head - End"},
    "reactive": {"bus": "End"}, "headroom": {"from_kv": 0.1}, "limit_table": {"outages": "none", "most_mw": 0.05},
    "adequacy": {"supply_mw": 0.1, "step_mw": 0.01}, "board": {"years": 1, "outages": False, "conditions": "present"},
    "best_plan": {"years": 1, "conditions": "present"}, "failure_years": {"years": 20}, "proposals": {"most": 3},
    "scan": {"bus": "End", "to_hz": 500}, "filter_design": {"bus": "End", "size": "entered", "mvar": 0.1},
    "emission_limits": {"bus": "End"},
    "filter_search": {"bus": "End", "sizes": 2, "most_steps": 1},
}  # fmt: skip


@pytest.mark.parametrize("name", STUDIES)
def test_every_study_runs_from_python_and_from_the_command_line(
    name: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    net, options = street(), OPTIONS.get(name, {})
    net.settings(study="per_phase")
    result = net.study(name, **options)
    assert result.account.converged
    assert any(len(t) for t in result.tables.values())
    file = tmp_path / "street.json"
    net.save(file)
    # Workers of its own are started for one of those in parts: each start takes seconds.
    beside = [] if name == "outages" else ["--workers=0"]
    sets = [f"--set={k}={v}" for k, v in options.items()]
    assert main(["study", str(file), name, "--json", *beside, *sets]) == 0
    printed = json.loads(capsys.readouterr().out)
    assert set(printed["tables"]) == set(result.tables)
    first = next(iter(result.tables))
    assert len(printed["tables"][first]) == len(result.tables[first])
    assert main(["study", str(file), name, "--workers=0", *sets]) == 0
    assert "Street" in capsys.readouterr().out
    assert main(["study", str(file), name, "--options"]) == 0
    shown = capsys.readouterr().out
    assert all(field in shown for field in STUDIES[name].options.model_fields)


def test_workers_beside_a_script_give_the_same_answer_and_the_same_refusals() -> None:
    net = street()
    here, beside = net.study("sweep", steps=4), net.study("sweep", steps=4, workers=1)
    for name, table in here.tables.items():
        assert table.records() == beside.tables[name].records()
    with pytest.raises(VastMeshError, match="name an existing condition"):
        net.study("sweep", quantity="conditions", conditions=("nowhere",), workers=1)


def test_the_command_line_follows_the_file_and_can_be_told_otherwise(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    net = street()
    net.settings(study="per_phase")
    net.add("condition", name="Day")
    net.add("condition", name="Night", demand_factor=0.3)
    file = tmp_path / "street.json"
    net.save(file)

    def lowest(*arguments: str) -> float:
        assert main(["solve", str(file), "--json", *arguments]) == 0
        return float(json.loads(capsys.readouterr().out)["summary"]["lowest_voltage_pu"])

    assert lowest() < lowest("--as", "balanced") - 0.01
    assert lowest("--condition", "Night") > lowest()
    assert isinstance(net.network["Night"], Condition)
    assert main(["solve", str(file), "--condition", "Noon"]) == 2
    assert "the file has" in capsys.readouterr().err
    assert main(["study", str(file), "weather"]) == 2
    assert "choose one of" in capsys.readouterr().err
    assert main(["study", str(file), "sweep", "--set", "steps=many"]) == 2
    assert "steps" in capsys.readouterr().err
