from __future__ import annotations

from dataclasses import dataclass, field

from ..core.network import Network


@dataclass(frozen=True)
class Remark:
    """One line of an import report; ``line`` is the line of the file, where there is one."""

    line: int | None
    text: str


@dataclass
class ImportReport:
    """What was read, what was left out because it is not allowed, what was assumed because the file does not say it, and
    what was ignored."""

    read: list[Remark] = field(default_factory=list)
    left_out: list[Remark] = field(default_factory=list)
    assumed: list[Remark] = field(default_factory=list)
    ignored: list[Remark] = field(default_factory=list)

    def lines(self) -> list[str]:
        """The report as text."""
        out = []
        for title, remarks in (
            ("Read", self.read),
            ("Left out", self.left_out),
            ("Assumed", self.assumed),
            ("Ignored", self.ignored),
        ):
            out += [f"{title}:"] + [f"  {'' if r.line is None else f'line {r.line}: '}{r.text}" for r in remarks]
        return out


@dataclass(frozen=True)
class Imported:
    """A network from a file, the name the file gives it, and the report."""

    network: Network
    title: str
    report: ImportReport
