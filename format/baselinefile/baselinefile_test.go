package baselinefile

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"yareharbour/core/baseline"
	"yareharbour/core/estate"
)

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	if err := c.AddResource("baseline.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("baseline.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// admits tells whether the schema admits the YAML text.
func admits(t *testing.T, s *jsonschema.Schema, text string) error {
	t.Helper()
	js, err := yaml.YAMLToJSON([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(js))
	if err != nil {
		t.Fatal(err)
	}
	return s.Validate(v)
}

const head = "baseline: b\nclauses:\n  - component: deb:a\n    posture: "

// The schema and the reader must say the same of a file: an editor that knows the schema shall not admit what yare
// refuses.
func TestSchemaAndReaderAgree(t *testing.T) {
	s := schema(t)
	for text, good := range map[string]bool{
		head + "at least\n    version: \"1\"\n": true,
		head + "if present\n    follow: newest\n    track: \"4\"\n    severity: high\n    min_age_days: 3\n": true,
		head + "never\n":                                                    true,
		head + "maybe\n    version: \"1\"\n":                                false,
		head + "at least\n":                                                 false,
		head + "never\n    version: \"1\"\n":                                false,
		head + "exactly\n    version: \"1\"\n    follow: newest\n":          false,
		head + "exactly\n    version: \"1\"\n    severity: high\n":          false,
		head + "exactly\n    follow: oldest\n":                              false,
		head + "exactly\n    version: \"1\"\n    extra: 1\n":                false,
		"baseline: b\nclauses: []\n":                                        true,
		"baseline: b\n":                                                     false,
		"baseline: b\nclauses: []\ndue: {critical: 14d, high: 2w}\n":        true,
		"baseline: b\nclauses: []\ndue: {critical: 0d}\n":                   false,
		"baseline: b\nclauses: []\ndue: {bad: 3d}\n":                        false,
		"clauses:\n  - component: deb:a\n    posture: never\n":              false,
		"baseline: b\nclauses:\n  - component: apt:a\n    posture: never\n": false,
		head + "never\nexceptions:\n  - component: fw:*\n    hosts: [vts/heron]\n    until: 2026-12-06\n" +
			"    reason: r\n    by: me\n": true,
		head + "never\nexceptions:\n  - component: fw:*\n    hosts: [vts/heron]\n    until: soon\n    reason: r\n" +
			"    by: me\n": false,
		head + "never\nexceptions:\n  - component: fw:*\n    hosts: [vts/heron]\n    until: 2026-12-06\n" +
			"    by: me\n": false,
	} {
		_, err := Parse("f.yaml", []byte(text))
		if (err == nil) != good {
			t.Errorf("the reader says %v of\n%s", err, text)
		}
		if err := admits(t, s, text); (err == nil) != good {
			t.Errorf("the schema says %v of\n%s", err, text)
		}
	}
}

func TestTheDemosBaselinesComeBackAsTheyWere(t *testing.T) {
	files, err := filepath.Glob("../../sim/demo/data/baselines/*.yaml")
	if err != nil || len(files) == 0 {
		t.Fatal(files, err)
	}
	s := schema(t)
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := admits(t, s, string(text)); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		first, err := Parse(name, text)
		if err != nil {
			t.Fatal(err)
		}
		again, err := Write(first)
		if err != nil {
			t.Fatal(err)
		}
		second, err := Parse(name, again)
		if err != nil {
			t.Fatalf("%v\n%s", err, again)
		}
		for _, b := range []*baseline.Baseline{&first, &second} {
			for i := range b.Clauses {
				b.Clauses[i].Line = 0
			}
		}
		if !reflect.DeepEqual(first, second) {
			t.Errorf("%s came back as\n%s", name, again)
		}
	}
}

// Every field that the reader knows is in the schema, and the other way round.
func TestTheSchemaKnowsEveryField(t *testing.T) {
	var doc struct {
		Properties map[string]any
		Defs       map[string]struct{ Properties map[string]any } `json:"$defs"`
	}
	if err := json.Unmarshal(Schema, &doc); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		of    any
		known map[string]any
	}{{file{}, doc.Properties}, {clause{}, doc.Defs["clause"].Properties},
		{exception{}, doc.Defs["exception"].Properties}} {
		ty := reflect.TypeOf(c.of)
		for i := range ty.NumField() {
			name, _, _ := strings.Cut(ty.Field(i).Tag.Get("yaml"), ",")
			if _, ok := c.known[name]; !ok {
				t.Errorf("the schema does not know %s of a %s", name, ty.Name())
			}
		}
		if ty.NumField() != len(c.known) {
			t.Errorf("the schema knows %d fields of a %s, the reader %d", len(c.known), ty.Name(), ty.NumField())
		}
	}
}

// A wish is written where it belongs, and all else stands as it stood.
func TestAWishIsWrittenIntoTheText(t *testing.T) {
	const text = `# kept by the night shift
baseline: b
assign: [vts, tides]   # both
clauses:

    # the kernel
  - component: deb:a
    posture: at least  # why
    version: "1"
  - posture: exactly
    component: fw:x
    hardware: L25
    version: >-
      2
  # the last one
  - component: deb:c
    posture: never

exceptions:
  - component: deb:a
    hosts:
      - vts/heron
    until: 2026-12-31
    reason: |
      it is
      old
    by: ken
# the end
`
	never := baseline.Wish{Clause: &baseline.Clause{Component: "deb:a", Posture: baseline.Never}}
	other := baseline.Wish{Clause: &baseline.Clause{Component: "fw:x", Posture: baseline.AtLeast, Version: "3"}}
	same := baseline.Wish{Clause: &baseline.Clause{Component: "fw:x", Hardware: "L25", Posture: baseline.IfPresent, Follow: true}}
	out := baseline.Wish{Exception: &baseline.Exception{Component: "deb:c", Hosts: []string{"tides"}, Reason: "so: it #is", By: "op",
		Until: time.Date(2026, 12, 2, 0, 0, 0, 0, time.Local)}}
	for _, c := range []struct {
		name     string
		text     string
		wish     baseline.Wish
		gone     string // from the text
		new      string
		line     int
		clauses  int
		excepted int
	}{
		{"in its place", text, never, "    posture: at least  # why\n    version: \"1\"\n", "    posture: never\n", 7, 3, 1},
		{"in the place of one that spreads", text, same,
			"  - posture: exactly\n    component: fw:x\n    hardware: L25\n    version: >-\n      2\n",
			"  - component: fw:x\n    posture: if present\n    follow: newest\n    hardware: L25\n", 10, 3, 1},
		{"for all hardware too", text, other, "", "  - component: fw:x\n    posture: at least\n    version: \"3\"\n", 18, 4, 1},
		{"another exception", text, out, "",
			"  - component: deb:c\n    hosts:\n    - tides\n    until: \"2026-12-01\"\n    reason: \"so: it #is\"\n    by: op\n", 28, 3, 2},
		{"the first exception, and no line's end", strings.TrimRight(head, " ") + " never", out, "", "exceptions:\n  - component: deb:c\n" +
			"    hosts:\n    - tides\n    until: \"2026-12-01\"\n    reason: \"so: it #is\"\n    by: op\n", 6, 1, 1},
	} {
		got, line, err := Amend("b.yaml", []byte(c.text), c.wish)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		rest := strings.Replace(c.text, c.gone, "", 1)
		if left := strings.Replace(string(got), c.new, "", 1); strings.TrimSpace(left) != strings.TrimSpace(rest) || line != c.line {
			t.Errorf("%s: line %d\n%s", c.name, line, got)
		}
		b, err := Parse("b.yaml", got)
		if err != nil || len(b.Clauses) != c.clauses || len(b.Exceptions) != c.excepted {
			t.Errorf("%s: %v %+v", c.name, err, b)
		}
	}
	for text, wish := range map[string]baseline.Wish{
		"baseline: b\nclauses: [{component: deb:a, posture: never}]\n":                                                                                       other,
		"baseline: b\nclauses:\n  - {component: deb:a, posture: never}\nexceptions: [{component: deb:a, hosts: [v], until: 2026-12-31, reason: r, by: b}]\n": out,
		"baseline: b\nclauses: no\n": other,
	} {
		if got, _, err := Amend("b.yaml", []byte(text), wish); err == nil {
			t.Errorf("it was written:\n%s", got)
		}
	}
}

// Whatever a baseline's text looks like: where a wish can be written into it, the text says what it said, and the wish.
func FuzzAmend(f *testing.F) {
	files, err := filepath.Glob("../../sim/demo/data/baselines/*.yaml")
	if err != nil || len(files) == 0 {
		f.Fatal(err)
	}
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(text), "deb:brae-tls", false)
		f.Add(strings.ReplaceAll(string(text), "\n", "\r\n"), "fw:corran-bmc", true)
	}
	f.Add("baseline: b\nclauses:\n- {component: deb:a,\n   posture: never}\n- component: &k deb:b\n  posture: never\n# end", "deb:a", false)
	f.Add("clauses:\n  - component: deb:a\n    posture: never\n\n\nbaseline: \"b\n  c\"\nassign:\n- x\n", "deb:a", true)
	f.Add("? baseline\n: b\nclauses:\n -\n  component: deb:a\n  posture: never\n", "deb:a", false)
	f.Add("baseline: b\nclauses: []\nexceptions: [ ]\n", "deb:a", false)
	f.Add("baseline: b\r\nclauses:   # what\r\n  # is\r\n  - component: deb:a # here\r\n    posture: never\r\n", "deb:a", false)
	f.Add("--- \nbaseline: b\nclauses:\n  - component: deb:a\n    posture: never\n...\n", "deb:b", false)
	f.Fuzz(func(t *testing.T, text, component string, except bool) {
		was, err := Parse("b.yaml", []byte(text))
		if err != nil {
			return
		}
		key, err := estate.ParseKey(component)
		if err != nil {
			return
		}
		w := baseline.Wish{Clause: &baseline.Clause{Component: key, Posture: baseline.Never}}
		if except {
			w = baseline.Wish{Exception: &baseline.Exception{Component: key, Hosts: []string{"c/h"}, Reason: "r", By: "op",
				Until: time.Date(2026, 12, 2, 0, 0, 0, 0, time.Local)}}
		}
		out, line, err := Amend("b.yaml", []byte(text), w)
		if err != nil {
			return
		}
		got, err := Parse("b.yaml", out)
		if err != nil {
			t.Fatalf("%q became %q: %v", text, out, err)
		}
		want := was
		want.Clauses, want.Exceptions = slices.Clone(was.Clauses), slices.Clone(was.Exceptions)
		if except {
			want.Exceptions = append(want.Exceptions, *w.Exception)
		} else if at, is := w.Replaces(want.Clauses); is {
			want.Clauses[at] = *w.Clause
		} else {
			want.Clauses = append(want.Clauses, *w.Clause)
		}
		for _, all := range [][]baseline.Clause{want.Clauses, got.Clauses} {
			for i := range all {
				all[i].Line = 0
			}
		}
		if !reflect.DeepEqual(got, want) || line < 1 || line > strings.Count(string(out), "\n") {
			t.Fatalf("line %d: %q became %q:\n%+v, want\n%+v", line, text, out, got, want)
		}
	})
}
