"""Three-phase windings in conductor coordinates.

One form serves every vector group. With u the three HV winding voltages and v the three LV leg voltages, each per
unit of its rated voltage and turns, the leakage admittance acts on w = v − T u; T turns the three voltages by the
clock number, their zero sequence with them: a delta forces its own to zero, so that what is left of the other side's
drives a current round it. With M the incidence of w on the nodes the nodal admittance is Mᵀ Y M (power-invariant,
so that currents follow by themselves). Y has the zero-sequence admittance of the unit in its sum, the
leakage admittance beside it.
Source: the primitive-network method, e.g. J. Arrillaga and C. P. Arnold, "Computer Analysis of Power Systems", 1990,
chapter 2.
"""

from __future__ import annotations

from dataclasses import dataclass
from math import cos, pi, sqrt

import numpy as np

from ..arrays import Complexes, Floats

_THIRD = 2 * pi / 3
_ONES = np.full((3, 3), 1 / 3)
_EYE = np.eye(3)


@dataclass(frozen=True)
class Side:
    """One side of a unit: ``winding`` star, delta; ``volts`` line-to-line rated, V; ``star``: whether the star point
    has a node of its own (the fourth column)."""

    winding: str
    volts: float
    star: bool

    def incidence(self) -> Floats:
        """Winding voltages per unit of rated from node voltages in V, (3, 3 or 4).

        A star point without a node floats where the three windings put it: at the mean of the phases.
        """
        if self.winding == "delta":
            return np.asarray((_EYE - np.roll(_EYE, 1, axis=1)) / self.volts)
        per_volt = sqrt(3) / self.volts
        if self.star:
            return np.asarray(np.hstack([_EYE, -np.ones((3, 1))]) * per_volt)
        return np.asarray((_EYE - _ONES) * per_volt)


def turn(angle_rad: float, zero: float) -> Floats:
    """Real circulant matrix that turns a symmetric three-phase system by an angle; ``zero``: factor of the zero
    sequence. T_jk = 2/3 cos(φ + 120° (k − j)) + zero / 3."""
    return np.array(
        [[2 / 3 * cos(angle_rad + _THIRD * (k - j)) + zero / 3 for k in range(3)] for j in range(3)], np.float64
    )


def circulant(y1: complex, y0: complex) -> Complexes:
    """Symmetric matrix with y1 for positive and negative sequence and y0 for the zero sequence."""
    return np.asarray(y1 * (_EYE - _ONES) + y0 * _ONES, np.complex128)


@dataclass(frozen=True)
class TwoWinding:
    """A two-winding unit. ``lead_rad``: angle by which HV leads LV. ``y1``, ``y0``: leakage admittances in S on winding
    voltages per unit (that is, VA per phase); ``shunt``: no-load admittance; ``hv_zero``, ``lv_zero``: zero-sequence
    admittance to the side's own star point, where the other side gives the flux no path. ``turns_on``: side with taps.
    ``further_rad``: part of the lead beyond the clock number. ``zero_linked``: whether both sides share their zero-sequence
    flux (not where a zigzag cancels it).
    """

    hv: Side
    lv: Side
    lead_rad: float
    y1: complex
    y0: complex
    shunt: complex = 0j
    hv_zero: complex = 0j
    lv_zero: complex = 0j
    turns_on: str = "hv"
    further_rad: float = 0.0
    zero_linked: bool = True

    def incidences(self, turns: tuple[float, float, float]) -> tuple[Floats, Floats, Floats]:
        """Winding voltages of the HV and the LV side at these turns, and what acts on the leakage, each over all nodes: HV
        phases (and star), LV phases (and star)."""
        a, b = self.hv.incidence(), self.lv.incidence()
        per_turn = np.diag(1 / np.asarray(turns))
        if self.turns_on == "hv":
            a = per_turn @ a
        else:
            b = per_turn @ b
        # A delta winding from A to B leads phase A by 30°, on either side.
        angle = (
            -self.lead_rad
            + (pi / 6 if self.lv.winding == "delta" else 0)
            - (pi / 6 if self.hv.winding == "delta" else 0)
        )
        high = np.hstack([a, np.zeros((3, b.shape[1]))])
        low = np.hstack([np.zeros((3, a.shape[1])), b])
        zero = zero_turn(angle + self.further_rad) if self.zero_linked else 0.0
        return high, low, low - turn(angle, zero) @ high

    def admittance(self, turns: tuple[float, float, float] = (1.0, 1.0, 1.0)) -> Complexes:
        """Admittance over the nodes: HV phases (and star), LV phases (and star). S."""
        high, low, m = self.incidences(turns)
        y = m.T @ circulant(self.y1, self.y0) @ m
        y += high.T @ circulant(self.shunt, self.shunt + self.hv_zero) @ high
        if self.lv_zero:
            y += low.T @ circulant(0, self.lv_zero) @ low
        return np.asarray(y)

    def limbs(self, turns: tuple[float, float, float] = (1.0, 1.0, 1.0)) -> tuple[Complexes, Complexes]:
        """Of each limb over the nodes: its current as VA per unit of rated voltage, and its voltage per unit. 1/V times VA,
        and 1/V; copper loss is ``limb_ohm`` |current|², iron loss the real part of ``shunt`` times |voltage|²."""
        high, _, m = self.incidences(turns)
        return np.asarray(circulant(self.y1, self.y0) @ m, np.complex128), high.astype(np.complex128)

    def limb_that_moves(self, hv: bool) -> tuple[int, int, int]:
        """Of each phase of the HV bus or the LV bus, which of the three windings with taps moves its voltage most: 0 is the
        winding that begins at A on the side with the taps (in delta from A to B), and so on.

        Seen at the terminals without load, the other side held by a balanced system: there what acts on the leakage is zero.
        Groups turn all phases alike, so that it is the own limb, the next one or the last one for all of them; of two that move
        it alike it is the own limb where that is one of them.
        """
        held = np.exp(-1j * _THIRD * np.arange(3))

        def volts(turns: tuple[float, float, float]) -> Complexes:
            high, _, m = self.incidences(turns)
            split = high.shape[1] - self.lv.incidence().shape[1]
            known, wanted = (slice(split, split + 3), slice(0, 3)) if hv else (slice(0, 3), slice(split, split + 3))
            # A star point stands where it is earthed.
            return np.asarray(np.linalg.pinv(m[:, wanted]) @ (-m[:, known] @ held))

        usual, step = volts((1.0, 1.0, 1.0)), 1e-4
        moved = volts((1 + step, 1.0, 1.0)) - volts((1 - step, 1.0, 1.0))
        gain = np.real(moved * np.conj(usual)) / np.abs(usual) ** 2 / (2 * step)
        # Turns lower the voltage across the unit where they are on the far side.
        size = gain if hv == (self.turns_on == "hv") else -gain
        best = min(range(3), key=lambda j: (-round(float(size[j]), 4), j))  # the phase that the first limb moves most
        a, b, c = ((phase - best) % 3 for phase in range(3))
        return a, b, c

    @property
    def limb_ohm(self) -> float:
        """Own resistance of a limb, W per VA² at rated voltage; what zero sequence adds is shared by all."""
        return (1 / self.y1).real


def zero_turn(angle_rad: float) -> float:
    """Factor of the zero sequence between the windings of both sides: 1 where phases lie on their own limbs or change
    places, -1 where they are reversed, 0 between."""
    sixty = angle_rad / (pi / 3)
    if abs(sixty - round(sixty)) > 1e-9:
        return 0.0
    return 1.0 if round(sixty) % 2 == 0 else -1.0


def two_winding_admittance(
    group: tuple[str, str, int], volts: tuple[float, float], rated_va: float, z1_pu: complex, z0_pu: complex | None, *,
    stars: tuple[bool, bool], shift_rad: float = 0.0, no_load_pu: complex = 0j, turns_on: str = "hv",
) -> TwoWinding:  # fmt: skip
    """A three-phase unit from its vector group ("YN", "d", 11), rated voltages (V, line to line) and impedances (p.u.).

    ``stars``: whether the HV and LV star points have nodes. ``z0_pu``: seen from the side whose star carries current.
    """
    hv, lv, clock = group
    base = rated_va / 3
    lead = clock * pi / 6 + shift_rad
    high = Side("delta" if hv == "D" else "star", volts[0], stars[0] and hv in ("YN", "ZN"))
    low = Side("delta" if lv == "d" else "star", volts[1], stars[1] and lv in ("yn", "zn", "a"))
    y1, y0 = base / z1_pu, base / z0_pu if z0_pu else 0j
    through, hv_zero, lv_zero = 0j, 0j, 0j
    zigzag = {hv, lv} & {"ZN", "Z", "zn", "z"}
    if zigzag:  # half windings on one limb cancel: the zero sequence stays on its own side
        hv_zero = y0 if hv == "ZN" and high.star else 0j
        lv_zero = y0 if lv == "zn" and low.star else 0j
    elif "delta" in (high.winding, low.winding) or (high.star and low.star):
        through = y0
    else:
        hv_zero, lv_zero = (y0 if high.star else 0j), (y0 if low.star else 0j)
    return TwoWinding(
        high, low, lead, y1, through, base * no_load_pu, hv_zero, lv_zero, turns_on, shift_rad, not zigzag
    )
