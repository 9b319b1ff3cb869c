# `make test` is the one command that passes all tests on a fresh Debian
# machine with Go, make and apt.

GO ?= go
RACE = ./core/capture/... ./core/guard ./core/link/... ./core/session ./core/sim ./tui/...
PLAIN = $(shell $(GO) list ./... | grep -v -e /core/capture -e /core/guard -e /core/link -e /core/session -e /core/sim -e /tui -e /test/terminal)

.PHONY: test needs lint unit terminal fuzz fuzz-short bench demo recognition screenshots docs

test: needs lint unit fuzz-short terminal

needs:
	@scripts/needs.sh

lint:
	@test -z "$$(gofmt -l $$(git ls-files '*.go' 2>/dev/null))" || { gofmt -l $$(git ls-files '*.go'); echo "run gofmt -w on these"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

unit:
	$(GO) test $(PLAIN)
	$(GO) test -race $(RACE)

terminal:
	$(GO) test -count=1 ./test/terminal

# Every fuzz target for a fixed number of inputs, as a part of `make test`.
fuzz-short:
	@$(MAKE) --no-print-directory fuzz FUZZTIME=2000x

# The same for longer.
FUZZTIME ?= 60s
fuzz:
	@set -e; for p in $$($(GO) list ./...); do \
	  for f in $$($(GO) test -list '^Fuzz' $$p | grep '^Fuzz' || true); do \
	    echo "$$p $$f"; $(GO) test -run '^$$' -fuzz "^$$f$$" -fuzztime $(FUZZTIME) $$p; done; done

bench:
	$(GO) test -run '^$$' -bench . ./...

demo:
	$(GO) run ./cmd/gavrix demo

# How often unknown lines are recognised.
recognition:
	$(GO) run ./bench/recognition > docs/recognition.md.new
	mv docs/recognition.md.new docs/recognition.md

screenshots:
	scripts/screenshots.sh
