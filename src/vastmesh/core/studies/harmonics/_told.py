"""Per cent and amperes by order at every place, and what follows from them alone."""

from __future__ import annotations

import numpy as np

from ._models import Model, Order
from ._options import DistortionOptions


class Told:
    """Per cent of voltage and A by order, and what follows from them alone."""

    def __init__(self, model: Model, options: DistortionOptions, found: list[Order]) -> None:
        self.orders = [o.order for o in found]
        self.first = np.abs(model.places.first)
        phase = np.array([c != "N" for c in model.places.conductor], np.bool_)
        # A neutral has no fundamental to speak of: it is told against the phases' nominal voltage.
        with np.errstate(divide="ignore"):
            self.base = np.where(phase & (options.relative_to == "fundamental") & (self.first > 0), self.first, 1.0)
        self.volts = np.array([100 * o.volts / self.base for o in found])
        self.thd = np.sqrt((self.volts**2).sum(axis=0))
        self.rms = np.sqrt(self.first**2 + ((self.volts * self.base / 100) ** 2).sum(axis=0))
        self.amps = np.array([o.amps for o in found])
        self.phase = phase
