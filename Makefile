# Iron Ledger. "make demo" and "make test" are all a fresh machine needs.
SHELL := /bin/bash
GO ?= go
# How much each fuzz target tries: make fuzz FUZZTIME=1m looks longer. A number of
# tries, not a time: on a busy machine a deadline can fail by itself.
FUZZTIME ?= 10000x
# How large the fleet of make load is, and for how long it is asked.
DEVICES ?= 100000
SECONDS ?= 30
# How long make soak lives through it, how long a round takes, and what is asked of it besides.
SOAK ?= 30m
ROUND ?= 1m
RATES ?= -decisions 200 -reports 50
SOAK_DEVICES ?= 20000
# How often make torture kills the service.
ROUNDS ?= 50
export CGO_ENABLED ?= 0
export GOFLAGS := $(GOFLAGS) -trimpath
# SQLite in Go is C that was translated: one thread at a time, by locks of its own, and ten times
# slower under the race detector, which looks at our code.
# What is built with it would wait for a second before it ends.
export GORACE ?= atexit_sleep_ms=10
RACE := -race -gcflags=modernc.org/sqlite/lib=-race=false
STATICCHECK := $(GO) run honnef.co/go/tools/cmd/staticcheck@v0.8.2
CONSOLE := $(shell find console/src console/public -type f) console/index.html console/vite.config.ts console/tsconfig.json

.DEFAULT_GOAL := build
NFPM := $(GO) run github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.47.0
# That of the newest tag, and how far beyond it this is.
PACKAGE_VERSION ?= $(shell git describe --tags --match 'v*' 2>/dev/null | sed 's/^v//' | grep . || echo 0.1.0)

.PHONY: help build demo package test lint bench load soak generate screenshots fmt clean race fuzz browser torture lint-generated lint-go lint-console

help: ## this list
	@sed -nE 's/^([a-z]+):[^#]*## (.*)/  make \1\t\2/p' $(firstword $(MAKEFILE_LIST)) | expand -t 22

build: console/dist/index.html ## bin/ironledger, one static binary with the console inside
	$(GO) build -o bin/ironledger ./cmd/ironledger

demo: build ## the service with the data of Gullholm Ferries
	bin/ironledger demo

package: build ## bin/ironledger.deb, for Debian
	ARCH=$$($(GO) env GOARCH) VERSION=$(PACKAGE_VERSION) $(NFPM) package -f deploy/nfpm.yaml -p deb -t bin/ironledger.deb

# What runs under the race detector runs once; but of the service what is tried at random is
# tried in full too.
test: lint browser race fuzz ## everything
	$(GO) test -parallel 4 -timeout 30m $$($(GO) list ./... | grep -vE '/(core|internal)/') ./internal/service

lint: console/dist/index.html lint-generated ## gofmt, vet, staticcheck, vue-tsc and eslint
	@$(MAKE) --no-print-directory -j2 lint-go lint-console

lint-go:
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "run make fmt:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	$(GO) vet ./...
	$(STATICCHECK) ./...

lint-console:
	cd console && npm run --silent typecheck && npm run --silent lint

race: console/dist/index.html ## the core and the service under the race detector
	CGO_ENABLED=1 $(GO) test $(RACE) -parallel 3 -timeout 30m ./core/... ./internal/...

fuzz: ## a short run of each fuzz target
	$(GO) test -run '^$$' -fuzz '^FuzzParse$$' -fuzztime $(FUZZTIME) ./core/condition
	$(GO) test -run '^$$' -fuzz '^FuzzCompile$$' -fuzztime $(FUZZTIME) ./core/condition
	$(GO) test -run '^$$' -fuzz '^FuzzMembers$$' -fuzztime $(FUZZTIME) ./core/value
	$(GO) test -run '^$$' -fuzz '^FuzzDecode$$' -fuzztime $(FUZZTIME) ./core/certificate
	$(GO) test -run '^$$' -fuzz '^FuzzIssuer$$' -fuzztime $(FUZZTIME) ./core/certificate
	$(GO) test -run '^$$' -fuzz '^FuzzRequest$$' -fuzztime $(FUZZTIME) ./core/authority
	$(GO) test -run '^$$' -fuzz '^FuzzReport$$' -fuzztime $(FUZZTIME) ./core/evidence
	$(GO) test -run '^$$' -fuzz '^FuzzRecord$$' -fuzztime $(FUZZTIME) ./core/evidence
	$(GO) test -run '^$$' -fuzz '^FuzzLoad$$' -fuzztime $(FUZZTIME) ./core/rulebook
	$(GO) test -run '^$$' -fuzz '^FuzzCanonicalFormIsStable$$' -fuzztime $(FUZZTIME) ./core/ledger
	$(GO) test -run '^$$' -fuzz '^FuzzStream$$' -fuzztime $(FUZZTIME) ./core/evidence
	$(GO) test -run '^$$' -fuzz '^FuzzWhatComes$$' -fuzztime $(FUZZTIME) ./internal/agent
	$(GO) test -run '^$$' -fuzz '^FuzzMapping$$' -fuzztime $(FUZZTIME) ./core/mapping
	$(GO) test -run '^$$' -fuzz '^FuzzToken$$' -fuzztime $(FUZZTIME) ./core/heard
	$(GO) test -run '^$$' -fuzz '^FuzzPeople$$' -fuzztime $(FUZZTIME) ./core/directory
	$(GO) test -run '^$$' -fuzz '^FuzzRoster$$' -fuzztime $(FUZZTIME) ./core/directory
	$(GO) test -run '^$$' -fuzz '^FuzzRequests$$' -fuzztime $(FUZZTIME) ./core/access
	$(GO) test -run '^$$' -fuzz '^FuzzPacket$$' -fuzztime $(FUZZTIME) ./core/eap
	$(GO) test -run '^$$' -fuzz '^FuzzOSCAL$$' -fuzztime $(FUZZTIME) ./core/control
	$(GO) test -run '^$$' -fuzz '^FuzzPlainPath$$' -fuzztime $(FUZZTIME) ./internal/httpapi
	$(GO) test -run '^$$' -fuzz '^FuzzClientCert$$' -fuzztime $(FUZZTIME) ./internal/httpapi

torture: console/dist/index.html ## the fault tests in their long form, with the race detector in the service
	CGO_ENABLED=1 TORTURE_ROUNDS=$(ROUNDS) $(GO) test -count=1 -timeout 60m -v -run 'Killed|FullDisk|Locked|ReadOnly|LostKey|Damaged|ClockSet|Followers|Backups|Signals' ./e2e
	$(MAKE) soak SOAK=2m ROUND=15s SOAK_DEVICES=2000 RATES="-decisions 100 -reports 30"

bench: console/dist/index.html ## speed, each against a baseline in the same run
	$(GO) test -run "^$$" -bench 'Appraisal|Decision|Import|Report|Gates|Proxy|Entries' -benchtime 1x -count=1 ./bench
	$(GO) test -run "^$$" -bench 'Publish|Change|Restart|Replay|Signals|Feed$$|Identity|Radius' -benchtime 1x -count=1 -timeout 30m ./bench
	GODEBUG=gcstoptheworld=1 $(GO) test -run "^$$" -bench 'Memory' -benchtime 1x -count=1 -timeout 30m ./bench
	$(GO) test -run "^$$" -bench 'Verification|Search' -benchtime 1x -count=1 ./bench

lint-generated: ## whether what is made from api/openapi.yaml is
	@sums() { cat api/*.gen.go internal/*/*.gen.go docs/operations.md console/src/api/rights.gen.ts | sha256sum; }; \
	before="$$(sums)"; $(GO) generate ./api; after="$$(sums)"; [ "$$before" = "$$after" ] || \
	{ echo "api/openapi.yaml was changed: what is made from it was behind, and is made anew; look at it and commit"; exit 1; }

load: build ## the service under a steady load: DEVICES=100000 SECONDS=30, a table beside the aims
	$(GO) run ./bench/load -devices $(DEVICES) -seconds $(SECONDS) -out bin/load.json

soak: build ## lives through half an hour of load, publications, restarts and kills, and fails if anything grows
	$(GO) run ./bench/load -soak $(SOAK) -round $(ROUND) -devices $(SOAK_DEVICES) $(RATES)

generate: console/node_modules/.package-lock.json ## what is made from api/openapi.yaml
	$(GO) generate ./api
	cd console && npm run --silent types

screenshots: build browser ## docs/screenshots from the demo data
	scripts/screenshots

fmt: console/node_modules/.package-lock.json ## gofmt and Prettier of every file
	gofmt -w $$(git ls-files '*.go')
	cd console && npx prettier --write --log-level warn .

clean: ## removes what was built
	rm -rf bin console/dist/assets console/dist/index.html

browser: ## what the tests drive and compare with
	@./scripts/need chromium-headless-shell chromium-headless-shell
	@./scripts/need openssl openssl
	@./scripts/need eapol_test eapoltest
	@./scripts/need radclient freeradius-utils
	@./scripts/need curl curl
	@command -v /usr/sbin/nginx >/dev/null || ./scripts/need nginx nginx-light

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	@./scripts/need-node
	cd console && npm ci --no-progress
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE)
	cd console && npm run --silent build
	@touch $@
