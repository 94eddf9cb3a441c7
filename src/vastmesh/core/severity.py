"""How bad something is: near a limit, or past it."""

from __future__ import annotations

from enum import StrEnum


class Severity(StrEnum):
    WATCH = "watch"
    BREACH = "breach"
