# On a fresh machine with Python 3.11 and make: `make demo` and `make test` do everything by themselves.
PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin

.PHONY: demo test hard mutants bench tables clean

demo: $(VENV)/installed
	$(BIN)/ibexite demo demo

# What is started a thousand times is compiled once, whatever the surroundings say of it.
test: export PYTHONDONTWRITEBYTECODE =
test: $(VENV)/installed-for-tests
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check --quiet src tests benchmarks
	$(BIN)/mypy
	$(BIN)/pytest -n 4 --dist worksteal

# The long round of the laboratories: the better part of an hour and a half.
hard: $(VENV)/installed-for-tests
	for link in socket hislip vxi11 serial program usb; do $(BIN)/python -m tests.laboratory.faults 200 1 $$link; done
	$(BIN)/python -m tests.laboratory.kills 300 1
	$(BIN)/python -m tests.laboratory.damaged 30000 1
	$(BIN)/python -m tests.laboratory.state 10000 1
	$(BIN)/python -m tests.laboratory.verdicts 100000 1

# Small wrong changes of the code that decides, and whether the tests notice: hours.
mutants: $(VENV)/installed-for-tests
	$(BIN)/python benchmarks/mutants.py 300 1

bench: $(VENV)/installed-for-tests
	$(BIN)/python benchmarks/compare.py
	$(BIN)/python benchmarks/links.py
	$(BIN)/python benchmarks/guardian.py
	$(BIN)/python benchmarks/scan.py
	$(BIN)/python benchmarks/many_units.py
	$(BIN)/python benchmarks/replay.py
	$(BIN)/python benchmarks/waveforms.py
	$(BIN)/python benchmarks/streaming.py

# Parser tables and generated parts of the documents; needed after a change of grammar, schema or functions.
tables: $(VENV)/installed-for-tests
	$(BIN)/python -m ibexite.language.make_tables
	$(BIN)/python -m ibexite.records.description
	$(BIN)/python -m ibexite.records.make_page docs/data-model.md
	$(BIN)/python -m ibexite.cli.explain docs/reference.md
	$(BIN)/python -m ibexite.cli.class_pages docs/classes
	$(BIN)/python -m ibexite.verdicts docs/verdicts.md
	$(BIN)/python -m ibexite.cli.make_editor_grammar editors/ibexite.tmLanguage.json

$(VENV)/installed: pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check -e .
	touch $@

$(VENV)/installed-for-tests: pyproject.toml
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/pip install --quiet --disable-pip-version-check -e '.[test]'
	touch $@ $(VENV)/installed

clean:
	rm -rf $(VENV) build demo
