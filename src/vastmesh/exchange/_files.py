"""Which formats there are, and how a file's format is told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ..core.errors import UnreadableFile
from ..core.network import Network
from ._cdf import read_cdf, write_cdf
from ._document import read_document, write_document
from ._report import Imported


@dataclass(frozen=True)
class Format:
    """A file format: its name, usual ending, media type, and both directions."""

    name: str
    label: str
    ending: str
    media_type: str
    read: Callable[[bytes], Imported]
    write: Callable[[Network, str], bytes]


FORMATS = {
    f.name: f
    for f in (
        Format("document", "Vast Mesh document", ".json", "application/json", read_document, write_document),
        Format("cdf", "IEEE Common Data Format", ".cdf", "text/plain", read_cdf, write_cdf),
    )
}


def read_network(data: bytes, file_name: str = "") -> Imported:
    """Read a network from a file's bytes; the format is told from the content, then the name."""
    head = data.lstrip()[:1]
    if not head:
        raise UnreadableFile("it is empty", line=1)
    if head == b"{" or file_name.lower().endswith(".json"):
        return FORMATS["document"].read(data)
    if b"\x00" in data[:4096]:
        raise UnreadableFile("it is not a text file; known formats: " + ", ".join(f.label for f in FORMATS.values()))
    return FORMATS["cdf"].read(data)


def write_network(network: Network, title: str, format_name: str) -> bytes:
    """Write a network in a named format. Raises :class:`UnreadableFile` for an unknown one."""
    if format_name not in FORMATS:
        raise UnreadableFile(f"there is no format {format_name!r}; choose one of {', '.join(FORMATS)}")
    return FORMATS[format_name].write(network, title)
