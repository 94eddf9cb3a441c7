"""Declared plots as drawings for paper: the same figures as on the screen, in ink that prints."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from html import escape
from math import ceil, floor, isfinite, log10
from typing import Any

from ..core.results import Figure, Series

_INK, _QUIET, _RULE, _BREACH = "#1D2733", "#5B6673", "#DDD6C8", "#9B1B5A"
_CURVES = ("#0E6674", "#A86B00", "#5A4FA3", "#9B1B5A", "#4C7A2B", "#2E6DA8", "#8A4B2A", "#6B6F12")
_DASHES = ("", "5 4", "2 3", "9 3 2 3")
_HEAT = ((0xF1, 0xEA, 0xD6), (0xC9, 0xB9, 0x8F), (0xB2, 0x6A, 0x5C), (0x8E, 0x15, 0x50))
_LETTER = 6.0
_LEFT, _TOP, _BOTTOM, _RIGHT = 56, 22, 34, 14
_MOST_POINTS = 4000


def plot_svg(figure: Figure, width: int = 640, height: int = 260) -> str:
    """A figure as SVG of so many pixels; one in words where nothing of it has a value."""
    cells = any(s.drawn == "cells" for s in figure.series)
    return _cells(figure, width) if cells else _curves(figure, width, height)


def ticks(low: float, high: float, about: int = 5) -> list[float]:
    """Round figures from ``low`` to ``high``, one, two or five times a power of ten apart."""
    span = max(high - low, 1e-12 * max(abs(low), abs(high), 1.0))
    step = 10 ** floor(log10(span / about))
    step = next(step * m for m in (1, 2, 5, 10, 20) if span / (step * m) <= about)
    first = ceil(low / step - 1e-9)
    return [round(k * step, 12) for k in range(first, floor(high / step + 1e-9) + 1)]


def _said(value: float, step: float) -> str:
    return f"{value:.{max(0, ceil(-log10(step) - 1e-9))}f}"


def _number(value: Any) -> float | None:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) and isfinite(value) else None


def _plain(values: Any) -> list[Any]:
    return list(values.tolist()) if hasattr(values, "tolist") else list(values)


def _svg(figure: Figure, width: float, height: float, parts: Sequence[str]) -> str:
    head = (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width:g} {height:g}" width="{width:g}" height="{height:g}" '
        f'font-family="IBM Plex Sans, sans-serif" font-size="10" role="img"><title>{escape(figure.label)}</title>'
    )
    return head + "".join(parts) + "</svg>"


def _text(x: float, y: float, words: str, anchor: str = "start", fill: str = _QUIET) -> str:
    return f'<text x="{x:.1f}" y="{y:.1f}" text-anchor="{anchor}" fill="{fill}">{escape(words)}</text>'


def _line(path: str, stroke: str, wide: float = 0.7, dash: str = "") -> str:
    dashed = f' stroke-dasharray="{dash}"' if dash else ""
    return f'<path d="{path}" fill="none" stroke="{stroke}" stroke-width="{wide}"{dashed}/>'


def _at(start: float, per: float, origin: float, value: float) -> float:
    """Where a value stands along an axis."""
    return start + per * (value - origin)


def _axis(label: str, unit: str | None) -> str:
    return f"{label}, {unit}" if unit else label


def _curves(figure: Figure, width: int, height: int) -> str:
    words = list(dict.fromkeys(v for s in figure.series for v in _plain(s.x) if isinstance(v, str)))
    at = {w: float(n) for n, w in enumerate(words)}
    drawn = [(s, _points(s, at)) for s in figure.series]
    every = [p for _, points in drawn for p in points if p[1] is not None]
    if not every:
        return _svg(figure, width, 40, [_text(0, 20, "Nothing to plot: no point has a figure.")])
    bars = [s for s in figure.series if s.drawn == "bars"]
    ys = [y for _, y in every if y is not None] + [b.value for b in figure.bounds if b.across == "y"]
    low, high = min(ys + ([0.0] if bars else [])), max(ys + ([0.0] if bars else []))
    if high - low < 1e-12 * max(abs(high), 1.0):
        low, high = low - 0.5, high + 0.5
    up = ticks(low, high)
    step = up[1] - up[0] if len(up) > 1 else high - low
    low, high = min(low, floor(low / step + 1e-9) * step), max(high, ceil(high / step - 1e-9) * step)
    up = ticks(low, high)
    edge = 0.5 if words or bars else 0.0
    left, right = min(x for x, _ in every) - edge, max(x for x, _ in every) + edge
    right = max(right, left + 1e-9)
    several = len(figure.series) > 1
    foot = _TOP + (14 * ceil(len(figure.series) / 3) if several else 0)
    w, h = width - _LEFT - _RIGHT, height - foot - _BOTTOM
    px = partial(_at, _LEFT, w / (right - left), left)
    py = partial(_at, foot, -h / (high - low), high)
    parts = [_text(4, 12, _axis(figure.y.label, figure.y.unit)),
             _text(width - _RIGHT, height - 4, _axis(figure.x.label, figure.x.unit), "end")]  # fmt: skip
    for t in up:
        parts += [_line(f"M{_LEFT} {py(t):.1f}h{w}", _RULE), _text(_LEFT - 6, py(t) + 3.5, _said(t, step), "end")]
    parts += _across(words, left, right, px, height, w)
    last = -1e9
    for b in sorted(figure.bounds, key=lambda b: b.value, reverse=True):
        if b.across == "y":
            # Names of limits close to each other stand one above the other.
            last = max(py(b.value) - 3, last + 11)
            parts += [_line(f"M{_LEFT} {py(b.value):.1f}h{w}", _BREACH, 0.9, "6 4"),
                      _text(width - _RIGHT - 2, last, b.label, "end", _BREACH)]  # fmt: skip
        elif b.across == "x" and left <= b.value <= right:
            parts += [
                _line(f"M{px(b.value):.1f} {foot}v{h}", _QUIET, 0.8, "2 3"),
                _text(px(b.value) + 3, foot + 9, b.label),
            ]
    column = max(1.5, w / (right - left) * 0.8 / max(len(bars), 1)) if bars else 0.0
    for n, (s, points) in enumerate(drawn):
        colour = _BREACH if s.drawn == "levels" else _CURVES[n % len(_CURVES)]
        parts += _drawn(s, points, colour, _DASHES[n % len(_DASHES)], px, py, column, bars)
        if several:
            x, y = _LEFT + (n % 3) * w / 3, 26 + 14 * (n // 3)
            parts += [_line(f"M{x:.1f} {y - 3:.1f}h16", colour, 1.8, _DASHES[n % len(_DASHES)] if s.drawn == "line" else ""),
                      _text(x + 21, y, _cut(s.label, w / 3 - 24))]  # fmt: skip
    return _svg(figure, width, height, parts)


def _points(series: Series, at: dict[str, float]) -> list[tuple[float, float | None]]:
    """Thinned evenly where there are more than paper can tell apart."""
    pairs = list(zip(_plain(series.x), _plain(series.y), strict=True))
    pairs = pairs[:: ceil(len(pairs) / _MOST_POINTS)] if len(pairs) > _MOST_POINTS else pairs
    found = []
    for x, y in pairs:
        place = at[x] if isinstance(x, str) else _number(x)
        if place is not None:
            found.append((place, _number(y)))
    return found


def _cut(words: str, room: float) -> str:
    most = max(int(room / _LETTER), 3)
    return words if len(words) <= most else words[: most - 1].rstrip() + "…"


def _across(words: list[str], left: float, right: float, px: Any, height: int, w: float) -> list[str]:
    y = height - _BOTTOM + 14
    if not words:
        marks = ticks(left, right, 8)
        step = marks[1] - marks[0] if len(marks) > 1 else 1.0
        return [_text(px(t), y, _said(t, step), "middle") for t in marks]
    each = w / len(words)
    every = max(1, ceil((min(max(len(x) for x in words), 9) * _LETTER + 6) / each))
    return [_text(px(n), y, _cut(x, each * every), "middle") for n, x in enumerate(words) if n % every == 0]


def _drawn(s: Series, points: Sequence[tuple[float, float | None]], colour: str, dash: str, px: Any, py: Any, column: float,
           bars: list[Series]) -> list[str]:  # fmt: skip
    if s.drawn == "line":
        path, pen = "", "M"
        for x, y in points:
            path += "" if y is None else f"{pen}{px(x):.1f} {py(y):.1f}"
            pen = "M" if y is None else "L"
        return [_line(path, colour, 1.6, dash)] if path else []
    there = [(x, y) for x, y in points if y is not None]
    if s.drawn == "bars":
        by = (next(n for n, b in enumerate(bars) if b is s) - (len(bars) - 1) / 2 - 0.5) * column
        tops = [(px(x) + by, min(py(y), py(0.0)), abs(py(y) - py(0.0))) for x, y in there]
        return [
            f'<rect x="{x:.1f}" y="{y:.1f}" width="{column:.1f}" height="{h:.1f}" fill="{colour}"/>' for x, y, h in tops
        ]
    if s.drawn == "levels":
        half = max(column / 2, 4.0)
        return [_line(f"M{px(x) - half:.1f} {py(y):.1f}h{2 * half:.1f}", colour, 1.4) for x, y in there]
    found = [f'<circle cx="{px(x):.1f}" cy="{py(y):.1f}" r="2.2" fill="{colour}"/>' for x, y in there]
    if len(s.labels) == len(points):
        found += [
            _text(px(x), py(y) - 5, t, "middle", _INK)
            for (x, y), t in zip(points, s.labels, strict=True)
            if y is not None
        ]
    return found


def _cells(figure: Figure, width: int) -> str:
    """Words both ways, the figure of each cell by its colour; those beyond a limit are framed."""
    found = [
        (str(x), str(y), v)
        for s in figure.series if s.drawn == "cells"
        for x, y, z in zip(_plain(s.x), _plain(s.y), _plain(s.z), strict=True) if (v := _number(z)) is not None
    ]  # fmt: skip
    if not found:
        return _svg(figure, width, 40, [_text(0, 20, "Nothing is near a limit.")])
    across, down = list(dict.fromkeys(c[0] for c in found)), list(dict.fromkeys(c[1] for c in found))
    low, high = min(c[2] for c in found), max(c[2] for c in found)
    left = min(max(len(d) for d in down) * _LETTER + 10, width * 0.32)
    w, h = (width - left - _RIGHT) / len(across), 13.0 if len(down) <= 60 else max(2.0, 800 / len(down))
    height = 32 + h * len(down) + 8
    limit = next((b.value for b in figure.bounds if b.across == "z"), None)
    z = figure.z
    # Nothing but yes and no: bars of what is so, without a scale.
    plain = z is not None and z.unit == "yes or no"
    digits = (z and z.digits) or 0
    scale = f"{_axis(z.label, z.unit) if z else figure.label}, {low:.{digits}f} to {high:.{digits}f}"
    if z is not None and plain:
        scale = z.label
    parts = [_text(4, 12, scale + ("" if limit is None else f"; framed beyond {limit:g}"))]
    col, row = ({v: n for n, v in enumerate(vs)} for vs in (across, down))
    every = max(1, ceil((min(max(len(a) for a in across), 9) * _LETTER + 6) / w))
    parts += [
        _text(left + (n + 0.5) * w, 26, _cut(a, w * every), "middle") for n, a in enumerate(across) if n % every == 0
    ]
    named = max(1, ceil(11 / h))
    parts += [
        _text(left - 6, 32 + (n + 0.5) * h + 3.5, _cut(d, left - 10), "end")
        for n, d in enumerate(down)
        if n % named == 0
    ]
    size = f'width="{max(w - 1, 0.5):.1f}" height="{max(h - 1, 0.5):.1f}"'
    for x, y, v in found:
        if plain and not v:
            continue
        frame = f' stroke="{_BREACH}" stroke-width="1"' if limit is not None and v > limit else ""
        box = f'x="{left + col[x] * w:.1f}" y="{32 + row[y] * h:.1f}" {size}'
        colour = _CURVES[0] if plain else _heat((v - low) / max(high - low, 1e-12))
        parts.append(f'<rect {box} fill="{colour}"{frame}/>')
    return _svg(figure, width, height, parts)


def _heat(share: float) -> str:
    at = min(max(share, 0.0), 1.0) * (len(_HEAT) - 1)
    n = min(int(at), len(_HEAT) - 2)
    return "#" + "".join(f"{round(a + (b - a) * (at - n)):02X}" for a, b in zip(_HEAT[n], _HEAT[n + 1], strict=True))
