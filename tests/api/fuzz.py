"""Hostile requests for every route of the OpenAPI document: seeded, endless, and bounded by whoever asks for them."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote

from starlette.testclient import TestClient

HOSTILE: list[Any] = [
    None, True, False, 0, -1, 1, 5e-324, 1e308, -1e308, 2**63, 2**64 + 1, -(2**70), 0.1, "", " ", "\x00", "a\x07b", "\ud800",
    "nan", "inf", "1e999", "'; --", "../../etc/passwd", "x" * 3000, "9" * 5000, " " * 5000, "\u202e", "é" * 81, "=1+1", "<b>",
    [], [1], [[]], [None], {}, {"a": 1}, {"": ""}, [[[[[[[[[[]]]]]]]]]], [{}] * 30,
]  # fmt: skip


@dataclass(frozen=True)
class Ask:
    """One request; ``body``: bytes as they go out."""

    method: str
    path: str
    body: bytes | None
    media: str

    def of(self, client: TestClient) -> Any:
        headers = {"content-type": self.media} if self.body is not None else {}
        return client.request(self.method, self.path, content=self.body, headers=headers)


class Fuzz:
    """``ids``: of the elements of the project that is asked about; ``known``: values for parameters of the path by name."""

    def __init__(self, api: dict[str, Any], ids: list[str], known: dict[str, str], seed: int) -> None:
        self.api, self.ids, self.known, self.dice = api, ids, known, random.Random(seed)
        self.schemas = api["components"]["schemas"]
        self.routes = [(path, method, spec) for path, way in api["paths"].items() for method, spec in way.items()
                       if method in ("get", "post", "patch", "put", "delete") and not path.endswith("/events")]  # fmt: skip

    def asks(self, count: int) -> Iterator[Ask]:
        for k in range(count):
            path, method, spec = (
                self.routes[k % len(self.routes)] if k < 2 * len(self.routes) else self.dice.choice(self.routes)
            )
            # Removing the project in hand, or closing it, would end the trial.
            if (method, path) == ("delete", "/api/projects/{project_id}"):
                continue
            yield self.ask(path, method, spec)

    def ask(self, path: str, method: str, spec: dict[str, Any]) -> Ask:
        query = []
        for p in spec.get("parameters", []):
            if p["in"] == "path":
                path = path.replace("{" + p["name"] + "}", self.place(p["name"]))
                path = path.replace("{" + p["name"] + ":path}", self.place(p["name"]))
            elif p["in"] == "query" and (p.get("required") or self.dice.random() < 0.4):
                value = self.value(p["schema"], 2)
                query.append(f"{p['name']}={_quoted(value)}")
        body, media = None, "application/json"
        if content := spec.get("requestBody", {}).get("content"):
            if "application/json" in content:
                body = self.json(content["application/json"]["schema"])
            else:
                media = "application/octet-stream"
                body = self.dice.choice(
                    [b"", b"\x00" * 40, b"{}", b"PK\x03\x04", b"a;b\r1;2\r", b'{"format": 1', bytes(range(256))]
                )
        elif method in ("post", "patch", "put") and self.dice.random() < 0.5:
            media, body = (
                "application/octet-stream",
                self.dice.choice([b"", b"name,family\n", b"<svg viewBox='0 0 a'/>"]),
            )
        return Ask(method.upper(), path + ("?" + "&".join(query) if query else ""), body, media)

    def place(self, name: str) -> str:
        known = self.known.get(name) or self.dice.choice(self.ids)
        found = known if self.dice.random() < 0.8 else str(self.dice.choice(HOSTILE))
        return quote(found.encode("utf-8", "replace").decode(), safe="") or "x"

    def json(self, schema: dict[str, Any]) -> bytes:
        roll = self.dice.random()
        if roll < 0.02:
            return self.dice.choice(
                [b"", b"{", b"[" * 3000, b'{"a":' * 3000, b"nul", b'"\\ud800"', b"NaN", b"\xff\xfe"]
            )
        made = json.dumps(self.value(schema, 6))
        return made.encode()

    def value(self, schema: dict[str, Any], depth: int) -> Any:
        """Something of a schema, or something hostile in its place."""
        if self.dice.random() < 0.12 or depth < 0:
            return self.dice.choice(HOSTILE)
        if ref := schema.get("$ref"):
            return self.value(self.schemas[ref.rsplit("/", 1)[1]], depth - 1)
        for key in ("anyOf", "oneOf", "allOf"):
            if key in schema:
                return self.value(self.dice.choice(schema[key]), depth - 1)
        if "const" in schema:
            return schema["const"]
        if "enum" in schema:
            return self.dice.choice(schema["enum"])
        match schema.get("type"):
            case "object" if "properties" in schema:
                needed = schema.get("required", [])
                kept = {k: s for k, s in schema["properties"].items() if k in needed or self.dice.random() < 0.4}
                return {k: self.of_name(k, s, depth) for k, s in kept.items()}
            case "object":
                return {self.dice.choice([*self.ids[:5], "length_km", "bus", "name", "origins"]): self.value({}, depth - 1)
                        for _ in range(self.dice.randrange(3))}  # fmt: skip
            case "array":
                return [self.value(schema.get("items", {}), depth - 1) for _ in range(self.dice.randrange(4))]
            case "string":
                return self.dice.choice([self.dice.choice(self.ids), "name", "bus", "buses", "a", "voltage_pu > 1"])
            case "integer":
                return self.dice.choice([0, 0, 1, 2, 5, -1, 2**40])
            case "number":
                return self.dice.choice([0.0, 1.0, -1.0, 0.5, 1e9])
            case "boolean":
                return self.dice.random() < 0.5
        return self.dice.choice([self.dice.choice(self.ids), *HOSTILE])

    def of_name(self, name: str, schema: dict[str, Any], depth: int) -> Any:
        """Fields whose value must hit the mark for anything to happen."""
        if name == "base_revision" and self.dice.random() < 0.9:
            return self.dice.choice([0, 0, 1, 3])
        if name == "changes" and self.dice.random() < 0.9:
            return [self.change() for _ in range(self.dice.randrange(1, 3))]
        return self.value(schema, depth - 1)

    def change(self) -> dict[str, Any]:
        ident = self.dice.choice(self.ids)
        fields = ["length_km", "nominal_kv", "bus", "from_bus", "type", "origins", "name", "in_service", "route", "conductors",
                  "active_power_mw", "closed", "tags", "matrix", "values", "p_a_mw", "vector_group", "along", "commissioned",
                  "base_mva", "frequency_hz", "condition", "changes", "states", "links", "attachments"]  # fmt: skip
        some = {
            self.dice.choice(fields): self.dice.choice([*HOSTILE, ident, 11, 0.4])
            for _ in range(self.dice.randrange(1, 4))
        }
        kinds = [
            "bus",
            "line",
            "load",
            "scheme",
            "condition",
            "settings",
            "own_type",
            "area",
            "nothing",
            "switch",
            "line_matrix",
        ]
        match self.dice.randrange(5):
            case 0:
                return {"op": "remove", "id": ident}
            case 1:
                new = self.dice.choice([f"n{self.dice.random()}", ident, "", "\x00", 5])
                return {
                    "op": "add",
                    "item": {"kind": self.dice.choice(kinds), "id": new, "bus": ident, "nominal_kv": 11, **some},
                }
            case _:
                return {
                    "op": "update",
                    "id": ident,
                    "values": some,
                    "origins": self.dice.choice([{}, {}, 5, {"length_km": "typical"}]),
                }


def _quoted(value: Any) -> str:
    text = value if isinstance(value, str) else json.dumps(value)
    return quote(text.encode("utf-8", "replace").decode(), safe="")
