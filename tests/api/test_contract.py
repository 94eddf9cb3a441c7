"""The published contract: OpenAPI is complete, and the generated client is the current one."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest
from starlette.testclient import TestClient

from tests.conftest import ROOT
from vastmesh.core.network import REGISTRY, Element
from vastmesh.core.studies import STUDIES


def test_published_openapi_is_the_current_one(client: TestClient) -> None:
    published = json.loads((ROOT / "docs" / "openapi.json").read_text())
    assert client.get("/api/openapi.json").json() == published, "run: make schema"


def test_generated_typescript_is_the_current_one(tmp_path: Path) -> None:
    target = tmp_path / "schema.ts"
    done = subprocess.run(
        ["npx", "--no-install", "openapi-typescript", str(ROOT / "docs" / "openapi.json"), "--default-non-nullable=false",
         "-o", str(target)],
        cwd=ROOT / "web", capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert target.read_text() == (ROOT / "web" / "src" / "api" / "schema.ts").read_text(), "run: make schema"


def test_every_operation_is_described_and_typed(client: TestClient) -> None:
    paths = client.get("/api/openapi.json").json()["paths"]
    for path, methods in paths.items():
        for method, operation in methods.items():
            assert operation.get("summary"), f"{method} {path}"
            answers = operation["responses"]
            good = next(a for s, a in answers.items() if s.startswith("2"))
            described = "content" in good or "204" in answers
            streams = (
                "/export/{format_name}",
                "/events",
                "/attachments/{sha256}",
                "/types/export",
                "/results/{address}/export",
                "/results/{address}/workings-sheet/{ident}",
                "/backdrop",
                "/picture.pdf",
                "/document",
                "/figures/{name}.svg",
            )
            assert described or path.endswith(streams), f"{method} {path}"


def test_vocabulary_lists_every_kind_and_field(client: TestClient) -> None:
    vocabulary = client.get("/api/vocabulary").json()
    kinds = {k["kind"]: k for k in vocabulary["kinds"]}
    assert set(kinds) == set(REGISTRY)
    for kind, cls in REGISTRY.items():
        assert kinds[kind]["element"] == issubclass(cls, Element)
        listed = {f["name"] for f in kinds[kind]["fields"]}
        assert listed == set(cls.model_fields) - {"kind", "id", "origins"}


@pytest.mark.parametrize("name", sorted(STUDIES))
def test_studies_are_listed_with_explained_options(client: TestClient, name: str) -> None:
    study = next(s for s in client.get("/api/studies").json() if s["name"] == name)
    assert study["purpose"]
    assert all(o.get("description") for o in study["options"]["properties"].values())
