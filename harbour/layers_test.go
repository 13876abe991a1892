package harbour_test

import (
	"go/parser"
	"go/token"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// layers say what packages may import of this program, by the beginnings of their paths: the command line and the screens
// stand on harbour, and reach past it to nothing that stores, connects, fetches or reads files.
var layers = map[string][]string{
	"cli":     {"core/", "docs", "export", "harbour", "plain", "tui", "tui/part"},
	"tui":     {"core/", "export", "harbour", "plain", "tui/"},
	"tui/*":   {"core/", "harbour", "plain", "tui/part", "tui/rounds"},
	"export":  {"core/", "chart", "docs", "plain"},
	"chart":   {"core/", "plain"},
	"core/*":  {"core/"},
	"store":   {"core/", "plain"},
	"round":   {"core/", "connector"},
	"harbour": {"bundle", "connector", "connector/", "core/", "feed", "format/", "images", "payload", "plain", "program", "round", "secret", "sim/conn", "store"},
}

func TestLayers(t *testing.T) {
	looked := 0
	for of, may := range layers {
		dirs, err := filepath.Glob(filepath.Join("..", filepath.FromSlash(of)))
		if err != nil || len(dirs) == 0 {
			t.Fatalf("%s: %v, %v", of, dirs, err)
		}
		for _, dir := range dirs {
			files, err := filepath.Glob(filepath.Join(dir, "*.go"))
			if err != nil {
				t.Fatal(err)
			}
			for _, file := range files {
				if strings.HasSuffix(file, "_test.go") {
					continue
				}
				looked++
				for _, path := range imports(t, file) {
					if !slices.ContainsFunc(may, func(m string) bool {
						return path == m || strings.HasPrefix(path, strings.TrimSuffix(m, "/")+"/") && strings.HasSuffix(m, "/")
					}) {
						t.Errorf("%s imports %s: %s may import %v", file, path, of, may)
					}
				}
			}
		}
	}
	if looked < 150 {
		t.Errorf("only %d files were looked at: this proves nothing", looked)
	}
}

// imports are what a file imports of this program, without its name.
func imports(t *testing.T, file string) (out []string) {
	f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range f.Imports {
		path, _ := strconv.Unquote(i.Path.Value)
		if own, ok := strings.CutPrefix(path, "yareharbour/"); ok {
			out = append(out, own)
		}
	}
	return out
}
