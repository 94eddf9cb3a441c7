"""Parts of a study worked on by processes with other hash seeds are parts of one answer."""

from __future__ import annotations

import math
import os
import pickle
import subprocess
import sys
from typing import Any

import numpy as np
import pytest

from tests.under_a_seed import OPTIONS, small_town
from vastmesh.core.results import Result
from vastmesh.core.studies import STUDIES, Inputs
from vastmesh.core.studies.failures import KINDS

IN_PARTS = [s.name for s in STUDIES.values() if s.split is not None]
SEEDS = ("1", "2", "77")


@pytest.fixture(scope="module")
def worked_on() -> list[dict[str, Any]]:
    """What processes of three seeds made of the same network."""
    started = [
        subprocess.Popen(
            [sys.executable, "-m", "tests.under_a_seed"],
            stdout=subprocess.PIPE,
            env={**os.environ, "PYTHONHASHSEED": seed},
        )
        for seed in SEEDS
    ]
    return [pickle.loads(p.communicate()[0]) for p in started]


def assert_same(a: Any, b: Any, where: str) -> None:
    """Plain answers, to the last digits that another order of sums could change."""
    assert type(a) is type(b), where
    if isinstance(a, dict):
        assert list(a) == list(b), where
        for k in a.keys() - {"took_s"}:
            assert_same(a[k], b[k], f"{where}.{k}")
    elif isinstance(a, (list, tuple)):
        assert len(a) == len(b), where
        for k, (x, y) in enumerate(zip(a, b, strict=True)):
            assert_same(x, y, f"{where}[{k}]")
    elif isinstance(a, np.ndarray) and a.dtype.kind in "fc":
        np.testing.assert_allclose(a, b, rtol=1e-9, atol=1e-9, err_msg=where)
    elif isinstance(a, np.ndarray):
        assert np.array_equal(a, b), where
    elif isinstance(a, float):
        assert a == pytest.approx(b, rel=1e-9, abs=1e-9, nan_ok=True), where
    else:
        assert a == b, where


@pytest.mark.parametrize("study", IN_PARTS)
def test_a_part_is_the_same_under_every_hash_seed(worked_on: list[dict[str, Any]], study: str) -> None:
    one, *others = (w[study] for w in worked_on)
    assert one[1]
    for other in others:
        assert_same(one, other, study)


@pytest.mark.parametrize("study", IN_PARTS)
def test_parts_made_under_other_hash_seeds_join_to_what_one_process_makes(
    worked_on: list[dict[str, Any]], study: str
) -> None:
    kind = STUDIES[study]
    assert kind.split is not None
    inputs, options = Inputs(small_town()), kind.options(**OPTIONS.get(study, {}))
    parts, alone = worked_on[0][study]
    mixed = [worked_on[k % len(SEEDS)][study][1][k] for k in range(len(parts))]
    whole, joined = (kind.split.join(inputs, options, parts, answers) for answers in (alone, mixed))
    assert whole.statement == joined.statement
    assert_same(dict(whole.summary), dict(joined.summary), study)
    for name, table in whole.tables.items():
        assert_same(table.records(), joined.tables[name].records(), f"{study} {name}")
    if study == "reliability":
        assert_totals_are_sums(joined)


def assert_totals_are_sums(result: Result) -> None:
    """Indices are the sums of what the kinds of failure and the single elements come to, and those of the loads."""
    kinds, elements, loads = (result.tables[t].records() for t in ("kinds", "elements", "loads"))
    customers = sum(r["customers"] for r in loads)
    for index, of_load in (("saidi", "hours"), ("saifi", "interruptions"), ("maifi", "brief")):
        told = result.summary[index]
        assert told
        assert math.isclose(told, sum(r["customers"] * r[of_load] for r in loads) / customers, rel_tol=1e-9)
        row = next(r for r in result.tables["indices"].records() if r["name"] == index.upper())
        by_kind = [row[k] for k in KINDS if k in row]
        assert len(by_kind) == len(kinds) > 2
        assert math.isclose(told, sum(by_kind), rel_tol=1e-9)
        assert math.isclose(told, sum(r[index] for r in elements), rel_tol=1e-9)
    assert result.summary["ens"] == pytest.approx(sum(r["ens_mwh"] for r in loads), rel=1e-9)
