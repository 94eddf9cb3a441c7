"""The story of one failure in words, with times and who has supply again."""

from __future__ import annotations

import numpy as np

from ...results import Column, Table
from ..failures.events import Ready
from ..failures.play import Play, Step, Story

APART = "; "


def story_of(ready: Ready, play: Play, ident: str) -> Story | None:
    """A permanent failure of an element; None where it is no part of the network that can fail."""
    seeds = ready.seeds(ready.network.items.get(ident))
    return play.permanent(seeds) if seeds else None


def told(ready: Ready, ident: str) -> Table:
    """Steps in order. ``without``: ids of what has no supply after each; ``ties``: switches closed by then."""
    story = story_of(ready, ready.play(), ident)
    graph, people = ready.graph, ready.people
    name = ready.network[ident].name if ident in ready.network.items else ident
    repair = next((d.hours for g in ready.groups for i, d in g.elements if i == ident), 0.0)
    rows: list[tuple[str, str, str, float, float, float, str, str]] = []
    if story is not None:
        waiting, ties = set(story.sections.tolist()), set()
        steps = story.steps or [Step(np.nan, "repaired", back=tuple(story.sections.tolist()))]
        for step in steps:
            # Nobody waits for switching longer than for the repair.
            minutes = 60 * repair if np.isnan(step.minutes) else min(step.minutes, 60 * repair)
            waiting -= set(step.back)
            ties |= set(step.closed) & set(story.ties)
            back = float(people.n[list(step.back)].sum()) if step.back else 0.0
            left = float(people.n[list(waiting)].sum()) if waiting else 0.0
            if step.what == "repaired":
                ties = set()
            rows.append(
                (
                    _clock(minutes),
                    _said(ready, step, name),
                    step.what,
                    back,
                    left,
                    float(people.mw[list(waiting)].sum()) if waiting else 0.0,
                    APART.join(m for s in sorted(waiting) for m in graph.members[s]),
                    APART.join(sorted(graph.doors[t].element for t in ties)),
                )
            )
        if not story.steps and not people.n[story.sections].any():
            rows = [(_clock(0.0), f"{name} fails; nobody loses supply.", "nobody", 0.0, 0.0, 0.0, "", "")]
    columns = [
        Column("id", "Id", [ident] * len(rows), fixed=True),
        Column("at", "After", [r[0] for r in rows], meaning="Hours and minutes after the failure"),
        Column("what", "What happens", [r[1] for r in rows]),
        Column("back", "Supplied again", np.array([r[3] for r in rows]), None, 0, "Customers"),
        Column("left", "Still without", np.array([r[4] for r in rows]), None, 0, "Customers"),
        Column("left_mw", "Demand without", np.array([r[5] for r in rows]), "MW", 3, "Average demand without supply"),
        Column("without", "What is without", [r[6] for r in rows]),
        Column("ties", "Ties closed", [r[7] for r in rows]),
    ]
    return Table("story", f"Story of {name}"[:60], columns)


def _clock(minutes: float) -> str:
    whole = round(minutes)
    return f"{whole // 60}:{whole % 60:02d}"


def _list(words: list[str]) -> str:
    shown = words[:4]
    rest = len(words) - len(shown)
    return ", ".join(shown) + (f" and {rest} more" if rest else "")


def _said(ready: Ready, step: Step, name: str) -> str:
    doors = ready.graph.doors
    opened, closed = ([doors[d].name for d in some] for some in (step.opened, step.closed))
    if step.what == "cleared":
        # What clears a fault stands in ``opened``.
        return (
            f"{name} fails; {_list(opened)} clear{'s' if len(opened) == 1 else ''} it."
            if opened
            else f"{name} fails; its supply is lost."
        )
    told = {
        "supply from before it": "Supply comes back up to the fault",
        "transferred": "Supply comes over from elsewhere",
        "transferred in part": "Supply comes over from elsewhere for as much as it can carry",
        "not transferred": "What should bring supply over does not close",
        "repaired": f"{name} is repaired; everybody has supply",
    }[step.what]
    done = [f"open {_list(opened)}"] if opened else []
    done += [f"close {_list(closed)}"] if closed else []
    return f"{told}: {'; '.join(done)}." if done else f"{told}."
