# Two commands on a fresh machine: Python 3.11 or newer and make are all they need.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
TESTS := $(BIN)/python -W error::ResourceWarning -m tests
# `make test ROOM=mime` (or quick, or proofs) runs the tests of one room.
ROOM ?=
ROOMS := $(if $(ROOM),--rooms $(ROOM))
# Everything that is installed is pinned, with hashes, in here; `make lock` writes it anew.
LOCK := requirements/pinned.txt

.PHONY: demo test quick proofs lint lint-javascript format examples benchmarks hostile screenshots pictures lock set-up build clean

demo: set-up
	$(BIN)/pribble demo --out build/demo

# Everything but the proofs: under four minutes on two processors.
test: set-up
	$(TESTS) test $(ROOMS)

# Every room, with fewer generated cases: an answer in less than a minute.
quick: set-up
	$(TESTS) quick $(ROOMS)

# What is long by nature: a browser over many pages, real servers, a checker of accessibility (which npm brings).
proofs: set-up $(if $(shell command -v npm),tools/javascript/node_modules/installed)
	$(TESTS) proofs $(ROOMS)

lint: set-up
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

# The scripts of the preview; the linter is from npm, and nothing of it is in the package.
lint-javascript: tools/javascript/node_modules/installed
	cd src/pribble/review/preview/assets && $(CURDIR)/tools/javascript/node_modules/.bin/eslint --max-warnings 0 \
		--config $(CURDIR)/tools/javascript/eslint.config.js .

tools/javascript/node_modules/installed: tools/javascript/package-lock.json
	cd tools/javascript && npm ci --silent --no-audit --no-fund
	touch $@

format: set-up
	$(BIN)/ruff check --fix .
	$(BIN)/ruff format .

examples: set-up
	set -e; for example in examples/*.py; do echo "== $$example"; $(BIN)/python $$example; done

benchmarks: set-up
	$(BIN)/python -m benchmarks

hostile: set-up
	$(BIN)/python -m benchmarks.hostile

screenshots: set-up
	$(BIN)/python -m tools.screenshots

pictures: set-up
	$(BIN)/python tools/draw_pictures.py

build: set-up
	rm -rf build/dist
	$(BIN)/python -m build --no-isolation --outdir build/dist .

# Moves every pin to the newest release that pyproject.toml permits, and the lowest ones to what it asks for at least.
lock: build/uv/installed
	build/uv/bin/uv pip compile $(RESOLVE) requirements/uv.in -o requirements/uv.txt
	build/uv/bin/uv pip compile $(RESOLVE) --extra test --extra examples --extra lint --extra build pyproject.toml -o $(LOCK)
	build/uv/bin/uv pip compile $(RESOLVE) --extra test --extra build --resolution lowest-direct pyproject.toml \
		-o requirements/lowest.txt

RESOLVE := --quiet --system-certs --upgrade --universal --python-version 3.11 --generate-hashes --no-annotate \
	--no-emit-package pribble --custom-compile-command "make lock"

# uv resolves the locks, and sets up the further environments of .ci/run.
build/uv/installed: requirements/uv.txt
	$(PYTHON) -m venv build/uv
	build/uv/bin/python -m pip install --quiet --disable-pip-version-check --require-hashes -r requirements/uv.txt
	touch $@

set-up: $(VENV)/installed

$(VENV)/installed: $(LOCK) pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Pribble needs Python 3.11 or newer; try: make PYTHON=python3.11 ...")'
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	# dkimpy, which judges signatures, has no wheel: what builds it is the pinned setuptools, and no newer one.
	mkdir -p build && sed -n '/^setuptools==/,/[^\\]$$/p' $(LOCK) > build/setuptools.txt
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes -r build/setuptools.txt
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --require-hashes --no-build-isolation -r $(LOCK)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation --editable .
	touch $@

clean:
	rm -rf build $(VENV) .mypy_cache .ruff_cache .hypothesis
