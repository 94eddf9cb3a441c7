"""From what a name plate shows to what the equations need, and back."""

from __future__ import annotations

from dataclasses import dataclass
from math import acos, inf, sin, sqrt, tan

import numpy as np

SQRT3 = sqrt(3)


def source_impedance_ohm(fault_mva: float, x_over_r: float, kv: float) -> complex:
    """Impedance behind a boundary: |Z| = U²/S, divided by X/R. Ohms at the voltage ``kv``."""
    z = kv * kv / fault_mva
    r = z / sqrt(1 + x_over_r**2)
    return complex(r, r * x_over_r)


def source_from_ohm(r: float, x: float, kv: float) -> tuple[float, float]:
    """Fault level in MVA and X/R of a source given by its ohms."""
    return kv * kv / abs(complex(r, x)), x / r if r else 1000.0


def earthing_ohm(rated_a: float, kv: float) -> float:
    """Neutral impedance that limits an earth fault at the terminals to a rated current: U/√3 over I, ohms."""
    return kv * 1e3 / SQRT3 / rated_a


def earthing_a(ohm: float, kv: float) -> float:
    """Rated earth-fault current of a neutral impedance, A."""
    return kv * 1e3 / SQRT3 / ohm if ohm else inf


# Zero-sequence over positive-sequence impedance seen from the earthed star side (IEC 60909-2, table 3 and
# IEC 60076-8, clause 4): delta on the other side closes the flux path; three-limb cores help a star-star unit.
_Z0_SHARE = {
    ("delta", "three_limb"): 0.90, ("delta", "five_limb"): 1.0, ("delta", "shell"): 1.0, ("delta", "bank"): 1.0,
    ("star", "three_limb"): 6.0, ("star", "five_limb"): 50.0, ("star", "shell"): 50.0, ("star", "bank"): 50.0,
    ("star_earthed", "three_limb"): 0.95, ("star_earthed", "five_limb"): 1.0, ("star_earthed", "shell"): 1.0,
    ("star_earthed", "bank"): 1.0, ("zigzag", "three_limb"): 0.1, ("zigzag", "five_limb"): 0.1,
    ("zigzag", "shell"): 0.1, ("zigzag", "bank"): 0.1,
}  # fmt: skip


def zero_sequence_share(vector_group: str, core: str) -> float | None:
    """Typical Z0/Z1 of a transformer from its winding connections and core; None when no winding lets it flow."""
    hv = vector_group.rstrip("0123456789")
    low = hv.lstrip("YNDZ")
    high = hv[: len(hv) - len(low)]
    if "z" in low and "n" in low:
        return _Z0_SHARE["zigzag", core]
    if low == "a" or (high == "YN" and low == "yn"):
        return _Z0_SHARE["star_earthed", core]
    if (high == "D" and "n" in low) or (high == "YN" and low == "d"):
        return _Z0_SHARE["delta", core]
    if high == "YN" or "n" in low:
        return _Z0_SHARE["star", core]
    return None


# Overload rating over self-cooled rating, by cooling stages (IEC 60076-2 designations, customary steps).
COOLING = {
    "ONAN": (1.0,),
    "ONAN/ONAF": (1.0, 1.25),
    "ONAN/ONAF/OFAF": (1.0, 1.33, 1.67),
    "AN": (1.0,),
    "AN/AF": (1.0, 1.4),
}


def typical_x_over_r(rated_mva: float) -> float:
    """Typical X/R of a transformer of a rating class."""
    return next(ratio for most, ratio in ((0.63, 3.0), (2.5, 6.0), (12.5, 14.0), (31.5, 20.0), (100.0, 27.0), (inf, 45.0))
                if rated_mva <= most)  # fmt: skip


@dataclass(frozen=True)
class MotorCircuit:
    """Equivalent circuit of an induction motor per phase, per unit on its rated input: stator, rotor (referred),
    magnetising reactance; ``slip`` at rated load."""

    r1: float
    x1: float
    r2: float
    x2: float
    xm: float
    slip: float

    def impedance(self, slip: float) -> complex:
        """Impedance at the terminals at a slip, per unit."""
        rotor = complex(self.r2 / slip, self.x2)
        return complex(self.r1, self.x1) + 1 / (1 / rotor + 1 / complex(0, self.xm))

    def plate(self, slip: float) -> tuple[complex, float]:
        """Input power at rated voltage and mechanical power, per unit on rated input."""
        z = self.impedance(slip)
        i1 = 1 / z
        i2 = i1 * complex(0, self.xm) / complex(self.r2 / slip, self.x2 + self.xm)
        return 1 / np.conj(z), float(abs(i2) ** 2 * self.r2 * (1 - slip) / slip)


def motor_circuit(
    efficiency: float, power_factor: float, starting_current: float, starting_power_factor: float, slip: float
) -> MotorCircuit:
    """Equivalent circuit that gives back the name plate: rated input, shaft power, locked-rotor current.

    Five figures, five unknowns (r1, x1, r2, x2, xm), solved by least squares with x1 = x2 as IEC 60034-28
    allows. Rotor resistance at standstill may be larger than at speed (deep bars); the circuit has one value, so
    that the locked-rotor power factor is met as nearly as the others allow.
    """
    p, q = power_factor, sin(acos(power_factor))
    z_start = 1 / starting_current
    shaft = efficiency * power_factor

    def off(u: np.ndarray) -> list[float]:
        r1, x, r2, xm = np.exp(u)
        circuit = MotorCircuit(r1, x, r2, x, xm, slip)
        s, mech = circuit.plate(slip)
        start = circuit.impedance(1.0)
        return [
            s.real - p, s.imag - q, mech - shaft, (abs(start) - z_start) / z_start,
            1e-3 * (start.real / abs(start) - starting_power_factor),
        ]  # fmt: skip

    from scipy.optimize import least_squares  # seldom needed, and slow to load

    guess = np.log([0.02, z_start / 2, slip, 1 / max(q - z_start, 0.15)])
    u = least_squares(off, guess, xtol=1e-14, ftol=1e-14, gtol=1e-14, max_nfev=400).x
    r1, x, r2, xm = (float(v) for v in np.exp(u))
    return MotorCircuit(r1, x, r2, x, xm, slip)


def reactive(active: float, power_factor: float) -> float:
    """Reactive power with a given active power; a negative power factor is capacitive."""
    angle = acos(min(abs(power_factor), 1.0))
    return active * tan(angle) * (1 if power_factor > 0 else -1)


def r_and_x(z: float, x_over_r: float) -> complex:
    """An impedance of a given size divided by X/R."""
    r = z / sqrt(1 + x_over_r**2)
    return complex(r, sqrt(max(z * z - r * r, 0.0)))


__all__ = [
    "COOLING", "SQRT3", "MotorCircuit", "earthing_a", "earthing_ohm", "motor_circuit", "r_and_x", "reactive",
    "source_from_ohm", "source_impedance_ohm", "typical_x_over_r", "zero_sequence_share",
]  # fmt: skip
