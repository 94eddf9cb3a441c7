"""Meshed parts: distances on the sheet like distances in the network."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array
from scipy.sparse.csgraph import breadth_first_order, connected_components, shortest_path

_SMALL = 400  # nodes up to which stress is worth its square
_ROUNDS = 120


def mesh_positions(graph: csr_array) -> NDArray[np.float64]:
    """Positions (n, 2) for a symmetric graph, edges about one unit long; components side by side."""
    n = graph.shape[0]
    count, label = connected_components(graph, directed=False)
    places = np.zeros((n, 2))
    right = 0.0
    for part in range(count):
        members = np.flatnonzero(label == part)
        sub = graph[members][:, members]
        found = _by_stress(sub) if len(members) <= _SMALL else _by_layers(sub)
        found = found - found.min(axis=0)
        places[members] = found + np.array([right, 0.0])
        right += float(found[:, 0].max()) + 2.0
    return places


def _by_stress(graph: csr_array) -> NDArray[np.float64]:
    """Stress majorisation (Gansner, Koren, North 2004): minimise sum of ((|xi - xj| - d) / d)²."""
    n = graph.shape[0]
    if n == 1:
        return np.zeros((1, 2))
    d = shortest_path(graph, unweighted=True, directed=False)
    with np.errstate(divide="ignore"):
        w = np.where(d > 0, 1 / d**2, 0.0)
    x = _classical_scaling(d)
    inverse = np.linalg.pinv(np.diag(w.sum(axis=1)) - w)
    for _ in range(_ROUNDS):
        gap = np.linalg.norm(x[:, None] - x[None], axis=2)
        ratio = np.divide(d, gap, out=np.zeros_like(d), where=gap > 1e-9)
        b = -w * ratio
        np.fill_diagonal(b, -b.sum(axis=1))
        x = inverse @ (b @ x)
    return _levelled(x)


def _classical_scaling(d: NDArray[np.float64]) -> NDArray[np.float64]:
    n = len(d)
    centre = np.eye(n) - 1 / n
    values, vectors = np.linalg.eigh(-0.5 * centre @ d**2 @ centre)
    x = vectors[:, -2:] * np.sqrt(np.maximum(values[-2:], 1e-6))
    # A tiny fixed disturbance frees drawings that start out symmetric about a line.
    return np.asarray(x + 1e-3 * np.sin(np.arange(2 * n).reshape(n, 2)))


def _levelled(x: NDArray[np.float64]) -> NDArray[np.float64]:
    """Turn the longer extent to the horizontal: sheets are wider than they are high."""
    x = x - x.mean(axis=0)
    _, _, axes = np.linalg.svd(x, full_matrices=False)
    return np.asarray(x @ axes.T)


def _by_layers(graph: csr_array) -> NDArray[np.float64]:
    """Layers by distance from the best connected node; within a layer in the order met. Linear time."""
    n = graph.shape[0]
    start = int(np.argmax(np.diff(graph.indptr)))
    order, parent = breadth_first_order(graph, start, directed=False)
    layer = np.zeros(n, np.int64)
    slot = np.zeros(n)
    taken: dict[int, int] = {}
    for node in order.tolist():
        layer[node] = layer[parent[node]] + 1 if parent[node] >= 0 else 0
        slot[node] = taken.get(int(layer[node]), 0)
        taken[int(layer[node])] = int(slot[node]) + 1
    width = np.array([taken[int(k)] for k in layer])
    return np.column_stack([slot - width / 2, layer.astype(np.float64)])
