"""Corvane Coast: the invented region that the demonstration, the examples and the pictures use.

A 132 kV ring between Ambry (bulk supply from the north), Lowmere, Quillport and Thessel Head
(pumped hydro), a wind farm at Gannet Down, 33 kV to the towns, 11 kV feeders and one street of
400 V. Its troubles are planted so that a load flow has something to find:

* T-Q1 carries more than its share beside T-Q2 (lower impedance, smaller rating): overloaded on a winter evening;
* Saltern F2 is long and rural: low volts at Heron End;
* losing Ambry - Lowmere sends the region's supply through Thessel Head - Quillport, which is too weak for it;
* Lantern Row looks well within its limits as long as its phases are taken for equal. Phase by phase its first cable and the
  neutral in it are overloaded and its voltages low on a winter evening, too high at a sunny noon, as most of its homes hang
  on one phase and most of its roofs on another.

``network()`` gives the network; run as a script it writes the document to a file.
"""

from __future__ import annotations

import hashlib
import runpy
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np

from vastmesh.core.catalogue import typical_transformer
from vastmesh.core.layout import place
from vastmesh.core.network import Add, Network, Update
from vastmesh.core.network.elements.profile import pack

TITLE = "Corvane Coast"
_GEOGRAPHY = runpy.run_path(str(Path(__file__).with_name("geography.py")))
Item = dict[str, Any]

AL_11, WEAK_11 = "Alloy 120 11 kV overhead", "Alloy 50 11 kV overhead"
CABLE_11, HEAVY_11 = "Al 1×185 XLPE 11 kV cable", "Al 1×300 XLPE 11 kV cable"


def bus(ident: str, kv: float, at: tuple[float, float] | None = None, *, bar: float = 160, **more: Any) -> Item:
    place_ = {"x": at[0], "y": at[1], "bar": bar} if at else {}
    return {"kind": "bus", "id": ident, "nominal_kv": kv, **place_, **more}


def line(ident: str, frm: str, to: str, km: float, type_: str, **more: Any) -> Item:
    return {"kind": "line", "id": ident, "from_bus": frm, "to_bus": to, "length_km": km, "type": type_, **more}


def transformer(ident: str, hv: tuple[str, float], lv: tuple[str, float], mva: float, **more: Any) -> Item:
    data = typical_transformer(mva, hv[1], lv[1])
    typical = dict.fromkeys((f for f in data if f not in more), "typical")
    item = {"kind": "transformer", "id": ident, "hv_bus": hv[0], "lv_bus": lv[0], "rated_mva": mva}
    return {**item, **data, **more, "origins": typical}


def load(ident: str, at: str, mw: float, class_: str, *, pf: float = 0.96, customers: int = 1, **more: Any) -> Item:
    return {
        "kind": "load", "id": ident, "bus": at, "active_power_mw": mw, "power_factor": pf, "demand_class": class_,
        "customers": customers, **more,
    }  # fmt: skip


def generator(ident: str, at: str, mw: float, energy: str, **more: Any) -> Item:
    return {"kind": "generator", "id": ident, "bus": at, "active_power_mw": mw, "energy": energy, **more}


def groups() -> list[Item]:
    areas = {"north": "North", "middle": "Middle", "quillport": "Quillport"}
    sites = {
        "Ambry": "north", "Thessel Head": "north", "Fennick": "north", "Lowmere": "middle", "Gannet Down": "middle",
        "Saltern": "middle", "Marrow Bridge": "middle", "Quillport": "quillport", "Kesterby": "quillport",
        "Harbour": "quillport",
    }  # fmt: skip
    return [{"kind": "area", "id": i, "name": n} for i, n in areas.items()] + [
        {"kind": "substation", "id": f"sub-{s.lower().replace(' ', '-')}", "name": s, "area": a}
        for s, a in sites.items()
    ]


def transmission() -> list[Item]:
    """The 132 kV ring with its stations and the wind farm."""
    north, middle, quillport = {"area": "north"}, {"area": "middle"}, {"area": "quillport"}
    ambry = {**north, "substation": "sub-ambry"}
    lowmere, port = {**middle, "substation": "sub-lowmere"}, {**quillport, "substation": "sub-quillport"}
    gannet = {**middle, "substation": "sub-gannet-down"}
    thessel = {**north, "substation": "sub-thessel-head"}
    # T-Q1 and T-Q2 stand side by side, but T-Q1 has the lower impedance and takes more than its share.
    return [
        bus("Ambry 132", 132, (420, 200), bar=220, **ambry),
        bus("Lowmere 132", 132, (1600, 200), bar=300, **lowmere),
        bus("Quillport 132", 132, (2860, 200), bar=300, **port),
        bus("Thessel Head 132", 132, (1600, 30), bar=180, **thessel),
        bus("Thessel Head 13.8", 13.8, (1600, -100), bar=80, **thessel),
        bus("Gannet Down 132", 132, (930, 330), bar=120, **gannet),
        bus("Gannet Down 33", 33, (930, 460), bar=80, **gannet),
        bus("Ambry 33", 33, (330, 380), bar=200, **ambry),
        bus("Lowmere 33", 33, (1600, 380), bar=300, **lowmere),
        bus("Quillport 33 A", 33, (2740, 380), bar=180, **port),
        bus("Quillport 33 B", 33, (3060, 380), bar=180, **port),
        {"kind": "source", "id": "Bulk supply", "bus": "Ambry 132", "voltage_pu": 1.025, "fault_max_mva": 5500,
         "fault_min_mva": 4200, "x_over_r": 12, "cost_per_mwh": 34.0},
        line("Ambry - Lowmere", "Ambry 132", "Lowmere 132", 38, "Al/St 300 132 kV overhead"),
        line("Lowmere - Quillport", "Lowmere 132", "Quillport 132", 31, "Al/St 300 132 kV overhead"),
        line("Ambry - Thessel Head", "Ambry 132", "Thessel Head 132", 44, "Alloy 175 132 kV overhead"),
        line("Thessel Head - Quillport", "Thessel Head 132", "Quillport 132", 36, "Alloy 175 132 kV overhead"),
        line("Gannet Down - Lowmere", "Gannet Down 132", "Lowmere 132", 12, "Alloy 175 132 kV overhead"),
        transformer("T-TH", ("Thessel Head 132", 132), ("Thessel Head 13.8", 13.8), 80),
        generator("Thessel Head hydro", "Thessel Head 13.8", 40, "hydro", rated_mva=75, control="voltage",
                  voltage_pu=1.01, q_min_mvar=-25, q_max_mvar=35, cost_per_mwh=56.0, least_mw=-70, energy_mwh=320,
                  energy_now_pct=60, round_trip_pct=76, ramp_mw_per_min=8),
        transformer("T-G1", ("Gannet Down 132", 132), ("Gannet Down 33", 33), 63, vector_group="YNd11"),
        generator("Gannet Down wind", "Gannet Down 33", 52, "wind", rated_mva=58, control="power_factor",
                  power_factor=0.99, cost_per_mwh=0.0, curtailment_cost=8.0),
        transformer("T-A1", ("Ambry 132", 132), ("Ambry 33", 33), 40, tap_position=0),
        transformer("T-L1", ("Lowmere 132", 132), ("Lowmere 33", 33), 40, tap_position=-2),
        transformer("T-L2", ("Lowmere 132", 132), ("Lowmere 33", 33), 40, tap_position=-2),
        transformer("T-Q1", ("Quillport 132", 132), ("Quillport 33 A", 33), 40, impedance_pct=10.0, tap_position=-4,
                    emergency_mva=50, iron_loss_kw=24),
        transformer("T-Q2", ("Quillport 132", 132), ("Quillport 33 B", 33), 45, impedance_pct=16.0, tap_position=-4),
        {"kind": "switch", "id": "Quillport coupler", "from_bus": "Quillport 33 A", "to_bus": "Quillport 33 B",
         "device": "breaker", "rating_a": 1250},
        load("Ambry town", "Ambry 33", 14, "domestic", customers=6100),
        load("Lowmere town", "Lowmere 33", 24, "commercial", customers=8900),
        load("Quillport docks", "Quillport 33 A", 25, "industrial", pf=0.92, customers=14),
        load("Quillport town", "Quillport 33 B", 24, "domestic", customers=11800),
        {"kind": "shunt", "id": "Quillport capacitors", "bus": "Quillport 33 B", "step_mvar": 4, "steps": 3,
         "steps_on": 1},
    ]  # fmt: skip


def town(name: str, area: str, supply: str, km: float, at: tuple[float, float], mva: float, tap: int) -> list[Item]:
    """A 33/11 kV station with its 33 kV line."""
    site = {"area": area, "substation": f"sub-{name.lower().replace(' ', '-')}"}
    x, y = at
    return [
        bus(f"{name} 33", 33, (x, y - 130), bar=80, **site),
        bus(f"{name} 11", 11, (x, y), bar=160, **site),
        line(f"33 kV to {name}", supply, f"{name} 33", km, "Al/St 150 33 kV overhead"),
        transformer(
            f"T-{name}",
            (f"{name} 33", 33),
            (f"{name} 11", 11),
            mva,
            tap_position=tap,
            vector_group="Dyn11",
            regulates=True,
            target_pu=1.01,
            band_pct=3.0,
        ),
    ]


def feeder(
    name: str, area: str, head: str, type_: str, sections: Iterable[tuple[str, str, float, float, str]]
) -> list[Item]:
    """An 11 kV feeder: (node, fed from, km, MW, class) for every section; "" is the node before."""
    items, before = [], head
    for number, (node, parent, km, mw, class_) in enumerate(sections, 1):
        frm = parent or before
        items.append(bus(node, 11, area=area))
        weak = type_ == AL_11 and parent not in ("", head)  # laterals of overhead feeders are lighter
        items.append(line(f"{name}-{number:02d}", frm, node, km, WEAK_11 if weak else type_))
        if mw:
            pf = {"industrial": 0.9, "farming": 0.93, "charging": 0.99}.get(class_, 0.96)
            items.append(load(f"{node} demand", node, mw, class_, pf=pf, customers=max(1, round(mw * 420))))
        before = node
    return items


def feeders() -> list[Item]:
    dom, com, ind, farm, charge = "domestic", "commercial", "industrial", "farming", "charging"
    saltern_f2 = feeder("Saltern F2", "middle", "Saltern 11", AL_11, [
        ("Mill Lane", "Saltern 11", 1.1, 0.33, dom), ("Brack Cross", "", 1.4, 0.28, dom),
        ("Sluice Farm", "Brack Cross", 0.9, 0.13, farm), ("Reed Hatch", "Sluice Farm", 1.1, 0.11, farm),
        ("Long Moor", "Brack Cross", 1.6, 0.24, farm), ("Stone Beck", "Long Moor", 1.3, 0.29, dom),
        ("Tarn Side", "Stone Beck", 0.8, 0.11, farm), ("Tollgate", "Stone Beck", 1.5, 0.45, dom),
        ("Gorse Hill", "Tollgate", 1.2, 0.16, farm), ("Wick Farm", "Tollgate", 1.7, 0.33, farm),
        ("Curlew Bank", "Wick Farm", 1.5, 0.18, dom), ("Peat Works", "Curlew Bank", 1.8, 0.27, ind),
        ("Heron End", "Peat Works", 2.1, 0.32, dom),
    ])  # fmt: skip
    # The main path is built of the heavier conductor although the list names its parents.
    trunk = {"Long Moor", "Stone Beck", "Tollgate", "Wick Farm", "Curlew Bank", "Peat Works", "Heron End"}
    for item in saltern_f2:
        if item["kind"] == "line" and item["to_bus"] in trunk:
            item["type"] = AL_11
    return [
        *feeder("Saltern F1", "middle", "Saltern 11", CABLE_11, [
            ("Salt Quay", "Saltern 11", 0.6, 0.6, com), ("Rope Walk", "", 0.5, 0.55, dom), ("Chandlers", "", 0.4, 0.5, com),
            ("Beacon Street", "", 0.5, 0.6, dom), ("Gull Terrace", "Rope Walk", 0.6, 0.45, dom),
            ("Tide Mill", "Gull Terrace", 0.7, 0.4, com), ("Lantern Row 11", "Beacon Street", 0.5, 0.0, dom),
        ]),
        *saltern_f2,
        *feeder("Marrow F1", "middle", "Marrow Bridge 11", AL_11, [
            ("Bridge Foot", "Marrow Bridge 11", 0.8, 0.6, com), ("Tanner's Yard", "", 0.7, 0.5, ind), ("Alder Carr", "", 1.2, 0.35, dom),
            ("Ford House", "Tanner's Yard", 0.9, 0.3, farm), ("Oxlow", "Alder Carr", 1.4, 0.4, dom), ("Upper Oxlow", "", 1.1, 0.25, farm),
            ("Weir Cottages", "Alder Carr", 0.8, 0.2, dom), ("Moor End", "Upper Oxlow", 1.9, 0.2, farm),
        ]),
        *feeder("Marrow F2", "middle", "Marrow Bridge 11", CABLE_11, [
            ("Market Square", "Marrow Bridge 11", 0.5, 0.9, com), ("Corn Exchange", "", 0.4, 0.8, com), ("Abbey Close", "", 0.5, 0.6, dom),
            ("Station Road", "", 0.6, 0.7, dom), ("Dye Works", "Corn Exchange", 0.7, 1.1, ind), ("Park View", "Station Road", 0.5, 0.5, dom),
        ]),
        *feeder("Fennick F1", "north", "Fennick 11", AL_11, [
            ("Fen Causeway", "Fennick 11", 0.9, 0.5, dom), ("Drove End", "", 1.3, 0.3, farm), ("Pump House", "", 1.1, 0.45, farm),
            ("Black Drain", "Drove End", 1.5, 0.2, farm), ("Holm Fields", "Pump House", 1.6, 0.3, dom), ("Eel Bridge", "", 1.0, 0.25, farm),
        ]),
        *feeder("Fennick F2", "north", "Fennick 11", CABLE_11, [
            ("Fennick Cross", "Fennick 11", 0.5, 0.8, com), ("School Lane", "", 0.4, 0.5, dom), ("Brewery", "", 0.5, 1.0, ind),
            ("Orchard Way", "School Lane", 0.6, 0.5, dom), ("Priory", "Brewery", 0.7, 0.4, dom),
        ]),
        *feeder("Kesterby F1", "quillport", "Kesterby 11", HEAVY_11, [
            ("Kester Gate", "Kesterby 11", 0.6, 1.2, com), ("Foundry", "", 0.6, 1.6, ind), ("North Parade", "", 0.5, 0.9, dom),
            ("Infirmary", "North Parade", 0.5, 1.0, com), ("Hill Rise", "North Parade", 0.7, 0.7, dom), ("Observatory", "", 0.9, 0.3, com),
        ]),
        *feeder("Fennick F3", "north", "Fennick 11", AL_11, [
            ("Gravel Pit", "Fennick 11", 0.8, 0.4, ind), ("Willow Bank", "", 1.1, 0.2, dom), ("Osier Beds", "", 0.9, 0.1, farm),
            ("Lode End", "Willow Bank", 1.2, 0.15, farm), ("Turf Fen", "Osier Beds", 1.3, 0.15, farm),
        ]),
        *feeder("Marrow F3", "middle", "Marrow Bridge 11", AL_11, [
            ("Lock Cottages", "Marrow Bridge 11", 0.9, 0.25, dom), ("Boat Yard", "", 0.8, 0.4, ind), ("Hay Meadow", "", 1.2, 0.12, farm),
            ("Long Reach", "", 1.4, 0.2, dom), ("Swan Inn", "Boat Yard", 0.7, 0.15, com), ("Barley Hill", "Long Reach", 1.5, 0.18, farm),
        ]),
        *feeder("Kesterby F2", "quillport", "Kesterby 11", CABLE_11, [
            ("South Parade", "Kesterby 11", 0.5, 1.0, dom), ("Linden Road", "", 0.6, 0.8, dom), ("Retail Park", "", 0.7, 1.4, com),
            ("Bus Depot", "Linden Road", 0.5, 1.1, charge), ("Quarry", "Retail Park", 1.1, 0.9, ind),
        ]),
        *feeder("Harbour F1", "quillport", "Harbour 11", HEAVY_11, [
            ("Fish Dock", "Harbour 11", 0.4, 0.7, com), ("Cold Store", "", 0.5, 1.9, ind), ("Ice House", "", 0.3, 0.6, ind),
            ("Ferry Terminal", "Fish Dock", 0.6, 0.8, com), ("Shore Berth 1", "Ferry Terminal", 0.3, 1.2, charge),
            ("Shore Berth 2", "Ferry Terminal", 0.4, 1.2, charge),
        ]),
        *feeder("Harbour F2", "quillport", "Harbour 11", CABLE_11, [
            ("Customs House", "Harbour 11", 0.4, 0.9, com), ("Net Lofts", "", 0.4, 0.6, dom), ("Quay Flats", "", 0.4, 0.7, dom),
            ("Sail Street", "", 0.5, 0.6, dom), ("Lifeboat", "Quay Flats", 0.5, 0.3, com), ("Mole", "Lifeboat", 0.6, 0.2, com),
        ]),
        # Normally open points between neighbouring feeders.
        tie("Tie Moor End", "Moor End", "Peat Works"),
        tie("Tie Tide Mill", "Tide Mill", "Park View"),
        tie("Tie Sail Street", "Sail Street", "Quarry"),
    ]  # fmt: skip


def cold_store() -> list[Item]:
    """The cold store at Kesterby: two six-pulse groups, one behind a star-delta unit so that their fifths meet half-way, and
    the bank at the station that brings the network near the fifth when little else damps it."""
    feeding = {"rated_mva": 2.5, "hv_kv": 11, "lv_kv": 0.69, "impedance_pct": 6, "x_over_r": 8, "tap_step_pct": 2.5, "tap_min": -2,
               "tap_max": 2}  # fmt: skip
    return [
        bus("Kesterby Cold Store", 11, area="quillport"), line("Kesterby F3-01", "Kesterby 11", "Kesterby Cold Store", 0.4, CABLE_11),
        bus("Cold Store drives A", 0.69, area="quillport"), bus("Cold Store drives B", 0.69, area="quillport"),
        {"kind": "transformer", "id": "T-drives A", "hv_bus": "Kesterby Cold Store", "lv_bus": "Cold Store drives A",
         "vector_group": "Dd0", **feeding},
        {"kind": "transformer", "id": "T-drives B", "hv_bus": "Kesterby Cold Store", "lv_bus": "Cold Store drives B",
         "vector_group": "Yd11", **feeding},
        load("Compressors A", "Cold Store drives A", 1.05, "cooling", pf=0.94),
        load("Compressors B", "Cold Store drives B", 0.4, "cooling", pf=0.94),
        {"kind": "shunt", "id": "Kesterby bank", "bus": "Kesterby 11", "step_mvar": 0.95, "steps": 4, "steps_on": 1},
    ]  # fmt: skip


def tie(ident: str, frm: str, to: str) -> Item:
    return {"kind": "switch", "id": ident, "from_bus": frm, "to_bus": to, "device": "disconnector", "closed": False}


# Homes of Lantern Row by bus and phase: most were connected to A, nearest to the ladder.
HOMES = {
    "LR 1": "ABAC", "LR 2": "ACAB", "LR 3": "ABCA", "LR 4": "ABAC", "LR 5": "ABA", "LR 6": "BAA", "LR 7": "AA",
    "Lamp Court 1": "CBA", "Lamp Court 2": "BCA", "Wick Yard 1": "ABC", "Wick Yard 2": "AB", "Wick Yard 3": "A",
    "Crescent 1": "AA", "Crescent 2": "AA", "Crescent 3": "AA",
}  # fmt: skip
ROOFS = {"LR 3": "B", "LR 6": "C", "LR 7": "C", "Wick Yard 2": "C", "Wick Yard 3": "C", "LR 5": "C"}
CHARGERS = {"LR 1": "B", "LR 2": "C", "LR 3": "B", "LR 5": "C", "LR 6": "A", "LR 7": "A", "Lamp Court 2": "A",
            "Wick Yard 1": "B", "Crescent 3": "A"}  # fmt: skip


def lantern_row() -> list[Item]:
    """The 400 V street: a cable main, two overhead spurs and a crescent on a two-wire lateral, most of it on one phase."""
    main, cable, spur = "Al 4×240 XLPE 0.4 kV cable", "Al 4×95 XLPE 0.4 kV cable", "Alloy 50 0.4 kV overhead"
    old = "Al 4×185 XLPE 0.4 kV cable"  # the first length is what was laid for a shorter street
    sections = [
        ("LR 1", "Lantern Row 0.4", 0.06, old), ("LR 2", "LR 1", 0.05, main), ("LR 3", "LR 2", 0.05, main),
        ("LR 4", "LR 3", 0.05, cable), ("LR 5", "LR 4", 0.05, cable), ("LR 6", "LR 5", 0.06, cable),
        ("Lamp Court 1", "LR 2", 0.04, spur), ("Lamp Court 2", "Lamp Court 1", 0.04, spur), ("Wick Yard 1", "LR 4", 0.05, spur),
        ("Wick Yard 2", "Wick Yard 1", 0.04, spur), ("Wick Yard 3", "Wick Yard 2", 0.03, spur), ("LR 7", "LR 6", 0.04, cable),
    ]  # fmt: skip
    items = [
        bus("Lantern Row 0.4", 0.4, area="middle", conductors="ABCN"),
        transformer("T-Lantern Row", ("Lantern Row 11", 11), ("Lantern Row 0.4", 0.4), 0.315, tap_position=-1),
    ]
    for number, (node, frm, km, type_) in enumerate(sections, 1):
        # The neutral of the old length is a size smaller than its phases.
        small = {"neutral_r_ohm_per_km": 0.32, "neutral_rating_a": 185.0} if type_ is old else {}
        items += [
            bus(node, 0.4, area="middle", conductors="ABCN"),
            line(f"LR main-{number:02d}", frm, node, km, type_, conductors="ABCN", **small),
        ]
    for number, (node, frm, km) in enumerate([("Crescent 1", "LR 3", 0.04), ("Crescent 2", "Crescent 1", 0.03),
                                              ("Crescent 3", "Crescent 2", 0.03)], 1):  # fmt: skip
        items += [
            bus(node, 0.4, area="middle", conductors="AN"),
            line(f"LR crescent-{number}", frm, node, km, "Al 4×95 XLPE 0.4 kV cable", conductors="AN"),
        ]
    house = 0
    for node, phases in HOMES.items():
        for phase in phases:
            house += 1
            kw = (2.4, 1.6, 2.8, 2.0, 1.8, 2.6)[house % 6]
            items.append(load(f"LR home {house:02d}", node, kw / 1e3, "domestic", pf=0.97, conductors=f"{phase}N"))
    for node, phase in ROOFS.items():
        items.append({
            "kind": "inverter", "id": f"{node} roof", "bus": node, "energy": "solar", "rated_mva": 0.0085,
            "active_power_mw": 0.008, "conductors": f"{phase}N",
        })  # fmt: skip
    for number, (node, phase) in enumerate(CHARGERS.items(), 1):
        kw = (3.7, 4.6, 3.7)[number % 3]
        items.append(load(f"{node} charger", node, kw / 1e3, "charging", pf=0.99, conductors=f"{phase}N"))
    items += [
        {"kind": "load", "id": "Joiner's workshop", "bus": "LR 2", "conductors": "ABCN", "demand_class": "industrial",
         "p_a_mw": 0.0075, "q_a_mvar": 0.003, "p_b_mw": 0.0035, "q_b_mvar": 0.0012, "p_c_mw": 0.002, "q_c_mvar": 0.0008,
         "customers": 1},
        load("Borehole pump", "LR 5", 0.0045, "farming", pf=0.84, conductors="AB"),
        load("Welding set", "LR 1", 0.005, "industrial", pf=0.7, conductors="AC"),
        {"kind": "electrode", "id": "Rod Lantern Row", "bus": "Lantern Row 0.4", "resistance_ohm": 4.0},
        {"kind": "electrode", "id": "Rod LR 7", "bus": "LR 7", "resistance_ohm": 18.0},
        {"kind": "electrode", "id": "Rod Wick Yard", "bus": "Wick Yard 3", "resistance_ohm": 25.0},
    ]  # fmt: skip
    return items


def rules() -> list[Item]:
    def condition(ident: str, name: str, demand: float, classes: dict[str, float], energies: dict[str, float],
                  values: dict[str, dict[str, Any]] | None = None, states: dict[str, str] | None = None) -> Item:  # fmt: skip
        return {
            "kind": "condition", "id": ident, "name": name, "demand_factor": demand, "class_factors": classes,
            "energy_factors": energies, **({"values": values} if values else {}), **({"states": states} if states else {}),
        }  # fmt: skip

    def limits(ident: str, name: str, above: float, to: float, *values: float) -> Item:
        keys = ("low_breach_pu", "low_watch_pu", "high_watch_pu", "high_breach_pu")
        return {"kind": "voltage_limits", "id": ident, "name": name, "above_kv": above, "up_to_kv": to,
                **dict(zip(keys, values, strict=True))}  # fmt: skip

    return [
        condition("winter-evening", "Winter evening", 1.0, {}, {"solar": 0.0, "wind": 0.35}),
        condition(
            "summer-noon",
            "Summer noon",
            0.45,
            {"farming": 1.4, "charging": 0.5, "cooling": 2.2},
            {"solar": 1.0, "wind": 0.3},
            {"Kesterby bank": {"steps_on": 4}},
        ),
        condition("autumn-night", "Windy autumn night", 0.35, {"charging": 1.6}, {"solar": 0.0, "wind": 1.0}),
        # It pays to pump by night, and with this line out the one to Thessel Head is too weak for the cheapest dispatch.
        condition(
            "tower-work", "Tower work, night", 0.7, {}, {"solar": 0.0, "wind": 0.35}, states={"Ambry - Lowmere": "out"}
        ),
        limits("limits-lv", "Low voltage", 0, 1, 0.90, 0.93, 1.08, 1.10),
        limits("limits-mv", "Medium voltage", 1, 45, 0.94, 0.95, 1.05, 1.06),
        limits("limits-hv", "High voltage", 45, 300, 0.90, 0.95, 1.08, 1.10),
        {
            **limits("limits-mv-short", "Medium voltage, for a limited time", 1, 45, 0.90, 0.92, 1.07, 1.10),
            "limit_set": "emergency",
        },
        {"kind": "outage_rule", "id": "any-branch", "name": "Any branch from 33 kV", "of": "branches", "from_kv": 30.0},
        {
            "kind": "outage_rule",
            "id": "any-plant",
            "name": "Any plant of 5 MW and more",
            "of": "plants",
            "from_mw": 5.0,
        },
        {"kind": "outage_rule", "id": "any-busbar", "name": "Any 132 kV busbar", "of": "busbars", "from_kv": 100.0},
        # Both stand in one building.
        {"kind": "outage", "id": "fire-at-quillport", "name": "Fire at Quillport", "members": ["T-Q1", "T-Q2"]},
        {"kind": "settings", "id": "settings", "name": "Corvane Coast", "condition": "winter-evening"},
    ]


_YEAR_H = 8760


def profiles() -> list[Item]:
    """A made-up year by the hour, from 1 January 2025: demand by class, wind and sun; the evening of 17 January is the hardest."""
    dice = np.random.default_rng(20250117)
    hour = np.arange(_YEAR_H)
    day, of_day = hour // 24, hour % 24
    weekend = ((day + 2) % 7) >= 5  # 1 January 2025 is a Wednesday
    cold = 0.5 + 0.5 * np.cos(2 * np.pi * (day - 16) / 365)  # 1 in mid January, 0 in mid July
    weather = np.repeat(_wander(dice, _YEAR_H // 24, 0.75), 24)

    def bump(at: float, wide: float) -> np.ndarray:
        off = np.minimum(np.abs(of_day - at), 24 - np.abs(of_day - at))
        return np.asarray(np.exp(-((off / wide) ** 2)))

    noise = 1 + 0.02 * dice.standard_normal(_YEAR_H)
    home = (
        (0.28 + 0.22 * bump(7.5, 1.8) + 0.5 * bump(18.5, 2.6))
        * (0.72 + 0.28 * cold + 0.04 * weather)
        * (1 + 0.05 * weekend)
        * noise
    )
    shop = (0.25 + 0.7 * bump(13, 4.5)) * np.where(weekend, 0.6, 1.0) * (0.85 + 0.15 * cold) * noise
    work = (0.45 + 0.5 * bump(12, 4.5)) * np.where(weekend, 0.55, 1.0) * noise
    farm = (0.35 + 0.35 * bump(6, 2) + 0.4 * bump(17, 2.5)) * (1.25 - 0.35 * cold) * noise
    cars = (0.15 + 0.85 * bump(20, 3)) * (0.9 + 0.1 * cold) * noise
    cool = (0.45 + 0.2 * bump(15, 4)) * (1.9 - 1.0 * cold) * noise
    wind = np.clip(0.42 + 0.12 * cold + 0.33 * _wander(dice, _YEAR_H, 0.97) - 0.05 * bump(14, 4), 0, 1)
    light = np.where(
        np.abs(of_day + 0.5 - 12) < 8.2 - 3.8 * cold, np.cos((of_day + 0.5 - 12) / (8.2 - 3.8 * cold) * np.pi / 2), 0.0
    )
    clouds = np.clip(0.72 + 0.3 * np.repeat(_wander(dice, _YEAR_H // 24, 0.5), 24), 0.15, 1.0)
    sun = np.clip(light * clouds * (1.0 - 0.45 * cold), 0, 1)
    hardest = (day == 16) & (of_day >= 17) & (of_day <= 20)
    home, cars = np.where(hardest, 1.0, np.minimum(home, 0.97)), np.where(hardest, 1.0, np.minimum(cars, 0.97))
    shop, work = np.where(hardest, np.maximum(shop, 0.9), shop), np.where(hardest, np.maximum(work, 0.95), work)
    wind, sun = np.where(hardest, 0.3, wind), np.where(hardest, 0.0, sun)
    figures = {
        ("class", "domestic"): home, ("class", "commercial"): shop, ("class", "industrial"): work, ("class", "farming"): farm,
        ("class", "charging"): cars, ("class", "cooling"): cool, ("energy", "wind"): wind, ("energy", "solar"): sun,
    }  # fmt: skip
    return [
        {"kind": "profile", "id": f"profile-{key}", "name": f"{key.capitalize()}, a year", "scales": scales, "key": key,
         "begins": "2025-01-01T00:00", "step_min": 60, "packed": pack(np.round(np.maximum(values, 0), 3).tolist())}
        for (scales, key), values in figures.items()
    ]  # fmt: skip


def _wander(dice: np.random.Generator, count: int, keeps: float) -> np.ndarray:
    """A walk that comes back to zero, of about the size of one."""
    found, now = np.empty(count), 0.0
    for n, step in enumerate(dice.standard_normal(count) * np.sqrt(1 - keeps**2)):
        now = keeps * now + step
        found[n] = now
    return found


def plans() -> list[Item]:
    """What ten years of growth ask for, and three ways to go about it."""

    def scheme(ident: str, name: str, cost: float, year: int, yearly: float, *changes: Item, **more: Any) -> Item:
        return {
            "kind": "scheme", "id": ident, "name": name, "cost_k": cost, "year": year, "yearly_cost_k": yearly,
            "changes": [{"change": c, "label": name} for c in changes], **more,
        }  # fmt: skip

    def update(ident: str, **values: Any) -> Item:
        return {"op": "update", "id": ident, "values": values}

    def add(item: Item, ident: str, **more: Any) -> Item:
        return {"op": "add", "item": {**item, "id": ident, "name": ident, **more}}

    def plan(ident: str, name: str, *steps: tuple[str, int]) -> Item:
        return {"kind": "plan", "id": ident, "name": name, "steps": [{"scheme": s, "year": y} for s, y in steps]}

    there = {i["id"]: i for i in town("Kesterby", "quillport", "Quillport 33 B", 5, (3460, 660), 16, -2)}
    capacitor = {
        "kind": "shunt",
        "bus": "Wick Farm",
        "device": "capacitor",
        "step_mvar": 0.6,
        "steps": 2,
        "steps_on": 2,
    }
    return [
        scheme("larger-tq1", "T-Q1 of 63 MVA", 1_600, 2027, 6, update("T-Q1", rated_mva=63.0, impedance_pct=16.0)),
        scheme("winter-switching", "Switched for winter", 5, 2026, 1, update("Quillport coupler", closed=False),
               update("Quillport capacitors", steps_on=2), update("Tie Moor End", closed=True)),
        scheme("saltern-volts", "Saltern F2 holds its voltage", 95, 2026, 1, add(capacitor, "Wick Farm capacitor")),
        scheme("saltern-remote", "Saltern F2 by remote control", 60, 2026, 2, update("Saltern F2-08", from_gear="recloser"),
               update("Saltern F2-05", from_gear="remote"), update("Tie Moor End", operated="remote")),
        scheme("kesterby-second", "Second way to Kesterby", 1_450, 2030, 8, add(there["33 kV to Kesterby"], "33 kV to Kesterby 2"),
               add(there["T-Kesterby"], "T-Kesterby 2"), update("Kesterby F2-01", parallel=2)),
        scheme("harbour-cable", "Stronger Harbour", 420, 2030, 3, update("Harbour F1-01", parallel=2),
               update("T-Harbour", rated_mva=20.0), needs="larger-tq1"),
        plan("plan-least", "Spend least", ("saltern-volts", 2026), ("larger-tq1", 2030)),
        plan("plan-quillport", "Quillport first", ("larger-tq1", 2026), ("kesterby-second", 2028), ("harbour-cable", 2030)),
        plan("plan-whole", "Everybody", ("saltern-remote", 2026), ("saltern-volts", 2026), ("larger-tq1", 2026),
             ("kesterby-second", 2030), ("harbour-cable", 2030)),
    ]  # fmt: skip


def schemes() -> list[Item]:
    """Two ways to survive the loss of Ambry - Lowmere; neither is on."""
    twin = next(i for i in transmission() if i["id"] == "Ambry - Lowmere")
    turbine = {
        "kind": "generator", "id": "Lowmere turbine", "name": "Lowmere turbine", "bus": "Lowmere 33", "active_power_mw": 40.0,
        "rated_mva": 50.0, "energy": "thermal", "control": "voltage", "voltage_pu": 1.0,
    }  # fmt: skip
    second = {**twin, "id": "Ambry - Lowmere 2", "name": "Ambry - Lowmere 2"}
    return [
        {"kind": "scheme", "id": ident, "name": name, "cost_k": cost, "changes": [{"change": {"op": "add", "item": item}, "label": name}]}
        for ident, name, cost, item in (
            ("second-line", "Second line Ambry - Lowmere", 11_000, second), ("turbine-runs", "Turbine at Lowmere runs", 900, turbine),
        )
    ]  # fmt: skip


def items() -> list[Item]:
    return [
        *groups(),
        *transmission(),
        *town("Fennick", "north", "Ambry 33", 9, (240, 660), 10, -2),
        *town("Saltern", "middle", "Lowmere 33", 11, (880, 660), 12.5, -5),
        *town("Marrow Bridge", "middle", "Lowmere 33", 8, (2190, 660), 12.5, -4),
        *town("Harbour", "quillport", "Quillport 33 A", 4, (2900, 660), 16, -1),
        *(
            # It crosses the harbour road low: what it may carry ends with its sag.
            i | ({"rating_a": 265.0} if i["id"] == "33 kV to Kesterby" else {})
            for i in town("Kesterby", "quillport", "Quillport 33 B", 5, (3460, 660), 16, -2)
        ),
        *feeders(),
        *cold_store(),
        *lantern_row(),
        *rules(),
        *profiles(),
        *schemes(),
        *plans(),
    ]  # fmt: skip


# What distorts the current: drives at the cold store and the works, converters, electronics.
SPECTRA = {
    "Compressors A": "Six-pulse rectifier, controlled", "Compressors B": "Six-pulse rectifier, controlled",
    "Cold Store demand": "Six-pulse drive with choke", "Ice House demand": "Six-pulse drive with choke",
    "Foundry demand": "Twelve-pulse drive", "Quarry demand": "Six-pulse drive with choke",
    "Bus Depot demand": "Fast charger, three-phase", "Shore Berth 1 demand": "Shore converter",
    "Shore Berth 2 demand": "Shore converter", "Retail Park demand": "LED lighting",
}  # fmt: skip


# What stands at the from end of a line beyond the breaker at its head: where feeders come apart.
GEAR = {
    # Saltern F2 has next to nothing: one disconnector half way, and a tie that cannot carry all of it. Heron End waits longest.
    "Saltern F2-08": "disconnector", "Saltern F2-03": "fuse",
    "Saltern F1-03": "disconnector", "Saltern F1-05": "remote", "Marrow F1-03": "disconnector", "Marrow F1-06": "disconnector",
    "Marrow F1-04": "fuse", "Marrow F1-07": "fuse", "Marrow F2-03": "remote", "Marrow F2-04": "disconnector",
    "Marrow F2-05": "fuse", "Fennick F1-02": "disconnector", "Fennick F1-05": "recloser", "Fennick F1-04": "fuse",
    "Fennick F2-03": "disconnector", "Fennick F2-04": "fuse", "Kesterby F1-02": "disconnector", "Kesterby F1-03": "disconnector",
    "Fennick F3-03": "disconnector", "Fennick F3-04": "fuse", "Marrow F3-03": "disconnector", "Marrow F3-05": "fuse",
    "Kesterby F2-03": "remote", "Kesterby F2-04": "disconnector", "Kesterby F2-05": "disconnector",
    "Harbour F1-02": "disconnector", "Harbour F1-04": "disconnector", "Harbour F2-03": "disconnector",
    "Harbour F2-04": "disconnector",
}  # fmt: skip
INDICATED = {"Marrow F2-02", "Kesterby F1-04", "Harbour F1-01"}


def with_failures(found: list[Item]) -> list[Item]:
    """Gear, spares and exposed lines; what is not said here is typical of its kind."""

    def of(item: Item) -> Item:
        more: Item = {}
        if item["id"] in GEAR:
            more["from_gear"] = GEAR[item["id"]]
        if item["id"] in INDICATED:
            more["indicator"] = True
        if item["kind"] == "transformer" and item.get("rated_mva", 0) >= 10:
            more["replace_h"] = 36.0  # a mobile unit stands at Lowmere
        if item["id"] == "Bulk supply":
            more |= {"failure_rate": 0.1, "repair_h": 1.5}
        if item["id"].startswith("Saltern F2-"):
            more |= {"failure_rate": 0.11, "temporary_rate": 0.35, "repair_h": 5.5}  # along the shore, through woods
        if item["id"] == "Tie Tide Mill":
            more["operated"] = "remote"
        if item["kind"] == "load" and item["id"] == "Infirmary demand":
            more["priority"] = 1
        if item["id"] in ("33 kV to Saltern", "33 kV to Fennick"):
            more |= {"maintenance_rate": 0.5, "maintenance_h": 6.0}
        return {**item, **more}

    def cost(class_: str, *values: float) -> Item:
        fields = dict(zip(("minute", "twenty", "hour", "four", "eight", "day"), values, strict=True))
        return {"kind": "interruption_cost", "id": f"cost-{class_}", "name": f"Interruptions, {class_}",
                "demand_class": class_, **fields}  # fmt: skip

    def growth(ident: str, name: str, **more: Any) -> Item:
        return {"kind": "growth", "id": ident, "name": name, "from_year": 2026, **more}

    return [
        *map(of, found),
        cost("domestic", 0.0, 0.3, 1.5, 8.0, 18.0, 55.0), cost("commercial", 1.5, 6.0, 16.0, 58.0, 115.0, 210.0),
        cost("industrial", 3.5, 8.0, 18.0, 55.0, 105.0, 190.0), cost("farming", 0.1, 0.6, 2.0, 9.0, 22.0, 70.0),
        cost("charging", 0.1, 0.5, 1.5, 6.0, 12.0, 30.0), cost("cooling", 0.5, 2.0, 8.0, 45.0, 120.0, 300.0),
        {"kind": "common_failure", "id": "fire-quillport-common", "name": "Fire at Quillport", "members": ["T-Q1", "T-Q2"],
         "failure_rate": 0.002, "repair_h": 72.0},
        growth("growth-homes", "Homes and heat pumps", demand_class="domestic", pct_per_year=1.8),
        growth("growth-shops", "Shops", demand_class="commercial", pct_per_year=0.8),
        growth("growth-cars", "Charging", demand_class="charging", shape="s_curve", end_pct=320.0, half_year=2031,
               takes_years=7.0),
        growth("growth-middle", "New homes in the middle", area="middle", pct_per_year=1.2),
    ]  # fmt: skip


def with_spectra(found: list[Item]) -> list[Item]:
    def of(item: Item) -> str | None:
        if item["kind"] == "inverter":
            return "Solar inverter, three-phase"
        if item["kind"] == "load" and item["id"].endswith(" charger"):
            return "Car charger, single-phase"
        return SPECTRA.get(item["id"])

    return [{**i, "spectrum": name} if (name := of(i)) else i for i in found]


def network() -> Network:
    """The whole region, laid out."""
    net = Network.from_items(with_failures(with_spectra(items())))
    net.apply(place(net))
    # The street is long: a row lower it passes below the feeders of Marrow Bridge.
    own = [net[i["id"]] for i in lantern_row() if i["kind"] == "bus" and i["id"] != "Lantern Row 0.4"]
    net.apply([Update(id=b.id, values={"y": b.y + 100}) for b in own])  # type: ignore[attr-defined]
    net.apply(_GEOGRAPHY["place_on_map"](net))
    data = backdrop()
    file = {"name": "corvane-coast.geojson", "sha256": hashlib.sha256(data).hexdigest(), "size": len(data),
            "media_type": "application/geo+json"}  # fmt: skip
    net.apply([Add(item={"kind": "backdrop", "id": "backdrop", "name": "Map", "file": file})])
    return net


def backdrop() -> bytes:
    """The map behind the network, as the file that its item names."""
    found: bytes = _GEOGRAPHY["backdrop"]()
    return found


if __name__ == "__main__":
    from vastmesh.exchange import write_document

    target = sys.argv[1] if len(sys.argv) > 1 else "corvane-coast.json"
    with open(target, "wb") as file:
        file.write(write_document(network(), TITLE))
    print(f"written to {target}")
