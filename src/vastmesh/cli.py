"""The command line: serve, demo, solve, convert, schema, backup."""

from __future__ import annotations

import argparse
import json
import runpy
import sys
from collections.abc import Sequence
from pathlib import Path

from . import __version__
from .core.errors import VastMeshError
from .core.network import Network
from .core.studies import Table
from .core.studies.load_flow import LoadFlowOptions, LoadFlowResult, run_load_flow
from .exchange import FORMATS, Imported, document_schema, read_network, write_network

DEFAULT_PORT = 8420
_DEMO = Path(__file__).parents[2] / "demo" / "corvane_coast.py"


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command. Returns 0, 1 when a study did not converge, or 2 when something was refused."""
    arguments = _parser().parse_args(argv)
    try:
        return int(arguments.run(arguments))
    except (VastMeshError, OSError) as error:
        print(f"vastmesh: {error}", file=sys.stderr)
        return 2


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="vastmesh", description="Live network planning for transmission grids and distribution feeders."
    )
    parser.add_argument("--version", action="version", version=f"Vast Mesh {__version__}")
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    for name, text, run in (
        ("serve", "start the application on your own projects", _serve),
        ("demo", "start the application with the demonstration region Corvane Coast", _demo),
    ):
        serve = commands.add_parser(name, help=text, description=text.capitalize() + ".")
        serve.add_argument(
            "--data", type=Path, default=Path("data"), metavar="DIR", help="folder kept in (default: data)"
        )
        serve.add_argument(
            "--host", default="127.0.0.1", help="address to listen at; loopback only (default: 127.0.0.1)"
        )
        serve.add_argument("--port", type=int, default=DEFAULT_PORT, help=f"port (default: {DEFAULT_PORT})")
        serve.set_defaults(run=run)

    solve = commands.add_parser(
        "solve", help="load flow of a network file",
        description="Solve a network file (a Vast Mesh document or IEEE Common Data Format) and print the results. "
        "Exit status 0 when it converged, 1 when it did not, 2 when the file was refused.",
    )  # fmt: skip
    solve.add_argument("file", type=Path, help="network file")
    solve.add_argument("--json", action="store_true", help="print one JSON object: summary, and tables as records")
    solve.add_argument(
        "--reactive-limits", choices=["on", "off"], default="on",
        help="whether machines that hold a voltage stop at their reactive limits (default: on)",
    )  # fmt: skip
    solve.add_argument(
        "--tolerance", type=float, default=1e-8, metavar="PU", help="largest mismatch (default: 1e-8 p.u.)"
    )
    solve.set_defaults(run=_solve)

    convert = commands.add_parser("convert", help="write a network file in another format")
    convert.add_argument("file", type=Path, help="file to read")
    convert.add_argument("target", type=Path, help="file to write; its ending tells the format")
    convert.add_argument("--format", choices=sorted(FORMATS), help="format to write, whatever the ending")
    convert.set_defaults(run=_convert)

    schema = commands.add_parser("schema", help="print the JSON schema of the network document, or of the API")
    schema.add_argument("--api", action="store_true", help="print the OpenAPI description instead")
    schema.set_defaults(run=_schema)

    backup = commands.add_parser("backup", help="write all projects to one file, also while the application runs")
    backup.add_argument("target", type=Path, help="file to write")
    backup.add_argument("--data", type=Path, default=Path("data"), metavar="DIR", help="folder kept in (default: data)")
    backup.set_defaults(run=_backup)
    return parser


def _serve(arguments: argparse.Namespace) -> int:
    import uvicorn

    from .api import make_app

    if arguments.host not in ("127.0.0.1", "localhost", "::1"):
        print(
            f"vastmesh: {arguments.host} is not a loopback address. Serving others needs accounts, which this version "
            "does not have yet; use --host 127.0.0.1.", file=sys.stderr,
        )  # fmt: skip
        return 2
    app = make_app(arguments.data)
    print(f"Vast Mesh {__version__} at http://{arguments.host}:{arguments.port} (end it with Ctrl+C)", flush=True)
    uvicorn.run(app, host=arguments.host, port=arguments.port, log_level="warning", timeout_graceful_shutdown=2)
    return 0


def demo_network() -> tuple[Network, str, bytes]:
    """The demonstration region, its name, and the map behind it."""
    if not _DEMO.is_file():
        raise FileNotFoundError(
            f"the demonstration is not here: {_DEMO} is missing; run from a checkout of the project"
        )
    script = runpy.run_path(str(_DEMO))
    return script["network"](), script["TITLE"], script["backdrop"]()


def _demo(arguments: argparse.Namespace) -> int:
    from .store import Store

    store = Store(arguments.data)
    if not store.projects():
        network, title, backdrop = demo_network()
        store.keep_blob(backdrop)
        store.create(title, network)
    store.close()
    return _serve(arguments)


def _solve(arguments: argparse.Namespace) -> int:
    imported = _read(arguments.file)
    options = LoadFlowOptions(tolerance_pu=arguments.tolerance, reactive_limits=arguments.reactive_limits == "on")
    result = run_load_flow(imported.network, options)
    if arguments.json:
        print(json.dumps(as_json(result), ensure_ascii=False))
    else:
        print(as_text(imported.title, result))
    return 0 if result.account.converged else 1


def _read(file: Path) -> Imported:
    return read_network(file.read_bytes(), file.name)


def as_json(result: LoadFlowResult) -> dict[str, object]:
    """A result as plain data: a summary, and every table as one record per element in file order."""
    account = result.account
    summary = {
        "converged": account.converged, "ending": account.ending.value, "method": account.method,
        "iterations": account.iterations, "largest_mismatch_mva": account.largest_mismatch_mva,
        "explanation": account.explanation, "notes": account.notes, **result.summary,
        "findings": len(result.findings),
    }  # fmt: skip
    return {"summary": summary, "tables": {name: t.records() for name, t in result.tables.items()}}


def as_text(title: str, result: LoadFlowResult) -> str:
    """A result as readable tables."""
    account = result.account
    lines = [f"{title}: {account.ending.value.replace('_', ' ')}, {account.method}, {account.iterations} iterations, "
             f"largest mismatch {account.largest_mismatch_mva:.1e} MVA"]  # fmt: skip
    lines += [account.explanation] if account.explanation else []
    lines += account.notes
    if not account.converged:
        lines += [f"  {w.bus}: {w.active_mw:.4g} MW, {w.reactive_mvar:.4g} Mvar not met" for w in account.worst]
    for name in ("buses", "branches", "injections", "areas"):
        if name in result.tables and len(result.tables[name]):
            lines += ["", result.tables[name].label, _text_table(result.tables[name])]
    if result.summary:
        lines += ["", "Totals"]
        units = {"mw": "MW", "mvar": "Mvar", "pct": "%", "pu": "p.u."}
        for key, value in result.summary.items():
            words, _, unit = key.rpartition("_")
            known = unit in units
            shown = "-" if value is None else f"{value:,.4f}" if known else f"{value:g}"
            lines.append(f"  {(words if known else key).replace('_', ' '):22}{shown:>14} {units.get(unit, '')}")
    return "\n".join(lines)


def _text_table(table: Table) -> str:
    skip = {"name", "mismatch_mva"}
    columns = [c for c in table.columns if c.name not in skip]
    heads = [[c.label, c.unit or ""] for c in columns]
    body = []
    for row in zip(*(c.values for c in columns), strict=True):
        body.append([_cell(v, c.digits) for v, c in zip(row, columns, strict=True)])
    widths = [max(len(r[i]) for r in [*body, *([h[j] for h in heads] for j in (0, 1))]) for i in range(len(columns))]
    numeric = [c.digits is not None for c in columns]

    def show(cells: list[str]) -> str:
        pairs = zip(cells, widths, numeric, strict=True)
        return "  " + "  ".join(c.rjust(w) if n else c.ljust(w) for c, w, n in pairs).rstrip()

    return "\n".join([show([h[0] for h in heads]), show([h[1] for h in heads]), *(show(r) for r in body)])


def _cell(value: object, digits: int | None) -> str:
    if value is None or value != value:
        return "-"
    if digits is None or not isinstance(value, float):
        return str(value)
    return f"{round(value, digits) + 0.0:.{digits}f}"  # adding zero takes the sign off a rounded nought


def _convert(arguments: argparse.Namespace) -> int:
    imported = _read(arguments.file)
    by_ending = {f.ending: f.name for f in FORMATS.values()}
    name = arguments.format or by_ending.get(arguments.target.suffix.lower(), "document")
    arguments.target.write_bytes(write_network(imported.network, imported.title, name))
    print("\n".join(imported.report.lines()))
    print(f"written to {arguments.target}")
    return 0


def _schema(arguments: argparse.Namespace) -> int:
    if arguments.api:
        import tempfile

        from .api import make_app

        with tempfile.TemporaryDirectory() as folder:
            app = make_app(Path(folder))
            print(json.dumps(app.openapi(), indent=1, ensure_ascii=False))
            app.state.sessions.store.close()
    else:
        print(json.dumps(document_schema(), indent=1, ensure_ascii=False))
    return 0


def _backup(arguments: argparse.Namespace) -> int:
    from .store import Store

    store = Store(arguments.data)
    store.backup(arguments.target)
    store.close()
    print(f"written to {arguments.target}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
