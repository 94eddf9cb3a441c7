"""A simulated metering service with made-up data: ``vastmesh metering``. It is slow to answer, now and then busy, and its figures
have gaps and come in late, as those of real ones do."""

from __future__ import annotations

import json
import math
import random
import urllib.parse
from datetime import datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

PORT = 8431
SERIES = ("domestic", "commercial", "industrial", "farming", "charging", "cooling", "wind", "solar")
_STEP_MIN, _LATE, _EVERY_BUSY, _GAP_EVERY, _GAP = 30, 4, 7, 211, 3


def figure(name: str, moment: datetime) -> float:
    """The figure of a series at a moment; always the same one."""
    hour, day = moment.hour + moment.minute / 60, moment.timetuple().tm_yday
    cold = 0.5 + 0.5 * math.cos(2 * math.pi * (day - 16) / 365)
    dice = random.Random(f"{name} {moment:%Y-%m-%d %H:%M}")
    weather = random.Random(f"{name} {moment:%Y-%m-%d}").random()

    def bump(at: float, wide: float) -> float:
        off = min(abs(hour - at), 24 - abs(hour - at))
        return math.exp(-((off / wide) ** 2))

    shapes = {
        "domestic": (0.28 + 0.22 * bump(7.5, 1.8) + 0.5 * bump(18.5, 2.6)) * (0.72 + 0.28 * cold),
        "commercial": 0.25 + 0.7 * bump(13, 4.5), "industrial": 0.45 + 0.5 * bump(12, 4.5),
        "farming": (0.35 + 0.4 * bump(6, 2) + 0.4 * bump(17, 2.5)) * (1.25 - 0.35 * cold),
        "charging": 0.15 + 0.85 * bump(20, 3), "cooling": (0.45 + 0.2 * bump(15, 4)) * (1.9 - cold),
        "wind": 0.15 + 0.8 * weather, "solar": max(math.cos((hour - 12) / (8.2 - 3.8 * cold) * math.pi / 2), 0.0)
        * (0.4 + 0.6 * weather) * (1 - 0.45 * cold) if abs(hour - 12) < 8.2 - 3.8 * cold else 0.0,
    }  # fmt: skip
    return round(min(shapes[name] * (1 + 0.02 * (dice.random() - 0.5)), 3.0), 4)


def answer(name: str, begins: datetime, days: float) -> dict[str, Any]:
    """Figures of a series from a moment on: some are missing, the last ones have not come in yet."""
    count = max(int(days * 1440 / _STEP_MIN), 0)
    shift = SERIES.index(name) * 17 + 40
    values: list[float | None] = []
    for k in range(count):
        gone = (k + shift) % _GAP_EVERY < _GAP and k > _GAP
        late = k >= count - _LATE and name in ("domestic", "wind")
        values.append(None if gone or late else figure(name, begins + timedelta(minutes=_STEP_MIN * k)))
    return {"name": name, "begins": f"{begins:%Y-%m-%dT%H:%M}", "step_min": _STEP_MIN, "zone": "UTC", "values": values}


class _Meters(BaseHTTPRequestHandler):
    asked = 0

    def do_GET(self) -> None:
        """Answer about the series; every seventh time it is busy."""
        _Meters.asked += 1
        path, _, query = self.path.partition("?")
        given = dict(urllib.parse.parse_qsl(query))
        name = urllib.parse.unquote(path.removeprefix("/series/"))
        if _Meters.asked % _EVERY_BUSY == 0:
            self._tell(503, {"busy": True})
        elif path == "/series":
            self._tell(200, [{"name": s, "unit": "1"} for s in SERIES])
        elif name in SERIES:
            try:
                begins = datetime.fromisoformat(given.get("from", "2025-01-01T00:00")).replace(tzinfo=None)
                days = min(max(float(given.get("days", "7")), 0.0), 1100.0)
            except ValueError:
                self._tell(400, {"error": "from is a moment, days a number"})
            else:
                self._tell(200, answer(name, begins, days))
        else:
            self._tell(404, {"error": "there is no such series"})

    def _tell(self, code: int, plain: Any) -> None:
        body = json.dumps(plain).encode()
        self.send_response(code)
        self.send_header("content-type", "application/json")
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *args: Any) -> None:
        """Say nothing."""


def service(port: int = PORT) -> ThreadingHTTPServer:
    """The service, listening on the loopback alone; port 0 takes a free one."""
    return ThreadingHTTPServer(("127.0.0.1", port), _Meters)
