# Everything sets itself up in .venv; no root needed. PYTHON may name another interpreter (3.11 or later).
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
RUN := $(VENV)/.run-ready
DEV := $(VENV)/.dev-ready
DEMO ?= northmere
VENV_LOWEST := .venv-lowest
LOWEST := $(VENV_LOWEST)/.dev-ready
# One more process than processors: some tests wait for others (servers, a browser, whoever is killed) most of their time.
SPREAD = -n $$(($$(nproc) + 1)) --dist worksteal

# Bytecode is kept, whatever the environment says: the tests start the program several hundred times.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: demo test test-lowest test-pythons lint mutants bench screenshots docs clean

demo: $(RUN)
	@$(BIN)/usher-gate demo --fresh $(DEMO)

test: $(DEV)
	$(BIN)/python -m pytest $(SPREAD)

# The same with the lowest versions that pyproject.toml allows, in a .venv-lowest of its own.
test-lowest: $(LOWEST)
	$(VENV_LOWEST)/bin/python -m pytest $(SPREAD)

lint: $(DEV)
	$(BIN)/ruff check src tests tools
	$(BIN)/ruff format --check src tests tools
	$(BIN)/mypy
	$(BIN)/python tools/generate.py --check
	$(BIN)/python tools/long_lines.py

# The tests on every Python from 3.11 on that the machine has.
test-pythons: $(DEV)
	tools/pythons.sh

# Plants known faults, one at a time, and names those that no test notices. Not a part of CI.
mutants: $(DEV)
	$(BIN)/python tools/mutants.py $(if $(SAMPLE),--sample $(SAMPLE) --seed $(or $(SEED),1))

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
	@echo "setting up .venv (once)" && $(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[gather,guests,mend,history,report]' && touch $@

$(DEV): pyproject.toml tools/system-packages.sh | $(VENV)/bin/python
	@tools/system-packages.sh
	@echo "setting up .venv for development (once)" && $(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev,test,gather,guests,ldap,mend,history,report,cluster]' && tools/from-npm.sh $(VENV) && touch $@ $(RUN)

$(LOWEST): pyproject.toml constraints-lowest.txt tools/system-packages.sh | $(VENV)/bin/python
	@tools/system-packages.sh
	@echo "setting up .venv-lowest (once)" && $(PYTHON) -m venv $(VENV_LOWEST)
	@$(VENV_LOWEST)/bin/python -m pip install --quiet --disable-pip-version-check -c constraints-lowest.txt -e '.[test,gather,guests,ldap,mend,history,report,cluster]' && tools/from-npm.sh $(VENV_LOWEST) && touch $@

clean:
	rm -rf $(VENV) .venv-* $(DEMO) build dist .mypy_cache .ruff_cache .pytest_cache .hypothesis
