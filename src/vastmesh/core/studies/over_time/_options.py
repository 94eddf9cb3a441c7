from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from ...network.fields import choice, quantity, reference


class OverTimeOptions(BaseModel):
    """Which time, in which steps, and of what every step is told."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    begins: Annotated[str, Field(pattern=r"^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$")] | None = Field(
        default=None, description="When it begins, as 2025-01-31T18:30; with the profiles when blank",
        json_schema_extra={"label": "Begins", "group": "data"},
    )  # fmt: skip
    days: float | None = quantity(
        "Days", "How long; as far as all profiles reach when blank", unit="d", default=None, ge=0.01, le=1100
    )
    step: Literal["profiles", "15", "30", "60"] = choice(
        "Step", "The shortest of the profiles, or so many minutes", default="profiles"
    )
    load_flow: Literal["balanced", "per_phase"] = choice(
        "Load flow", "Balanced, or every conductor by itself, which takes several times as long", default="balanced"
    )
    element: str | None = reference(
        "Told at",
        "Bus, line or transformer of which every step and a duration curve are told",
        to="element",
        default=None,
    )
    worst: Literal["loading", "voltage"] = choice(
        "Calendar of", "Highest loading, or how far the worst voltage lies outside its limits", default="loading"
    )
