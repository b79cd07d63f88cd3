# Tovik. `make demo` and `make test` are all that a fresh machine needs; it wants
# Go, Node with npm, and for the tests Debian's package manager.

export CGO_ENABLED ?= 0
GO     := go
NPM    := npm --prefix web
# How many random histories the core is held against the plain model in.
HISTORIES ?= 1000
# In how many simulated weeks the advice about timings is tried.
WEEKS ?= 10
# How many worst days of a cluster are played.
SEEDS ?= 2000
# How long each fuzz target runs, or how often: 2000x. A time may end in "context deadline exceeded" on a busy machine.
FUZZTIME ?= 10m
# The same source makes the same bytes.
SAME := -trimpath -buildvcs=false -ldflags="-s -w"
# Without vet, which lint runs.
TEST   := $(GO) test -vet=off
STATIC := $(GO) tool -modfile=tools/go.mod staticcheck

.PHONY: build demo bench-cluster chaos growth soak test outside raced computed race fuzz lint mutants bench bench-core account bench-console shots web docs types clean

build: web ## the whole binary, with the console in it
	$(GO) build $(SAME) -o bin/tovik ./cmd/tovik

demo: build ## the service with the river watch of the Aldermoor in it
	exec bin/tovik demo $(if $(NODES),--nodes $(NODES)) $(ARGS)

web: web/console/dist/index.html

web/console/dist/index.html: web/node_modules/.installed $(shell find web/client web/console web/docs docs deploy README.md CHANGELOG.md SECURITY.md -name dist -prune -o -type f -print) web/vite.config.ts web/vite.client.config.ts
	$(NPM) run --silent build || { rm -f $@; exit 1; } # a build that fails half-way is no build
	@touch $@

web/node_modules/.installed: web/package-lock.json web/package.json
	cd web && npm ci --no-audit --no-fund
	@touch $@

web/types/node_modules/.installed: web/types/package-lock.json web/types/package.json
	cd web/types && npm ci --no-audit --no-fund
	@touch $@

docs: web/node_modules/.installed ## the documentation as a site, in web/docs/dist; the service serves it at /docs
	$(NPM) run --silent docs

types: web/types/node_modules/.installed ## the TypeScript types that are made from wire/openapi.json and wire/asyncapi.yaml
	node web/types/make.mjs

lint: web web/types/node_modules/.installed ## formatting, vet, static analysis, type check
	@unformatted=$$(gofmt -l cmd internal wire client bench test web/*.go); test -z "$$unformatted" || { echo "not formatted: $$unformatted"; exit 1; }
	$(GO) vet ./...
	$(STATIC) ./...
	node web/types/make.mjs --check
	$(NPM) run --silent check
	$(NPM) run --silent lint
	REDOCLY_TELEMETRY=off REDOCLY_SUPPRESS_UPDATE_NOTICE=true web/node_modules/.bin/redocly lint --config redocly.yaml wire/openapi.json

# SQLite (C translated to Go) is not watched for races: it would be much slower. It must not share
# generic code with what is watched, so its libc is, but not for the pointers of C.
UNWATCHED := $(foreach package,modernc.org/sqlite/lib modernc.org/memory,-gcflags=$(package)=-race=false) -gcflags=modernc.org/libc=-d=checkptr=0
RACED := CGO_ENABLED=1 GORACE="suppressions=$(CURDIR)/test/races.txt" $(TEST) -race $(UNWATCHED)

# What mostly computes. The race detector makes it five to ten times as slow, and has little to watch in it; `make race` runs it.
COMPUTES := $(addprefix ./internal/,cluster/coding demo headcount journal phrase presence rehearsal rehearsal/nodes timing)

test: lint web chromium compiler nginx network prometheus python buildah ## everything: lint, vet, race detector, type check, floors, browser
	$(NPM) run --silent test
	$(MAKE) --no-print-directory --jobs 3 --output-sync=line outside raced computed

outside: # the binary, browsers and other programs; most tests wait most of the time
	$(TEST) -parallel 4 -timeout 60m ./test

raced: # what several goroutines meet in, the longest package first
	$(RACED) -parallel 4 -timeout 60m ./internal/server $$($(GO) list ./... | grep -vxF "$$($(GO) list $(COMPUTES) ./test)")

computed: # with many histories, weeks and worst days, and fuzzing
	$(TEST) $(COMPUTES) -timeout 60m
	$(TEST) ./internal/presence -run 'Agree|Restart|OpenView|Handover|Death' -rapid.checks=$(HISTORIES) -timeout 60m
	$(TEST) ./internal/timing -run Advice -seeds $(WEEKS) -timeout 60m
	$(TEST) ./internal/rehearsal/nodes -seeds $(SEEDS) -timeout 60m
	$(MAKE) --no-print-directory fuzz FUZZTIME=1000x

race: ## everything with the race detector, on 1, 2 and 4 processors
	$(RACED) -parallel 4 -cpu 1,2,4 -timeout 120m ./test ./internal/server ./... $(ARGS)

fuzz: ## random input to every door, FUZZTIME for each
	@for target in access:Tokens cluster/coding:Reading deflate:Unpacking presence:Names config:Files server:Frames server:Bodies strictjson:Plain; do \
		$(TEST) ./internal/$${target%%:*} -run '^$$' -fuzz "^Fuzz$${target##*:}$$" -fuzztime $(FUZZTIME) || exit 1; done

.PHONY: chromium compiler gnuplot nginx network prometheus python buildah dist reproduce
compiler: # for the race detector
	@command -v gcc >/dev/null || { apt-get update -qq && apt-get install -y --no-install-recommends gcc libc6-dev; }

chromium: # for the tests in a browser, from Debian's packages
	@command -v chromium >/dev/null || { apt-get update -qq && apt-get install -y --no-install-recommends chromium fonts-inter fonts-jetbrains-mono; }

nginx: # for the test behind it, from Debian's packages
	@command -v nginx >/dev/null || { apt-get update -qq && apt-get install -y --no-install-recommends nginx-light; }

prometheus: # for alert rules and the dashboard, from Debian's packages
	@command -v promtool >/dev/null || { apt-get update -qq && apt-get install -y --no-install-recommends prometheus; }

gnuplot: # for pictures of curves, from Debian's packages
	@command -v gnuplot >/dev/null || { apt-get update -qq && apt-get install -y --no-install-recommends gnuplot-nox fonts-inter; }

python: # for the examples in Python, from Debian's packages
	@command -v python3 >/dev/null || { apt-get update -qq && apt-get install -y --no-install-recommends python3-minimal; }

buildah: # for the container image, from Debian's packages
	@command -v buildah >/dev/null || { apt-get update -qq && apt-get install -y --no-install-recommends buildah; }

network: # for cuts between nodes, from Debian's packages
	@command -v ip >/dev/null || { apt-get update -qq && apt-get install -y --no-install-recommends iproute2; }

VERSION := $(shell sed -n 's/^const Version = "\(.*\)"$$/\1/p' internal/cli/cli.go)
PLATFORMS := linux-amd64 linux-arm64 darwin-amd64 darwin-arm64 windows-amd64 windows-arm64

dist: web buildah ## what is given to others, in dist/: binaries, Debian packages, images, the npm package, SBOMs, checksums
	@rm -rf dist && mkdir dist
	@for platform in $(PLATFORMS); do \
		name=tovik-$(VERSION)-$$platform; case $$platform in windows-*) name=$$name.exe;; esac; echo "dist/$$name"; \
		CGO_ENABLED=0 GOOS=$${platform%-*} GOARCH=$${platform#*-} $(GO) build $(SAME) -o dist/$$name ./cmd/tovik || exit 1; done
	@for arch in amd64 arm64; do deploy/package.sh dist/tovik-$(VERSION)-linux-$$arch $(VERSION) $$arch dist || exit 1; done
	@cd web/client && npm pack --silent --pack-destination ../../dist
	@$(GO) tool -modfile=tools/go.mod cyclonedx-gomod app -json -licenses -notimestamp -noserial -main cmd/tovik -output dist/tovik-$(VERSION).go.cdx.json . 2>/dev/null
	@cd web && npm sbom --sbom-format cyclonedx --omit dev > ../dist/tovik-$(VERSION).web.cdx.json
	@cd dist && sha256sum tovik* > SHA256SUMS && cat SHA256SUMS

reproduce: build ## builds the binary again, elsewhere and from nothing, and compares
	@again=$$(mktemp -d); trap 'rm -rf "$$again"' EXIT; git clone --quiet . "$$again/tovik"; \
		$(MAKE) --no-print-directory -C "$$again/tovik" build GOCACHE="$$again/cache" > /dev/null && cmp bin/tovik "$$again/tovik/bin/tovik" && echo "the same bytes"

mutants: ## breaks one rule of presence at a time; every one must be caught
	$(GO) run ./test/mutants $(ARGS)

bench-core: ## the core alone, with a million sessions
	$(GO) run ./bench/core $(ARGS)

bench: ## what the service does, against floors measured in the same run
	$(GO) run ./bench $(ARGS)

account: ## where the memory of an idle link goes, and the processor time of a hello
	$(GO) run ./bench -account 10000 $(ARGS)

growth: gnuplot ## how costs grow with links, receivers, rooms, members and entries: pictures in docs/growth
	$(GO) run ./bench -growth docs/growth $(ARGS)

soak: ## 10,000 links for half an hour, while others come and go: what changes
	$(GO) run ./bench -soak 30m $(ARGS)

bench-console: build chromium ## how long the console's pages are busy with what comes live
	$(GO) run ./bench/console

bench-cluster: ## what several nodes cost, and how long a realm is without an owner
	$(GO) run ./bench/cluster

chaos: ## things are done to three nodes under 2,000 people, for half an hour
	$(GO) test ./test -run TestNobodyIsSeenToLeaveWhateverHappensToNodes -people 2000 -rounds 3 -calm 20s -longest 30s -timeout 90m -v

shots: build chromium ## the pictures in docs/screenshots, from the demo
	@command -v xterm >/dev/null && command -v Xvfb >/dev/null && test -x /usr/bin/import || \
		{ apt-get update -qq && apt-get install -y --no-install-recommends xvfb xterm imagemagick x11-utils fonts-dejavu-core; }
	$(GO) run ./test/shots

clean:
	rm -rf bin dist web/node_modules web/types/node_modules web/console/dist/assets web/console/dist/index.html web/client/dist/tovik* web/client/dist/types web/docs/dist/*
