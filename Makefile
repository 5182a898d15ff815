# Puente: what developers and CI run. Each target says what it installs.

CARGO ?= cargo
CONSOLE_SOURCES := $(shell find console/src console/index.html console/*.ts console/*.js console/package-lock.json 2>/dev/null)

CLIENT_PACKAGES := clients/javascript/node_modules/.package-lock.json
PYTHON_CLIENT := clients/python/.venv/installed

.PHONY: demo test test-clients test-package package check build bench fuzz attack console build-packages bench-packages test-packages package-packages screenshots

## The whole product, console included, in target/release/puente.
build: build-packages console/dist/index.html
	$(CARGO) build --release --locked

## Builds, then serves the mountain huts from the embedded database.
demo: build
	target/release/puente demo

## Everything tested: units, service over a socket, command line, console in Chromium, servers, the oracle.
test: build-packages test-packages console/dist/index.html $(CLIENT_PACKAGES)
	$(CARGO) test --workspace --locked

## The service driven by every client of docs/clients.md, those of Python and Rust included.
test-clients: build-packages test-packages console/dist/index.html $(CLIENT_PACKAGES) $(PYTHON_CLIENT)
	$(CARGO) test --locked -p puente --test clients -- --include-ignored

## A Debian package and a container image, into target/package; installs the tools that build them.
package: build package-packages
	package/build

## The package installed, served, upgraded and removed on a fresh Debian 12, and the image without an engine. Needs root.
test-package: build test-packages package-packages
	$(CARGO) test --locked -p puente --test package -- --include-ignored --test-threads 1

## Format and lints, in Rust and in TypeScript; also of builds with one engine alone, and without MongoDB.
ENGINE_FEATURES = sqlite postgres mariadb mongodb
check: build-packages console/dist/index.html
	$(CARGO) fmt --all --check
	$(CARGO) clippy --workspace --all-targets --locked -- -D warnings
	for engine in $(ENGINE_FEATURES); do \
		$(CARGO) clippy -p puente-sources --no-default-features --features $$engine --locked -- -D warnings || exit 1; \
	done
	$(CARGO) clippy -p puente --no-default-features --locked -- -D warnings
	cd console && npm run --silent check

## Measures against two rivals; see bench/README.md. ENGINES=postgres measures there only.
bench: build-packages bench-packages console/dist/index.html
	$(CARGO) run --release --locked -p puente-bench -- $(ENGINES)

## Gives random inputs to whatever reads from outside, each target for so many minutes, all of them at once.
MINUTES ?= 1
fuzz: build-packages console/dist/index.html
	PUENTE_FUZZ_MINUTES=$(MINUTES) $(CARGO) test --locked -p puente-service --test fuzz -- --nocapture --test-threads 8
	PUENTE_FUZZ_MINUTES=$(MINUTES) $(CARGO) test --locked -p puente-sources --lib wire -- --nocapture

## Attacks a running demo for so many minutes, and watches what a bystander has of it.
attack: build
	$(CARGO) run --release --locked -p puente-attack -- $(MINUTES)

console: console/dist/index.html

console/dist/index.html: $(CONSOLE_SOURCES) console/node_modules/.package-lock.json
	cd console && npm run --silent build

console/node_modules/.package-lock.json: console/package-lock.json
	@echo "installing the console's packages from npm, as pinned in console/package-lock.json"
	cd console && npm ci --no-audit --no-fund

$(CLIENT_PACKAGES): clients/javascript/package-lock.json
	@echo "installing the clients that tests drive from npm, as pinned in clients/javascript/package-lock.json"
	cd clients/javascript && npm ci --no-audit --no-fund --loglevel=error

$(PYTHON_CLIENT): clients/python/requirements.txt
	@echo "installing the Python client that tests drive from PyPI, as pinned in clients/python/requirements.txt"
	python3 -m venv clients/python/.venv
	clients/python/.venv/bin/pip install --quiet --requirement clients/python/requirements.txt
	@touch $@

build-packages:
	@scripts/install-packages build

package-packages:
	@scripts/install-packages package

bench-packages:
	@scripts/install-packages bench
	@scripts/install-document-server

test-packages:
	@scripts/install-packages test
	@scripts/install-document-server

## Takes the pictures of docs/screenshots again.
screenshots: build test-packages
	scripts/screenshots
