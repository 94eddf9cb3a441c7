# make demo and make test are all that a fresh machine needs.
.DEFAULT_GOAL := help
SHELL := /bin/bash
PYTHON ?= python3.11
VENV := .venv
BIN := $(VENV)/bin
STAMPS := .stamps
WEB_SOURCES := $(shell find web/src web/public -type f 2>/dev/null) web/index.html web/vite.config.ts web/tsconfig.json
KERNELS := $(shell grep -rl njit src/vastmesh --include=*.py)
PORT ?= 8420
# Compiled modules are kept also where the machine says otherwise: every start of a process is most of a second faster.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: help demo test check bench soak build setup screenshots schema lock chromium office clean

help: ## What there is
	@grep -hE '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 14

demo: build ## Set everything up and start the application with the demonstration region
	$(BIN)/vastmesh demo --data data --port $(PORT)

test: build chromium office ## Set everything up and run every check and test
	$(MAKE) --no-print-directory check
	$(BIN)/pytest -n 3 --dist loadgroup

check: $(STAMPS)/python $(STAMPS)/web ## Format, lint, types, import contracts
	$(BIN)/ruff format --check -q src tests demo benchmarks docs tools
	$(BIN)/ruff check -q src tests demo benchmarks docs tools
	$(BIN)/mypy
	$(BIN)/lint-imports --no-logo 2>/dev/null || $(BIN)/lint-imports
	cd web && npx --no-install biome check src
	cd web && node node_modules/typescript-7/bin/tsc --noEmit

bench: $(STAMPS)/python ## Measure (never part of the tests)
	$(BIN)/python benchmarks/run.py

soak: $(STAMPS)/python ## Long trials: hostile requests, mutated files, kills, answers (never part of the tests)
	$(BIN)/python benchmarks/soak.py

build: $(STAMPS)/python $(STAMPS)/kernels $(STAMPS)/pango src/vastmesh/web/index.html ## Everything but starting it

setup: $(STAMPS)/python $(STAMPS)/web

$(STAMPS)/python: requirements.lock pyproject.toml
	@command -v $(PYTHON) >/dev/null || { echo "Python 3.11 is needed ($(PYTHON) was not found)."; exit 1; }
	@[ -x $(BIN)/python ] || $(PYTHON) -m venv $(VENV) || { echo "Install Debian's python3-venv, then try again."; exit 1; }
	$(BIN)/pip install -q --disable-pip-version-check --require-hashes -r requirements.lock
	$(BIN)/pip install -q --disable-pip-version-check --no-deps --no-build-isolation -e .
	@mkdir -p $(STAMPS) && touch $@

# Compiled once, so that nobody waits for it at the first start.
$(STAMPS)/kernels: $(STAMPS)/python $(KERNELS)
	$(BIN)/python -c "from vastmesh.core.studies.warm import warm_up; warm_up()"
	@touch $@

$(STAMPS)/web: web/package-lock.json web/package.json
	@command -v npm >/dev/null || { echo "Node 20 with npm 11 is needed (npm was not found)."; exit 1; }
	cd web && npm ci --silent --no-progress
	@mkdir -p $(STAMPS) && touch $@

src/vastmesh/web/index.html: $(STAMPS)/web $(WEB_SOURCES)
	cd web && npx --no-install vite build --logLevel warn
	@touch $@

# A Debian package that tests need: $(call debian,command,package,what for)
define debian
if ! command -v $(1) >/dev/null; then \
  if [ "$$(id -u)" = 0 ]; then \
    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $(2) >/dev/null; \
  else \
    echo "$(3). As root: apt-get install $(2)"; exit 1; \
  fi; \
fi
endef

# Debian's Chromium, for the browser tests only.
chromium:
	@$(call debian,chromium,chromium,The browser tests need Debian's Chromium)

# LibreOffice Calc, for the test that recalculates an exported sheet.
office:
	@$(call debian,soffice,libreoffice-calc-nogui,The test of exported sheets needs Debian's LibreOffice Calc)

# Pango, which sets the type of PDF pictures; everything else works without it.
$(STAMPS)/pango:
	@if ! ldconfig -p | grep -q libpangoft2; then \
	  if [ "$$(id -u)" = 0 ]; then \
	    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends libpango-1.0-0 libpangoft2-1.0-0 libharfbuzz-subset0 >/dev/null; \
	  else \
	    echo "PDF pictures need Debian's Pango. As root: apt-get install libpangoft2-1.0-0 libharfbuzz-subset0"; exit 0; \
	  fi; \
	fi
	@mkdir -p $(STAMPS) && touch $@

screenshots: build chromium ## Make the pictures in docs/screenshots again
	$(BIN)/python docs/make_screenshots.py

schema: $(STAMPS)/python $(STAMPS)/web ## Write the generated files again: OpenAPI, document schema, TypeScript client
	$(BIN)/vastmesh schema --api > docs/openapi.json
	$(BIN)/vastmesh schema > docs/network-document.schema.json
	cd web && npx --no-install openapi-typescript ../docs/openapi.json --default-non-nullable=false -o src/api/schema.ts

lock: ## Pin the versions of Python packages anew
	$(BIN)/pip install -q pip-tools
	$(BIN)/pip-compile -q --extra dev --generate-hashes --allow-unsafe --strip-extras --no-emit-index-url \
	  --no-emit-find-links --no-emit-options --no-header -o requirements.lock pyproject.toml

clean: ## Remove what was built (not your data)
	rm -rf $(VENV) $(STAMPS) web/node_modules src/vastmesh/web .mypy_cache .ruff_cache .pytest_cache
