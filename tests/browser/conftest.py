"""A real server and Debian's headless Chromium; a test fails on any console error or stray request."""

from __future__ import annotations

import json
import re
import urllib.request
from collections.abc import Callable, Iterator
from typing import Any

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, Route, expect
from tools.served import BROWSER_FLAGS, CHROMIUM, served

expect.set_options(timeout=60_000)  # the machine may be busy: five seconds are too few then


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict[str, Any]:
    return {"executable_path": CHROMIUM, "args": BROWSER_FLAGS}


@pytest.fixture(scope="session")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    with served(tmp_path_factory.mktemp("data"), "demo") as address:
        yield address


def call(address: str, method: str = "GET", body: Any = None) -> Any:
    data = None if body is None else json.dumps(body).encode()
    made = urllib.request.Request(address, data, {"content-type": "application/json"}, method=method)
    with urllib.request.urlopen(made, timeout=30) as answer:
        return json.load(answer)


@pytest.fixture(scope="session")
def demo_project(server: str) -> str:
    found: str = next(p["id"] for p in call(f"{server}/api/projects") if p["name"] == "Corvane Coast")
    return found


@pytest.fixture
def project(server: str, demo_project: str, request: pytest.FixtureRequest) -> str:
    """A fresh copy of the demo region."""
    made: str = call(f"{server}/api/projects/{demo_project}/copy", "POST", {"name": request.node.name[:100]})["id"]
    return made


def without_outages(route: Route) -> None:
    """Let everything through but the outages that are worked out by themselves: each server would start a worker for them."""
    if '"slot":"security"' in (route.request.post_data or ""):
        route.abort()
    else:
        route.continue_()


def watched(context: BrowserContext, server: str, *, outages: bool = False) -> tuple[Page, list[str]]:
    """A page, and what it complains about or asks of strangers."""
    if not outages:
        context.route(re.compile(r"/runs$"), without_outages)
    page, troubles = context.new_page(), []
    page.on("console", lambda m: troubles.append(f"console: {m.text}") if m.type == "error" else None)
    page.on("pageerror", lambda e: troubles.append(f"page: {e}"))

    def seen(url: str) -> None:
        if not url.startswith((server, "data:", "blob:")):
            troubles.append(f"request to {url}")

    page.on("request", lambda r: seen(r.url))
    return page, troubles


@pytest.fixture
def new_page(browser: Browser, server: str, request: pytest.FixtureRequest) -> Iterator[Callable[..., Page]]:
    """Make pages of 1280 x 800; all of them are checked for troubles at the end. ``FOLLOWS_OUTAGES`` in a module: its pages work
    out the outages of the model after every edit."""
    contexts, lists = [], []
    outages = getattr(request.module, "FOLLOWS_OUTAGES", False)

    def make(**options: Any) -> Page:
        context = browser.new_context(viewport={"width": 1280, "height": 800}, **options)
        page, troubles = watched(context, server, outages=outages)
        contexts.append(context)
        lists.append(troubles)
        return page

    yield make
    for context in contexts:
        context.close()
    # What a test provokes on purpose the browser logs by itself: refusals, and requests that were cut off.
    expected = ("status of 4", "status of 503", "ERR_FAILED")
    assert [t for found in lists for t in found if not any(e in t for e in expected)] == []


@pytest.fixture
def bench(new_page: Callable[..., Page], server: str, project: str) -> Page:
    """The demo region open on the bench, solved."""
    page = new_page()
    open_bench(page, server, project)
    return page


def open_bench(page: Page, server: str, project: str) -> None:
    page.goto(f"{server}/p/{project}")
    page.wait_for_selector("[data-ready=yes]")
    page.wait_for_selector("[data-testid=badge]")


def find(page: Page, name: str) -> None:
    page.keyboard.press("/")
    page.get_by_role("dialog").get_by_role("searchbox").fill(name)
    page.get_by_role("option").filter(has=page.get_by_text(name, exact=True)).first.click()
    card = page.get_by_role("complementary", name="Card")
    expect(card.get_by_role("heading", name=name, exact=True)).to_be_visible()
