"""Harmonics: the impedance of the network against frequency, and the distortion that spectra make in it."""

from __future__ import annotations

from ..base import Study, register
from ._distortion import run_distortion
from ._options import DistortionOptions, ScanOptions
from ._scan import SPLIT
from ._workings import explain_distortion

__all__ = ["DistortionOptions", "ScanOptions", "run_distortion", "run_scan"]

run_scan = SPLIT.run

register(
    Study(
        name="distortion",
        label="Distortion",
        purpose="Harmonic voltages and currents from everything with a spectrum, order by order, and whether levels are kept",
        options=DistortionOptions,
        run=run_distortion,
        follows=True,
        explain=explain_distortion,
    )
)
register(
    Study(
        name="scan",
        label="Impedance scan",
        purpose="The impedance seen from a bus against frequency, its resonances, and the capacitance that makes each",
        options=ScanOptions,
        run=SPLIT.run,
        split=SPLIT,
    )
)
