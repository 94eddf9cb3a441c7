"""The command line, run as a user runs it."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import DATA, ROOT
from tests.helpers import bus, line, load, network, source
from vastmesh import __version__
from vastmesh.cli import main
from vastmesh.exchange import write_document


def run(*arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "vastmesh.cli", *arguments], capture_output=True, text=True, check=False
    )


def test_version_and_help(capsys: pytest.CaptureFixture[str]) -> None:
    for arguments in (["--version"], ["--help"], ["solve", "--help"]):
        with pytest.raises(SystemExit) as done:
            main(arguments)
        assert done.value.code == 0
    shown = capsys.readouterr().out
    assert __version__ in shown
    assert "--reactive-limits" in shown


def test_solve_prints_json_with_one_record_per_element(nine_bus_expected: dict[str, Any]) -> None:
    done = run("solve", str(DATA / "nine-bus.cdf"), "--json")
    assert done.returncode == 0
    found = json.loads(done.stdout)
    for row, want in zip(found["tables"]["buses"], nine_bus_expected["buses"], strict=True):
        assert row["voltage_pu"] == pytest.approx(want["vm"], abs=1e-7)
        assert row["angle_deg"] == pytest.approx(want["va_deg"], abs=1e-6)
    assert len(found["tables"]["branches"]) == 9
    assert found["summary"]["converged"] is True
    assert found["summary"]["active_loss_mw"] == pytest.approx(nine_bus_expected["totals"]["p_loss_mw"], abs=1e-6)


def test_solve_prints_readable_tables(capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["solve", str(DATA / "nine-bus.cdf")]) == 0
    shown = capsys.readouterr().out
    assert "converged" in shown
    assert "Buses" in shown
    assert "0.9956" in shown
    assert "active loss                   4.6410 MW" in shown


def test_reactive_limits_can_be_turned_off(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    machine = {"kind": "generator", "id": "g", "bus": "b", "active_power_mw": 0.0, "control": "voltage",
               "q_min_mvar": 0.0, "q_max_mvar": 0.1}  # fmt: skip
    net = network(bus("a"), bus("b"), source("a"), line("a", "b", length_km=5.0), load("b", 4.0, 2.0), machine)
    file = tmp_path / "n.json"
    file.write_bytes(write_document(net, "n"))
    found = {}
    for word in ("on", "off"):
        assert main(["solve", str(file), "--json", "--reactive-limits", word]) == 0
        found[word] = json.loads(capsys.readouterr().out)["tables"]["buses"][1]["voltage_pu"]
    assert found["off"] == pytest.approx(1.0, abs=1e-8)
    assert found["on"] < 0.98


def test_exit_status_tells_how_it_ended(tmp_path: Path) -> None:
    hard = tmp_path / "hard.json"
    hard.write_bytes(write_document(network(bus("a"), bus("b"), source("a"), line("a", "b"), load("b", 900.0)), "hard"))
    done = run("solve", str(hard))
    assert done.returncode == 1
    assert "beyond what the network can carry" in done.stdout
    broken = tmp_path / "broken.cdf"
    broken.write_bytes((DATA / "nine-bus.cdf").read_bytes()[:700])
    done = run("solve", str(broken))
    assert done.returncode == 2
    assert "line " in done.stderr
    assert "Traceback" not in done.stderr
    assert run("solve", str(tmp_path / "missing")).returncode == 2


def test_convert_writes_the_format_of_the_ending(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    target = tmp_path / "nine.json"
    assert main(["convert", str(DATA / "nine-bus.cdf"), str(target)]) == 0
    assert "Assumed" in capsys.readouterr().out
    assert json.loads(target.read_bytes())["format"] == "vast-mesh-network"
    assert main(["convert", str(target), str(tmp_path / "back.cdf")]) == 0
    assert (tmp_path / "back.cdf").read_text().startswith(" 01/01/00")


def test_serving_others_is_refused(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    assert main(["serve", "--data", str(tmp_path), "--host", "0.0.0.0"]) == 2
    assert "loopback" in capsys.readouterr().err


def test_demo_script_writes_a_document(tmp_path: Path) -> None:
    target = tmp_path / "region.json"
    subprocess.run(
        [sys.executable, str(ROOT / "demo" / "corvane_coast.py"), str(target)], check=True, capture_output=True
    )
    assert main(["solve", str(target)]) == 0


def request(port: int, path: str, body: dict[str, Any] | None = None) -> Any:
    data = None if body is None else json.dumps(body).encode()
    headers = {"content-type": "application/json"}
    with urllib.request.urlopen(
        urllib.request.Request(f"http://127.0.0.1:{port}{path}", data, headers), timeout=30
    ) as got:
        return json.load(got)


def serve(folder: Path) -> tuple[subprocess.Popen[str], int]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    server = subprocess.Popen(
        [sys.executable, "-m", "vastmesh.cli", "demo", "--data", str(folder), "--port", str(port)],
        stdout=subprocess.PIPE, text=True, env={**os.environ},
    )  # fmt: skip
    for _ in range(200):
        try:
            request(port, "/api/health")
            return server, port
        except OSError:
            time.sleep(0.1)
    raise AssertionError("the server did not start")


def test_an_acknowledged_edit_survives_killing_the_server(tmp_path: Path) -> None:
    server, port = serve(tmp_path)
    try:
        ident = request(port, "/api/projects")[0]["id"]
        change = {"op": "update", "id": "T-Q1", "values": {"rated_mva": 77.0}}
        done = request(
            port, f"/api/projects/{ident}/changes", {"base_revision": 0, "label": "edit", "changes": [change]}
        )
        assert done["revision"] == 1
    finally:
        server.send_signal(signal.SIGKILL)
        server.wait()
    server, port = serve(tmp_path)
    try:
        items = request(port, f"/api/projects/{ident}")["items"]
        assert next(i for i in items if i["id"] == "T-Q1")["rated_mva"] == 77.0
        assert len(request(port, "/api/projects")) == 1  # the demo is not made a second time
    finally:
        server.send_signal(signal.SIGTERM)
        server.wait(timeout=20)


def test_the_python_example_of_the_documentation_runs(capsys: pytest.CaptureFixture[str]) -> None:
    text = (ROOT / "docs" / "api.md").read_text()
    code = text.split("```python\n")[1].split("```")[0]
    exec(compile(code, "docs/api.md", "exec"), {})
    assert "0.99" in capsys.readouterr().out


def test_the_document_example_of_the_documentation_solves(tmp_path: Path) -> None:
    text = (ROOT / "docs" / "formats.md").read_text()
    file = tmp_path / "example.json"
    file.write_text(text.split("```json\n")[1].split("```")[0])
    assert main(["solve", str(file)]) == 0


def test_backup_is_a_store_of_its_own(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    from vastmesh.store import Store
    from vastmesh.store._store import FILE_NAME

    store = Store(tmp_path / "live")
    net = network(bus("a"), source("a"))
    project = store.create("kept", net)
    store.close()
    (tmp_path / "copy").mkdir()
    assert main(["backup", str(tmp_path / "copy" / FILE_NAME), "--data", str(tmp_path / "live")]) == 0
    assert "written to" in capsys.readouterr().out
    restored = Store(tmp_path / "copy")
    assert [p.name for p in restored.projects()] == ["kept"]
    assert restored.load(project.id).network == net


@pytest.mark.parametrize("arguments", [["schema"], ["schema", "--api"]])
def test_schemas_are_printed_as_published(arguments: list[str], capsys: pytest.CaptureFixture[str]) -> None:
    assert main(arguments) == 0
    name = "openapi.json" if "--api" in arguments else "network-document.schema.json"
    assert json.loads(capsys.readouterr().out) == json.loads((ROOT / "docs" / name).read_text())


def test_a_file_of_another_kind_is_named_as_such(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    picture = tmp_path / "picture.png"
    picture.write_bytes(b"\x89PNG\r\n\x1a\n\x00\x00")
    assert main(["solve", str(picture)]) == 2
    assert "not a text file" in capsys.readouterr().err
