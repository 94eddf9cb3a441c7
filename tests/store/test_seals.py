"""What is sealed opens without another validation, exactly as it was; what was touched, or sealed by other rules, does not."""

from __future__ import annotations

import sqlite3
import zlib
from pathlib import Path
from typing import Any

import orjson
import pytest

from tests.core.test_every_field_at_its_bounds import BASE, KINDS, values_of
from tests.helpers import bus, line, load, network, source, transformer
from vastmesh.core.errors import DataError
from vastmesh.core.network import REGISTRY, Item, Network, Origin, dump_item, make_item, specs
from vastmesh.core.network import network as network_module
from vastmesh.core.network.items import taken_as_it_is
from vastmesh.store import BeyondRepair, Store, _seal

RICH: list[dict[str, Any]] = [
    {"kind": "load", "id": "l", "bus": "b", "active_power_mw": 1.0, "tags": ["a", "b"], "commissioned": "1999-12-31",
     "links": ["https://vast.example/one"], "origins": {"active_power_mw": "catalogue"},
     "attachments": [{"name": "a", "sha256": "0" * 64, "size": 3, "media_type": "text/plain"}]},
    {"kind": "condition", "id": "c", "states": {"x": "out"}, "values": {"l": {"active_power_mw": 2.0, "note": None}}},
    {"kind": "line", "id": "w", "from_bus": "a", "to_bus": "b", "length_km": 1, "route": [[1.5, 2], [3, 4.25]]},
    {"kind": "scheme", "id": "s", "name": "S",
     "changes": [{"change": {"op": "update", "id": "l", "values": {"active_power_mw": 3.0}}}]},
    {"kind": "plan", "id": "p", "name": "P", "steps": [{"scheme": "s", "year": 2031}]},
    {"kind": "own_type", "id": "t", "family": "line", "values": {"r_ohm_per_km": 0.1, "construction": "cable"}},
]  # fmt: skip


def same(one: Item, other: Item) -> None:
    assert type(one) is type(other)
    assert one == other
    assert one.model_fields_set == other.model_fields_set
    for (name, value), (name_, value_) in zip(vars(one).items(), vars(other).items(), strict=True):
        assert (name, type(value)) == (name_, type(value_))
        if isinstance(value, tuple) and value:
            assert type(value[0]) is type(value_[0])
    assert all(type(a) is type(b) for a, b in zip(one.origins.values(), other.origins.values(), strict=True))
    assert dump_item(one) == dump_item(other)


@pytest.mark.parametrize("kind", KINDS)
def test_every_value_of_every_field_is_read_as_validation_reads_it(kind: str) -> None:
    first = dump_item(next(i for i in BASE.items.values() if i.kind == kind))
    read = 0
    for field in specs(REGISTRY[kind]):
        for value in values_of(kind, field):
            try:
                right = make_item({k: v for k, v in (first | {field: value}).items() if v is not None})
            except DataError:
                continue
            stored = orjson.loads(orjson.dumps(dump_item(right)))
            same(taken_as_it_is(stored), make_item(stored))
            read += 1
    assert read


@pytest.mark.parametrize("data", RICH, ids=[d["kind"] for d in RICH])
def test_what_is_written_in_another_way_is_read_as_validation_reads_it(data: dict[str, Any]) -> None:
    data = {k: v for k, v in data.items() if k in REGISTRY[data["kind"]].model_fields}
    stored = orjson.loads(orjson.dumps(dump_item(make_item(data))))
    same(taken_as_it_is(stored), make_item(stored))


def test_two_items_share_nothing_that_can_change() -> None:
    one, other = (taken_as_it_is({"kind": "bus", "id": i, "name": i, "nominal_kv": 11.0}) for i in "ab")
    one.origins["nominal_kv"] = Origin.TYPICAL
    assert not other.origins
    assert not taken_as_it_is({"kind": "bus", "id": "c", "name": "c", "nominal_kv": 11.0}).origins


class Counted:
    """How many items are validated."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch) -> None:
        self.count = 0
        plain = network_module.make_item

        def counting(data: dict[str, Any]) -> Item:
            self.count += 1
            return plain(data)

        monkeypatch.setattr(network_module, "make_item", counting)


def three() -> Network:
    return network(
        bus("a", 33.0), source("a"), bus("b"), transformer("a", "b"), line("b", "c"), bus("c"), load("c", 1.0)
    )


def test_what_this_code_wrote_is_not_validated_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    store, net = Store(tmp_path), three()
    project = store.create("p", net).id
    counted = Counted(monkeypatch)
    loaded = store.load(project)
    assert counted.count == 0
    assert loaded.network == net
    assert set(loaded.plain) == set(net.items)
    assert all(loaded.network.referrers(i) == net.referrers(i) for i in net.items)
    for ident, item in net.items.items():
        same(loaded.network[ident], make_item(dump_item(item)))


def test_what_was_touched_is_validated_and_refused(tmp_path: Path) -> None:
    store = Store(tmp_path)
    project = store.create("p", three()).id
    with sqlite3.connect(store.path) as db:
        items = orjson.loads(zlib.decompress(db.execute("select items from snapshot").fetchone()[0]))
        items[0]["nominal_kv"] = -33.0
        db.execute("update snapshot set items = ?", (zlib.compress(orjson.dumps(items)),))  # its seal stays
    with pytest.raises(BeyondRepair, match="nominal_kv"):
        store.load(project)


def test_other_rules_validate_once_more_and_seal_what_stands(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    store, net = Store(tmp_path), three()
    project = store.create("p", net).id
    monkeypatch.setattr(_seal, "_rules", lambda: b"of a later version")
    counted = Counted(monkeypatch)
    assert store.load(project).network == net
    assert counted.count == len(net.items)
    assert store.load(project).network == net
    assert counted.count == len(net.items)  # sealed the first time


def test_what_had_to_be_mended_is_not_sealed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    store = Store(tmp_path)
    project = store.create("p", three()).id
    with sqlite3.connect(store.path) as db:
        items = orjson.loads(zlib.decompress(db.execute("select items from snapshot").fetchone()[0]))
        items[0]["limits"] = ""
        db.execute("update snapshot set items = ?, seal = null", (zlib.compress(orjson.dumps(items)),))
    right, counted = three(), Counted(monkeypatch)
    for times in (1, 2):
        assert store.load(project).network == right
        assert counted.count == times * len(items)
