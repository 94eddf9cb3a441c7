"""How much a current disturbs a telephone line beside it, by frequency.

TIF weights as in IEEE 519 (of 1960, in use since); psophometric weights of ITU-T O.41. Between their frequencies
by the logarithm of both.
"""

from __future__ import annotations

import numpy as np

from ...electrical.arrays import Floats

_TIF = {
    60: 0.5, 180: 30, 300: 225, 360: 400, 420: 650, 540: 1320, 660: 2260, 720: 2760, 780: 3360, 900: 4350, 1000: 5000,
    1020: 5100, 1080: 5400, 1140: 5630, 1260: 6050, 1380: 6370, 1440: 6650, 1500: 6680, 1620: 6970, 1740: 7320, 1860: 7570,
    1980: 7820, 2100: 8090, 2220: 8330, 2340: 8640, 2460: 8830, 2580: 9080, 2700: 9330, 2820: 9540, 2940: 9760, 3000: 9840,
}  # fmt: skip
_PSOPHOMETRIC = {
    50: 0.00071, 100: 0.00891, 150: 0.0355, 200: 0.0891, 250: 0.178, 300: 0.295, 350: 0.376, 400: 0.484, 450: 0.582,
    500: 0.661, 550: 0.733, 600: 0.794, 650: 0.851, 700: 0.902, 750: 0.955, 800: 1.0, 850: 1.035, 900: 1.072, 950: 1.109,
    1000: 1.122, 1050: 1.109, 1100: 1.072, 1150: 1.035, 1200: 1.0, 1250: 0.977, 1300: 0.955, 1350: 0.928, 1400: 0.905,
    1450: 0.881, 1500: 0.861, 1600: 0.824, 1700: 0.791, 1800: 0.76, 1900: 0.732, 2000: 0.708, 2100: 0.689, 2200: 0.67,
    2300: 0.652, 2400: 0.634, 2500: 0.617, 3000: 0.525,
}  # fmt: skip


def tif(hz: Floats) -> Floats:
    """TIF weights at frequencies, (n,)."""
    return _between(_TIF, hz)


def psophometric(hz: Floats) -> Floats:
    """Psophometric weights at frequencies, (n,); 1 at 800 Hz."""
    return _between(_PSOPHOMETRIC, hz)


def _between(table: dict[int, float], hz: Floats) -> Floats:
    known = np.log(np.array(list(table), float))
    return np.asarray(np.exp(np.interp(np.log(hz), known, np.log(np.array(list(table.values()), float)))))
