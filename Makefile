# make demo   install what is missing, build, and start lab, service and console
# make test   install what is missing, and run every test
# make check  formatting, vet, static analysis, known vulnerabilities, types
# make torture operations while everything goes wrong
# make truth  whether what is believed is so, in simulated estates
# make strangers a machine and a viewer of somebody else: emulated, with firmware of its own; and standard
# make soak   an hour of faults and visits, and what the service takes
# make bench  how fast it is, against bare loops in the same run
# make build generate fmt shoot clean

SHELL := /bin/bash
GO ?= go
CONSOLE := web/dist/index.html
WEB_SOURCES := $(shell find web/src web/public web/index.html web/vite.config.ts -type f 2>/dev/null)

.PHONY: demo test torture strangers soak truth check bench build generate fmt packages shoot clean go-build

demo: packages build
	@exec bin/plumb-lab demo

build: $(CONSOLE) go-build

go-build: $(CONSOLE)
	@$(GO) build -o bin/ ./cmd/...

$(CONSOLE): $(WEB_SOURCES) web/node_modules/.installed
	cd web && npm run --silent build
	@touch $@

web/node_modules/.installed: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# Debian's packages: the database server, and the browser for the tests.
packages:
	@scripts/packages

test: packages build
	cd web && npm run --silent test
	$(GO) test -timeout 40m -p 2 -parallel 5 ./...
	@scripts/fuzz

# A thousand operations with everything going wrong: PLUMB_TORTURE_ROUNDS,
# PLUMB_TORTURE_SEEDS. The figures go to docs/reliability.md.
torture: packages build
	PLUMB_TORTURE_ROUNDS=$${PLUMB_TORTURE_ROUNDS:-30} PLUMB_TORTURE_SEEDS="$${PLUMB_TORTURE_SEEDS:-1 2 3 4 5 6}" \
		PLUMB_REPORT=$(CURDIR)/docs/reliability.md $(GO) test -count=1 -timeout 3h -run '^TestTorture$$' -v ./internal/e2e

# An hour of faults, people and operations, and what it takes: PLUMB_SOAK says for how long.
soak: packages build
	PLUMB_SOAK=$${PLUMB_SOAK:-1h} PLUMB_REPORT=$(CURDIR)/docs/reliability.md $(GO) test -count=1 -timeout 3h -run '^TestSoak$$' -v ./internal/e2e

# Whether what is believed is so: years of faults in simulated estates. PLUMB_TRUTH is how
# often each fault comes, PLUMB_TRUTH_SEED where chance begins.
truth:
	PLUMB_TRUTH=$${PLUMB_TRUTH:-60} PLUMB_REPORT=$(CURDIR)/docs/reliability.md $(GO) test -count=1 -timeout 2h -run '^TestTruth$$' -v ./internal/core/truth

# What is not asked of every machine that runs the tests: an emulator, and the fonts of its text.
strangers: packages build
	@scripts/packages qemu-system-x86 seabios console-setup-linux tigervnc-viewer
	$(GO) test -count=1 -tags strangers -run 'SomebodyElse' -v ./internal/gear/rfbgear

check: packages build
	@scripts/check

bench: packages build
	$(GO) test -run '^$$' -bench . -benchtime 2s ./internal/bench/ ./internal/wire/rfb/ ./internal/tell/

generate: web/node_modules/.installed
	$(GO) generate ./...
	cd web && npm run --silent generate

fmt: web/node_modules/.installed
	gofmt -w cmd demo internal profiles scripts web/*.go
	cd web && npm run --silent format

# The pictures in docs/screenshots, of a demo that runs in another terminal.
shoot: packages build
	scripts/screenshots

clean:
	rm -rf bin .demo web/node_modules
	find web/dist -mindepth 1 ! -name .gitkeep -delete
