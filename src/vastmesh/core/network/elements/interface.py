from __future__ import annotations

from collections.abc import Container
from typing import Literal, Self

from pydantic import model_validator

from ..fields import choice, quantity
from ..items import Item, Texts


class Interface(Item):
    """A set of branches whose active power counts together, with bounds for it."""

    label, plural = "Interface", "Interfaces"

    kind: Literal["interface"] = "interface"
    members: Texts | None = choice(
        "Branches", "Ids of lines and transformers: power into the from (HV) end counts; with a minus before the id, into it "
        "from the other end", default=None, picks="branch",
    )  # fmt: skip
    most_mw: float | None = quantity(
        "Most power", "Through all of them together; any when blank", unit="MW", ge=-1e6, le=1e6
    )
    least_mw: float | None = quantity(
        "Least power", "The other way it is negative; any when blank", unit="MW", ge=-1e6, le=1e6
    )

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        if self.most_mw is not None and self.least_mw is not None and self.least_mw > self.most_mw:
            raise ValueError(f"least_mw: the least power is above the most, {self.most_mw:g} MW")
        return self

    def signed(self, there: Container[str]) -> list[tuple[str, float]]:
        """Branches with the sign their power counts with; ``there``: ids that exist, as one may begin with a minus itself."""
        found = self.members or ()
        return [(m, 1.0) if m in there or m[:1] not in "-−" else (m[1:].strip(), -1.0) for m in found]
