# Two commands do everything: make demo, make test.

BIN := var/bin
export CGO_ENABLED = 0
VERSION := $(shell git describe --always --dirty 2>/dev/null || echo development)
LDFLAGS := -X victualler/internal/version.Version=$(VERSION)
CONSOLE := console/dist/app/index.html
CONSOLE_SOURCES := $(shell find console -path console/node_modules -prune -o -path console/dist -prune -o -type f -print)

.PHONY: demo demo-reset test build bench generate

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

$(CONSOLE): $(CONSOLE_SOURCES)
	cd console && npm ci --no-audit --no-fund --loglevel=error && npm run --silent build

## test: everything, on the real programs; needs root
test: build
	cd console && npm run --silent validate
	go vet ./...
	# One package after the other: a network that another one sets up is a change of network for Chromium, which drops its requests.
	go test -p 1 -timeout 40m ./...

## bench: ratios against plain scripts on the same servers, into docs/benchmarks.md
bench: build
	go run ./bench

## generate: code from queries, types from the API description
generate:
	go run github.com/sqlc-dev/sqlc/cmd/sqlc@v1.31.1 generate
	go run ./cmd/victuallerd openapi > docs/openapi.json
	cd console && npm run --silent types
