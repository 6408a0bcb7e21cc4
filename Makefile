# Everything needs only Python 3.11 or newer and make. Each target makes its own .venv first.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo check test soak bench lint pages clean

$(VENV)/installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e .
	touch $@

$(VENV)/installed-dev: $(VENV)/installed
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -e '.[dev]'
	touch $@

# See the whole thing at work, offline. The directory is made anew each time.
demo: $(VENV)/installed
	@if [ -d yatagan-demo/practice ]; then $(BIN)/yatagan practice --root yatagan-demo/practice --stop; fi
	@rm -rf yatagan-demo
	$(BIN)/yatagan demo yatagan-demo

# All tests: against practice nodes and, where there is one, a real OpenSSH server on loopback.
test: $(VENV)/installed-dev
	PYTHONDONTWRITEBYTECODE= $(BIN)/python -m pytest -n 6 --durations=10  # they wait for lines and clocks as often as for a processor

# What CI runs, without the slow tests: under a minute.
check: lint
	$(BIN)/python -m pytest -n 2 tests/unit tests/house tests/simulation/test_simulation.py

# Longer runs: tens of thousands of simulated faults, large trees.
soak: $(VENV)/installed-dev
	$(BIN)/python -m pytest -m soak

# Ratios against bare references; needs an OpenSSH server on this machine. BENCH="NAME..." runs only some.
bench: $(VENV)/installed-dev
	$(BIN)/python -m benchmarks $(BENCH)

lint: $(VENV)/installed-dev
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/mypy --config-file tests/mypy.ini
	$(BIN)/lint-imports

# The pages that are made from the code: commands, JSON answers, states, proof, when is tried again.
pages: $(VENV)/installed-dev
	PYTHONPATH=tests:tests/support $(BIN)/python tests/pages/json_page.py
	for page in commands:reference/commands states:reference/states proof:reference/proof trying_again:guide/trying-again; do \
	  PYTHONPATH=tests:tests/support $(BIN)/python tests/pages/$${page%:*}_page.py > docs/$${page#*:}.md || exit 1; \
	done

clean:
	rm -rf $(VENV) yatagan-demo
