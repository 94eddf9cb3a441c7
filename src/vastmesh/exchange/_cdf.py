"""The IEEE Common Data Format of 1973: fixed columns, one card a line.

Source: IEEE Working Group on a Common Format, "Common format for exchange of solved load flow
data", IEEE Trans. PAS-92, 1973. Columns are 1-based and inclusive, as printed there. Files whose
fields have slipped out of their columns but are parted by blanks are read by fields instead.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from math import atan2, cos, degrees, sin
from typing import Any

from ..core.electrical.stamps.line import in_effect
from ..core.errors import UnreadableFile
from ..core.network import (
    Bus,
    Demand,
    Element,
    Generator,
    InductionMotor,
    Inverter,
    Line,
    Network,
    Regulator,
    SeriesReactor,
    Shunt,
    Source,
    Switch,
    SynchronousMotor,
    ThreeWinding,
    Transformer,
)
from ..core.results.state import run_load_flow
from ._report import Imported, ImportReport, Remark
from ._salvage import take_in

Layout = dict[str, tuple[int, int]]

_BUS: Layout = {
    "number": (1, 4), "name": (6, 17), "area": (19, 20), "zone": (21, 23), "type": (25, 26), "voltage": (28, 33),
    "angle": (34, 40), "load_mw": (41, 49), "load_mvar": (50, 59), "gen_mw": (60, 67), "gen_mvar": (68, 75),
    "base_kv": (77, 83), "desired": (85, 90), "q_max": (91, 98), "q_min": (99, 106), "g": (107, 114), "b": (115, 122),
    "remote": (124, 127),
}  # fmt: skip
_BRANCH: Layout = {
    "tap_bus": (1, 4), "z_bus": (6, 9), "area": (11, 12), "zone": (13, 15), "circuit": (17, 17), "type": (19, 19),
    "r": (20, 29), "x": (30, 40), "b": (41, 50), "rating_1": (51, 55), "rating_2": (57, 61), "rating_3": (63, 67),
    "control_bus": (69, 72), "side": (74, 74), "ratio": (77, 82), "angle": (84, 90), "min": (91, 97), "max": (98, 104),
    "step": (106, 111),
}  # fmt: skip
_TEXT = {"name"}
_WHOLE = {"number", "area", "zone", "type", "remote", "tap_bus", "z_bus", "circuit", "control_bus", "side"}
_NEEDED = {"number", "tap_bus", "z_bus", "r", "x", "type"}


@dataclass(frozen=True)
class _Card:
    line: int
    values: dict[str, Any]

    def __getitem__(self, name: str) -> Any:
        return self.values[name]


def read_cdf(data: bytes) -> Imported:
    """Read a Common Data Format file. Raises :class:`UnreadableFile` with line and field."""
    lines = data.decode("ascii", errors="replace").replace("\r\n", "\n").replace("\r", "\n").split("\n")
    if not lines or not lines[0].strip():
        raise UnreadableFile("the title card is missing", line=1)
    base_mva = _base_power(lines[0])
    title = lines[0][45:73].strip() or "Imported network"
    unread: list[Remark] = []
    buses = list(_cards(lines, "BUS DATA", _BUS, _split_bus, unread))
    branches = list(_cards(lines, "BRANCH DATA", _BRANCH, _split_branch, unread))
    if not buses:
        worst = unread[0] if unread else Remark(None, "there is no bus in it")
        raise UnreadableFile(worst.text, line=worst.line)
    return _Builder(base_mva, title, unread).build(lines, buses, branches)


def _base_power(title: str) -> float:
    text = title[31:37].strip()
    try:
        base = float(text)
    except ValueError:
        raise UnreadableFile(
            f"{text!r} is not a base power in MVA (columns 32 to 37)", line=1, field="MVA base"
        ) from None
    if not 0 < base < 1e6:
        raise UnreadableFile(f"a base power of {text} MVA makes no sense", line=1, field="MVA base")
    return base


def _cards(
    lines: list[str], section: str, layout: Layout, by_fields: Callable[[str], dict[str, str]], unread: list[Remark]
) -> Iterator[_Card]:
    """Cards of a section; those that can't be read are listed in ``unread``."""
    start = next((i for i, text in enumerate(lines) if text.upper().startswith(section)), None)
    if start is None:
        raise UnreadableFile(
            f"the section {section} FOLLOWS is missing; the file may have been cut off", line=len(lines)
        )
    announced = re.search(r"(?<!\d)(\d{1,9})\s{1,80}ITEMS", lines[start][:2000].upper())
    count = 0
    for number, text in enumerate(lines[start + 1 :], start + 2):
        if text.startswith("-9"):
            if announced and int(announced[1]) not in (0, count):
                raise UnreadableFile(
                    f"{section}: {announced[1]} cards are announced, {count} are there", line=number, field="ITEMS"
                )
            return
        if not text.strip():
            continue
        count += 1
        try:
            values = _read_card(text, number, layout, by_fields)
        except UnreadableFile as error:
            unread.append(Remark(number, f"{section.lower()}, {error.field}: {error.reason}"))
            continue
        yield _Card(number, values)
    raise UnreadableFile(f"{section} does not end with -999; the file may have been cut off", line=len(lines))


def _read_card(text: str, number: int, layout: Layout, by_fields: Callable[[str], dict[str, str]]) -> dict[str, Any]:
    fixed = {name: text[a - 1 : b].strip() for name, (a, b) in layout.items()}
    try:
        return _convert(fixed, number)
    except UnreadableFile as error:
        try:
            return _convert(by_fields(text), number)
        except (UnreadableFile, ValueError, IndexError):
            raise error from None


def _convert(raw: dict[str, str], number: int) -> dict[str, Any]:
    values: dict[str, Any] = {}
    for name, text in raw.items():
        if name in _TEXT:
            values[name] = text
            continue
        if not text:
            if name in _NEEDED and name != "type":
                raise UnreadableFile("nothing is entered; a number is needed", line=number, field=name)
            values[name] = 0
            continue
        if "_" in text:
            raise UnreadableFile(f"{text!r} is not a number", line=number, field=name)
        try:
            values[name] = int(float(text)) if name in _WHOLE else float(text)
        except (ValueError, OverflowError):
            raise UnreadableFile(f"{text!r} is not a number", line=number, field=name) from None
        if abs(values[name]) > 1e12 or values[name] != values[name]:
            raise UnreadableFile(f"{text!r} makes no sense", line=number, field=name)
    return values


def _split_bus(text: str) -> dict[str, str]:
    name, rest = text[5:17].strip(), text[17:].split()
    keys = [k for k in _BUS if k not in ("number", "name")]
    return {"number": text[:5].strip(), "name": name, **_zip_fields(keys, rest)}


def _split_branch(text: str) -> dict[str, str]:
    return _zip_fields(list(_BRANCH), text.split())


def _zip_fields(keys: list[str], fields: list[str]) -> dict[str, str]:
    if len(fields) < len(keys) - 4:
        raise ValueError("too few fields")
    return {k: fields[i] if i < len(fields) else "" for i, k in enumerate(keys)}


class _Builder:
    """Turns cards into items, noting every assumption."""

    def __init__(self, base_mva: float, title: str, unread: list[Remark]) -> None:
        self.base, self.title = base_mva, title
        self.report = ImportReport(left_out=unread)
        self.items: list[dict[str, Any]] = []
        self.kv: dict[int, float] = {}
        self.lines: dict[str, int] = {}  # of the file, by id
        self.cards: list[_Card] = []  # of buses that are taken in

    def build(self, lines: list[str], buses: list[_Card], branches: list[_Card]) -> Imported:
        condition = {"kind": "condition", "id": "as-read", "name": "As read"}
        settings = {
            "kind": "settings", "id": "settings", "name": "Network", "base_mva": self.base, "condition": "as-read",
        }  # fmt: skip
        areas = sorted({c["area"] for c in buses if c["area"]})
        self.items += [{"kind": "area", "id": f"area-{a}", "name": f"Area {a}"} for a in areas]
        for card in buses:
            self._bus(card)
        for card in self.cards:
            self._at_bus(card)
        seen: dict[str, int] = {}
        for card in branches:
            self._branch(card, seen)
        self.items += [condition, settings]
        self._leftovers(lines)
        self.report.read[:0] = [
            Remark(1, f"title {self.title!r}, base power {self.base:g} MVA"),
            Remark(None, f"{len(buses)} buses, {len(branches)} branches"),
        ]
        self.report.assumed.append(Remark(None, "frequency 50 Hz (the format does not carry it)"))
        network, left = take_in(self.items, self.lines)
        self.report.left_out += left
        return Imported(network, self.title, self.report)

    def _bus(self, card: _Card) -> None:
        number = card["number"]
        if number in self.kv:
            self._leave_out(card, f"bus number {number} stands twice; the first counts")
            return
        kv = card["base_kv"]
        if kv <= 0:
            kv = 100.0
            self.report.assumed.append(Remark(card.line, f"bus {number}: base voltage 100 kV (none given)"))
        self.kv[number] = kv
        area = {"area": f"area-{card['area']}"} if card["area"] else {}
        name = card["name"] or f"Bus {number}"
        self.items.append({"kind": "bus", "id": str(number), "name": name, "nominal_kv": kv, **area})
        self.lines[str(number)] = card.line
        self.cards.append(card)

    def _leave_out(self, card: _Card, why: str) -> None:
        self.report.left_out.append(Remark(card.line, why))

    def _at_bus(self, card: _Card) -> None:
        number, ident = card["number"], str(card["number"])
        if card["load_mw"] or card["load_mvar"]:
            self.items.append({
                "kind": "load", "id": f"load-{ident}", "name": f"Load {ident}", "bus": ident,
                "active_power_mw": card["load_mw"], "reactive_power_mvar": card["load_mvar"],
            })  # fmt: skip
        if card["g"] or card["b"]:
            self._shunt(card, ident)
        held = card["desired"] or card["voltage"] or 1.0
        if card["type"] == 3:
            self.items.append({
                "kind": "source", "id": f"source-{ident}", "name": f"Source {ident}", "bus": ident, "voltage_pu": held,
                "angle_deg": card["angle"],
            })  # fmt: skip
            text = f"bus {number} is the reference: a source that holds {held:g} p.u.; its fault level is typical"
            self.report.assumed.append(Remark(card.line, text))
        elif card["type"] in (1, 2) or card["gen_mw"] or card["gen_mvar"]:
            self._generator(card, ident, held)
        if card["remote"] not in (0, number):
            text = f"bus {number}: control of remote bus {card['remote']}; its own voltage is held instead"
            self.report.ignored.append(Remark(card.line, text))

    def _generator(self, card: _Card, ident: str, held: float) -> None:
        holds = card["type"] == 2
        if card["type"] == 1:
            text = f"bus {ident}: reactive power held within voltage limits; taken as fixed reactive power"
            self.report.ignored.append(Remark(card.line, text))
        item = {
            "kind": "generator", "id": f"gen-{ident}", "name": f"Generator {ident}", "bus": ident,
            "active_power_mw": card["gen_mw"], "control": "voltage" if holds else "reactive",
            "reactive_power_mvar": card["gen_mvar"],
        }  # fmt: skip
        if holds:
            item["voltage_pu"] = held
            if card["q_min"] < card["q_max"]:
                item |= {"q_min_mvar": card["q_min"], "q_max_mvar": card["q_max"]}
            else:
                self.report.assumed.append(Remark(card.line, f"generator {ident}: no reactive limits (none given)"))
        self.items.append(item)

    def _shunt(self, card: _Card, ident: str) -> None:
        self.items.append({
            "kind": "shunt", "id": f"shunt-{ident}", "name": f"Shunt {ident}", "bus": ident,
            "device": "capacitor" if card["b"] >= 0 else "reactor", "step_mvar": abs(card["b"]) * self.base,
            "step_loss_kw": card["g"] * self.base * 1000, "rated_kv": self.kv[card["number"]],
        })  # fmt: skip

    def _branch(self, card: _Card, seen: dict[str, int]) -> None:
        tap, other = card["tap_bus"], card["z_bus"]
        for field in ("tap_bus", "z_bus"):
            if card[field] not in self.kv:
                self._leave_out(card, f"branch {tap}-{other}: there is no bus {card[field]}")
                return
        ident = f"{tap}-{other}/{card['circuit'] or 1}"
        seen[ident] = seen.get(ident, 0) + 1
        if seen[ident] > 1:
            ident += f"#{seen[ident]}"
        if card["r"] == 0 and card["x"] == 0:
            self._leave_out(card, f"branch {ident}: resistance and reactance are both zero; a closed switch says so")
            return
        self.lines[ident] = card.line
        is_transformer = card["type"] in (1, 2, 3, 4) or card["ratio"] not in (0, 1) or card["angle"]
        if is_transformer:
            self._transformer(card, ident)
        else:
            self._line(card, ident)

    def _line(self, card: _Card, ident: str) -> None:
        tap, other = card["tap_bus"], card["z_bus"]
        kv = self.kv[tap]
        ohm = kv * kv / self.base
        # The format's per unit takes both ends on their own bases: with unequal bases, a ratio of 1.
        if abs(self.kv[other] / kv - 1) > 1e-6:
            text = f"branch {ident} joins {kv:g} and {self.kv[other]:g} kV: taken as a transformer"
            self.report.assumed.append(Remark(card.line, text))
            self._transformer(card, ident)
            return
        rating = {"rating_a": card["rating_1"] * 1e3 / (3**0.5 * kv)} if card["rating_1"] else {}
        self.items.append({
            "kind": "line", "id": ident, "name": f"Line {ident}", "from_bus": str(tap), "to_bus": str(other),
            "length_km": 1.0, "r_ohm_per_km": card["r"] * ohm, "x_ohm_per_km": card["x"] * ohm,
            "b_us_per_km": card["b"] / ohm * 1e6, "origins": {"length_km": "typical"}, **rating,
        })  # fmt: skip
        if not any(r.text.startswith("lines: length") for r in self.report.assumed):
            self.report.assumed.append(Remark(None, "lines: length 1 km, so that constants per km are the totals"))

    def _transformer(self, card: _Card, ident: str) -> None:
        tap, other = card["tap_bus"], card["z_bus"]
        ratio, angle = card["ratio"] or 1.0, card["angle"]
        rated = card["rating_1"] or self.base
        z = complex(card["r"], card["x"])
        sign = 1 if z.imag >= 0 else -1
        # An off-nominal ratio becomes the rated voltage of the tapped winding; the impedance is on the other side.
        kv = {tap: self.kv[tap] * ratio, other: self.kv[other]}
        tap_is_hv = kv[tap] >= kv[other]
        hv, lv = (tap, other) if tap_is_hv else (other, tap)
        self.items.append({
            "kind": "transformer", "id": ident, "name": f"Transformer {ident}", "hv_bus": str(hv), "lv_bus": str(lv),
            "rated_mva": rated, "hv_kv": kv[hv], "lv_kv": kv[lv], "impedance_pct": sign * abs(z) * rated / self.base * 100,
            "load_loss_kw": z.real * rated / self.base * rated * 1000, "vector_group": "YNyn0",
            "phase_shift_deg": angle if tap_is_hv else -angle, "tap_side": "hv" if tap_is_hv else "lv",
        })  # fmt: skip
        if not card["rating_1"]:
            text = f"transformer {ident}: rated power {self.base:g} MVA (none given), so its loading means little"
            self.report.assumed.append(Remark(card.line, text))
        if card["b"]:
            text = f"transformer {ident}: charging susceptance {card['b']:g} p.u."
            self.report.ignored.append(Remark(card.line, text))
        if card["type"] in (2, 3, 4):
            what = {2: "automatic tap for voltage", 3: "automatic tap for reactive power", 4: "automatic phase angle"}
            text = f"transformer {ident}: {what[card['type']]}; it stays where the file has it"
            self.report.ignored.append(Remark(card.line, text))

    def _leftovers(self, lines: list[str]) -> None:
        for section in ("LOSS ZONE", "INTERCHANGE DATA", "TIE LINE"):
            for number, text in enumerate(lines, 1):
                if text.upper().startswith(section):
                    self.report.ignored.append(Remark(number, f"section {text.strip().split('  ')[0]}"))


def write_cdf(network: Network, title: str) -> bytes:
    """Write what the format can carry: buses, loads, shunts, machines, lines and transformers.

    The voltages written are those of a load flow at the network's condition. Closed switches
    can't be written: raises :class:`UnreadableFile` when there are any in service.
    """
    kinds: tuple[type[Element], ...] = (ThreeWinding, Regulator, SeriesReactor)
    for kind in kinds:
        if found := [e for e in network.of(kind) if e.in_service]:
            raise UnreadableFile(
                f"this format has no {kind.label.lower()}; {found[0].name} is one. Write a document instead"
            )
    if any(s.closed and s.in_service for s in network.of(Switch)):
        raise UnreadableFile("this format has no switches: the network has closed ones, which would be lost")
    return _Writer(network, title).write()


class _Writer:
    def __init__(self, network: Network, title: str) -> None:
        self.network, self.title, self.base = network, title, network.settings.base_mva
        buses = [b for b in network.of(Bus) if b.in_service and not b.missing()]
        numbers = [int(b.id) if b.id.isdigit() and int(b.id) < 10000 else 0 for b in buses]
        if len(set(numbers)) < len(numbers) or 0 in numbers:
            numbers = list(range(1, len(buses) + 1))
        if len(buses) > 9999:
            raise UnreadableFile("this format numbers buses with four digits: 9,999 at the most")
        self.number = {b.id: n for b, n in zip(buses, numbers, strict=True)}
        self.buses = {b.id: b for b in buses}
        areas = {a: i for i, a in enumerate(dict.fromkeys(b.area for b in buses if b.area), 1)}
        self.area = {b.id: areas.get(b.area or "", 1) for b in buses}
        result = run_load_flow(network)
        table = result.tables.get("buses")
        self.solved = {r["id"]: r for r in table.records()} if table else {}

    def write(self) -> bytes:
        title = f" {'01/01/00':8} {'VAST MESH':20} {self.base:6.1f} {2000:4d} S {self.title[:28]}"
        bus_cards = [self._bus(b) for b in self.buses.values()]
        branch_cards = [c for e in self.network.elements() if (c := self._branch(e))]
        lines = [
            title, f"BUS DATA FOLLOWS{len(bus_cards):>33} ITEMS", *bus_cards, "-999",
            f"BRANCH DATA FOLLOWS{len(branch_cards):>30} ITEMS", *branch_cards, "-999",
            "LOSS ZONES FOLLOWS                     0 ITEMS", "-99", "INTERCHANGE DATA FOLLOWS                 0 ITEMS",
            "-9", "TIE LINES FOLLOWS                         0 ITEMS", "-999", "END OF DATA",
        ]  # fmt: skip
        return ("\n".join(lines) + "\n").encode("ascii", errors="replace")

    def _bus(self, bus: Bus) -> str:
        demand, shunt = 0j, 0j
        source: Source | None = None
        held: Generator | None = None
        p = q = low = high = 0.0
        condition = self.network.condition
        for e in self.network.connected(bus.id):
            if not e.in_service or e.missing():
                continue
            if isinstance(e, Demand | InductionMotor | SynchronousMotor):
                factor = condition.class_factors.get(e.demand_class, 1.0) * condition.area_factors.get(
                    bus.area or "", 1.0
                )
                demand += e.power_mva() * condition.demand_factor * factor
            elif isinstance(e, Shunt):
                sign = 1 if e.device == "capacitor" else -1
                scale = ((bus.nominal_kv or 1) / (e.rated_kv or bus.nominal_kv or 1)) ** 2 * e.steps_on / self.base
                shunt += complex(e.step_loss_kw / 1000, sign * (e.step_mvar or 0)) * scale
            elif isinstance(e, Source):
                source = source or e
            elif isinstance(e, Inverter):
                factor = condition.generation_factor * condition.energy_factors.get(e.energy, 1.0)
                p, q = p + (e.active_power_mw or 0) * factor, q + e.set_reactive_mvar() * factor
            elif isinstance(e, Generator):
                factor = condition.generation_factor * condition.energy_factors.get(e.energy, 1.0)
                p += (e.active_power_mw or 0) * factor
                if e.control == "voltage":
                    held = held or e
                    low += e.q_min_mvar if e.q_min_mvar is not None else -9999
                    high += e.q_max_mvar if e.q_max_mvar is not None else 9999
                else:
                    q += e.set_reactive_mvar() * factor
        kind = 3 if source else 2 if held else 1 if p or q else 0
        wanted = source.voltage_pu if source else held.voltage_pu if held else 0.0
        now = self.solved.get(bus.id, {})
        volts, angle = now.get("voltage_pu") or 1.0, now.get("angle_deg") or 0.0
        if source:
            angle, p, q = source.angle_deg, now.get("generation_mw") or 0.0, now.get("generation_mvar") or 0.0
        return (
            f"{self.number[bus.id]:4d} {bus.name[:12]:12} {self.area[bus.id]:2d}{1:3d} {kind:2d} {_fit(volts, 6, full=True)}"
            f"{_fit(angle, 7)}{_fit(demand.real, 9)}{_fit(demand.imag, 10)}{_fit(p, 8)}{_fit(q, 8)} "
            f"{_fit(bus.nominal_kv or 0, 7)} {_fit(wanted, 6, full=True)}{_fit(high, 8)}{_fit(low, 8)}{_fit(shunt.real, 8)}"
            f"{_fit(shunt.imag, 8)} {0:4d}"
        )

    def _branch(self, element: Any) -> str:
        if not isinstance(element, Line | Transformer) or not element.in_service or element.missing():
            return ""
        if any(b not in self.buses for b in element.buses()):
            return ""
        a, b = (self.buses[i] for i in element.buses())
        if isinstance(element, Line):
            ohm = (a.nominal_kv or 1) ** 2 / self.base
            n, km = element.parallel, element.length_km or 0
            data = in_effect(element, self.network.items.get, self.network.settings.frequency_hz)
            per_km = (data.r, data.x, data.b, data.rating if data.rating < float("inf") else 0.0)
            r, x = per_km[0] * km / ohm / n, per_km[1] * km / ohm / n
            charging = per_km[2] * 1e-6 * km * ohm * n
            rating = per_km[3] * n * 3**0.5 * (a.nominal_kv or 1) / 1e3
            return self._card(a, b, 0, r, x, charging, rating, 0.0, 0.0)
        tapped, other = (a, b) if element.tap_side == "hv" else (b, a)
        turns = element.tapped_turns()
        hv_ratio = (element.hv_kv or 1) / (a.nominal_kv or 1)
        lv_ratio = (element.lv_kv or 1) / (b.nominal_kv or 1)
        fixed, tap = (lv_ratio, hv_ratio) if element.tap_side == "hv" else (hv_ratio, lv_ratio)
        z = element.impedance_pu() * self.base / (element.rated_mva or 1) * fixed**2
        shift = element.clock_shift_rad()
        degrees_ = _degrees(shift) * (1 if element.tap_side == "hv" else -1)
        return self._card(
            tapped, other, 1, z.real, z.imag, 0.0, element.rated_mva or 0, tap * turns / fixed, degrees_
        )  # fmt: skip

    def _card(
        self, tap: Bus, other: Bus, kind: int, r: float, x: float, b: float, rating: float, ratio: float, angle: float
    ) -> str:
        return (
            f"{self.number[tap.id]:4d} {self.number[other.id]:4d} {self.area[tap.id]:2d}{1:3d} 1 {kind}{_fit(r, 10)}"
            f"{_fit(x, 11)}{_fit(b, 10)}{min(round(rating), 99999):5d} {0:5d} {0:5d} {0:4d} 0  {_fit(ratio, 6, full=True)} "
            f"{_fit(angle, 7)}{_fit(0, 7)}{_fit(0, 7)} {_fit(0, 6)}{_fit(0, 7)}"
        )


def _degrees(angle: float) -> float:
    return degrees(atan2(sin(angle), cos(angle)))


def _fit(value: float, width: int, *, full: bool = False) -> str:
    """The most digits that fit a field and leave a blank before it (or fill it, when ``full``)."""
    value = value or 0.0  # no minus sign before zero
    for digits in range(width, -1, -1):
        text = f"{value:.{digits}f}"
        if len(text) < width + full:
            return text.rjust(width)
    raise UnreadableFile(f"{value:g} does not fit into {width} columns of this format")
