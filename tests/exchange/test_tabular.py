"""Spreadsheets: what is written can be read again, formulas stay text, bad rows are all named."""

from __future__ import annotations

import io
import zipfile

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import load_workbook

from tests.helpers import bus, line, load, network, networks, source, switch
from vastmesh.core.catalogue import FAMILIES, search, types_of
from vastmesh.core.errors import InvalidFields, UnreadableFile
from vastmesh.core.network import Network
from vastmesh.exchange import read_rows, read_types, write_rows, write_types_csv, write_types_xlsx


@settings(max_examples=40, deadline=None)
@given(networks(), st.sampled_from(["bus", "line", "load", "transformer"]))
def test_rows_written_and_read_again_change_nothing(net: Network, kind: str) -> None:
    before = {i: net[i].model_dump(exclude={"origins"}) for i in net.items}
    text = write_rows(net, kind)
    if len(text.splitlines()) < 2:
        return
    net.apply(read_rows(net, kind, text))
    assert {i: net[i].model_dump(exclude={"origins"}) for i in net.items} == before


def test_every_bad_row_is_named_and_none_applied() -> None:
    net = network(bus("a"), source("a"), bus("b"), line("a", "b"), load("a", 1.0))
    text = "Name\tBus\tActive power (MW)\nL1\ta\t1\nL2\tnowhere\t1\nL3\ta\tmuch\nL4\ta\t-2e9\nL1\ta\t1\n"
    with pytest.raises(InvalidFields) as caught:
        read_rows(net, "load", text)
    assert [(p.element, p.field) for p in caught.value.problems] == [
        ("row 2", "bus"), ("row 3", "active_power_mw"), ("row 4", "active_power_mw"), ("row 5", "name"),
    ]  # fmt: skip
    assert "L1" not in net


@pytest.mark.parametrize(
    ("text", "words"),
    [("Name\n", "at least one row"), ("Colour\nred\n", "use the name or label of a field"),
     ("Bus\na\n", 'one of the headings must be "Name"'), ("Name\tBus\nL1\ta\tx\ty\n", "only 2 headings"),
     ("Name\tBus\n\ta\n", "give every row a name"), ("Name\tIn service\nload-a\tperhaps\n", "yes or no")],
)  # fmt: skip
def test_tables_that_make_no_sense_are_refused(text: str, words: str) -> None:
    net = network(bus("a"), load("a", 1.0))
    with pytest.raises(InvalidFields, match=words):
        read_rows(net, "load", text)
    with pytest.raises(InvalidFields, match="choose one of"):
        read_rows(net, "castle", text)


def test_decimal_commas_units_and_words_are_understood() -> None:
    net = network(bus("a"), bus("b"), switch("a", "b"), load("a", 1.0))
    net.apply(read_rows(net, "load", "name\tActive power [MW]\tTags\nload-a\t1,25\tnorth, old\n"))
    assert (net["load-a"].active_power_mw, net["load-a"].tags) == (1.25, ("north", "old"))  # type: ignore[attr-defined]
    net.apply(read_rows(net, "switch", "Name\tClosed\na|b\tno\n"))
    assert net["a|b"].closed is False  # type: ignore[attr-defined]


def test_text_never_becomes_a_formula() -> None:
    net = network(bus("a"), load("a", 1.0, name="=1+1", note="@evil"))
    text = write_rows(net, "load")
    assert "\t=1" not in f"\t{text}"
    assert "'=1+1" in text
    net.apply(read_rows(net, "load", text))
    assert net["load-a"].name == "=1+1"


@pytest.mark.parametrize("family", sorted(FAMILIES))
@pytest.mark.parametrize("write", [write_types_csv, write_types_xlsx])
def test_types_survive_the_way_through_a_spreadsheet(family: str, write: object) -> None:
    types = list(types_of(family).values())[:40]
    items = read_types(write(types), f"types.{family}")  # type: ignore[operator]
    assert [i["id"] for i in items] == [t.name for t in types]
    for item, found in zip(items, types, strict=True):
        assert item["values"] == pytest.approx(dict(found.values), nan_ok=False) or item["values"] == dict(found.values)
        assert item["size"] == pytest.approx(found.size)


def test_xlsx_cells_hold_text_and_numbers() -> None:
    data = write_types_xlsx(search(types_of("switch").values(), "fuse gG 63"))
    sheet = load_workbook(io.BytesIO(data)).worksheets[0]
    assert [c.data_type for c in sheet[2]][:5] == ["s", "s", "s", "s", "n"]


def test_broken_and_hostile_spreadsheets_are_refused() -> None:
    with pytest.raises(UnreadableFile):
        read_types(b"PK\x03\x04 not really", "t.xlsx")
    with pytest.raises(UnreadableFile, match="neither XLSX nor text"):
        read_types(b"\xff\xfe\x00", "t.csv")
    with pytest.raises(UnreadableFile, match="headings must include"):
        read_types(b"a,b\n1,2\n", "t.csv")
    with pytest.raises(InvalidFields, match="choose one of"):
        read_types(b"name,family\nX,castle\n", "t.csv")
    bomb = io.BytesIO()
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("xl/worksheets/sheet1.xml", b"0" * 70_000_000)
    with pytest.raises(UnreadableFile, match="60 MB"):
        read_types(bomb.getvalue(), "t.xlsx")
