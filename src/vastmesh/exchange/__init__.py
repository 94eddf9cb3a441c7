"""Open formats in and out. Every reader reports what it read, assumed and ignored."""

from ._document import SCHEMA_VERSION, document_schema, read_document, write_document
from ._files import FORMATS, Format, read_network, write_network
from ._report import Imported, ImportReport

__all__ = [
    "FORMATS", "SCHEMA_VERSION", "Format", "ImportReport", "Imported", "document_schema", "read_document",
    "read_network", "write_document", "write_network",
]  # fmt: skip
