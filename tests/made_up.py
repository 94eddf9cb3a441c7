"""A study that nobody needs, in one file: what it declares is all that anything else may know of it.

Run as a program it is a server with the demonstration and this study, for the tests in a browser.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict

from vastmesh.core.errors import FieldProblem, InvalidFields
from vastmesh.core.flow import Ending
from vastmesh.core.network import Bus, Condition, Network, SchemeChange, Update
from vastmesh.core.network.fields import choice, quantity, reference
from vastmesh.core.results import Account, Axis, Bound, Column, Figure, Finding, Quantity, Result, Series, Table
from vastmesh.core.severity import Severity
from vastmesh.core.studies import STUDIES, Inputs, Progress, Study
from vastmesh.core.studies.base import register
from vastmesh.core.workings import Step, Working


class Options(BaseModel):
    """How far lanterns reach."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    wick: Literal["short", "long"] = choice("Wick", "How long the wick is", default="short")
    reach_km: float = quantity("Reach", "How far a lantern reaches", unit="km", default=2.0, gt=0, le=50)
    soot_pct: Annotated[float, quantity("Soot", "What is lost to soot", unit="%", default=10.0, ge=0, le=100,
                                        when={"wick": ("long",)})] = 10.0  # fmt: skip
    keeper: str | None = reference("Keeper", "The bus where the keeper lives", to="bus", default=None)
    slow_s: float = quantity("Slowness", "How long it takes", unit="s", default=0.0, ge=0, le=60)


def light(network: Network, options: Options) -> dict[str, float]:
    far = {"short": 1.0, "long": 2.0}[options.wick] * options.reach_km
    return {b.id: far / (1 + n) for n, b in enumerate(network.of(Bus))}


def run(inputs: Inputs, options: Options, progress: Progress) -> Result:
    if options.keeper is not None and options.keeper not in inputs.network:
        raise InvalidFields([FieldProblem("options", "keeper", options.keeper, "name a bus of this network")])
    for step in range(int(10 * options.slow_s)):
        progress(step / (10 * options.slow_s), f"lighting lantern {step}")
        time.sleep(0.1)
    found = light(inputs.network, options)
    ids, lumen = list(found), np.array(list(found.values()))
    names = [inputs.network[i].name for i in ids]
    brightest = ids[0]
    change = SchemeChange(change=Update(id=brightest, values={"note": "lit"}), label=f"Light {names[0]}")
    return Result(
        Account(Ending.CONVERGED, "By lantern", len(ids)),
        {"lanterns": Table("lanterns", "Lanterns", [
            Column("id", "Id", ids, fixed=True), Column("name", "Name", names, fixed=True),
            Column("light_km", "Light", lumen, "km", 3, "How far the lantern at this bus reaches"),
        ])},
        {"brightest_km": float(lumen.max())},
        [Finding(brightest, "bus", "light_km", float(lumen[0]), "km", 1.0, "Glare", Severity.BREACH, "above",
                 float(lumen[0] - 1), f"{lumen[0]:.1f} km; at most 1 km is pleasant")],
        statement=f"{names[0]} is the brightest of {len(ids)}.",
        scheme=[change.model_dump(mode="json")],
        figures=[Figure("reach", "Reach by lantern", Axis("Lantern"), Axis("Light", "km", 2),
                        [Series("light_km", "light", names[:12], lumen[:12], "bars", ids[:12])], [Bound("glare", 1.0)])],
        quantities=[Quantity("light_km", "Lantern light", "lanterns", "km", 3, scale="growing")],
    )  # fmt: skip


def explain(
    network: Network, result: Result, condition: Condition, ident: str, options: Mapping[str, Any]
) -> list[Working]:
    table = result.tables["lanterns"]
    if ident not in table["id"]:
        return []
    n = table["id"].index(ident)
    value = float(table["light_km"][n])
    return [Working("Light of a lantern", [Step("l", "Light", "reach / (1 + n)", f"over {1 + n}", value, "km")])]


MADE_UP = Study("lanterns", "Lantern light", "How far the light of each lantern reaches", Options, run, follows=True,
                explain=explain)  # fmt: skip


if __name__ == "__main__":
    from tests.made_up import MADE_UP as AS_IMPORTED  # workers find it under the name of its module
    from tests.made_up_parts import IN_PARTS
    from vastmesh.cli import main

    register(AS_IMPORTED)
    register(IN_PARTS)
    sys.exit(main(sys.argv[1:]))


__all__ = ["MADE_UP", "STUDIES"]
