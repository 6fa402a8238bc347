# Two commands do everything: `make demo` and `make test`.
SHELL := /bin/bash
.DEFAULT_GOAL := help
OUT := out
ARGS ?=
export DOTNET_CLI_TELEMETRY_OPTOUT := 1
export DOTNET_NOLOGO := 1
export DOTNET_CLI_UI_LANGUAGE := en
# Build servers that outlive the command would keep a CI job open; scripts/dotnet.sh ends the compiler that it starts.
export MSBUILDDISABLENODEREUSE := 1
RELEASE := -v q --nologo -c Release

src_of = $(shell find $(addprefix src/,$(1)) -name '*.cs' -o -name '*.csproj' -o -name '*.bin' 2>/dev/null)
PROPS := Directory.Build.props Directory.Packages.props
CORE_SRC := $(call src_of,Umbrek.Core Umbrek.Wire) $(PROPS)
AGENT_SRC := $(CORE_SRC) $(call src_of,Umbrek.Agent)
PRODUCT_SRC := $(AGENT_SRC) $(call src_of,Umbrek.Service Umbrek.Cli Umbrek.Simulation)
TEST_SRC := $(shell find tests bench -name '*.cs' -o -name '*.csproj' -o -name '*.props' 2>/dev/null)
CONSOLE_SRC := $(shell find console/src console/public console/index.html console/*.json console/*.ts console/*.js -type f 2>/dev/null)
BUILT := $(OUT)/build

.PHONY: help setup setup-test setup-bench build build-tests release demo check test endure bench screenshots openapi materials format lint clean

help: ## Lists what there is to make.
	@grep -E '^[a-z-]+:.*##' Makefile | sed -E 's/:.*## /\t/' | expand -t 14

setup: ## Installs what building and the demo need.
	@scripts/setup.sh demo

setup-test: ## Installs what the tests need.
	@scripts/setup.sh test

setup-bench: ## Installs what the benchmarks need.
	@scripts/setup.sh bench

# The programs as they run here: compiled when they start, but for the agent, which is one file that can be handed out.
build: $(BUILT)/programs $(OUT)/lib/umbrek/umbrek $(OUT)/agents/linux-x64/umbrek-agent $(OUT)/console/index.html ## Builds the four programs into out/bin.

$(BUILT)/programs: $(PRODUCT_SRC)
	@scripts/dotnet.sh build Umbrek.Product.slnf $(RELEASE)
	@scripts/link-programs.sh
	@touch $@

# Everything with all tests; analyzers, also those for ahead-of-time compilation, are errors.
build-tests: $(BUILT)/tests

$(BUILT)/tests: $(PRODUCT_SRC) $(TEST_SRC)
	@scripts/dotnet.sh build Umbrek.slnx $(RELEASE)
	@scripts/link-programs.sh
	@touch $@ $(BUILT)/programs

# The client is started often and ends soon: what it starts with is compiled.
$(OUT)/lib/umbrek/umbrek: $(CORE_SRC) $(call src_of,Umbrek.Cli)
	@scripts/dotnet.sh publish src/Umbrek.Cli $(RELEASE) -r linux-x64 --self-contained false -p:PublishAot=false -p:PublishReadyToRun=true -o $(OUT)/lib/umbrek

# The agent as one file with the runtime inside: ready in seconds, but four times as large as the one that is released.
$(OUT)/agents/linux-x64/umbrek-agent: $(AGENT_SRC)
	@scripts/dotnet.sh publish src/Umbrek.Agent $(RELEASE) -r linux-x64 --self-contained -p:PublishAot=false -p:PublishSingleFile=true -o $(OUT)/lib/agent-file
	@install -D -m 755 $(OUT)/lib/agent-file/umbrek-agent $@

release: $(OUT)/release/bin/umbrek-agent $(OUT)/release/bin/umbrek $(OUT)/release/bin/umbrekd $(OUT)/release/bin/umbrek-sim ## Builds what is handed out, compiled ahead of time, into out/release.

# Both at once: each by itself leaves cores idle.
$(OUT)/release/bin/umbrek $(OUT)/release/bin/umbrek-agent &: $(AGENT_SRC) $(call src_of,Umbrek.Cli) scripts/ahead.proj
	@scripts/dotnet.sh msbuild scripts/ahead.proj -v:q -nologo -m
	@for program in Cli/umbrek Agent/umbrek-agent; do \
	  install -D -m 755 $(BUILT)/publish/Umbrek.$${program%/*}/release_linux-x64/$${program#*/} $(OUT)/release/bin/$${program#*/}; done
	@# Better than the quick one, where that is handed out.
	@for place in $(OUT) $(OUT)/release; do install -D -m 755 $(OUT)/release/bin/umbrek-agent $$place/agents/linux-x64/umbrek-agent; done

$(OUT)/release/bin/umbrekd: $(CORE_SRC) $(call src_of,Umbrek.Service) $(OUT)/console/index.html $(OUT)/release/bin/umbrek-agent
	@# From nothing each time: what was compiled ahead in another way before would be taken for whole, and what is gone would go along.
	rm -rf $(OUT)/release/lib/umbrekd $(BUILT)/obj/Umbrek.Service/release_linux-x64/R2R
	@scripts/dotnet.sh publish src/Umbrek.Service $(RELEASE) -r linux-x64 --self-contained true -p:PublishReadyToRun=true -o $(OUT)/release/lib/umbrekd
	cp -r $(OUT)/console $(OUT)/release/lib/umbrekd/console
	install -D -m 755 $(OUT)/release/bin/umbrek-agent $(OUT)/release/lib/umbrekd/agent/linux-x64/umbrek-agent
	mkdir -p $(OUT)/release/bin && ln -sfn ../lib/umbrekd/umbrekd $@ && touch $(OUT)/release/lib/umbrekd/umbrekd

$(OUT)/release/bin/umbrek-sim: $(AGENT_SRC) $(call src_of,Umbrek.Simulation)
	@scripts/dotnet.sh publish src/Umbrek.Simulation $(RELEASE) -o $(OUT)/release/lib/umbrek-sim
	@mkdir -p $(OUT)/release/bin && ln -sfn ../lib/umbrek-sim/umbrek-sim $@ && touch $(OUT)/release/lib/umbrek-sim/umbrek-sim

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

$(OUT)/console/index.html: console/node_modules/.package-lock.json $(CONSOLE_SRC)
	cd console && npm run --silent build
	@touch $@

demo: setup ## Starts the service with the demo world, until Ctrl-C. ARGS="--check | --data DIR --port N --hosts N --no-wait"
	@$(MAKE) --no-print-directory build
	@$(OUT)/bin/umbrek-sim demo $(ARGS)

check: setup-test ## Builds, lints and runs the unit tests and five journeys: what to run after each change.
	@$(MAKE) --no-print-directory build-tests build
	@scripts/test.sh check

test: setup-test ## Builds and runs every test; the last line counts them.
	@$(MAKE) --no-print-directory build-tests $(OUT)/release/bin/umbrek $(OUT)/console/index.html
	@scripts/test.sh

endure: setup-test ## Runs the longer proofs: seeded kills, cuts and load. ARGS="--seed N" repeats one.
	@$(MAKE) --no-print-directory build-tests $(OUT)/release/bin/umbrek $(OUT)/console/index.html
	@scripts/test.sh endure $(ARGS)

bench: setup-bench ## Measures, each figure with its reference in the same run.
	@$(MAKE) --no-print-directory release
	@scripts/dotnet.sh publish bench/Umbrek.Bench.Bare $(RELEASE) -r linux-x64 -o $(OUT)/lib/bare
	@scripts/dotnet.sh build bench/Umbrek.Bench $(RELEASE)
	@UMBREK_BIN=$(CURDIR)/$(OUT)/release/bin $(BUILT)/bin/Umbrek.Bench/release/Umbrek.Bench $(ARGS)

screenshots: setup-test ## Makes the pictures in docs/screenshots afresh from the demo.
	@$(MAKE) --no-print-directory build
	@scripts/screenshots.sh

openapi: $(BUILT)/programs console/node_modules/.package-lock.json ## Writes the API's description and the console's types from it.
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
