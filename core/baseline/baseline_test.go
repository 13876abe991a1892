package baseline

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Each baseline is "name rank assigned,…: component version, …"; the answer is what binds a component on a host.
func parse(t *testing.T, text string) (out []Baseline) {
	t.Helper()
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		head, clauses, _ := strings.Cut(line, ":")
		f := strings.Fields(head)
		b := Baseline{Name: f[0], Rank: int(f[1][0] - '0'), Assign: strings.Split(f[2], ",")}
		for _, c := range strings.Split(clauses, ",") {
			w := strings.Fields(c)
			b.Clauses = append(b.Clauses, Clause{Component: estate.Key("deb:" + w[0]), Posture: Exactly, Version: w[1]})
		}
		out = append(out, b)
	}
	return out
}

func TestWhichClauseBinds(t *testing.T) {
	bs := parse(t, `
		site 5 vts,tides: ssl 1, ssh 1, * 9
		vts-own 3 vts: ssl 2
		trial 3 vts/heron: ssh 7
		rival 5 tides: ssh 2`)
	for _, c := range []struct{ host, component, version, from, against string }{
		{"vts/knot", "ssl", "2", "vts-own", ""},                     // the lower rank goes before
		{"tides/knot", "ssl", "1", "site", ""},                      // and binds only what it is assigned to
		{"vts/heron", "ssh", "7", "trial", ""},                      // one host alone
		{"vts/knot", "ssh", "1", "site", ""},                        //
		{"tides/knot", "ssh", "1", "site", "rival wants exactly 2"}, // equals disagree
		{"vts/knot", "bash", "9", "site", ""},                       // the whole kind
		{"yard/ruff", "ssl", "", "", ""},                            // nobody is assigned there
	} {
		cluster, host, _ := strings.Cut(c.host, "/")
		b := Bind(bs, cluster, host, nil).For(estate.Key("deb:"+c.component), "")
		if b == nil {
			if c.from != "" {
				t.Errorf("%s %s: nothing binds", c.host, c.component)
			}
			continue
		}
		if b.Version != c.version || b.Baseline != c.from || b.Rivals() != c.against {
			t.Errorf("%s %s: %s of %s, against %v; want %+v", c.host, c.component, b.Version, b.Baseline, b.Against, c)
		}
	}
}

func TestEqualClausesOfOneRankDoNotDispute(t *testing.T) {
	b := Bind(parse(t, "a 1 vts: ssl 1\nb 1 vts: ssl 1"), "vts", "knot", nil).For("deb:ssl", "")
	if len(b.Against) > 0 {
		t.Error(b.Against)
	}
}

func TestNamedListsWhoseAbsenceCanMatter(t *testing.T) {
	got := Bind(parse(t, "a 1 vts: ssl 1, ssh 1, * 1"), "vts", "knot", nil).Named()
	if len(got) != 2 || got[0] != "deb:ssh" || got[1] != "deb:ssl" {
		t.Error(got)
	}
}

func TestAnExceptionHoldsThroughItsEndAndNoLonger(t *testing.T) {
	end := time.Date(2026, 12, 7, 0, 0, 0, 0, time.UTC)
	s := Bind([]Baseline{{Name: "a", Assign: []string{"vts"},
		Exceptions: []Exception{{Component: "fw:*", Hosts: []string{"vts/knot"}, Until: end}}}}, "vts", "knot", nil)
	if s.Excepted("fw:bios", end.Add(-time.Second)) == nil || s.Excepted("fw:bios", end) != nil ||
		s.Excepted("deb:ssl", end.Add(-time.Hour)) != nil {
		t.Error("it holds at the wrong times or for the wrong things")
	}
	other := Bind([]Baseline{{Name: "a", Assign: []string{"vts"},
		Exceptions: []Exception{{Component: "fw:*", Hosts: []string{"vts/knot"}, Until: end}}}}, "vts", "heron", nil)
	if other.Excepted("fw:bios", end.Add(-time.Hour)) != nil {
		t.Error("one host's exception pardons another")
	}
}

func TestSays(t *testing.T) {
	for want, c := range map[string]Clause{
		"never":     {Posture: Never},
		"exactly 1": {Posture: Exactly, Version: "1"},
		"at least the newest on track 4 of severity high and above that is 14 days old": {Posture: AtLeast,
			Follow: true, Track: "4", Severity: 3, MinAge: 14 * 24 * time.Hour},
	} {
		if got := c.Says(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

func TestDerive(t *testing.T) {
	r := &estate.Reading{Host: "knot",
		Components: []estate.Component{{Key: "deb:ssl", Version: "2"},
			{Key: "fw:nic", Device: "slot 2", Version: "22.4"},
			{Key: "fw:nic", Device: "slot 4", Version: "22.3"}}}
	for _, s := range []estate.SectionName{estate.Packages, estate.Drivers} {
		r.SetSection(estate.Section{Name: s})
	}
	if _, err := Derive(r, "b", estate.Layers[:3]); err == nil ||
		!strings.Contains(err.Error(), "unread are firmware (never read)") {
		t.Errorf("half a host was taken for a model: %v", err)
	}
	b, err := Derive(r, "b", []estate.Layer{estate.Platform})
	if err != nil || len(b.Clauses) != 1 || b.Clauses[0].Says() != "at least 2" {
		t.Errorf("%+v %v", b, err)
	}
	r.SetSection(estate.Section{Name: estate.FirmwareItems})
	b, err = Derive(r, "b", estate.Layers[:3])
	if err != nil || len(b.Clauses) != 2 || b.Clauses[1].Version != "22.3" {
		t.Errorf("%+v %v", b, err)
	}
	if _, err := Derive(r, "b", []estate.Layer{estate.Driver}); err == nil {
		t.Error("a baseline without clauses was derived")
	}
}

func TestCompareSaysWhatChanged(t *testing.T) {
	until := time.Date(2026, 12, 7, 0, 0, 0, 0, time.UTC)
	from := Baseline{Rank: 1, Assign: []string{"a"},
		Clauses: []Clause{{Component: "deb:a", Posture: AtLeast, Version: "1"}, {Component: "deb:b", Posture: Never},
			{Component: "fw:n", Posture: Exactly, Version: "1", Hardware: "L25"}},
		Exceptions: []Exception{{Component: "deb:a", Hosts: []string{"a"}, Until: until, Reason: "r", By: "x"}}}
	to := Baseline{Rank: 1, Assign: []string{"a", "b"},
		Clauses: []Clause{{Component: "deb:a", Posture: AtLeast, Version: "2", Line: 7},
			{Component: "deb:c", Posture: Never}, {Component: "fw:n", Posture: Exactly, Version: "1", Hardware: "L25"}}}
	var got []string
	for _, c := range Compare(from, to) {
		got = append(got, c.String())
	}
	want := []string{"~ binds: a → a, b", "~ deb:a: at least 1 → at least 2", "− deb:b: never", "+ deb:c: never",
		"− exception of deb:a: on a until " + until.Add(-time.Second).Format(time.DateOnly) + " by x: r"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%s", strings.Join(got, "\n"))
	}
	if c := Compare(to, to); len(c) != 0 {
		t.Errorf("nothing differs from itself: %v", c)
	}
}

func TestPrintTellsWhoIsBoundAlike(t *testing.T) {
	bs := []Baseline{{Assign: []string{"a", "b"}},
		{Assign: []string{"a/one"}, Exceptions: []Exception{{Hosts: []string{"b"}}}}}
	if Print(bs, "a", "two") == Print(bs, "a", "one") || Print(bs, "a", "two") != Print(bs, "a", "three") ||
		Print(bs, "a", "two") == Print(bs, "b", "two") {
		t.Error("hosts that other clauses or exceptions bind look alike, or hosts that the same bind do not")
	}
}

// A baseline that is begun by a rule wants the newest that the rule admits of what hosts have, and of an empty one nothing.
func TestBegin(t *testing.T) {
	b, err := Begin("b", Beginning{Kinds: []string{"fw", "deb"}, Components: []estate.Key{"drv:x"}, Severity: catalogue.High})
	if err != nil || len(b.Clauses) != 3 || b.Clauses[0].Component != "drv:x" || b.Clauses[1].Component != "fw:*" {
		t.Fatalf("%+v %v", b, err)
	}
	for _, c := range b.Clauses {
		if c.Posture != IfPresent || !c.Follow || c.Severity != catalogue.High {
			t.Errorf("%+v", c)
		}
	}
	if b, err := Begin("b", Beginning{}); err != nil || len(b.Clauses) != 0 {
		t.Errorf("%+v %v", b, err)
	}
	for _, kind := range []string{"set", "apk"} {
		if _, err := Begin("b", Beginning{Kinds: []string{kind}}); err == nil {
			t.Errorf("a baseline of the kind %q was begun", kind)
		}
	}
}
