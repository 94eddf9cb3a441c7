"""How a price and the cost of an hour came about, as worked lines."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ...network import Bus, Condition, Network, cost_lines_of, price_of
from ...results import Result, Table
from ...workings import Ledger, Working


def explain_optimal_flow(
    network: Network, result: Result, condition: Condition, ident: str, options: Mapping[str, Any]
) -> list[Working]:
    """Workings of a bus, a plant or a branch; none where the result has nothing of it, or is of something else than cost."""
    item = network[ident]
    if options.get("best", "cost") != "cost":
        return []
    for name, told in (("buses", _price), ("plants", _hour), ("branches", _rent)):
        table = result.tables.get(name)
        if table is not None and ident in table["id"] and isinstance(item, Bus) == (name == "buses"):
            return told(network, result, table, list(table["id"]).index(ident))
    return []


def _price(network: Network, result: Result, table: Table, row: int) -> list[Working]:
    if not any(c.name == "energy" for c in table.columns):
        return []
    told = Ledger(
        "Price of a MW here",
        "What one MW more of demand would cost: as much as at the reference, what more of it is lost on the way, and what it "
        "takes of every limit that binds (its multiplier times what it adds there).",
    )
    told.given("E", "energy, as at the reference", float(table["energy"][row]), "1/MWh", "this study")
    told.given("L", "losses on the way", float(table["losses"][row]), "1/MWh", "this study")
    named = [c for c in table.columns if c.name.startswith("by_")]
    for n, c in enumerate(named, 1):
        told.given(f"B{n}", c.label, float(c.values[row]), "1/MWh", "this study")
    rest = float(table["limits"][row]) - sum(float(c.values[row]) for c in named)
    told.given("V", "limits of voltages and other branches", rest, "1/MWh", "this study")
    branches = "".join(f" + B{n}" for n in range(1, len(named) + 1))
    told.line("p", "price", f"E + L{branches} + V", "1/MWh", solver=float(table["price"][row]))
    return [told.working()]


def _hour(network: Network, result: Result, table: Table, row: int) -> list[Working]:
    e: Any = network[table["id"][row]]
    told = Ledger("Cost of an hour", "At best, and what one more MW from it would cost beside the price at its bus.")
    mw = float(table["after_mw"][row])
    told.given("P", "active power", mw, "MW", "this study")
    told.given("c0", "cost of running", e.cost_running, "1/h", "entered")
    reactive = ""
    if e.cost_per_mvarh and any(c.name == "after_mvar" for c in table.columns):
        told.given("Q", "reactive power, without its sign", abs(float(table["after_mvar"][row])), "Mvar", "this study")
        told.given("cq", "cost of reactive power", e.cost_per_mvarh, "1/Mvarh", "entered")
        reactive = " + cq * Q"
    if e.cost_blocks:
        lines = cost_lines_of(e.cost_blocks)
        cost, constant = max(lines, key=lambda line: line[0] * mw + line[1])  # the step it stands in
        told.given("c1", "cost of energy in the step it stands in", cost, "1/MWh", "entered")
        told.given("k", "what the steps below cost beyond or less than that", constant, "1/h", "entered")
        energy, marginal = "c1 * P + k", "c1"
    else:
        told.given(
            "c1",
            "cost of energy",
            price_of(e),
            "1/MWh",
            "entered" if e.cost_per_mwh is not None else "typical for its energy",
        )
        told.given("c2", "rising cost", e.cost_rising, "1/MW²h", "entered")
        energy, marginal = "c1 * P + c2 * P ** 2", "c1 + 2 * c2 * P"
    told.line("C", "cost of an hour", f"c0 + {energy}{reactive}", "1/h", solver=float(table["hour_after"][row]))
    told.line("m", "one more MW from it", marginal, "1/MWh")
    told.given("p", "price at its bus", float(table["price"][row]), "1/MWh", "this study")
    told.line("d", "price beyond its own cost: what one MW more of its most would save, below 0 what its least costs", "p - m",
              "1/MWh")  # fmt: skip
    return [told.working()]


def _rent(network: Network, result: Result, table: Table, row: int) -> list[Working]:
    told = Ledger("Rent", "What its power is worth where it comes out, less what it is worth where it goes in.")
    told.given("P", "power into its from end", float(table["active_mw"][row]), "MW", "this study")
    told.given("D", "losses in it", float(table["loss_mw"][row]), "MW", "this study")
    told.given("f", "price at its from end", float(table["price_from"][row]), "1/MWh", "this study")
    told.given("t", "price at its to end", float(table["price_to"][row]), "1/MWh", "this study")
    told.line("R", "rent", "t * (P - D) - f * P", "1/h", solver=float(table["rent"][row]))
    return [told.working(), _two_buses(table, row)]


def _two_buses(table: Table, row: int) -> Working:
    """The dispatch that two buses with this branch between them would have: all of the cheap side's power that it carries, the
    rest on the dear side."""
    told = Ledger(
        "By hand: two buses with this between them",
        "A plant at each end at the price there, demand at the dear end: the cheap one gives what the branch carries, the dear "
        "one the rest. Without losses and without other ways round; the network as it is has both.",
    )
    f, t = float(table["price_from"][row]), float(table["price_to"][row])
    power = abs(float(table["active_mw"][row]))
    told.given("c", "price at the cheap end", min(f, t), "1/MWh", "this study")
    told.given("d", "price at the dear end", max(f, t), "1/MWh", "this study")
    told.given("P", "carried", power, "MW", "this study")
    told.given("E", "demand at the dear end, beyond what it carries: any figure you like", power, "MW", "example")
    told.line("A", "an hour with the branch as it is", "c * P + d * E", "1/h")
    told.line("B", "an hour if it carried all", "c * (P + E)", "1/h")
    told.line("S", "that saves", "A - B", "1/h")
    told.line("s", "one MW more of it saves", "d - c", "1/MWh")
    told.line("r", "what the branch earns: power times the difference", "P * (d - c)", "1/h")
    return told.working()
