"""The application: routes, errors, security, and the built front end."""

from __future__ import annotations

import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from pathlib import Path

from fastapi import FastAPI, HTTPException
from fastapi.responses import FileResponse, HTMLResponse, Response

from .. import __version__
from ..core.studies.warm import warm_up
from ..runner import LocalPool, Runner, cluster_named
from ..store import Store
from . import _errors
from ._documents import documents
from ._jobs import jobs, plain
from ._reading import reading
from ._results import results
from ._routes import api
from ._schemes import schemes
from ._security import Guard
from ._sessions import Sessions
from ._turns import Turns
from ._whose import Whose

WEB = Path(__file__).parent.parent / "web"
_NOT_BUILT = "<!doctype html><title>Vast Mesh</title><p>The interface has not been built. Run <code>make build</code>."


def _file_at(path: str) -> Path | None:
    """The file of the front end at a path; None where there is none, or where it would lie elsewhere."""
    try:
        file = (WEB / path).resolve()
        return file if path and file.is_file() and WEB.resolve() in file.parents else None
    except (OSError, ValueError):  # no name that a file can have
        return None


def make_app(data: Path, *, pool: LocalPool | None = None, ready: int = 0) -> FastAPI:
    """The service on a folder of data. ``pool``: worker processes that others use too; ``ready``: how many are started
    before they are needed."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        def get_ready() -> None:
            warm_up()
            with suppress(RuntimeError):  # it has ended meanwhile
                app.state.runner.pool.warm(ready)

        threading.Thread(target=get_ready, daemon=True).start()
        yield
        app.state.runner.close()
        app.state.sessions.store.close()

    app = FastAPI(
        title="Vast Mesh", version=__version__, lifespan=lifespan, docs_url=None, redoc_url=None,
        openapi_url="/api/openapi.json",
    )  # fmt: skip
    store = Store(data)
    sessions = Sessions(store)
    app.state.sessions = sessions
    runner = app.state.runner = Runner(store.jobs, pool, cluster=cluster_named())
    runner.listen(lambda record: sessions.tell(record.project, plain(runner, record)))
    app.include_router(api)
    app.include_router(documents)
    app.include_router(jobs)
    app.include_router(reading)
    app.include_router(results)
    app.include_router(schemes)
    _errors.install(app)
    app.add_middleware(Turns)
    app.add_middleware(Whose)
    app.add_middleware(Guard)

    @app.get("/{path:path}", include_in_schema=False)
    def web(path: str) -> Response:
        if path.startswith("api/"):
            raise HTTPException(404, "There is no such address.")
        file = _file_at(path)
        if file is not None:
            forever = "public, max-age=31536000, immutable" if path.startswith("assets/") else "no-cache"
            return FileResponse(file, headers={"cache-control": forever})
        index = WEB / "index.html"
        if not index.is_file():
            return HTMLResponse(_NOT_BUILT)
        return FileResponse(index, headers={"cache-control": "no-cache"})

    return app
