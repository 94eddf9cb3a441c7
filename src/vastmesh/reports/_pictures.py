"""The sheet as PDF: true vectors, the program's own type inside, on one page or several."""

from __future__ import annotations

import re
from html import escape
from math import ceil
from typing import Any

from defusedxml import ElementTree
from defusedxml.common import DefusedXmlException

from ..core.errors import FieldProblem, InvalidFields

# Paper, short and long side in mm (ISO 216; ANSI/ASME Y14.1 for letter and tabloid).
PAPERS: dict[str, tuple[float, float]] = {
    "A4": (210, 297), "A3": (297, 420), "A2": (420, 594), "A1": (594, 841), "A0": (841, 1189),
    "letter": (215.9, 279.4), "tabloid": (279.4, 431.8),
}  # fmt: skip
_MARGIN, _TITLE = 10.0, 14.0  # mm
_MOST_PAGES = 60
_MOST_DRAWN = 120_000_000  # characters, of all pages together
_MOST_DEEP = 60
# What pictures of the sheet are made of. Nothing that draws something else again: a few lines of that can take for ever.
_DRAWN = frozenset({
    "svg", "g", "defs", "title", "style", "path", "line", "rect", "circle", "ellipse", "polygon", "polyline", "text", "tspan",
    "image", "linearGradient", "radialGradient", "stop", "pattern", "clipPath",
})  # fmt: skip
_REPEATED = frozenset({"pattern", "clipPath"})
_VIEW = re.compile(r'viewBox="\s*(-?[\d.]+)[\s,]+(-?[\d.]+)[\s,]+([\d.]+)[\s,]+([\d.]+)\s*"')
_MM_PER_UNIT = 0.2646  # a CSS pixel


def picture_pdf(svg: str, *, paper: str, title: str, lines: list[str], mm_per_unit: float | None = None) -> bytes:
    """PDF of a picture given as SVG with a view box, with a title block at the foot of every page.

    Fitted to one page, turned as suits it; with ``mm_per_unit`` drawn at that scale over as many pages as it takes.
    Raises :class:`InvalidFields` for a picture or paper that can't be used.
    """
    if paper not in PAPERS:
        raise InvalidFields([FieldProblem("picture", "paper", paper, "choose one of " + ", ".join(PAPERS))])
    x, y, w, h = _checked(svg)
    short, long = PAPERS[paper]
    width, height = (long, short) if w >= h else (short, long)
    room_w, room_h = width - 2 * _MARGIN, height - 2 * _MARGIN - _TITLE
    if mm_per_unit is None:
        tiles = [(x, y, w, h)]
        scale = min(room_w / w, room_h / h)
    else:
        scale = mm_per_unit
        cols, rows = ceil(w * scale / room_w), ceil(h * scale / room_h)
        if cols * rows > _MOST_PAGES:
            allowed = f"{cols * rows} pages; choose a smaller scale or larger paper, at most {_MOST_PAGES} pages"
            raise InvalidFields([FieldProblem("picture", "scale", mm_per_unit, allowed)])
        step_w, step_h = room_w / scale, room_h / scale
        tiles = [
            (x + c * step_w, y + r * step_h, min(step_w, w - c * step_w), min(step_h, h - r * step_h))
            for r in range(rows) for c in range(cols)
        ]  # fmt: skip
    if len(svg) * len(tiles) > _MOST_DRAWN:
        allowed = f"{len(tiles)} pages of a picture this large are too much; choose a smaller scale or larger paper"
        raise InvalidFields([FieldProblem("picture", "scale", mm_per_unit, allowed)])
    pages = []
    for n, (tx, ty, tw, th) in enumerate(tiles, 1):
        box = f'viewBox="{tx:g} {ty:g} {tw:g} {th:g}" width="{tw * scale:.3f}mm" height="{th * scale:.3f}mm"'
        cut = _VIEW.sub(box, _without_size(svg), count=1)
        count = f"Page {n} of {len(tiles)}" if len(tiles) > 1 else ""
        foot = " · ".join(escape(t) for t in [*lines, count] if t)
        block = f'<div class="block"><b>{escape(title)}</b><br>{foot}</div>'
        pages.append(f'<section><div class="picture">{cut}</div>{block}</section>')
    style = (
        f"@page {{ size: {width}mm {height}mm; margin: {_MARGIN}mm }}"
        "body { margin: 0; font-family: 'IBM Plex Sans', sans-serif; font-size: 8pt; color: #1D2733 }"
        "section { break-after: page; position: relative } section:last-child { break-after: auto }"
        f".picture {{ height: {room_h:.3f}mm }} svg {{ display: block }}"
        f".block {{ height: {_TITLE - 3}mm; border-top: 0.3mm solid #1D2733; padding-top: 1.5mm; margin-top: 1mm }}"
    )
    return _render(f"<html><head><style>{style}</style></head><body>{''.join(pages)}</body></html>")


def _render(html: str) -> bytes:
    from weasyprint import CSS, HTML
    from weasyprint.text.fonts import FontConfiguration

    fonts = FontConfiguration()
    faces = CSS(string=_faces(), font_config=fonts)
    found: bytes = HTML(string=html, url_fetcher=_only_our_fonts).write_pdf(stylesheets=[faces], font_config=fonts)
    return found


def _font_files() -> dict[str, Any]:
    from pathlib import Path

    folder = Path(__file__).parent.parent / "web" / "assets"
    names = {"IBM Plex Sans:400": "IBMPlexSans-Regular", "IBM Plex Sans:500": "IBMPlexSans-Medium",
             "IBM Plex Sans:600": "IBMPlexSans-SemiBold", "IBM Plex Mono:400": "IBMPlexMono-Regular",
             "IBM Plex Mono:500": "IBMPlexMono-Medium"}  # fmt: skip
    found = {k: next(iter(folder.glob(f"{v}*.woff2")), None) for k, v in names.items()}
    return {k: v for k, v in found.items() if v}


def _faces() -> str:
    faces = []
    for key, file in _font_files().items():
        family, weight = key.split(":")
        faces.append(f"@font-face {{ font-family: '{family}'; font-weight: {weight}; src: url('{file.as_uri()}') }}")
    return "".join(faces)


def _only_our_fonts(url: str, *args: Any, **kwargs: Any) -> Any:
    """Nothing that a picture names is fetched: only the fonts that ship with the program are read."""
    from weasyprint import default_url_fetcher

    if url not in {f.as_uri() for f in _font_files().values()}:
        raise ValueError(f"{url[:60]} is not fetched")
    return default_url_fetcher(url, *args, **kwargs)


def _checked(svg: str) -> tuple[float, float, float, float]:
    problem = FieldProblem("picture", "svg", f"{len(svg)} characters", "send one SVG picture with a view box")
    try:
        root = ElementTree.fromstring(svg)
    except (ElementTree.ParseError, DefusedXmlException):
        raise InvalidFields([problem]) from None
    found = _VIEW.search(svg[: svg.find(">") + 1])
    if not str(root.tag).endswith("svg") or found is None or float(found[3]) <= 0 or float(found[4]) <= 0:
        raise InvalidFields([problem])
    _plain(root, 0, repeated=False)
    return float(found[1]), float(found[2]), float(found[3]), float(found[4])


def _plain(element: Any, depth: int, *, repeated: bool) -> None:
    """Nothing but what is drawn once. Raises :class:`InvalidFields`."""
    name = str(element.tag).rpartition("}")[2]
    if name not in _DRAWN or depth > _MOST_DEEP:
        what = f"nothing nested more than {_MOST_DEEP} deep" if name in _DRAWN else f"{', '.join(sorted(_DRAWN))} only"
        raise InvalidFields([FieldProblem("picture", "svg", name, f"it may have {what}")])
    if repeated and any("url(" in str(v) for v in element.attrib.values()):
        raise InvalidFields([FieldProblem("picture", "svg", name, "a pattern may not be filled with another one")])
    for child in element:
        _plain(child, depth + 1, repeated=repeated or name in _REPEATED)


def _without_size(svg: str) -> str:
    head, rest = svg[: svg.find(">") + 1], svg[svg.find(">") + 1 :]
    return re.sub(r'\s(width|height)="[^"]*"', "", head) + rest
