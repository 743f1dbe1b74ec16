# Two commands on a fresh machine: `make demo` and `make test`. The others are their parts.

MAKEFLAGS += --no-builtin-rules
SHELL := /bin/bash
GO := go
CONSOLE_SOURCES := $(shell find console/src console/public console/index.html console/*.json console/*.ts -type f 2>/dev/null)

.PHONY: help build demo test check-go check-console test-go agents chaos bench fuzz screenshots clean

help: ## list the targets
	@grep -E '^[a-z-]+:.*##' Makefile | sed -E 's/:.*## /\t/' | expand -t 16

build: bin/oskeld ## one binary, bin/oskeld, with the console in it

bin/oskeld: FORCE console/dist/index.html
	@scripts/need tools
	$(GO) build -trimpath -o bin/oskeld ./cmd/oskeld

agents: console/dist/index.html ## the same for agents on Windows and macOS
	GOOS=windows GOARCH=amd64 $(GO) build -trimpath -o bin/oskeld-windows-amd64.exe ./cmd/oskeld
	GOOS=darwin GOARCH=arm64 $(GO) build -trimpath -o bin/oskeld-darwin-arm64 ./cmd/oskeld

FORCE:

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	@scripts/need tools
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# The console's types are made from the service's own description.
console/src/lib/api-types.ts: docs/openapi.json console/node_modules/.package-lock.json
	cd console && npm run --silent api

console/dist/index.html: console/node_modules/.package-lock.json console/src/lib/api-types.ts $(CONSOLE_SOURCES)
	cd console && npm run --silent build

demo: ## build, start everything with the demo's data; ONCE=1 ends with a summary
	@scripts/need tools postgres python sandbox
	@$(MAKE) --no-print-directory --silent build
	@bin/oskeld demo $(if $(ONCE),--once) $(if $(PORT),--port $(PORT)) $(if $(DIR),--dir $(DIR))

test: ## install what is missing, then check and test everything
	@scripts/need tools postgres chromium python curl sandbox
	@$(MAKE) --no-print-directory build
	@$(MAKE) --no-print-directory check-go check-console agents test-go

check-go:
	@out=$$(gofmt -l $$(git ls-files --cached --others --exclude-standard '*.go')); if [ -n "$$out" ]; then echo "gofmt would change: $$out"; exit 1; fi
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

check-console: console/node_modules/.package-lock.json console/src/lib/api-types.ts
	cd console && npm run --silent check && npm run --silent lint

test-go: console/dist/index.html
	$(GO) test -timeout 14m ./...

bench: build ## measure speed against floors taken in the same run
	@scripts/need postgres
	$(GO) run ./bench

chaos: ## let every fault strike at 1,000 random moments; takes hours
	@scripts/need tools postgres
	OSKELD_CHAOS=1000 $(GO) test -timeout 0 -count=1 -run TestChaos -v ./test

fuzz: ## fuzz every parser for a minute each
	@for f in $$(grep -rlE '^func Fuzz' --include='*_test.go' internal); do \
	  for name in $$(grep -oE '^func Fuzz[A-Za-z]+' $$f | cut -c6-); do \
	    $(GO) test -run '^$$' -fuzz "^$$name$$" -fuzztime 1m -fuzzminimizetime 20x ./$$(dirname $$f) || exit 1; done; done

screenshots: build ## renew docs/screenshots from the demo
	@scripts/need postgres chromium python
	$(GO) run ./docs/picture

clean: ## remove what was built
	rm -rf bin console/src/lib/api-types.ts console/dist/assets console/dist/index.html console/dist/favicon.svg console/node_modules
