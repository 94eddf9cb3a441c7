"""What all tests share: the demo region, published systems, and small networks made from plain data."""

from __future__ import annotations

import json
import runpy
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from vastmesh.core.network import Network
from vastmesh.runner import LocalPool

# Tests don't time: an example that waits for a busy machine is no failure.
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")

ROOT = Path(__file__).parent.parent
DATA = Path(__file__).parent / "data"


@pytest.fixture(scope="session")
def demo_script() -> dict[str, Any]:
    return runpy.run_path(str(ROOT / "demo" / "corvane_coast.py"))


@pytest.fixture
def demo(demo_script: dict[str, Any]) -> Network:
    """Corvane Coast, laid out; a fresh one for every test."""
    network: Network = demo_script["network"]()
    return network


@pytest.fixture(scope="session")
def nine_bus_file() -> bytes:
    return (DATA / "nine-bus.cdf").read_bytes()


@pytest.fixture(scope="session")
def nine_bus_expected() -> dict[str, Any]:
    found: dict[str, Any] = json.loads((DATA / "nine-bus.expected.json").read_text())
    return found


@pytest.fixture(scope="session")
def pool() -> Iterator[LocalPool]:
    """Worker processes for all services that tests of one process make."""
    found = LocalPool(1, nice=0)  # a busy machine shall not starve what a test waits for
    yield found
    found.close()
