# Everything a newcomer needs: `make demo` and `make test`. Both set up what they need from Debian packages,
# npm and cargo; they work as root, or with sudo.

SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
# For a build, and for renditions of H.265 feeds.
BUILD_PACKAGES := build-essential pkg-config libvo-aacenc-dev libde265-0
PACKAGES := $(BUILD_PACKAGES) tshark chromium chromium-driver iproute2 faketime systemd curl openssl debootstrap
# dpkg-query fails for packages that it has never heard of; those are missing too.
MISSING = $(shell for p in $(PACKAGES); do dpkg-query -W -f='$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || echo $$p; done)

# Programs for tests, unpacked from their Debian packages: installed, they would run as services.
TOOL_PACKAGES := nginx prometheus
TOOLS := .tools/usr/sbin/nginx .tools/usr/bin/promtool

.PHONY: demo test setup tools console build package lint bench soak screenshots openapi clean

## demo: the service with the railway's stand-in cameras and platforms (the development build: it is there
## sooner; `make build` makes the one to ship)
demo:
	@echo "[1/4] Debian packages: a C++ compiler and two codec libraries"
	@$(MAKE) --no-print-directory setup PACKAGES="$(BUILD_PACKAGES)"
	@echo "[2/4] Web console: npm packages and build (about half a minute)"
	@$(MAKE) --no-print-directory console
	@echo "[3/4] Service: compiling (about ten minutes on two cores the first time)"
	cargo build --locked -p yonder
	@echo "[4/4] Starting the service with its demo data"
	./target/debug/yonder demo --home .demo

# Tests mostly wait, for media and timeouts, so that many more run at a time than there are processors.
RUST_TEST_THREADS ?= 6

## test: every test, on the real program, with a browser and a protocol analyser
test: export RUST_TEST_THREADS := $(RUST_TEST_THREADS)
test: setup tools console
	cd console && npm run test
	cargo test --workspace --locked

## setup: Debian packages that building and testing need
setup:
	@missing="$(strip $(MISSING))"; if [ -n "$$missing" ]; then \
		echo "Installing $$missing"; \
		$(SUDO) apt-get update -qq && \
		$(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing; \
	fi

## tools: a proxy and a checker of metrics, for tests
tools: $(TOOLS)

$(TOOLS) &:
	@echo "Unpacking $(TOOL_PACKAGES)" && $(SUDO) apt-get update -qq
	@mkdir -p .tools/packages && cd .tools/packages && apt-get download -qq $(TOOL_PACKAGES)
	@for package in .tools/packages/*.deb; do dpkg-deb --extract $$package .tools || exit 1; done
	@rm -r .tools/packages && touch $(TOOLS)

## console: the web console, which becomes part of the program
console: console/dist/index.html

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
# Not `npm ci`: it refuses a lock file without the optional parts of other systems.
	cd console && npm install --no-save --no-audit --no-fund
	@touch $@

CONSOLE_SOURCES := $(shell find console/src console/watch console/public -type f) console/index.html console/vite.config.ts console/vite.watch.config.ts console/tsconfig.json

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	cd console && npm run build
	@touch $@

## build: the program as it is shipped
build: console
	cargo build --release --locked -p yonder

## package: a Debian package in target/package, of the program as it is shipped
package: build
	packaging/build-deb target/release/yonder target/package

## lint: formatting, lints with warnings denied, documentation, console types, language
lint: console
	cargo fmt --all --check
	cargo clippy --workspace --all-targets --locked -- -D warnings
	RUSTDOCFLAGS="-D warnings" cargo doc --workspace --no-deps --document-private-items --locked --quiet
	cd console && npm run types -- --check && npm run check
	node scripts/prose-check.mjs

## bench: every figure, most of them against the floor; the soak takes an hour and has to be asked for
BENCH := ./target/release/yonder-bench
bench:
	cargo build --release --locked -p yonder-bench -p yonder
	for over in rtmp srt; do for pushes in 1 4 16; do $(BENCH) relay --over $$over --pushes $$pushes || exit 1; done; done
	for figure in delay memory cores ingest viewers reboots stalled starts changes overhead rendition; do $(BENCH) $$figure || exit 1; done

## soak: an hour of faults, drawn at random
soak:
	cargo build --release --locked -p yonder-bench -p yonder
	$(BENCH) soak

## openapi: the API's description, and the console's types made from it
openapi: console/node_modules/.package-lock.json
	cargo run --quiet --locked -p yonder -- openapi > docs/reference/openapi.json.new
	mv docs/reference/openapi.json.new docs/reference/openapi.json
	cd console && npm run types

## screenshots: the pictures in docs/screenshots
screenshots: setup console
	cargo build --locked -p yonder
	YONDER_SCREENSHOTS=$(CURDIR)/docs/screenshots cargo test --locked -p yonder --test console -- --test-threads=1

clean:
	cargo clean
	rm -rf console/dist console/dist-watch console/node_modules .demo
