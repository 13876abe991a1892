package strictyaml

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"
)

// billion is ten times ten times ten … of something, by aliases.
func billion() string {
	var b strings.Builder
	b.WriteString("a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n")
	for i := range 9 {
		fmt.Fprintf(&b, "a%d: &a%d [%s*a%d]\n", i+1, i+1, strings.Repeat(fmt.Sprintf("*a%d, ", i), 9), i)
	}
	return b.String()
}

// What is built to exhaust who parses it is refused before it is parsed, in a moment and with little memory.
func TestTextsThatExhaust(t *testing.T) {
	indented := func(n int, what string) string {
		var b strings.Builder
		for i := range n {
			b.WriteString(strings.Repeat(" ", i) + what + "\n")
		}
		return b.String()
	}
	for name, text := range map[string]string{
		"brackets":   strings.Repeat("[", 60_000),
		"mappings":   strings.Repeat("{a: ", 60_000),
		"entries":    strings.Repeat("- ", 60_000) + "a",
		"keys":       strings.Repeat("? ", 60_000) + "a",
		"indented":   indented(1500, "a:"),
		"anchors":    "a: " + strings.Repeat("&a ", 60_000) + "b",
		"tags":       "a: " + strings.Repeat("!!str ", 60_000) + "b",
		"aliases":    "a: &a b\nc: [" + strings.Repeat("*a, ", 30_000) + "*a]",
		"billion":    billion(),
		"itself":     "a: &a [*a]",
		"releases":   "r: &r\n" + strings.Repeat("  - {version: 1, notes: x}\n", 3000) + "all:\n" + strings.Repeat("  - *r\n", 900),
		"lines":      strings.Repeat("a: b\n", 500_000),
		"large":      "a: " + strings.Repeat("x", 5<<20),
		"scalars":    "a: [" + strings.Repeat("1,", 900_000) + "1]",
		"many lists": strings.Repeat("- [[[[[[]]]]]]\n", 90_000),
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		start := time.Now()
		var v map[string]any
		_, err := Decode(name, []byte(text), &v)
		took := time.Since(start)
		runtime.ReadMemStats(&after)
		if used := (after.TotalAlloc - before.TotalAlloc) >> 20; err == nil || took > 20*time.Second || used > 400 {
			t.Errorf("%s: %v after %s and %d MiB", name, err, took, used)
		}
	}
	for name, text := range map[string]string{
		"aliases": "a: &a {b: c}\nd: *a\ne: [*a, *a]\n",
		"deep":    indented(25, "a:") + strings.Repeat(" ", 26) + "b",
		"quoted":  "a: '" + strings.Repeat("[", 1000) + "'\nb: |\n  " + strings.Repeat("- ", 1000) + "\nc: \"" + strings.Repeat("{", 999) + "\"\n",
		"long":    "a:\n" + strings.Repeat("  - {version: 1.2, date: 2026-11-01, notes: some words}\n", 8000),
	} {
		var v map[string]any
		if _, err := Decode(name, []byte(text), &v); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What is tagged as a text is the text that stands there, whatever it looks like.
func TestATaggedTextIsAsWritten(t *testing.T) {
	var v struct{ A, B, C, D, E string }
	if _, err := Decode("x", []byte("a: !!str 3.10\nb: !!str 010\nc: !!str yes\nd: !!str 1e3\ne: 2.30\n"), &v); err != nil {
		t.Fatal(err)
	}
	if v.A != "3.10" || v.B != "010" || v.C != "yes" || v.D != "1e3" || v.E != "2.30" {
		t.Errorf("%+v", v)
	}
}
