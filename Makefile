# Every target sets up what it needs in .venv and uses it again the next time.
# Paths below are relative on purpose: the checkout may stand in a folder with spaces.
PYTHON ?= python3
BIN := .venv/bin
READY := .venv/ready
FLOOR := .venv-floor/bin

.PHONY: help demo demo-all test floor real soak bench mutants clean
help:            ## show the targets
	@grep -E '^[a-z-]+:.*##' Makefile | sed 's/:.*##/ -/'

$(READY): pyproject.toml constraints.txt
	@$(PYTHON) -c 'import sys; sys.exit("Sigillum needs Python 3.11 or newer; set PYTHON=...") if sys.version_info < (3, 11) else None'
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	$(BIN)/python -m pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[dev]'
	@touch $(READY)

demo: $(READY)   ## set up and play a short story
	@$(BIN)/python -m sigillum demo

demo-all: $(READY) ## play every chapter of the demo
	@$(BIN)/python -m sigillum demo --all

test: $(READY)   ## set up and pass everything: style, types, import rules, tests, coverage
	$(BIN)/python -m ruff check src tests benchmarks
	$(BIN)/python -m ruff format --check --quiet src tests benchmarks
	$(BIN)/python -m mypy
	$(BIN)/lint-imports --no-cache
	$(BIN)/python -m coverage run -m pytest -n 2 --dist worksteal tests/core
	$(BIN)/python -m coverage combine --quiet
	$(BIN)/python -m coverage report
	# more of them than cores: these tests wait for servers and clocks
	$(BIN)/python -m pytest -n 4 --dist worksteal tests/workflows tests/behind tests/access tests/keeping tests/keys tests/ledger tests/sandbox tests/charters tests/tenants tests/cli
	@echo "Left out: what needs real servers; \`make real\` proves it on them."

floor:           ## install the lowest versions that pyproject.toml allows, and play the demo with them
	$(PYTHON) -m venv --clear .venv-floor
	$(FLOOR)/python -m pip install --quiet --disable-pip-version-check $$($(PYTHON) benchmarks/floor.py)
	$(FLOOR)/python -m pip install --quiet --disable-pip-version-check --no-deps -e .
	$(FLOOR)/python -m pip check
	$(FLOOR)/python -m sigillum demo --all --folder "$$(mktemp -d)/floor"

real: $(READY)   ## prove it on real servers, which are started for it and stopped
	@cd tests && ../$(BIN)/python -m real.servers
	$(BIN)/python -m pytest tests/real

soak: $(READY)   ## the long runs
	$(BIN)/python -m pytest -m soak --soak

bench: $(READY)  ## measure, and compare with the bounds in benchmarks/README.md
	$(BIN)/python -m benchmarks

mutants: $(READY)  ## change the meaning of the code in many places, and see whether the tests notice
	$(BIN)/python -m benchmarks.mutants

clean:           ## remove what was set up
	rm -rf .venv .venv-floor .venv-real .mypy_cache .ruff_cache .pytest_cache .hypothesis .coverage*
