GO ?= go
export CGO_ENABLED = 0

.PHONY: build demo test bench

build:
	$(GO) build -o bin/yare ./cmd/yare

demo: build
	bin/yare demo

# The screens are driven in tmux; it is installed where that is allowed.
test: build
	@command -v tmux >/dev/null || { [ "$$(id -u)" = 0 ] && apt-get -qq update && apt-get -qq install -y tmux; } || \
		echo "tmux is not here and can't be installed: the tests that drive the screens are skipped"
	$(GO) vet ./...
	$(GO) test ./...

bench:
	$(GO) test -run '^$$' -bench . -benchmem ./...
