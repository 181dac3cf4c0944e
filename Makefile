# make demo: the whole story on the sample site. make test: everything CI checks. Both do their own set-up.

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PIP := $(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile --editable
COMPILE := $(BIN)/python -m compileall -q -j 0 -x '/tests?/' $(VENV)/lib src
SCREENS := docs/screenshots

.PHONY: demo test install test-tools lint types contract pytest mutations properties recordings torture agents bench screenshots clean

demo: $(VENV)/installed
	rm -rf quillhaven-demo
	$(BIN)/upright demo quillhaven-demo

# What is looked at in the code runs beside the tests.
test: $(VENV)/tested
	$(MAKE) --jobs=2 pytest lint types contract

install: $(VENV)/installed

# What came with Python may be old, and takes three times as long to work out what to install.
$(BIN)/python:
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Python 3.11 or newer is needed; name one with make PYTHON=python3.11")'
	$(PYTHON) -m venv $(VENV)
	$@ -m pip install --quiet --upgrade pip

# All is compiled at once, by all cores: where Python may write no bytecode, each start would compile all modules anew.
$(VENV)/installed: pyproject.toml | $(BIN)/python
	$(PIP) .
	-$(COMPILE)
	touch $@

# Servers are installed meanwhile.
$(VENV)/tested: pyproject.toml | $(BIN)/python
	sh tests/install-servers.sh & $(PIP) '.[test]' && wait
	-$(COMPILE)
	touch $(VENV)/installed $@

# The list of agents by which programs are known is the package's that keeps it: its newest one.
agents: $(VENV)/tested
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --upgrade crawlerdetect crawler-user-agents
	$(BIN)/python benchmarks/agents.py

lint: $(VENV)/tested
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .

types: $(VENV)/tested
	$(BIN)/mypy

contract: $(VENV)/tested
	$(BIN)/lint-imports --no-cache

pytest: $(VENV)/tested
	$(BIN)/python -m pytest -n 3 --dist loadfile --no-loadscope-reorder

# Small faults put into a module or folder, OF=core/url, and which the tests find: docs/testing.md.
mutations: $(VENV)/tested
	$(PIP) '.[mutations]'
	$(BIN)/python tests/mutations.py $(OF)

# What holds for any input, with other cases than in the last run, and ten times as many.
properties: $(VENV)/tested
	UPRIGHT_EXAMPLES=300 $(BIN)/python -m pytest -m hypothesis -n 3 --dist loadfile --no-loadscope-reorder

# Real servers asked anew: about rule files drawn at random, and about the files that are kept byte by byte.
recordings: $(VENV)/tested
	$(BIN)/python -m pytest -q tests/servers/test_conformance.py
	PYTHONPATH=tests:tests/support:tests/support/machines:tests/support/rule_files $(BIN)/python tests/oracles/recorded_servers.py
	PYTHONPATH=tests:tests/support:tests/support/machines:tests/oracles $(BIN)/python -c 'import kept_files; kept_files.keep()'

# An hour: killed and failing commands, damaged ledgers, several people at once. Figures: docs/reliability.md.
torture: $(VENV)/tested
	$(BIN)/python tests/reliability/torture.py kills 1040 sqlite
	$(BIN)/python tests/reliability/torture.py kills 260 postgresql
	$(BIN)/python tests/reliability/torture.py losses 260 postgresql
	$(BIN)/python tests/reliability/torture.py errors 520 sqlite
	$(BIN)/python tests/reliability/torture.py damages 510 sqlite
	$(BIN)/python tests/reliability/torture.py pairs 351 sqlite
	$(BIN)/python tests/reliability/torture.py pairs 351 postgresql
	$(BIN)/python tests/reliability/torture.py crowd 300 sqlite
	$(BIN)/python tests/reliability/torture.py crowd 300 postgresql
	UPRIGHT_SEQUENCES=2000 $(BIN)/python -m pytest -q tests/ledger/test_undone.py

bench: $(VENV)/installed
	$(BIN)/python benchmarks/servers/served_cost.py
	$(BIN)/python benchmarks/servers/conformance.py
	$(BIN)/python benchmarks/servers/rule_files.py
	$(BIN)/python benchmarks/asking.py
	$(BIN)/python benchmarks/gathering.py
	$(BIN)/python benchmarks/rehearsing.py
	$(BIN)/python benchmarks/replaying.py
	$(BIN)/python benchmarks/surveying.py
	$(BIN)/python benchmarks/triaging.py

screenshots: $(VENV)/installed
	$(BIN)/python docs/make_screenshots.py $(SCREENS)

clean:
	rm -rf $(VENV) quillhaven-demo build dist .pytest_cache .mypy_cache .ruff_cache .hypothesis .mutations
