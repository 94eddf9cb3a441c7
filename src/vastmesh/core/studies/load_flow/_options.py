from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field


class LoadFlowOptions(BaseModel):
    """How a balanced load flow is solved. Each option says what it does to the answer."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    tolerance_pu: Annotated[
        float,
        Field(ge=1e-12, le=1e-2, description="Largest power mismatch left at any bus, per unit of base power; "
              "the answer changes by about as much"),
    ] = 1e-8  # fmt: skip
    max_iterations: Annotated[
        int, Field(ge=1, le=200, description="Newton steps tried from each start; no effect on a converged answer")
    ] = 20
    reactive_limits: Annotated[
        bool,
        Field(description="On: a machine at its reactive limit gives up its voltage. Off: it holds it at any price"),
    ] = True
    automatic: Annotated[
        bool,
        Field(description="On: automatic taps, regulators, capacitor steps and Q(V) curves act until none moves. Off: "
              "taps and steps stay as entered, and inverters on a curve deliver no reactive power"),
    ] = True  # fmt: skip
    start: Annotated[
        Literal["last", "linear", "flat"],
        Field(description="Where the iteration starts; where several answers exist it decides which is found"),
    ] = "linear"
