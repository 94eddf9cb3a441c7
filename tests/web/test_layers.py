"""Arrows of the front end, and what the guide says of its keys: read from the sources themselves."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from vastmesh.core.studies import STUDIES

ROOT = Path(__file__).parents[2]
WEB = ROOT / "web" / "src"
LAYERS = (
    {"design", "api"}, {"model"}, {"session"}, {"sheet", "card", "shelf", "bar"}, {"studies", "features"},
)  # fmt: skip
LEVEL = {folder: n for n, folders in enumerate(LAYERS) for folder in folders}
IMPORT = re.compile(r"""(?:from|import\()\s*'(\.[^']+)'""")


def imports(file: Path) -> list[str]:
    """Folders below ``web/src`` from which a file takes something."""
    found = []
    for spec in IMPORT.findall(file.read_text()):
        target = (file.parent / spec).resolve()
        if target.is_relative_to(WEB):
            found.append(target.relative_to(WEB).parts[0])
    return found


@pytest.mark.parametrize("folder", sorted(LEVEL))
def test_parts_take_from_their_own_level_or_from_below(folder: str) -> None:
    files = [f for f in (WEB / folder).rglob("*.ts*") if f.name != "schema.ts"]
    assert files
    wrong = [
        f"{f.relative_to(WEB)} takes from {other}"
        for f in files
        for other in imports(f)
        if LEVEL.get(other, len(LAYERS)) > LEVEL[folder]
    ]
    assert wrong == []


def test_every_folder_has_its_level() -> None:
    assert {p.name for p in WEB.iterdir() if any(p.glob("**/*.ts*")) and p.is_dir()} == set(LEVEL)


def test_the_guide_tells_the_desks_and_keys_that_there_are() -> None:
    registry = (WEB / "shelf" / "registry.ts").read_text()
    desks = re.findall(r"label: '(\w+)', about: '[^']*', keys: '(\d)'", registry)
    assert len(desks) == 9
    guide = (ROOT / "docs" / "guide.md").read_text()
    line = next(x for x in guide.splitlines() if x.startswith("| `1` `2`"))
    assert [k for _, k in desks] == re.findall(r"`(\d)`", line)
    assert ", ".join(d for d, _ in desks) in line
    views = {
        m[1]: m[0]
        for f in WEB.rglob("*.view.tsx")
        for m in re.findall(r"id: '(\w+)',.*?keys: '([^']+)'", f.read_text(), re.DOTALL)
    }
    keys = guide[guide.index("## Keys") :]
    for key in views:
        assert f"`{key}`" in keys, (key, views[key])
    for view in re.findall(r"\*(?:Now|Studies|Limits|Optimise|Decide|Model|Record) → ([\w ]+)\*", guide):
        known = {s.label for s in STUDIES.values()}  # a study without a view of its own has a page
        assert view in known or any(f"label: '{view}'" in f.read_text() for f in WEB.rglob("*.view.tsx")), view
