"""Documents and pictures from results."""

from ._document import Section, document_html, document_pdf, options_in_words
from ._pictures import PAPERS, picture_pdf
from ._plots import plot_svg

__all__ = ["PAPERS", "Section", "document_html", "document_pdf", "options_in_words", "picture_pdf", "plot_svg"]
