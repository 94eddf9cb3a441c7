"""A spectrum as bars, and the waveform it makes."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...electrical.arrays import Floats
from ...network import Network
from ...results import Axis, Bound, Figure, Series
from ._sources import spectrum


def in_time(order: float, turn: Floats, angle: float) -> Floats:
    """An order against time from where the fundamental, sin(turn), rises through zero. ``angle``: of its phasor against that of
    the fundamental turned as often; phasors are of cosines, whose zero lies a quarter of a turn earlier."""
    return np.asarray(np.cos(order * (turn - np.pi / 2) + angle))


def picture_spectrum(network: Network, name: str) -> list[Figure]:
    """Bars of the orders of a spectrum, and two cycles of the current: orders without a known angle as if it were 0, and said.
    Empty for one that is not there."""
    rows = spectrum(network, name)
    if not rows:
        return []
    orders: list[Any] = [f"{h:g}" for h in rows]
    bars = Figure("spectrum", "Spectrum", Axis("Order"), Axis("Current", "%", 1), [
        Series("share", name, orders, [100 * share for share, _ in rows.values()], "bars"),
    ])  # fmt: skip
    turn = np.linspace(0, 4 * np.pi, 401)
    clean = np.sin(turn)
    wave = clean + sum(share * in_time(h, turn, angle or 0.0) for h, (share, angle) in rows.items())
    known = all(angle is not None for _, angle in rows.values())
    words = "with its orders" if known else "with its orders, unknown angles as 0"
    waveform = Figure("waveform", "Waveform", Axis("Cycles", None, 1), Axis("Current, of the fundamental's peak", None, 1), [
        Series("wave", words, turn / (2 * np.pi), wave), Series("fundamental", "fundamental", turn / (2 * np.pi), clean),
    ], [Bound("", 0.0)])  # fmt: skip
    return [bars, waveform]
