package drift

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// told makes a reading at hour h of components "KEY VERSION" and sections "!NAME" that were not read.
func told(host string, h int, items ...string) *estate.Reading {
	r := &estate.Reading{Host: host, Release: "Brae Linux 4.2"}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s, At: now.AddDate(0, 0, h), Source: "test"})
	}
	for _, i := range items {
		if name, ok := strings.CutPrefix(i, "!"); ok {
			r.SetSection(estate.Section{Name: estate.SectionName(name), At: now.AddDate(0, 0, h), Err: "silent"})
			continue
		}
		key, ver, _ := strings.Cut(i, " ")
		r.Components = append(r.Components, estate.Component{Key: estate.Key(key), Version: ver})
	}
	r.Sort()
	return r
}

func TestCompareSaysWhatDiffersAndWhatItCannotSay(t *testing.T) {
	a := told("heron", 0, "deb:a 1", "deb:b 1", "fw:n 1", "agent:ga 1")
	b := told("heron", 1, "deb:a 2", "deb:c 1", "fw:n 2", "!firmware")
	b.Kernel.Running, b.BootID = "6.2", "x"
	c := Compare(a, b)
	var got []string
	for _, x := range c.Turns {
		got = append(got, fmt.Sprintf("%s %s>%s", x.Component, x.From, x.To))
	}
	if want := []string{"deb:a 1>2", "deb:b 1>", "deb:c >1"}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v: firmware was not read, and guests come and go", got, want)
	}
	if !slices.Equal(c.Unread, []estate.SectionName{estate.FirmwareItems}) || len(c.Facts) != 2 {
		t.Errorf("%+v", c)
	}
	if other := told("ibis", 0, "deb:a 1"); len(Compare(told("heron", 0, "deb:a 1"), other).Facts) != 0 {
		t.Error("two hosts have boots and serial numbers of their own")
	}
}

// A version that could not be read is no difference: not to a sibling, not to another time, and nothing that came or
// went.
func TestAVersionNobodyCanTellIsNoDifference(t *testing.T) {
	known, lost, back := told("h", 0, "fw:n 1", "fw:m 1"), told("h", 1, "fw:n", "fw:m 1"),
		told("h", 2, "fw:n 1", "fw:m 1")
	for _, pair := range [][2]*estate.Reading{{known, lost}, {lost, back}, {lost, told("h", 3, "fw:m 1")}} {
		if c := Compare(pair[0], pair[1]); len(c.Turns) != 0 {
			t.Errorf("%+v", c.Turns)
		}
	}
	if turns := Life([]*estate.Reading{known, lost, back}); len(turns) != 0 {
		t.Errorf("a life of %+v", turns)
	}
	if turns := Life([]*estate.Reading{known, lost, told("h", 2, "fw:n 2", "fw:m 1")}); len(turns) != 1 ||
		turns[0].From != "1" || turns[0].To != "2" {
		t.Errorf("a life of %+v, want 1 to 2", turns)
	}
	other := told("i", 0, "fw:n", "fw:m 1")
	if s := CompareSiblings([]*estate.Reading{known, other}); len(s[0].Differences) != 0 || len(s[0].Groups) != 1 {
		t.Errorf("%+v", s)
	}
	spans := Spans([]*estate.Reading{known, lost, back}, []time.Time{now, now.AddDate(0, 0, 1), now.AddDate(0, 0, 2)})
	if len(spans) != 2 || spans[0].Version == "" || spans[1].Version == "" {
		t.Errorf("%+v", spans)
	}
}

func TestSpansSayFirstAndLastSeen(t *testing.T) {
	rs := []*estate.Reading{told("h", 0, "fw:n 1"), told("h", 2, "!firmware"), told("h", 3, "fw:n 2"), told("h", 5),
		told("h", 7, "fw:n 2")}
	at := func(d int) time.Time { return now.AddDate(0, 0, d) }
	var got []string
	for _, s := range Spans(rs, []time.Time{at(1), at(2), at(4), at(6), at(9)}) {
		got = append(got, fmt.Sprint(s.Version, " ", s.First.Sub(now)/day, "-", s.Last.Sub(now)/day, " ", s.Now))
	}
	if want := []string{"2 7ns-9ns true", "2 3ns-4ns false", "1 0s-1ns false"}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v: it was gone between, and what was not read says nothing", got, want)
	}
}

func TestNewsIsWhatTheLastLookDidNotSee(t *testing.T) {
	verdicts := func(outcomes ...Outcome) map[string][]Verdict {
		var vs []Verdict
		for i, o := range outcomes {
			vs = append(vs, Verdict{Host: "h", Component: estate.Key(fmt.Sprintf("fw:n%d", i)), Outcome: o, Has: "1"})
		}
		return map[string][]Verdict{"h": vs}
	}
	seen := See(verdicts(Behind, InLine, Unread, Behind, Excepted))
	var got []string
	for _, v := range seen.Since(verdicts(Behind, Behind, Unread, Withdrawn, Excepted)) {
		got = append(got, string(v.Component)+" "+v.Outcome.String())
	}
	if want := []string{"fw:n1 behind", "fw:n3 withdrawn"}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	all := verdicts(Behind, InLine, Unread, Undecided, Excepted)
	all["bare"], all["aside"] = nil, []Verdict{{Host: "aside", Outcome: Excepted}}
	t1 := Count(now, []string{"h", "bare", "aside", "never"}, all)
	if t1.Drift[estate.Firmware] != 1 || t1.Unread != 1 || t1.InLine != 1 || t1.Adrift != 1 ||
		t1.Hosts != 4 || t1.Total() != 1 {
		t.Errorf("%+v", t1)
	}
	if got := t1.Open(); got != "1 unread, 1 undecided, 2 not covered, 1 never read" {
		t.Errorf("%s", got)
	}
	if got := Count(now, []string{"h"}, verdicts(InLine)).Open(); got != "" {
		t.Errorf("%s", got)
	}
}

// C2: who lacks the component of an "if present" clause and who lacks that of an "at least" clause are not the same,
// and neither is in line by mistake.
func TestLackingAComponentIsNeverInLineByMistake(t *testing.T) {
	for posture, want := range map[baseline.Posture]Outcome{baseline.IfPresent: NotApplying, baseline.AtLeast: Absent,
		baseline.Exactly: Absent} {
		for _, follow := range []bool{true, false} {
			cl := baseline.Clause{Component: "fw:n", Posture: posture, Follow: follow}
			if !follow {
				cl.Version = "2"
			}
			c := &Checker{Catalogue: &catalogue.Catalogue{}, Now: now,
				Baselines: []baseline.Baseline{{Name: "b", Assign: []string{"c"}, Clauses: []baseline.Clause{cl}}}}
			vs := c.Host("c", told("h", 0, "deb:other 1"))
			s := Summarize(vs)
			want := want
			if follow && want == Absent { // nobody says what is to be put in
				want = Undecided
			}
			if len(vs) != 1 || vs[0].Outcome != want || s.InLine != 0 {
				t.Errorf("%s (follows %v): %v, %d in line", posture, follow, vs[0].Outcome, s.InLine)
			}
		}
	}
}

// D6: each reason for which nothing is offered has its own words.
func TestWhyNothingIsOffered(t *testing.T) {
	for name, c := range map[string]struct {
		releases []catalogue.Release
		want     string
	}{
		"no feed": {nil, "No feed has any release of it"},
		"wrong package": {[]catalogue.Release{{Component: "rpm:ssl", Version: "2"}},
			"The catalogue has rpm:ssl but not as a deb package"},
		"wrong hardware": {[]catalogue.Release{{Component: "deb:ssl", Version: "2", Hardware: []string{"L25"}}},
			"it is not for this hardware"},
		"withdrawn": {[]catalogue.Release{{Component: "deb:ssl", Version: "2", Withdrawn: "it leaks"}},
			"its publisher withdrew it: it leaks"},
		"not automatic": {[]catalogue.Release{{Component: "deb:ssl", Version: "2", Manual: true}},
			"not to be followed automatically"},
		"older than there": {[]catalogue.Release{{Component: "deb:ssl", Version: "0.1", Severity: catalogue.Low,
			Hardware: []string{"x"}}, {Component: "deb:ssl", Version: "0.2", Manual: true}}, "the catalogue is older than the host"},
	} {
		cat := &catalogue.Catalogue{}
		cat.Add(catalogue.Feed{Name: "f"}, c.releases)
		ch := &Checker{Catalogue: cat, Now: now,
			Baselines: []baseline.Baseline{{Name: "b", Assign: []string{"c"},
				Clauses: []baseline.Clause{{Component: "deb:*", Posture: baseline.IfPresent, Follow: true}}}}}
		r := told("h", 0, "deb:ssl 1")
		v := ch.Host("c", r)[0]
		why := strings.Join(ch.Why("c", v, r), " ")
		if v.Outcome != NotApplying || !strings.Contains(why, c.want) {
			t.Errorf("%s: %v, %s", name, v.Outcome, why)
		}
	}
}

// The words of the vocabulary are those that people narrow by.
func TestNarrowingKnowsEveryVerdict(t *testing.T) {
	for _, o := range Outcomes {
		if _, err := narrow.Parse("verdict=" + strings.ReplaceAll(o.String(), " ", "-")); err != nil {
			t.Error(err)
		}
	}
	if len(Outcomes) != len(narrow.Verdicts) || len(Outcomes) != len(outcomeNames) {
		t.Error("there are other verdicts to narrow by than there are")
	}
}
