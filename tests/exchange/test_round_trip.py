"""Whatever is grown, copied and edited: the document gives the identical network back."""

from __future__ import annotations

from contextlib import suppress
from datetime import date
from typing import Any

import orjson
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.helpers import bus, network, source
from vastmesh.core.errors import InvalidFields
from vastmesh.core.network import (
    REGISTRY,
    SHOOTS,
    Add,
    Bus,
    Element,
    Line,
    Network,
    Update,
    clip,
    grow,
    paste,
    specs,
    with_rules,
)
from vastmesh.exchange import read_document, write_document

WORDS = st.text(st.characters(exclude_categories=("Cs", "Cc")), min_size=1, max_size=20).filter(
    lambda t: t.strip() == t
)


@st.composite
def grown_networks(draw: st.DrawFn) -> Network:
    """Networks of every kind of equipment: grown, partly edited, partly copied, with notes and places."""
    net = network(bus("S", draw(st.sampled_from([0.4, 11.0, 33.0, 132.0]))), source("S"))
    for _ in range(draw(st.integers(1, 8))):
        what = draw(st.sampled_from(sorted(SHOOTS)))
        places = [i for i in net.elements() if isinstance(i, Bus | Line) and i.kind in SHOOTS[what].at]
        if places:
            with suppress(InvalidFields):  # not everything grows at a bus of one phase
                net.apply(grow(net, draw(st.sampled_from(places)).id, what).changes)
    for element in draw(st.lists(st.sampled_from(list(net.elements())), max_size=4, unique_by=lambda e: e.id)):
        net.apply([Update(id=element.id, values=draw(clothes()))])
    if draw(st.booleans()):
        ids = draw(st.lists(st.sampled_from([e.id for e in net.elements()]), max_size=4, unique=True))
        if ids:
            net.apply(paste(net, clip(net, ids)).changes)
    net.apply([Add(item={"kind": "line_geometry", "id": "tower", "type": "Al/St 150", "earth_wires": 1})])
    own = {"kind": "own_type", "id": "mine", "family": "line", "values": {"r_ohm_per_km": 0.1, "x_ohm_per_km": 0.1}}
    net.apply([Add(item=own), *with_rules(net)])
    return net


@st.composite
def clothes(draw: st.DrawFn) -> dict[str, Any]:
    every: dict[str, st.SearchStrategy[Any]] = {
        "name": WORDS, "note": st.text(st.characters(exclude_categories=("Cs",)), max_size=40), "owner": WORDS,
        "tags": st.lists(WORDS, max_size=3).map(tuple), "links": st.just(("https://example.org/a",)),
        "commissioned": st.dates(date(1900, 1, 1), date(2100, 1, 1)), "label_dx": st.floats(-500, 500),
        "symbol_size": st.floats(0.5, 3), "flipped": st.booleans(), "in_service": st.booleans(),
        "attachments": st.just(({"name": "a.pdf", "sha256": "0" * 64, "size": 3, "media_type": "application/pdf"},)),
    }  # fmt: skip
    chosen = draw(st.lists(st.sampled_from(sorted(every)), unique=True, max_size=6))
    return {f: draw(every[f]) for f in chosen}


@settings(max_examples=120, deadline=None)
@given(grown_networks())
def test_export_and_import_give_an_identical_network(net: Network) -> None:
    again = read_document(write_document(net, "t")).network
    assert again == net
    assert [i.id for i in again.items.values()] == list(net.items)
    assert again.to_items() == net.to_items()
    assert orjson.loads(write_document(again, "t")) == orjson.loads(write_document(net, "t"))


def test_every_kind_with_an_end_can_be_grown_or_entered() -> None:
    grown = {"bus", *SHOOTS} | {"line", "transformer", "load"}
    for kind, cls in REGISTRY.items():
        if issubclass(cls, Element):
            assert kind in grown, f"nothing grows {kind}"
        assert specs(cls)
