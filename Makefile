# Two commands do all the set-up: `make demo` and `make test`. Each builds .venv in this folder when it has to.
PYTHON ?= python3
BIN := .venv/bin
STAMP := .venv/.installed

.PHONY: demo test quick lint browser benchmark commands docs screenshots web clean
.DEFAULT_GOAL := demo

$(STAMP): pyproject.toml
	@test -x $(BIN)/python || $(PYTHON) -m venv .venv
	@echo "installing Evrin and what it rests on into .venv …"
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[formats,tests]'
	@$(BIN)/python -m compileall -q src
	@touch $@

demo: $(STAMP)
	@$(BIN)/evrin demo demo

test: $(STAMP) lint browser
	@$(BIN)/python -m pytest

# What a developer waits for: all but the slow tests and the pages.
quick: $(STAMP)
	@$(BIN)/python -m pytest -m "not slow" --ignore=tests/test_pages.py

lint: $(STAMP)
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
	@$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[benchmarks]'
	@$(BIN)/python benchmarks/table.py

commands: $(STAMP)
	@$(BIN)/python docs/make_commands_page.py
	@$(BIN)/python docs/make_findings_page.py
	@$(BIN)/python docs/make_modules_page.py
	@$(BIN)/python docs/make_recipe_page.py

docs: $(STAMP)
	@$(BIN)/python docs/make_reference.py

screenshots: $(STAMP)
	@$(BIN)/python docs/make_screenshots.py

web:
	@cd web && npm install --no-audit --no-fund --no-package-lock && npm run bundle

clean:
	rm -rf .venv demo build .pytest_cache .hypothesis .mypy_cache .ruff_cache .import_linter_cache
	find src tests benchmarks examples -name __pycache__ -prune -exec rm -rf {} +
