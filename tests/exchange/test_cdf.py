"""IEEE Common Data Format: read, written, and read again with the same load flow; damage is located."""

from __future__ import annotations

import numpy as np
import pytest

from tests.helpers import bus, column, line, load, network, source, switch, transformer, volts
from vastmesh.core.checks import run_checks
from vastmesh.core.errors import UnreadableFile
from vastmesh.core.flow.balanced import LoadFlowOptions
from vastmesh.core.network import Network, Shunt, Transformer, Update
from vastmesh.core.results.state import run_load_flow
from vastmesh.exchange import read_network, write_network

TIGHT = LoadFlowOptions(tolerance_pu=1e-12)


def test_report_tells_what_was_read_assumed_and_ignored(nine_bus_file: bytes) -> None:
    report = read_network(nine_bus_file).report
    assert report.read[1].text == "9 buses, 9 branches"
    assert any(r.line == 3 and "bus 1 is the reference" in r.text for r in report.assumed)
    assert any("frequency" in r.text for r in report.assumed)
    assert any(r.line == 24 and "LOSS ZONES" in r.text for r in report.ignored)
    assert report.lines()[0] == "Read:"


def test_kinds_and_order_follow_the_file(nine_bus_file: bytes) -> None:
    net = read_network(nine_bus_file).network
    result = run_load_flow(net)
    assert result.tables["buses"]["id"] == [str(n) for n in range(1, 10)]
    assert result.tables["branches"]["id"][:4] == ["1-4/1", "2-7/1", "3-9/1", "4-5/1"]
    assert [t.id for t in net.of(Transformer)] == ["1-4/1", "2-7/1", "3-9/1"]


def test_write_and_read_again_gives_the_same_load_flow(nine_bus_file: bytes) -> None:
    net = read_network(nine_bus_file).network
    again = read_network(write_network(net, "again", "cdf")).network
    assert volts(run_load_flow(again, TIGHT)) == pytest.approx(volts(run_load_flow(net, TIGHT)), abs=1e-8)


def full() -> Network:
    """A network with all that the format carries: taps on both sides, shift, shunts, two kinds of machine."""
    return network(
        bus("1", 132), bus("2", 33), bus("3", 33), bus("4", 11), source("1", voltage_pu=1.02, angle_deg=10.0),
        transformer("1", "2", 132.0, 33.0, rated_mva=60.0, vector_group="YNd1", tap_step_pct=1.25, tap_min=-8, tap_max=8,
                    tap_position=3),
        line("2", "3", length_km=12.0, b_us_per_km=3.0, rating_a=400.0, parallel=2),
        transformer("3", "4", 33.0, 11.5, tap_side="lv", tap_step_pct=2.0, tap_min=-3, tap_max=3, tap_position=2,
                    vector_group="Dyn11"),
        load("4", 4.0, 1.5), {"kind": "shunt", "id": "s", "bus": "3", "step_mvar": 2.0, "steps": 2, "steps_on": 2},
        {"kind": "generator", "id": "g", "bus": "3", "active_power_mw": 3.0, "control": "voltage", "voltage_pu": 1.01,
         "q_min_mvar": -5.0, "q_max_mvar": 5.0},
        {"kind": "generator", "id": "h", "bus": "4", "active_power_mw": 1.0, "reactive_power_mvar": 0.3},
    )  # fmt: skip


def test_taps_shifts_shunts_and_machines_survive_the_format() -> None:
    net = full()
    again = read_network(write_network(net, "full", "cdf")).network
    ours, theirs = volts(run_load_flow(net, TIGHT)), volts(run_load_flow(again, TIGHT))
    assert theirs == pytest.approx(ours, abs=1e-4)  # as many digits as the columns hold
    assert isinstance(again["shunt-3"], Shunt)
    loads = [run_load_flow(n, TIGHT) for n in (net, again)]
    assert column(loads[1], "branches", "loading_pct")["2-3/1"] == pytest.approx(
        column(loads[0], "branches", "loading_pct")["2-3"], rel=0.02
    )


def test_condition_is_written_into_the_powers() -> None:
    net = full()
    net.apply([Update(id="h", values={"energy": "solar"})])
    from vastmesh.core.network import Add

    condition = {"kind": "condition", "id": "c", "demand_factor": 0.5, "energy_factors": {"solar": 0.0}}
    net.apply([Add(item=condition), Add(item={"kind": "settings", "id": "settings", "condition": "c"})])
    again = read_network(write_network(net, "x", "cdf")).network
    assert again["load-4"].active_power_mw == pytest.approx(2.0)  # type: ignore[attr-defined]
    assert "gen-4" not in again


def test_off_nominal_ratio_sits_on_the_tap_side() -> None:
    """Ratio 0.95 at the tap bus raises the other side at no load by 1/0.95; the impedance is on the far side."""
    text = card_file(
        [bus_card(1, 3, 132.0, desired=1.0), bus_card(2, 0, 132.0)], [branch_card(1, 2, kind=1, x=0.1, ratio=0.95)]
    )
    net = read_network(text).network
    assert column(run_load_flow(net, TIGHT), "buses", "voltage_pu")["2"] == pytest.approx(1 / 0.95, rel=1e-9)


def test_phase_shifter_turns_by_its_angle() -> None:
    text = card_file(
        [bus_card(1, 3, 132.0, desired=1.0), bus_card(2, 0, 132.0)],
        [branch_card(1, 2, kind=1, x=0.1, ratio=1.0, angle=7.5)],
    )
    angle = column(run_load_flow(read_network(text).network, TIGHT), "buses", "angle_deg")["2"]
    assert angle == pytest.approx(-7.5, abs=1e-9)


def bus_card(number: int, kind: int, kv: float, *, desired: float = 0.0, load: float = 0.0) -> str:
    return (
        f"{number:4d} {f'B{number}':12} {1:2d}{1:3d} {kind:2d} {1.0:6.3f}{0.0:7.2f}{load:9.1f}{0.0:10.1f}{0.0:8.1f}"
        f"{0.0:8.1f} {kv:7.1f} {desired:6.3f}{0.0:8.1f}{0.0:8.1f}{0.0:8.3f}{0.0:8.3f} {0:4d}"
    )


def branch_card(
    a: int, b: int, *, kind: int = 0, r: float = 0.0, x: float = 0.1, ratio: float = 0.0, angle: float = 0.0
) -> str:
    return (
        f"{a:4d} {b:4d} {1:2d}{1:3d} 1 {kind}{r:10.5f}{x:11.5f}{0.0:10.5f}{0:5d} {0:5d} {0:5d} {0:4d} 0  {ratio:6.3f} "
        f"{angle:7.2f}{0.0:7.1f}{0.0:7.1f} {0.0:6.3f}{0.0:7.1f}"
    )


def card_file(buses: list[str], branches: list[str]) -> bytes:
    head = f" 01/01/00 {'TEST':20} {100.0:6.1f} 2000 S Made by a test"
    return "\n".join(
        [head, f"BUS DATA FOLLOWS   {len(buses)} ITEMS", *buses, "-999", f"BRANCH DATA FOLLOWS  {len(branches)} ITEMS",
         *branches, "-999", "END OF DATA", ""]
    ).encode()  # fmt: skip


@pytest.mark.parametrize(
    ("old", "new", "line_number", "words"),
    [
        (b"100.0 2000", b"1x0.0 2000", 1, "base power"),
        (b"9 ITEMS\n   1 Bus", b"7 ITEMS\n   1 Bus", 12, "7 cards are announced, 9 are there"),
    ],
)
def test_damage_is_located_by_line(nine_bus_file: bytes, old: bytes, new: bytes, line_number: int, words: str) -> None:
    assert old in nine_bus_file
    with pytest.raises(UnreadableFile) as caught:
        read_network(nine_bus_file.replace(old, new, 1))
    assert caught.value.line == line_number
    assert words in str(caught.value)


@pytest.mark.parametrize(
    ("old", "new", "line_number", "words"),
    [
        (b"0.0576", b"0.05x6", 14, "'0.05x6' is not a number"),
        (b"   9 Bus 9 ", b"   8 Bus 9 ", 11, "stands twice"),
        (b"   8    9  1  1", b"   8   99  1  1", 22, "there is no bus 99"),
        (b"      0.01      0.085", b"       0.0        0.0", 17, "both zero"),
    ],
)
def test_one_bad_card_is_left_out_and_told(
    nine_bus_file: bytes, old: bytes, new: bytes, line_number: int, words: str
) -> None:
    """The rest of the file is read; nothing hangs in the air."""
    whole = read_network(nine_bus_file).network
    assert old in nine_bus_file
    found = read_network(nine_bus_file.replace(old, new, 1))
    told = [(r.line, r.text) for r in found.report.left_out]
    assert any(line == line_number and words in text for line, text in told), told
    assert 0 < len(whole.items) - len(found.network.items) < 8
    assert all(b in found.network for e in found.network.elements() for b in e.buses())


def test_a_file_cut_anywhere_is_an_error_or_complete(nine_bus_file: bytes) -> None:
    end = nine_bus_file.index(b"-999", nine_bus_file.index(b"BRANCH DATA")) + 4
    for cut in range(20, end - 4, 37):
        with pytest.raises(UnreadableFile):
            read_network(nine_bus_file[:cut])


def test_closed_switches_can_not_be_written() -> None:
    net = network(bus("1"), bus("2"), source("1"), switch("1", "2"))
    with pytest.raises(UnreadableFile, match="no switches"):
        write_network(net, "x", "cdf")


def slack_and(*cards: str) -> list[str]:
    return [bus_card(1, 3, 132.0, desired=1.0), *cards]


def test_fields_that_slipped_out_of_their_columns_are_read_by_blanks(nine_bus_file: bytes) -> None:
    """One blank less after the bus number moves every later field; the values must come out the same."""
    text = nine_bus_file.decode()
    old = next(row for row in text.splitlines() if row.startswith("   4    5  1  1"))
    slipped = " ".join(old.split())
    net = read_network(text.replace(old, slipped).encode()).network
    plain = read_network(nine_bus_file).network
    assert net == plain


def test_a_bus_without_base_voltage_gets_one_and_it_is_said() -> None:
    imported = read_network(card_file(slack_and(bus_card(2, 0, 0.0)), [branch_card(1, 2, r=0.01)]))
    assert imported.network["2"].nominal_kv == 100.0  # type: ignore[attr-defined]
    assert any(r.line == 4 and "base voltage 100 kV" in r.text for r in imported.report.assumed)
    assert any("taken as a transformer" in r.text for r in imported.report.assumed)


@pytest.mark.parametrize(
    ("kind", "words"),
    [(2, "automatic tap for voltage"), (3, "automatic tap for reactive power"), (4, "automatic phase angle")],
)
def test_controls_that_are_not_carried_over_are_reported(kind: int, words: str) -> None:
    cards = card_file(slack_and(bus_card(2, 0, 132.0)), [branch_card(1, 2, kind=kind, ratio=1.02)])
    imported = read_network(cards)
    assert any(words in r.text and "stays where the file has it" in r.text for r in imported.report.ignored)
    assert isinstance(imported.network["1-2/1"], Transformer)


def test_parallel_branches_of_one_circuit_number_get_names_of_their_own() -> None:
    cards = card_file(
        slack_and(bus_card(2, 0, 132.0, load=50.0)), [branch_card(1, 2, r=0.01), branch_card(1, 2, r=0.01)]
    )
    net = read_network(cards).network
    assert {"1-2/1", "1-2/1#2"} <= set(net.items)
    flow = column(run_load_flow(net, TIGHT), "branches", "from_active_power_mw")
    assert flow["1-2/1"] == pytest.approx(flow["1-2/1#2"], rel=1e-9)


def test_a_machine_that_holds_reactive_power_is_taken_as_fixed() -> None:
    card = bus_card(2, 1, 132.0)
    imported = read_network(card_file(slack_and(card), [branch_card(1, 2, r=0.01)]))
    assert imported.network["gen-2"].control == "reactive"  # type: ignore[attr-defined]
    assert any("taken as fixed reactive power" in r.text for r in imported.report.ignored)


def test_remote_control_is_reported_and_the_own_bus_held() -> None:
    card = bus_card(2, 2, 132.0, desired=1.01)[:-4] + "   1"
    imported = read_network(card_file(slack_and(card), [branch_card(1, 2, r=0.01)]))
    assert any("control of remote bus 1" in r.text for r in imported.report.ignored)
    held = column(run_load_flow(imported.network, TIGHT), "buses", "voltage_pu")["2"]
    assert held == pytest.approx(1.01, abs=1e-9)


@pytest.mark.parametrize("count", [10_000, 3])
def test_names_that_are_no_numbers_are_numbered_for_the_format(count: int) -> None:
    buses = [bus(f"bus {n}", 11) for n in range(count)]
    net = network(*buses, source("bus 0"))
    if count > 9999:
        with pytest.raises(UnreadableFile, match="four digits"):
            write_network(net, "x", "cdf")
    else:
        again = read_network(write_network(net, "x", "cdf")).network
        assert [again[str(n)].name for n in (1, 2, 3)] == ["bus 0", "bus 1", "bus 2"]


def test_windows_line_ends_and_trailing_blanks_do_not_matter(nine_bus_file: bytes) -> None:
    dressed = b"\r\n".join(row + b"   " for row in nine_bus_file.splitlines()) + b"\r\n\r\n"
    assert read_network(dressed).network == read_network(nine_bus_file).network


def test_motors_inverters_and_geometries_are_carried_as_what_they_amount_to() -> None:
    geometry = {"kind": "line_geometry", "id": "g", "type": "Al/St 150"}
    net = network(
        geometry, bus("a", 33), source("a"), bus("b", 33),
        {"kind": "line", "id": "ab", "from_bus": "a", "to_bus": "b", "length_km": 5.0, "geometry": "g"},
        {"kind": "induction_motor", "id": "m", "bus": "b", "rated_kw": 800, "efficiency_pct": 95, "power_factor": 0.88},
        {"kind": "lumped", "id": "d", "bus": "b", "active_power_mw": 2.0, "power_factor": 0.9, "motor_pct": 100,
         "impedance_pct": 0},
        {"kind": "inverter", "id": "pv", "bus": "b", "rated_mva": 1.0, "active_power_mw": 0.8},
    )  # fmt: skip
    again = read_network(write_network(net, "x", "cdf")).network
    ours, theirs = run_load_flow(net, TIGHT), run_load_flow(again, TIGHT)
    assert column(theirs, "buses", "voltage_pu")["2"] == pytest.approx(
        column(ours, "buses", "voltage_pu")["b"], abs=2e-4
    )


@pytest.mark.parametrize(
    "item",
    [{"kind": "regulator", "id": "X", "from_bus": "a", "to_bus": "b"},
     {"kind": "series_reactor", "id": "X", "from_bus": "a", "to_bus": "b", "x_ohm": 1.0}],
)  # fmt: skip
def test_what_the_format_has_no_words_for_is_refused_by_name(item: dict) -> None:
    net = network(bus("a"), source("a"), bus("b"), item)
    with pytest.raises(UnreadableFile, match=r"X is one. Write a document instead"):
        write_network(net, "x", "cdf")


def test_unusual_impedances_are_read_and_solved_as_they_stand() -> None:
    """More than 100 % of the rating, and negative reactance of a star equivalent: the voltages of the equations."""
    buses = [bus_card(1, 3, 132.0, desired=1.0), bus_card(2, 0, 132.0), bus_card(3, 0, 132.0, load=50.0),
             bus_card(4, 0, 132.0, load=10.0)]  # fmt: skip
    branches = [branch_card(1, 2, kind=1, x=0.12, ratio=1.02), branch_card(2, 3, kind=1, x=-0.03, ratio=1.0),
                branch_card(2, 4, kind=1, r=0.01, x=1.4, ratio=1.0)]  # fmt: skip
    imported = read_network(card_file(buses, branches))
    assert imported.report.left_out == []
    impedance = {t.id: t.impedance_pct for t in imported.network.of(Transformer)}
    assert impedance["2-3/1"] == pytest.approx(-3.0)
    assert impedance["2-4/1"] == pytest.approx(abs(0.01 + 1.4j) * 100)
    v = volts(run_load_flow(imported.network, LoadFlowOptions(tolerance_pu=1e-12)))
    currents = {3: np.conj(0.5 / v["3"]), 4: np.conj(0.1 / v["4"])}
    middle = v["3"] - 0.03j * currents[3]
    assert v["2"] == pytest.approx(middle, abs=1e-9)
    assert v["2"] - (0.01 + 1.4j) * currents[4] == pytest.approx(v["4"], abs=1e-9)
    assert 1 / 1.02 - 0.12j * (currents[3] + currents[4]) == pytest.approx(v["2"], abs=1e-9)
    unusual = [c for c in run_checks(imported.network) if c.rule == "impedance"]
    assert {c.element for c in unusual} >= {"2-3/1", "2-4/1"}
