"""Figures from a metering service: fetched with retry, late ones cut off, gaps told."""

from __future__ import annotations

import json
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from ..core.errors import UnreadableFile

_TRIES, _PAUSE_S, _WAIT_S, _MOST_BYTES = 4, 0.3, 10.0, 20_000_000
Get = Callable[[str], bytes]


class NoService(UnreadableFile):
    """The service can't be reached, or does not answer as it should."""

    code = "no-metering-service"


def fetch_csv(address: str, begins: str, days: float, get: Get | None = None) -> tuple[bytes, list[str]]:
    """All series of a service from a moment on, as CSV, and what was noticed. Only services on this machine are asked.

    Raises :class:`NoService` naming what went wrong after four tries.
    """
    parts = urllib.parse.urlsplit(address)
    if parts.scheme != "http" or parts.hostname not in ("127.0.0.1", "localhost") or parts.username:
        raise NoService(f"{address[:80]!r}: give the address of a service on this machine, as http://127.0.0.1:8431")
    root = f"http://127.0.0.1:{parts.port or 8431}"
    ask = get or _get
    series = _plain(ask, f"{root}/series")
    names = [str(s["name"]) for s in series if isinstance(s, dict) and "name" in s] if isinstance(series, list) else []
    if not names:
        raise NoService("it lists no series")
    notes: list[str] = []
    columns: dict[str, list[Any]] = {}
    step, shortest = 0, None
    for name in names[:200]:
        query = urllib.parse.urlencode({"from": begins, "days": f"{days:g}"})
        found = _plain(ask, f"{root}/series/{urllib.parse.quote(name)}?{query}")
        try:
            values, step = list(found["values"]), int(found["step_min"])
        except (KeyError, TypeError, ValueError):
            raise NoService(f"its answer for {name} has no values") from None
        known = [n for n, v in enumerate(values) if v is not None]
        late = len(values) - (known[-1] + 1 if known else 0)
        if late:
            notes.append(f"{name}: the last {late} figures have not come in yet.")
        columns[name] = values
        kept = len(values) - late
        shortest = kept if shortest is None else min(shortest, kept)
    count = shortest or 0
    if count < 2 or step < 1:
        raise NoService("it has no figures from then on")
    start = datetime.fromisoformat(begins)
    rows = [",".join(["time", *(f'"{n}"' for n in columns)])]
    for k in range(count):
        cells = ["" if c[k] is None else f"{float(c[k]):.6g}" for c in columns.values()]
        rows.append(",".join([f"{start + timedelta(minutes=step * k):%Y-%m-%d %H:%M}", *cells]))
    return "\n".join(rows).encode(), notes


def _plain(ask: Get, url: str) -> Any:
    """An answer as plain data, asked for again while the service is busy."""
    why = ""
    for n in range(_TRIES):
        if n:
            time.sleep(_PAUSE_S * 2 ** (n - 1))
        try:
            return json.loads(ask(url))
        except urllib.error.HTTPError as error:
            why = f"it answered {error.code}"
            if error.code < 500 and error.code != 429:
                break
        except (OSError, ValueError) as error:
            why = f"it can't be reached or understood ({type(error).__name__})"
            # Nobody listens there: whoever asked need not wait to hear that.
            if n and isinstance(getattr(error, "reason", error), ConnectionRefusedError):
                break
    raise NoService(f"{url[:100]}: {why}; start it, or try again later")


def _get(url: str) -> bytes:
    class Stay(urllib.request.HTTPRedirectHandler):
        def redirect_request(self, *_: Any, **__: Any) -> None:
            return None

    opener = urllib.request.build_opener(urllib.request.ProxyHandler({}), Stay)
    with opener.open(url, timeout=_WAIT_S) as answer:
        return bytes(answer.read(_MOST_BYTES))
