"""Places on the map: route lengths, and one arrangement made from the other."""

from __future__ import annotations

from itertools import pairwise
from math import asin, cos, radians, sin, sqrt

from .network import Bus, Change, Line, Network, Update

EARTH_KM = 6371.0088  # mean radius, IUGG 1980
_DEGREE_KM = EARTH_KM * radians(1.0)
_SHEET_PER_KM = 40.0  # sheet units of a kilometre when a schematic is made from the map


def distance_km(a: tuple[float, float], b: tuple[float, float]) -> float:
    """Great-circle distance between two places given as longitude and latitude in degrees (haversine), km."""
    (lon1, lat1), (lon2, lat2) = ((radians(x), radians(y)) for x, y in (a, b))
    h = sin((lat2 - lat1) / 2) ** 2 + cos(lat1) * cos(lat2) * sin((lon2 - lon1) / 2) ** 2
    return 2 * EARTH_KM * asin(sqrt(min(h, 1.0)))


def placed_at(network: Network, bus: str) -> tuple[float, float] | None:
    item = network.items.get(bus)
    if not isinstance(item, Bus) or item.longitude is None or item.latitude is None:
        return None
    return item.longitude, item.latitude


def route_km(network: Network, line: Line) -> float | None:
    """Length of a line's route on the map, bends included; None where an end has no place."""
    ends = placed_at(network, line.from_bus), placed_at(network, line.to_bus)
    if ends[0] is None or ends[1] is None:
        return None
    points = [ends[0], *(line.route or ()), ends[1]]
    return sum(distance_km(a, b) for a, b in pairwise(points))


def lengths_from_routes(network: Network, ids: list[str] | None = None) -> list[Change]:
    """Changes that give lines the length of their route; those without a place keep theirs."""
    lines = [x for i in ids if isinstance(x := network[i], Line)] if ids else network.of(Line)
    found: list[Change] = []
    for line in lines:
        km = route_km(network, line)
        if km and km > 1e-4 and round(km, 4) != line.length_km:
            found.append(Update(id=line.id, values={"length_km": round(km, 4)}))
    return found


def map_from_schematic(network: Network, *, anew: bool = False) -> list[Change]:
    """Places for buses that have none (all with ``anew``): the schematic laid on the map to scale of its lines.

    One kilometre of line is as long as it is on the sheet at the median; it is laid where the placed buses are, or
    at the origin of the invented coast. Bends of lines between buses placed anew are dropped.
    """
    buses = [b for b in network.of(Bus) if b.x is not None and b.y is not None]
    loose = [b for b in buses if anew or b.longitude is None or b.latitude is None]
    if not loose:
        return []
    known = [b for b in buses if not anew and b.longitude is not None and b.latitude is not None]
    km_per_unit = _scale(network)
    centre = _centre(known) if known else (0.0, 0.0)
    middle_x = sum(b.x or 0.0 for b in (known or buses)) / len(known or buses)
    middle_y = sum(b.y or 0.0 for b in (known or buses)) / len(known or buses)
    shrink = cos(radians(centre[1]))
    found: list[Change] = []
    for b in loose:
        east, south = ((b.x or 0.0) - middle_x) * km_per_unit, ((b.y or 0.0) - middle_y) * km_per_unit
        lon, lat = centre[0] + east / (_DEGREE_KM * shrink), centre[1] - south / _DEGREE_KM
        found.append(Update(id=b.id, values={"longitude": round(lon, 6), "latitude": round(lat, 6)}))
    moved = {b.id for b in loose}
    found += [
        Update(id=e.id, values={"route": None}) for e in network.of(Line) if e.route and {e.from_bus, e.to_bus} & moved
    ]
    return found


def schematic_from_map(network: Network) -> list[Change]:
    """Sheet positions of all buses that have a place on the map: north upwards, to scale."""
    buses = [b for b in network.of(Bus) if b.longitude is not None and b.latitude is not None]
    if not buses:
        return []
    lon, lat = _centre(buses)
    shrink = cos(radians(lat))
    found: list[Change] = []
    for b in buses:
        x = ((b.longitude or 0.0) - lon) * _DEGREE_KM * shrink * _SHEET_PER_KM
        y = (lat - (b.latitude or 0.0)) * _DEGREE_KM * _SHEET_PER_KM
        found.append(Update(id=b.id, values={"x": round(x, 1), "y": round(y, 1)}))
    return found


def _centre(buses: list[Bus]) -> tuple[float, float]:
    return (sum(b.longitude or 0.0 for b in buses) / len(buses), sum(b.latitude or 0.0 for b in buses) / len(buses))


def _scale(network: Network) -> float:
    """Kilometres of a sheet unit: the median over lines of length over distance on the sheet."""
    ratios = []
    for line in network.of(Line):
        a, b = network.items.get(line.from_bus), network.items.get(line.to_bus)
        if isinstance(a, Bus) and isinstance(b, Bus) and line.length_km and None not in (a.x, a.y, b.x, b.y):
            far = sqrt(((a.x or 0) - (b.x or 0)) ** 2 + ((a.y or 0) - (b.y or 0)) ** 2)
            if far > 1:
                ratios.append(line.length_km / far)
    return sorted(ratios)[len(ratios) // 2] if ratios else 1 / _SHEET_PER_KM
