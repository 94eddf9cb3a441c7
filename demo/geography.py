"""Where Corvane Coast lies: an invented coast in the open ocean, with places for its buses and a map behind them.

Everything is laid out on a plane in kilometres around Ambry (east, north) and turned into degrees at the end.
"""

from __future__ import annotations

import json
from collections import deque
from math import cos, hypot, pi, radians, sin
from typing import Any

from vastmesh.core.network import Bus, Change, Line, Network, Switch, Update

HERE = (-24.6, 46.4)  # longitude and latitude of Ambry: no land is near
_KM = 111.195
Point = tuple[float, float]

SITES: dict[str, Point] = {
    "Ambry": (0, 0), "Lowmere": (34, -8), "Quillport": (58, -22), "Thessel Head": (39, 6), "Gannet Down": (27, -16),
    "Fennick": (-5, -6.5), "Saltern": (38, -17.5), "Marrow Bridge": (41, -5.5), "Harbour": (60.5, -24.5),
    "Kesterby": (55.5, -18.2),
}  # fmt: skip
# Where the first section of each feeder sets out for, degrees from east, counter-clockwise.
HEADINGS = {
    "Saltern F1": 250, "Saltern F2": 20, "Marrow F1": 60, "Marrow F2": 300, "Marrow F3": 150, "Fennick F1": 160,
    "Fennick F2": 250, "Fennick F3": 60, "Kesterby F1": 100, "Kesterby F2": 190, "Harbour F1": 330, "Harbour F2": 200,
}  # fmt: skip
_STRAIGHT = 0.86  # of a section's length, as the crow flies


def degrees(p: Point) -> Point:
    """Longitude and latitude of a place on the plane."""
    lat = HERE[1] + p[1] / _KM
    return round(HERE[0] + p[0] / (_KM * cos(radians(HERE[1]))), 5), round(lat, 5)


def place_on_map(network: Network) -> list[Change]:
    """Longitude and latitude of every bus, and bends of the long lines."""
    at: dict[str, Point] = {}
    heading: dict[str, float] = {}
    for b in network.of(Bus):
        site = max((s for s in SITES if b.id.startswith(s)), key=len, default=None)
        if site:
            at[b.id] = SITES[site]
    _walk_feeders(network, at, heading)
    changes: list[Change] = []
    for ident, p in at.items():
        lon, lat = degrees(p)
        changes.append(Update(id=ident, values={"longitude": lon, "latitude": lat}))
    for e in network.of(Line):
        start, end = at.get(e.from_bus), at.get(e.to_bus)
        if start and end and hypot(end[0] - start[0], end[1] - start[1]) > 3:
            changes.append(Update(id=e.id, values={"route": [degrees(p) for p in _bends(start, end)]}))
    return changes


def _walk_feeders(network: Network, at: dict[str, Point], heading: dict[str, float]) -> None:
    """Outwards from what has a place: each section at its length, turning a little to either side."""
    queue = deque(at)
    met: dict[str, int] = {}
    while queue:
        here = queue.popleft()
        for e in network.connected(here):
            ends = e.buses()
            if len(ends) < 2 or (isinstance(e, Switch) and not e.closed):
                continue
            there = next(b for b in ends if b != here)
            if there in at:
                continue
            n = met[here] = met.get(here, 0) + 1
            if isinstance(e, Line) and e.length_km:
                first = HEADINGS.get(e.id.rsplit("-", 1)[0])
                way = heading.get(here, float(first if first is not None else 40 * n))
                if here in heading:
                    way += (18 if len(at) % 2 else -14) if n == 1 else (62 if n % 2 else -66)
                far = e.length_km * _STRAIGHT
                x, y = at[here]
                at[there] = (x + far * cos(radians(way)), y + far * sin(radians(way)))
                heading[there] = way
            else:
                at[there] = at[here]
                heading[there] = heading.get(here, 0.0) + 35
            queue.append(there)


def _bends(a: Point, b: Point) -> list[Point]:
    """Two or three bends to either side of the straight way."""
    (x0, y0), (x1, y1) = a, b
    far = hypot(x1 - x0, y1 - y0)
    east, north = (x1 - x0) / far, (y1 - y0) / far
    return [
        (x0 + east * far * t - north * far * off, y0 + north * far * t + east * far * off)
        for t, off in ((0.22, 0.045), (0.55, -0.05), (0.8, 0.03))
    ]


def _rough(points: list[Point], depth: int, size: float) -> list[Point]:
    """A shore from a few points: middles pushed aside by turns, less with each depth."""
    for level in range(depth):
        out: list[Point] = []
        for i, (a, b) in enumerate(zip(points, [*points[1:], points[0]], strict=True)):
            push = size * 0.5**level * sin(7.3 * i + 2.1 * level + 0.9 * a[0])
            mx, my = (a[0] + b[0]) / 2, (a[1] + b[1]) / 2
            length = hypot(b[0] - a[0], b[1] - a[1]) or 1.0
            out += [a, (mx - (b[1] - a[1]) / length * push, my + (b[0] - a[0]) / length * push)]
        points = out
    return points


def backdrop() -> bytes:
    """Coast, river, roads and settlements as GeoJSON."""
    shore: list[Point] = [
        (-16, 9), (-4, 12), (10, 9), (24, 11), (33, 9), (38, 13), (43, 10), (49, 3), (58, 0), (66, -6), (65, -15),
        (62, -19), (66, -25), (62, -29), (54, -27), (47, -25), (40, -23), (33, -26), (21, -24), (6, -27), (-12, -24),
        (-19, -12), (-17, -1),
    ]  # fmt: skip
    island = [(68 + 1.8 * cos(k * pi / 4), -13 + 1.1 * sin(k * pi / 4)) for k in range(8)]
    features: list[dict[str, Any]] = [
        _feature("Polygon", [_ring(_rough(shore, 3, 1.3)), _ring(_rough(_lake(), 1, 0.2))], kind="land"),
        _feature("Polygon", [_ring(_rough(island, 2, 0.25))], kind="land"),
    ]
    s = SITES
    roads = {
        "main": [[(-17, -3), s["Ambry"], (12, -5), (23, -4), s["Lowmere"], (44, -11), (51, -15), s["Kesterby"], s["Quillport"]]],
        "road": [
            [s["Ambry"], (-3, -3), s["Fennick"], (-4, -15), (6, -26)], [s["Lowmere"], (35, 0), s["Thessel Head"], (38, 11)],
            [s["Lowmere"], s["Marrow Bridge"], (49, -3), (58, -3)], [s["Lowmere"], (36, -13), s["Saltern"], (39, -22)],
            [s["Quillport"], s["Harbour"]], [(23, -4), (25, -11), s["Gannet Down"], (22, -22)],
        ],
        "river": [[(18, 3), (26, -1), (36, -4), s["Marrow Bridge"], (47, 0), (49.5, 3)]],
    }  # fmt: skip
    for kind, ways in roads.items():
        for way in ways:
            open_ = _rough(way, 2, 0.7)[: 4 * (len(way) - 1) + 1]
            features.append(_feature("LineString", [list(degrees(p)) for p in open_], kind=kind))
    names = {**s, "Corvane Sound": (14, -29.5), "Cape Thessel": (40, 15), "Gull Island": (68, -10.6)}
    large = {"Ambry", "Lowmere", "Quillport"}
    for name, (x, y) in names.items():
        # Names stand below their stations, so that the stations' own labels have room.
        spot = (x, y - 1.5) if name in s else (x, y)
        features.append(_feature("Point", list(degrees(spot)), name=name, size=2 if name in large else 1))
    return json.dumps({"type": "FeatureCollection", "features": features}, separators=(",", ":")).encode()


def _lake() -> list[Point]:
    return [(5 + 2.2 * cos(k * pi / 5), -14 + 1.0 * sin(k * pi / 5)) for k in range(10)]


def _ring(points: list[Point]) -> list[list[float]]:
    return [list(degrees(p)) for p in [*points, points[0]]]


def _feature(kind_of: str, coordinates: Any, **properties: Any) -> dict[str, Any]:
    return {"type": "Feature", "properties": properties, "geometry": {"type": kind_of, "coordinates": coordinates}}
