"""Automatic schematic layout: where buses without a position go on the sheet."""

from ._place import COLUMN, ROW, free_spot, place

__all__ = ["COLUMN", "ROW", "free_spot", "place"]
