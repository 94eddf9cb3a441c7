"""The base of everything that a network is made of, and the register of kinds.

A kind is one class in one module under ``elements/``; declaring it registers it. What is
electrical derives from :class:`Element`; what groups or rules (areas, conditions, limits,
settings) derives from :class:`Item` and is changed, undone and kept by the same means.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from datetime import date
from enum import StrEnum
from functools import cache
from types import UnionType
from typing import Annotated, Any, ClassVar, Literal, Self, Union, get_args, get_origin

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, model_validator

from ..catalogue import find_type
from ..errors import FieldProblem, InvalidFields
from .fields import FieldSpec, FieldType, Link, Text, choice, place, quantity, specs

_CONTROL = re.compile(r"[\x00-\x1f\x7f]")


def _printable(text: str) -> str:
    if _CONTROL.search(text):
        raise ValueError("control characters are not allowed")
    return text


Name = Annotated[str, Field(min_length=1, max_length=80), AfterValidator(_printable)]
CONDUCTORS = r"^A?B?C?N?$"
Conductors = Annotated[str, Field(min_length=1, pattern=CONDUCTORS)]

Texts = Annotated[tuple[Text, ...], Field(max_length=30)]
Links = Annotated[tuple[Link, ...], Field(max_length=30)]

REGISTRY: dict[str, type[Item]] = {}


class Attachment(BaseModel):
    """A file kept in the project: its contents are stored by their hash."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: Annotated[str, Field(min_length=1, max_length=120), AfterValidator(_printable)]
    sha256: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
    size: Annotated[int, Field(ge=0)]
    media_type: Annotated[str, Field(pattern=r"^[a-z]+/[a-z0-9.+-]{1,80}$")]


Attachments = Annotated[tuple[Attachment, ...], Field(max_length=50)]


class Origin(StrEnum):
    """Where a value comes from."""

    ENTERED = "entered"
    TYPICAL = "typical"
    CATALOGUE = "catalogue"


class Item(BaseModel):
    """Something with an id, a kind and a name, changed only through changes.

    ``origins`` names only values that were not entered: typical ones and those from the catalogue.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, validate_default=False)

    label: ClassVar[str] = "Item"
    plural: ClassVar[str] = "Items"
    # Whether it has a table of its own among the data, and whether its card can remove it.
    listed: ClassVar[bool] = True
    removable: ClassVar[bool] = True

    kind: str
    id: Name
    name: Name = choice("Name", "What the item is called on the sheet, in tables and in reports", group="identity")
    origins: dict[str, Origin] = Field(default_factory=dict, json_schema_extra={"group": "identity"})

    @classmethod
    def __pydantic_init_subclass__(cls, **kwargs: Any) -> None:
        super().__pydantic_init_subclass__(**kwargs)
        kind = cls.model_fields["kind"].default
        if isinstance(kind, str):
            REGISTRY[kind] = cls

    @model_validator(mode="before")
    @classmethod
    def _named_by_id(cls, data: Any) -> Any:
        return {**data, "name": data.get("id")} if isinstance(data, dict) and not data.get("name") else data

    @model_validator(mode="after")
    def _mark_typical(self) -> Self:
        """A typical default that nobody entered says so; a blank value has no origin."""
        for name in _typical_fields(type(self)) - self.model_fields_set:
            if getattr(self, name) is not None:
                self.origins.setdefault(name, Origin.TYPICAL)
        return self

    @model_validator(mode="before")
    @classmethod
    def _fill_from_catalogue(cls, data: Any) -> Any:
        """Blank fields that the catalogue type gives are taken from it and marked so."""
        family = catalogue_family(cls)
        if not family or not isinstance(data, dict) or not isinstance(name := data.get("type"), str):
            return data
        found = find_type(family, name)
        return filled(cls, data, found.values) if found else data

    def missing(self) -> tuple[str, ...]:
        """Names of required fields that are blank: calculations leave the item out meanwhile."""
        blank = tuple(n for n in _required_fields(type(self)) if getattr(self, n) is None)
        return blank + self._missing_beyond_fields()

    def _missing_beyond_fields(self) -> tuple[str, ...]:
        return ()

    def references(self) -> dict[str, str]:
        """Field name -> id of each other item this one refers to."""
        return {n: v for n in reference_fields(type(self)) if (v := getattr(self, n))}

    @classmethod
    def situate(
        cls, data: dict[str, Any], values: Mapping[str, Any], find: Callable[[str], Item | None]
    ) -> dict[str, Any]:
        """Further values that follow from where the item is, for values being set on its ``data``."""
        return {}

    def reconcile(self, values: dict[str, Any]) -> dict[str, Any]:
        """Complete a partial update, where one field excludes or determines another.

        A new catalogue type replaces every figure that the old one or itself gives, unless it is given as well.
        """
        if not catalogue_family(type(self)) or values.get("type") is None:
            return values
        by_type = [f for f, o in self.origins.items() if o is Origin.CATALOGUE]
        found = find_type(catalogue_family(type(self)) or "", values["type"])
        given = [f for f in (found.values if found else ()) if f in type(self).model_fields]
        return {**dict.fromkeys([*by_type, *given]), **values}


class Role(StrEnum):
    """What a kind of element is to the network: everything that sorts kinds asks this, and keeps no list of its own."""

    NODE = "node"
    BRANCH = "branch"
    SWITCH = "switch"
    DEMAND = "demand"
    GENERATION = "generation"
    SHUNT = "shunt"
    EARTH = "earth"


class Element(Item):
    """A piece of equipment, or the bus it is connected to.

    ``role``: what it is to the network. ``side_by_side``: its conductors run beside each other, coupled but not joined;
    ``wound``: they are windings on common limbs.
    """

    role: ClassVar[Role] = Role.DEMAND
    side_by_side: ClassVar[bool] = False
    wound: ClassVar[bool] = False

    in_service: bool = choice("In service", "Out of service means disconnected at every terminal", default=True)
    conductors: Conductors = choice(
        "Conductors", "Which conductors are present: any of A, B, C and N (neutral)", default="ABC"
    )
    note: Annotated[str, Field(max_length=4000)] = choice("Note", "Free text", default="", group="identity")
    tags: Texts | None = choice("Tags", "Free words to find and group by", default=None, group="identity")
    owner: Name | None = choice("Owner", "Who owns it", default=None, group="identity")
    asset_number: Name | None = choice("Asset number", "Number in the owner's register", default=None, group="identity")
    commissioned: Annotated[date, Field(ge=date(1850, 1, 1), le=date(2200, 12, 31))] | None = choice(
        "Commissioned", "When it went into service", default=None, group="identity"
    )
    from_year: int | None = quantity(
        "In service from", "Year from which it is in service, whatever it is now: a new connection, equipment that is planned. "
        "Counts where a year is looked at", unit="1", default=None, ge=1900, le=2200, group="years",
    )  # fmt: skip
    until_year: int | None = quantity(
        "End of life", "Year from which it is out of service, unless a scheme puts it off. Counts where a year is looked at",
        unit="1", default=None, ge=1900, le=2200, group="years",
    )  # fmt: skip
    links: Links | None = choice("Links", "Addresses that begin with http, https or mailto", default=None,
                                 group="identity")  # fmt: skip
    attachments: Attachments | None = choice(
        "Documents", "Up to 50 files kept in the project", default=None, group="identity"
    )
    symbol_size: float | None = place("Symbol size", "Size of the symbol, 1 when blank", unit="1", ge=0.4, le=4)
    flipped: bool | None = choice("Flipped", "The symbol stands on the other side or the other way round",
                                  default=None, group="place")  # fmt: skip
    label_dx: float | None = place("Label right", "How far the label has been moved to the right", ge=-5000, le=5000)
    label_dy: float | None = place("Label down", "How far the label has been moved down", ge=-5000, le=5000)

    @model_validator(mode="after")
    def _has_a_phase(self) -> Self:
        if self.conductors == "N" and self.kind != "electrode":
            raise ValueError("conductors: name at least one phase; a neutral by itself carries nothing")
        if self.from_year is not None and self.until_year is not None and self.until_year <= self.from_year:
            raise ValueError(f"until_year: the end of its life must be after {self.from_year}, when it begins")
        return self

    def stands_in(self, year: int) -> bool:
        """Whether it is in service in a year, its condition and state of switching aside."""
        if self.until_year is not None and year >= self.until_year:
            return False
        return self.in_service if self.from_year is None else year >= self.from_year

    @classmethod
    def terminals(cls) -> tuple[str, ...]:
        """Names of the fields that hold the buses this kind is connected to."""
        return _terminals(cls)

    def buses(self) -> tuple[str, ...]:
        return tuple(getattr(self, t) for t in self.terminals())


def role_of(kind: str) -> Role:
    """The role of a kind by its name; one that declares none is a branch where it has two ends, else demand."""
    cls = REGISTRY.get(kind)
    if cls is None or not issubclass(cls, Element):
        return Role.NODE
    if any("role" in c.__dict__ for c in cls.__mro__ if c is not Element and issubclass(c, Element)):
        return cls.role
    return Role.BRANCH if len(cls.terminals()) > 1 else Role.DEMAND


def roles_of(kinds: Iterable[str]) -> list[Role]:
    """The role of each of many kinds, each kind looked up once."""
    kinds = list(kinds)
    known = {k: role_of(k) for k in set(kinds)}
    return [known[k] for k in kinds]


def kinds_with(trait: str) -> frozenset[str]:
    """Kinds of elements of which a trait is true."""
    return frozenset(k for k, c in REGISTRY.items() if issubclass(c, Element) and getattr(c, trait))


@cache
def reference_fields(cls: type[Item]) -> tuple[str, ...]:
    """Names of the fields that hold the id of another item, or the name of a catalogue type."""
    one = FieldType.REFERENCE
    return tuple(n for n, s in specs(cls).items() if s.type is one or s.catalogue)


@cache
def catalogue_family(cls: type[Item]) -> str | None:
    """Family of the catalogue types that fill this kind; None where there is none."""
    spec = specs(cls).get("type")
    return spec.catalogue if spec else None


def filled(cls: type[Item], data: dict[str, Any], values: Mapping[str, Any]) -> dict[str, Any]:
    """Item data with its blank fields taken from a type, and marked so."""
    known = field_names(cls)
    blank = {f: v for f, v in values.items() if f in known and data.get(f) is None}
    return {**data, **blank, "origins": {**data.get("origins", {}), **dict.fromkeys(blank, Origin.CATALOGUE)}}


@cache
def field_names(cls: type[Item]) -> frozenset[str]:
    return frozenset(cls.model_fields)


@cache
def _typical_fields(cls: type[Item]) -> frozenset[str]:
    return frozenset(n for n, s in specs(cls).items() if s.typical)


@cache
def _terminals(cls: type[Item]) -> tuple[str, ...]:
    return tuple(n for n, s in specs(cls).items() if s.terminal)


@cache
def _required_fields(cls: type[Item]) -> tuple[str, ...]:
    return tuple(n for n, s in specs(cls).items() if s.required)


def make_item(data: dict[str, Any]) -> Item:
    """Build an item from plain data. Raises :class:`InvalidFields` naming element, field and value."""
    kind, ident = data.get("kind"), data.get("id")
    cls = REGISTRY.get(kind) if isinstance(kind, str) else None
    if cls is None:
        problem = FieldProblem(
            str(ident or "new element"), "kind", kind, "choose one of " + ", ".join(sorted(REGISTRY))
        )
        raise InvalidFields([problem])
    try:
        return cls.model_validate(data)
    except ValidationError as error:
        raise InvalidFields(_problems(cls, data, error)) from None


def taken_as_it_is(data: dict[str, Any]) -> Item:
    """The item of plain data that :func:`make_item` has accepted and that was dumped since, not looked at again.

    Only for data that nobody can have touched meanwhile: what is wrong in it is not found.
    """
    cls = REGISTRY[data["kind"]]
    blank, read = _blank_and_readers(cls)
    values = {**blank, **data}
    for name, reader in read:
        if values[name] is not None:
            values[name] = reader(values[name])
    item = cls.__new__(cls)
    _set(item, "__dict__", values)
    _set(item, "__pydantic_fields_set__", set(data))
    _set(item, "__pydantic_extra__", None)
    _set(item, "__pydantic_private__", None)
    return item


_set = object.__setattr__


_ORIGINS = {origin.value: origin for origin in Origin}


def _origins(data: dict[str, str]) -> dict[str, Origin]:
    return {name: _ORIGINS[origin] for name, origin in data.items()}


@cache
def _blank_and_readers(cls: type[Item]) -> tuple[dict[str, Any], tuple[tuple[str, Callable[[Any], Any]], ...]]:
    """Fields of a kind as they are when nothing is given, and what reads those that plain data writes in another way."""
    blank: dict[str, Any] = {}
    readers: list[tuple[str, Callable[[Any], Any]]] = []
    for name, info in cls.model_fields.items():
        if name == "origins":
            blank[name] = {}  # read into one of its own
            readers.append((name, _origins))
            continue
        blank[name] = None if info.is_required() else info.get_default(call_default_factory=True)
        if not _is_plain(info.annotation):
            kind: Any = Annotated[info.annotation, *info.metadata] if info.metadata else info.annotation
            readers.append((name, TypeAdapter(kind).validate_python))
    return blank, tuple(readers)


def _is_plain(annotation: Any) -> bool:
    """Whether values of a type are the same in plain data: numbers, texts, truths, and blanks."""
    if annotation in (str, float, int, bool, type(None)):
        return True
    origin = get_origin(annotation)
    if origin is Literal:
        return all(isinstance(v, str) for v in get_args(annotation))
    if origin is Annotated:
        return _is_plain(get_args(annotation)[0])
    return origin in (Union, UnionType) and all(map(_is_plain, get_args(annotation)))


def stands_alone(cls: type[Item]) -> bool:
    """Whether an item that is no equipment can be made without naming anything: what has a table and needs no other item."""
    if issubclass(cls, Element) or not cls.listed or not cls.removable:
        return False
    return not any(s.type is FieldType.REFERENCE and s.required for s in specs(cls).values())


def _problems(cls: type[Item], data: dict[str, Any], error: ValidationError) -> list[FieldProblem]:
    known, ident = specs(cls), str(data.get("id") or f"new {cls.label.lower()}")
    found = []
    for item in error.errors():
        field = str(item["loc"][0]) if item["loc"] else ""
        if item["type"] == "extra_forbidden":
            found.append(FieldProblem(ident, field, item["input"], f"a {cls.label.lower()} has no such field"))
        elif item["type"] == "missing":
            found.append(FieldProblem(ident, field, "nothing", _allowed(known.get(field), item["msg"])))
        elif item["type"] == "string_pattern_mismatch" and item["ctx"]["pattern"] == CONDUCTORS:
            allowed = (
                "write the letters of what is there in the order A, B, C, N (neutral), for example ABCN, ABC, BN or A"
            )
            found.append(FieldProblem(ident, field, item["input"], allowed))
        elif not field:  # a rule between fields: its message names them
            rule = item["msg"].removeprefix("Value error, ")
            name, _, text = rule.partition(": ")
            found.append(FieldProblem(ident, name, _stands(cls, data, name.split(",")[0].strip()), text or rule))
        elif item["type"] == "value_error":  # a rule of ours for one field
            rule = item["msg"].removeprefix("Value error, ")
            found.append(FieldProblem(ident, field, item["input"], rule.removeprefix(f"{field}: ")))
        else:
            found.append(FieldProblem(ident, field, item["input"], _allowed(known.get(field), item["msg"])))
    return found


def _stands(cls: type[Item], data: dict[str, Any], field: str) -> Any:
    """What a field holds: what was given, else its default; "nothing" where it is blank."""
    default = cls.model_fields[field].get_default() if field in cls.model_fields else None
    value = data.get(field, default)
    return "nothing" if value is None else value


def _allowed(spec: FieldSpec | None, otherwise: str) -> str:
    return spec.allowed() if spec else otherwise
