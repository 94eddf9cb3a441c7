from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

Objective = Literal["head", "branches", "squares", "losses", "neutral", "voltage", "mix"]
Method = Literal["automatic", "exact", "exchange", "genetic", "mixed_integer"]
_Weight = Annotated[float, Field(ge=0, le=1000)]


class BalancingOptions(BaseModel):
    """What is balanced, how, and how far it may go."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    feeder: Annotated[
        str, Field(description="Line or transformer at the head of the feeder; all it feeds is balanced", min_length=1,
                   json_schema_extra={"ref": "element"})
    ]  # fmt: skip
    buses: Annotated[
        list[str],
        Field(max_length=20_000, description="Only what stands at these buses may move; all of the feeder when empty"),
    ] = []
    objective: Annotated[
        Objective,
        Field(description="Power unbalance at the head; summed over branches weighted by length; the same squared; losses; "
              "highest neutral current; highest voltage unbalance; or a mix of them"),
    ] = "mix"  # fmt: skip
    weight_head: Annotated[_Weight, Field(description="In the mix: power unbalance at the head")] = 1.0
    weight_branches: Annotated[_Weight, Field(description="In the mix: unbalance of branches by length")] = 1.0
    weight_squares: Annotated[
        _Weight, Field(description="In the mix: squares of the unbalance of branches by length")
    ] = 0.0
    weight_losses: Annotated[_Weight, Field(description="In the mix: losses")] = 1.0
    weight_neutral: Annotated[_Weight, Field(description="In the mix: highest neutral current")] = 1.0
    weight_voltage: Annotated[_Weight, Field(description="In the mix: highest voltage unbalance")] = 1.0
    conditions: Annotated[
        list[str], Field(max_length=20, description="Conditions that count together, each with equal weight; the one in use when "
                         "empty")
    ] = []  # fmt: skip
    move_single: Annotated[bool, Field(description="Single-phase loads and plants may move")] = True
    move_laterals: Annotated[bool, Field(description="Laterals may move, with all that hangs on them")] = True
    move_pairs: Annotated[bool, Field(description="Loads between two phases may move")] = True
    move_three: Annotated[
        bool, Field(description="Unequal three-phase loads and plants may change their phases round")
    ] = True
    keep_rotation: Annotated[
        bool, Field(description="Three-phase loads keep their phase rotation, as motors behind them need")
    ] = True
    exclude_tag: Annotated[str, Field(max_length=60, description="What bears this tag stays; nothing when blank")] = ""
    most_changes: Annotated[
        int | None, Field(ge=1, le=10_000, description="Most elements moved; any number when blank")
    ] = None
    change_cost_pct: Annotated[
        float,
        Field(ge=0, le=100, description="What each change must gain at least, in per cent of the objective before"),
    ] = 1.0
    method: Annotated[
        Method,
        Field(description="Automatic: exact up to 100,000 assignments allowed, else exchange and genetic in turn. Exact: all "
              "assignments. Exchange: moves of one and two, at first with worse ones among them. Genetic: a population. "
              "Mixed-integer: a linear model"),
    ] = "automatic"  # fmt: skip
    searches: Annotated[
        int,
        Field(ge=1, le=64, description="Searches side by side, each with a seed of its own; the best of them counts"),
    ] = 1
    time_limit_s: Annotated[
        float,
        Field(gt=0, le=3600, description="A ceiling: it ends by its work before, so that it repeats on any machine"),
    ] = 300.0
    seed: Annotated[int, Field(ge=0, le=2**31, description="The same seed finds the same answer")] = 1
