# Everything a new machine needs beyond Go, Node and apt is installed by these targets.
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
TRY_PACKAGES := postgresql mariadb-server php-fpm php-mysql php-gd php-xml php-mbstring nginx-light wordpress wordpress-theme-twentytwentythree \
	wordpress-theme-twentytwentytwo libsqlite3-dev
DEMO_PACKAGES := $(TRY_PACKAGES) php-pgsql php-sqlite3 chromium openssh-server
PACKAGES := $(DEMO_PACKAGES) mariadb-client sqlite3 vsftpd zip unzip bzip2
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
GO_SOURCES := $(shell find cmd internal web/web.go demo -name '*.go' -o -name '*.yaml' -o -name '*.sql' -o -name '*.php' 2>/dev/null)
WEB_SOURCES := $(shell find web/src web/index.html web/*.ts web/*.mjs web/*.json -type f 2>/dev/null)

# One set of flags for the service, the demo, tests, vet and staticcheck, so that each package is compiled once. Without codecs of the HTTP
# framework that nobody uses; with the system's SQLite, which takes two minutes to compile; without what only debuggers read, which takes a
# third of the compiler's time. In a shell of one's own: export GOFLAGS="$$(make flags)"
export GOFLAGS := -buildvcs=false -trimpath -tags=nomsgpack,libsqlite3 -ldflags=-s -gcflags=all=-dwarf=false
# The compiler collects garbage only when a process of it has 1 GiB, which saves a third of its time.
COMPILE := GOGC=off GOMEMLIMIT=1GiB

.PHONY: build demo try stop test check test-all attack bench shots words types check-types check-console checked-console packages flags install \
	install-try install-demo headers clean

build: bin/nestseed

bin/nestseed: web/dist/index.html $(GO_SOURCES) go.mod go.sum | headers
	$(COMPILE) go build -ldflags "-s -X main.version=$$(git describe --always --dirty 2>/dev/null || echo dev)" -o $@ ./cmd/nestseed

bin/demo: bin/nestseed
	$(COMPILE) go build -o $@ ./demo

# Everything but the console and what holds it, which can be compiled while the console is built.
packages:
	$(COMPILE) go build ./internal/core/... ./internal/service/httpapi ./internal/cli ./demo/...

# Types and words are checked by make check.
web/dist/index.html: web/node_modules/.package-lock.json $(WEB_SOURCES)
	cd web && npm run --silent build

web/node_modules/.package-lock.json: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	touch $@

# Types of the console, from the interface's own description.
types: web/node_modules/.package-lock.json
	mkdir -p bin && $(or $(NESTSEED),go run ./cmd/nestseed) openapi > bin/openapi.json
	cd web && npx openapi-typescript ../bin/openapi.json -o $(or $(TYPES),src/api)/schema.d.ts >/dev/null && \
		node limits.mjs ../bin/openapi.json > $(or $(TYPES),src/api)/limits.ts && node sentences.mjs ../bin/openapi.json > $(or $(TYPES),src/api)/sentences.ts

# Fails when the interface has changed and the console's types have not.
check-types: bin/nestseed
	$(MAKE) --no-print-directory types TYPES=../bin NESTSEED=bin/nestseed
	diff -q bin/schema.d.ts web/src/api/schema.d.ts && diff -q bin/limits.ts web/src/api/limits.ts && diff -q bin/sentences.ts web/src/api/sentences.ts || { echo "the interface has changed; run make types"; exit 1; }

# The words of the console, and of what the service says, for translators.
words: web/node_modules/.package-lock.json
	go run ./docs/words
	cd web && node words.mjs

# Debian's packages; asks apt only for what is missing, and keeps it from starting servers of its own.
define apt
@missing=""; for p in $(1); do dpkg-query -W -f '$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || missing="$$missing $$p"; done; \
if [ -n "$$missing" ]; then \
	echo "installing$$missing"; \
	$(SUDO) apt-get update -qq; \
	policy=/usr/sbin/policy-rc.d; made=""; \
	if [ ! -e $$policy ]; then printf '#!/bin/sh\nexit 101\n' | $(SUDO) tee $$policy >/dev/null; $(SUDO) chmod +x $$policy; made=1; fi; \
	$(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends -o DPkg::Lock::Timeout=600 $$missing >/dev/null; \
	if [ -n "$$made" ]; then $(SUDO) rm -f $$policy; fi; \
fi
endef

install:
	$(call apt,$(PACKAGES))
install-demo:
	$(call apt,$(DEMO_PACKAGES))
install-try:
	$(call apt,$(TRY_PACKAGES))

# What the compiler needs before the rest is installed.
headers:
	@echo '#include <sqlite3.h>' | gcc -E - >/dev/null 2>&1 || { $(SUDO) apt-get update -qq; $(SUDO) apt-get install -y -qq --no-install-recommends gcc libc6-dev libsqlite3-dev >/dev/null; }

flags:
	@echo '$(GOFLAGS)'

# Installing and compiling beside each other; what they print goes to a log.
define ready
@mkdir -p bin; start=$$SECONDS; echo "Installing what is missing from Debian, and compiling: $(2)"; echo "  log: bin/make.log"; \
{ $(MAKE) --no-print-directory headers && $(MAKE) --no-print-directory -j3 $(1) packages web/dist/index.html && \
	$(MAKE) --no-print-directory bin/demo; } >bin/make.log 2>&1 || \
	{ tail -n 20 bin/make.log; exit 1; }; \
echo "  done in $$((SECONDS - start)) s"
endef

demo:
	$(call ready,install-demo,3 to 4 minutes on a new machine with two cores)
	@bin/demo up

# A service with nothing in it, that offers the base site of the demo to begin with.
try:
	$(call ready,install-try,about 3 minutes on a new machine with two cores)
	@bin/demo try

stop: bin/demo
	@bin/demo down

# Each of these has a service, servers and a browser of its own; they take longest, so they start first.
WHOLE := ./test/kinds ./test/job ./test/console
# Random kills; make test-all tries them.
CHAOS := ./test/chaos
# Packages with goroutines are tested under the race detector; with those that start many servers it would take too long.
RACE := $(addprefix ./internal/,core/archive core/buffers core/check core/contents core/fetch core/foreign core/hostfs/local core/hostfs/sftp core/hostfs/ftp core/hostfs/ahead core/intake \
	core/parallel core/progress core/relay core/rewrite core/survey client service/store service/engine service/users)
# Packages whose tests start servers or a browser.
SERVERS = $(shell go list -f '{{.ImportPath}} {{join .TestImports " "}} {{join .XTestImports " "}}' ./... | grep -E 'demo/stack|demo/browser|recordstest|test/world|core/sidebyside' | cut -d' ' -f1)
ALL = $(shell go list ./...)
WITHOUT_SERVERS = $(filter-out $(SERVERS),$(ALL))
REST = $(filter-out $(shell go list $(RACE) $(WHOLE) $(CHAOS)),$(ALL))

check-console: web/node_modules/.package-lock.json
	go run ./docs/words --check
	cd web && npm run --silent check

# The console, with its words compared rather than gathered.
checked-console: check-console
	cd web && npm run --silent build

# The inner loop: types, vet, and every test that needs no server.
check: headers checked-console
	$(COMPILE) go vet ./...
	go test $(WITHOUT_SERVERS)
	cd web && npm run --silent test

# What every change must pass. What compiles all comes first; then the tests of the whole and of each package, beside what reads the code, the
# race detector (of what has changed) and the console's tests. A result of before counts for a package whose code and servers are the same (go help test); the tests
# of the whole run a program, so they are always run.
test: headers
	$(MAKE) --no-print-directory -j3 install packages checked-console
	$(COMPILE) go vet ./...
	$(MAKE) --no-print-directory build check-types
	$(MAKE) --no-print-directory -j2 --output-sync=target whole parts

.PHONY: whole parts
whole:
	NESTSEED_BINARY=$(CURDIR)/bin/nestseed go test -vet=off -count=1 -p 3 -timeout 60m $(WHOLE)

parts:
	go test -vet=off -p 1 -timeout 60m $(REST)
	cd web && npm run --silent test
	$(MAKE) --no-print-directory static race

# staticcheck and the race detector read what has changed since they last passed. What they have passed is committed with the change.
PASSED := test/passed
.PHONY: static race
static:
	todo="$$(go run ./test/changed $(PASSED)/static.txt $(ALL))"; [ -z "$$todo" ] || $(COMPILE) go tool staticcheck $$todo
	go run ./test/changed -passed $(PASSED)/static.txt $(ALL)

race:
	todo="$$(go run ./test/changed $(PASSED)/race.txt $(RACE))"; [ -z "$$todo" ] || { $(COMPILE) go build -race $$todo && \
		go test -vet=off -race -p 1 -timeout 60m $$todo; }
	go run ./test/changed -passed $(PASSED)/race.txt $(RACE)

# What is too slow for every change: each kind on each database and host, all odd sources, a real S3 server, every window in both
# themes, a kill at every point of a provisioning, random kills, and the race detector on all.
test-all: test
	rm -f $(PASSED)/*.txt && $(MAKE) --no-print-directory static race
	NESTSEED_BINARY=$(CURDIR)/bin/nestseed PAIRS=all SOURCES=all go test -count=1 -timeout 90m ./test/kinds -run 'TestTheMainJobOnEvery|TestOddSources|TestTenantsOfEveryKind'
	NESTSEED_BINARY=$(CURDIR)/bin/nestseed WINDOWS=all go test -count=1 -timeout 30m ./test/console -run TestEveryPage
	S3=real go test -count=1 ./internal/service/store
	ATTACKS=all go test -count=1 ./test/attack
	KILLS=all go test -count=1 -timeout 60m ./internal/core/provision
	go test -count=1 -timeout 30m $(CHAOS)

# What attackers try, on the real thing: a table of the attacks, and what has stopped each.
attack: install build
	ATTACKS=all NESTSEED_BINARY=$(CURDIR)/bin/nestseed go test -count=1 -v -timeout 30m -run 'Attack|TestSQLite|TestTheEngineDoesWhatAllDo|TestPostgres$$|TestConformance' \
		$$(grep -rl 'attack\.Stopped' --include=*_test.go internal test | xargs -n1 dirname | sort -u | sed 's|^|./|') ./test/attack ./internal/core/sitedb/... \
		| go run ./test/attack/table

bench: install build
	go run ./bench

shots: install build
	go run ./docs/shots

clean:
	rm -rf bin web/node_modules web/dist/assets web/dist/index.html /var/tmp/nestseed-templates-$$(id -u)
