package advisory

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
)

func strict(err error) error { return err }

func demoFile(t testing.TB, name string) []byte {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("..", "..", "sim", "demo", "data", "feeds", name))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// Scores as FIRST's own calculators and examples have them.
func TestScores(t *testing.T) {
	for vector, want := range map[string]float64{
		"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H":                    9.8,
		"CVSS:3.0/AV:N/AC:L/PR:L/UI:N/S:C/C:L/I:L/A:N":                    6.4,
		"CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N": 9.3,
		"AV:N/AC:L/Au:N/C:N/I:N/A:C":                                      7.8,
		// threat, environment and supplement are somebody's own affair: the base score is the publisher's
		"CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N/E:U":             9.3,
		"CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N/CR:L/MAV:P/AU:Y": 9.3,
	} {
		if got, err := Score(vector); err != nil || got != want {
			t.Errorf("%s: %v %v, want %v", vector, got, err, want)
		}
	}
	if _, err := Score("CVSS:3.1/AV:N"); err == nil {
		t.Error("an incomplete vector was scored")
	}
	for score, want := range map[float64]catalogue.Severity{0: catalogue.Unknown, 0.1: catalogue.Low,
		3.9: catalogue.Low, 4: catalogue.Medium, 6.9: catalogue.Medium, 7: catalogue.High, 8.9: catalogue.High,
		9: catalogue.Critical, 10: catalogue.Critical} {
		if got := Rating(score); got != want {
			t.Errorf("%v is %v, want %v", score, got, want)
		}
	}
}

func TestOSV(t *testing.T) {
	as, err := ReadOSV(demoFile(t, "brae-advisories/BRAE-2026-0111.json"), strict)
	if err != nil || len(as) != 1 {
		t.Fatal(as, err)
	}
	a := as[0]
	if a.ID != "BRAE-2026-0111" || a.Severity != catalogue.Critical || a.Score != 9.8 || len(a.Affects) != 1 ||
		!a.Affects[0].Source || a.Affects[0].Component != "deb:brae-tls" || a.Affects[0].Fixed != "1.9-brae1" {
		t.Errorf("%+v", a)
	}
	as, err = ReadOSV([]byte(`[{"id":"A","modified":"2026-01-01T00:00:00Z","affected":[
	 {"package":{"ecosystem":"AlmaLinux:9","name":"crab"},"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"},
{"fixed":"2-1"},{"introduced":"3-1"},{"last_affected":"4-1"}]}]},
	 {"package":{"ecosystem":"npm","name":"left"},"ranges":[{"type":"SEMVER","events":[{"introduced":"0"}]}]},
	 {"package":{"ecosystem":"Debian","name":"open"},"ecosystem_specific":{"urgency":"low"},
"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"2-1"}]}]}]},
	 {"id":"B","modified":"2026-01-01T00:00:00Z","withdrawn":"2026-02-01T00:00:00Z","affected":[]}]`), strict)
	if err != nil || len(as) != 1 || len(as[0].Affects) != 3 {
		t.Fatalf("a withdrawn record and a foreign ecosystem are passed over: %+v %v", as, err)
	}
	f := as[0].Affects
	if f[0].System != "almalinux 9" || f[2].System != "" {
		t.Errorf("the distribution's release is in the ecosystem: %+v", f)
	}
	if f[0].Component != "rpm:crab" || f[0].Fixed != "2-1" || f[1].Since != "3-1" || f[1].Last != "4-1" ||
		f[2].Since != "2-1" || f[2].Fixed != "" || as[0].Severity != catalogue.Low {
		t.Errorf("%+v", as[0])
	}
	for text, want := range map[string]string{
		"{":          "not an OSV record",
		`{"x":1}`:    "no id or no date",
		`[{"id":1}]`: "not an OSV record",
		`{"id":"A","modified":"2026-01-01T00:00:00Z","severity":[{"type":"CVSS_V3",
"score":"CVSS:3.1/nonsense"}]}`: "is no CVSS vector",
	} {
		if _, err := ReadOSV([]byte(text), strict); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

func TestCSAF(t *testing.T) {
	text := demoFile(t, "corran-advisories/corran-sa-26-11.json")
	as, err := ReadCSAF(text)
	if err != nil || len(as) != 1 {
		t.Fatal(as, err)
	}
	a := as[0]
	if a.ID != "CORRAN-SA-26-11" || a.Severity != catalogue.High || a.Score != 8.1 || a.Published.Day() != 3 ||
		!strings.HasPrefix(a.Link, "https://corran.invalid/") {
		t.Errorf("%+v", a)
	}
	// What is fixed in a version needs no word on each that is affected.
	if len(a.Affects) != 1 || a.Affects[0].Component != "fw:lorne-l25" || a.Affects[0].Fixed != "7.4.2" {
		t.Errorf("%+v", a.Affects)
	}
	without := strings.Replace(string(text), `, "fixed": ["L25-7.4.2"]`, "", 1)
	if as, err := ReadCSAF([]byte(without)); err != nil || len(as[0].Affects) != 2 ||
		as[0].Affects[0].Since != "7.3.1" || as[0].Affects[0].Last != "7.3.1" {
		t.Errorf("with no fix each affected version is told: %+v %v", as, err)
	}
	purl := strings.ReplaceAll(string(text),
		`"x_generic_uris": [{"namespace": "https://yareharbour.invalid/component", "uri": "fw:lorne-l25"}]`,
		`"purl": "pkg:rpm/brae/crab@2.0-1?epoch=1"`)
	if as, err := ReadCSAF([]byte(purl)); err != nil || as[0].Affects[0].Component != "rpm:crab" ||
		as[0].Affects[0].Fixed != "1:2.0-1" {
		t.Errorf("by package URL: %+v %v", as, err)
	}
	// What publishers write beside the schema's letter: no relationship in the list, a score of CVSS 2 alone.
	none := strings.Replace(string(text), `"product_tree": {`, `"product_tree": {"relationships": [],`, 1)
	if as, err := ReadCSAF([]byte(none)); err != nil || len(as) != 1 || len(as[0].Affects) != 1 {
		t.Errorf("an empty list of relationships: %+v %v", as, err)
	}
	before, _, _ := strings.Cut(string(text), `"cvss_v3"`)
	two := before + `"cvss_v2": {"version": "2.0", "baseScore": 7.8,
"vectorString": "AV:N/AC:L/Au:N/C:N/I:N/A:C"}}]}]}`
	if as, err := ReadCSAF([]byte(two)); err != nil || as[0].Score != 7.8 || as[0].Severity != catalogue.High {
		t.Errorf("CVSS 2 alone: %+v %v", as, err)
	}
	for from, c := range map[string][2]string{
		`"csaf_version": "2.0"`: {`"csaf_version": "1.2"`, "by its schema"},
		`"tracking": {`:         {`"trackin": {`, "by its schema"},
		`{
  "document"`: {`[{"document"`, "not a CSAF document"},
	} {
		if _, err := ReadCSAF([]byte(strings.Replace(string(text), from, c[0], 1))); err == nil ||
			!strings.Contains(err.Error(), c[1]) {
			t.Errorf("%s: %v, want %q", c[0], err, c[1])
		}
	}
}

func FuzzOSV(f *testing.F) {
	f.Add(string(demoFile(f, "brae-advisories/BRAE-2026-0112.json")))
	f.Fuzz(func(t *testing.T, text string) {
		as, err := ReadOSV([]byte(text), strict)
		for _, a := range as {
			if err == nil && a.ID == "" {
				t.Error("an advisory without an id")
			}
		}
	})
}

func FuzzCSAF(f *testing.F) {
	f.Add(string(demoFile(f, "corran-advisories/corran-sa-26-11.json")))
	f.Fuzz(func(_ *testing.T, text string) { _, _ = ReadCSAF([]byte(text)) })
}

// Events mean the same in whatever order a record has them.
func TestEventsInAnyOrder(t *testing.T) {
	events := []string{`{"introduced":"0"}`, `{"fixed":"2-1"}`, `{"introduced":"3-1"}`, `{"last_affected":"4-1"}`}
	for _, order := range [][]int{{0, 1, 2, 3}, {3, 2, 1, 0}, {1, 0, 3, 2}, {2, 0, 3, 1}} {
		var list []string
		for _, i := range order {
			list = append(list, events[i])
		}
		as, err := ReadOSV(fmt.Appendf(nil,
			`{"id":"A","modified":"2026-01-01T00:00:00Z","affected":[{"package":{"ecosystem":"Debian","name":"crab"},
"ranges":[{"type":"ECOSYSTEM","events":[%s]}]}]}`,
			strings.Join(list, ",")), strict)
		if err != nil || len(as) != 1 || len(as[0].Affects) != 2 {
			t.Fatalf("%v: %+v %v", order, as, err)
		}
		if f := as[0].Affects; f[0].Since != "" || f[0].Fixed != "2-1" || f[1].Since != "3-1" || f[1].Last != "4-1" {
			t.Errorf("%v: %+v", order, f)
		}
	}
	as, err := ReadOSV([]byte(
		`{"id":"A","modified":"2026-01-01T00:00:00Z","affected":[{"package":{"ecosystem":"Debian","name":"crab"},
"versions":["1-1","1-2"]}]}`), strict)
	if err != nil || len(as[0].Affects) != 2 || as[0].Affects[1].Since != "1-2" || as[0].Affects[1].Last != "1-2" {
		t.Errorf("versions that are named one by one: %+v %v", as, err)
	}
	// Those that are named count beside the ranges (affected are both), but not twice.
	as, err = ReadOSV([]byte(
		`{"id":"A","modified":"2026-01-01T00:00:00Z","affected":[{"package":{"ecosystem":"Debian","name":"crab"},
"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"3-1"},{"fixed":"3-4"}]},
{"type":"GIT","events":[{"introduced":"0"}]}],"versions":["1-1","3-2"]}]}`), strict)
	if err != nil || len(as[0].Affects) != 2 || as[0].Affects[0].Fixed != "3-4" || as[0].Affects[1].Last != "1-1" {
		t.Errorf("versions beside ranges: %+v %v", as, err)
	}
	as, err = ReadOSV([]byte(
		`{"id":"A","modified":"2026-01-01T00:00:00Z","affected":[
{"package":{"ecosystem":"Debian:12","name":"crab"},"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"}]}]},
{"package":{"ecosystem":"Debian:13","name":"crab"},"versions":["1-1"]}]}`), strict)
	if err != nil || len(as[0].Affects) != 2 || as[0].Affects[1].System != "debian 13" {
		t.Errorf("a version of one release is not covered by a range of another: %+v %v", as, err)
	}
	as, err = ReadOSV([]byte(
		`{"id":"A","modified":"2026-01-01T00:00:00Z","affected":[{"package":{"ecosystem":"Debian","name":"crab"},
"ranges":[{"type":"GIT","events":[{"introduced":"0"}]}]}]}`), strict)
	if err == nil || !strings.Contains(err.Error(), "record A: it names packages of hosts") {
		t.Errorf("a record of which nothing is understood: %+v %v", as, err)
	}
}

func TestSystemOfAnEcosystem(t *testing.T) {
	for ecosystem, want := range map[string]string{"Debian:12": "debian 12", "Debian": "", "Debian:": "",
		"Ubuntu:24.04:LTS": "ubuntu 24.04", "Ubuntu:Pro:22.04:LTS": "ubuntu 22.04", "Ubuntu:25.10": "ubuntu 25.10",
		"Rocky Linux:9": "rocky 9", "Red Hat:something:9::base": "", "Debian:sid": "", "npm": ""} {
		if got := systemOf(ecosystem); got != want {
			t.Errorf("%s: %q, want %q", ecosystem, got, want)
		}
	}
}
