"""Edits in the browser while outages are worked out beside them, and how soon a large study is cancelled."""

from __future__ import annotations

import json
import statistics
import time
import urllib.request
from collections.abc import Callable
from contextlib import AbstractContextManager
from typing import Any

RULE = {"kind": "outage_rule", "id": "bench rule", "name": "Every line", "of": "lines"}
_EDITS = 12


def call(address: str, body: Any = None, method: str = "GET") -> Any:
    data = None if body is None else json.dumps(body).encode()
    made = urllib.request.Request(address, data, {"content-type": "application/json"}, method=method)
    with urllib.request.urlopen(made, timeout=120) as answer:
        return json.load(answer)


def p95(times: list[float]) -> float:
    return sorted(times)[round(0.95 * (len(times) - 1))]


def measure(n_bus: int, opened: Callable[[int], AbstractContextManager[Any]], script: str) -> dict[str, Any]:
    """From Enter to repaint: idle; with the outage badge at work after every edit; while all lines are lost one after another in
    the workers; then that study cancelled, in steps of 20 ms."""
    with opened(n_bus) as (page, _):
        address, project = page.url.split("/p/")
        url = f"{address}/api/projects/{project.rstrip('/')}"
        page.keyboard.press("/")
        page.get_by_role("dialog").get_by_role("searchbox").fill("D3.2.5")
        page.get_by_role("option").first.click()
        field = page.get_by_role("textbox", name="Active power").first
        page.wait_for_timeout(1500)
        page.evaluate(script)
        value = iter(range(10_000))

        def edits() -> list[float]:
            page.evaluate("() => { window.times.length = 0 }")
            for _ in range(_EDITS):
                field.click()
                field.fill(f"{0.21 + 0.001 * next(value):.3f}")
                page.keyboard.press("Enter")
                page.wait_for_timeout(1600)
            found: list[float] = page.evaluate("() => window.times")
            return found[2:]

        idle = edits()
        added = {
            "base_revision": call(url)["project"]["revision"],
            "label": "Lose every line",
            "changes": [{"op": "add", "item": RULE}],
        }
        call(f"{url}/changes", added, "POST")
        page.reload()
        page.wait_for_selector("[data-ready=yes]", timeout=120_000)
        page.wait_for_timeout(4000)
        page.keyboard.press("/")
        page.get_by_role("dialog").get_by_role("searchbox").fill("D3.2.5")
        page.get_by_role("option").first.click()
        page.wait_for_timeout(1500)
        page.evaluate(script)
        badge = edits()
        job = call(f"{url}/runs", {"study": "outages", "options": {"of": "lines"}, "slot": "bench"}, "POST")["id"]
        busy = edits()
        state = call(f"{address}/api/jobs/{job}")["state"]
        if state != "running":
            job = call(f"{url}/runs", {"study": "outages", "options": {"of": "lines"}, "slot": "again"}, "POST")["id"]
            time.sleep(2.0)
        began = time.perf_counter()
        call(f"{address}/api/jobs/{job}", method="DELETE")
        while call(f"{address}/api/jobs/{job}")["state"] not in ("cancelled", "finished", "failed"):
            time.sleep(0.02)
        cancelled = (time.perf_counter() - began) * 1e3
        return {
            "buses": n_bus, "idle_ms": statistics.median(idle), "idle_p95_ms": p95(idle),
            "badge_ms": statistics.median(badge), "badge_p95_ms": p95(badge), "badge_ratio": p95(badge) / p95(idle),
            "outages_ms": statistics.median(busy), "outages_p95_ms": p95(busy), "outages_ratio": p95(busy) / p95(idle),
            "still_running": str(state == "running"), "cancel_ms": cancelled,
        }  # fmt: skip
