"""Pictures as PDF: the paper asked for, vectors and our type inside, nothing fetched from elsewhere."""

from __future__ import annotations

import re
import zlib

import pytest

from vastmesh.core.errors import InvalidFields
from vastmesh.reports import picture_pdf

SVG = '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 400 200"><text x="9" y="20">Ω → ∞ Quillport</text>{}</svg>'


def streams(pdf: bytes) -> bytes:
    found = b""
    for part in re.findall(rb"(?<!end)stream\r?\n(.*?)endstream", pdf, re.DOTALL):
        try:
            found += zlib.decompressobj().decompress(part)
        except zlib.error:
            found += part
    return found + pdf


def boxes(pdf: bytes) -> list[tuple[float, float]]:
    found = re.findall(rb"/MediaBox\s*\[\s*0 0 ([\d.]+) ([\d.]+)", streams(pdf))
    return [(float(a) / 72 * 25.4, float(b) / 72 * 25.4) for a, b in found]


@pytest.mark.parametrize(("paper", "size"), [("A4", (297, 210)), ("A3", (420, 297)), ("letter", (279.4, 215.9))])
def test_a_wide_picture_stands_on_its_paper_across(paper: str, size: tuple[float, float]) -> None:
    assert boxes(picture_pdf(SVG.format(""), paper=paper, title="T", lines=[])) == [pytest.approx(size, abs=0.1)]


def test_a_tall_picture_stands_upright() -> None:
    svg = '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 100 300"><rect width="9" height="9"/></svg>'
    assert boxes(picture_pdf(svg, paper="A4", title="T", lines=[])) == [pytest.approx((210, 297), abs=0.1)]


def test_a_scale_spreads_it_over_pages_that_are_counted() -> None:
    pdf = picture_pdf(SVG.format(""), paper="A4", title="T", lines=["one"], mm_per_unit=1.0)
    assert len(boxes(pdf)) == 4  # 400 x 200 mm on 277 x 176 mm
    with pytest.raises(InvalidFields, match="choose a smaller scale"):
        picture_pdf(SVG.format(""), paper="A4", title="T", lines=[], mm_per_unit=10.0)


def test_lines_stay_vectors_and_type_is_inside() -> None:
    found = streams(picture_pdf(SVG.format('<line x1="0" y1="0" x2="400" y2="200" stroke="#000"/>'), paper="A4",
                                title="Corvane <Coast>", lines=["Winter & snow"]))  # fmt: skip
    assert b"IBM-Plex" in found or b"IBMPlex" in found
    assert b"/FontFile" in found
    assert b"/Subtype /Image" not in found
    assert re.search(rb"\d l\b", found)


@pytest.mark.parametrize(
    "svg",
    ["", "<html/>", "<svg></svg>", '<svg viewBox="0 0 0 0"/>', "<svg viewBox='0 0 9 9'",
     '<!DOCTYPE x [<!ENTITY a "b">]><svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9">&a;</svg>'],
)  # fmt: skip
def test_what_is_no_picture_is_refused(svg: str) -> None:
    with pytest.raises(InvalidFields):
        picture_pdf(svg, paper="A4", title="T", lines=[])


def test_unknown_paper_is_refused_with_those_there_are() -> None:
    with pytest.raises(InvalidFields, match="A4"):
        picture_pdf(SVG.format(""), paper="B7", title="T", lines=[])


@pytest.mark.parametrize("address", ["file:///etc/hostname", "http://127.0.0.1:1/x.png", "data:,x"])
def test_nothing_a_picture_names_is_fetched(address: str) -> None:
    named = f'<image href="{address}" width="9" height="9"/>'
    assert b"/Subtype /Image" not in streams(picture_pdf(SVG.format(named), paper="A4", title="T", lines=[]))
