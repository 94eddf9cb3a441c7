"""Journal entries, and what can be undone and redone after a row of them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum

import orjson
from pydantic import TypeAdapter

from ..core.network import Change
from ._mending import mended_changes

_CHANGES: TypeAdapter[list[Change]] = TypeAdapter(list[Change])


class EntryKind(StrEnum):
    DO = "do"
    UNDO = "undo"
    REDO = "redo"
    REPAIR = "repair"  # the network began anew from what could still be read: nothing before it is undone


@dataclass(frozen=True)
class Entry:
    """One journal entry: the change group that led to ``revision``, and its inverse.

    ``target``: for an undo or redo, the revision of the entry that it takes back or does again.
    """

    revision: int
    at: str
    label: str
    kind: EntryKind
    target: int | None
    changes: list[Change]
    inverse: list[Change]


def encode(changes: list[Change]) -> bytes:
    return orjson.dumps([c.model_dump(mode="json") for c in changes])


def decode(data: bytes) -> list[Change]:
    return mended_changes(_CHANGES.validate_python(orjson.loads(data)))


@dataclass
class History:
    """Revisions of entries that can be undone and redone, the next one last."""

    undoable: list[int] = field(default_factory=list)
    redoable: list[int] = field(default_factory=list)

    def follow(self, kind: EntryKind, revision: int, target: int | None) -> None:
        """Take up one more entry, in journal order."""
        if kind is EntryKind.REPAIR:
            self.undoable.clear()
            self.redoable.clear()
        elif kind is EntryKind.DO:
            self.undoable.append(revision)
            self.redoable.clear()
        elif kind is EntryKind.UNDO and target is not None:
            self.undoable.remove(target)
            self.redoable.append(target)
        elif target is not None:
            self.redoable.remove(target)
            self.undoable.append(target)

    @classmethod
    def of(cls, entries: Iterable[tuple[str, int, int | None]]) -> History:
        history = cls()
        for kind, revision, target in entries:
            history.follow(EntryKind(kind), revision, target)
        return history
