"""Open formats in and out. Every reader reports what it read, assumed and ignored."""

from ._document import SCHEMA_VERSION, document_schema, read_document, write_document
from ._elements import element_table
from ._files import FORMATS, Format, read_network, write_network
from ._kept import facts_of, plain_figure, result_from
from ._metering import NoService, fetch_csv
from ._profiles import read_profiles
from ._report import Imported, ImportReport
from ._results import FORMS, in_units, pack_tables, picked, unpack_tables, write_tables
from ._tabular import read_rows, write_rows
from ._types import is_workbook, own_as_type, read_types, write_types_csv, write_types_xlsx
from ._workings import write_workings

__all__ = [
    "FORMATS",
    "FORMS",
    "SCHEMA_VERSION",
    "Format",
    "ImportReport",
    "Imported",
    "NoService",
    "document_schema",
    "element_table",
    "facts_of",
    "fetch_csv",
    "in_units",
    "is_workbook",
    "own_as_type",
    "pack_tables",
    "picked",
    "plain_figure",
    "read_document",
    "read_network",
    "read_profiles",
    "read_rows",
    "read_types",
    "result_from",
    "unpack_tables",
    "write_document",
    "write_network",
    "write_rows",
    "write_tables",
    "write_types_csv",
    "write_types_xlsx",
    "write_workings",
]  # fmt: skip
