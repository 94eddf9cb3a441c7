from __future__ import annotations

import io
import zipfile
from typing import Any

from ..core.errors import UnreadableFile

MOST_CELLS, MOST_BYTES = 500_000, 60_000_000


def unpacked_size(data: bytes) -> int:
    """Bytes that a workbook unpacks to, as it says of itself. Raises :class:`UnreadableFile`."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            return sum(i.file_size for i in archive.infolist())
    except Exception as error:  # whatever the reader of archives raises, it is the file that is damaged
        raise UnreadableFile(f"it is not a spreadsheet that can be opened: {error}") from None


def rows_of_workbook(data: bytes) -> list[list[Any]]:
    """Rows of the first sheet: texts, numbers, truth values and None. Raises :class:`UnreadableFile` for what is none, or has
    more than :data:`MOST_CELLS`."""
    from openpyxl import load_workbook  # slow to load

    if unpacked_size(data) > MOST_BYTES:
        raise UnreadableFile(f"it unpacks to more than {MOST_BYTES / 1e6:g} MB")
    try:
        book = load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        sheet = book.worksheets[0]
        rows, cells = [], 0
        for row in sheet.iter_rows(values_only=True):
            cells += len(row)
            if cells > MOST_CELLS:
                raise UnreadableFile("it has more than half a million cells")
            rows.append([v if isinstance(v, str | int | float | bool | None) else str(v) for v in row])
        return rows
    except UnreadableFile:
        raise
    except Exception as error:  # whatever the reader of workbooks raises, it is the file that is damaged
        raise UnreadableFile(f"it is not a spreadsheet that can be opened: {error}") from None
