# Everything sets itself up in .venv; no root needed. PYTHON may name another interpreter (3.11 or later).
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
RUN := $(VENV)/.run-ready
DEV := $(VENV)/.dev-ready
DEMO ?= northmere

.PHONY: demo test lint bench screenshots docs clean

demo: $(RUN)
	@$(BIN)/usher-gate demo --fresh $(DEMO)

test: $(DEV)
	$(BIN)/python -m pytest -n auto

lint: $(DEV)
	$(BIN)/ruff check src tests tools
	$(BIN)/mypy
	$(BIN)/python tools/generate.py --check

bench: $(DEV)
	$(BIN)/python tools/bench.py

screenshots: $(RUN)
	PATH="$(abspath $(BIN)):$$PATH" tools/screenshots.sh

docs: $(DEV)
	$(BIN)/python tools/generate.py

$(VENV)/bin/python:
	@command -v $(PYTHON) >/dev/null || { echo "make: $(PYTHON) is missing; install Python 3.11 or later"; exit 1; }
	@$(PYTHON) -c 'import ensurepip, venv' 2>/dev/null || { echo "make: Python's venv is missing; on Debian: apt-get install python3-venv"; exit 1; }
	@$(PYTHON) -m venv $(VENV)

$(RUN): pyproject.toml | $(VENV)/bin/python
	@echo "setting up .venv (once)" && $(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[gather]' && touch $@

$(DEV): pyproject.toml tools/system-packages.sh | $(VENV)/bin/python
	@tools/system-packages.sh
	@echo "setting up .venv for development (once)" && $(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev,gather,ldap]' && touch $@ $(RUN)

clean:
	rm -rf $(VENV) $(DEMO) build dist .mypy_cache .ruff_cache .pytest_cache .hypothesis
