"""The interface's pure parts, bundled once and called from here: geometry, routing, labels, formats."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

import pytest

from tests.conftest import ROOT
from vastmesh.core.network import Network
from vastmesh.core.results.state import run_load_flow
from vastmesh.core.results.state._quantities import _DECLARED

WEB = ROOT / "web"
ENTRY = """
export * from '{web}/src/sheet/geometry'
export * from '{web}/src/sheet/scene'
export * from '{web}/src/sheet/labels'
export * from '{web}/src/sheet/lens'
export * from '{web}/src/sheet/paint'
export * from '{web}/src/sheet/neighbour'
export * from '{web}/src/sheet/folding'
export * from '{web}/src/sheet/hit'
export * from '{web}/src/sheet/heat'
export * from '{web}/src/sheet/mapScene'
export {{ LABEL_SETS, initialPrefs, migrated }} from '{web}/src/model/prefs'
export * from '{web}/src/shelf/tables/rows'
import {{ constructTable }} from '{web}/node_modules/@tanstack/react-table/dist/index.js'
import {{ storeReactivityBindings }} from '{web}/node_modules/@tanstack/table-core/dist/store-reactivity-bindings.js'
import {{ definitions, FEATURES, GROUP, inGroups }} from '{web}/src/shelf/tables/gridModel'
import {{ subtotal }} from '{web}/src/shelf/tables/rows'
/** A grid's rows from above to below, after clicks on headings: [column, with Shift]. */
export const gridOf = (table, clicks, groups) => {{
  const columns = table.columns.map(c => ({{ name: c.name, figure: c.digits != null, value: row => c.values[row],
    subtotal: rows => subtotal(c, rows) }}))
  const groupOf = groups ? row => groups[table.columns[0].values[row]] : null
  const made = constructTable({{
    features: {{ coreReactivityFeature: storeReactivityBindings(), ...FEATURES }},
    columns: definitions(columns, groupOf),
    data: inGroups(table.columns[0].values.map((_, i) => i), groupOf).map(at => ({{ at }})),
    getRowId: place => String(place.at),
    initialState: {{ expanded: true, grouping: groups ? [GROUP] : [], sorting: [] }},
  }})
  for (const [column, further] of clicks) made.getColumn(column)?.toggleSorting(undefined, further)
  return {{
    sorts: made.store.state.sorting.map(s => [s.id, s.desc]),
    rows: made.getRowModel().rows.map(r =>
      r.subRows.length ? [r.getValue(GROUP), r.getValue('p'), r.getValue('u')] : r.original.at),
  }}
}}
export {{ complete as completed, filterLine, joined, wordAt }} from '{web}/src/shelf/tables/sift'
export * from '{web}/src/model/units'
export * from '{web}/src/model/items'
export * from '{web}/src/model/results'
export * from '{web}/src/model/quantities'
export * from '{web}/src/design/format'
export * from '{web}/src/design/tokens'
export * from '{web}/src/model/phases'
export * from '{web}/src/studies/load_flow/tiles'
export {{ entriesOf, schemesOf }} from '{web}/src/session/schemes'
export * from '{web}/src/session/entries'
export * as jobs from '{web}/src/session/jobs'
export * as studies from '{web}/src/session/studies'
export {{ useBench }} from '{web}/src/session/store'
export {{ client, TAB }} from '{web}/src/api/client'
import {{ makePaint }} from '{web}/src/sheet/paint'
import {{ LABEL_SETS, initialPrefs }} from '{web}/src/model/prefs'
export const paintWith = (palette, lens, items, result, more) =>
  makePaint({{ palette, lens, bands: {{}}, items, result, ...more }})
export const WORDS = {{ set: LABEL_SETS[0], units: initialPrefs.units }}
"""
BUILD = """
import { build } from '%(web)s/node_modules/vite/dist/node/index.js'
await build({ configFile: false, root: '%(web)s', logLevel: 'error',
  build: { outDir: '%(out)s', minify: false, lib: { entry: '%(entry)s', formats: ['es'], fileName: 'pure' } } })
"""

Js = Callable[..., Any]
# Quantities of a solved state as the service declares them, for results that a test makes by hand.
DECLARED = [asdict(q) for q in _DECLARED]


def hue(js: Js, ident: str, value: float, most: float = 1.0) -> str:
    """The colour of a value of a declared quantity, on its usual scale."""
    declared = next(q for q in DECLARED if f"{q['table']}.{q['name']}" == ident)
    found: str = js("m.hueOf(m.light, i.q, {}, i.most)(i.value)", q=declared, value=value, most=most)
    return found


@pytest.fixture(scope="session")
def js(tmp_path_factory: pytest.TempPathFactory) -> Js:
    """Call with a JavaScript expression over the bundle ``m`` and inputs ``i``; gives its value."""
    folder = tmp_path_factory.mktemp("web")
    entry = folder / "entry.js"
    entry.write_text(ENTRY.format(web=WEB))
    script = BUILD % {"web": WEB, "out": folder / "out", "entry": entry}
    done = subprocess.run(
        ["node", "--input-type=module", "-e", script], cwd=WEB, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    bundle = next((folder / "out").glob("pure.*"))

    def call(expression: str, **inputs: Any) -> Any:
        code = f"import * as m from '{bundle}'; import fs from 'node:fs'; const i = JSON.parse(fs.readFileSync(0, 'utf8')); "
        code += f"process.stdout.write(JSON.stringify(({expression}) ?? null))"
        ran = subprocess.run(
            ["node", "--input-type=module", "-e", code],
            input=json.dumps(inputs),
            capture_output=True,
            text=True,
            check=False,
        )
        assert ran.returncode == 0, ran.stderr
        return json.loads(ran.stdout)

    return call


@pytest.fixture(scope="session")
def demo_items(demo_script: dict[str, Any]) -> list[dict[str, Any]]:
    network: Network = demo_script["network"]()
    return network.to_items()


@pytest.fixture(scope="session")
def demo_live(demo_script: dict[str, Any]) -> dict[str, Any]:
    """The live result of the demo as the service sends it."""
    import orjson

    from vastmesh.api import _render
    from vastmesh.api._sessions import Solved

    solved = Solved(3, "rows", 1.0, run_load_flow(demo_script["network"]()))
    found: dict[str, Any] = orjson.loads(_render.Json(_render.live(solved)).body)
    return found


@pytest.fixture(scope="session")
def street_live(demo_script: dict[str, Any]) -> dict[str, Any]:
    """The live result of the demo per phase as the service sends it."""
    import orjson

    from vastmesh.api import _render
    from vastmesh.api._sessions import Solved
    from vastmesh.core.results.state import run_unbalanced

    solved = Solved(3, "rows", 1.0, run_unbalanced(demo_script["network"]()))
    found: dict[str, Any] = orjson.loads(_render.Json(_render.live(solved)).body)
    return found
