# What a person types here. Everything that is needed beyond Go and Node is
# installed by scripts/install, which says what it does.

SHELL := /bin/bash
GO ?= go
BIN := bin/vergekeep
CONSOLE := console/dist/index.html
CONSOLE_SOURCES := $(shell find console/src console/public console/index.html console/*.json console/*.ts -type f 2>/dev/null)
TOOL := $(GO) tool -modfile=tools/go.mod

.PHONY: help build demo tour test test-fast test-race test-real test-console lint format generate bench screenshots clean FORCE

help: ## what there is
	@grep -hE '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 16

build: $(CONSOLE) $(BIN) ## the console and the one binary

$(BIN): FORCE
	@mkdir -p bin
	$(GO) build -trimpath -tags nomsgpack -ldflags="-s -w" -o $(BIN) ./cmd/vergekeep

console/node_modules/.installed: console/package.json console/package-lock.json
	@echo "installing the console's packages from the npm registry"
	@# Not "npm ci": it refuses a lock file without the optional packages of other machines.
	@cd console && npm install --no-audit --no-fund --loglevel=error
	@touch $@

console/budgets/node_modules/.installed: console/budgets/package.json
	@echo "installing Lighthouse from the npm registry"
	@cd console/budgets && npm install --no-audit --no-fund --no-package-lock --loglevel=error
	@touch $@

$(CONSOLE): console/node_modules/.installed $(CONSOLE_SOURCES)
	@cd console && npm run --silent build

demo: build ## the service on a made-up network, with thirty days of history
	@exec $(BIN) demo

tour: build ## one complete example that ends by itself
	@$(BIN) demo --tour

test: test-fast test-race test-real test-console ## everything; ends with the counts
	@scripts/count

test-fast: $(CONSOLE) ## what to run at every save
	@scripts/install patch git pdf
	@scripts/gotest fast ./...

test-race: $(CONSOLE) ## the race detector over core, wire, archive and service
	@scripts/install patch git pdf
	@scripts/gotest race -race ./core/... ./wire/... ./store/... ./archive/... ./service/... ./daemon/... ./standin/...

test-real: build ## against real open-source systems
	@scripts/install ssh frr netconfd nft ovs netns patch snmp rsyslog openssl
	@scripts/gotest real -tags real ./real/...

test-console: build console/budgets/node_modules/.installed ## the console's units, and the whole of it in headless Chromium
	@scripts/install chromium
	@cd console && npx --no-install vitest run
	@scripts/gotest console -tags console ./console/...

lint: console/node_modules/.installed ## formatting, vetting, static checks of Go and console
	@scripts/lint

format: console/node_modules/.installed ## formats everything
	gofmt -w $$(git ls-files '*.go')
	cd console && npx --no-install prettier --write .

generate: console/node_modules/.installed ## the code that comes from the contract
	$(TOOL) oapi-codegen -config api/gen/config.yaml api/openapi.yaml
	$(TOOL) oapi-codegen -config client/gen/config.yaml api/openapi.yaml
	cd console && npx --no-install openapi-typescript ../api/openapi.yaml -o src/api/contract.gen.ts

bench: build ## the benchmarks; NAME=… runs one, CORPUS=… takes its texts
	@scripts/install ssh diff git rg
	@$(GO) run ./bench $(if $(NAME),-name $(NAME)) $(if $(CORPUS),-corpus $(CORPUS))

screenshots: build ## every picture of docs/screenshots again
	@scripts/install chromium terminal
	@$(GO) run ./demo/pictures

clean:
	rm -rf bin console/dist/* console/node_modules console/budgets/node_modules
	@touch console/dist/.keep
