"""Line constants, from the catalogue, from entry or from geometry, with every term of the matrices."""

from __future__ import annotations

from collections.abc import Iterator

from ..electrical.arrays import Complexes
from ..electrical.line_constants import (
    Constants,
    depth_of_return_m,
    distances,
    earth_resistance_ohm_per_km,
    geometry_wires,
    line_constants,
    matrix_sequence,
)
from ..network import Bus, Line, LineGeometry, LineMatrix, Network
from ._base import Matrix, Step, Working, explains
from ._base import figures as fig

_CARSON = "Carson 1926, first terms"


def _matrix(label: str, unit: str, names: tuple[str, ...], values: Complexes, terms: list[str] | None = None) -> Matrix:
    rows = [[(float(v.real), float(v.imag)) for v in row] for row in values]
    return Matrix(label, unit, names, rows, terms or [])


@explains(LineGeometry)
def geometry(network: Network, g: LineGeometry) -> Iterator[Working]:
    if g.missing():
        return
    yield from _constants(g, network.settings.frequency_hz)


def _constants(g: LineGeometry, hz: float) -> Iterator[Working]:
    found = line_constants(g, hz)
    wires, _ = geometry_wires(g, g.phases)
    apart = distances(wires)
    depth, earth = depth_of_return_m(hz, g.earth_ohm_m), earth_resistance_ohm_per_km(hz)
    omega = 2 * 3.141592653589793 * hz
    steps = [
        Step("r", "Conductor at its temperature", "r₂₀ (1 + α (θ − 20))", f"{fig(g.r20_ohm_per_km or 0)} at {fig(g.temperature_c)} °C",
             wires[0].r, "Ω/km"),
        Step("re", "Resistance of the earth return", "π² f · 10⁻⁴", f"f = {fig(hz)} Hz", earth, "Ω/km", _CARSON),
        Step("De", "Depth of the earth return", "658.87 √(ρ/f)", f"658.87 √({fig(g.earth_ohm_m)}/{fig(hz)})", depth, "m", _CARSON),
    ]  # fmt: skip
    terms = []
    for i, w in enumerate(wires):
        terms.append(f"z{w.name}{w.name} = {fig(w.r)} + {fig(earth)} + j {fig(omega * 2e-4)} ln({fig(depth)} / {fig(w.gmr)}) "
                     f"= {_complex(found.primitive[i, i])}")  # fmt: skip
        terms += [f"z{w.name}{v.name} = {fig(earth)} + j {fig(omega * 2e-4)} ln({fig(depth)} / {fig(apart[i, k])}) "
                  f"= {_complex(found.primitive[i, k])}" for k, v in enumerate(wires) if k > i]  # fmt: skip
    matrices = [_matrix("Primitive impedance", "Ω/km", found.wires, found.primitive, terms)]
    gone = () if g.construction == "cable" and g.neutral == "kept" else found.wires[len(found.phases) :]
    label = f"After reduction of {', '.join(gone)}" if gone else "Phase impedance"
    label += ", transposed" if g.transposed else ""
    matrices.append(_matrix(label, "Ω/km", found.phases, found.z,
                            ["Z = Zpp − Zpe · Zee⁻¹ · Zep (Kron)"] if gone else []))  # fmt: skip
    matrices.append(_matrix("Shunt admittance", "µS/km", found.phases[: len(found.y)], found.y * 1e6))
    yield Working("Impedance matrix with earth return", steps, matrices)
    yield Working("Sequence constants", _sequence(found))


def _sequence(found: Constants) -> list[Step]:
    return [
        Step("Z1", "Positive sequence", "Zs − Zm", "means of own and mutual terms", _complex(found.z1), "Ω/km"),
        Step("Z0", "Zero sequence", "Zs + 2 Zm", "means of own and mutual terms", _complex(found.z0), "Ω/km"),
        Step("B1", "Susceptance", "Bs − Bm", "", found.b1, "µS/km"),
        Step("B0", "Susceptance, zero", "Bs + 2 Bm", "", found.b0, "µS/km"),
    ]


def _complex(z: complex) -> str:
    return f"{z.real:.5f} {'+' if z.imag >= 0 else '−'} j{abs(z.imag):.5f}"


@explains(Line)
def line(network: Network, e: Line) -> Iterator[Working]:
    hz = network.settings.frequency_hz
    g, m = network.items.get(e.geometry or ""), network.items.get(e.matrix or "")
    if isinstance(m, LineMatrix) and not m.missing():
        yield from _from_matrix(network, e, m)
        return
    if isinstance(g, LineGeometry) and not g.missing():
        found = line_constants(g, hz, e.conductors)
        by_field = {"r_ohm_per_km": ("R", found.z1.real, "Ω/km"), "x_ohm_per_km": ("X", found.z1.imag, "Ω/km"),
                    "b_us_per_km": ("B", found.b1, "µS/km"), "r0_ohm_per_km": ("R0", found.z0.real, "Ω/km"),
                    "x0_ohm_per_km": ("X0", found.z0.imag, "Ω/km"), "b0_us_per_km": ("B0", found.b0, "µS/km"),
                    "rating_a": ("Iz", g.rating_a or 0.0, "A")}  # fmt: skip
        steps = [Step(symbol, f"From {g.name}", "Carson and Kron", "see below", value, unit, field=f)
                 for f, (symbol, value, unit) in by_field.items() if getattr(e, f) is None and value]  # fmt: skip
        yield Working("Constants from the geometry", steps)
        yield from _whole(network, e, found.z1, found.b1)
        yield from _constants(g, hz)
        return
    if e.missing():
        return
    r0, x0, b0 = e.zero_sequence()
    overhead = e.construction == "overhead"
    typical = [("r0_ohm_per_km", "R0", r0, "R + 0.148" if overhead else "4 R"), ("x0_ohm_per_km", "X0", x0, "3.5 X"),
               ("b0_us_per_km", "B0", b0, "0.6 B" if overhead else "B")]  # fmt: skip
    blank = [Step(symbol, "Zero sequence, typical", formula, "", value, "µS/km" if symbol == "B0" else "Ω/km",
                  "order of magnitude, IEC 60909-2", field=f) for f, symbol, value, formula in typical if getattr(e, f) is None]  # fmt: skip
    yield from _whole(network, e, complex(e.r_ohm_per_km or 0, e.x_ohm_per_km or 0), e.b_us_per_km or 0.0)
    if blank:
        yield Working("Zero sequence", blank)


def _from_matrix(network: Network, e: Line, m: LineMatrix) -> Iterator[Working]:
    """The matrix as given, and the positive sequence that counts in balanced studies."""
    z1, z0, b1, b0 = matrix_sequence(m, e.conductors)
    order = tuple(m.order)
    rows = [[(float(v.real), float(v.imag)) for v in r] for r in m.z_ohm_per_km()]
    matrices = [Matrix(f"Series impedance of {m.name} per km", "Ω/km", order, rows)]
    if (b := m.b_us()) is not None:
        matrices.append(
            Matrix(f"Shunt susceptance of {m.name} per km", "µS/km", order, [[(v, 0.0) for v in r] for r in b])
        )
    steps = [
        Step(
            "Z1", "Positive sequence", "Zs − Zm", "means of own and mutual terms, neutral earthed", _complex(z1), "Ω/km"
        ),
        Step(
            "Z0", "Zero sequence", "Zs + 2 Zm", "means of own and mutual terms, neutral earthed", _complex(z0), "Ω/km"
        ),
        Step("B1", "Susceptance", "Bs − Bm", "", b1, "µS/km"),
        Step("B0", "Susceptance, zero", "Bs + 2 Bm", "", b0, "µS/km"),
    ]
    yield Working("Constants from the matrix", steps, matrices)
    yield from _whole(network, e, z1, b1)


def _whole(network: Network, e: Line, z: complex, b: float) -> Iterator[Working]:
    if not e.length_km:
        return
    total = z * e.length_km / e.parallel
    steps = [
        Step(
            "Z", "Whole line", "z · ℓ / n", f"({_complex(z)}) · {fig(e.length_km)} / {e.parallel}", _complex(total), "Ω"
        ),
        Step(
            "B",
            "Whole line",
            "b · ℓ · n",
            f"{fig(b)} · {fig(e.length_km)} · {e.parallel}",
            b * e.length_km * e.parallel,
            "µS",
        ),
    ]
    bus = network.items.get(e.from_bus)
    if isinstance(bus, Bus) and bus.nominal_kv and b:
        q = b * 1e-6 * e.length_km * e.parallel * bus.nominal_kv**2
        steps.append(Step("Qc", "Charging at nominal voltage", "B U²", f"{fig(b * e.length_km * e.parallel)} µS · {fig(bus.nominal_kv)}²",
                          q, "Mvar"))  # fmt: skip
    yield Working("The whole line", steps)
