# Everything a new machine needs beyond Go, Node and apt is installed by these targets.
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
PACKAGES := postgresql mariadb-server mariadb-client php-fpm php-mysql php-pgsql php-sqlite3 sqlite3 php-gd php-xml php-mbstring nginx-light chromium \
	wordpress wordpress-theme-twentytwentythree wordpress-theme-twentytwentytwo openssh-server vsftpd zip unzip bzip2
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
GO_SOURCES := $(shell find cmd internal web/web.go demo -name '*.go' -o -name '*.yaml' -o -name '*.sql' -o -name '*.php' 2>/dev/null)
WEB_SOURCES := $(shell find web/src web/index.html web/*.ts web/*.mjs web/*.json -type f 2>/dev/null)

.PHONY: build demo stop test sources pairs bench shots words types check-types check-console install clean

build: bin/nestseed

bin/nestseed: web/dist/index.html $(GO_SOURCES) go.mod go.sum
	go build -trimpath -ldflags "-s -w -X main.version=$$(git describe --always --dirty 2>/dev/null || echo dev)" -o $@ ./cmd/nestseed

web/dist/index.html: web/node_modules/.package-lock.json $(WEB_SOURCES)
	cd web && npm run --silent build
	touch web/dist/.gitkeep

web/node_modules/.package-lock.json: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	touch $@

# Types of the console, from the interface's own description.
types: web/node_modules/.package-lock.json
	mkdir -p bin && go run ./cmd/nestseed openapi > bin/openapi.json
	cd web && npx openapi-typescript ../bin/openapi.json -o $(or $(TYPES),src/api)/schema.d.ts >/dev/null && \
		node limits.mjs ../bin/openapi.json > $(or $(TYPES),src/api)/limits.ts && node sentences.mjs ../bin/openapi.json > $(or $(TYPES),src/api)/sentences.ts

# Fails when the interface has changed and the console's types have not.
check-types:
	$(MAKE) --no-print-directory types TYPES=../bin
	diff -q bin/schema.d.ts web/src/api/schema.d.ts && diff -q bin/limits.ts web/src/api/limits.ts && diff -q bin/sentences.ts web/src/api/sentences.ts || { echo "the interface has changed; run make types"; exit 1; }

# The words of the console, and of what the service says, for translators.
words: web/node_modules/.package-lock.json
	go run ./docs/words
	cd web && node words.mjs

# Debian's packages; asks apt only for what is missing, and keeps it from starting servers of its own.
install:
	@missing=""; for p in $(PACKAGES); do dpkg-query -W -f '$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || missing="$$missing $$p"; done; \
	if [ -n "$$missing" ]; then \
		echo "installing$$missing"; \
		$(SUDO) apt-get update -qq; \
		policy=/usr/sbin/policy-rc.d; made=""; \
		if [ ! -e $$policy ]; then printf '#!/bin/sh\nexit 101\n' | $(SUDO) tee $$policy >/dev/null; $(SUDO) chmod +x $$policy; made=1; fi; \
		$(SUDO) env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$missing >/dev/null; \
		if [ -n "$$made" ]; then $(SUDO) rm -f $$policy; fi; \
	fi

demo: install build
	go run ./demo up

# A service with nothing in it, that offers the base site of the demo to begin with.
try: install build
	go run ./demo try

stop:
	go run ./demo down

# Packages with goroutines are tested under the race detector; with those that start many servers it would take too long.
RACE = $(addprefix ./internal/,core/archive core/buffers core/check core/contents core/fetch core/foreign core/hostfs/local core/hostfs/sftp core/hostfs/ftp core/hostfs/ahead core/intake \
	core/parallel core/progress core/relay core/rewrite core/survey client service/store service/engine service/users)

# Before a build, which gathers the console's words.
check-console: web/node_modules/.package-lock.json
	go run ./docs/words --check
	cd web && npm run --silent check

test: install check-console build check-types
	cd web && npm run --silent test
	go vet ./...
	go tool staticcheck ./...
	go test -race -count=1 $(RACE)
	go test -count=1 -timeout 60m $$(go list ./... | grep -vxF "$$(go list $(RACE))")

# Sources with oddities of all sorts; make test tries some of them.
sources: install build
	SOURCES=all go test ./test -run TestOddSources -count=1 -timeout 60m

# Every pair of kind, host and database; make test tries all but the slowest.
pairs: install build
	PAIRS=all go test ./test -run TestTheMainJobOnEveryKindHostAndDatabase -count=1 -timeout 60m

bench: install build
	go run ./bench

shots: install build
	go run ./docs/shots

clean:
	rm -rf bin web/node_modules web/dist/assets web/dist/index.html
