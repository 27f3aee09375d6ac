# What people and CI use; `make help` lists it.
.DEFAULT_GOAL := help
SHELL := /bin/bash
.SHELLFLAGS := -o pipefail -c
export KINETRUM_HOME ?= $(CURDIR)/.demo
PYTHON := .venv/bin/python
ENV := PATH="$(CURDIR)/.venv/bin:$$PATH"

.PHONY: help demo stop test check format bench soak mutants console screenshots openapi wheel clean

help: ## list the targets
	@grep -hE '^[a-z]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/^([a-z]+):.*## (.*)/  make \1\t\2/' | expand -t 20

demo: ## install what is missing, start an instance with the demo, say where to look
	@scripts/setup demo
	@.venv/bin/kinetrum up --demo
	@echo "Command line: .venv/bin/kinetrum runs -e frost-alarm     Stop: make stop"

stop: ## stop the demo
	@if [ -x .venv/bin/kinetrum ]; then .venv/bin/kinetrum down; else echo "Nothing is installed here."; fi

test: ## install what is missing and run every check and test; needs no demo, leaves nothing behind
	@scripts/setup test
	@$(MAKE) --no-print-directory check
	@cd web && $(ENV) npm run --silent test
	@env -u KINETRUM_HOME $(PYTHON) -m pytest -q -n 3 --dist worksteal

check: ## format, lint, types and layers, for Python and the console
	@scripts/setup test
	@.venv/bin/ruff format --check --quiet src tests benchmarks scripts
	@.venv/bin/ruff check --quiet src tests benchmarks scripts
	@(cd web && $(ENV) npm run --silent format && $(ENV) npm run --silent lint && $(ENV) npm run --silent types) & \
	console=$$!; .venv/bin/mypy && .venv/bin/lint-imports --no-cache | tail -n 4 && $(PYTHON) scripts/openapi.py --check; \
	python=$$?; wait $$console && exit $$python

format: ## put the code into form
	@.venv/bin/ruff format --quiet src tests benchmarks scripts
	@.venv/bin/ruff check --quiet --fix src tests benchmarks scripts || true
	@cd web && $(ENV) npx prettier --write --log-level warn src tests

soak: ## let over a hundred things go wrong at random moments and check that nothing is lost
	@scripts/setup test
	@env -u KINETRUM_HOME $(PYTHON) -m pytest -q -n 3 -m soak
	@env -u KINETRUM_HOME $(PYTHON) -m pytest -q -n 3 --hypothesis-profile=searching tests/core
	@env -u KINETRUM_HOME KINETRUM_TEST_EXAMPLES=100 $(PYTHON) -m pytest -q -n 3 --timeout 900 --hypothesis-profile=searching tests/service/http/test_fuzz.py
	@env -u KINETRUM_HOME $(PYTHON) -m tests.faults.soak --faults 120

mutants: ## change the rules of the core one by one and see whether a test notices; about an hour
	@scripts/setup test
	@$(PYTHON) -m pip install -q --disable-pip-version-check -c constraints.txt -e ".[mutants]"
	@env -u KINETRUM_HOME $(ENV) .venv/bin/mutmut run; $(PYTHON) scripts/mutants.py

openapi: ## write the interface's description and the console's types anew
	@$(PYTHON) scripts/openapi.py
	@cd web && $(ENV) npm run --silent api && $(ENV) npx prettier --write --log-level warn generated/schema.d.ts

bench: ## measure, as ratios side by side, and print a report
	@scripts/setup test
	@$(PYTHON) -m benchmarks

console: ## build the console
	@scripts/setup demo

screenshots: ## take the pictures in docs/screenshots from the running demo
	@scripts/setup screenshots
	@$(PYTHON) scripts/screenshots.py

wheel: ## build the installable package, console included
	@scripts/setup test
	@$(PYTHON) -m build --wheel --outdir dist . >/dev/null && ls dist

clean: ## remove what was built, not the demo's data
	@rm -rf dist .stamps src/kinetrum/service/console
