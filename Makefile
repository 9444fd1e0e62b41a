# Two commands do everything: make demo, make test.

BIN := var/bin
export CGO_ENABLED = 0
SHELL := /bin/bash -o pipefail
VERSION := $(shell git describe --always --dirty 2>/dev/null || echo development)
LDFLAGS := -X victualler/internal/version.Version=$(VERSION)
CONSOLE := console/dist/app/index.html
MODULES := console/node_modules/.package-lock.json
GO_FILES := $(shell find . -name node_modules -prune -o -name var -prune -o -name '*.go' -print)
CONSOLE_SOURCES := $(shell find console -path console/node_modules -prune -o -path console/dist -prune -o -type f -print)

# As many packages are tested side by side: most of their time they wait for servers. What attacks do
# to neighbours is measured, and how long pages take; these have the machine to themselves.
TEST_PACKAGES ?= 3
ALONE := victualler/e2e/attacks victualler/e2e/budgets

.PHONY: packages demo demo-reset check check-go check-tests check-console test build bench generate format

## demo: start the demo and stay in the foreground; Ctrl-C stops everything
demo: build
	@$(BIN)/victualler-lab demo

## demo-reset: forget the demo's data
demo-reset: build
	@$(BIN)/victualler-lab reset

## build: console and programs into var/bin
build: $(CONSOLE)
	@mkdir -p $(BIN)
	go build -ldflags '$(LDFLAGS)' -o $(BIN)/ ./cmd/...

$(CONSOLE): $(CONSOLE_SOURCES) $(MODULES)
	cd console && npm run --silent build

$(MODULES): console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error

## packages: install what tests and demo need of Debian
packages: build
	@$(BIN)/victualler-lab packages

## check: the inner loop: formats, vets, lints, and tests what needs neither root nor servers
check: $(MODULES)
	@$(MAKE) --no-print-directory --output-sync=target -j3 check-go check-tests check-console

check-go:
	@test -z "$$(gofmt -l $(GO_FILES))" || { echo "not formatted (make format):"; gofmt -l $(GO_FILES); exit 1; }
	go vet ./...
	go tool staticcheck ./...

check-tests:
	go run ./internal/store/storetest/with go test -short ./... | grep -v 'no test files'

check-console: $(MODULES)
	cd console && npm run --silent lint && npm run --silent test && npm run --silent validate

## format: what check wants of the looks of files
format: $(MODULES)
	gofmt -w $(GO_FILES)
	cd console && npm run --silent format

## test: everything, on the real programs; needs root
test: build packages check
	go test -p $(TEST_PACKAGES) -timeout 40m $(filter-out $(ALONE),$(shell go list ./...))
	go test -p 1 -timeout 20m $(ALONE)

## bench: ratios against plain scripts on the same servers, into docs/benchmarks.md
bench: build
	go run ./bench

## generate: code from queries, types from the API description
generate:
	go tool sqlc generate
	go run ./cmd/victuallerd openapi > docs/openapi.json
	cd console && npm run --silent types
