package precheck

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// facts are those of a cluster in which nothing is wrong.
func facts() Facts {
	f := Facts{Now: now, MaxAge: time.Hour, Reserve: 1, Out: 1, Hosts: []string{"a", "b", "c"}, Readings: map[string]*estate.Reading{},
		Empties: true, Payloads: map[string]string{"x.payload": ""}}
	for _, h := range f.Hosts {
		r := &estate.Reading{Host: h, Capacity: estate.Resources{MemoryMiB: 100, CPU: 100}, BMC: estate.BMC{Power: "On"},
			Health: []estate.Health{{Item: "fans", OK: true}},
			Guests: []estate.Guest{{Name: "g-" + h, State: estate.Running, Load: estate.Resources{MemoryMiB: 30}}}}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: now.Add(-time.Minute)})
		}
		f.Readings[h] = r
	}
	return f
}

func TestEachCheckBlocksOnWhatItIsFor(t *testing.T) {
	mark := &estate.Mark{By: "night shift", Reason: "memory", At: now.Add(-50 * time.Hour)}
	for _, c := range []struct {
		check string
		level Level
		says  string
		spoil func(*Facts)
	}{
		{"reachable", Blocker, "no route", func(f *Facts) { f.Readings["a"].SetSection(estate.Section{Name: estate.Host, Err: "no route"}) }},
		{"reachable", Blocker, "older than", func(f *Facts) { f.Now = now.Add(3 * time.Hour) }},
		{"members", Blocker, "b can't be read", func(f *Facts) { f.Readings["b"].SetSection(estate.Section{Name: estate.Host, Err: "no route"}) }},
		{"members", Blocker, "c (never read) can't be read", func(f *Facts) { delete(f.Readings, "c") }},
		{"closed", Blocker, "b, by night shift 2 days ago (memory)", func(f *Facts) { f.Readings["b"].Closed = mark }},
		{"closed", Caution, "b, by night shift", func(f *Facts) { f.Readings["b"].Closed, f.Out = mark, 2 }},
		{"closed", Caution, "b, by night shift", func(f *Facts) { f.Readings["b"].Closed, f.Empties = mark, false }},
		{"closed", Blocker, "a, by night shift", func(f *Facts) { f.Readings["a"].Closed, f.Empties = mark, false }},
		{"closed", Clear, "no host is closed", func(f *Facts) { f.Readings["a"].Closed, f.Round = &estate.Mark{Round: "R"}, "R" }},
		{"fit", Blocker, "finds no host with room", func(f *Facts) { f.Readings["a"].Guests[0].Load.MemoryMiB = 90 }},
		{"fit", Clear, "needs the host empty", func(f *Facts) { f.Readings["a"].Guests[0].Load.MemoryMiB, f.Empties = 90, false }},
		{"bmc", Blocker, "no answer", func(f *Facts) { f.Readings["a"].SetSection(estate.Section{Name: estate.BMCState, Err: "no answer"}) }},
		{"bmc", Blocker, "2 task(s) wait", func(f *Facts) { f.Readings["a"].BMC.Queue = 2 }},
		{"health", Caution, "fans: slow", func(f *Facts) { f.Readings["a"].Health[0] = estate.Health{Item: "fans", Detail: "slow"} }},
		{"health", Caution, "not all health was read: the disks were silent", func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.HealthItems, At: now, Partial: "the disks were silent"})
		}},
		{"health", Caution, "no answer", func(f *Facts) { f.Readings["a"].SetSection(estate.Section{Name: estate.HealthItems, Err: "no answer"}) }},
		{"restart", Caution, "deb:k 2 is installed and 1 runs", func(f *Facts) {
			f.Readings["a"].Components = []estate.Component{{Key: "deb:k", Version: "2", Running: "1"}}
		}},
		{"dispute", Blocker, "b1 wants exactly 1, but b2 wants exactly 2", func(f *Facts) {
			f.Verdicts = []drift.Verdict{{Host: "a", Component: "deb:k", Outcome: drift.Disputed, Clause: &baseline.Bound{Baseline: "b1",
				Clause: baseline.Clause{Posture: baseline.Exactly, Version: "1"}, Against: []string{"b2 wants exactly 2"}}}}
		}},
		{"payload", Blocker, "x.payload: damaged", func(f *Facts) { f.Payloads["x.payload"] = "damaged" }},
	} {
		f := facts()
		c.spoil(&f)
		for _, a := range Host(f, "a") {
			if a.Check != c.check {
				continue
			}
			if a.Level != c.level || !strings.Contains(a.Evidence, c.says) {
				t.Errorf("%s: %s, %q; want %s, %q", c.check, a.Level, a.Evidence, c.level, c.says)
			}
			if a.Level == Blocker && a.Remedy == "" {
				t.Errorf("%s blocks and names no remedy", c.check)
			}
		}
	}
}

func TestAllClearWhereNothingIsWrong(t *testing.T) {
	as := Host(facts(), "a")
	if len(as) != len(Checks) || worst(as) != Clear || len(Blockers(as)) > 0 {
		t.Errorf("%+v", as)
	}
}

func TestAHostThatWasNeverReadIsNeverClear(t *testing.T) {
	f := facts()
	f.Readings = nil
	if worst(Host(f, "a")) != Blocker {
		t.Error("nothing is known of it and nothing blocks")
	}
}

// worst returns the gravest level among the answers.
func worst(as []Answer) Level {
	gravest := Clear
	for _, a := range as {
		if a.Level == Blocker || a.Level == Caution && gravest == Clear {
			gravest = a.Level
		}
	}
	return gravest
}

// B8: what a host will be is held against the compatibility lists; whether leaving them blocks is the publisher's word.
func TestOutsideACompatibilityList(t *testing.T) {
	of := func(ms ...catalogue.Mismatch) Answer {
		level, evidence, remedy := together(Facts{Mismatches: ms}, &estate.Reading{})
		return Answer{Level: level, Evidence: evidence, Remedy: remedy}
	}
	soft, hard := catalogue.Mismatch{Hardware: "L25", List: "net", Why: "2 with 3 is on no line"}, catalogue.Mismatch{Hardware: "S9", List: "disks", Why: "x", Blocks: true}
	for _, c := range []struct {
		got  Answer
		want Level
	}{{of(), Clear}, {of(soft), Caution}, {of(soft, hard), Blocker}} {
		if c.got.Level != c.want || c.want != Clear && (c.got.Remedy == "" || !strings.Contains(c.got.Evidence, "L25, by the list net: 2 with 3 is on no line")) {
			t.Errorf("%+v, want %s", c.got, c.want)
		}
	}
}
