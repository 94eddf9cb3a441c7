"""Harmonics: the impedance of the network against frequency, and the distortion that spectra make in it."""

from __future__ import annotations

from ..base import Study, register
from ._cures import find_cures
from ._design import run_design
from ._distortion import run_distortion
from ._emission import EmissionOptions, run_emission
from ._everywhere import SPLIT as EVERYWHERE
from ._options import DesignOptions, DistortionOptions, EverywhereOptions, ScanOptions, SearchOptions
from ._pictured import picture_spectrum
from ._scan import SPLIT
from ._search import run_search
from ._workings import explain_distortion

__all__ = [
    "DesignOptions",
    "DistortionOptions",
    "EmissionOptions",
    "ScanOptions",
    "SearchOptions",
    "picture_spectrum",
    "run_design",
    "run_distortion",
    "run_emission",
    "run_scan",
    "run_search",
]

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
        cause=find_cures,
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
register(
    Study(
        name="resonances",
        label="Resonances everywhere",
        purpose="The impedance of every bus against frequency: where the network resonates, and beside which injected orders",
        options=EverywhereOptions,
        run=EVERYWHERE.run,
        split=EVERYWHERE,
    )
)
register(
    Study(
        name="filter_design",
        label="Filter design",
        purpose="A filter from its purpose: name plate, parts, ratings, its band, and what it does under every condition",
        options=DesignOptions,
        run=run_design,
        desk="optimise",
    )
)
register(
    Study(
        name="filter_search",
        label="Filter search",
        purpose="The cheapest filter that keeps every level and the power factor under every condition, with any steps on",
        options=SearchOptions,
        run=run_search,
        desk="optimise",
    )
)
register(
    Study(
        name="emission_limits",
        label="Emission limits",
        purpose="How much one customer may distort, by the stages of IEC TR 61000-3-6",
        options=EmissionOptions,
        run=run_emission,
        desk="decide",
    )
)
