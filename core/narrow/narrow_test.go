package narrow

import (
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/catalogue"
)

var line = Subject{Hosts: []string{"avocet"}, Component: "fw:tarbet-s9", Severity: catalogue.High, Vendor: "Corran",
	Verdicts: []string{"off track"}, Age: 20 * 24 * time.Hour, Words: []string{"5.2.0", "Tarbet S9"}}

func TestLets(t *testing.T) {
	for text, want := range map[string]bool{
		"": true, "TARBET": true, "tarbet 5.2": true, "tarbet nothing": false, "-nothing": true, "-tarbet": false,
		"layer=firmware": true, "layer=driver": false, "layer=driver,firmware": true, "-layer=driver": true,
		"severity=high": true, "severity=low": true, "severity=critical": false, "vendor=cor": true,
		"vendor=lorne": false,
		"host=avo*":    true, "host=a?ocet": true, "host=AVOCET": true, "host=heron,avocet": true,
		"host=h*": false, "-host=h*": true,
		"kind=fw": true, "kind=deb,drv": false, "verdict=off-track": true, "verdict=behind": false, "age=30": true,
		"age=7": false, "age=-7": true, "age=-30": false,
		"firmware corran high avocet": true, "off": true,
	} {
		f, err := Parse(text)
		if err != nil || f.Lets(line) != want || f.String() != text {
			t.Errorf("%q lets through %v, want %v (%v)", text, f.Lets(line), want, err)
		}
	}
	f, _ := Parse("age=30")
	if f.Lets(Subject{Age: -1}) {
		t.Error("what has no date is of no age")
	}
	f, _ = Parse("host=a* layer=driver")
	if got := f.Hosts([]string{"avocet", "heron"}); !slices.Equal(got, []string{"avocet"}) {
		t.Errorf("hosts %v", got)
	}
}

func TestWhatCannotBeUnderstoodIsSaid(t *testing.T) {
	for text, want := range map[string]string{
		"colour=red": `no field "colour"`, "layer=cloud": `no layer "cloud"`, "severity=bad": "no severity",
		"kind=apk": `no kind "apk"`, "age=soon": "a number of days", "age=0": "a number of days",
		"host=[": "is no pattern", "vendor=": "wants a value",
	} {
		if _, err := Parse(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// A filter and its opposite never let the same through, and together let everything through.
func FuzzNot(f *testing.F) {
	for _, s := range []string{"tarbet", "layer=firmware", "host=a*", "age=30", "severity=high"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, word string) {
		if strings.ContainsAny(word, " \t\n\v\f\r\u0085\u00a0") || strings.HasPrefix(word, "-") ||
			len(strings.Fields(word)) != 1 {
			return
		}
		a, err := Parse(word)
		b, errNot := Parse("-" + word)
		if (err == nil) != (errNot == nil) {
			t.Fatalf("%q: %v, and turned around %v", word, err, errNot)
		}
		if err == nil && a.Lets(line) == b.Lets(line) {
			t.Errorf("%q and its opposite agree", word)
		}
	})
}
