from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ...electrical.arrays import Complexes
from .._result import Result


@dataclass
class LoadFlowResult(Result):
    """A solved state of the network.

    ``bus_voltage``: complex per unit of each compiled bus, of the positive sequence per phase, NaN where dead, shape (n_bus,).
    """

    bus_voltage: Complexes = field(default_factory=lambda: np.zeros(0, np.complex128), kw_only=True)
