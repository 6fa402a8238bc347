# Two commands do everything: `make demo` and `make test`.
SHELL := /bin/bash
.DEFAULT_GOAL := help
OUT := out
ARGS ?=
export DOTNET_CLI_TELEMETRY_OPTOUT := 1
export DOTNET_NOLOGO := 1
export DOTNET_CLI_UI_LANGUAGE := en
# Build servers that outlive the command would keep a CI job open.
export MSBUILDDISABLENODEREUSE := 1
DOTNET_FLAGS := -v q --nologo -p:UseSharedCompilation=false
AOT := $(DOTNET_FLAGS) -c Release -r linux-x64

CORE_SRC := $(shell find src/Umbrek.Core src/Umbrek.Wire -name '*.cs' -o -name '*.csproj' 2>/dev/null) Directory.Build.props Directory.Packages.props
src_of = $(shell find src/$(1) -name '*.cs' -o -name '*.csproj' 2>/dev/null)
CONSOLE_SRC := $(shell find console/src console/public console/index.html console/*.json console/*.ts console/*.js -type f 2>/dev/null)

.PHONY: help setup setup-test setup-bench build demo test bench screenshots openapi materials format lint clean

help: ## Lists what there is to make.
	@grep -E '^[a-z-]+:.*##' Makefile | sed -E 's/:.*## /\t/' | expand -t 14

setup: ## Installs what building and the demo need.
	@scripts/setup.sh demo

setup-test: ## Installs what the tests need.
	@scripts/setup.sh test

setup-bench: ## Installs what the benchmarks need.
	@scripts/setup.sh bench

build: $(OUT)/bin/umbrekd $(OUT)/bin/umbrek $(OUT)/bin/umbrek-agent $(OUT)/bin/umbrek-sim ## Builds the four programs into out/bin.

$(OUT)/bin/umbrekd: $(CORE_SRC) $(call src_of,Umbrek.Service) $(OUT)/console/index.html $(OUT)/bin/umbrek-agent
	# Compiled ahead, with the runtime beside it: a server needs no .NET, and the first requests do not wait seconds for the compiler.
	# From nothing each time: what was compiled ahead in another way before would be taken for whole, and what is gone would go along.
	rm -rf $(OUT)/lib/umbrekd $(OUT)/build/obj/Umbrek.Service/release_linux-x64/R2R
	dotnet publish src/Umbrek.Service $(DOTNET_FLAGS) -c Release -r linux-x64 --self-contained true -p:PublishReadyToRun=true -o $(OUT)/lib/umbrekd
	rm -rf $(OUT)/lib/umbrekd/console && cp -r $(OUT)/console $(OUT)/lib/umbrekd/console
	install -D -m 755 $(OUT)/bin/umbrek-agent $(OUT)/lib/umbrekd/agent/linux-x64/umbrek-agent
	mkdir -p $(OUT)/bin && ln -sfn ../lib/umbrekd/umbrekd $@ && touch $(OUT)/lib/umbrekd/umbrekd

$(OUT)/bin/umbrek-agent: $(CORE_SRC) $(call src_of,Umbrek.Agent)
	dotnet publish src/Umbrek.Agent $(AOT) -o $(OUT)/lib/umbrek-agent
	mkdir -p $(OUT)/bin && install -m 755 $(OUT)/lib/umbrek-agent/umbrek-agent $@

$(OUT)/bin/umbrek: $(CORE_SRC) $(call src_of,Umbrek.Cli)
	dotnet publish src/Umbrek.Cli $(AOT) -o $(OUT)/lib/umbrek
	mkdir -p $(OUT)/bin && install -m 755 $(OUT)/lib/umbrek/umbrek $@

$(OUT)/bin/umbrek-sim: $(CORE_SRC) $(call src_of,Umbrek.Agent) $(call src_of,Umbrek.Simulation)
	dotnet publish src/Umbrek.Simulation $(DOTNET_FLAGS) -c Release -o $(OUT)/lib/umbrek-sim
	mkdir -p $(OUT)/bin && ln -sfn ../lib/umbrek-sim/umbrek-sim $@ && touch $(OUT)/lib/umbrek-sim/umbrek-sim

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

$(OUT)/console/index.html: console/node_modules/.package-lock.json $(CONSOLE_SRC)
	cd console && npm run --silent build
	@touch $@

demo: setup ## Starts the service with the demo world, until Ctrl-C. ARGS="--check | --data DIR --port N --hosts N --no-wait"
	@$(MAKE) --no-print-directory build
	@$(OUT)/bin/umbrek-sim demo $(ARGS)

test: setup-test ## Builds and runs every test; the last line counts them.
	@$(MAKE) --no-print-directory build
	@scripts/test.sh

bench: setup-bench ## Measures, each figure with its reference in the same run.
	@$(MAKE) --no-print-directory build
	@dotnet publish bench/Umbrek.Bench.Bare $(AOT) -o $(OUT)/lib/bare
	@dotnet build bench/Umbrek.Bench $(DOTNET_FLAGS) -c Release
	@UMBREK_BIN=$(CURDIR)/$(OUT)/bin $(OUT)/build/bin/Umbrek.Bench/release/Umbrek.Bench $(ARGS)

screenshots: setup-test ## Makes the pictures in docs/screenshots afresh from the demo.
	@$(MAKE) --no-print-directory build
	@scripts/screenshots.sh

openapi: $(OUT)/bin/umbrekd console/node_modules/.package-lock.json ## Writes the API's description and the console's types from it.
	$(OUT)/bin/umbrekd openapi > console/openapi.json
	cd console && npm run --silent api

materials: ## Writes what it is made of to out/umbrek.cdx.json, a bill of materials (CycloneDX) for whoever looks for known weaknesses.
	@mkdir -p $(OUT)
	node scripts/materials.mjs > $(OUT)/umbrek.cdx.json

format: ## Formats everything.
	dotnet format Umbrek.slnx --exclude src/Umbrek.Service/Storage/Migrations
	cd console && npx prettier --write --log-level warn .

lint: console/node_modules/.package-lock.json ## Checks formatting and lint rules.
	dotnet format Umbrek.slnx --verify-no-changes --exclude src/Umbrek.Service/Storage/Migrations
	cd console && npm run --silent lint

clean: ## Removes everything that was built.
	rm -rf $(OUT) console/node_modules
