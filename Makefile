# Everything a fresh Debian 12 machine needs besides Go, Node.js and git is installed on the way.
SHELL := /bin/sh
# The number of the version that is being made stands in the file VERSION; before its tag, builds come before it.
VERSION := $(shell scripts/version.sh)
export CGO_ENABLED := 0
COMMIT := $(shell git log -1 --format=%H 2>/dev/null)
DATE := $(shell TZ=UTC git log -1 --date=format-local:%Y-%m-%dT%H:%M:%SZ --format=%cd 2>/dev/null)
LDFLAGS := -trimpath -ldflags "-s -w -X idletally/internal/cli.Version=$(VERSION) -X idletally/internal/cli.Commit=$(COMMIT) -X idletally/internal/cli.Date=$(DATE)"
# What is there, tracked or new; what git remembers and is gone would stop the build.
FILES = $(wildcard $(shell git ls-files -co --exclude-standard $(1) 2>/dev/null))
GO_FILES := $(call FILES,'*.go' '*.sql' '*.json' '*.yaml')
CONSOLE_FILES := $(filter-out console/dist/%,$(call FILES,console))

# The tests that ask testkit how many rounds to go.
PROVED := ./e2e ./internal/agent ./internal/core/least ./internal/core/roster ./internal/host/change ./internal/host/probe ./internal/host/smb
PROOFS := ^(TestKilledInUpload|TestNetworkCut|TestCrashEverywhere|TestEveryBitOfAJournal|TestHolesInAJournal|TestProof|TestAccessAsTheServerDoes|TestNothingThatTwoDidNotSign|TestServiceIsTheAttacker|TestLeast|TestOnlyHolds|TestConsoleManyFindings|TestProposals)$$

.PHONY: build console demo demo-big tour test test-cluster bench package lint check prove race packages test-packages clean

build: bin/idletally

# The program without a console writes the document that the console's types come from.
console/openapi.json: $(GO_FILES) go.sum
	go run ./cmd/idletally openapi > $@.new
	cmp -s $@.new $@ && { rm $@.new; touch $@; } || mv $@.new $@

console/node_modules/.installed: console/package-lock.json
	# Not "npm ci": the lock file cannot name the builds of optional packages for systems that the
	# registry at hand does not serve, and ci takes that for a lock file out of date.
	cd console && npm install --ignore-scripts --no-fund --no-audit --loglevel=error
	touch $@

console/src/api/schema.d.ts: console/openapi.json console/node_modules/.installed
	cd console && npm run --silent api >/dev/null

console/dist/index.html: console/src/api/schema.d.ts $(CONSOLE_FILES)
	cd console && npm run --silent build -- --logLevel warn

console: console/dist/index.html

bin/idletally: console/dist/index.html $(GO_FILES)
	go build $(LDFLAGS) -o $@ ./cmd/idletally

bin/saltmarsh: $(GO_FILES)
	go build $(LDFLAGS) -o $@ ./demo/saltmarsh

packages:
	@scripts/packages.sh

test-packages:
	@scripts/packages.sh tests

demo: packages bin/idletally bin/saltmarsh
	@bin/saltmarsh demo bin/idletally

demo-big: packages bin/idletally bin/saltmarsh
	@bin/saltmarsh big bin/idletally

tour: packages bin/idletally bin/saltmarsh
	@bin/saltmarsh tour bin/idletally

test: test-packages bin/idletally bin/saltmarsh
	go test -timeout 60m ./...

# Some five minutes: nodes of a database cluster and instances of the service are killed at random.
test-cluster:
	@scripts/packages.sh
	@scripts/packages.sh cluster
	go test -tags cluster -count=1 -v -timeout 30m ./e2e/cluster

bench: test-packages bin/idletally
	go run ./bench

package: console/dist/index.html
	go run ./packaging --version $(VERSION)

lint: console/src/api/schema.d.ts
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo "run gofmt -w on these"; exit 1; }
	go vet ./...
	go vet -tags cluster ./e2e/cluster
	GOOS=windows go vet ./cmd/idletally ./internal/private ./internal/agent ./internal/cli ./internal/host/change ./internal/host/fileserver ./internal/host/ntfs ./internal/host/smb/...
	GOOS=windows go build -o /dev/null ./cmd/idletally
	go tool staticcheck ./...
	go test ./internal -run 'TestWidth|TestSizeOfFunctions|TestDocComments'
	cd console && npm run --silent formatted && npm run --silent lint && npm run --silent types

# What can be checked in under a minute, by anybody: no root, no database, no browser.
check:
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -l $$(git ls-files '*.go'); echo "run gofmt -w on these"; exit 1; }
	go vet ./internal/...
	go test ./internal ./internal/core/... ./internal/inquiry ./internal/report ./internal/archive ./internal/wire ./internal/cli

# What tries things at random, tried for longer: a quarter to an eighth of it is part of "make test".
prove: test-packages bin/idletally bin/saltmarsh
	IDLETALLY_PROVE=1 go test -count=1 -v -timeout 60m -run '$(PROOFS)' $(PROVED)

# The race detector needs cgo, and so a C compiler.
race: test-packages bin/idletally
	@scripts/packages.sh race
	CGO_ENABLED=1 go test -race -timeout 90m ./internal/...

clean:
	rm -rf bin console/node_modules console/openapi.json console/src/api/schema.d.ts
	find console/dist -mindepth 1 ! -name .gitkeep -delete
