GO ?= go
export CGO_ENABLED = 0

.PHONY: build demo test documents lab soak check bench

# What runs beside something else: these are also tested for data races, which takes a C compiler.
RACING = ./bundle/... ./cli/... ./connector/... ./feed/... ./harbour/... ./payload/... ./round/... ./secret/... ./sim/... ./store/... ./tui/...
STATICCHECK = honnef.co/go/tools/cmd/staticcheck@v0.8.2

build:
	$(GO) build -trimpath -ldflags "-s -w" -o bin/yare ./cmd/yare

demo: build
	bin/yare demo

# The screens are driven in tmux; it is installed where that is allowed.
test: build
	@command -v tmux >/dev/null || { [ "$$(id -u)" = 0 ] && apt-get -qq update && apt-get -qq install -y tmux; } || \
		echo "tmux is not here and can't be installed: the tests that drive the screens are skipped"
	$(GO) vet ./...
	GOGC=400 $(GO) test -p 4 -parallel 8 ./...

# Documents as they are seen: each kind in a browser (chromium) and page by page (pdftoppm), held to keep within their edges.
documents:
	@command -v chromium pdftoppm pdftotext >/dev/null || { echo "it takes chromium and poppler-utils (pdftoppm, pdftotext)"; exit 1; }
	YARE_DOCUMENTS=1 $(GO) test -count=1 ./export -run 'Page'

# Rounds over real hosts, in namespaces of this machine: docs/lab.md. It takes root; where something is missing it says what.
lab:
	YARE_LAB=1 $(GO) test -count=1 -parallel 4 -timeout 30m ./lab

# Rounds over so many worlds at random, with whatever may befall them: docs/reliability.md.
SEEDS ?= 1000
FROM ?= 0
soak:
	GOGC=400 $(GO) test -count=1 -timeout 0 ./round -run TestSoak -seeds $(SEEDS) -from $(FROM)

check:
	@wrong=$$(gofmt -l .); [ -z "$$wrong" ] || { echo "not as gofmt writes it: $$wrong"; exit 1; }
	$(GO) run $(STATICCHECK) ./...
	@if command -v gcc >/dev/null; then CGO_ENABLED=1 $(GO) test -race -short $(RACING); else echo "there is no C compiler here: data races are not looked for"; fi

bench:
	$(GO) test -run '^$$' -bench . -benchmem ./...
