"""Giving out names that are not taken yet."""

from __future__ import annotations

from .network import Network


class Namer:
    """Free names of a network; each one given out counts as taken.

    What is new has one word for id and name, so neither may be taken; ``of`` looks at "names" or "ids" alone.
    """

    def __init__(self, network: Network, of: str = "both") -> None:
        self._taken = set(network.items) if of != "names" else set[str]()
        if of != "ids":
            self._taken |= {i.name for i in network.items.values()}
        self._number: dict[str, int] = {}

    def plain(self, stem: str) -> str:
        """The stem itself, or the first of "stem (2)", "stem (3)" ... that is not taken."""
        number = self._number.get(stem, 1)
        found = stem if number == 1 else f"{stem} ({number})"
        while found in self._taken:
            number += 1
            found = f"{stem} ({number})"
        self._number[stem] = number
        self._taken.add(found)
        return found

    def next(self, stem: str) -> str:
        """The first of "stem 1", "stem 2" ... that is not taken, counting on from a number at its end."""
        head = stem.rstrip("0123456789")
        digits = len(stem) - len(head)
        number = int(stem[len(head) :] or 0)
        width = digits if digits > 1 and stem[len(head)] == "0" else 0
        head = head if head.endswith(("-", " ", "/")) or not head or number else head + " "
        number = max(number, self._number.get(head, 0))
        while True:
            number += 1
            found = f"{head}{number:0{width}d}"
            if found not in self._taken:
                self._number[head] = number
                self._taken.add(found)
                return found
