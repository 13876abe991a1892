// Package format holds the readers and writers of files; its tests here hold the YAML files to their errors and their
// schemas' promises.
package format

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/format/baselinefile"
	"yareharbour/format/estatefile"
	"yareharbour/format/releaselist"
	"yareharbour/format/strictyaml"
)

func baselineErr(text string) error { _, err := baselinefile.Parse("f.yaml", []byte(text)); return err }
func releasesErr(text string) error {
	_, err := releaselist.Parse("f.yaml", []byte(text))
	return err
}
func estateErr(text string) error { _, err := estatefile.Parse("f.yaml", []byte(text)); return err }

const clause = "baseline: b\nclauses:\n  - component: deb:a\n    posture: at least\n"

// YAML takes 2.30 for the number 2.3 and 010 for 8; a version is none of these.
func TestVersionsStayAsTheyAreWritten(t *testing.T) {
	for _, v := range []string{"2.30", "010", "0x10", "1e3", "4.19.0", "2026-11-01", "7", "1.0"} {
		b, err := baselinefile.Parse("f.yaml", []byte(clause+"    version: "+v+"\n"))
		if err != nil || b.Clauses[0].Version != v {
			t.Errorf("version: %s is read as %+v, %v", v, b.Clauses, err)
		}
		l, err := releaselist.Parse("f.yaml",
			[]byte("feed: f\ncomponents:\n  - component: fw:a\n    releases:\n      - version: "+v+"\n"))
		if err != nil || l.Releases[0].Version != v {
			t.Errorf("a release's version: %s is read as %+v, %v", v, l, err)
		}
	}
	anchored := "baseline: b\nclauses:\n  - component: deb:a\n    posture: at least\n    version: &v 2.30\n" +
		"  - component: deb:b\n    posture: at least\n    version: *v\n"
	if b, err := baselinefile.Parse("f.yaml", []byte(anchored)); err != nil || b.Clauses[0].Version != "2.30" ||
		b.Clauses[1].Version != "2.30" {
		t.Errorf("%+v, %v", b, err)
	}
}

func TestErrorsSayWhereAndWhat(t *testing.T) {
	for _, c := range []struct {
		name  string
		parse func(string) error
		text  string
		want  string // with its place
	}{
		{"empty file", baselineErr, "", "f.yaml: the file is empty"},
		{"only a comment", baselineErr, "# nothing\n", "f.yaml: the file is empty"},
		{"two documents", baselineErr, clause + "    version: 1\n---\nbaseline: c\n", "a second document begins here"},
		{"wrong type", baselineErr, "baseline: b\nrank: high\nclauses: []\n",
			`f.yaml:2:7: a whole number is expected here, and this is "high"`},
		{"half a number", baselineErr, "baseline: b\nrank: 2.5\nclauses: []\n",
			`f.yaml:2:7: a whole number is expected here, and this is "2.5"`},
		{"a number that reads as another", baselineErr, "baseline: b\nrank: 010\nclauses: []\n",
			`f.yaml:2:7: a whole number is expected here, and this is "010"`},
		{"a number too large", baselineErr, "baseline: b\nrank: 99999999999999999999\nclauses: []\n",
			"f.yaml:2:7: 99999999999999999999 is too large a number"},
		{"a list for a text", baselineErr, "baseline: [b]\n",
			"f.yaml:1:11: a text is expected here, and this is a list"},
		{"a text for a list", baselineErr, "baseline: b\nassign: tides\n",
			"f.yaml:2:9: a list is expected here, and this is a single value"},
		{"a mapping for a text", baselineErr, clause + "    follow: {newest: yes}\n",
			"f.yaml:5:13: a text is expected here, and this is a mapping"},
		{"no name", baselineErr, "clauses:\n  - component: deb:a\n", `expected "baseline: NAME"`},
		{"no clauses", baselineErr, "baseline: b\n", "the baseline has no clauses"}, {"due in no severity", baselineErr, "baseline: b\nclauses: []\ndue: {bad: 14d}\n", "no severity"}, {"due after no time", baselineErr, "baseline: b\nclauses: []\ndue: {high: soon}\n", "as 14d"},
		{"component of no kind", baselineErr, "baseline: b\nclauses:\n  - component: apt:a\n",
			"f.yaml:3:16: component \"apt:a\""},
		{"neither pinned nor following", baselineErr, clause, `f.yaml:3:5: the clause says neither`},
		{"both", baselineErr, clause + "    version: 1\n    follow: newest\n",
			"f.yaml:5:14: the clause both names a version"},
		{"follows something else", baselineErr, clause + "    follow: oldest\n",
			`f.yaml:5:13: nothing can be followed but "newest"`},
		{"a bad version", baselineErr, clause + "    version: one\n",
			"f.yaml:5:14: version \"one\" does not start with a digit"},
		{"never with a version", baselineErr, "baseline: b\nclauses:\n  - component: deb:a\n    posture: never\n" +
			"    version: 1\n", "f.yaml:4:14: a component that must never"},
		{"one component twice", baselineErr, clause + "    version: 1\n  - component: deb:a\n    posture: never\n",
			"f.yaml:6:16: deb:a has a clause already, on line 3"},
		{"severity of no name", baselineErr, clause + "    follow: newest\n    severity: bad\n",
			`f.yaml:6:15: no severity "bad"`},
		{"exception without an end", baselineErr, clause + "    version: 1\nexceptions:\n  - component: deb:a\n" +
			"    hosts: [c]\n    reason: r\n    by: me\n", "an exception needs its last day"},
		{"track that is not declared", releasesErr, "feed: f\ncomponents:\n  - component: fw:a\n    tracks:\n" +
			"      - name: x\n        versions: \"1.\"\n    releases:\n      - version: \"1.0\"\n        track: y\n",
			"f.yaml:9:16: the release must name one of the tracks [x]"},
		{"file without a hash", releasesErr, "feed: f\ncomponents:\n  - component: fw:a\n    releases:\n" +
			"      - version: \"1\"\n        file: a.bin\n", "nothing unverified is applied"},
		{"hash that is none", releasesErr, "feed: f\ncomponents:\n  - component: fw:a\n    releases:\n" +
			"      - version: \"1\"\n        sha256: beef\n", "64 hexadecimal digits"},
		{"restart of no kind", releasesErr, "feed: f\ncomponents:\n  - component: fw:a\n    releases:\n" +
			"      - version: \"1\"\n        restart: maybe\n", `f.yaml:6:18: no restart "maybe"`},
		{"date that is none", releasesErr, "feed: f\ncomponents:\n  - component: fw:a\n    releases:\n" +
			"      - version: \"1\"\n        date: soon\n", `f.yaml:6:15: the date "soon"`},
		{"connector of no kind", estateErr, "estate: e\nconnector:\n  kind: magic\n",
			`f.yaml:3:9: no connector "magic"`},
		{"indices of no architecture", estateErr, "estate: e\nconnector:\n  kind: sim\nindexes:\n  - dir: lists\n",
			"f.yaml:5:5: indices need the directory they are in and the hosts' architecture"},
		{"reserve that can't be", estateErr, "estate: e\nconnector:\n  kind: sim\nclusters:\n  - name: c\n" +
			"    reserve: 2\n    hosts: [a, b]\n", "f.yaml:6:14: a reserve of 2 host(s) can't be kept by 2 hosts"},
	} {
		err := c.parse(c.text)
		var at *strictyaml.Error
		if err == nil || !strings.Contains(err.Error(), c.want) || !errors.As(err, &at) {
			t.Errorf("%s:\n got  %v\n want %s", c.name, err, c.want)
		}
	}
}

func TestTheDemosFilesAreRead(t *testing.T) {
	n := 0
	for pattern, parse := range map[string]func(string) error{"releases": releasesErr,
		"baselines": baselineErr, ".": estateErr} {
		files, _ := filepath.Glob(filepath.Join("..", "sim", "demo", "data", pattern, "*.yaml"))
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			if err := parse(string(b)); err != nil {
				t.Errorf("%s: %v", f, err)
			}
			n++
		}
	}
	if n < 6 {
		t.Errorf("only %d files were read", n)
	}
}

func FuzzYAML(f *testing.F) {
	f.Add(clause + "    version: 1\n")
	f.Add("feed: f\ncomponents:\n  - component: fw:a\n    releases: [{version: \"1\"}]\n")
	f.Add("estate: e\nconnector: {kind: sim}\nclusters: [{name: c, hosts: [a]}]\n")
	f.Add("a: &x [*x]\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, err := range []error{baselineErr(text), releasesErr(text), estateErr(text)} {
			var at *strictyaml.Error
			if err != nil && !errors.As(err, &at) {
				t.Errorf("an error without a place: %v", err)
			}
		}
	})
}
