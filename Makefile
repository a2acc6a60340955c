# Set-up and checks.  `make demo` and `make test` do all that is needed on a fresh Debian or Ubuntu
# with python3 (3.11 or later), make and git.

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
ROOT_RUN := $(shell [ "$$(id -u)" = 0 ] && echo yes)

.PHONY: demo test test-quick compiled mutants coverage install check bench screenshots system-venv system-tests system-pictures clean

demo: install
	$(BIN)/uneven-sum demo rating

install: $(VENV)/.installed

# More processes than a small machine has cores: tests of screens wait most of their time.
test: system-tests
	@$(MAKE) --no-print-directory -j2 $(VENV)/.tested $(VENV)/.others
	@$(MAKE) --no-print-directory compiled
	$(BIN)/python -m pytest -q -n 4 --dist worksteal

# The parts alone, without runs through the client and without screens: in two minutes.
test-quick: $(VENV)/.tested compiled
	$(BIN)/python -m pytest -q -n 4 --dist worksteal tests/unit -m "not slow and not terminal"

# Tests start thousands of processes: where Python may write no bytecode (PYTHONDONTWRITEBYTECODE, as
# in many containers), each of them would compile our modules anew.
compiled: $(VENV)/.tested
	@for python in $(BIN)/python $(VENV)/others/*/bin/python; do \
	  if [ -x $$python ]; then $$python -m compileall -q src || exit 1; fi; done

# Changes to conditions of the modules that judge: do their tests notice?
mutants: $(VENV)/.tested
	$(BIN)/python tools/mutants

# Lines that tests run; a way to look, not a target.
coverage: $(VENV)/.tested
	$(BIN)/python -m pip install -q --disable-pip-version-check -c constraints.txt coverage
	$(BIN)/python -m coverage run --source src/uneven_sum -m pytest -q -m "not slow and not terminal"
	$(BIN)/python -m coverage report --skip-covered

check: $(VENV)/.checked
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(VENV)/.tested
	$(BIN)/python benchmarks/run.py

screenshots: system-pictures install
	tools/screenshots

# The interpreter's venv module is a package of its own on Debian.
system-venv:
	@$(PYTHON) -c 'import venv, ensurepip' 2>/dev/null || \
	  if [ "$(ROOT_RUN)" = yes ]; then apt-get update -qq && apt-get install -y -qq python3-venv; \
	  else echo "python3-venv is missing: as root, apt-get install python3-venv"; exit 1; fi

system-tests:
	@command -v tmux >/dev/null || \
	  if [ "$(ROOT_RUN)" = yes ]; then apt-get update -qq && apt-get install -y -qq tmux; \
	  else echo "tmux is missing: as root, apt-get install tmux"; exit 1; fi

system-pictures:
	@command -v Xvfb xterm xdotool tmux >/dev/null || \
	  if [ "$(ROOT_RUN)" = yes ]; then apt-get update -qq && apt-get install -y -qq xvfb xterm xdotool tmux fonts-dejavu-core; \
	  else echo "missing: as root, apt-get install xvfb xterm xdotool tmux fonts-dejavu-core"; exit 1; fi

$(VENV)/bin/python: | system-venv
	$(PYTHON) -m venv $(VENV)

$(VENV)/.installed: pyproject.toml constraints.txt | $(VENV)/bin/python
	$(BIN)/python -m pip install -q --disable-pip-version-check -c constraints.txt -e .
	touch $@

$(VENV)/.tested: pyproject.toml constraints.txt | $(VENV)/bin/python
	$(BIN)/python -m pip install -q --disable-pip-version-check -c constraints.txt -e '.[test]'
	touch $(VENV)/.installed $@

$(VENV)/.others: constraints.txt tools/other_interpreters | $(VENV)/bin/python
	tools/other_interpreters
	touch $@

$(VENV)/.checked: $(VENV)/.tested
	$(BIN)/python -m pip install -q --disable-pip-version-check -c constraints.txt -e '.[check]'
	touch $@

clean:
	rm -rf $(VENV) build dist src/*.egg-info .pytest_cache .mypy_cache .ruff_cache
