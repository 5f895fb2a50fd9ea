# Every target does its own set-up; nothing has to be installed by hand first.
PYTHON := .venv/bin/python
OFFSCREEN := QT_QPA_PLATFORM=offscreen

.PHONY: setup demo test torture lint screenshots bench clean

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
	$(OFFSCREEN) $(PYTHON) -m pytest

# Kills jobs and refuses them the disk at every step, in every way; takes minutes and prints what it tried.
torture:
	@scripts/setup.sh
	@$(PYTHON) tests/breaking.py

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

clean:
	rm -rf .venv demo-data demo-out .pytest_cache .mypy_cache .ruff_cache .hypothesis
