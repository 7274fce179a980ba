# `make demo` and `make test` set up everything they need in .venv.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/ready

.PHONY: demo test lint bench docs screenshots clean

$(READY): pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --upgrade pip
	$(BIN)/python -m pip install --quiet --editable '.[dev]'
	@touch $@

demo: $(READY)
	$(BIN)/zesty-otter demo otterweir

test: $(READY)
	$(BIN)/python -m pytest -n auto

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(READY)
	$(BIN)/python bench/run.py

docs: $(READY)
	$(BIN)/python tools/step_pages.py

screenshots: $(READY)
	$(BIN)/python tools/screenshots.py

clean:
	rm -rf $(VENV) otterweir build dist
