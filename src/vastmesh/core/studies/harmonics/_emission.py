"""How much one customer may distort: IEC TR 61000-3-6, first and second stage.

First stage: small against the short-circuit power, accepted without more. Second stage: what is left of the level below the
contribution of the network above is shared by agreed power, G = (L^a - (T U)^a)^(1/a) and E = G (S/St)^(1/a); a current limit
follows by the impedance of the bus.
"""

from __future__ import annotations

from typing import Any, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, model_validator

from ...errors import FieldProblem, InvalidFields
from ...flow import Ending
from ...network import Bus
from ...network.fields import choice, quantity, reference
from ...results import Account, Axis, Column, Figure, Result, Series, Table
from ..base import Inputs, Progress
from ._grid import sequence_of
from ._limits import level_of
from ._options import DistortionOptions
from ._scan import assumptions, grid_of

_ORDERS = (2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 15, 17, 19, 21, 23, 25, 29, 31, 35, 37, 41, 43, 47, 49)
_FIRST_STAGE_PCT = 0.2  # of the short-circuit power


class EmissionOptions(BaseModel):
    """Who is to be connected where, and among what."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    bus: str = reference("Bus", "Where the customer is connected", to="bus")
    agreed_mva: float = quantity("Agreed power", "Of the customer", unit="MVA", default=1.0, gt=0, le=1e5)
    distorting_mva: float | None = quantity("Distorting power", "Of the customer's equipment, weighted; all of it when blank",
                                            unit="MVA", default=None, gt=0, le=1e5)  # fmt: skip
    capacity_mva: float = quantity("Capacity", "Of all customers that the level is to be shared among", unit="MVA", default=10.0,
                                   gt=0, le=1e6)  # fmt: skip
    transfer: float = quantity("Transfer from above", "How much of the distortion of the network above arrives here", unit="1",
                               default=1.0, ge=0, le=3)  # fmt: skip
    above_kv: float = quantity("Voltage above", "Nominal voltage of the network above, whose planning levels it may have",
                               unit="kV", default=132.0, gt=0, le=1500)  # fmt: skip
    limits: Literal["planning", "compatibility"] = choice("Levels", "What is shared", default="planning")

    @model_validator(mode="after")
    def _whole(self) -> Self:
        if self.capacity_mva < self.agreed_mva:
            raise ValueError("capacity_mva: enter at least the agreed power of the customer")
        return self


def run_emission(inputs: Inputs, options: EmissionOptions, progress: Progress) -> Result:
    """Raises :class:`InvalidFields` for a bus that is not there or has no supply."""
    network = inputs.network.under(inputs.under)
    bus = network.items.get(options.bus)
    if not isinstance(bus, Bus) or not bus.nominal_kv:
        raise InvalidFields(
            [FieldProblem("options", "bus", options.bus, "name a bus of this network with a nominal voltage")]
        )
    asked = DistortionOptions(bus=options.bus)
    grid = grid_of(inputs, asked)
    if grid is None or grid.row(options.bus) < 0:
        raise InvalidFields([FieldProblem("options", "bus", options.bus, "choose a bus that has a supply")])
    kv, base = float(bus.nominal_kv), grid.arrays.base_mva
    row = grid.row(options.bus)
    level = level_of(network, kv, options.limits)
    above = level_of(network, options.above_kv, "planning")
    bare = abs(complex(grid.bare()[row])) * kv**2 / base
    short = kv**2 / bare
    rows: list[dict[str, Any]] = []
    for n, h in enumerate(_ORDERS):
        progress(n / len(_ORDERS), f"order {h}")
        a = asked.exponent_low if h < 5 else asked.exponent_middle if h <= 10 else asked.exponent_high
        own, upstream = level.limit_pct(h), options.transfer * above.limit_pct(h)
        left = max(own**a - upstream**a, 0.0) ** (1 / a)
        share = min(left * (options.agreed_mva / options.capacity_mva) ** (1 / a), own)
        grid.factorise(float(h), sequence_of(float(h)) or 1)
        z = abs(grid.unit(row)[row]) * kv**2 / base
        amps = share / 100 * kv * 1e3 / np.sqrt(3) / z
        rows.append({"h": h, "level": own, "above": upstream, "left": left, "share": share, "z": z, "amps": amps})
    grid.close()
    rated = options.agreed_mva * 1e3 / np.sqrt(3) / kv
    stage = 100 * (options.distorting_mva or options.agreed_mva) / short
    accepted = stage <= _FIRST_STAGE_PCT
    statement = (
        f"First stage: {stage:.2f} % of the short-circuit power of {short:.0f} MVA, "
        + (f"at most {_FIRST_STAGE_PCT:g} %: it may be connected without more." if accepted else
           f"more than {_FIRST_STAGE_PCT:g} %: the second stage gives its limits.")
    )  # fmt: skip

    def column(name: str) -> np.ndarray:
        return np.array([float(r[name]) for r in rows])

    table = Table("emission", "Limits of the customer", [
        Column("id", "Id", [options.bus] * len(rows), fixed=True), Column("order", "Order", column("h"), None, 0, fixed=True),
        Column("level_pct", "Level", column("level"), "%", 2, f"At {bus.name}"),
        Column("above_pct", "From above", column("above"), "%", 2, "Of the network above, transferred"),
        Column("left_pct", "Left for all", column("left"), "%", 3, "For all customers together"),
        Column("share_pct", "The customer", column("share"), "%", 3, "Voltage that it may make alone"),
        Column("ohm", "Impedance", column("z"), "Ω", 3, "Of the network at that order"),
        Column("amps", "Current", column("amps"), "A", 2, "That makes this voltage"),
        Column("amps_pct", "Of its own", 100 * column("amps") / rated, "%", 2, "Of the current of its agreed power"),
    ])  # fmt: skip
    x: list[Any] = [str(r["h"]) for r in rows]
    figure = Figure("emission", "What it may distort", Axis("Order"), Axis("Voltage", "%", 2), [
        Series("share", "the customer", x, column("share"), "bars"), Series("level", "level", x, column("level"), "levels"),
    ])  # fmt: skip
    account = Account(Ending.CONVERGED, "Emission limits", len(rows), assumed=[
        *assumptions(asked), "Multiples of three by the positive-sequence impedance.",
        "Exponents of the summation law 1, 1.4 and 2."])  # fmt: skip
    summary: dict[str, float | None] = {"first_stage_pct": stage, "short_circuit_mva": short}
    return Result(account, {"emission": table}, summary, [], statement, figures=[figure])
