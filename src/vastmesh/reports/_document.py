"""Results as a document: what was asked, the answer, plots, findings and tables of each, as one file for paper or a browser.

Made from what a result declares, so that a new study is in it by itself.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from html import escape
from typing import Any

import numpy as np
from pydantic import BaseModel

from ..core.network.fields import FieldType, specs
from ..core.results import Column, Result, Table
from ._pictures import _render
from ._plots import plot_svg

_MOST_ROWS, _MOST_FINDINGS = 25, 40
# Letters across a page of A4 at the size of tables, upright and turned.
_UPRIGHT, _TURNED = 110, 162
_LONGEST = 64
_PER_LETTER = 4.6  # pt, of the type of tables


@dataclass(frozen=True)
class Section:
    """One result with what it is of. ``facts``: pairs of words in its head; ``notes``: what must be said of it, such as that it
    is out of date."""

    title: str
    result: Result
    facts: Sequence[tuple[str, str]] = ()
    notes: Sequence[str] = ()


def document_html(
    title: str, facts: Sequence[tuple[str, str]], sections: Sequence[Section], *, rows: int = _MOST_ROWS
) -> str:
    """The document as one page that needs nothing else. ``rows``: how many of each table are printed, the first ones."""
    body = [f"<h1>{escape(title)}</h1>", _facts(facts)]
    if len(sections) > 1:
        items = "".join(f'<li><a href="#s{n}">{escape(s.title)}</a></li>' for n, s in enumerate(sections, 1))
        body.append(f'<ol class="contents">{items}</ol>')
    body += [_section(n, s, rows) for n, s in enumerate(sections, 1)]
    head = f"<head><meta charset='utf-8'><title>{escape(title)}</title><style>{_STYLE}</style></head>"
    return f"<!doctype html><html lang='en'>{head}<body>{''.join(body)}</body></html>"


def document_pdf(html: str) -> bytes:
    """The same on A4, pages numbered."""
    return _render(html)


def options_in_words(
    model: type[BaseModel], options: Mapping[str, Any], names: Mapping[str, str]
) -> list[tuple[str, str]]:
    """What a study was asked with, as label and value. ``names``: of elements, by id."""
    found = []
    for name, spec in specs(model).items():
        value = options.get(name)
        if value is None or value == "" or value == [] or value == ():
            continue
        if spec.when and any(options.get(o) not in allowed for o, allowed in spec.when.items()):
            continue
        found.append((spec.label, _option(value, spec.shown_unit, spec.shown_factor, spec.type, names)))
    return found


def _option(value: Any, unit: str | None, factor: float, kind: FieldType, names: Mapping[str, str]) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return f"{value * factor:g} {unit or ''}".strip()
    if isinstance(value, list | tuple):
        return ", ".join(_option(v, unit, factor, kind, names) for v in value)
    return names.get(str(value), str(value).replace("_", " ") if kind is FieldType.CHOICE else str(value))


def _facts(pairs: Sequence[tuple[str, str]]) -> str:
    if not pairs:
        return ""
    return "<dl>" + "".join(f"<div><dt>{escape(k)}</dt><dd>{escape(v)}</dd></div>" for k, v in pairs) + "</dl>"


def _section(number: int, s: Section, rows: int) -> str:
    r = s.result
    parts = [f'<section id="s{number}"><h2>{escape(s.title)}</h2>', _facts(s.facts)]
    parts += [f'<p class="note">{escape(n)}</p>' for n in s.notes]
    said = r.statement or r.account.explanation
    if said:
        parts.append(f'<p class="answer">{escape(said)}</p>')
    parts += [f"<figure>{plot_svg(f)}<figcaption>{escape(f.label)}</figcaption></figure>" for f in r.figures]
    parts.append(_findings(r))
    parts += [_table(t, rows) for t in r.tables.values()]
    parts.append(_assumed(r))
    return "".join(parts) + "</section>"


def _findings(r: Result) -> str:
    if not r.findings:
        return ""
    lines = [f'<li class="{f.severity}">{escape(_of(f, r))}{escape(f.text)}</li>' for f in r.findings[:_MOST_FINDINGS]]
    left = len(r.findings) - len(lines)
    return (
        f"<h3>Findings</h3><ul>{''.join(lines)}</ul>"
        + (f'<p class="note">and {left} further ones</p>' if left else "")
    )  # fmt: skip


def _of(finding: Any, r: Result) -> str:
    for t in r.tables.values():
        if any(c.name == "name" for c in t.columns) and finding.element in (ids := list(t.columns[0].values)):
            return f"{t['name'][ids.index(finding.element)]}: "
    return f"{finding.element}: "


def _assumed(r: Result) -> str:
    lines = [*r.account.notes, *r.account.assumed]
    if not lines:
        return f'<p class="note">Method: {escape(r.account.method)}</p>' if r.account.method else ""
    method = f'<p class="note">Method: {escape(r.account.method)}</p>' if r.account.method else ""
    return f"<h3>Taken for granted</h3><ul class='note'>{''.join(f'<li>{escape(t)}</li>' for t in lines)}</ul>{method}"


def _table(t: Table, rows: int) -> str:
    """The first rows, as many columns as fit across a page; what is left out is said."""
    if not len(t):
        return f'<h3>{escape(t.label)}</h3><p class="note">Empty.</p>'
    named = any(c.name == "name" for c in t.columns)
    columns = [
        c for k, c in enumerate(t.columns) if not c.view and not (k == 0 and named) and not c.name.endswith("_id")
    ]
    texts = [[_cell(v, c) for v in _first(c, rows)] for c in columns]
    shown: list[int] = []
    widths: list[int] = []
    wide = 0
    for k, (c, values) in enumerate(zip(columns, texts, strict=True)):
        if shown and not any(values):
            continue  # a column without anything says nothing on paper
        own = min(max(_word(c.label) + 1, *(len(v) for v in values), len(c.unit or "")), 30) + 3
        if wide + own > _TURNED:
            break
        wide += own
        shown.append(k)
        widths.append(own)
    left = sum(1 for k in range(shown[-1] + 1, len(columns)) if any(texts[k]))
    head = "".join(
        f'<th class="{_side(columns[k])}">{escape(columns[k].label)}<br><i>{escape(columns[k].unit or "")}</i></th>'
        for k in shown
    )
    body = "".join(
        "<tr>" + "".join(f'<td class="{_side(columns[k])}">{escape(texts[k][n])}</td>' for k in shown) + "</tr>"
        for n in range(len(texts[shown[0]]))
    )
    missing = [f"the first {rows} of {len(t)} rows"] if len(t) > rows else []
    missing += [f"{left} further columns are left out"] if left else []
    said = f'<p class="note">{"; ".join(missing)}; the exported table has all.</p>' if missing else ""
    turned = ' class="turned"' if wide > _UPRIGHT else ""
    # Widths that are known need no second look at every cell, which is most of the work of setting a page.
    fixed = "".join(f'<col style="width:{own * _PER_LETTER:.1f}pt">' for own in widths)
    return (
        f'<div{turned}><h3>{escape(t.label)}</h3><table style="width:{wide * _PER_LETTER:.1f}pt"><colgroup>{fixed}</colgroup>'
        f"<thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>{said}</div>"
    )


def _word(label: str) -> int:
    """A heading is broken between words."""
    return max((len(w) for w in label.split()), default=0)


def _first(c: Column, rows: int) -> list[Any]:
    values = c.values[:rows]
    return list(values.tolist()) if isinstance(values, np.ndarray) else list(values)


def _side(c: Column) -> str:
    numbers = c.digits is not None or (isinstance(c.values, np.ndarray) and c.values.dtype.kind in "fiu")
    return "n" if numbers else "t"


def _cell(value: Any, c: Column) -> str:
    if value is None or (isinstance(value, float) and value != value):
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return f"{value:.{c.digits}f}" if c.digits is not None else f"{value:g}"
    text = str(value)
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1].rstrip() + "…"


_STYLE = """
@page { size: A4; margin: 16mm 15mm 18mm;
  @bottom-right { content: counter(page); font-size: 8pt; color: #5B6673 } }
@page turned { size: A4 landscape }
body { font: 9.5pt/1.4 'IBM Plex Sans', system-ui, sans-serif; color: #1D2733; margin: 0 auto; max-width: 1100px }
@media screen { body { padding: 24px } div { overflow-x: auto } }
h1 { font-size: 17pt; font-weight: 600; margin: 0 0 6pt }
h2 { font-size: 13pt; font-weight: 600; margin: 16pt 0 4pt; border-top: 0.6pt solid #1D2733; padding-top: 5pt }
h2 { break-after: avoid }
h3 { font-size: 10pt; font-weight: 500; color: #0E6674; margin: 10pt 0 3pt; break-after: avoid }
dl { margin: 0 0 6pt; display: flex; flex-wrap: wrap; gap: 2pt 14pt } dl div { display: inline-block; margin-right: 12pt }
dt { color: #5B6673; font-size: 8pt } dd { margin: 0 }
.answer { font-weight: 500 } .note { color: #5B6673; font-size: 8.5pt; margin: 3pt 0 }
ol.contents { padding-left: 16pt; margin: 4pt 0 } a { color: #0E6674; text-decoration: none }
ul { margin: 2pt 0; padding-left: 14pt } li.breach { color: #9B1B5A } li.watch { color: #865500 }
figure { margin: 6pt 0; break-inside: avoid } figure svg { width: 100%; height: auto; display: block }
figcaption { font-size: 8.5pt; color: #5B6673 }
table { border-collapse: collapse; table-layout: fixed; font: 7.6pt/1.3 'IBM Plex Mono', monospace }
th { font: 400 7.6pt/1.2 'IBM Plex Sans', sans-serif; color: #5B6673; vertical-align: bottom } th i { font-style: normal }
th, td { padding: 1.2pt 5pt; border-bottom: 0.4pt solid #DDD6C8; overflow-wrap: break-word }
td.t, th.t { text-align: left; font-family: 'IBM Plex Sans', sans-serif }
td.n, th.n { text-align: right } td.n { white-space: nowrap } tr { break-inside: avoid } .turned { page: turned }
"""
