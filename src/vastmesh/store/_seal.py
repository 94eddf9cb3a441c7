"""Marks of what this very code has validated and written, so that it need not be validated again when it is opened."""

from __future__ import annotations

import hashlib
from functools import cache
from pathlib import Path

import pydantic

from .. import core
from ..version import __version__


def seal_of(data: bytes) -> str:
    """The seal of a snapshot's bytes under the rules as they are now: other bytes or other rules have another."""
    return hashlib.sha256(_rules() + data).hexdigest()


@cache
def _rules() -> bytes:
    """A digest of the code by which items are validated and built, all of the core to be on the safe side."""
    found = hashlib.sha256(f"{__version__} {pydantic.VERSION}".encode())
    root = Path(core.__file__).parent
    for file in sorted(root.rglob("*.py")):
        found.update(file.relative_to(root).as_posix().encode() + b"\0" + file.read_bytes())
    return found.digest()


__all__ = ["seal_of"]
