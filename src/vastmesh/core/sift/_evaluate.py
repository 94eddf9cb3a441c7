from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from difflib import get_close_matches
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..units import unit_named
from ._parse import Call, Line, Name, Node, Number, Operation, SiftError, Text, parse

# Function -> what completion and help say about it.
FUNCTIONS: dict[str, str] = {
    "max": "max(column): the largest value of all rows",
    "min": "min(column): the smallest value of all rows",
    "mean": "mean(column): the mean of all rows",
    "sum": "sum(column): the sum of all rows",
    "abs": "abs(value): without its sign",
    "top": "top(column, n): among the n largest",
    "bottom": "bottom(column, n): among the n smallest",
    "blank": "blank(column): rows without a value",
}


class Texts:
    """A column of texts, with what comparing them needs kept once it has been worked out.

    ``words``: id -> name; a text equals both.
    """

    def __init__(self, values: Any, words: Mapping[str, str] | None = None) -> None:
        self._values, self._words = values, words or {}

    @cached_property
    def plain(self) -> NDArray[Any]:
        return np.array(["" if v is None else str(v) for v in self._values], dtype=np.str_)

    @cached_property
    def low(self) -> NDArray[Any]:
        return np.asarray(np.char.lower(self.plain))

    @cached_property
    def named(self) -> NDArray[Any] | None:
        """The names in place of ids, in small letters; None where no text is an id of anything."""
        if not self._words or not any(v in self._words for v in dict.fromkeys(self._values)):
            return None
        return np.char.lower(np.array([self._words.get(v, v) for v in self.plain.tolist()], dtype=np.str_))


@dataclass(frozen=True)
class Frame:
    """Columns of equal length by name, their units, and names of the items that some texts stand for.

    ``words``: id -> name; a text equals both. ``pinned``: the same rows of the pinned run, where there is one.
    ``late``: columns worked out only when a line asks for them.
    """

    columns: Mapping[str, Any]
    units: Mapping[str, str | None]
    size: int
    words: Mapping[str, str] = field(default_factory=dict)
    pinned: Mapping[str, Any] | None = None
    late: Mapping[str, Callable[[], Any]] = field(default_factory=dict)

    def names(self) -> list[str]:
        return [*self.columns, *self.late]


@dataclass(frozen=True)
class Sifted:
    """Rows that fit, in order, and the columns the line speaks of."""

    rows: NDArray[np.int64]
    mentions: list[str]


@dataclass(frozen=True)
class _Value:
    """``kind``: number, text, flag or list; ``data``: an array of all rows, or one value."""

    kind: str
    data: Any
    unit: str | None
    at: int


def sift(text: str, frame: Frame) -> Sifted:
    """Rows of a table that fit a sift line; all of them for an empty one. Raises :class:`SiftError`."""
    return _Evaluation(frame).run(parse(text))


class _Evaluation:
    def __init__(self, frame: Frame) -> None:
        self.frame, self.mentions = frame, dict[str, None]()

    def run(self, line: Line) -> Sifted:
        n = self.frame.size
        keep = np.ones(n, np.bool_)
        if line.test is not None:
            found = self.value(line.test)
            if found.kind != "flag":
                raise SiftError("This is a value, not a test. Compare it with something: = < > ~.", found.at)
            keep = np.broadcast_to(np.asarray(found.data, np.bool_), (n,))
        rows = np.flatnonzero(keep)
        if line.order is not None:
            by = self.value(line.order)
            if by.kind == "flag":
                raise SiftError("Rows are put in order by a column or a figure.", by.at)
            data = by.data.low if isinstance(by.data, Texts) else np.asarray(by.data)
            keys = np.broadcast_to(data, (n,))[rows]
            rows = rows[_ordered(keys, line.largest)]
        return Sifted(rows, list(self.mentions))

    def value(self, node: Node) -> _Value:
        if isinstance(node, Number):
            return _Value("number", node.value, node.unit, node.at)
        if isinstance(node, Text):
            return _Value("text", node.value, None, node.at)
        if isinstance(node, Name):
            return self.column(node)
        if isinstance(node, Call):
            return self.call(node)
        return self.operation(node)

    def column(self, node: Name) -> _Value:
        name, frame = node.name, self.frame
        if name not in frame.columns and name not in frame.late:
            if name.lower() in ("true", "yes", "false", "no") and not node.pinned:
                return _Value("flag", name.lower() in ("true", "yes"), None, node.at)
            close = get_close_matches(name, frame.names(), 3, 0.4)
            hint = f"did you mean {' or '.join(close)}?" if close else "see the headings for the columns there are."
            raise SiftError(f"This table has no column {name}; {hint}", node.at)
        self.mentions[name] = None
        if node.pinned:
            if frame.pinned is None or name not in frame.pinned:
                raise SiftError("There is no pinned run with this column. Pin a result first.", node.at)
            values = frame.pinned[name]
        else:
            values = frame.columns[name] if name in frame.columns else frame.late[name]()
        return _column(values, frame.units.get(name), frame.words, node.at)

    def call(self, node: Call) -> _Value:
        if node.name not in FUNCTIONS:
            raise SiftError(f"There is no function {node.name}; there are {', '.join(FUNCTIONS)}.", node.at)
        wanted = 2 if node.name in ("top", "bottom") else 1
        if len(node.arguments) != wanted:
            raise SiftError(f"Write {FUNCTIONS[node.name].partition(':')[0]}.", node.at)
        first = self.value(node.arguments[0])
        if node.name == "blank":
            blank = (
                first.data.plain == ""
                if isinstance(first.data, Texts)
                else ~np.isfinite(np.asarray(first.data, np.float64))
            )
            return _Value("flag", blank, None, node.at)
        self.need_number(first)
        data = np.asarray(first.data, np.float64)
        if node.name == "abs":
            return _Value("number", np.abs(data), first.unit, node.at)
        known = data[np.isfinite(data)] if data.ndim else data.reshape(1)
        if node.name in ("top", "bottom"):
            count = self.value(node.arguments[1])
            self.need_number(count)
            n = int(np.asarray(count.data).max())
            if n < 1:
                raise SiftError("Say how many: a number from 1.", count.at)
            ranked = np.sort(known)
            if not len(ranked):
                return _Value("flag", np.zeros(self.frame.size, np.bool_), None, node.at)
            limit = ranked[max(len(ranked) - n, 0)] if node.name == "top" else ranked[min(n, len(ranked)) - 1]
            return _Value("flag", data >= limit if node.name == "top" else data <= limit, None, node.at)
        if not len(known):
            return _Value("number", np.nan, first.unit, node.at)
        return _Value("number", float(getattr(np, node.name)(known)), first.unit, node.at)

    def operation(self, node: Operation) -> _Value:
        sign = node.sign
        if sign in ("and", "or", "not"):
            flags = [self.flag(p) for p in node.parts]
            if sign == "not":
                return _Value("flag", np.logical_not(flags[0]), None, node.at)
            found = flags[0]
            for f in flags[1:]:
                found = np.logical_and(found, f) if sign == "and" else np.logical_or(found, f)
            return _Value("flag", found, None, node.at)
        if sign == "list":
            return _Value("list", list(node.parts), None, node.at)
        if sign == "neg":
            inner = self.value(node.parts[0])
            self.need_number(inner)
            return _Value("number", -np.asarray(inner.data), inner.unit, node.at)
        left = self.value(node.parts[0])
        if sign == "in":
            return self.among(left, node.parts[1], node.at)
        right = self.compared(left, node.parts[1])
        if sign in ("=", "!=", "<", "<=", ">", ">=", "~"):
            return _Value("flag", self.compare(sign, left, right, node.at), None, node.at)
        self.need_number(left)
        self.need_number(right)
        a, b = np.asarray(left.data, np.float64), np.asarray(right.data, np.float64)
        if sign in ("+", "-"):
            b = self.in_unit_of(left, right)
            return _Value("number", a + b if sign == "+" else a - b, left.unit or right.unit, node.at)
        if sign == "*":
            return _Value(
                "number", a * b, left.unit if right.unit is None else right.unit if left.unit is None else "", node.at
            )
        with np.errstate(divide="ignore", invalid="ignore"):
            same = left.unit and right.unit and unit_named(left.unit) and self.alike(left, right)
            b = self.in_unit_of(left, right) if same else b
            return _Value("number", a / b, None if same else left.unit if right.unit is None else "", node.at)

    def compared(self, left: _Value, node: Node) -> _Value:
        """The right-hand side; a bare word beside a text is a text."""
        known = isinstance(node, Name) and (node.pinned or node.name in self.frame.names())
        if isinstance(node, Name) and left.kind == "text" and not known:
            return _Value("text", node.name, None, node.at)
        return self.value(node)

    def flag(self, node: Node) -> Any:
        found = self.value(node)
        if found.kind != "flag":
            raise SiftError("This is a value, not a test. Compare it with something: = < > ~.", found.at)
        return found.data

    def among(self, left: _Value, node: Node, at: int) -> _Value:
        parts = node.parts if isinstance(node, Operation) and node.sign == "list" else (node,)
        found: Any = False
        for p in parts:
            found = np.logical_or(found, self.compare("=", left, self.compared(left, p), at))
        return _Value("flag", found, None, at)

    def compare(self, sign: str, left: _Value, right: _Value, at: int) -> Any:
        if sign == "~" or left.kind == "text" or right.kind == "text":
            if left.kind != "text" or right.kind != "text":
                which = left if left.kind != "text" else right
                raise SiftError("Texts are compared with texts, numbers with numbers; this is not a text.", which.at)
            return self.compare_text(sign, left, right, at)
        if left.kind == "flag" or right.kind == "flag":
            if sign not in ("=", "!=") or left.kind != right.kind:
                raise SiftError("Yes and no are compared with = yes or = no.", at)
            return np.equal(left.data, right.data) if sign == "=" else np.not_equal(left.data, right.data)
        a, b = np.asarray(left.data, np.float64), self.in_unit_of(left, right)
        with np.errstate(invalid="ignore"):
            if sign in ("=", "!="):
                near = np.abs(a - b) <= 1e-9 * np.maximum(1.0, np.abs(a))
                return near if sign == "=" else ~near & np.isfinite(a)
            return {"<": np.less, "<=": np.less_equal, ">": np.greater, ">=": np.greater_equal}[sign](a, b)

    def compare_text(self, sign: str, left: _Value, right: _Value, at: int) -> Any:
        if sign not in ("=", "!=", "~"):
            raise SiftError("Texts are compared with =, != or ~ (contains).", at)
        a, b = _small(left.data), _small(right.data)
        test: Callable[[Any, Any], Any] = _contains if sign == "~" else np.equal
        found = test(a, b)
        if isinstance(left.data, Texts) and left.data.named is not None:
            found = np.logical_or(found, test(left.data.named, b))
        return np.logical_not(found) if sign == "!=" else found

    def in_unit_of(self, to: _Value, value: _Value) -> Any:
        """Figures in the unit of another one, rounded once: 700 kW are 0.7 MW and not a hair more."""
        figures = np.asarray(value.data, np.float64)
        if not value.unit or value.unit == to.unit:
            return figures
        if not to.unit:
            if np.ndim(to.data) and not np.ndim(value.data):
                raise SiftError(f"This column has no unit; leave out {value.unit}.", value.at)
            return figures
        mine, theirs = unit_named(value.unit), unit_named(to.unit)
        if mine is None or theirs is None or mine[0] != theirs[0]:
            text = f"{value.unit} can't be compared with {to.unit}; choose the column with the unit you mean."
            raise SiftError(text, value.at)
        return figures * (mine[1] / theirs[1]) if mine[1] >= theirs[1] else figures / (theirs[1] / mine[1])

    def alike(self, a: _Value, b: _Value) -> bool:
        mine, theirs = unit_named(a.unit), unit_named(b.unit)
        return bool(mine and theirs and mine[0] == theirs[0])

    def need_number(self, value: _Value) -> None:
        if value.kind != "number":
            raise SiftError("A number, or a column of numbers, is needed here.", value.at)


def _column(values: Any, unit: str | None, words: Mapping[str, str], at: int) -> _Value:
    if isinstance(values, Texts):
        return _Value("text", values, None, at)
    array = values if isinstance(values, np.ndarray) else np.asarray(values, dtype=object)
    if array.dtype == np.bool_:
        return _Value("flag", array, None, at)
    if array.dtype.kind in "fiu":
        return _Value("number", array, unit, at)
    plain = array.tolist()
    first = next((v for v in plain if v is not None), None)
    if isinstance(first, bool):
        return _Value("flag", np.array([bool(v) for v in plain]), None, at)
    if isinstance(first, int | float):
        return _Value("number", np.array([np.nan if v is None else v for v in plain], np.float64), unit, at)
    return _Value("text", Texts(plain, words), None, at)


def _contains(text: Any, part: Any) -> Any:
    return np.char.find(text, part) >= 0


def _small(data: Any) -> Any:
    return data.low if isinstance(data, Texts) else np.char.lower(np.asarray(data, dtype=np.str_))


def _ordered(keys: Any, largest: bool) -> Any:
    if keys.dtype.kind not in "fiu":
        order = np.argsort(keys, kind="stable")
        return order[::-1] if largest else order
    values = np.where(np.isfinite(keys), -keys if largest else keys, np.inf)
    return np.argsort(values, kind="stable")
