# What a person does twice. `make demo` and `make test` do all the set-up they need.

PYTHON ?= python3.11
BIN := .venv/bin
READY := .venv/.ready
READY_DEV := .venv/.ready-dev
# The glTF validator of its working group, a validator of SARIF, and the loader of a web engine: judges in the tests, nothing of them ships.
JUDGES := gltf-validator@2.0.0-dev.3.10 @microsoft/sarif-multitool-linux@5.7.0 three@0.187.0

.PHONY: setup demo test lint bench screenshots docs dist clean

setup: $(READY)
	@$(BIN)/oak-trim prepare

$(READY): pyproject.toml constraints.txt
	@command -v $(PYTHON) >/dev/null || { echo "Oak Trim needs Python 3.11: install python3.11 and python3.11-venv."; exit 1; }
	$(PYTHON) -m venv .venv
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e .
	@touch $(READY)

$(READY_DEV): $(READY)
	$(BIN)/pip install --quiet --disable-pip-version-check -c constraints.txt -e '.[dev]'
	@command -v npm >/dev/null && npm install --silent --no-save --prefix .venv/node $(JUDGES) || echo "Without npm, the tests leave out the validators of glTF and SARIF, and a loader of UASTC."
	@touch $(READY_DEV)

demo: setup
	@tools/system-packages --soft
	$(BIN)/oak-trim demo

test: $(READY_DEV)
	@tools/system-packages
	$(BIN)/oak-trim prepare
	$(MAKE) --no-print-directory lint
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m pytest -n 2 --durations=40 --durations-min=8

lint: $(READY_DEV)
	$(BIN)/ruff check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

bench: $(READY_DEV)
	$(BIN)/python -m pytest benchmarks --benchmark-only -p no:xdist -q -s

screenshots: $(READY_DEV)
	QT_QPA_PLATFORM=offscreen $(BIN)/python tools/screenshots.py

docs: $(READY)
	$(BIN)/oak-trim desktop commands > docs/commands.md

# A wheel and a source archive; their version stands in src/oaktrim/__init__.py.
dist: $(READY_DEV)
	$(BIN)/python -m build --outdir dist .

clean:
	rm -rf .venv build dist src/*.egg-info
	find . -name __pycache__ -type d -prune -exec rm -rf {} +
