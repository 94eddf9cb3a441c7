"""Passive harmonic filters: from the name plate to resistance, inductance and capacitance, and back.

One circuit holds every kind: a capacitor, a resistance and a reactor in series, and behind them a block in which a conductance and
a capacitor lie beside a branch of resistance, reactor and capacitor. Kinds and their name plates after J. Arrillaga and
N. R. Watson, "Power System Harmonics", 2nd ed., 2003, chapter 6.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import pi, sqrt
from typing import Any, Literal

FilterKind = Literal["single", "double", "high_pass", "c_type", "detuned"]
TUNED: tuple[FilterKind, ...] = ("single", "double", "detuned")
TYPICAL_QUALITY: dict[FilterKind, float] = {
    "single": 40.0,
    "double": 40.0,
    "detuned": 40.0,
    "high_pass": 2.0,
    "c_type": 2.0,
}


def circuit_impedance(
    order: Any, xc: Any, r: Any, xl: Any, block: Any, g: Any, b: Any, rb: Any, xb: Any, xcb: Any
) -> Any:  # fmt: skip
    """Impedance at an order; plain arithmetic, so that numbers, arrays and compiled code can use it alike.

    ``xc``, ``r``, ``xl``: in series, at order 1. ``block``: 1 where there is a block, of ``g`` and ``b`` (capacitive, at order 1)
    beside ``rb``, ``xb``, ``xcb`` in series; else 0.
    """
    inner = rb + 1j * (order * xb - xcb / order)
    return r + 1j * (order * xl - xc / order) + block * inner / (1 + inner * (g + 1j * order * b))


@dataclass(frozen=True)
class FilterCircuit:
    """One phase of the star, Ω and S at the network's frequency; see :func:`circuit_impedance`."""

    xc: float
    r: float = 0.0
    xl: float = 0.0
    block: float = 0.0
    g: float = 0.0
    b: float = 0.0
    rb: float = 0.0
    xb: float = 0.0
    xcb: float = 0.0

    def values(self) -> tuple[float, ...]:
        return self.xc, self.r, self.xl, self.block, self.g, self.b, self.rb, self.xb, self.xcb

    def impedance(self, order: Any) -> Any:
        """Ω at an order, or at an array of them."""
        return circuit_impedance(order, *self.values())

    def times(self, factor: float) -> FilterCircuit:
        """All impedances that much larger."""
        xc, r, xl, block, g, b, rb, xb, xcb = self.values()
        f = factor
        return FilterCircuit(xc * f, r * f, xl * f, block, g / f, b / f, rb * f, xb * f, xcb * f)

    def varied(self, capacitance: float, inductance: float) -> FilterCircuit:
        """With every capacitance and every inductance that many times as large: tolerance, temperature, ageing."""
        return replace(self, xc=self.xc / capacitance, b=self.b * capacitance, xcb=self.xcb / capacitance,
                       xl=self.xl * inductance, xb=self.xb * inductance)  # fmt: skip

    def parts(self, frequency_hz: float) -> dict[str, float]:
        """The parts one would buy: c_uf, l_mh, r_ohm and, where there are second ones, c2_uf, l2_mh."""
        omega = 2 * pi * frequency_hz
        farad, henry = 1e6 / omega, 1e3 / omega
        found = {"c_uf": farad / self.xc, "l_mh": (self.xl or self.xb) * henry, "r_ohm": self.r or self.rb}
        if self.block and self.g:
            found["r_ohm"] = 1 / self.g
        if self.b:
            found |= {"c2_uf": self.b * farad, "l2_mh": self.xb * henry}
        elif self.xcb:
            found["c2_uf"] = farad / self.xcb
        return found


def filter_of_parts(
    kind: FilterKind, frequency_hz: float, c_uf: float, l_mh: float, r_ohm: float | None, c2_uf: float = 0.0, l2_mh: float = 0.0
) -> FilterCircuit:  # fmt: skip
    """A filter of given parts. ``r_ohm``: in series with the reactor of a tuned one (with both, of a double-tuned one, in
    proportion to them), beside it in a high-pass or C-type filter; by the typical quality where None."""
    omega = 2 * pi * frequency_hz
    xc, xl = 1e6 / omega / c_uf, l_mh * omega / 1e3
    if r_ohm is None:
        wave = sqrt(xl * xc)
        r_ohm = wave / TYPICAL_QUALITY[kind] if kind in TUNED else wave * TYPICAL_QUALITY[kind]
    if kind in ("single", "detuned"):
        return FilterCircuit(xc, r_ohm, xl)
    if kind == "high_pass":
        return FilterCircuit(xc, block=1.0, g=1 / r_ohm, xb=xl)
    if kind == "c_type":
        return FilterCircuit(xc, block=1.0, g=1 / r_ohm, xb=xl, xcb=1e6 / omega / c2_uf)
    xb = l2_mh * omega / 1e3
    return FilterCircuit(xc, r_ohm, xl, 1.0, b=c2_uf * omega / 1e6, rb=r_ohm * xb / xl, xb=xb)


def design_filter(
    kind: FilterKind, mvar: float, kv: float, order: float, quality: float, second: float | None = None
) -> FilterCircuit:  # fmt: skip
    """A filter that delivers exactly ``mvar`` at ``kv`` and the network's frequency.

    ``order``: where its impedance is least. ``quality``: of tuned ones, reactance of the reactor at that order over its
    resistance; of the others, the resistance beside the reactor over that reactance. ``second``: further order of a double-tuned
    one, above the first, whose power the two share alike. Raises ValueError for an order that is not above 1.
    """
    if order <= 1 or (second is not None and second <= order):
        raise ValueError("the tuned order must be above 1, and the second one above the first")
    n = order
    # First with a capacitor of 1 Ω; the power then says how large everything is.
    if kind in ("single", "detuned"):
        unit = FilterCircuit(1.0, 1 / n / quality, 1 / n**2)
    elif kind == "high_pass":
        unit = FilterCircuit(1.0, block=1.0, g=n / quality, xb=1 / n**2)
    elif kind == "c_type":
        # Reactor and second capacitor cancel at the network's frequency: the resistance then carries nothing.
        x = 1 / (n * n - 1)
        unit = FilterCircuit(1.0, block=1.0, g=1 / (n * x * quality), xb=x, xcb=x)
    else:
        unit = _double(n, second or 2 * n, quality)
    delivered = kv**2 * (1 / unit.impedance(1.0)).imag
    return unit.times(delivered / mvar)


def _double(first: float, second: float, quality: float) -> FilterCircuit:
    """One filter with the impedance of two single-tuned ones beside each other (without losses): Arrillaga and Watson, 6.4.3."""
    # Both deliver the same: x_c (1 - 1/n²) alike.
    ca, cb = 1 - 1 / first**2, 1 - 1 / second**2
    la, lb = 1 / (ca * first**2), 1 / (cb * second**2)
    apart = (la * ca - lb * cb) ** 2
    c1, l1 = ca + cb, la * lb / (la + lb)
    c2 = ca * cb * (ca + cb) * (la + lb) ** 2 / apart
    l2 = apart / ((ca + cb) ** 2 * (la + lb))
    return FilterCircuit(1 / c1, first * l1 / quality, l1, 1.0, b=c2, rb=first * l2 / quality, xb=l2)
