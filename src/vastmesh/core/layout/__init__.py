"""Automatic schematic layout: where buses without a position go on the sheet."""

from ._place import COLUMN, ROW, copies_beside, free_spot, place

__all__ = ["COLUMN", "ROW", "copies_beside", "free_spot", "place"]
