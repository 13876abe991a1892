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

// What nobody knows of a verdict does not make it something else: narrowed by that, both ways, it stays. What is known of
// it counts; and its verdict and words might come to be any.
func TestWhatNobodyKnowsStays(t *testing.T) {
	open := Subject{Hosts: []string{"avocet"}, Component: "fw:tarbet-s9", Verdicts: []string{"unread"}, Age: -1, Hardware: []string{""},
		Open: true}
	known := open
	known.Open = false
	for text, want := range map[string]struct{ lets, might, known bool }{
		"severity=critical": {true, true, false}, "-severity=critical": {true, true, true},
		"vendor=corran": {true, true, false}, "-vendor=corran": {true, true, true},
		"age=30": {true, true, false}, "-age=30": {true, true, true}, "age=-30": {true, true, false},
		"class=network": {true, true, false}, "-class=network": {true, true, true},
		"hardware=lorne*": {true, true, false}, "-hardware=lorne*": {true, true, true},
		"host=heron": {false, false, false}, "host=a*": {true, true, true}, "-host=a*": {false, false, false},
		"layer=driver": {false, false, false}, "kind=fw": {true, true, true},
		"verdict=unread": {true, true, true}, "verdict=behind": {false, true, false}, "-verdict=unread": {false, true, false},
		"critical": {true, true, false}, "-critical": {true, true, true}, "tarbet": {true, true, true},
		"night":                        {false, true, false},
		"severity=critical host=heron": {false, false, false}, "severity=critical verdict=behind": {false, true, false},
	} {
		f, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		if f.Lets(open) != want.lets || f.Might(open) != want.might || f.Lets(known) != want.known || f.Might(known) != want.known {
			t.Errorf("%s: lets %v, might %v; known, lets %v, might %v", text, f.Lets(open), f.Might(open), f.Lets(known), f.Might(known))
		}
	}
	stated := open // an undecided one has a model, and perhaps a release
	stated.Severity, stated.Vendor, stated.Age, stated.Class, stated.Hardware = catalogue.Low, "Lorne", 24*time.Hour, "storage",
		[]string{"Tarbet S9"}
	for _, text := range []string{"severity=critical", "vendor=corran", "age=-30", "class=network", "hardware=lorne*"} {
		if f, _ := Parse(text); f.Lets(stated) || f.Might(stated) {
			t.Errorf("%s: what is known of an open verdict does not count", text)
		}
	}
	pkg := Subject{Component: "deb:k", Open: true, Age: -1}
	for _, text := range []string{"class=network", "hardware=lorne*"} {
		if f, _ := Parse(text); f.Lets(pkg) {
			t.Errorf("%s: a package is of no class and on no hardware", text)
		}
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

// An age of so many days is in it; what is about a host alone has neither severity nor the like, and what is about no host
// might be about any.
func TestEdgesOfAFilter(t *testing.T) {
	lets := func(text string, s Subject) bool {
		f, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		return f.Lets(s)
	}
	day := 24 * time.Hour
	for age, want := range map[time.Duration][2]bool{0: {true, false}, 30 * day: {true, false}, 30*day + 1: {false, true}, -1: {false, false}} {
		s := Subject{Component: "deb:k", Age: age, Verdicts: []string{"behind"}}
		if lets("age=30", s) != want[0] || lets("age=-30", s) != want[1] {
			t.Errorf("%s: %v, %v", age, lets("age=30", s), lets("age=-30", s))
		}
	}
	used, unused := Subject{Component: "deb:k", Hosts: []string{"heron"}, Verdicts: []string{"x"}}, Subject{Component: "deb:k", Verdicts: []string{"x"}}
	if !lets("used=yes", used) || lets("used=yes", unused) || lets("used=no", used) || !lets("used=no", unused) {
		t.Error("used")
	}
	host := Subject{Hosts: []string{"heron"}, Age: -1, Open: true}
	if !lets("severity=high", host) || !lets("class=disk", host) || !lets("host=heron", host) || lets("host=ibis", host) || lets("night", host) {
		t.Error("about a host alone")
	}
	if nowhere := (Subject{Age: -1, Open: true}); !lets("host=heron", nowhere) || !lets("-host=heron", nowhere) {
		t.Error("about no host")
	}
	known := Subject{Component: "deb:k", Age: -1, Hosts: []string{"heron"}, Verdicts: []string{"unread"}, Open: true}
	if lets("hardware=x", known) || lets("class=disk", known) { // a package is on no hardware
		t.Error("of a package hardware is known: it has none")
	}
}
