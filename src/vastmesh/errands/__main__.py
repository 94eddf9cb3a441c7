"""One errand: its name and seconds of work as arguments, bytes on standard input; on standard output + and bytes, or - and why
not."""

from __future__ import annotations

import json
import os
import resource
import sys

from ..core.errors import InvalidFields, UnreadableFile

_MEMORY = 3 * 1024**3


def _pdf(data: bytes) -> bytes:
    from ..reports import picture_pdf

    return picture_pdf(**json.loads(data))


def _document(data: bytes) -> bytes:
    from ..reports import document_pdf

    return document_pdf(data.decode())


def _workbook(data: bytes) -> bytes:
    from ._workbook import rows_of_workbook

    return json.dumps(rows_of_workbook(data)).encode()


_ERRANDS = {"pdf": _pdf, "document": _document, "workbook": _workbook}


def main() -> None:
    name, seconds = sys.argv[1], int(sys.argv[2])
    os.nice(5)
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))  # should whoever asked be gone without ending it
    try:
        out = b"+" + _ERRANDS[name](sys.stdin.buffer.read())
    except InvalidFields as error:
        out = (
            b"-" + json.dumps({"problems": [[p.element, p.field, p.value, p.allowed] for p in error.problems]}).encode()
        )
    except UnreadableFile as error:
        out = b"-" + json.dumps({"unreadable": error.reason}).encode()
    sys.stdout.buffer.write(out)
    sys.stdout.buffer.flush()


if __name__ == "__main__":
    main()
