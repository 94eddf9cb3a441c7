"""Profiles in: clocks, gaps, headings, every way in which a file can be wrong; a metering service that is as real ones are."""

from __future__ import annotations

import io
import threading
from collections.abc import Iterator
from datetime import datetime, timedelta

import polars as pl
import pytest

from vastmesh.core.errors import InvalidFields, UnreadableFile
from vastmesh.core.network import Network
from vastmesh.core.network.elements.profile import unpack
from vastmesh.exchange import NoService, fetch_csv, read_profiles
from vastmesh.metering import SERIES, answer, figure, service


def rows(*lines: str) -> bytes:
    return "\n".join(lines).encode()


def hours(count: int, start: str = "2025-01-01 00:00", step: int = 60) -> list[str]:
    first = datetime.fromisoformat(start)
    return [f"{first + timedelta(minutes=step * n):%Y-%m-%d %H:%M}" for n in range(count)]


def test_headings_say_what_columns_are_of(demo: Network) -> None:
    data = rows("time,demand,domestic,wind,Middle,Ambry - Lowmere,Quarry", *(f"{m},1,2,0.5,1.1,1,3" for m in hours(3)))
    found = read_profiles(data, demo).items
    assert [(p["scales"], p["key"]) for p in found] == [
        ("demand", ""), ("class", "domestic"), ("energy", "wind"), ("area", "middle"), ("element", "Ambry - Lowmere"),
        ("element", "Quarry"),
    ]  # fmt: skip
    assert unpack(found[1]["packed"]) == (2.0, 2.0, 2.0)
    mw = read_profiles(rows('time;"Gannet Down wind, MW"', *(f"{m};1,5" for m in hours(3))), demo).items[0]
    assert (mw["means"], mw["key"], unpack(mw["packed"])[0]) == ("mw", "Gannet Down wind", 1.5)
    with pytest.raises(InvalidFields, match="nonsense"):
        read_profiles(rows("time,nonsense", *(f"{m},1" for m in hours(3))), demo)


def test_quarters_of_an_hour_leap_days_and_offsets(demo: Network) -> None:
    leap = read_profiles(rows("t,demand", *(f"{m},1" for m in hours(72, "2024-02-28 00:00"))), demo).items[0]
    assert len(unpack(leap["packed"])) == 72
    quarter = read_profiles(rows("t\tdemand", *(f"{m}\t0,25" for m in hours(9, step=15))), demo).items[0]
    assert (quarter["step_min"], unpack(quarter["packed"])[0]) == (15, 0.25)
    moved = rows("t,demand", "2025-01-01T00:00+01:00,1", "2025-01-01T01:00+01:00,2", "2025-01-01T02:00+01:00,3")
    assert read_profiles(moved, demo).items[0]["begins"] == "2024-12-31T23:00"


def test_changes_of_the_clock_are_told_and_steps_go_on(demo: Network) -> None:
    spring = [*hours(2, "2025-03-30 00:00"), *hours(3, "2025-03-30 03:00")]
    found = read_profiles(rows("t,demand", *(f"{m},{n + 1}" for n, m in enumerate(spring))), demo)
    assert unpack(found.items[0]["packed"]) == (1, 2, 3, 4, 5)
    assert "set forward" in found.notes[0]
    autumn = [*hours(3, "2025-10-26 00:00"), *hours(3, "2025-10-26 02:00")]
    found = read_profiles(rows("t,demand", *(f"{m},{n + 1}" for n, m in enumerate(autumn))), demo)
    assert unpack(found.items[0]["packed"]) == (1, 2, 3, 4, 5, 6)
    assert "set back" in found.notes[0]


def test_gaps_are_named_or_filled(demo: Network) -> None:
    given = hours(8)
    with_gap = rows("t,demand", *(f"{m},{n}" for n, m in enumerate(given) if n not in (3, 4)))
    with pytest.raises(UnreadableFile, match="step 4 to 5"):
        read_profiles(with_gap, demo)
    found = read_profiles(with_gap, demo, gaps="fill")
    assert unpack(found.items[0]["packed"]) == (0, 1, 2, 3, 4, 5, 6, 7)
    assert "2 missing figures" in found.notes[0]
    blank = rows("t,demand", *(f"{m},{'' if n == 2 else n}" for n, m in enumerate(given)))
    with pytest.raises(UnreadableFile, match="step 3"):
        read_profiles(blank, demo)
    wide = rows("t,demand", *(f"{m},1" for n, m in enumerate(hours(60)) if not 10 <= n < 50))
    with pytest.raises(UnreadableFile, match="can't be filled"):
        read_profiles(wide, demo, gaps="fill")


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (rows("t,demand", "2025-01-01 00:00,1"), "at least two steps"),
        (rows("t,demand", *(f"{m},{'x' if n == 1 else 1}" for n, m in enumerate(hours(4)))), "'x' is no number"),
        (rows("t,demand", *(f"{m},{'nan' if n == 1 else 1}" for n, m in enumerate(hours(4)))), "no finite number"),
        (rows("t,demand", "yesterday,1", "today,2"), "is no moment"),
        (rows("t,demand", *(f"{m},1,2" for m in hours(3))), "3 cells"),
        (rows("t,demand", *(f"{m},1" for m in [*hours(4), "2025-01-01 03:20"])), "does not follow"),
        (rows("t,demand", *(f"{m},1" for m in reversed(hours(4)))), "minutes apart"),
        (rows("t,demand", *(f"{m},1" for m in hours(4, step=7))), "7 minutes apart"),
        (b"\xff\xfe\x00", "neither Parquet nor text"),
        (b"PAR1 nothing", "as Parquet"),
        (b"t,demand\n" + b"2025-01-01 00:00,1\n" * 200_000, "200001 rows"),
    ],
)
def test_what_is_wrong_is_named(demo: Network, data: bytes, told: str) -> None:
    with pytest.raises(UnreadableFile, match=told):
        read_profiles(data, demo)


def test_factors_beyond_their_bounds_are_refused_with_their_step(demo: Network) -> None:
    found = read_profiles(rows("t,demand", *(f"{m},{-1 if n == 2 else 1}" for n, m in enumerate(hours(4)))), demo)
    with pytest.raises(InvalidFields, match="step 3"):
        Network.from_items(found.items)


def test_parquet_comes_in_as_it_is(demo: Network) -> None:
    moments = [datetime(2025, 1, 1) + timedelta(hours=n) for n in range(5)]
    out = io.BytesIO()
    pl.DataFrame({"time": moments, "domestic": [0.1, 0.2, None, 0.4, 0.5]}).write_parquet(out)
    with pytest.raises(UnreadableFile, match="step 3"):
        read_profiles(out.getvalue(), demo)
    found = read_profiles(out.getvalue(), demo, gaps="fill").items[0]
    assert unpack(found["packed"]) == pytest.approx((0.1, 0.2, 0.3, 0.4, 0.5))


@pytest.fixture
def meters() -> Iterator[str]:
    with service(0) as server:
        thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True)
        thread.start()
        yield f"http://127.0.0.1:{server.server_port}"
        server.shutdown()
        thread.join()


def test_a_service_that_is_busy_late_and_has_gaps_is_read_all_the_same(demo: Network, meters: str) -> None:
    data, notes = fetch_csv(meters, "2025-03-01T00:00", 6)
    assert sum("not come in yet" in n for n in notes) == 2
    found = read_profiles(data, demo, gaps="fill")
    assert {p["key"] for p in found.items} == set(SERIES)
    assert any("filled" in n for n in found.notes)
    domestic = next(p for p in found.items if p["key"] == "domestic")
    values = unpack(domestic["packed"])
    assert len(values) == 6 * 48 - 4
    plain = answer("domestic", datetime(2025, 3, 1), 6)["values"]
    assert all(v is None or v == pytest.approx(values[n], abs=1e-6) for n, v in enumerate(plain[: len(values)]))
    assert figure("solar", datetime(2025, 6, 21, 0, 0)) == 0.0


def test_a_service_elsewhere_or_none_is_refused(demo: Network) -> None:
    for address in ("http://example.org", "ftp://127.0.0.1", "http://user@127.0.0.1", "nonsense"):
        with pytest.raises(NoService, match="on this machine"):
            fetch_csv(address, "2025-01-01T00:00", 1)

    def nothing(url: str) -> bytes:
        return b"[]"

    with pytest.raises(NoService, match="lists no series"):
        fetch_csv("http://127.0.0.1:1", "2025-01-01T00:00", 1, nothing)
