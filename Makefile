# Lucid Relic: `make demo` to try it, `make test` to check it.
PY := .venv/bin/python
PIP := .venv/bin/pip
MANAGE := $(PY) server/manage.py
export LUCID_RELIC_CACHE ?= $(CURDIR)/data/cache/models
PORT ?= 8765

.PHONY: setup setup-test warm demo run build migrate test test-core lint format types licences bench api clean

setup: .venv/.done web/node_modules/.done

.venv/.done: requirements.lock pyproject.toml
	test -x $(PY) || python3 -m venv .venv
	$(PIP) install --quiet --disable-pip-version-check -r requirements.lock
	$(PIP) install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	touch $@

web/node_modules/.done: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --ignore-scripts
	touch $@

setup-test: setup
	@command -v chromium >/dev/null && command -v chromedriver >/dev/null && test -x /usr/sbin/nginx || \
	  (apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq chromium chromium-driver nginx-light openssl)

data/cache/reference/hippo1.ply:
	mkdir -p $(@D)/unpacked
	cd $(@D)/unpacked && (apt-get download -qq libcgal-demo || (apt-get update -qq && apt-get download -qq libcgal-demo))
	cd $(@D)/unpacked && dpkg -x libcgal-demo*.deb . && \
	  tar -xzf usr/share/doc/libcgal-dev/data.tar.gz -C .. --strip-components=2 data/points_3/hippo1.ply data/points_3/hippo2.ply
	rm -rf $(@D)/unpacked

build: web/dist/index.html

web/dist/index.html: web/node_modules/.done $(shell find web/src web/public web/turning web/index.html web/vite.config.ts web/vite.turning.config.ts -type f)
	cd web && npm run --silent build

migrate: setup
	$(MANAGE) migrate --verbosity 0

warm: setup
	$(PY) -m lucid_relic.demo.warm

demo: setup build migrate warm
	LUCID_RELIC_DEMO=1 $(MANAGE) demo_data
	LUCID_RELIC_DEMO=1 $(MANAGE) serve --port $(PORT)

run: setup build migrate warm
	$(MANAGE) serve --port $(PORT)

test: setup-test build warm data/cache/reference/hippo1.ply
	cd web && npm run --silent test
	$(PY) -m pytest

test-core: setup data/cache/reference/hippo1.ply
	$(PY) -m pytest tests/core

lint: setup
	.venv/bin/ruff check .
	.venv/bin/ruff format --check .
	.venv/bin/lint-imports
	cd web && npm run --silent lint

format: setup
	.venv/bin/ruff format .
	.venv/bin/ruff check --fix .
	cd web && npm run --silent format

types: setup
	.venv/bin/mypy
	cd web && npm run --silent types

api: setup
	$(MANAGE) spectacular --file docs/openapi.yaml
	cd web && npm run --silent api

licences: setup
	$(PY) benchmarks/licences.py

.venv-bench/.done: requirements.lock pyproject.toml
	test -x .venv-bench/bin/python || python3 -m venv .venv-bench
	.venv-bench/bin/pip install --quiet --disable-pip-version-check -r requirements.lock
	.venv-bench/bin/pip install --quiet --disable-pip-version-check --no-build-isolation -e .[bench]
	apt-get install -y -qq libusb-1.0-0
	touch $@

bench: .venv-bench/.done data/cache/reference/hippo1.ply
	.venv-bench/bin/python benchmarks/run.py

clean:
	rm -rf .venv web/node_modules web/dist data
