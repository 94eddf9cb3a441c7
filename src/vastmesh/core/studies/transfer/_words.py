"""How the ends of a way are told."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...network import Network
from ..losses import Loss

WORDS = {
    "loading": "loading",
    "voltage": "voltage",
    "angle": "angle",
    "step": "voltage step",
    "collapse": "voltage collapse",
    "nothing": "nothing up to there",
    "no solution": "no solution before it",
    "no solution further": "no solution further",
    "nothing to take it": "nothing live takes it",
}
_UNIT = {"loading": "%", "voltage": "p.u.", "angle": "°", "step": "%"}


def where_of(network: Network, ident: str) -> str:
    item = network.items.get(ident)
    return item.name if item is not None else ""


def after(lost: Sequence[Loss | None], k: int) -> str:
    one = lost[k]
    return "as it stands" if one is None else f"after the loss of {one.name}"


def value_of(kind: str, value: float) -> str:
    """The figure at a limit, with its unit; blank where there is none."""
    if not np.isfinite(value):
        return ""
    return f"{value:.3f} {_UNIT[kind]}" if kind == "voltage" else f"{value:.1f} {_UNIT[kind]}"
