"""How the distortion at an element follows, order by order, the way it is written by hand."""

from __future__ import annotations

from ...network import Bus, Condition, Network
from ...results import Result, Table
from ...workings import Ledger, Working


def explain_distortion(network: Network, result: Result, condition: Condition, ident: str) -> list[Working]:
    """Workings of a bus or a branch; none where the result has nothing of it."""
    item = network[ident]
    table = result.tables.get("buses" if isinstance(item, Bus) else "branches")
    if table is None or ident not in table["id"]:
        return []
    row = list(table["id"]).index(ident)
    return [_of_bus(table, row) if isinstance(item, Bus) else _of_branch(table, row)]


def _of_bus(table: Table, row: int) -> Working:
    told = Ledger("Voltage distortion", "Voltages of the orders are the impedances of the network, element by element, times the "
                  "injected currents.")  # fmt: skip
    shares = _orders(table, "_pct")
    for h, column in shares:
        told.given(f"u{h}", f"voltage of order {h}", float(table[column][row]), "%", "Z(h) · I(h)")
    squares = " + ".join(f"u{h} ** 2" for h, _ in shares)
    told.line("THD", "total distortion", f"sqrt({squares})", "%", "IEC 61000-4-7", solver=float(table["thd_pct"][row]))
    return told.working()


def _of_branch(table: Table, row: int) -> Working:
    told = Ledger(
        "Current distortion", "At its from end. Currents of the orders follow from the voltages of both ends."
    )
    orders = _orders(table, "_a")
    told.given("I1", "fundamental", float(table["fundamental_a"][row]), "A", "load flow")
    for h, column in orders:
        told.given(f"I{h}", f"order {h}", float(table[column][row]), "A")
    squares = " + ".join(f"I{h} ** 2" for h, _ in orders)
    told.line("Ih", "all orders", f"sqrt({squares})", "A")
    told.line("I", "root mean square", "sqrt(I1 ** 2 + Ih ** 2)", "A", solver=float(table["rms_a"][row]))
    told.line("THD", "total distortion", "100 * Ih / I1", "%", solver=float(table["thd_i_pct"][row]))
    k = float(table["k_factor"][row])
    if k == k:
        weighted = " + ".join(f"{h * h} * I{h} ** 2" for h, _ in orders)
        told.line("K", "K factor", f"(I1 ** 2 + {weighted}) / I ** 2", "1", "IEEE C57.110, 5", solver=k)
    return told.working()


def _orders(table: Table, ending: str) -> list[tuple[int, str]]:
    found = []
    for c in table.columns:
        if c.name.startswith("order_") and c.name.endswith(ending):
            found.append((int(c.name.removeprefix("order_").removesuffix(ending)), c.name))
    return found
