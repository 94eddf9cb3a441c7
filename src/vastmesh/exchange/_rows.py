"""Rows of delimited text, whatever its line ends."""

from __future__ import annotations

import csv
import io

from ..core.errors import UnreadableFile


def rows_of(text: str, delimiter: str) -> list[list[str]]:
    """Cells of every row. Raises :class:`UnreadableFile` naming the line that can't be read."""
    reader = csv.reader(io.StringIO(text.replace("\r\n", "\n").replace("\r", "\n"), newline="\n"), delimiter=delimiter)
    try:
        return [list(r) for r in reader]
    except csv.Error as error:
        long = "field limit" in str(error)
        reason = (
            f"a cell holds more than {csv.field_size_limit()} characters" if long else f"it is not in rows ({error})"
        )
        raise UnreadableFile(reason, line=reader.line_num) from None


def without_unit(word: str) -> str:
    """A heading without the unit behind it: after a comma, or in brackets."""
    text = word.rstrip()
    body = text[:-1] if text.endswith(("]", ")")) else text
    at = max(body.rfind(c) for c in "[(,")
    return word if at < 0 or "]" in body[at:] or ")" in body[at:] else body[:at].rstrip()
