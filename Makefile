# Two commands on a fresh machine: Python 3.11 or newer and make are all they need.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test lint examples screenshots pictures clean

demo: $(VENV)/installed
	$(BIN)/pribble demo --out build/demo

test: $(VENV)/installed
	$(BIN)/python -W error::ResourceWarning -m unittest discover -s tests -t .

lint: $(VENV)/installed
	$(BIN)/ruff check .
	$(BIN)/mypy

examples: $(VENV)/installed
	set -e; for example in examples/*.py; do echo "== $$example"; $(BIN)/python $$example; done

screenshots: $(VENV)/installed
	$(BIN)/python -m tools.screenshots

pictures: $(VENV)/installed
	$(BIN)/python tools/draw_pictures.py

$(VENV)/installed: pyproject.toml
	$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11) and "Pribble needs Python 3.11 or newer; try: make PYTHON=python3.11 ...")'
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[calendar,charts,test,lint]'
	touch $@

clean:
	rm -rf build $(VENV) .mypy_cache .ruff_cache .hypothesis
