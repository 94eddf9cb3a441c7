from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

MOST_ITERATIONS = 1000


class UnbalancedOptions(BaseModel):
    """How a load flow per phase is solved. Each option says what it does to the answer."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    tolerance_pu: Annotated[
        float,
        Field(ge=1e-13, le=1e-2, description="Largest power mismatch left at any conductor, per unit of base power; the "
              "answer changes by about as much"),
    ] = 1e-8  # fmt: skip
    max_iterations: Annotated[
        int | None, Field(ge=1, le=MOST_ITERATIONS, description="Newton steps tried from each start; 40 when blank")
    ] = None
    low_voltage_pu: Annotated[
        float,
        Field(ge=0, le=0.95, description="Below this voltage constant-power demand follows the voltage squared. 0: only "
              "when there is no answer otherwise, and then below 0.8 p.u., which the account says"),
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
        Field(description="On: automatic taps (ganged or per phase), regulators, capacitor steps, Q(V) curves, phase "
              "shifters and machines that hold another bus act until none moves. Off: taps and steps stay as entered, and "
              "inverters on a curve deliver no reactive power"),
    ] = True  # fmt: skip
    start: Annotated[
        Literal["last", "linear", "flat"],
        Field(description="Where the iteration starts: the last answer, all demand as impedances, or no load"),
    ] = "linear"
