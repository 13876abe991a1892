// Package core holds the computation to what it is: no input or output, no clock, no randomness, no interface code.
package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// allowed of the standard library is what computes. Everything else of it, and every module, is refused.
var allowed = []string{"bytes", "cmp", "crypto/sha256", "encoding/hex", "encoding/json", "errors", "fmt", "hash/fnv",
	"iter", "maps", "math", "math/bits", "path", "slices", "sort", "strconv", "strings",
	"time", "unicode", "unicode/utf8"}

// forbidden are functions of allowed packages that reach outside.
var forbidden = map[string][]string{
	"time": {"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "NewTimer", "NewTicker", "Tick"},
	"fmt":  {"Print", "Printf", "Println", "Scan", "Scanf", "Scanln"},
}

func TestCoreReachesNothingOutside(t *testing.T) {
	files := 0
	err := filepath.WalkDir(".", func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() && strings.HasSuffix(e.Name(), "test") {
			return fs.SkipDir // it makes what tests need
		}
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		for _, wrong := range trespasses(f) {
			t.Errorf("%s %s", path, wrong)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if files < 15 {
		t.Errorf("only %d files were looked at: this test proves nothing", files)
	}
}

func trespasses(f *ast.File) (wrong []string) {
	for _, i := range f.Imports {
		p, _ := strconv.Unquote(i.Path.Value)
		if !slices.Contains(allowed, p) && !strings.HasPrefix(p, "yareharbour/core/") {
			wrong = append(wrong, "imports "+p)
		}
	}
	ast.Inspect(f, func(n ast.Node) bool {
		sel, ok := n.(*ast.SelectorExpr)
		if !ok {
			return true
		}
		if pkg, ok := sel.X.(*ast.Ident); ok && pkg.Obj == nil && slices.Contains(forbidden[pkg.Name], sel.Sel.Name) {
			wrong = append(wrong, "calls "+pkg.Name+"."+sel.Sel.Name)
		}
		return true
	})
	return wrong
}

// The test itself must be able to fail.
func TestATrespassIsSeen(t *testing.T) {
	for _, src := range []string{"package x\nimport \"os\"", "package x\nimport \"time\"\nvar t = time.Now()",
		"package x\nimport \"github.com/spf13/cobra\""} {
		f, err := parser.ParseFile(token.NewFileSet(), "x.go", src, 0)
		if err != nil {
			t.Fatal(err)
		}
		if len(trespasses(f)) == 0 {
			t.Errorf("nothing wrong was seen in %q", src)
		}
	}
}
