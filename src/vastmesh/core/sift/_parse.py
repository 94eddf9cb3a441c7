from __future__ import annotations

import re
from dataclasses import dataclass

from ..errors import DataError

LONGEST, DEEPEST = 2000, 40

_TOKEN = re.compile(
    r"""\s*(?:
      (?P<number>(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)
    | (?P<text>"[^"]*"|'[^']*')
    | (?P<name>[^\W\d][\w.]*)
    | (?P<sign><=|>=|!=|<>|==|[-+*/()=<>~,%°Ω≤≥≠])
    )""",
    re.VERBOSE,
)
_SAME = {"==": "=", "<>": "!=", "≠": "!=", "≤": "<=", "≥": ">="}
_COMPARES = ("=", "!=", "<", "<=", ">", ">=", "~", "in")
_WORDS = {"and", "or", "not", "in", "largest", "smallest", "first"}


class SiftError(DataError):
    """A sift line that can't be read or does not fit its table; ``position`` counts characters from 0."""

    code = "sift"

    def __init__(self, message: str, position: int) -> None:
        super().__init__(message, position)
        self.message, self.position = message, position

    def __str__(self) -> str:
        return self.message


@dataclass(frozen=True)
class Number:
    value: float
    unit: str | None
    at: int


@dataclass(frozen=True)
class Text:
    value: str
    at: int


@dataclass(frozen=True)
class Name:
    """A column; of the pinned run where ``pinned``."""

    name: str
    pinned: bool
    at: int


@dataclass(frozen=True)
class Call:
    name: str
    arguments: tuple[Node, ...]
    at: int


@dataclass(frozen=True)
class Operation:
    """``sign``: an arithmetic or comparing sign, and, or, not, neg, in, list."""

    sign: str
    parts: tuple[Node, ...]
    at: int


Node = Number | Text | Name | Call | Operation


@dataclass(frozen=True)
class Line:
    test: Node | None
    order: Node | None
    largest: bool


@dataclass(frozen=True)
class _Token:
    kind: str
    text: str
    at: int


def _tokens(text: str) -> list[_Token]:
    if len(text) > LONGEST:
        raise SiftError(f"A sift line has at most {LONGEST} characters; this one has {len(text)}.", LONGEST)
    found, at = [], 0
    while at < len(text) and text[at:].strip():
        match = _TOKEN.match(text, at)
        if match is None:
            start = at + len(text[at:]) - len(text[at:].lstrip())
            raise SiftError(f"{text[start]!r} means nothing here. Put texts between quotation marks.", start)
        kind = str(match.lastgroup)
        found.append(_Token(kind, _SAME.get(match[kind], match[kind]), match.start(kind)))
        at = match.end()
    return [*found, _Token("end", "", len(text))]


class _Parser:
    def __init__(self, text: str) -> None:
        self.tokens, self.here, self.depth = _tokens(text), 0, 0

    @property
    def next(self) -> _Token:
        return self.tokens[self.here]

    def take(self, *texts: str) -> _Token | None:
        token = self.next
        if token.kind in ("name", "sign") and token.text.lower() in texts:
            self.here += 1
            return token
        return None

    def need(self, text: str, why: str) -> None:
        if not self.take(text):
            raise SiftError(f"{why}; found {self.next.text or 'the end of the line'}.", self.next.at)

    def line(self) -> Line:
        test = None if self.next.kind == "end" or self._orders() else self.test()
        order, largest = None, True
        self.take(",")
        if token := self.take("largest", "smallest"):
            largest = token.text.lower() == "largest"
            order = self.sum()
            self.need("first", 'Write "first" behind what is put in order')
        if self.next.kind != "end":
            raise SiftError(
                f"{self.next.text!r} is not expected here. Join tests with and, or; compare with = < > ~.", self.next.at
            )
        return Line(test, order, largest)

    def _orders(self) -> bool:
        return self.next.kind == "name" and self.next.text.lower() in ("largest", "smallest")

    def test(self) -> Node:
        self.depth += 1
        if self.depth > DEEPEST:
            raise SiftError(f"Brackets go deeper than {DEEPEST} levels.", self.next.at)
        parts = [self.all()]
        at = self.next.at
        while self.take("or"):
            parts.append(self.all())
        self.depth -= 1
        return parts[0] if len(parts) == 1 else Operation("or", tuple(parts), at)

    def all(self) -> Node:
        parts = [self.no()]
        at = self.next.at
        while self.take("and"):
            parts.append(self.no())
        return parts[0] if len(parts) == 1 else Operation("and", tuple(parts), at)

    def no(self) -> Node:
        inverted, at = False, self.next.at
        while self.take("not"):
            inverted = not inverted
        found = self.compare()
        return Operation("not", (found,), at) if inverted else found

    def compare(self) -> Node:
        left = self.sum()
        if token := self.take(*_COMPARES):
            return Operation(token.text.lower(), (left, self.sum()), token.at)
        return left

    def sum(self) -> Node:
        found = self.product()
        while token := self.take("+", "-"):
            found = Operation(token.text, (found, self.product()), token.at)
        return found

    def product(self) -> Node:
        found = self.factor()
        while token := self.take("*", "/"):
            found = Operation(token.text, (found, self.factor()), token.at)
        return found

    def factor(self) -> Node:
        signs, at = 0, self.next.at
        while self.take("-"):
            signs += 1
        found = self.plain()
        return Operation("neg", (found,), at) if signs % 2 else found

    def plain(self) -> Node:
        token = self.next
        if token.kind == "number":
            self.here += 1
            return Number(float(token.text), self._unit(), token.at)
        if token.kind == "text":
            self.here += 1
            return Text(token.text[1:-1], token.at)
        if token.kind == "name" and token.text.lower() not in _WORDS:
            self.here += 1
            if self.take("("):
                return Call(token.text.lower(), self._list(), token.at)
            first, _, rest = token.text.partition(".")
            return Name(rest, True, token.at) if first == "pinned" and rest else Name(token.text, False, token.at)
        if self.take("("):
            parts = self._list()
            return parts[0] if len(parts) == 1 else Operation("list", parts, token.at)
        raise SiftError(
            f"A value, a column or a bracket is expected; found {token.text or 'the end of the line'}.", token.at
        )

    def _list(self) -> tuple[Node, ...]:
        parts = [self.test()]
        while self.take(","):
            parts.append(self.test())
        self.need(")", "A closing bracket is missing")
        return tuple(parts)

    def _unit(self) -> str | None:
        from ..units import unit_named

        token = self.next
        if token.text in ("%", "°", "Ω") or (token.kind == "name" and unit_named(token.text)):
            self.here += 1
            return token.text
        return None


def parse(text: str) -> Line:
    """Parse a sift line. Raises :class:`SiftError` with the place and a remedy."""
    return _Parser(text).line()
