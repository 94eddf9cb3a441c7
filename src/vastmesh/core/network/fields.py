"""How a field of an element is declared: once, with unit, range, default, meaning and origin.

Everything else that lists fields (the card, the tables, the JSON schema, the documentation)
is derived from these declarations through :func:`specs`.
"""

from __future__ import annotations

from datetime import date
from enum import StrEnum
from functools import cache
from types import NoneType, UnionType
from typing import Annotated, Any, Literal, Union, get_args, get_origin

import annotated_types as at
from pydantic import BaseModel, Field, StringConstraints
from pydantic.fields import FieldInfo

Bound = float | None
When = dict[str, tuple[Any, ...]]
"""The field matters only while each named other field has one of these values; a text that begins with ``~``
means: contains what follows."""


# The least of a quantity that must be above zero: below it nothing that is built or measured lies, and arithmetic overflows.
LEAST = {
    "%": 1e-6, "1": 1e-6, "A": 1e-3, "MVA": 1e-6, "MW": 1e-6, "VA": 1e-3, "kA": 1e-6, "kV": 1e-3, "kW": 1e-6, "km": 1e-6,
    "mm": 1e-4, "p.u.": 1e-3, "s": 1e-6, "°": 1e-3, "Ω": 1e-6, "Ω/km": 1e-6, "Ω·m": 1e-3, "V": 1e-3, "Hz": 1.0, "m": 1e-4,
    "Mvar": 1e-6, "µF": 1e-6, "mH": 1e-9, "1/h": 1e-6, "h": 1e-3, "a": 1e-3,
}  # fmt: skip


def _plain(when: When | None) -> dict[str, list[Any]] | None:
    return {f: list(v) for f, v in when.items()} if when else None


def quantity(
    label: str,
    meaning: str,
    *,
    unit: str,
    default: Any = None,
    gt: Bound = None,
    ge: Bound = None,
    lt: Bound = None,
    le: Bound = None,
    required: bool = False,
    typical: bool = False,
    shown_as: tuple[str, float] | None = None,
    group: str = "data",
    when: When | None = None,
) -> Any:
    """A physical quantity. ``required``: calculations leave the element out while it is blank.

    ``typical``: when nothing is given the default stands in, and stays marked as typical.
    ``shown_as``: (unit, factor) for a more readable unit; shown value = stored value * factor.
    ``group``: the section of the card it stands in. ``when``: see :data:`When`. A quantity above zero begins at the least
    of its unit, see :data:`LEAST`.
    """
    if gt == 0:
        gt, ge = None, LEAST[unit]
    extra: dict[str, Any] = {
        "label": label, "unit": unit, "required": required, "typical": typical, "group": group, "when": _plain(when),
    }  # fmt: skip
    if shown_as:
        extra["shown_as"] = list(shown_as)
    return Field(
        default=default, gt=gt, ge=ge, lt=lt, le=le, description=meaning, json_schema_extra=extra, allow_inf_nan=False
    )


def choice(
    label: str,
    meaning: str,
    *,
    default: Any = ...,
    typical: bool = False,
    group: str = "data",
    when: When | None = None,
    picks: str | None = None,
) -> Any:
    """A text, a yes/no or one of several words; of a list of ids, ``picks`` says which kind of element they are of."""
    extra: dict[str, Any] = {"label": label, "typical": typical, "group": group, "when": _plain(when), "picks": picks}
    return Field(default=default, description=meaning, json_schema_extra=extra)


def reference(
    label: str, meaning: str, *, to: str, default: Any = ..., terminal: bool = False, group: str = "data",
    when: When | None = None,
) -> Any:  # fmt: skip
    """The id of another item; ``terminal`` when it is a bus to which the element is connected."""
    extra: dict[str, Any] = {
        "label": label, "ref": to, "terminal": terminal, "required": default is ..., "group": group, "when": _plain(when),
    }  # fmt: skip
    return Field(default=default, description=meaning, json_schema_extra=extra, min_length=1, max_length=80)


def references(
    label: str, meaning: str, *, to: str, most: int = 20_000, group: str = "data", when: When | None = None
) -> Any:
    """Ids of several other items, in a list or tuple; empty as long as none is named."""
    extra: dict[str, Any] = {"label": label, "ref": to, "group": group, "when": _plain(when)}
    return Field(description=meaning, json_schema_extra=extra, max_length=most)


def catalogue_type(family: str, meaning: str, *, label: str = "Type", group: str = "data") -> Any:
    """The name of a type of the catalogue, or the id of one of the network's own types of that family."""
    return Field(
        default=None, description=meaning, json_schema_extra={"label": label, "catalogue": family, "group": group}
    )


def place(
    label: str, meaning: str, *, unit: str = "sheet units", ge: Bound = None, le: Bound = None, default: Any = None
) -> Any:
    """A position on the sheet or the map: kept with the element, of no effect on results."""
    return Field(
        default=default,
        description=meaning,
        json_schema_extra={"label": label, "unit": unit, "group": "place"},
        allow_inf_nan=False,
        ge=ge,
        le=le,
    )


Text = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=60)]
Link = Annotated[str, StringConstraints(pattern=r"^(https?|mailto):[^\s<>\"]{3,290}$")]


class FieldType(StrEnum):
    NUMBER = "number"
    INTEGER = "integer"
    YES_NO = "yes_no"
    CHOICE = "choice"
    TEXT = "text"
    REFERENCE = "reference"
    REFERENCES = "references"
    DATE = "date"
    TEXTS = "texts"
    OTHER = "other"


class FieldSpec(BaseModel):
    """What the interface, the tables and the documentation need to know about a field."""

    name: str
    label: str
    meaning: str
    type: FieldType
    unit: str | None = None
    shown_unit: str | None = None
    shown_factor: float = 1.0
    minimum: float | None = None
    maximum: float | None = None
    exclusive_minimum: bool = False
    exclusive_maximum: bool = False
    choices: list[str] | None = None
    default: Any = None
    required: bool = False
    nullable: bool = False
    typical: bool = False
    ref: str | None = None
    terminal: bool = False
    picks: str | None = None
    catalogue: str | None = None
    group: str = "data"
    when: dict[str, list[Any]] | None = None

    def allowed(self) -> str:
        """What may be entered, in words."""
        if self.choices:
            return "choose one of " + ", ".join(self.choices)
        if self.type in (FieldType.NUMBER, FieldType.INTEGER):
            kind = "a whole number" if self.type is FieldType.INTEGER else "a number"
            unit = f" {self.unit}" if self.unit and self.unit not in ("1", "sheet units") else ""
            low = "" if self.minimum is None else f"{'above' if self.exclusive_minimum else 'from'} {self.minimum:g}"
            high = "" if self.maximum is None else f"{'below' if self.exclusive_maximum else 'to'} {self.maximum:g}"
            return " ".join(filter(None, ["enter", kind, low, high])) + unit
        return {
            FieldType.YES_NO: "enter yes or no",
            FieldType.REFERENCE: f"name an existing {self.ref}",
            FieldType.REFERENCES: f"name existing ones: {self.ref}",
            FieldType.DATE: "enter a date from 1850 to 2200 as year-month-day, for example 2026-11-23",
            FieldType.TEXTS: "give texts of 1 to 300 characters, apart by commas",
            FieldType.OTHER: self.meaning.lower(),
        }.get(self.type, "enter a text of 1 to 80 characters without control characters")


_TYPES = {
    bool: FieldType.YES_NO,
    int: FieldType.INTEGER,
    float: FieldType.NUMBER,
    str: FieldType.TEXT,
    date: FieldType.DATE,
}


def specs(model: type[BaseModel]) -> dict[str, FieldSpec]:
    """Field specifications of an item class, by field name, in declared order."""
    return _specs(model)


@cache
def _specs(model: type[BaseModel]) -> dict[str, FieldSpec]:
    found = {n: _spec(n, info) for n, info in model.model_fields.items() if n not in ("kind", "id", "origins")}
    # What many kinds inherit stands after what makes each of them.
    return dict(sorted(found.items(), key=lambda f: f[1].group == "reliability"))


def _spec(name: str, info: FieldInfo) -> FieldSpec:
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    options = get_args(info.annotation) if get_origin(info.annotation) in (UnionType, Union) else (info.annotation,)
    nullable = NoneType in options
    inner = next((o for o in options if o is not NoneType), str)
    if get_origin(inner) is Annotated:
        inner = get_args(inner)[0]
    choices = [str(c) for c in get_args(inner)] if get_origin(inner) is Literal else None
    if "ref" in extra:
        kind = FieldType.REFERENCES if get_origin(inner) in (list, tuple) else FieldType.REFERENCE
    elif choices:
        kind = FieldType.CHOICE
    else:
        kind = _TYPES.get(inner if isinstance(inner, type) else object, FieldType.OTHER)
        if get_origin(inner) is tuple and (get_args(inner)[0] in (Text, Link) or extra.get("picks")):
            kind = FieldType.TEXTS
    shown = extra.get("shown_as") or [extra.get("unit"), 1.0]
    spec: dict[str, Any] = {
        "name": name,
        "label": extra.get("label", name.replace("_", " ").capitalize()),
        "meaning": info.description or "",
        "type": kind,
        "unit": extra.get("unit"),
        "shown_unit": shown[0],  # type: ignore[index]
        "shown_factor": shown[1],  # type: ignore[index]
        "choices": choices,
        "default": None if info.is_required() or info.default_factory else info.default,
        "required": bool(extra.get("required", False)),
        "nullable": nullable,
        "typical": extra.get("typical", False),
        "ref": extra.get("ref"),
        "terminal": extra.get("terminal", False),
        "picks": extra.get("picks"),
        "catalogue": extra.get("catalogue"),
        "when": extra.get("when"),
        "group": extra.get("group", "data"),
    }
    for rule in info.metadata:
        match rule:
            case at.Gt(gt=bound):
                spec |= {"minimum": bound, "exclusive_minimum": True}
            case at.Ge(ge=bound):
                spec["minimum"] = bound
            case at.Lt(lt=bound):
                spec |= {"maximum": bound, "exclusive_maximum": True}
            case at.Le(le=bound):
                spec["maximum"] = bound
    return FieldSpec(**spec)
