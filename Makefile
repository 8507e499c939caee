# Everything runs in an environment of its own, made on first use.
VENV ?= .venv
PYTHON ?= python3
BIN := $(VENV)/bin

.PHONY: demo test validate performance statistics docs site bench lint wheel size screenshots clean

# Compiled here, as an editable install is not: some environments tell Python to keep no compiled modules.
$(VENV)/runs: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --editable .
	$(BIN)/python -m compileall -q src
	touch $@

$(VENV)/develops: $(VENV)/runs
	$(BIN)/pip install --quiet --editable '.[dev]'
	touch $@

demo: $(VENV)/runs
	$(BIN)/veldrain demo

test: $(VENV)/develops
	$(BIN)/python scripts/test

lint: $(VENV)/develops
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

# Every case with a closed form, measured anew for docs/validation.md.
validate: $(VENV)/develops
	$(BIN)/python scripts/validate

# Where time goes, for docs/performance.md.
performance: $(VENV)/develops
	$(BIN)/python scripts/performance

# Coverage, false alarms and power of each verdict, and fits and searches with known answers, for docs/statistics.md.
statistics: $(VENV)/develops
	$(BIN)/python scripts/prove_statistics

# The pages that show what the code says: every rule of the check, with its case.
docs: $(VENV)/develops
	$(BIN)/python scripts/document_check
	$(BIN)/python scripts/document_sensors

# The reference of every public name, as pages in build/site that need no network.
site: $(VENV)/develops
	$(BIN)/pip install --quiet --editable ".[site]"
	$(BIN)/python scripts/document_site

# A wheel with its kernels compiled already, in dist.
wheel: $(VENV)/develops
	$(BIN)/python scripts/wheel

bench: $(VENV)/develops
	$(BIN)/pip install --quiet --editable ".[bench]"
	$(BIN)/python benchmarks/run.py

# Share of test code in all Python code, in lines that are not blank.
size:
	@tests=$$(git ls-files 'tests/*.py' | xargs cat | grep -cv '^[[:space:]]*$$'); \
	all=$$(git ls-files '*.py' | xargs cat | grep -cv '^[[:space:]]*$$'); \
	echo "$$tests of $$all lines of Python are tests: $$((100 * tests / all)) %"

screenshots: $(VENV)/develops
	PATH="$(CURDIR)/$(BIN):$$PATH" scripts/screenshots

clean:
	rm -rf $(VENV) build src/*.egg-info
