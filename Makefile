# Everything that is needed to try and to test Harvok, in an environment of its own.

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
# Pip compiles what it copies but not an editable package, and where PYTHONDONTWRITEBYTECODE is set nobody ever would:
# each start of the program then takes 0.2 s more, and the tests start it hundreds of times.
COMPILE := $(BIN)/python -m compileall -q harvok tests

.PHONY: demo test docs share lint clean

demo: $(VENV)/.installed  ## install, and show the whole job on this host alone
	$(BIN)/harvok demo

test: $(VENV)/.for-tests  ## install, check style, types and structure, and run every test
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache
	$(COMPILE)
	$(BIN)/python -m tests

docs: $(VENV)/.for-tests  ## write the documentation as a site into site-docs
	$(BIN)/mkdocs build --quiet --strict

share: $(VENV)/.for-tests  ## write manual pages and completion scripts anew, from the commands themselves
	$(BIN)/python -m harvok.cli.manual share

$(VENV)/.installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --upgrade pip
	$(BIN)/pip install --quiet --editable .
	$(COMPILE)
	touch $@

$(VENV)/.for-tests: $(VENV)/.installed
	$(BIN)/pip install --quiet --editable '.[dev]'
	touch $@

clean:
	rm -rf $(VENV) build site-docs *.egg-info .mypy_cache .ruff_cache .hypothesis
