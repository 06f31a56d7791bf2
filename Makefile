# Each target sets up what it needs: system libraries, virtual environment, pinned packages.
PYTHON ?= python3
BIN    := .venv/bin
export PYTHONPATH := src

.PHONY: demo test first-command fuzz check desktop-files texts deb deb-test screenshots bench mutants soak lock clean

demo: .venv/runtime
	$(BIN)/python -m eager_tern demo

test: .venv/dev
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest --numprocesses auto

fuzz: .venv/dev
	QT_QPA_PLATFORM=offscreen HYPOTHESIS_PROFILE=fuzz $(BIN)/python -m pytest $(shell grep -rl '@given' tests)

check: .venv/dev
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	PYTHONPATH=src $(BIN)/lint-imports
	$(BIN)/deptry src

# Runs what a newcomer types first, on a clean clone with the run-time lock file alone.
first-command:
	PYTHON=$(PYTHON) scripts/first-command

# Icons and the manual page, of the drawing and of the command's own help.
desktop-files: .venv/dev
	QT_QPA_PLATFORM=offscreen $(BIN)/python scripts/desktop_files.py share

# What the window says, for translators.
texts: .venv/dev
	@mkdir -p build
	$(BIN)/pybabel extract --no-default-keywords -k tr -k term -k plural:2,3 --project=eager-tern \
	  --no-location -o build/eager-tern.pot src/eager_tern

# A Debian package, by the distribution's own tools; and the same installed, started and removed, as root.
deb:
	scripts/deb

deb-test: deb
	scripts/deb-test

screenshots: .venv/dev
	QT_QPA_PLATFORM=offscreen $(BIN)/python scripts/screenshots.py docs/screenshots

bench: .venv/dev
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest benches -s

# Which constants of the reading nothing holds; takes an hour and more, or `make mutants ONLY="runs parts"` for some.
mutants: .venv/dev
	PYTHONPATH=src:. $(BIN)/python scripts/mutants.py $(ONLY)

# An hour's life in five minutes, with kills: nothing may be lost.
soak: .venv/dev
	QT_QPA_PLATFORM=offscreen $(BIN)/python scripts/soak.py

.venv/runtime: requirements.lock scripts/setup scripts/system-packages
	scripts/setup $(PYTHON) requirements.lock
	@touch $@

.venv/dev: requirements-dev.lock scripts/setup scripts/system-packages
	scripts/setup $(PYTHON) requirements-dev.lock
	@touch $@ .venv/runtime

# Needs uv. The lock files carry versions and hashes only.
LOCK := uv pip compile --quiet --universal --python-version 3.11 --generate-hashes --no-emit-index-url \
        --no-emit-find-links --no-header --no-annotate --extra sound pyproject.toml
lock:
	$(LOCK) -o requirements.lock
	$(LOCK) --group dev -o requirements-dev.lock

clean:
	rm -rf .venv build
