from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from ...network.fields import choice, quantity, reference, references

Objective = Literal["head", "branches", "squares", "losses", "neutral", "voltage", "mix"]
Method = Literal["automatic", "exact", "exchange", "genetic", "mixed_integer"]
_MIX = {"objective": ("mix",)}


def _weight(of: str, default: float = 1.0) -> Any:
    label = of[0].upper() + of[1:]
    return quantity(label, f"In the mix: {of}", unit="1", default=default, ge=0, le=1000, group="weights", when=_MIX)


def _may(label: str, meaning: str) -> Any:
    return choice(label, meaning, default=True, group="what may move")


class BalancingOptions(BaseModel):
    """What is balanced, how, and how far it may go."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    feeder: str = reference(
        "Feeder from", "Line or transformer at the head of the feeder; all it feeds is balanced", to="branch"
    )
    buses: Annotated[
        list[str], references("Only at", "Only what stands there may move; all of it when none is named", to="bus")
    ] = []  # fmt: skip
    objective: Objective = choice(
        "Best is", "Power unbalance at the head; summed over branches weighted by length; the same squared; losses; "
        "highest neutral current; highest voltage unbalance; or a mix of them", default="mix",
    )  # fmt: skip
    weight_head: float = _weight("power unbalance at the head")
    weight_branches: float = _weight("unbalance of branches by length")
    weight_squares: float = _weight("squares of the unbalance of branches by length", 0.0)
    weight_losses: float = _weight("losses")
    weight_neutral: float = _weight("highest neutral current")
    weight_voltage: float = _weight("highest voltage unbalance")
    conditions: Annotated[
        list[str], references("Conditions together", "They count with equal weight; the one in use when none is named",
                              to="condition", most=20)
    ] = []  # fmt: skip
    move_single: bool = _may("Single-phase", "Single-phase loads and plants may move")
    move_laterals: bool = _may("Laterals", "Laterals may move, with all that hangs on them")
    move_pairs: bool = _may("Two phases", "Loads between two phases may move")
    move_three: bool = _may("Three, unequal", "Unequal three-phase loads and plants may change their phases round")
    keep_rotation: bool = _may(
        "Keep rotation", "Three-phase loads keep their phase rotation, as motors behind them need"
    )
    exclude_tag: Annotated[str, choice("Not what is tagged", "What bears this tag stays; nothing when blank",
                                       group="what may move"), Field(max_length=60)] = ""  # fmt: skip
    most_changes: int | None = quantity("Most changes", "Most elements moved; any number when blank", unit="1", default=None,
                                        ge=1, le=10_000, group="what may move")  # fmt: skip
    change_cost_pct: float = quantity(
        "Each worth at least", "What each change must gain, in per cent of the objective before", unit="%", default=1.0,
        ge=0, le=100, group="what may move",
    )  # fmt: skip
    method: Method = choice(
        "Method", "Automatic: exact up to 100,000 assignments allowed, else exchange and genetic in turn. Exact: all "
        "assignments. Exchange: moves of one and two, at first with worse ones among them. Genetic: a population. "
        "Mixed-integer: a linear model", default="automatic", group="how",
    )  # fmt: skip
    searches: int = quantity("Searches", "Searches side by side, each with a seed of its own; the best of them counts", unit="1",
                             default=1, ge=1, le=64, group="how")  # fmt: skip
    time_limit_s: float = quantity("Time limit", "A ceiling: it ends by its work before, the same on any machine",
                                   unit="s", default=300.0, gt=0, le=3600, group="how")  # fmt: skip
    seed: int = quantity(
        "Seed", "The same seed finds the same answer", unit="1", default=1, ge=0, le=2**31, group="how"
    )
