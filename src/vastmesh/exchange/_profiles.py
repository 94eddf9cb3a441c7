"""Profiles from CSV, Parquet or pasted rows: a column of moments, and one for each profile."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from itertools import pairwise
from math import isfinite, nan
from typing import Any, Literal

from ..core.errors import FieldProblem, InvalidFields, UnreadableFile
from ..core.network import Area, Element, Load, Network
from ..core.network.elements.profile import MOST, pack
from ._rows import rows_of, without_unit

Gaps = Literal["refuse", "fill"]
_MOST_CELLS, _MOST_FILLED, _MOST_TOLD = 3_000_000, 24, 5
_MOMENTS = (
    "%Y-%m-%d %H:%M",
    "%Y-%m-%d %H:%M:%S",
    "%d.%m.%Y %H:%M",
    "%d.%m.%Y %H:%M:%S",
    "%d/%m/%Y %H:%M",
    "%d/%m/%Y %H:%M:%S",
)
_STEPS = (5, 10, 15, 20, 30, 60, 120, 180, 240, 360, 720, 1440)


@dataclass
class Read:
    """Profiles as items, and what was noticed on the way."""

    items: list[dict[str, Any]]
    notes: list[str] = field(default_factory=list)


def read_profiles(data: bytes, network: Network, *, zone: str = "UTC", gaps: Gaps = "refuse") -> Read:
    """Profiles of equal steps. ``gaps``: filled on a straight line up to 24 steps, or refused. Headings name a demand class, an
    energy, an area, an element, or ``demand``; MW after a comma or in brackets makes an element's figures megawatts.

    Raises :class:`UnreadableFile` naming row and value, or :class:`InvalidFields` naming the column.
    """
    heads, moments, columns = _parquet(data) if data[:4] == b"PAR1" else _text(data)
    step, begins, steps, notes = _clock(moments)
    of = [_meaning(network, h) for h in heads]
    wrong = [
        FieldProblem("file", "heading", h, _known(network)) for h, found in zip(heads, of, strict=True) if found is None
    ]
    if wrong:
        raise InvalidFields(wrong[:20])
    found = []
    for head, meaning, column in zip(heads, of, columns, strict=True):
        assert meaning is not None
        scales, key, means = meaning
        values = _whole(column, steps, head, gaps, notes)
        name = key or "All demand"
        item = network.items.get(key)
        found.append({
            "kind": "profile", "id": f"profile-{scales}-{key}" if key else "profile-demand",
            "name": f"{item.name if item is not None else name.capitalize()}, profile"[:80], "scales": scales, "key": key,
            "means": means, "begins": f"{begins:%Y-%m-%dT%H:%M}", "step_min": step, "zone": zone, "packed": list(pack(values)),
        })  # fmt: skip
    return Read(found, notes)


def _known(network: Network) -> str:
    classes = sorted({e.demand_class for e in network.elements() if isinstance(e, Load)})
    return f"name demand, an energy (wind, solar ...), a demand class ({', '.join(classes[:6])} ...), an area or an element"


def _meaning(network: Network, head: str) -> tuple[str, str, str] | None:
    """What a heading stands for: of what, which, and in what figures."""
    means = "mw" if re.search(r"[,(\[]\s*MW\s*[)\]]?\s*$", head, re.IGNORECASE) else "factor"
    word = (without_unit(head) if means == "mw" else head).strip()
    if word.lower() == "demand":
        return "demand", "", "factor"
    items = list(network.items.values())
    for e in items:
        if isinstance(e, Element) and word in (e.id, e.name):
            return "element", e.id, means
    if means == "mw":
        return None
    if any(isinstance(e, Load) and e.demand_class == word for e in items):
        return "class", word, means
    if any(getattr(e, "energy", None) == word for e in items):
        return "energy", word, means
    for e in items:
        if isinstance(e, Area) and word in (e.id, e.name):
            return "area", e.id, means
    return None


Columns = tuple[list[str], list[datetime], list[list[float]]]


def _text(data: bytes) -> Columns:
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise UnreadableFile("it is neither Parquet nor text in UTF-8") from None
    if (many := text.count("\n")) > MOST + 1:
        raise UnreadableFile(
            f"it has {many} rows; at most {MOST} steps can be read, three years by the quarter of an hour"
        )
    first = text.partition("\n")[0]
    delimiter = max("\t;,", key=first.count)
    rows = [r for r in rows_of(text, delimiter) if any(c.strip() for c in r)]
    if len(rows) < 3:
        raise UnreadableFile("it needs a row of headings and at least two steps below it")
    heads = [h.strip() for h in rows[0]]
    if len(heads) < 2:
        raise UnreadableFile("it needs a column of moments and at least one of figures", line=1)
    if len(rows) * len(heads) > _MOST_CELLS:
        raise UnreadableFile(f"it has more than {_MOST_CELLS} cells; import fewer columns at a time")
    comma = delimiter in "\t;"
    moments: list[datetime] = []
    columns: list[list[float]] = [[] for _ in heads[1:]]
    for line, row in enumerate(rows[1:], 2):
        if len(row) != len(heads):
            raise UnreadableFile(f"it has {len(row)} cells where the headings are {len(heads)}", line=line)
        moments.append(_moment(row[0], line))
        for head, column, cell in zip(heads[1:], columns, row[1:], strict=True):
            column.append(_figure(cell, head, line, comma=comma))
    return heads[1:], moments, columns


def _figure(cell: str, head: str, line: int, *, comma: bool) -> float:
    text = cell.strip()
    if not text:
        return nan
    try:
        value = float(text.replace(",", ".") if comma else text)
    except ValueError:
        raise UnreadableFile(f"{head}: {text[:40]!r} is no number", line=line) from None
    if not isfinite(value):
        raise UnreadableFile(f"{head}: {text[:40]!r} is no finite number", line=line)
    return value


def _moment(cell: str, line: int) -> datetime:
    text = cell.strip().replace("T", " ")
    offset = re.fullmatch(r"(.*?)\s*(Z|[+-]\d{2}:?\d{2})", text)
    if offset:
        text = offset[1]
    for form in _MOMENTS:
        try:
            found = datetime.strptime(text, form)
        except ValueError:
            continue
        if offset and offset[2] != "Z":
            sign = 1 if offset[2][0] == "+" else -1
            digits = offset[2][1:].replace(":", "")
            found -= sign * timedelta(hours=int(digits[:2]), minutes=int(digits[2:]))
        return found
    raise UnreadableFile(f"{cell.strip()[:40]!r} is no moment; write it as 2025-01-31 18:30", line=line)


def _parquet(data: bytes) -> Columns:
    import polars as pl

    try:
        frame = pl.read_parquet(io.BytesIO(data), n_rows=MOST + 1)
    except Exception:
        raise UnreadableFile("it can't be read as Parquet") from None
    if len(frame) > MOST:
        raise UnreadableFile(f"it has more rows than the {MOST} steps that can be read")
    when = next((c for c, t in zip(frame.columns, frame.dtypes, strict=True) if t in (pl.Datetime, pl.Date)), None)
    if when is None or len(frame.columns) < 2 or len(frame) < 2:
        raise UnreadableFile("it needs a column of moments, at least one of figures, and two rows")
    taken = frame[when].cast(pl.Datetime("us"))
    if taken.null_count():
        raise UnreadableFile("a moment is missing", line=int(taken.is_null().arg_max() or 0) + 1)
    moments = [m.replace(tzinfo=None) for m in taken.to_list()]
    heads = [c for c in frame.columns if c != when]
    columns = []
    for head in heads:
        if not frame[head].dtype.is_numeric():
            raise UnreadableFile(f"{head}: the column holds no numbers")
        columns.append([nan if v is None else float(v) for v in frame[head].to_list()])
    return heads, moments, columns


def _clock(moments: Sequence[datetime]) -> tuple[int, datetime, list[int], list[str]]:
    """Step in minutes, when it begins, the number of the step of every row, and what was noticed.

    An hour that is left out or comes twice is a change of the clock: the steps go on.
    """
    apart = [round((b - a).total_seconds() / 60) for a, b in pairwise(moments)]
    step = max(set(apart), key=apart.count)
    if step not in _STEPS:
        text = f"rows are mostly {step} minutes apart; steps may be {', '.join(map(str, _STEPS))} minutes"
        raise UnreadableFile(text, line=2)
    steps, notes, at = [0], [], 0
    for line, (gone, moment) in enumerate(zip(apart, moments[1:], strict=True), 3):
        if gone == step:
            at += 1
        elif gone == step + 60 and step <= 60 and _may_change(moment):
            at += 1
            notes.append(f"Row {line}: the clock was set forward before {moment:%Y-%m-%d %H:%M}.")
        elif gone == step - 60 and step <= 60 and _may_change(moment):
            at += 1
            notes.append(f"Row {line}: the clock was set back before {moment:%Y-%m-%d %H:%M}.")
        elif gone > step and gone % step == 0:
            at += gone // step
        else:
            text = f"{moment:%Y-%m-%d %H:%M} does not follow the row before by {step} minutes"
            raise UnreadableFile(text, line=line)
        steps.append(at)
    if at + 1 > MOST:
        raise UnreadableFile(f"from the first to the last moment there are {at + 1} steps; at most {MOST} can be read")
    return step, moments[0], steps, notes


def _may_change(moment: datetime) -> bool:
    """Clocks are changed by night, in spring or in autumn, on either side of the equator."""
    return moment.month in (3, 4, 9, 10, 11) and moment.hour <= 4


def _whole(column: Sequence[float], steps: Sequence[int], head: str, gaps: Gaps, notes: list[str]) -> list[float]:
    """Figures of all steps, those that are missing on a straight line between their neighbours."""
    values = [nan] * (steps[-1] + 1)
    for at, v in zip(steps, column, strict=True):
        values[at] = v
    lacking = [n for n, v in enumerate(values) if v != v]
    if not lacking:
        return values
    row_of = {at: n + 2 for n, at in enumerate(steps)}
    runs: list[list[int]] = []
    for n in lacking:
        if runs and n == runs[-1][-1] + 1:
            runs[-1].append(n)
        else:
            runs.append([n])
    longest = max(runs, key=len)
    where = ", ".join(f"step {r[0] + 1}" + (f" to {r[-1] + 1}" if len(r) > 1 else "") for r in runs[:_MOST_TOLD])
    more = f" and {len(runs) - _MOST_TOLD} more" if len(runs) > _MOST_TOLD else ""
    first = next((row_of[n] for n in (lacking[0], lacking[0] - 1) if n in row_of), None)
    if gaps == "refuse":
        text = f"{head}: figures are missing at {where}{more}; complete them, or let gaps be filled"
        raise UnreadableFile(text, line=first)
    if len(longest) > _MOST_FILLED or runs[0][0] == 0 or runs[-1][-1] == len(values) - 1:
        gap = f"{longest[0] + 1} to {longest[-1] + 1}"
        text = f"{head}: the gap at step {gap} can't be filled: up to {_MOST_FILLED} steps between figures can"
        raise UnreadableFile(text, line=first)
    for run in runs:
        a, b = values[run[0] - 1], values[run[-1] + 1]
        for k, n in enumerate(run, 1):
            values[n] = a + (b - a) * k / (len(run) + 1)
    notes.append(f"{head}: {len(lacking)} missing figures were filled on a straight line: {where}{more}.")
    return values
