"""Measures what speed depends on and prints it; judges nothing. Run with ``make bench``.

Every size runs in a process of its own, so that its peak memory is its own. The ratio compares
the whole solve with the bare work of a sparse library: as many factorisations and solutions of the same Jacobian, in the order
that fills it least and on its pivots; both timed in turn in the same run.
"""

from __future__ import annotations

import json
import resource
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

sys.path[:0] = [str(Path(__file__).parent), str(Path(__file__).parents[1])]
from tools.served import BROWSER_FLAGS, CHROMIUM, served, show  # noqa: E402

if TYPE_CHECKING:
    from playwright.sync_api import Page

    from vastmesh.core.network import Network

SIZES = (1_000, 10_000, 70_000)


def median_ms(work: Callable[[], Any], repeats: int) -> float:
    took = []
    for _ in range(repeats):
        started = time.perf_counter()
        work()
        took.append((time.perf_counter() - started) * 1e3)
    return statistics.median(took)


def measure(n_bus: int) -> dict[str, Any]:
    from synthetic import synthetic

    from vastmesh.core.electrical import apply_condition, compile_network
    from vastmesh.core.flow.balanced import LoadFlowOptions, Problem
    from vastmesh.core.flow.balanced._run import Run
    from vastmesh.core.network import Condition
    from vastmesh.core.results.state import LiveLoadFlow

    repeats = 15 if n_bus < 5_000 else 7 if n_bus < 50_000 else 3
    network = synthetic(n_bus)
    compile_ms = median_ms(lambda: compile_network(network), min(repeats, 3))
    arrays = compile_network(network)
    started = time.perf_counter()
    problem = Problem(arrays)
    analyse_ms = (time.perf_counter() - started) * 1e3
    options = LoadFlowOptions()
    first = problem.solve(arrays, options)  # kernels compile or load here
    flat, admittance = LoadFlowOptions(start="flat"), problem.admittance(arrays)  # kept by the live load flow
    start = flat if n_bus < 50_000 else options
    solution = problem.solve(arrays, start, None, admittance)
    at = Run(problem, admittance, solution.targets, solution.attempt.state, start)
    at.evaluate(at.state)
    bare = Bare(*problem.jacobian_index, at.jac, solution.attempt.iterations)
    whole_ms, bare_ms = in_turn(lambda: problem.solve(arrays, start, None, admittance), bare, 2 * repeats)
    live = LiveLoadFlow(network)
    live.solve()
    factor = iter(1 + 0.004 * k for k in range(1, 1000))
    step_ms = median_ms(lambda: live.solve(Condition(id="c", name="c", demand_factor=next(factor))), repeats)
    scaled = apply_condition(arrays, Condition(id="c", name="c", demand_factor=1.01))
    warm_ms = median_ms(lambda: problem.solve(scaled, LoadFlowOptions(start="last"), first.attempt.state), repeats)
    ratios = [w / b for w, b in zip(whole_ms, bare_ms, strict=True)]
    return {
        "buses": arrays.n_bus, "compile_ms": compile_ms, "analyse_ms": analyse_ms,
        "solve_ms": statistics.median(whole_ms), "method": solution.attempt.rung,
        "iterations": solution.attempt.iterations, "ending": solution.attempt.ending.value,
        "bare_ms": statistics.median(bare_ms), "ratio": statistics.median(ratios), "warm_solve_ms": warm_ms,
        "live_step_ms": step_ms, "peak_mb": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024,
    }  # fmt: skip


class Bare:
    """Factorise and solve some equations again and again, by a sparse library alone."""

    def __init__(self, indptr: Any, indices: Any, values: Any, times: int) -> None:
        import numpy as np

        from vastmesh.core.electrical import SparseLU

        self._lu, self._values, self._times = SparseLU(indptr, indices, in_order=True), values.copy(), times
        self._rhs = np.ones(len(indptr) - 1)
        self._lu.factorise(self._values)

    def __call__(self) -> None:
        for _ in range(self._times):
            self._lu.refactorise(self._values)
            self._lu.solve_transposed(self._rhs.copy())


def in_turn(one: Callable[[], Any], other: Callable[[], Any], repeats: int) -> tuple[list[float], list[float]]:
    """What two pieces of work take, ms, one after the other again and again, as the machine's speed changes."""
    pairs = [(median_ms(one, 1), median_ms(other, 1)) for _ in range(repeats)]
    return [a for a, _ in pairs], [b for _, b in pairs]


def measure_per_phase(nodes: int) -> dict[str, Any]:
    """A synthetic unbalanced feeder from a flat start: compiling, solving, and the whole with tables and findings."""
    from synthetic import unbalanced_feeder

    from vastmesh.core.electrical.conductor import compile_conductors
    from vastmesh.core.electrical.sparse import interleaved_pattern
    from vastmesh.core.flow.phases import UnbalancedOptions
    from vastmesh.core.network import Condition
    from vastmesh.core.results.state import LiveUnbalanced

    network = unbalanced_feeder(nodes)
    compile_ms = median_ms(lambda: compile_conductors(network), 3)
    live = LiveUnbalanced(network)
    live.solve()
    problem, demands = live.problem, live.demands(network.condition)
    options = UnbalancedOptions(start="flat", automatic=False)
    attempt, _ = problem.solve(demands, options, None)
    bare = Bare(*interleaved_pattern(*problem.pattern), problem.jacobian, attempt.iterations + 1)  # and the start
    whole_ms, bare_ms = in_turn(lambda: problem.solve(demands, options, None), bare, 15)
    factor = iter(1 + 0.004 * k for k in range(1, 1000))
    return {
        "nodes": problem.n, "elements": len(network.items), "compile_ms": compile_ms, "start": attempt.rung,
        "ending": attempt.ending.value, "iterations": attempt.iterations, "solve_ms": statistics.median(whole_ms),
        "bare_ms": statistics.median(bare_ms),
        "ratio": statistics.median(w / b for w, b in zip(whole_ms, bare_ms, strict=True)),
        "live_step_ms": median_ms(lambda: live.solve(Condition(id="c", name="c", demand_factor=next(factor))), 5),
    }  # fmt: skip


def measure_street(_: int) -> dict[str, Any]:
    """The demonstration per phase: a step of the demand slider and a moved home through the service."""
    import runpy

    from starlette.testclient import TestClient

    from vastmesh.api import make_app

    demo = runpy.run_path(str(Path(__file__).parents[1] / "demo" / "corvane_coast.py"))["network"]()
    with (
        tempfile.TemporaryDirectory() as folder,
        TestClient(make_app(Path(folder)), base_url="http://127.0.0.1") as client,
    ):
        ident = client.app.state.sessions.store.create("bench", demo).id  # type: ignore[attr-defined]
        url = f"/api/projects/{ident}"
        change = {"op": "update", "id": "settings", "values": {"study": "per_phase"}}
        body = {"base_revision": 0, "label": "Per phase", "changes": [change]}
        rows = client.post(f"{url}/changes", json=body).json()["live"]["rows"]
        factor = iter(1 - 0.004 * k for k in range(1, 200))

        def slide() -> Any:
            return client.post(f"{url}/preview", params={"rows": rows}, json={"demand_factor": next(factor)})

        slide()
        revision, phase = 1, 0

        def move() -> None:
            nonlocal revision, phase
            phase += 1
            done = client.post(
                f"{url}/phases", json={"base_revision": revision, "ident": "LR home 30", "phases": "ABC"[phase % 3]}
            )
            if done.status_code == 200:
                revision = done.json()["revision"]

        return {"buses": 116, "slider_step_ms": median_ms(slide, 25), "another_phase_ms": median_ms(move, 9)}


def measure_balancing(loads: int) -> dict[str, Any]:
    """Phase balancing of a street of homes by each method: score (100 is the present state) and time."""
    from synthetic import street_of_homes

    from vastmesh.core.studies.balancing import BalancingOptions, run_balancing

    network = street_of_homes(loads)
    found: dict[str, Any] = {"loads": loads}
    for method in ("automatic", "exchange", "genetic", "mixed_integer"):
        options = BalancingOptions(feeder="main 1", method=method, change_cost_pct=0.0, time_limit_s=300)
        result = run_balancing(network, options, lambda share, words: None)
        found[f"{method[:8]}_score"] = f"{result.summary['score']:.3f}"
        found[f"{method[:8]}_s"] = float(result.summary["took_s"] or 0.0)
    return found


def measure_service(n_bus: int, *, slide: bool) -> dict[str, Any]:
    """Opening a project over HTTP and, for the slider, a step: request in, answer out, in one process."""
    from starlette.testclient import TestClient
    from synthetic import synthetic

    from vastmesh.api import make_app
    from vastmesh.core.layout import place
    from vastmesh.core.network import with_rules

    network = synthetic(n_bus)
    started = time.perf_counter()
    network.apply(place(network))
    layout_ms = (time.perf_counter() - started) * 1e3
    network.apply(with_rules(network))
    with (
        tempfile.TemporaryDirectory() as folder,
        TestClient(make_app(Path(folder)), base_url="http://127.0.0.1") as client,
    ):
        sessions = client.app.state.sessions  # type: ignore[attr-defined]
        ident = sessions.store.create("bench", network).id
        started = time.perf_counter()
        opened = client.get(f"/api/projects/{ident}")
        found = {"buses": n_bus, "layout_ms": layout_ms, "open_cold_ms": (time.perf_counter() - started) * 1e3,
                 "open_again_ms": median_ms(lambda: client.get(f"/api/projects/{ident}"), 3),
                 "open_json_kb": len(opened.content) / 1024}  # fmt: skip
        if n_bus <= 1000:
            feeder = [i for i in opened.json()["items"] if str(i["id"]).startswith(("N0.1.", "F0.1.", "D0.1."))]
            if feeder:
                body = {"base_revision": 0, "items": feeder, "onto": "L0", "times": 30}
                started = time.perf_counter()
                pasted = client.post(f"/api/projects/{ident}/paste", json=body)
                found["paste_30_feeders_ms"] = (time.perf_counter() - started) * 1e3
                found["pasted"] = len(pasted.json()["pasted"])
                client.post(f"/api/projects/{ident}/undo")
        if slide:
            rows = opened.json()["live"]["rows"]
            factor = iter(1 + 0.004 * k for k in range(1, 1000))

            def step() -> Any:
                body = {"demand_factor": next(factor)}
                return client.post(f"/api/projects/{ident}/preview", params={"rows": rows}, json=body)

            step()
            found |= _edits(client, ident, opened.json())
            found["slider_step_ms"] = median_ms(step, 25)
            found["slider_json_kb"] = len(step().content) / 1024
    return found


def _edits(client: Any, ident: str, opened: dict[str, Any]) -> dict[str, Any]:
    """An edit of a value, and a line switched off and on: request in, answer out, fixed columns at hand as in the browser."""
    revision, rows, values = opened["project"]["revision"], opened["live"]["rows"], iter(range(1, 1000))
    load, line = (next(i["id"] for i in opened["items"] if i["kind"] == kind) for kind in ("load", "line"))

    def edit(element: str, **fields: Any) -> int:
        nonlocal revision, rows
        change = {"op": "update", "id": element, "values": fields}
        body = {"base_revision": revision, "label": "x", "changes": [change]}
        done = client.post(f"/api/projects/{ident}/changes", params={"rows": rows}, json=body)
        revision, rows = done.json()["revision"], done.json()["live"]["rows"]
        return len(done.content)

    size = edit(load, active_power_mw=1.0)
    found = {
        "edit_ms": median_ms(lambda: edit(load, active_power_mw=1 + 0.01 * next(values)), 9), "edit_json_kb": size / 1024,
        "switching_ms": median_ms(lambda: edit(line, in_service=next(values) % 2 == 0), 8),
    }  # fmt: skip
    for _ in range(revision - opened["project"]["revision"]):
        client.post(f"/api/projects/{ident}/undo")
    return found


def measure_edge(count: int) -> dict[str, Any]:
    """Random meshed networks with machines at limits from 30 % to 99.8 % of what they can carry: every count but the first
    and ``beyond`` should be nought."""
    from edge import main as trial

    started = time.perf_counter()
    found = trial(count)
    found.pop("examples")
    return {"networks": count, **found, "took_s": time.perf_counter() - started}


@contextmanager
def opened(n_bus: int) -> Iterator[tuple[Page, Network]]:
    """A synthetic network open in headless Chromium, solved; of no bus: the demonstration."""
    from playwright.sync_api import sync_playwright
    from synthetic import synthetic

    from vastmesh.cli import demo_network
    from vastmesh.core.layout import place
    from vastmesh.core.network import with_rules
    from vastmesh.exchange import write_network

    if n_bus:
        network = synthetic(n_bus)
        network.apply(place(network))
        network.apply(with_rules(network))
    else:
        network = demo_network()[0]
    data = write_network(network, "bench", "document")
    with tempfile.TemporaryDirectory() as folder, served(Path(folder)) as address, sync_playwright() as play:
        sent = urllib.request.Request(f"{address}/api/projects/import?file_name=network.json", data,
                                      {"content-type": "application/octet-stream"}, method="POST")  # fmt: skip
        ident = json.load(urllib.request.urlopen(sent, timeout=120))["project"]["id"]
        browser = play.chromium.launch(executable_path=CHROMIUM, args=BROWSER_FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/p/{ident}")
        page.wait_for_selector("[data-ready=yes]", timeout=120_000)
        page.wait_for_timeout(1500)
        yield page, network
        browser.close()


def measure_sheet(n_bus: int) -> dict[str, Any]:
    """Frame times in headless Chromium while the sheet is panned and zoomed, from whole to near."""
    with opened(n_bus) as (page, network):
        found: dict[str, Any] = {"buses": n_bus, "elements": sum(1 for _ in network.elements())}
        for name, zoom in (("whole", 0), ("nearer", 6), ("near", 10)):
            if zoom:
                page.mouse.move(480, 330)
                for _ in range(zoom):
                    page.mouse.wheel(0, -240)
                    page.wait_for_timeout(60)
                page.wait_for_timeout(700)
            found[f"{name}_pan_ms"] = _frames(page, "pan")
            found[f"{name}_zoom_ms"] = _frames(page, "zoom")
        return found


# From the pointer that moves the slider to the frame that shows the new profile, by the Performance API.
_WATCH = """() => {
  window.times = []
  const line = document.querySelector('[data-testid=profile]')
  window.addEventListener('pointermove', () => performance.mark('move'), true)
  new MutationObserver(() => requestAnimationFrame(() => {
    const took = performance.measure('slide', 'move').duration
    window.times.push(took)
  })).observe(line, { attributes: true, attributeFilter: ['d'] })
}"""


def measure_slider(n_bus: int) -> dict[str, Any]:
    """One step of the demand slider in the browser, from input to repaint, profile open and findings counted."""
    with opened(n_bus) as (page, _):
        show(page, "Profile")
        page.get_by_test_id("profile").first.wait_for()
        page.wait_for_timeout(800)
        page.evaluate(_WATCH)
        box = page.get_by_role("slider", name="demand").locator("xpath=..").bounding_box()
        assert box
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        for step in range(1, 31):
            page.mouse.move(x + step, y)
            page.wait_for_timeout(350)
        times = page.evaluate("() => window.times")
        page.mouse.up()
        return {"buses": n_bus, "steps": len(times), "input_to_repaint_ms": statistics.median(times[2:]),
                "slowest_ms": max(times[2:])}  # fmt: skip


# From a key on the slider to the frame that shows the new spectrum.
_SPECTRUM = """() => {
  window.times = []
  const plot = document.querySelector('[data-testid=figure-spectrum]')
  window.addEventListener('keydown', () => performance.mark('key'), true)
  let first = true
  new MutationObserver(() => {
    if (!first) return
    first = false
    requestAnimationFrame(() => window.times.push(performance.measure('spectrum', 'key').duration))
  }).observe(plot, { attributes: true, subtree: true, attributeFilter: ['y', 'height'] })
  window.addEventListener('keydown', () => { first = true }, true)
}"""


def measure_live_distortion(_: int) -> dict[str, Any]:
    """A step of the demand slider of the demonstration by key, until the distortion that keeps up is repainted."""
    with opened(0) as (page, _):
        show(page, "Distortion")
        page.get_by_role("button", name="Run", exact=True).click()
        page.get_by_test_id("figure-spectrum").wait_for()
        page.wait_for_timeout(1500)
        page.evaluate(_SPECTRUM)
        slider = page.get_by_role("slider", name="demand")
        slider.focus()
        for step in range(24):
            page.keyboard.press("ArrowLeft" if step % 2 else "ArrowRight")
            page.wait_for_timeout(1200)
        times = page.evaluate("() => window.times")
        return {"steps": len(times), "key_to_repaint_ms": statistics.median(times[2:]), "slowest_ms": max(times[2:])}


# From Enter in a field to two frames after its answer was read. Parsing and painting lie in between.
_EDIT = """() => {
  window.times = []
  const read = Response.prototype.text
  const json = Response.prototype.json
  const done = () => requestAnimationFrame(() => requestAnimationFrame(
    () => setTimeout(() => window.times.push(performance.measure('edit', 'enter').duration))))
  for (const [name, own] of [['text', read], ['json', json]])
    Response.prototype[name] = async function () {
      const found = await own.call(this)
      if (this.url.includes('/changes')) setTimeout(done)
      return found
    }
  document.addEventListener('keydown', e => e.key === 'Enter' && performance.mark('enter'), true)
}"""


def measure_edit(n_bus: int) -> dict[str, Any]:
    """A load's power typed in the card of the bench: from Enter to repaint."""
    with opened(n_bus) as (page, _):
        page.keyboard.press("/")
        page.get_by_role("dialog").get_by_role("searchbox").fill("D3.2.5")
        page.get_by_role("option").first.click()
        field = page.get_by_role("textbox", name="Active power").first
        page.wait_for_timeout(1500)
        page.evaluate(_EDIT)
        for k in range(9):
            field.click()
            field.fill(f"{0.21 + 0.01 * k:.2f}")
            page.keyboard.press("Enter")
            page.wait_for_timeout(2500)
        times = page.evaluate("() => window.times")
        return {"buses": n_bus, "edits": len(times), "enter_to_repaint_ms": statistics.median(times[2:]),
                "slowest_ms": max(times[2:])}  # fmt: skip


def measure_sift(n_bus: int) -> dict[str, Any]:
    """Sift lines over a solved network, through the service: answer out in one process."""
    from starlette.testclient import TestClient
    from synthetic import synthetic

    from vastmesh.api import make_app

    lines = {
        "above_ms": ("buses", "voltage_pu > 1.03"),
        "worst_lines_ms": ("branches", "kind = line and loading_pct > 70 %, largest loading_pct first"),
        "highest_ms": ("buses", "voltage_pu = max(voltage_pu)"),
        "by_name_ms": ("buses", 'name ~ "77" and voltage_pu < 1'),
    }
    with (
        tempfile.TemporaryDirectory() as folder,
        TestClient(make_app(Path(folder)), base_url="http://127.0.0.1") as client,
    ):
        ident = client.app.state.sessions.store.create("bench", synthetic(n_bus)).id  # type: ignore[attr-defined]
        client.get(f"/api/projects/{ident}/live")
        found: dict[str, Any] = {"buses": n_bus}
        for name, (table, text) in lines.items():
            body = {"table": table, "text": text}
            assert client.post(f"/api/projects/{ident}/results/live/sift", json=body).status_code == 200
            found[name] = median_ms(lambda b=body: client.post(f"/api/projects/{ident}/results/live/sift", json=b), 7)  # type: ignore[misc]
        return found


# One gesture step in every frame, the way a hand gives them; the time between frames is what is felt.
_FRAMES = """([kind, steps]) => new Promise(done => {
  const svg = document.querySelector('svg[role=application]'), frames = []
  const at = { clientX: 500, clientY: 320, bubbles: true, cancelable: true, view: window, button: 0 }
  const fire = (type, more = {}, target = svg) => target.dispatchEvent(new MouseEvent(type, { ...at, ...more }))
  if (kind === 'pan') fire('mousedown')
  let last = performance.now(), n = 0
  const tick = now => {
    frames.push(now - last); last = now
    if (kind === 'pan') fire('mousemove', { clientX: 500 - (n % 30) * 8, clientY: 320 + (n % 20) * 5 }, window)
    else svg.dispatchEvent(new WheelEvent('wheel', { ...at, deltaY: n % 20 < 10 ? -40 : 40 }))
    if (++n < steps) requestAnimationFrame(tick)
    else { if (kind === 'pan') fire('mouseup', {}, window); done(frames) }
  }
  requestAnimationFrame(tick) })"""


def _frames(page: Any, kind: str) -> float:
    """Median time between frames while the sheet is panned or zoomed, ms."""
    before = page.evaluate(
        "() => document.querySelector('svg[role=application] g[transform]').getAttribute('transform')"
    )
    frames = page.evaluate(_FRAMES, [kind, 60])
    assert len(frames) == 60
    assert before
    return statistics.median(frames[2:])


def alone(*arguments: str) -> dict[str, Any]:
    done = subprocess.run([sys.executable, __file__, *arguments], capture_output=True, text=True, check=True)
    found: dict[str, Any] = json.loads(done.stdout.splitlines()[-1])
    return found


def listed(title: str, rows: list[dict[str, Any]]) -> None:
    print(f"\n{title}")
    width = max(16, *(len(key) + 1 for key in rows[0]))
    for key in rows[0]:
        cells = [r.get(key, "") for r in rows]
        print(f"  {key:{width}}" + "".join(f"{c:>16,.1f}" if isinstance(c, float) and key != "ratio" else
                                       f"{c:>16.2f}" if isinstance(c, float) else f"{c:>16}" for c in cells))  # fmt: skip


def _load(n: int) -> dict[str, Any]:
    from load import measure_load

    return measure_load(n)


def _harmonics(n: int) -> dict[str, Any]:
    from harmonics import measure_harmonics

    return measure_harmonics(n)


def _optimal(n: int) -> dict[str, Any]:
    from optimal import measure_optimal

    return measure_optimal(n)


def _linear_optimal(n: int) -> dict[str, Any]:
    from optimal import measure_linear

    return measure_linear(n)


def _day(n: int) -> dict[str, Any]:
    from optimal import measure_day

    return measure_day(n)


def _parts(workers: int) -> dict[str, Any]:
    from load import measure_parts

    return measure_parts(workers)


def _outages(n: int) -> dict[str, Any]:
    from outages import measure_outages

    return measure_outages(n)


def _outages_in_parts(workers: int) -> dict[str, Any]:
    from outages import measure_in_parts

    return measure_in_parts(workers)


def _year(n: int) -> dict[str, Any]:
    from outages import measure_year

    return measure_year(n)


def _failures(n: int) -> dict[str, Any]:
    from failures import measure_failures

    return measure_failures(n)


def _failure_years(workers: int) -> dict[str, Any]:
    from failures import measure_years

    return measure_years(workers)


def _board(n: int) -> dict[str, Any]:
    from failures import measure_board

    return measure_board(n)


def _beside(n: int) -> dict[str, Any]:
    from beside import measure as measure_beside

    return measure_beside(n, opened, _EDIT)


KINDS: dict[str, Callable[[int], dict[str, Any]]] = {
    "solve": measure, "service": lambda n: measure_service(n, slide=n <= 10_000), "sheet": measure_sheet,
    "slider": measure_slider, "sift": measure_sift, "per_phase": measure_per_phase, "street": measure_street,
    "balancing": measure_balancing, "live_distortion": measure_live_distortion, "edge": measure_edge, "edit": measure_edit,
    "load": _load, "parts": _parts, "harmonics": _harmonics, "optimal": _optimal, "linear_optimal": _linear_optimal,
    "day": _day, "outages": _outages, "outages_in_parts": _outages_in_parts, "year": _year,
    "failures": _failures, "failure_years": _failure_years, "board": _board,
    "beside": _beside,
}  # fmt: skip


def main() -> None:
    if len(sys.argv) > 2:
        print(json.dumps(KINDS[sys.argv[1]](int(sys.argv[2]))))
        return
    listed("Balanced load flow, medians (from scratch: flat start; 70,000: linear start)",
         [alone("solve", str(n)) for n in SIZES])  # fmt: skip
    listed(
        "Load flow per phase, unbalanced feeder from a flat start", [alone("per_phase", str(n)) for n in (1000, 8500)]
    )
    listed("The street of the demonstration, live through the service", [alone("street", "0")])
    listed("Phase balancing", [alone("balancing", str(n)) for n in (60, 200)])
    listed("At the edge of solvability: of 30 to 300 buses, cold starts", [alone("edge", str(60))])
    listed("Service: opening a project, one step of the demand slider", [alone("service", str(n)) for n in SIZES[:2]])
    listed("Many at once: milliseconds of edits and of a trivial address", [alone("load", str(n)) for n in (0, 1000)])
    listed("Harmonics", [alone("harmonics", str(n)) for n in SIZES[:2]])
    listed("Optimal flow", [alone("optimal", str(n)) for n in (118, 1000, 3000)])
    listed("Linear optimal flow", [alone("linear_optimal", str(n)) for n in (1000, 10_000)])
    listed("Optimal flow of a day", [alone("day", "118")])
    listed("Outages of single lines of a grid, one after another", [alone("outages", str(n)) for n in (1000, 10_000)])
    listed(
        "All outages of single lines of 1,000 buses, by workers", [alone("outages_in_parts", str(n)) for n in (1, 2)]
    )
    listed("A year by the hour (0: the demonstration), from 240 hours", [alone("year", str(n)) for n in (0, 1000)])
    listed("Interruptions, every failure played", [alone("failures", str(n)) for n in (1000, 10_000)])
    listed("Years of failures of 1,000 buses, by workers", [alone("failure_years", str(n)) for n in (1, 2)])
    listed("The board of the demonstration, two processes", [alone("board", "0")])
    listed("Studies in parts, by workers", [alone("parts", str(n)) for n in (1, 2)])
    listed("Sift lines through the service", [alone("sift", str(n)) for n in (1000, 70_000)])
    listed("Slider in the browser, profile open", [alone("slider", "1000")])
    listed("Demand slider in the browser, distortion of the demonstration kept up", [alone("live_distortion", "0")])
    listed("An edit in the browser", [alone("edit", str(n)) for n in SIZES[:2]])
    listed("The same beside outages of all lines, and these cancelled", [alone("beside", str(n)) for n in SIZES[:2]])
    listed(
        "Sheet: median time between frames while panning and zooming",
        [alone("sheet", str(n)) for n in (1800, 3600, 10_000)],
    )


if __name__ == "__main__":
    main()
