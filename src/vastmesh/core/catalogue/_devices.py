"""Switchgear: low-voltage breakers and fuses by frame, and medium- and high-voltage breakers.

Breaking capacities and frames are the preferred values of IEC 60947-2, 60269-1 and 62271-100.
"""

from __future__ import annotations

from ._types import EquipmentType, Family, Value, family

_MOULDED = [(100, 25), (160, 36), (250, 36), (400, 50), (630, 50)]
_AIR = [(800, 65), (1000, 65), (1250, 65), (1600, 65), (2000, 65), (2500, 85), (3200, 85), (4000, 100)]
_FUSES = [6, 10, 16, 20, 25, 32, 40, 50, 63, 80, 100, 125, 160, 200, 250, 315, 400, 500, 630, 800, 1000, 1250]
_MV_FUSES = [6.3, 10, 16, 20, 25, 31.5, 40, 50, 63, 80, 100, 125]
_BREAKERS = {12.0: (20, 25, 31.5), 24.0: (16, 20, 25), 36.0: (20, 25, 31.5), 145.0: (31.5, 40)}


def _device(
    device: str, name: str, words: str, kv: float, amps: float, ka: float, series: str, basis: str, **more: Value
) -> EquipmentType:
    values: dict[str, Value] = {
        "device": device, "rated_kv": kv, "rating_a": float(amps), "breaking_ka": float(ka), **more,
    }  # fmt: skip
    return EquipmentType(
        "switch", name, words, values, series, amps, basis, (("a", float(amps)), ("kv", kv), ("ka", float(ka)))
    )


def _low_voltage() -> list[EquipmentType]:
    found = []
    for frame, ka in _MOULDED:
        trip: dict[str, Value] = {
            "sensor_a": float(frame), "plug_a": float(frame), "long_x": 1.0, "long_s": 10.0, "instantaneous_x": 10.0,
        }  # fmt: skip
        found.append(_device("breaker", f"LV breaker {frame} A {ka} kA", f"moulded-case low-voltage breaker {frame} A {ka} kA",
                             0.69, frame, ka, "LV moulded-case breaker", "Frames and capacities of IEC 60947-2", **trip))  # fmt: skip
    for frame, ka in _AIR:
        trip = {"sensor_a": float(frame), "plug_a": float(frame), "long_x": 1.0, "long_s": 12.0, "short_x": 6.0,
                "short_s": 0.3, "instantaneous_x": 12.0, "earth_x": 0.3, "earth_s": 0.3}  # fmt: skip
        found.append(_device("breaker", f"LV air breaker {frame} A {ka} kA", f"air low-voltage breaker {frame} A {ka} kA",
                             0.69, frame, ka, "LV air breaker", "Frames and capacities of IEC 60947-2", **trip))  # fmt: skip
    found += [
        _device("fuse", f"LV fuse gG {a} A", f"low-voltage fuse gG {a} A 100 kA", 0.5, a, 100, "LV fuse gG",
                "Rated currents of IEC 60269-1, class gG", fuse_a=float(a))
        for a in _FUSES
    ]  # fmt: skip
    return found


def _higher_voltage() -> list[EquipmentType]:
    found = [
        _device("fuse", f"HV fuse {a:g} A {kv:g} kV", f"high-voltage back-up fuse {a:g} A {kv:g} kV 31.5 kA", kv, a, 31.5,
                f"HV fuse {kv:g} kV", "Rated currents of IEC 60282-1", fuse_a=float(a))
        for kv in (12.0, 24.0, 36.0) for a in _MV_FUSES
    ]  # fmt: skip
    found += [
        _device("breaker", f"Breaker {kv:g} kV {a} A {ka:g} kA", f"circuit-breaker {kv:g} kV {a} A {ka:g} kA", kv, a, ka,
                f"Breaker {kv:g} kV {ka:g} kA", "Preferred values of IEC 62271-100")
        for kv, capacities in _BREAKERS.items() for ka in capacities for a in (630, 1250, 2000, 2500, 3150)
    ]  # fmt: skip
    found += [
        _device("disconnector", f"Load switch {kv:g} kV {a} A", f"load-break switch {kv:g} kV {a} A", kv, a, 0.63 if a < 700 else 1.25,
                f"Load switch {kv:g} kV", "Preferred values of IEC 62271-103")
        for kv in (12.0, 24.0, 36.0) for a in (400, 630, 1250)
    ]  # fmt: skip
    return found


def _build() -> list[EquipmentType]:
    return _low_voltage() + _higher_voltage()


family(
    Family("switch", "Switchgear", "Switchgear with ratings, breaking capacity and trip unit",
           ("device", "rated_kv", "rating_a", "breaking_ka"), _build)
)  # fmt: skip
