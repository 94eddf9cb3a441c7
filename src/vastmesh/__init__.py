"""Vast Mesh: live network planning for transmission grids and distribution feeders."""

__version__ = "0.1.0"
