# `make test` is the one command that passes all tests on a fresh Debian
# machine with Go, make and apt.

GO ?= go
RACE = ./core/capture/... ./core/guard ./core/link/... ./core/session ./core/sim ./tui/...
PLAIN = $(shell $(GO) list ./... | grep -v -e /test/terminal)

SOURCES = bench cmd core demo draw test tui
PREFIX ?= $(HOME)/.local
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo unknown)
BUILD = CGO_ENABLED=0 $(GO) build -trimpath -ldflags "-s -w -X main.released=$(VERSION)"
SYSTEMS = linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64 freebsd/amd64

# The property tests ask the same cases at every run, so that what fails is the change
# that was made; `make hunt` asks others, and more.
RAPID_SEED ?= 1
RAPID_CHECKS ?= 50

.PHONY: test needs lint plain raced hunt terminal cross fuzz fuzz-short bench demo recognition screenshots install man release fresh

# What computes goes side by side, what is typed into a terminal alone: it waits for the screen.
test: needs
	@$(MAKE) --no-print-directory --output-sync=target -j 3 plain raced fuzz-short lint cross
	@$(MAKE) --no-print-directory terminal

needs:
	@scripts/needs.sh

lint:
	@test -z "$$(gofmt -l $(SOURCES))" || { gofmt -l $(SOURCES); echo "run gofmt -w on these"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

plain raced: export RAPID_SEED := $(RAPID_SEED)
plain raced: export RAPID_CHECKS := $(RAPID_CHECKS)
plain raced: export GOGC := 400
plain:
	$(GO) test -vet=off $(PLAIN)

# Races are looked for in the tests that have goroutines: the others leave themselves out
# of -short.
raced:
	$(GO) test -vet=off -race -short -timeout 20m $(RACE)

# The property tests with cases of their own at every run, and more of them, and each
# hostile value in each flag.
CHECKS ?= 400
hunt:
	CROSS=1 RAPID_SEED=0 RAPID_CHECKS=$(CHECKS) $(GO) test -count=1 -timeout 2h $$($(GO) list ./... | grep -v /test/terminal)

terminal:
	$(GO) test -count=1 -parallel 8 ./test/terminal

# Every fuzz target for a fixed number of inputs, as a part of `make test`.
fuzz-short:
	@$(MAKE) --no-print-directory fuzz FUZZTIME=1000x

# The same for longer.
FUZZTIME ?= 60s
fuzz:
	@FUZZTIME=$(FUZZTIME) scripts/fuzz.sh

bench:
	$(GO) test -run '^$$' -bench . ./...

demo:
	$(GO) run ./cmd/gavrix demo

# How often unknown lines are recognised.
recognition:
	$(GO) run ./bench/recognition > docs/recognition.md.new
	mv docs/recognition.md.new docs/recognition.md

# The program and its manual pages below PREFIX.
install:
	mkdir -p $(PREFIX)/bin
	$(BUILD) -o $(PREFIX)/bin/gavrix ./cmd/gavrix
	$(PREFIX)/bin/gavrix man $(PREFIX)/share/man/man1

man:
	$(GO) run ./cmd/gavrix man bin/man

# Every system for which a release is made builds.
cross:
	@printf '%s\n' $(SYSTEMS) | xargs -P 2 -I {} sh -c 's={}; \
	  GOOS=$${s%/*} GOARCH=$${s#*/} CGO_ENABLED=0 $(GO) build -ldflags "-s -w" -o /dev/null ./cmd/gavrix && echo "builds for $$s"'

# Static programs for all of them, with their checksums.
release:
	@rm -rf bin/release && mkdir -p bin/release
	@set -e; for s in $(SYSTEMS); do os=$${s%/*}; arch=$${s#*/}; \
	  out=bin/release/gavrix-$(VERSION)-$$os-$$arch; [ $$os = windows ] && out=$$out.exe; \
	  GOOS=$$os GOARCH=$$arch $(BUILD) -o $$out ./cmd/gavrix; echo $$out; done
	@cd bin/release && sha256sum gavrix-* > SHA256SUMS && cat SHA256SUMS

# The README's two commands in a minimal system with nothing but Go, make and git.
fresh:
	scripts/fresh.sh

screenshots:
	scripts/screenshots.sh
