"""The project's own document: versioned JSON, one plain object per item."""

from __future__ import annotations

from typing import Any

import orjson

from ..core.errors import FieldProblem, InvalidFields, UnreadableFile
from ..core.network import REGISTRY, Network, specs
from ._report import Imported, ImportReport, Remark
from ._salvage import take_in

SCHEMA_VERSION = 1
_FORMAT = "vast-mesh-network"
_DEEPEST = 12
_OURS = ("ref", "required", "when", "catalogue")  # what the interface reads and no validator needs


def write_document(network: Network, title: str) -> bytes:
    """The network as JSON; reading it gives an identical network."""
    data = {"format": _FORMAT, "version": SCHEMA_VERSION, "title": title, "items": network.to_items()}
    return orjson.dumps(data, option=orjson.OPT_INDENT_2)


def read_document(data: bytes) -> Imported:
    """Read a document: an item that is not allowed is left out and told in the report, the others are read.

    Raises :class:`UnreadableFile`, or :class:`InvalidFields` when nothing is left.
    """
    try:
        content = orjson.loads(data)
    except orjson.JSONDecodeError as error:
        raise UnreadableFile(f"{error.msg}; the file may have been cut off", line=error.lineno) from None
    if not isinstance(content, dict) or content.get("format") != _FORMAT:
        raise UnreadableFile(f'it is JSON, but not a network document (its "format" is not "{_FORMAT}")')
    version = content.get("version")
    if not isinstance(version, int) or not 1 <= version <= SCHEMA_VERSION:
        raise UnreadableFile(
            f"it was written in version {version!r} of the format; this program reads versions up to {SCHEMA_VERSION}",
            field="version",
        )
    items = content.get("items")
    if not isinstance(items, list) or not all(isinstance(i, dict) for i in items):
        raise UnreadableFile("it must hold a list of items", field="items")
    if any(_depth(i) > _DEEPEST for i in items):
        raise UnreadableFile("an item is nested deeper than any item can be", field="items")
    position = {str(i.get("id")): n for n, i in enumerate(items, 1)}
    try:
        network, left = take_in(items)
    except InvalidFields as error:
        raise InvalidFields(
            [FieldProblem(f"{p.element} (item {position.get(p.element, 0)})", p.field, p.value, p.allowed)
             for p in error.problems]
        ) from None  # fmt: skip
    counts: dict[str, int] = {}
    for item in network.items.values():
        counts[item.kind] = counts.get(item.kind, 0) + 1
    read = [Remark(None, f"{n} × {REGISTRY[k].label.lower()}") for k, n in counts.items()]
    return Imported(network, str(content.get("title") or "Network"), ImportReport(read=read, left_out=left))


def _depth(value: Any) -> int:
    if isinstance(value, dict):
        return 1 + max((_depth(v) for v in value.values()), default=0)
    if isinstance(value, list):
        return 1 + max((_depth(v) for v in value), default=0)
    return 0


def document_schema() -> dict[str, Any]:
    """JSON Schema (2020-12) of the document, made from the declared fields of every kind."""
    kinds, further = {}, {}
    for kind, cls in sorted(REGISTRY.items()):
        schema = cls.model_json_schema(ref_template="#/$defs/{model}")
        further.update({n: d for n, d in schema.pop("$defs", {}).items() if n != "Origin"})
        for name, spec in specs(cls).items():
            extra = {"unit": spec.unit} if spec.unit else {}
            kept = {k: v for k, v in schema["properties"][name].items() if k not in _OURS}
            schema["properties"][name] = {**kept, **extra}
        schema["properties"]["origins"] = {
            "type": "object", "additionalProperties": {"enum": ["entered", "typical", "catalogue"]},
        }  # fmt: skip
        schema["required"] = ["kind", "id"] + [n for n, s in specs(cls).items() if s.terminal]
        kinds[kind] = schema
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Vast Mesh network document",
        "type": "object",
        "required": ["format", "version", "items"],
        "properties": {
            "format": {"const": _FORMAT},
            "version": {"const": SCHEMA_VERSION},
            "title": {"type": "string"},
            "items": {"type": "array", "items": {"oneOf": [{"$ref": f"#/$defs/{k}"} for k in kinds]}},
        },
        "$defs": {**kinds, **further},
    }
