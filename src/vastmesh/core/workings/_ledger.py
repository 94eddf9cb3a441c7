"""A worked calculation that carries its formulas: shown in words, computed here, written as live spreadsheet cells."""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Mapping

from ._base import Cell, Step, Working, figures

_FUNCTIONS: dict[str, tuple[Callable[..., float], str]] = {
    "sqrt": (math.sqrt, "SQRT"), "cos": (math.cos, "COS"), "sin": (math.sin, "SIN"), "abs": (abs, "ABS"),
    "radians": (math.radians, "RADIANS"), "max": (max, "MAX"), "min": (min, "MIN"),
    "ln": (math.log, "LN"),
}  # fmt: skip
_SIGNS: dict[type[ast.operator], tuple[str, str]] = {
    ast.Add: (" + ", "+"), ast.Sub: (" − ", "-"), ast.Mult: (" · ", "*"), ast.Div: (" / ", "/"), ast.Pow: ("^", "^"),
}  # fmt: skip
_RANK: dict[type[ast.operator], int] = {ast.Add: 1, ast.Sub: 1, ast.Mult: 2, ast.Div: 2, ast.Pow: 3}
_POWERS = {2: "²", 3: "³"}


class Ledger:
    """Builds a working line by line; later lines refer to earlier ones by their symbol.

    Expressions are our own constants in Python's arithmetic, parsed and never run: + - * / **, sqrt, sin, cos, abs,
    radians, max, min, ln.
    """

    def __init__(self, title: str, note: str = "") -> None:
        self.title, self.note = title, note
        self.cells: dict[str, Cell] = {}

    def given(self, symbol: str, label: str, value: float, unit: str = "", source: str = "") -> float:
        self.cells[symbol] = Cell(symbol, label, float(value), unit, source)
        return float(value)

    def line(
        self, symbol: str, label: str, expression: str, unit: str = "", source: str = "", solver: float | None = None
    ) -> float:
        """A computed line; returns its value. ``solver``: what the calculation itself found for it."""
        value = evaluate(expression, {s: c.value for s, c in self.cells.items()})
        self.cells[symbol] = Cell(symbol, label, value, unit, source, expression, solver)
        return value

    def working(self) -> Working:
        steps = []
        for c in self.cells.values():
            if c.expression is None:
                steps.append(Step(c.symbol, c.label, "", "", c.value, c.unit, c.source))
                continue
            source = c.source
            if c.solver is not None:
                source = "; ".join(filter(None, [source, f"load flow {figures(c.solver, 7)}"]))
            inputs = in_words(c.expression, {s: figures(x.value) for s, x in self.cells.items()})
            steps.append(Step(c.symbol, c.label, in_words(c.expression), inputs, c.value, c.unit, source))
        return Working(self.title, steps, note=self.note, ledger=tuple(self.cells.values()))


def _parse(expression: str) -> ast.expr:
    return ast.parse(expression, mode="eval").body


def evaluate(expression: str, values: Mapping[str, float]) -> float:
    """Value of an expression. Raises ``KeyError`` for a symbol that has not been given."""

    def of(node: ast.expr) -> float:
        match node:
            case ast.Constant(value=int() | float() as number):
                return float(number)
            case ast.Name(id=name):
                return values[name]
            case ast.UnaryOp(op=ast.USub(), operand=inner):
                return -of(inner)
            case ast.BinOp(left=a, op=op, right=b):
                x, y = of(a), of(b)
                match op:
                    case ast.Add():
                        return x + y
                    case ast.Sub():
                        return x - y
                    case ast.Mult():
                        return x * y
                    case ast.Div():
                        return x / y if y else math.nan
                    case ast.Pow():
                        return float(x**y)
            case ast.Call(func=ast.Name(id=name), args=arguments):
                return float(_FUNCTIONS[name][0](*(of(a) for a in arguments)))
        raise ValueError(f"not part of a worked line: {ast.dump(node)}")

    return of(_parse(expression))


def in_words(expression: str, values: Mapping[str, str] | None = None) -> str:
    """An expression as a reader writes it; with figures in place of symbols when ``values`` are given."""

    def of(node: ast.expr) -> tuple[str, int]:
        match node:
            case ast.Constant(value=int() | float() as number):
                return f"{number:g}", 10
            case ast.Name(id=name):
                shown = values[name] if values else name
                return shown, 1 if shown.startswith(("-", "−")) else 10
            case ast.UnaryOp(operand=inner):
                return f"−{wrapped(inner, 3)}", 2
            case ast.BinOp(left=a, op=ast.Pow(), right=ast.Constant(value=int() as power)) if power in _POWERS:
                return wrapped(a, 10) + _POWERS[power], 9
            case ast.BinOp(left=a, op=op, right=b):
                rank = _RANK[type(op)]
                tight = isinstance(op, ast.Sub | ast.Div | ast.Pow)
                return wrapped(a, rank) + _SIGNS[type(op)][0] + wrapped(b, rank + tight), rank
            case ast.Call(func=ast.Name(id="sqrt"), args=[inner]):
                return f"√({of(inner)[0]})", 10
            case ast.Call(func=ast.Name(id="radians"), args=[inner]):
                return of(inner)
            case ast.Call(func=ast.Name(id=name), args=arguments):
                return f"{name}({'; '.join(of(a)[0] for a in arguments)})", 10
        raise ValueError(f"not part of a worked line: {ast.dump(node)}")

    def wrapped(node: ast.expr, rank: int) -> str:
        text, own = of(node)
        return f"({text})" if own < rank else text

    return of(_parse(expression))[0]


def in_cells(expression: str, place: Mapping[str, str]) -> str:
    """An expression as a spreadsheet formula; ``place``: symbol -> cell."""

    def of(node: ast.expr) -> str:
        match node:
            case ast.Constant(value=number):
                return repr(number)
            case ast.Name(id=name):
                return place[name]
            case ast.UnaryOp(operand=inner):
                return f"(-{of(inner)})"
            case ast.BinOp(left=a, op=op, right=b):
                return f"({of(a)}{_SIGNS[type(op)][1]}{of(b)})"
            case ast.Call(func=ast.Name(id=name), args=arguments):
                return f"{_FUNCTIONS[name][1]}({','.join(of(a) for a in arguments)})"
        raise ValueError(f"not part of a worked line: {ast.dump(node)}")

    return "=" + of(_parse(expression))
