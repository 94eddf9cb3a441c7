"""Totals of a solved network by area, substation, feeder and voltage level, and losses by kind and level."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from ..electrical.arrays import Floats, Ints
from ..network import Area, Bus, Network, Role, Substation, Trace, role_of, roles_of
from ._quantity import Quantity
from ._table import Column, Table


def summarise_groups(
    network: Network, tables: Mapping[str, Table], trace: Trace, quantities: Sequence[Quantity] = ()
) -> dict[str, Table]:
    """Tables ``by_area``, ``by_substation``, ``by_feeder``, ``by_level``, ``losses_by_kind`` and ``losses_by_level``.

    A branch between two groups counts half in each. Import is what a group takes from the others and from nowhere
    else: demand, shunts and losses less its own generation. ``quantities`` of buses and branches that can be summed have a
    column each. Empty where there is no result.
    """
    if "buses" not in tables:
        return {}
    parts = _Parts(network, tables, quantities)
    buses = [network[i] for i in tables["buses"]["id"]]
    feeders = {b: f.id for f in trace.feeders for b in f.buses}
    feeder_names = {f.id: f.name for f in trace.feeders}
    words: dict[str, str] = {i.id: i.name for i in network.items.values() if isinstance(i, Area | Substation)}
    level = [f"{b.nominal_kv:g} kV" if isinstance(b, Bus) and b.nominal_kv else None for b in buses]
    groups: list[tuple[str, str, Sequence[str | None], Mapping[str, str]]] = [
        ("by_area", "Areas", [getattr(b, "area", None) for b in buses], words),
        ("by_substation", "Substations", [getattr(b, "substation", None) for b in buses], words),
        ("by_feeder", "Feeders", [feeders.get(b.id) for b in buses], feeder_names),
        ("by_level", "Voltage levels", level, {}),
    ]
    found = [parts.table(name, label, keys, names) for name, label, keys, names in groups]
    found += [parts.losses_by_kind(), parts.losses_by_level(level)]
    return {t.name: t for t in found}


class _Parts:
    """Columns of a result brought onto the rows of its bus table."""

    def __init__(self, network: Network, tables: Mapping[str, Table], quantities: Sequence[Quantity]) -> None:
        self.summed = [q for q in quantities if q.sums and q.table in ("buses", "branches")]
        self.buses, self.branches = tables["buses"], tables["branches"]
        row = {b: i for i, b in enumerate(self.buses["id"])}
        self.n = len(row)
        self.frm = np.array([row[b] for b in self.branches["from_bus"]], np.int64)
        self.to = np.array([row[b] for b in self.branches["to_bus"]], np.int64)
        self.loss = np.nan_to_num(self.branches["active_loss_mw"]) + 1j * np.nan_to_num(
            self.branches["reactive_loss_mvar"]
        )
        injections = tables["injections"]
        at = np.array([row[b] for b in injections["bus"]], np.int64)
        is_shunt = np.array([r is Role.SHUNT for r in roles_of(injections["kind"])], np.bool_)
        p, q = np.nan_to_num(injections["active_power_mw"]), np.nan_to_num(injections["reactive_power_mvar"])
        self.shunt = np.bincount(at[is_shunt], p[is_shunt], self.n) + 1j * np.bincount(
            at[is_shunt], q[is_shunt], self.n
        )
        self.windings = tables.get("windings")
        self.winding_at = np.zeros(0, np.int64)
        self.winding_loss = np.zeros(0, np.complex128)
        if self.windings is not None:
            self.winding_at = np.array(
                [[row[b] for b in self.windings[f"{s}_bus"]] for s in ("hv", "mv", "lv")], np.int64
            ).T
            self.winding_loss = np.nan_to_num(self.windings["active_loss_mw"]) + 1j * np.nan_to_num(
                self.windings["reactive_loss_mvar"]
            )

    def table(self, name: str, label: str, keys: Sequence[str | None], names: Mapping[str, str]) -> Table:
        known = sorted({k for k in keys if k}, key=lambda k: (-_number(k), names.get(k, k)))
        number = {k: i for i, k in enumerate(known)}
        group = np.array([number.get(k or "", -1) for k in keys], np.int64)
        n, b = len(known), self.buses

        def total(values: Floats) -> Floats:
            inside = group >= 0
            return np.bincount(group[inside], np.nan_to_num(values)[inside], n).astype(np.float64)

        gen, gen_q = total(b["generation_mw"]), total(b["generation_mvar"])
        demand, demand_q = total(b["demand_mw"]), total(b["demand_mvar"])
        shunt, shunt_q = total(self.shunt.real), total(self.shunt.imag)
        loss = self._losses(group, n)
        need = demand + loss.real
        with np.errstate(divide="ignore", invalid="ignore"):
            share = np.where(need > 1e-9, 100 * loss.real / need, np.nan)
        v = b["voltage_pu"]
        low, low_at = _extreme(group, n, v, np.arange(self.n), lowest=True)
        high, high_at = _extreme(group, n, v, np.arange(self.n), lowest=False)
        worst, worst_at = self._worst(group, n)
        ids, branch_ids = b["id"], self._branch_ids
        columns = [
                Column("id", label, known),
                Column("name", "Name", [names.get(k, k) for k in known]),
                Column("buses", "Buses", total(np.ones(self.n)), None, 0),
                Column("demand_mw", "Demand", demand, "MW", 3), Column("demand_mvar", "Demand", demand_q, "Mvar", 3),
                Column("generation_mw", "Generation", gen, "MW", 3), Column("generation_mvar", "Generation", gen_q, "Mvar", 3),
                Column("shunt_mvar", "Capacitors", shunt_q, "Mvar", 3, "Delivered by capacitors, less what reactors take"),
                Column("active_loss_mw", "Losses", loss.real, "MW", 4, "Branches between groups count half in each"),
                Column("reactive_loss_mvar", "Losses", loss.imag, "Mvar", 4),
                Column("loss_pct", "Losses", share, "%", 2, "Of demand and losses together"),
                Column("import_mw", "Import", need + shunt - gen, "MW", 3, "Taken from outside; negative when it exports"),
                Column("highest_loading_pct", "Highest loading", worst, "%", 1),
                Column("highest_loading_at", "at", [branch_ids[i] if i >= 0 else None for i in worst_at]),
                Column("lowest_voltage_pu", "Lowest voltage", low, "p.u.", 4),
                Column("lowest_voltage_at", "at", [ids[i] if i >= 0 else None for i in low_at]),
                Column("highest_voltage_pu", "Highest voltage", high, "p.u.", 4),
                Column("highest_voltage_at", "at", [ids[i] if i >= 0 else None for i in high_at]),
        ]  # fmt: skip
        there = {c.name for c in columns}
        for q in self.summed:
            if q.name not in there:
                values = np.nan_to_num(np.asarray((b if q.table == "buses" else self.branches)[q.name], np.float64))
                sums = total(values) if q.table == "buses" else self._halves(group, n, values)
                columns.append(Column(q.name, q.label, sums, q.unit, q.digits, q.meaning))
        return Table(name, label, columns)

    @property
    def _branch_ids(self) -> list[str]:
        return [*self.branches["id"], *(self.windings["id"] if self.windings is not None else ())]

    def _halves(self, group: Ints, n: int, values: np.ndarray) -> np.ndarray:
        """Figures of branches, half of each at either end."""
        found = np.zeros(n, values.dtype)
        for at in (self.frm, self.to):
            inside = group[at] >= 0
            np.add.at(found, group[at[inside]], values[inside] / 2)
        return found

    def _losses(self, group: Ints, n: int) -> np.ndarray:
        found = self._halves(group, n, self.loss)
        for side in range(3 if len(self.winding_at) else 0):
            at = self.winding_at[:, side]
            inside = group[at] >= 0
            np.add.at(found, group[at[inside]], self.winding_loss[inside] / 3)
        return found

    def _worst(self, group: Ints, n: int) -> tuple[Floats, list[int]]:
        values = [self.branches["loading_pct"]] * 2
        at, who = [group[self.frm], group[self.to]], [np.arange(len(self.frm))] * 2
        if self.windings is not None:
            for side in range(3):
                values.append(self.windings["loading_pct"])
                at.append(group[self.winding_at[:, side]])
                who.append(len(self.frm) + np.arange(len(self.winding_loss)))
        return _extreme(np.concatenate(at), n, np.concatenate(values), np.concatenate(who), lowest=False)

    def losses_by_kind(self) -> Table:
        kinds = [k for k in dict.fromkeys(self.branches["kind"]) if role_of(k) is not Role.SWITCH]
        rows = [(k, np.array([x == k for x in self.branches["kind"]], np.bool_)) for k in kinds]
        losses = [self.loss[mask].sum() for _, mask in rows]
        counts = [int(mask.sum()) for _, mask in rows]
        names = [k for k, _ in rows]
        if len(self.winding_loss):
            names.append("three_winding")
            losses.append(self.winding_loss.sum())
            counts.append(len(self.winding_loss))
        return _loss_table("losses_by_kind", "Losses by kind", names, counts, np.array(losses, np.complex128))

    def losses_by_level(self, level: Sequence[str | None]) -> Table:
        """Lines by their voltage, transformers by that of their HV side."""
        found: dict[str, list[complex]] = {}
        for at, loss in [*zip(self.frm.tolist(), self.loss.tolist(), strict=True),
                         *zip(self.winding_at[:, 0].tolist() if len(self.winding_at) else [], self.winding_loss.tolist(),
                              strict=True)]:  # fmt: skip
            found.setdefault(level[at] or "not given", []).append(loss)
        names = sorted(found, key=_number, reverse=True)
        return _loss_table("losses_by_level", "Losses by voltage level", names, [len(found[k]) for k in names],
                           np.array([sum(found[k]) for k in names], np.complex128))  # fmt: skip


def _loss_table(name: str, label: str, names: list[str], counts: list[int], losses: np.ndarray) -> Table:
    total = losses.real.sum()
    share = 100 * losses.real / total if abs(total) > 1e-12 else np.full(len(names), np.nan)
    return Table(
        name, label,
        [
            Column("id", "Part", names), Column("count", "Branches", counts, None, 0),
            Column("active_loss_mw", "Losses", losses.real, "MW", 4),
            Column("reactive_loss_mvar", "Losses", losses.imag, "Mvar", 4, "Negative where charging exceeds it"),
            Column("share_pct", "Share", share, "%", 1, "Of all active losses"),
        ],
    )  # fmt: skip


def _number(text: str) -> float:
    first = text.split(" ")[0]
    try:
        return float(first)
    except ValueError:
        return 0.0


def _extreme(group: Ints, n: int, values: Floats, who: Ints, *, lowest: bool) -> tuple[Floats, list[int]]:
    """Extreme value of every group and the row it stands in; NaN and -1 where a group has none."""
    inside = (group >= 0) & np.isfinite(values)
    order = np.lexsort((values[inside] if lowest else -values[inside], group[inside]))
    found, at = np.full(n, np.nan), np.full(n, -1, np.int64)
    rows, first = np.unique(group[inside][order], return_index=True)
    found[rows] = values[inside][order][first]
    at[rows] = who[inside][order][first]
    return found, at.tolist()
