"""What a plant may deliver and what that costs: the same fields wherever something can be dispatched."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Any

from pydantic import AfterValidator

from ..fields import When, choice, quantity
from ._rows import Rows, rows_of

TYPICAL_COST = {
    "hydro": 6.0, "wind": 0.0, "solar": 0.0, "thermal": 60.0, "storage": 45.0, "other": 50.0, "source": 55.0,
}  # fmt: skip


def movable(default: bool = True) -> Any:
    return choice("Dispatched", "Whether an optimal flow may set its active power; else it stays as it is", default=default,
                  group="dispatch")  # fmt: skip


def least_power(otherwise: str) -> Any:
    return quantity("Least power", f"Least active power it can be set to; {otherwise} when blank", unit="MW", default=None,
                    ge=-1e6, le=1e6, group="dispatch")  # fmt: skip


def most_power(otherwise: str) -> Any:
    return quantity("Most power", f"Most active power it can be set to; {otherwise} when blank", unit="MW", default=None, ge=-1e6,
                    le=1e6, group="dispatch")  # fmt: skip


def cost() -> Any:
    return quantity("Cost", "Of a MWh; typical for its energy when blank", unit="1/MWh", default=None, ge=-1e6, le=1e6,
                    group="dispatch")  # fmt: skip


def rising_cost() -> Any:
    return quantity("Rising cost", "Of an hour at a power P: this times P², beside the cost of the energy", unit="1/MW²h",
                    default=0.0, ge=0, le=1e6, group="dispatch")  # fmt: skip


def running_cost() -> Any:
    return quantity("Cost of running", "Of an hour, whatever it delivers", unit="1/h", default=0.0, ge=0, le=1e9,
                    group="dispatch")  # fmt: skip


def _blocks_readable(text: str) -> str:
    cost_blocks_of(text)
    return text


def cost_blocks_of(text: str) -> list[tuple[float, float]]:
    """Powers up to which, MW, and cost of a MWh there; powers rise. Raises ValueError that names the field."""
    found = [(mw, cost) for mw, cost in rows_of("cost_blocks", text, 2, 2)]
    if any(b[0] <= a[0] for a, b in pairwise(found)):
        raise ValueError("cost_blocks: powers must rise from row to row")
    return found


def cost_lines_of(text: str) -> list[tuple[float, float]]:
    """Cost of a MWh and a constant of every step: where costs rise, an hour at P MW costs the highest of cost * P + constant. An
    hour at 0 MW costs nothing, also where steps begin below it."""
    blocks = cost_blocks_of(text)
    lines, at, spent = [], 0.0, 0.0
    for mw, cost in blocks:
        lines.append((cost, spent - cost * at))
        spent, at = spent + cost * (mw - at), mw
    there = next((k for k, (mw, _) in enumerate(blocks) if mw >= 0), len(blocks) - 1)
    return [(cost, constant - lines[there][1]) for cost, constant in lines]


CostBlocks = Annotated[Rows, AfterValidator(_blocks_readable)]


def cost_blocks() -> Any:
    return choice("Cost in steps", "Rows of active power, MW, and what a MWh costs up to it: 20 15; 50 30; 80 70. In place of "
                  "cost and rising cost", default=None, group="dispatch")  # fmt: skip


def cost_of_reactive() -> Any:
    return quantity("Cost of reactive power", "Of a Mvarh, given or taken in", unit="1/Mvarh", default=0.0, ge=0, le=1e6,
                    group="dispatch")  # fmt: skip


def _capability_readable(text: str) -> str:
    capability_of(text)
    return text


def capability_of(text: str) -> list[tuple[float, float, float]]:
    """Active power with least and most reactive power, MW and Mvar; the area between them bulges outwards. Raises ValueError that
    names the field."""
    found = [(p, low, high) for p, low, high in rows_of("capability", text, 3, 3)]
    if len(found) < 2 or any(b[0] <= a[0] for a, b in pairwise(found)):
        raise ValueError("capability: write two rows or more of rising active power")
    if any(low > high for _, low, high in found):
        raise ValueError("capability: the least reactive power of a row is above its most")
    for (p0, l0, h0), (p1, l1, h1), (p2, l2, h2) in zip(found, found[1:], found[2:], strict=False):
        share = (p1 - p0) / (p2 - p0)
        if l1 > l0 + share * (l2 - l0) + 1e-9 or h1 < h0 + share * (h2 - h0) - 1e-9:
            raise ValueError(f"capability: at {p1:g} MW the area is dented; leave that row out or widen it")
    return found


Capability = Annotated[Rows, AfterValidator(_capability_readable)]


def capability() -> Any:
    return choice("Capability", "Rows of active power, MW, least and most reactive power there, Mvar: 0 -20 30; 50 -15 25. "
                  "Between rows straight lines; by its limits and rating when blank", default=None, group="dispatch")  # fmt: skip


def ramp() -> Any:
    return quantity("Ramp", "Most change of active power in a minute; as fast as wanted when blank", unit="MW/min", default=None,
                    ge=0, le=1e5, group="dispatch")  # fmt: skip


_GIVEN: When = {"energy": ("wind", "solar")}
_STORES: When = {"energy": ("storage", "hydro")}


def cost_of_curtailing() -> Any:
    return quantity("Cost of curtailing", "Of a MWh of wind or sun that is there and not taken", unit="1/MWh", default=0.0, ge=0,
                    le=1e6, group="dispatch", when=_GIVEN)  # fmt: skip


def may_stop() -> Any:
    return choice("May stop", "Whether a linear optimal flow with whole numbers may switch it off; else it gives its least at "
                  "least", default=False, group="dispatch")  # fmt: skip


def start_cost() -> Any:
    return quantity("Cost of a start", "Each time it is switched on", unit="1", default=0.0, ge=0, le=1e9, group="dispatch",
                    when={"may_stop": (True,)})  # fmt: skip


def energy_stored() -> Any:
    return quantity("Energy",
        "That it can store; a day's optimal flow moves it between hours. Of storage four hours of its rating when blank; of "
                    "hydro only what can pump stores (least power below 0)",
                    unit="MWh", default=None, ge=0, le=1e7, group="dispatch", when=_STORES)  # fmt: skip


def energy_now() -> Any:
    return quantity("Full at first", "Of its energy, when a day begins, and again when it ends", unit="%", default=50.0, ge=0,
                    le=100, typical=True, group="dispatch", when=_STORES)  # fmt: skip


def round_trip() -> Any:
    return quantity("Round trip", "Of what is taken in comes out again", unit="%", default=80.0, ge=10, le=100, typical=True,
                    group="dispatch", when=_STORES)  # fmt: skip


def optimised(what: str) -> Any:
    return choice(
        "Optimised", f"Whether an optimal flow in which {what} move may move it", default=True, group="dispatch"
    )


def check_powers(e: Any) -> None:
    """Raises ValueError where the least power is above the most."""
    if e.least_mw is not None and e.most_mw is not None and e.least_mw > e.most_mw:
        raise ValueError(f"least_mw: the least power is above the most, {e.most_mw:g} MW")


def price_at(e: Any, mw: float) -> float:
    """Cost of a MWh at a power: that of the step it stands in, where it has steps."""
    if e.cost_blocks:
        return max(cost_lines_of(e.cost_blocks), key=lambda line: line[0] * mw + line[1])[0]
    return price_of(e)


def price_of(e: Any) -> float:
    """Cost of a MWh: its own, or what is typical for its energy."""
    if e.cost_per_mwh is not None:
        return float(e.cost_per_mwh)
    return TYPICAL_COST.get(getattr(e, "energy", "source"), TYPICAL_COST["other"])
