# Inkret. `make demo` shows it, `make test` tests it; both set up what they need.
.PHONY: build console demo test test-go bench lint generate check-generated screenshots fuzz clean

GO ?= go
export CGO_ENABLED = 0

REVISION := $(shell git rev-parse --short=12 HEAD 2>/dev/null)

build: console ## the program with its console, at bin/inkret
	$(GO) build -trimpath -ldflags "-s -w -X inkret/cli.revision=$(REVISION)" -o bin/inkret ./cmd/inkret

console: console/dist/index.html.gz

CONSOLE_SOURCES := $(shell find console/src console/public -type f) console/index.html console/vite.config.ts console/package-lock.json

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	@touch $@

console/dist/index.html.gz: console/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	cd console && npm run build
	find console/dist -type f ! -name .keep -exec gzip -9nf {} +

demo: build ## the harbour of Fennick Quay, made up
	bin/inkret demo

test: console chromium postgresql wget ## every test
	$(GO) test -timeout 30m $(TESTFLAGS) ./...

.PHONY: chromium
chromium: # headless Chromium for the console's tests, from Debian's packages where it is missing
	@command -v chromium >/dev/null || command -v "$${CHROMIUM:-none}" >/dev/null || { apt-get update && apt-get install -y --no-install-recommends chromium fonts-dejavu-core; }

.PHONY: postgresql
postgresql: # a PostgreSQL server for the tests of reading tables, from Debian's packages where it is missing; the tests start it
	@ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || { apt-get update && DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends postgresql; }

.PHONY: wget
wget: # the test of reading what it writes runs it
	@command -v wget >/dev/null || { apt-get update && apt-get install -y --no-install-recommends wget; }

.PHONY: race
race: ## the recorder's tests with the race detector, which needs a C compiler
	@command -v gcc >/dev/null || { apt-get update && apt-get install -y --no-install-recommends gcc libc6-dev; }
	CGO_ENABLED=1 $(GO) test -race -timeout 20m ./record

bench: ## every benchmark, as ratios in one run
	$(GO) run ./bench

lint: console/node_modules/.package-lock.json
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck -checks all ./...
	$(GO) mod tidy -diff
	$(GO) vet -tags screenshots ./e2e
	cd console && npm run check

generate: console/node_modules/.package-lock.json ## server, client and console types from api/openapi.yaml
	$(GO) tool oapi-codegen -config api/wire.cfg.yaml api/openapi.yaml
	$(GO) tool oapi-codegen -config api/server.cfg.yaml api/openapi.yaml
	$(GO) tool oapi-codegen -config api/client.cfg.yaml api/openapi.yaml
	cd console && npm run generate

check-generated: generate ## fails when what is generated is not fresh
	git diff --exit-code -- api/wire/wire.gen.go api/serve/serve.gen.go client/client.gen.go console/src/api/schema.gen.ts

screenshots: console chromium ## the pictures in docs/screenshots, anew
	@command -v xterm >/dev/null && command -v Xvfb >/dev/null && command -v import >/dev/null || apt-get install -y --no-install-recommends xvfb xterm imagemagick
	INKRET_SCREENSHOTS=$(CURDIR)/docs/screenshots $(GO) test -tags screenshots ./e2e -run TestScreenshots -count=1

clean:
	rm -rf bin console/node_modules console/dist/*
