"""A server of its own for a script: started on a free port of the loopback, ended by its process."""

from __future__ import annotations

import os
import re
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from playwright.sync_api import Page

BROWSER_FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-gpu-rasterization", "--disable-software-rasterizer", "--disable-extensions",
    "--disable-dev-shm-usage", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--no-first-run", "--font-render-hinting=none",
    "--force-color-profile=srgb",
]  # fmt: skip
CHROMIUM = "/usr/bin/chromium"


@contextmanager
def served(folder: Path, command: str = "serve", module: str = "vastmesh.cli") -> Iterator[str]:
    """Address of a server on a folder of data; ``command``: serve, or demo with the demonstration in it; ``module``: what is
    run instead of the program itself."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    arguments = [sys.executable, "-m", module, command, "--data", str(folder), "--port", str(port)]
    process = subprocess.Popen(arguments, env=_lazy(), stdout=subprocess.DEVNULL)
    address = f"http://127.0.0.1:{port}"
    try:
        for _ in range(600):
            try:
                urllib.request.urlopen(f"{address}/api/health", timeout=5).close()
                break
            except OSError:
                time.sleep(0.1)
        yield address
    finally:
        process.terminate()
        process.wait(timeout=20)


def _lazy() -> dict[str, str]:
    """One worker, started when a test needs it, that a busy machine does not starve."""
    return {"VASTMESH_WORKERS": "1", "VASTMESH_WORKERS_READY": "0", "VASTMESH_NICE": "0", **os.environ}


_DESK_OF = {
    **dict.fromkeys(("Findings", "Profile", "Tables", "Phasors", "Summary"), "Now"),
    **dict.fromkeys(
        (
            "Schemes",
            "Compare",
            "Conditions",
            "Sweep",
            "Emission limits",
        ),
        "Decide",
    ),
    **dict.fromkeys(("Board", "Proposals", "Best plan"), "Plan"),
    **dict.fromkeys(("Interruptions", "Years of failures", "Adequacy"), "Reliability"),
    **dict.fromkeys(
        (
            "Outages",
            "Transfer",
            "Voltage collapse",
            "Headroom",
            "Over time",
            "Reactive margin",
            "Outages side by side",
            "Limit tables",
        ),
        "Limits",
    ),
    **dict.fromkeys(
        ("Optimal flow", "Open points", "Places", "Phase balancing", "Filter design", "Filter search"), "Optimise"
    ),
    **dict.fromkeys(("Check", "Data", "Catalogue"), "Model"),
    **dict.fromkeys(("Jobs", "Runs", "Logbook"), "Record"),
}


def show(page: Page, view: str) -> None:
    """Show a view on the shelf, by its name; one that is on no desk named here is a study."""
    tab = page.get_by_role("tablist", name="Views").get_by_role("tab", name=re.compile(rf"^{view}(\s*\d+)?$"))
    desk = page.get_by_role("navigation", name="Desks").get_by_role(
        "button", name=re.compile(f"^{_DESK_OF.get(view, 'Studies')}")
    )
    if not tab.count():
        desk.click()  # one whose pages the service has not listed yet opens when it has
    tab.click()
