"""Net present cost of one way to go on, year by year."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ...network import Condition, Network, Scheme
from ...options import options_of
from ...results import Result
from ...workings import Ledger, Working
from ._options import BoardOptions


def explain(
    network: Network, result: Result, condition: Condition, ident: str, options: Mapping[str, Any]
) -> list[Working]:
    """Of a plan or a scheme that stands on the board."""
    money = options_of(BoardOptions, options)
    ways, board, steps = (result.tables.get(n) for n in ("ways", "board", "steps"))
    if ways is None or board is None or steps is None or ident not in list(ways["id"]):
        return []
    place = list(ways["id"]).index(ident)
    name = ways["name"][place]
    if not any(w == ident for w in board["way"]):
        return []
    told = Ledger(
        f"Net present cost of {name}",
        "What is spent in each year, discounted to the first; a year between two that are solved counts as the one before. In "
        "thousands. Residual value is cost times the share of life that is left at the end.",
    )
    told.given("i", "discount rate", money.discount_pct / 100, "", "options")
    end = money.from_year + money.years
    parts = []
    for k, (scheme, year) in enumerate(_own(steps, name), 1):
        item = network.items.get(scheme)
        if not isinstance(item, Scheme) or year >= end:
            continue
        since = max(year, money.from_year) - money.from_year
        told.given(f"C{k}", f"cost of {item.name}", item.cost_k or 0.0, "k", "scheme")
        told.given(f"t{k}", "years until it is built", since, "a", "plan")
        told.line(f"I{k}", "its investment now", f"C{k} / (1 + i)**t{k}", "k")
        parts.append(f"I{k}")
        if item.yearly_cost_k:
            told.given(f"O{k}", "its yearly cost", item.yearly_cost_k, "k", "scheme")
            sums = " + ".join(f"O{k} / (1 + i)**{t}" for t in range(since, money.years))
            told.line(f"P{k}", "its operation now", sums, "k")
            parts.append(f"P{k}")
        if money.residual:
            told.given(f"T{k}", "its life", item.life_years, "a", "scheme")
            used = money.years - since
            told.line(
                f"R{k}",
                "what is left of it at the end",
                f"C{k} * max(0, T{k} - {used}) / T{k} / (1 + i)**{money.years}",
                "k",
            )
            parts.append(f"-R{k}")
    first = condition.name
    rows = [n for n in range(len(board["id"])) if board["way"][n] == ident and board["condition"][n] == first]
    for m, n in enumerate(rows, 1):
        begin = int(board["year"][n])
        span = range(begin - money.from_year, min(begin + money.every, end) - money.from_year)
        told.given(f"L{m}", f"losses in {begin}", float(board["losses_mw"][n]), "MW", "load flow")
        told.line(
            f"V{m}", "what a year of them costs", f"L{m} * {money.loss_hours!r} * {money.loss_price!r} / 1000", "k"
        )
        if money.interruptions == "energy":
            told.given(f"E{m}", "not supplied", float(board["ens_mwh"][n]), "MWh", "failures played")
            told.line(f"W{m}", "what that costs", f"E{m} * {money.energy_price!r} / 1000", "k")
        elif money.interruptions == "cost":
            told.given(
                f"W{m}", "interruptions cost customers", float(board["interruptions_k"][n]), "k", "failures played"
            )
        else:
            told.given(f"W{m}", "interruptions", 0.0, "k", "left out")
        told.line(f"Y{m}", f"from {begin} on, now", " + ".join(f"(V{m} + W{m}) / (1 + i)**{t}" for t in span), "k")
        parts.append(f"Y{m}")
    total = " + ".join(parts).replace("+ -", "- ")
    told.line("K", "net present cost", total.removeprefix("-") if not total.startswith("-") else f"0 {total}", "k",
              solver=float(ways["total_k"][place]))  # fmt: skip
    return [told.working()]


def _own(steps: Any, name: str) -> list[tuple[str, int]]:
    return [(s, int(y)) for s, w, y in zip(steps["id"], steps["name"], steps["year"], strict=True) if w == name]
