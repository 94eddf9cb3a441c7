from __future__ import annotations

import base64
import zlib
from collections.abc import Sequence
from datetime import datetime, timedelta
from math import isfinite
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ..fields import choice, quantity
from ..items import Item

MOST = 120_000  # values: three years by the quarter of an hour
_CHUNK = 8192
Chunk = Annotated[str, Field(max_length=200_000)]
Moment = Annotated[str, Field(pattern=r"^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$")]


class Profile(Item):
    """Figures of equal steps of time by which demand or generation changes."""

    label, plural = "Profile", "Profiles"
    listed = False

    kind: Literal["profile"] = "profile"
    scales: Literal["demand", "class", "area", "energy", "element"] = choice(
        "Of", "All demand; the demand of a class or an area; plants of an energy; or one element", default="demand"
    )
    key: str = Field(default="", max_length=120, description="Class, area (by its id), energy or element (by its id)",
                     json_schema_extra={"label": "Which", "group": "data"})  # fmt: skip
    means: Literal["factor", "mw"] = choice(
        "Figures are", "Factors on what is entered; or active power in MW of an element, its reactive power in proportion",
        default="factor",
    )  # fmt: skip
    begins: Moment = Field(default="2025-01-01T00:00", description="When the first step begins, as 2025-01-31T18:30",
                           json_schema_extra={"label": "Begins", "group": "data"})  # fmt: skip
    step_min: int = quantity("Step", "Length of a step", unit="min", default=60, ge=5, le=1440)
    zone: str = Field(default="UTC", min_length=1, max_length=40, description="Time zone of its clock; all that are used "
                      "together have the same", json_schema_extra={"label": "Time zone", "group": "data"})  # fmt: skip
    packed: Annotated[tuple[Chunk, ...], Field(max_length=40)] = choice(
        "Figures", "One for each step, packed", default=()
    )

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.scales != "demand" and not self.key:
            raise ValueError("key: name the class, area, energy or element that it is of")
        if self.means == "mw" and self.scales != "element":
            raise ValueError("means: only the profile of one element is in MW")
        try:
            datetime.fromisoformat(self.begins)
        except ValueError:
            raise ValueError("begins: enter a moment as 2025-01-31T18:30") from None
        if self.packed:
            _checked(self.values(), self.means)
        return self

    def values(self) -> tuple[float, ...]:
        """Figures of all steps."""
        return unpack(self.packed)

    @property
    def start(self) -> datetime:
        return datetime.fromisoformat(self.begins)

    def end(self, count: int) -> datetime:
        """When the last of so many steps ends."""
        return self.start + timedelta(minutes=self.step_min * count)


def _checked(values: Sequence[float], means: str) -> None:
    for n, v in enumerate(values):
        if not isfinite(v) or abs(v) > 1e6 or (means == "factor" and not 0 <= v <= 100):
            wanted = "a factor from 0 to 100" if means == "factor" else "a power up to a million MW"
            raise ValueError(f"packed: step {n + 1}: {v:g}: give {wanted}")


def pack(values: Sequence[float]) -> tuple[str, ...]:
    """Figures as text that is small and holds six digits of each."""
    found = []
    for at in range(0, len(values), _CHUNK):
        plain = " ".join(f"{v:.6g}" for v in values[at : at + _CHUNK])
        found.append(base64.b64encode(zlib.compress(plain.encode(), 9)).decode())
    return tuple(found)


def unpack(chunks: Sequence[str]) -> tuple[float, ...]:
    """What :func:`pack` was given, to six digits. Raises ValueError for text that is something else."""
    found: list[float] = []
    for chunk in chunks:
        try:
            opened = zlib.decompressobj()
            plain = opened.decompress(base64.b64decode(chunk, validate=True), 20 * _CHUNK)
            found += [float(w) for w in plain.decode().split()]
        except (ValueError, zlib.error, UnicodeDecodeError):
            raise ValueError("packed: this is no packed profile; import its figures") from None
    if len(found) > MOST:
        raise ValueError(f"packed: at most {MOST} steps")
    return tuple(found)
