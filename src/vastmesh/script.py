"""Building and studying a network from Python: a few readable lines, with the same rules as everywhere else.

>>> from vastmesh import Draft
>>> net = Draft("Quay")
>>> net.bus("Main", 33), net.bus("Quay 11", 11)
('Main', 'Quay 11')
>>> net.source("Main", fault_max_mva=800, fault_min_mva=600)
'Source Main'
>>> net.transformer("Main", "Quay 11", type="10 MVA 33/11.5 kV Dyn11")
'Transformer Main - Quay 11'
>>> net.load("Quay 11", active_power_mw=4, power_factor=0.95)
'Load Quay 11'
>>> round(net.solve().summary["demand_mw"], 6)
4.0
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from .core.checks import Check, run_checks
from .core.layout import place
from .core.network import (
    REGISTRY,
    SETTINGS_ID,
    Add,
    Change,
    Element,
    GrowOptions,
    Item,
    Namer,
    Network,
    Trace,
    Update,
    clip,
    grow,
    layered,
    paste,
    removal,
    with_rules,
)
from .core.options import options_of
from .core.results import Result
from .core.results.state import LoadFlowResult, solve_as_set
from .core.studies import STUDIES, Inputs, study_named
from .core.workings import Working, explain
from .exchange import read_network, write_network


class Draft:
    """A network in the making. Every kind of equipment is a method of that name.

    ``draft.line("A", "B", length_km=2, type="...")`` adds a line between two buses and returns its id: first the
    buses it is connected to, in their declared order, then its fields by name; ``name`` names it, otherwise it is
    named after its kind and buses. ``draft.bus("A", 11)`` adds a bus. Wrong values raise :class:`InvalidFields`.
    """

    def __init__(self, title: str = "Network", network: Network | None = None) -> None:
        self.title = title
        self.network = network or Network()

    @classmethod
    def open(cls, path: str | Path) -> Draft:
        """Read a network document or any other file that the program reads."""
        found = read_network(Path(path).read_bytes(), Path(path).name)
        return cls(found.title, found.network)

    def save(self, path: str | Path) -> None:
        """Write the network as a document, laid out where it has no places yet."""
        self.network.apply(with_rules(self.network))
        self.network.apply(place(self.network))
        Path(path).write_bytes(write_network(self.network, self.title, "document"))

    def bus(self, name: str, nominal_kv: float, **fields: Any) -> str:
        return self.add("bus", name=name, nominal_kv=nominal_kv, **fields)

    def __getattr__(self, kind: str) -> Callable[..., str]:
        cls = REGISTRY.get(kind)
        if cls is None:
            raise AttributeError(f"there is no kind of equipment {kind!r}; there are {', '.join(sorted(REGISTRY))}")
        ends = cls.terminals() if issubclass(cls, Element) else ()

        def add(*buses: str, name: str | None = None, **fields: Any) -> str:
            if len(buses) > len(ends):
                raise TypeError(f"{kind} connects to {len(ends)} buses, {len(buses)} were given")
            stem = f"{cls.label} {' - '.join(buses)}".strip()
            return self.add(kind, name=name or stem, **dict(zip(ends, buses, strict=False)), **fields)

        return add

    def __dir__(self) -> Iterable[str]:
        return [*super().__dir__(), *REGISTRY]

    def add(self, kind: str, *, name: str, **fields: Any) -> str:
        """Add an item; returns its id, which is the name or, where that is taken, the name with a number."""
        ident = Namer(self.network).plain(name)
        self._do([Add(item={"kind": kind, "id": ident, **fields})])
        return ident

    def set(self, ident: str, **fields: Any) -> None:
        """Change fields of an item; what follows from it changes along."""
        self._do([Update(id=ident, values=fields)])

    def remove(self, *idents: str) -> None:
        """Remove items, with everything connected to removed buses."""
        self._do(removal(self.network, idents))

    def grow(self, at: str, what: str, *, to: str | None = None, **options: Any) -> str:
        """Grow something at a bus or in a line; returns the id of what has grown."""
        plan = grow(self.network, at, what, to=to, options=GrowOptions(**options))
        self._do(plan.changes)
        return plan.select

    def paste(self, idents: Iterable[str], *, onto: str | None = None, times: int = 1) -> list[list[str]]:
        """Copy items several times, connected where they were or onto a bus; returns the ids, copy by copy."""
        plan = paste(self.network, clip(self.network, idents), onto=onto, times=times)
        self._do(plan.changes)
        return plan.ids

    def _do(self, changes: list[Change]) -> None:
        done = self.network.apply(changes)
        self.network.apply(self.network.consequences(done.changed))

    def __getitem__(self, ident: str) -> Item:
        return self.network[ident]

    def settings(self, **fields: Any) -> None:
        """Change settings of the network: ``settings(study="per_phase", frequency_hz=60)``."""
        if SETTINGS_ID in self.network:
            self.set(SETTINGS_ID, **fields)
        else:
            self._do([Add(item={"kind": "settings", "id": SETTINGS_ID, "name": "Network", **fields})])

    def solve(self, **options: Any) -> LoadFlowResult:
        """Load flow under the condition in use, balanced or per phase as the settings say; options go before them."""
        return solve_as_set(layered(self.network).network, **options)

    def study(self, name: str, *, workers: int = 0, **options: Any) -> Result:
        """Any study by its name, with its options by theirs: ``study("sweep", start=0.5, stop=1.2)``.

        :data:`STUDIES` lists them; a wrong name or option is refused with those that there are. ``workers``: so many
        processes beside this one work on it, which pays for long ones that come apart; 0: none.
        """
        found = study_named(name)
        given = options_of(found.options, options)
        if workers > 0:
            from .runner import run_beside  # brings the store along, which few scripts need

            return run_beside(found, Inputs.of(self.network), given, workers, _silent)
        return found.run(Inputs.of(self.network), given, _silent)

    def check(self) -> list[Check]:
        """What is missing, implausible or contradictory."""
        return run_checks(self.network)

    def explain(self, ident: str) -> list[Working]:
        """How the figures of an element follow from what was entered."""
        return explain(self.network, ident)

    def trace(self) -> Trace:
        """The supply as the network is switched."""
        return Trace(self.network)


def _silent(fraction: float, doing: str) -> None:
    """Nobody looks on."""


__all__ = ["STUDIES", "Draft"]
