"""A server of its own for a script: started on a free port of the loopback, ended by its process."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

BROWSER_FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--no-first-run", "--font-render-hinting=none",
    "--force-color-profile=srgb",
]  # fmt: skip
CHROMIUM = "/usr/bin/chromium"


@contextmanager
def served(folder: Path, command: str = "serve") -> Iterator[str]:
    """Address of a server on a folder of data; ``command``: serve, or demo with the demonstration in it."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    arguments = [sys.executable, "-m", "vastmesh.cli", command, "--data", str(folder), "--port", str(port)]
    process = subprocess.Popen(arguments, env={**os.environ}, stdout=subprocess.DEVNULL)
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
