# Everything runs in a virtual environment that make makes; nothing else need be set up.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test check shots docs demo-data clean

demo: $(VENV)/installed
	$(BIN)/yellowtor demo

test: $(VENV)/ready
	$(BIN)/python -m compileall -q src  # the tests start the program hundreds of times
	$(BIN)/python -m pytest -n 3 --dist loadfile --no-loadscope-reorder  # a third of their time is waiting

check: $(VENV)/ready
	$(BIN)/ruff format --check src tests benchmarks tools
	$(BIN)/ruff check src tests benchmarks tools
	$(BIN)/mypy
	$(BIN)/lint-imports

shots: $(VENV)/ready
	bash tools/shots.sh

docs: $(VENV)/ready
	$(BIN)/python tools/make_docs.py

demo-data: $(VENV)/ready
	$(BIN)/python -m yellowtor.demo.make --seed 1 --into src/yellowtor/demo/data
	mv src/yellowtor/demo/data/truth.csv tests/data/truth.csv

$(VENV)/installed: pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet '.[pictures,reference]'
	touch $@

$(VENV)/ready: pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --upgrade pip  # a newer one takes half the time
	$(BIN)/pip install --quiet --no-compile --editable '.[dev]'
	touch $@ $(VENV)/installed

clean:
	rm -rf $(VENV) yellowtor-demo build dist
