# Two commands do all the set-up: `make demo` and `make test`. Each builds .venv in this folder when it has to.
PYTHON ?= python3
BIN := .venv/bin
STAMP := .venv/.installed
TOOLS := .venv/.tools
PIP := $(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile

.PHONY: demo test kernels quick thorough versions lint browser benchmark commands docs screenshots web clean
.DEFAULT_GOAL := demo

$(STAMP): pyproject.toml
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	@echo "installing Evrin and what it rests on into .venv …"
	@$(PIP) --editable '.[formats]'
	@touch $@

$(TOOLS): $(STAMP)
	@echo "installing what the tests need …"
	@$(PIP) --editable '.[formats,tests]'
	@touch $@

# Kernels are compiled on all cores first, so that neither the demo nor a later command waits for them.
demo: $(STAMP)
	@$(BIN)/evrin prepare
	@$(BIN)/evrin demo demo

# Types are checked on one core while kernels are compiled on the other.
test: $(TOOLS) browser
	@$(MAKE) --no-print-directory -j2 lint kernels
	@$(BIN)/python -m pytest -n 2 --dist loadfile --no-loadscope-reorder

kernels: $(TOOLS)
	@$(BIN)/evrin --quiet prepare

# What a developer waits for: all but the slow tests and the pages.
quick: $(TOOLS)
	@$(BIN)/python -m pytest -n 2 --dist loadfile --no-loadscope-reorder -m "not slow and not thorough" --ignore=tests/test_pages.py

# What is long by nature: random fields and edits by the thousand, every index checked, wheels, the examples, 300 first
# builds on a busy machine, and the demo with other versions of what it rests on.
thorough: $(TOOLS) browser
	@$(BIN)/evrin --quiet prepare
	@$(BIN)/python -m pytest -n 2 --dist loadfile --no-loadscope-reorder -m thorough
	@EVRIN_BUILDS=300 $(BIN)/python -m pytest tests/test_what_ships.py -m "thorough or not thorough"
	@$(MAKE) versions

versions:
	@$(PYTHON) tests/with_versions.py

lint: $(TOOLS)
	@$(BIN)/ruff check .
	@$(BIN)/ruff format --check --quiet .
	@$(BIN)/mypy
	@$(BIN)/lint-imports --no-cache

# The tests open the pages in a browser; where none is found and the system is Debian's, its Chromium is installed.
browser:
	@command -v chromium >/dev/null || command -v chromium-browser >/dev/null || command -v google-chrome >/dev/null \
		|| test -n "$$EVRIN_BROWSER" || ! command -v apt-get >/dev/null || { \
		echo "installing Chromium for the tests of the pages …"; \
		SUDO=$$(test "$$(id -u)" = 0 || echo sudo); export DEBIAN_FRONTEND=noninteractive; \
		{ $$SUDO apt-get update -qq && $$SUDO apt-get install -y -qq --no-install-recommends chromium >/dev/null; } \
		|| echo "Chromium could not be installed; the tests of the pages are skipped"; }

benchmark: $(STAMP)
	@$(PIP) --editable '.[benchmarks]'
	@$(BIN)/python benchmarks/table.py

commands: $(TOOLS)
	@$(BIN)/python docs/make_commands_page.py
	@$(BIN)/python docs/make_findings_page.py
	@$(BIN)/python docs/make_recipe_page.py

docs: $(TOOLS)
	@$(BIN)/python docs/make_reference.py
	@$(BIN)/python docs/make_modules_page.py

screenshots: $(TOOLS)
	@$(BIN)/python docs/make_screenshots.py

web:
	@cd web && npm install --no-audit --no-fund --no-package-lock && npm run bundle

clean:
	rm -rf .venv demo build .pytest_cache .hypothesis .mypy_cache .ruff_cache .import_linter_cache
	find src tests benchmarks examples -name __pycache__ -prune -exec rm -rf {} +
