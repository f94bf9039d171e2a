# make demo and make test need a fresh Debian machine with Go, Node 20, git and a C compiler; they install the rest.
GO       ?= go
BIN      := bin/piston
DEMO     ?= $(HOME)/.local/share/piston-demo
SUDO     := $(if $(filter 0,$(shell id -u)),,sudo)
SOURCES   = $(shell git ls-files '*.go' '*.sql' 'demo/tidewick' go.mod go.sum)

# Debian's packages, and a program or file that tells each is there.
RUN_PACKAGES  := postgresql:/usr/lib/postgresql clang:/usr/bin/clang lld:/usr/bin/ld.lld aapt:/usr/bin/aapt \
	android-framework-res:/usr/share/android-framework-res/framework-res.apk zipalign:/usr/bin/zipalign zip:/usr/bin/zip \
	bubblewrap:/usr/bin/bwrap slirp4netns:/usr/bin/slirp4netns curl:/usr/bin/curl make:/usr/bin/make
TEST_PACKAGES := chromium:/usr/bin/chromium softhsm2:/usr/bin/softhsm2-util llvm:/usr/bin/llvm-objdump \
	openssh-client:/usr/bin/ssh-keygen unzip:/usr/bin/unzip apksigner:/usr/bin/apksigner \
	openjdk-17-jdk-headless:/usr/bin/jarsigner libplist-utils:/usr/bin/plistutil openssl:/usr/bin/openssl

.PHONY: demo build test bench soak mutants screenshots reference check-console install install-test clean
demo: install build
	$(BIN) demo --home "$(DEMO)"

build: $(BIN)

$(BIN): console/dist/index.html $(SOURCES)
	$(GO) build -o $@ ./cmd/piston

console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	touch $@

console/src/api/schema.d.ts: docs/reference/openapi.json console/node_modules/.package-lock.json
	cd console && npm run --silent api

console/dist/index.html: console/node_modules/.package-lock.json console/src/api/schema.d.ts \
		console/index.html console/vite.config.ts $(shell git ls-files console/src console/scripts)
	rm -rf console/dist/assets console/dist/index.html*
	cd console && npm run --silent build

# The documents that are made from the program; a test fails when they are not up to date.
reference:
	mkdir -p bin docs/reference
	$(GO) build -o bin/piston-reference ./cmd/piston
	bin/piston-reference reference openapi > docs/reference/openapi.json
	bin/piston-reference reference outlet > docs/reference/outlet-protocol.json
	bin/piston-reference reference pipeline > docs/reference/pipeline.md
	bin/piston-reference reference schema > docs/reference/pipeline.schema.json
	bin/piston-reference reference findings > docs/reference/findings.md
	bin/piston-reference reference commands > docs/reference/commands.md

install:
	@$(call have,$(RUN_PACKAGES))
install-test: install
	@$(call have,$(TEST_PACKAGES))

# Installs the packages whose tell-tale is missing.
define have
missing=""; for p in $(1); do test -e "$${p#*:}" || missing="$$missing $${p%%:*}"; done; \
if test -n "$$missing"; then \
    echo "installing Debian's packages:$$missing"; \
    $(SUDO) apt-get update -qq && $(SUDO) env DEBIAN_FRONTEND=noninteractive \
        apt-get install -y -qq --no-install-recommends $$missing > /dev/null; \
fi
endef

check-console: console/src/api/schema.d.ts
	cd console && npm run --silent check && npm run --silent lint && npm run --silent test

# The rules of the house first: they take a second, and what breaks one is not found after half an hour.
test: install-test check-console build
	$(GO) test .
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	GOOS=darwin GOARCH=arm64 $(GO) vet ./...
	GOOS=darwin GOARCH=arm64 $(GO) build -o /dev/null ./cmd/piston
	GOOS=linux GOARCH=arm64 $(GO) build -o /dev/null ./cmd/piston
	PISTON_BINARY="$(CURDIR)/$(BIN)" $(GO) test -timeout 30m ./...

# All of it, or some: make bench PARTS="try check".
bench: install build
	PISTON_BINARY="$(CURDIR)/$(BIN)" $(GO) run ./bench $(PARTS)

# What make test does in a short form, at length.
soak: install-test build
	PISTON_FUZZ_REQUESTS=100000 $(GO) test -timeout 2h -count=1 -run TestNoRequestIsTheServersFault -v ./httpapi
	PISTON_MUTATIONS=3000000 $(GO) test -timeout 6h -count=1 -run 'DoesHarm|IsAnotherKind' ./core/...
	PISTON_RAISES=1000 $(GO) test -timeout 2h -count=1 -run TestServersThatAreKilledWhileRunsRaise -v ./service
	PISTON_KILLS=200 PISTON_BINARY="$(CURDIR)/$(BIN)" $(GO) test -timeout 2h -count=1 -run TestKills -v ./e2e

# Puts small faults into the code and tells which no test sees: docs/testing.md. All groups, or some:
# make mutants GROUPS="core hook" COUNT=20 SEED=3.
COUNT ?= 60
SEED  ?= 1
mutants: install-test console/dist/index.html
	$(GO) run ./mutants -count $(COUNT) -seed $(SEED) $(GROUPS)

# With a demo serving: make screenshots DEMO=its folder.
screenshots:
	mkdir -p docs/screenshots
	$(GO) run ./e2e/shoot -home "$(DEMO)" -out docs/screenshots

clean:
	rm -rf bin console/dist/assets console/dist/index.html* console/node_modules
