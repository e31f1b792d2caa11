PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PLAIN := $(VENV)/.plain
READY := $(VENV)/.ready
PIP := $(BIN)/python -m pip install --quiet --disable-pip-version-check

.PHONY: site demo test suite test-long test-lowest coverage lint style types format bench bench-quick bench-large bench-codecs bench-restorations bench-experiments bench-sweeps bench-setup bench-starts screenshots docs reliability misuse mutations release clean

# Bytecode is kept: without it every process compiles each module again, which takes a second.
unexport PYTHONDONTWRITEBYTECODE

# The program alone: enough for the demo. Python compiles what is imported, when it is.
$(PLAIN): pyproject.toml
	@$(PYTHON) -c 'import sys; sys.exit(sys.version_info < (3, 11))' \
		|| { echo "Magnetite needs Python 3.11 or later; name one with: make PYTHON=python3.12"; exit 1; }
	$(PYTHON) -m venv $(VENV)
	$(PIP) --no-compile --editable .
	@touch $@

$(READY): $(PLAIN)
	$(PIP) --no-compile --editable '.[test]'
	@touch $@

demo: $(PLAIN)
	$(BIN)/magnetite demo magnetite-demo

# Types are checked while the tests run.
test: style
	@$(MAKE) --no-print-directory --jobs=2 types suite

suite: $(READY)
	$(BIN)/python -m pytest -n 2 --dist worksteal

test-long: lint
	$(BIN)/python -m pytest -n 2 --dist worksteal -m ''

# Traced programs are slow and write files at their end: tests of time limits and full disks fail.
coverage: $(READY)
	$(PIP) --no-compile 'pytest-cov>=7'
	-$(BIN)/python -m pytest -n 2 --dist worksteal --cov --cov-report= \
		--deselect tests/cli/test_hostile_input.py::test_a_command_ends_with_the_program
	$(BIN)/python docs/make_coverage.py docs/coverage.json

lint: style types

style: $(READY)
	$(BIN)/ruff check --no-cache .
	$(BIN)/ruff format --check .
	$(BIN)/lint-imports

types: $(READY)
	$(BIN)/mypy

format: $(READY)
	$(BIN)/ruff check --fix .
	$(BIN)/ruff format .

bench: $(READY)
	$(BIN)/magnetite prepare
	$(BIN)/python benchmarks/suite.py --json benchmarks/measured.json
	$(BIN)/python benchmarks/performance.py benchmarks/measured.json docs/performance.md

bench-quick: $(READY)
	$(BIN)/python benchmarks/suite.py --quick

bench-large: $(READY)
	$(BIN)/python benchmarks/large.py

bench-codecs: $(READY)
	$(BIN)/python benchmarks/codecs.py $(PHOTOS)

bench-restorations: $(READY)
	$(BIN)/python benchmarks/restorations.py $(PHOTOS)

bench-experiments: $(READY)
	$(BIN)/python benchmarks/experiments.py

bench-setup: $(PLAIN)
	$(BIN)/python benchmarks/setup.py .venv/.plain demo .venv/.ready

bench-starts: $(READY)
	$(BIN)/python benchmarks/starts.py

bench-sweeps: $(READY)
	$(BIN)/python benchmarks/sweeps.py

docs: $(READY)
	$(BIN)/magnetite methods --format markdown > docs/methods.md
	$(BIN)/python docs/make_degradations.py docs
	$(BIN)/python docs/make_metrics.py docs
	$(BIN)/python docs/make_codecs.py docs
	$(BIN)/python docs/make_restorations.py docs

# The lowest versions of all dependencies that are declared.
test-lowest:
	$(PYTHON) -m venv $(VENV)-lowest
	$(VENV)-lowest/bin/python -m pip install --quiet --disable-pip-version-check uv
	$(VENV)-lowest/bin/uv pip install --quiet --python $(VENV)-lowest/bin/python \
		--resolution lowest-direct --editable '.[test]'
	$(VENV)-lowest/bin/python -m pytest -n 2 --dist worksteal

# Wheel, source archive, bill of materials and checksums.
release: $(READY)
	rm -rf dist
	$(PIP) build cyclonedx-bom
	$(BIN)/python -m build --outdir dist
	$(PYTHON) -m venv dist/.env
	dist/.env/bin/python -m pip install --quiet --disable-pip-version-check dist/*.whl
	$(BIN)/cyclonedx-py environment dist/.env/bin/python --output-file dist/magnetite.cdx.json
	rm -rf dist/.env
	cd dist && sha256sum * > SHA256SUMS

misuse: $(READY)
	$(BIN)/python tests/misuse.py 60 1

mutations: $(READY)
	$(PIP) --no-compile 'pytest-cov>=7'
	$(BIN)/python tests/mutations.py

reliability: $(READY)
	$(BIN)/python docs/make_reliability.py docs

site: $(READY)
	$(PIP) --editable '.[docs]'
	$(BIN)/mkdocs build

screenshots: $(READY)
	$(BIN)/python docs/make_screenshots.py docs/screenshots

clean:
	rm -rf $(VENV) $(VENV)-lowest magnetite-demo site dist
