# Every target does its own set-up; nothing has to be installed by hand first.
PYTHON := .venv/bin/python
OFFSCREEN := QT_QPA_PLATFORM=offscreen
# Tests that drive the window wait for it half of the time, so that more of them run side by side than there are cores.
WORKERS := $(shell expr $$(nproc) + 1)

# Else each of the many processes that tests start would compile every module anew.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: setup demo test test-long coverage torture lint screenshots bench deb clean

setup:
	@scripts/setup.sh

demo:
	@scripts/setup.sh
	@$(PYTHON) -m rundlet.demo

test:
	@scripts/setup.sh display
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy
	.venv/bin/lint-imports --no-cache
	$(OFFSCREEN) $(PYTHON) -m pytest -n $(WORKERS) --dist worksteal -m "not long"

# What takes minutes: files of more than 4 GiB, the demo's pictures, the trial's accuracy, damage at many places.
test-long:
	@scripts/setup.sh display
	@scripts/setup.sh packaging
	$(OFFSCREEN) RUNDLET_TESTS_AT_LENGTH=1 $(PYTHON) -m pytest -n $(WORKERS) --dist worksteal -m "long or at_length_too"

# How much of the code the tests run, line by line; slower than the tests alone.
coverage:
	@scripts/setup.sh display
	$(OFFSCREEN) $(PYTHON) -m pytest -n $(WORKERS) --dist worksteal -m "not long" --cov=rundlet --cov-report=term:skip-covered

# Kills jobs and refuses them the disk at every step, in every way, and damages archives at many places; takes minutes and
# prints what it tried.
torture:
	@scripts/setup.sh
	@$(PYTHON) tests/breaking.py
	@$(PYTHON) tests/mutating.py

lint:
	@scripts/setup.sh
	.venv/bin/ruff check .
	.venv/bin/mypy

screenshots:
	@scripts/setup.sh pictures
	@$(OFFSCREEN) $(PYTHON) -m rundlet.demo --pictures docs/screenshots

bench:
	@scripts/setup.sh
	@$(OFFSCREEN) $(PYTHON) -m benchmarks

# A Debian package for this system, in build/.
deb:
	@scripts/setup.sh
	@$(PYTHON) packaging/debian/build.py build

clean:
	rm -rf .venv build demo-data demo-out .pytest_cache .mypy_cache .ruff_cache .hypothesis
