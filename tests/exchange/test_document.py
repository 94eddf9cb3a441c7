"""The project's own document: what is written is what is read, and damage is named."""

from __future__ import annotations

import orjson
import pytest
from hypothesis import given, settings

from tests.conftest import ROOT
from tests.helpers import bus, line, load, network, networks, source
from vastmesh.core.errors import DataError, InvalidFields, UnreadableFile
from vastmesh.core.network import REGISTRY, Network
from vastmesh.exchange import document_schema, read_document, read_network, write_document, write_network


@settings(max_examples=40, deadline=None)
@given(networks())
def test_export_and_import_give_an_identical_network(net: Network) -> None:
    found = read_document(write_document(net, "Title")).network
    assert found == net
    assert list(found.items) == list(net.items)


def test_demo_round_trips_with_its_origins(demo: Network) -> None:
    imported = read_network(write_network(demo, "Corvane Coast", "document"), "x.json")
    assert imported.network == demo
    assert imported.title == "Corvane Coast"
    assert any("119 × bus" in r.text for r in imported.report.read)


def test_every_way_of_cutting_a_file_in_half_is_an_error(demo: Network) -> None:
    data = write_document(demo, "x")
    for share in (0.01, 0.1, 0.5, 0.9, 0.999):
        with pytest.raises(UnreadableFile, match=r"line \d+"):
            read_document(data[: int(len(data) * share)])


@pytest.mark.parametrize(
    ("content", "words"),
    [
        ({"format": "something", "items": []}, "not a network document"),
        ({"format": "vast-mesh-network", "version": 99, "items": []}, "version 99"),
        ({"format": "vast-mesh-network", "version": 1}, "list of items"),
        ({"format": "vast-mesh-network", "version": 1, "items": [1]}, "list of items"),
        ([1, 2], "not a network document"),
    ],
)
def test_other_json_is_refused(content: object, words: str) -> None:
    with pytest.raises(UnreadableFile, match=words):
        read_document(orjson.dumps(content))


def test_deep_nesting_is_refused() -> None:
    deep: object = 1
    for _ in range(40):
        deep = [deep]
    item = {**bus("a"), "note": deep}
    with pytest.raises(UnreadableFile, match="nested"):
        read_document(orjson.dumps({"format": "vast-mesh-network", "version": 1, "items": [item]}))


def test_a_bad_item_is_named_with_its_place() -> None:
    items = [bus("a"), bus("b", -5.0)]
    head = {"format": "vast-mesh-network", "version": 1}
    found = read_document(orjson.dumps({**head, "items": [*items, line("a", "b"), load("a", 1.0)]}))
    assert list(found.network.items) == ["a", "load-a"]
    assert [r.text for r in found.report.left_out] == [
        "b, nominal_kv: -5.0 is not allowed; enter a number from 0.001 to 1500 kV", "a-b: it refers to b, which was left out",
    ]  # fmt: skip
    with pytest.raises(InvalidFields, match=r"b \(item 1\), nominal_kv: -5.0 is not allowed"):
        read_document(orjson.dumps({**head, "items": items[1:]}))


@pytest.mark.parametrize("data", [b"", b"   \n", b"\x00\x01\x02\x03", b"hello", b"{", b"\xff\xfe{}", b"[]" * 10])
def test_junk_is_refused_not_crashed_on(data: bytes) -> None:
    with pytest.raises(DataError):
        read_network(data)


def test_schema_lists_every_kind_with_units() -> None:
    schema = document_schema()
    assert set(schema["$defs"]) == {*REGISTRY, "Attachment", "SchemeChange", "PlanStep", "Add", "Update", "Remove"}
    assert schema["$defs"]["line"]["properties"]["length_km"]["unit"] == "km"
    assert "from_bus" in schema["$defs"]["line"]["required"]


def test_published_schema_is_the_current_one() -> None:
    published = orjson.loads((ROOT / "docs" / "network-document.schema.json").read_bytes())
    assert published == orjson.loads(orjson.dumps(document_schema())), "run: make schema"


def test_unknown_format_is_refused() -> None:
    with pytest.raises(UnreadableFile, match="choose one of document, cdf"):
        write_network(network(bus("a"), source("a")), "x", "scroll")
