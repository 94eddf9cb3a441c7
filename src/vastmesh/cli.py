"""The command line: serve, demo, solve, study, worker, convert, schema, backup."""

from __future__ import annotations

import argparse
import json
import os
import runpy
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from . import __version__
from .core.errors import FieldProblem, InvalidFields, VastMeshError
from .core.network import SETTINGS_ID, Add, Condition, Network, Update, layered
from .core.options import options_of
from .core.results import Result, Table
from .core.results.state import solve_as_set
from .core.studies import STUDIES, Inputs, study_named
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
        serve.add_argument(
            "--workers", type=int, metavar="N", help="processes for studies (default: VASTMESH_WORKERS, else the cores)"
        )
        serve.set_defaults(run=run)

    solve = commands.add_parser(
        "solve", help="load flow of a network file",
        description="Solve a network file (a Vast Mesh document or IEEE Common Data Format) as its settings say, balanced or "
        "per phase, and print the results. "
        "Exit status 0 when it converged, 1 when it did not, 2 when the file was refused.",
    )  # fmt: skip
    _takes_a_network(solve)
    solve.add_argument(
        "--as", choices=["balanced", "per_phase"], dest="form", help="whatever the settings of the file say"
    )
    solve.add_argument(
        "--reactive-limits",
        choices=["on", "off"],
        help="whether machines that hold a voltage stop at their reactive limits",
    )
    solve.add_argument(
        "--tolerance", type=float, metavar="SHARE", help="largest mismatch, as a share of what flows there"
    )
    solve.set_defaults(run=_solve)

    study = commands.add_parser(
        "study", help="any study of a network file",
        description="Run a study of a network file and print its tables. Studies: " + ", ".join(STUDIES) + ". "
        "Exit status as of solve.",
    )  # fmt: skip
    _takes_a_network(study)
    study.add_argument("name", metavar="STUDY", help="which study; --options lists what it can be told")
    study.add_argument(
        "--set", action="append", default=[], metavar="OPTION=VALUE", help="an option of the study; may be repeated"
    )
    study.add_argument("--options", action="store_true", help="list the options of the study and end")
    study.add_argument(
        "--workers", type=int, metavar="N",
        help="processes side by side for a study that comes apart (default: the cores; 0: in this process). Ctrl+C ends it "
        "with what is done, a second time with nothing",
    )  # fmt: skip
    study.set_defaults(run=_study)

    worker = commands.add_parser(
        "worker", help="lend this machine's processes to a cluster",
        description="Start workers for the Dask scheduler at an address (needs vastmesh[cluster]); end them with Ctrl+C.",
    )  # fmt: skip
    worker.add_argument("address", help="of the scheduler, such as tcp://10.0.0.5:8786")
    worker.add_argument("--workers", type=int, metavar="N", help="processes (default: the cores)")
    worker.set_defaults(run=_worker)

    metering = commands.add_parser(
        "metering", help="start a simulated metering service with made-up data on this machine"
    )
    metering.add_argument("--port", type=int, default=8431, help="port (default: 8431)")
    metering.set_defaults(run=_metering)
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


def _serve(arguments: argparse.Namespace, seed: Callable[[], None] | None = None) -> int:
    import uvicorn

    from .api import make_app
    from .runner import LocalPool
    from .store import FolderLock

    if arguments.host not in ("127.0.0.1", "localhost", "::1"):
        print(
            f"vastmesh: {arguments.host} is not a loopback address. Serving others needs accounts, which this version "
            "does not have yet; use --host 127.0.0.1.", file=sys.stderr,
        )  # fmt: skip
        return 2
    # Threads that hold the interpreter hand it over ten times as often: an edit does not wait for another answer's text.
    sys.setswitchinterval(0.0005)
    with FolderLock(arguments.data):
        if seed is not None:
            seed()
        pool = LocalPool(arguments.workers)
        app = make_app(arguments.data, pool=pool, ready=_ready())
        print(f"Vast Mesh {__version__} at http://{arguments.host}:{arguments.port} (end it with Ctrl+C)", flush=True)
        uvicorn.run(app, host=arguments.host, port=arguments.port, log_level="warning", timeout_graceful_shutdown=2)
        pool.close()
    return 0


def _ready() -> int:
    """Workers that are started before anybody needs one."""
    told = os.environ.get("VASTMESH_WORKERS_READY", "")
    return int(told) if told.isdigit() else 1


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

    def seed() -> None:
        store = Store(arguments.data)
        if not store.projects():
            network, title, backdrop = demo_network()
            store.keep_blob(backdrop)
            store.create(title, network)
        store.close()

    return _serve(arguments, seed)


def _takes_a_network(command: argparse.ArgumentParser) -> None:
    command.add_argument("file", type=Path, help="network file")
    command.add_argument(
        "--condition", metavar="NAME", help="condition of the file, by name or id; the one in use if none"
    )
    command.add_argument("--json", action="store_true", help="print one JSON object: summary, and tables as records")


def _network(arguments: argparse.Namespace) -> Imported:
    """The file's network, under the condition asked for."""
    imported = _read(arguments.file)
    if arguments.condition:
        known = imported.network.of(Condition)
        found = next((c for c in known if arguments.condition in (c.id, c.name)), None)
        if found is None:
            names = ", ".join(c.name for c in known) or "none; leave the option away"
            raise InvalidFields([FieldProblem("--condition", "name", arguments.condition, f"the file has {names}")])
        _with_settings(imported.network, condition=found.id)
    return imported


def _with_settings(network: Network, **values: object) -> None:
    has = SETTINGS_ID in network
    item = {"kind": "settings", "id": SETTINGS_ID, "name": "Network", **values}
    network.apply([Update(id=SETTINGS_ID, values=values) if has else Add(item=item)])


def _solve(arguments: argparse.Namespace) -> int:
    imported = _network(arguments)
    if arguments.form:
        _with_settings(imported.network, study=arguments.form)
    options: dict[str, Any] = {}
    if arguments.tolerance is not None:
        options["tolerance_pu"] = arguments.tolerance
    if arguments.reactive_limits:
        options["reactive_limits"] = arguments.reactive_limits == "on"
    return _print(imported.title, solve_as_set(layered(imported.network).network, **options), as_data=arguments.json)


def _study(arguments: argparse.Namespace) -> int:
    study = study_named(arguments.name)
    if arguments.options:
        print(f"{study.label}: {study.purpose}.")
        for name, field in study.options.model_fields.items():
            default = "needed" if field.is_required() else json.dumps(field.default, default=list)
            print(f"  {name} (default: {default}): {field.description or ''}")
        return 0
    given = dict(pair.partition("=")[::2] for pair in arguments.set)
    imported = _network(arguments)
    options = options_of(study.options, {k: _value(v) for k, v in given.items()})

    inputs = Inputs.of(imported.network)
    if (arguments.workers is not None and arguments.workers <= 0) or (
        arguments.workers is None and study.split is None
    ):
        result = study.run(inputs, options, _bar)
    else:
        from .runner import run_beside, usual_size  # brings the store along, which the others do without

        workers = arguments.workers if arguments.workers is not None else usual_size()
        result = run_beside(study, inputs, options, workers, _bar)
    if sys.stderr.isatty():
        print("\r" + " " * 84 + "\r", end="", file=sys.stderr, flush=True)
    return _print(imported.title, result, as_data=arguments.json)


def _bar(fraction: float, doing: str) -> None:
    """How far it is, where somebody looks on."""
    if sys.stderr.isatty():
        full = round(24 * fraction)
        print(
            f"\r{'█' * full}{'░' * (24 - full)} {100 * fraction:3.0f} % {doing:50.50}",
            end="",
            file=sys.stderr,
            flush=True,
        )


def _worker(arguments: argparse.Namespace) -> int:
    try:
        import asyncio

        from distributed import Nanny

        from .runner import usual_size
    except ImportError:
        print("vastmesh: this needs Dask: pip install 'vastmesh[cluster]'", file=sys.stderr)
        return 2

    async def work() -> None:
        makers: list[Any] = [Nanny for _ in range(arguments.workers or usual_size())]
        started = await asyncio.gather(*(make(arguments.address, nthreads=1) for make in makers))
        print(f"{len(started)} workers at {arguments.address} (end them with Ctrl+C)", flush=True)
        await asyncio.gather(*(one.finished() for one in started))

    try:
        asyncio.run(work())
    except KeyboardInterrupt:
        return 0
    return 0


def _value(text: str) -> object:
    """A value as JSON where it is that, otherwise the text itself."""
    try:
        return json.loads(text)
    except json.JSONDecodeError:
        return text


def _print(title: str, result: Result, *, as_data: bool) -> int:
    print(json.dumps(as_json(result), ensure_ascii=False) if as_data else as_text(title, result))
    return 0 if result.account.converged else 1


def _read(file: Path) -> Imported:
    return read_network(file.read_bytes(), file.name)


def as_json(result: Result) -> dict[str, object]:
    """A result as plain data: a summary, and every table as one record per element in file order."""
    account = result.account
    summary = {
        "converged": account.converged, "ending": account.ending.value, "method": account.method,
        "iterations": account.iterations, "largest_mismatch_mva": account.largest_mismatch_mva,
        "explanation": account.explanation, "notes": account.notes, **result.summary,
        "findings": len(result.findings),
    }  # fmt: skip
    return {"summary": summary, "tables": {name: t.records() for name, t in result.tables.items()}}


_ONLY_IN_DATA = ("substations", "feeders", "voltage_levels")  # sums of what else is printed


def as_text(title: str, result: Result) -> str:
    """A result as readable tables."""
    account = result.account
    lines = [f"{title}: {account.ending.value.replace('_', ' ')}, {account.method}, {account.iterations} iterations, "
             f"largest mismatch {account.largest_mismatch_mva:.1e} MVA"]  # fmt: skip
    lines += [account.explanation] if account.explanation else []
    lines += account.notes
    if not account.converged:
        lines += [f"  {w.bus}: {w.active_mw:.4g} MW, {w.reactive_mvar:.4g} Mvar not met" for w in account.worst]
    for name in result.tables:
        if name not in _ONLY_IN_DATA and len(result.tables[name]):
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


def _metering(arguments: argparse.Namespace) -> int:
    from .metering import SERIES, service

    with service(arguments.port) as server:
        print(
            f"Metering service at http://127.0.0.1:{server.server_port}: {', '.join(SERIES)}. Ctrl+C ends it.",
            flush=True,
        )
        try:
            server.serve_forever()
        except KeyboardInterrupt:
            print()
    return 0


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
    from .store import FILE_NAME, Store

    if not (arguments.data / FILE_NAME).is_file():
        print(
            f"vastmesh: there are no projects in {str(arguments.data)!r}; name the folder with --data", file=sys.stderr
        )
        return 2
    store = Store(arguments.data)
    store.backup(arguments.target)
    store.close()
    print(f"written to {arguments.target}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
