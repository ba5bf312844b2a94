# Two commands for a newcomer: make demo, make test.
PYTHON ?= python3
VENV   ?= .venv
BIN    := $(VENV)/bin
STAMP  := $(VENV)/.installed

.PHONY: demo test lint bench screenshots docs clean

demo: $(STAMP)
	$(BIN)/zapato demo --out zapato-demo

test: $(STAMP) lint
	$(BIN)/python -m pytest -n 2

lint: $(STAMP) $(VENV)/stubs/.installed
	$(BIN)/ruff check src tests benchmarks tools
	$(BIN)/lint-imports
	$(BIN)/pyright
	$(BIN)/python tools/runtime_types.py $(VENV)/stubs

bench: $(STAMP)
	$(BIN)/python benchmarks/run.py

docs: $(STAMP)
	$(BIN)/python tools/reference.py

screenshots: $(STAMP)
	tools/screenshots
	$(BIN)/python tools/link_timing.py
	$(BIN)/python tools/pages.py

# The environment is made anew when the project's own list of packages changes.
$(STAMP): pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit(0 if sys.version_info >= (3, 11) else "Zapato needs Python 3.11 or newer; name one with: make demo PYTHON=python3.12")'
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	@touch $(STAMP)

# The published stubs of each MicroPython port, to type-check the runtime against the vendors' real modules.
$(VENV)/stubs/.installed: $(STAMP)
	for port in esp32 esp8266 rp2; do \
	  $(BIN)/python -m pip install --quiet --disable-pip-version-check --upgrade --target $(VENV)/stubs/$$port "micropython-$$port-stubs>=1.27" || exit 1; \
	done
	@touch $@

clean:
	rm -rf $(VENV) zapato-demo out
