"""Documents and pictures from results."""

from ._pictures import PAPERS, picture_pdf

__all__ = ["PAPERS", "picture_pdf"]
