"""What is proposed against a distortion has been tried: applied, each does what was said of it."""

from __future__ import annotations

import re
from typing import Any

import pytest

from vastmesh.core.network import Condition, Network, Update
from vastmesh.core.results import Result
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.harmonics._cures import _ideas

STUDY = STUDIES["distortion"]


def run(network: Network, condition: Condition, **options: Any) -> Result:
    return STUDY.run(Inputs(network, condition), STUDY.options(**options), lambda share, words: None)


def noon(network: Network) -> Condition:
    return next(c for c in network.of(Condition) if c.id == "summer-noon")


def test_each_proposal_does_what_is_said_of_it(demo: Network) -> None:
    result = run(demo, noon(demo))
    finding = next(f for f in result.findings if f.quantity == "order_5_pct")
    assert STUDY.cause is not None
    found = STUDY.cause(Inputs(demo, noon(demo)), result, {}, finding.element, finding.quantity)
    assert "Kesterby bank" in found.text
    assert "Kesterby bank" in found.elements
    labels = [p.label for p in found.proposals]
    assert any(label.startswith("Detune Kesterby bank") for label in labels)
    assert any(label.startswith("A filter of") for label in labels)
    before: list[float] = []
    for p in found.proposals:
        tried = demo.copy()
        tried.apply(p.changes)
        after = run(tried, noon(tried))
        table = after.tables["buses"]
        value = float(table["order_5_pct"][list(table["id"]).index(finding.element)])
        said = re.search(r"→ ([\d.]+) %; (\d+) level", p.effect)
        assert said is not None
        assert value == pytest.approx(float(said[1]), abs=0.006)
        assert sum(f.severity == "breach" for f in after.findings) == int(said[2])
        before.append(value)
    assert before == sorted(before), "the most helpful first"
    assert demo["Kesterby bank"].steps_on == 1, "trying leaves nothing behind"  # type: ignore[attr-defined]


def test_a_detuned_bank_keeps_the_steps_that_conditions_set(demo: Network) -> None:
    result = run(demo, noon(demo))
    assert STUDY.cause is not None
    found = STUDY.cause(Inputs(demo, noon(demo)), result, {}, "Quarry", "order_5_pct")
    detune = next(p for p in found.proposals if p.label.startswith("Detune"))
    demo.apply(detune.changes)
    assert "Kesterby bank" not in demo
    assert noon(demo).values == {"Kesterby bank detuned": {"steps_on": 4}}


def test_a_bank_under_stress_and_what_is_not_outside_anything(demo: Network) -> None:
    result = run(demo, noon(demo))
    assert STUDY.cause is not None
    told = STUDY.cause(Inputs(demo, noon(demo)), result, {}, "Kesterby bank", "current_pct")
    assert "At order" in told.text
    other = STUDY.cause(Inputs(demo, noon(demo)), result, {}, "Kesterby bank", "no_such_figure")
    assert other.proposals == []
    demo.apply([Update(id="Kesterby bank", values={"in_service": False})])
    bare = run(demo, noon(demo))
    quiet = STUDY.cause(Inputs(demo, noon(demo)), bare, {}, "Quarry", "order_5_pct")
    assert not any("Kesterby bank" in p.label for p in quiet.proposals)


def test_a_condition_that_says_no_step_is_on_is_believed(demo: Network) -> None:
    """A condition's 0 is an answer, though the element itself has steps on."""
    moved = noon(demo)
    demo.apply([Update(id="Kesterby bank", values={"steps_on": 3}),
                Update(id=moved.id, values={"values": {"Kesterby bank": {"steps_on": 0}}})])  # fmt: skip
    result = run(demo, noon(demo))
    ideas = _ideas(Inputs(demo, noon(demo)), result, demo["Quarry"], 5.0, ["Kesterby bank"])  # type: ignore[arg-type]
    switched = [(label, changes) for label, changes in ideas if label.startswith("Switch")]
    assert [label for label, _ in switched] == ["Switch Kesterby bank to 1 of 4 steps"]
    demo.apply(switched[0][1])
    assert noon(demo).values["Kesterby bank"] == {"steps_on": 1}
    assert demo["Kesterby bank"].steps_on == 3  # type: ignore[attr-defined]
