"""The objectives of phase balancing, for many candidates at once."""

from __future__ import annotations

import numpy as np

from ...electrical.arrays import Floats
from ._model import Layout, Measures
from ._options import BalancingOptions

NAMES = ("head", "branches", "squares", "losses", "neutral", "voltage")
WORDS = {
    "head": ("Power unbalance at the head", "%"), "branches": ("Unbalance of branches by length", "kW·km"),
    "squares": ("Squares of unbalance by length", "kW²·km"),
    "losses": ("Losses", "kW"), "neutral": ("Highest neutral current", "A"), "voltage": ("Highest voltage unbalance", "%"),
}  # fmt: skip


def values(m: Measures, lay: Layout) -> dict[str, Floats]:
    """Every objective of every candidate (k,).

    head: greatest deviation of the phases' active power at the head from their mean, over it, %. branches: the greatest
    deviation in kW at the from end of every line times its length, summed. squares: the squares of all three deviations there,
    likewise, kW². losses: kW of all lines. neutral: largest current in
    a neutral, A. voltage: highest V2/V1 of the buses with three phases, %.
    """
    k = m.v.shape[1]
    neutral = m.v[lay.neutral_of] * (lay.neutral_of >= 0)[:, None]
    power = ((m.v - neutral) * np.conj(m.i)).real
    per_phase = (lay.to_branches @ power).reshape(lay.n_branch, 3, k)
    at_head = np.zeros((3, k))
    at_head[lay.conductor[lay.head]] = power[lay.head]
    mean = at_head.mean(axis=0)
    head = 100 * np.abs(at_head - mean).max(axis=0) / np.maximum(np.abs(mean), 1e-6)
    apart = per_phase - per_phase.mean(axis=1, keepdims=True)
    branches = lay.lengths @ np.abs(apart).max(axis=1) / 1e3
    squares = lay.lengths @ (apart**2).sum(axis=1) / 1e6
    lines = lay.lengths[lay.branch] > 0
    losses = np.einsum("tk,tk->k", m.v[lines].real, m.i[lines].real) + np.einsum(
        "tk,tk->k", m.v[lines].imag, m.i[lines].imag
    )
    losses /= 1e3
    n = (lay.conductor == 3) & lay.first
    in_neutral = np.abs(m.i[n]).max(axis=0) if np.any(n) else np.zeros(k)
    with np.errstate(divide="ignore", invalid="ignore"):
        voltage = np.nan_to_num(100 * np.abs(m.v2) / np.abs(m.v1)).max(axis=0) if len(m.v1) else np.zeros(k)
    return {
        "head": head,
        "branches": branches,
        "squares": squares,
        "losses": losses,
        "neutral": in_neutral,
        "voltage": voltage,
    }


def weights(options: BalancingOptions) -> dict[str, float]:
    """What counts, and how much."""
    if options.objective != "mix":
        return {options.objective: 1.0}
    found = {n: float(getattr(options, f"weight_{n}")) for n in NAMES}
    kept = {n: w for n, w in found.items() if w > 0}
    return kept or dict.fromkeys(NAMES, 1.0)


def score(of: list[dict[str, Floats]], before: list[dict[str, float]], weight: dict[str, float]) -> Floats:
    """One figure for each candidate: every objective as a share of what it was before, weighted, over all conditions.

    100 is the present state; what was zero before counts as it is.
    """
    total = sum(weight.values()) * len(of)
    parts = [w * found[n] / max(was[n], 1e-9) for found, was in zip(of, before, strict=True) for n, w in weight.items()]
    return np.asarray(100 * sum(parts) / total)
