from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict

from ...network.fields import choice, quantity


class OpenPointsOptions(BaseModel):
    """What is best, what may be switched, and how it is searched."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    best: Literal["losses", "loading"] = choice(
        "Best is", "The least losses; or the lowest of the highest loadings, then the least losses", default="losses"
    )
    over: Literal["present", "conditions"] = choice(
        "Under", "The condition in use; or all conditions, each counting the same", default="present"
    )
    up_to_kv: float = quantity("Up to", "Nominal voltage of what may be switched", unit="kV", default=36.0, gt=0, le=1500,
                               group="may be switched")  # fmt: skip
    lines: bool = choice(
        "Lines", "Lines may be opened at an end, as well as switches", default=True, group="may be switched"
    )
    loops: Literal["kept", "none"] = choice(
        "Loops", "As many as there are; or none among what may be switched", default="kept", group="may be switched"
    )
    most_changes: int = quantity("Most changes", "Points opened, each with one closed; 0: as many as it takes", unit="1",
        default=0,
                                 ge=0, le=1000, group="may be switched")  # fmt: skip
    method: Literal["exchange", "exact", "mixed_integer"] = choice(
        "Method", "Exchange: one point after another is closed and the best of its loop opened. Exact: all there are, up to "
        "20,000. Mixed-integer: the best ten of linear equations, each held against the load flow", default="exchange",
        group="search",
    )  # fmt: skip
