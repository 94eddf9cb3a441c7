"""The sift line against plain Python over the same rows, on lines made at random."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from vastmesh.core.sift import Frame, SiftError, Texts, sift

NUMBERS = {"u": "p.u.", "p": "MW", "n": None}
WORDS = ["red", "Green", "dark blue", ""]


@st.composite
def frames(draw: st.DrawFn) -> tuple[Frame, list[dict[str, Any]]]:
    size = draw(st.integers(1, 12))
    figure = st.one_of(st.none(), st.floats(-3, 3).map(lambda x: round(x, 3)))
    rows = [{"u": draw(figure), "p": draw(figure), "n": draw(figure), "c": draw(st.sampled_from(WORDS)),
             "on": draw(st.booleans())} for _ in range(size)]  # fmt: skip
    columns: dict[str, Any] = {
        k: np.array([np.nan if r[k] is None else r[k] for r in rows], np.float64) for k in NUMBERS
    }
    columns["c"] = draw(st.sampled_from([list, Texts]))([r["c"] for r in rows])
    columns["on"] = np.array([r["on"] for r in rows])
    return Frame(columns, NUMBERS, size), rows


Case = tuple[str, Any]


@st.composite
def cases(draw: st.DrawFn, depth: int) -> Case:
    """A test as a line, and the same as a function of a row."""
    kind = draw(st.sampled_from(["number", "text", "flag"] + (["and", "or", "not"] * (depth > 0))))
    if kind == "number":
        name, sign = draw(st.sampled_from(sorted(NUMBERS))), draw(st.sampled_from(["<", "<=", ">", ">="]))
        limit = round(draw(st.floats(-3, 3)), 3)
        ops = {
            "<": lambda x: x < limit,
            "<=": lambda x: x <= limit,
            ">": lambda x: x > limit,
            ">=": lambda x: x >= limit,
        }
        return f"{name} {sign} {limit}", lambda r: r[name] is not None and ops[sign](r[name])
    if kind == "text":
        word, sign = draw(st.sampled_from(["red", "GREEN", "blue", "x"])), draw(st.sampled_from(["=", "!=", "~"]))
        low = word.lower()
        match = {"=": lambda t: t == low, "!=": lambda t: t != low, "~": lambda t: low in t}[sign]
        return f'c {sign} "{word}"', lambda r: match(r["c"].lower())
    if kind == "flag":
        return "on", lambda r: r["on"]
    first = draw(cases(depth=depth - 1))
    if kind == "not":
        return f"not ({first[0]})", lambda r: not first[1](r)
    second = draw(cases(depth=depth - 1))
    if kind == "and":
        return f"({first[0]}) and ({second[0]})", lambda r: first[1](r) and second[1](r)
    return f"({first[0]}) or ({second[0]})", lambda r: first[1](r) or second[1](r)


@given(frames(), cases(depth=3))
def test_a_line_picks_what_plain_python_picks(table: tuple[Frame, list[dict[str, Any]]], case: Case) -> None:
    frame, rows = table
    line, test = case
    assert sift(line, frame).rows.tolist() == [i for i, r in enumerate(rows) if test(r)]


@given(frames(), st.sampled_from(sorted(NUMBERS)), st.booleans())
def test_an_order_is_that_of_the_figures_blanks_last(
    table: tuple[Frame, list[dict[str, Any]]], name: str, largest: bool
) -> None:
    frame, rows = table
    found = [rows[i][name] for i in sift(f"{'largest' if largest else 'smallest'} {name} first", frame).rows]
    known = [v for v in found if v is not None]
    assert known == sorted(known, reverse=largest)
    assert all(v is None for v in found[len(known) :])
    assert len(found) == len(rows)


@given(frames(), st.integers(1, 5))
def test_top_and_bottom_are_the_ends_of_the_order(table: tuple[Frame, list[dict[str, Any]]], count: int) -> None:
    frame, rows = table
    known = sorted(r["p"] for r in rows if r["p"] is not None)
    top = sorted(rows[i]["p"] for i in sift(f"top(p, {count})", frame).rows)
    bottom = sorted(rows[i]["p"] for i in sift(f"bottom(p, {count})", frame).rows)
    if not known:
        assert top == bottom == []
    else:
        assert top == [v for v in known if v >= known[max(len(known) - count, 0)]]
        assert bottom == [v for v in known if v <= known[min(count, len(known)) - 1]]


@given(frames(), st.floats(-2, 2).map(lambda x: round(x, 2)))
def test_units_do_not_change_what_is_picked(table: tuple[Frame, list[dict[str, Any]]], limit: float) -> None:
    frame, _ = table
    plain = sift(f"p > {limit}", frame).rows.tolist()
    assert sift(f"p > {limit} MW", frame).rows.tolist() == plain
    assert sift(f"p > {limit * 1000:.6f} kW", frame).rows.tolist() == plain
    assert sift(f"1000 * p > {limit * 1000:.6f} MW", frame).rows.tolist() == plain


@given(frames())
def test_functions_are_those_of_the_known_figures(table: tuple[Frame, list[dict[str, Any]]]) -> None:
    frame, rows = table
    known = [r["u"] for r in rows if r["u"] is not None]
    if not known:
        assert sift("u = max(u)", frame).rows.tolist() == []
        return
    assert sift("u >= max(u)", frame).rows.tolist() == [i for i, r in enumerate(rows) if r["u"] == max(known)]
    mean = math.fsum(known) / len(known)
    picked = sift("u > mean(u) + 0.000001", frame).rows.tolist()
    assert picked == [i for i, r in enumerate(rows) if r["u"] is not None and r["u"] > mean + 1e-6]


def test_texts_know_the_names_behind_ids_and_work_once() -> None:
    words = Texts(["q", "h", None, "q"], {"q": "Quillport"})
    frame = Frame({"area": words}, {}, 4)
    assert sift("area = quillport", frame).rows.tolist() == [0, 3]
    assert sift("area = Q", frame).rows.tolist() == [0, 3]
    assert sift("area != Quillport", frame).rows.tolist() == [1, 2]
    assert words.low is words.low
    assert Texts(["a"], {"q": "x"}).named is None


@pytest.mark.parametrize(
    "line", ["u < 3 kg", "u < 1 and", "c = ", "u in ()", "1 < 2 < 3", "max()", "pinned.u > 1", "u > 'x'"]
)
def test_broken_lines_are_refused_with_a_place(line: str) -> None:
    frame = Frame({"u": np.array([1.0]), "c": ["x"]}, {"u": "p.u."}, 1)
    with pytest.raises(SiftError) as found:
        sift(line, frame)
    assert 0 <= found.value.position <= len(line)
    assert str(found.value)
