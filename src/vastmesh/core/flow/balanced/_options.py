from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field


class LoadFlowOptions(BaseModel):
    """How a balanced load flow is solved. Each option says what it does to the answer."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    tolerance_pu: Annotated[
        float,
        Field(ge=1e-12, le=1e-2, description="Largest power mismatch left at any bus: times 100 MVA, and times 100 of what flows "
              "there (no less than rounding leaves); the answer changes by about as much"),
    ] = 1e-8  # fmt: skip
    method: Annotated[
        Literal["automatic", "newton", "fast_decoupled", "gauss_seidel"],
        Field(description="Automatic: Newton from the start chosen, then from a linear one, a flat one, one without load and "
              "with damped steps; at last demand is raised step by step. The others: that method from the start chosen, and "
              "nothing else. All solve the same equations: the answer differs by less than the tolerance, or there is none"),
    ] = "automatic"  # fmt: skip
    max_iterations: Annotated[
        int | None,
        Field(ge=1, le=1_000_000, description="Steps tried from each start: 20 of Newton, 200 decoupled, 50,000 "
              "Gauss–Seidel sweeps when blank; no effect on a converged answer"),
    ] = None  # fmt: skip
    low_voltage_pu: Annotated[
        float,
        Field(ge=0, le=0.95, description="Below this voltage constant-power demand follows the voltage squared: a nearly "
              "collapsed part draws less and still has an answer. 0: never"),
    ] = 0.0  # fmt: skip
    slack_shared: Annotated[
        bool,
        Field(description="On: sources and machines with a participation take over together what is beyond the schedule. "
              "Off: the source of each island carries all of it"),
    ] = False  # fmt: skip
    interchange: Annotated[
        bool, Field(description="On: areas with an agreed export hold it by their machines with a participation")
    ] = False
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
