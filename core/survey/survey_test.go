package survey

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

func input() Input {
	in := Input{Estate: estate.Estate{Name: "E", Clusters: []estate.Cluster{{Name: "c", Hosts: []string{"a", "b", "d"}, Reserve: 1}}}, Now: now,
		Readings: map[string]*estate.Reading{}, Verdicts: map[string][]drift.Verdict{}, Rounds: map[string]*plan.State{}}
	for _, h := range []string{"a", "b", "d"} {
		r := &estate.Reading{Host: h, Capacity: estate.Resources{MemoryMiB: 100, CPU: 100},
			Guests: []estate.Guest{{Name: "g" + h, State: estate.Running, Load: estate.Resources{MemoryMiB: 40, CPU: 10}}}}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: now.Add(-time.Minute)})
		}
		in.Readings[h] = r
	}
	return in
}

func verdict(o drift.Outcome, s catalogue.Severity) drift.Verdict {
	return drift.Verdict{Component: "fw:x", Outcome: o, Release: &catalogue.Release{Severity: s}, Clause: &baseline.Bound{}}
}

func TestAllWell(t *testing.T) {
	s := Make(input())
	b := s.Bands[0]
	if b.InLine != 3 || b.Adrift+b.Unread+b.Out != 0 || len(s.Needs) != 0 || b.Guests != 3 {
		t.Errorf("%+v, needs %v", b, s.Needs)
	}
	if b.Load != 0.4 || b.Limit < 0.66 || b.Limit > 0.67 {
		t.Errorf("load %v, limit %v", b.Load, b.Limit)
	}
}

// Invariant 8: what is unread is never counted as in line.
func TestUnreadIsNotInLine(t *testing.T) {
	in := input()
	in.Verdicts["a"] = []drift.Verdict{verdict(drift.Unread, 0)}
	delete(in.Readings, "b")
	in.Readings["d"].SetSection(estate.Section{Name: estate.Host, Err: "no route"})
	b := Make(in).Bands[0]
	if b.InLine != 0 || b.Unread != 2 || b.Out != 2 {
		t.Errorf("%+v", b)
	}
	if b.Berths[1].Service != Never || b.Berths[2].Service != Silent {
		t.Errorf("%v %v", b.Berths[1].Service, b.Berths[2].Service)
	}
}

func TestNeedsComeWorstFirst(t *testing.T) {
	in := input()
	in.Verdicts["a"] = []drift.Verdict{verdict(drift.Behind, catalogue.Critical), verdict(drift.OffTrack, 0)}
	in.Verdicts["b"] = []drift.Verdict{verdict(drift.Withdrawn, catalogue.High)}
	in.Readings["b"].BMC.Queue = 2
	in.Readings["d"].Closed = &estate.Mark{By: "somebody", Reason: "why", At: now}
	in.Rounds["c"] = &plan.State{Status: plan.Failing, Detail: "a: install failed"}
	s := Make(in)
	var all []string
	for i, n := range s.Needs {
		all = append(all, n.Host+" "+n.Text)
		if i > 0 && n.Urgency < s.Needs[i-1].Urgency {
			t.Error("not worst first")
		}
	}
	text := strings.Join(all, "\n")
	for _, want := range []string{" the round failed: a: install failed", "a critical release missing", "b withdrawn release", "b 2 forgotten task(s)",
		"d closed by somebody", "a off its track"} {
		if !strings.Contains(text, want) {
			t.Errorf("nobody is told %q:\n%s", want, text)
		}
	}
}

func TestReserveThatIsNotKeptIsTold(t *testing.T) {
	in := input()
	for _, r := range in.Readings {
		r.Guests[0].Load.MemoryMiB = 70
	}
	s := Make(in)
	if len(s.Needs) == 0 || s.Needs[0].Urgency != Now || !strings.Contains(s.Needs[0].Text, "the reserve is not kept") {
		t.Errorf("%+v", s.Needs)
	}
}

// G5: silence is expected while a round restarts a host; nobody is called for it, but it is not in line either.
func TestSilenceInARestartCallsNobody(t *testing.T) {
	in := input()
	in.Readings["a"].SetSection(estate.Section{Name: estate.Host, Err: "no route"})
	in.Verdicts["a"] = []drift.Verdict{verdict(drift.Unread, 0), verdict(drift.Behind, catalogue.Critical)}
	in.Rounds["c"] = &plan.State{Status: plan.Running, Visits: []plan.VisitState{{Visit: plan.Visit{Host: "a"}, Spans: []plan.Span{{Step: plan.RestartStep}}}}}
	s := Make(in)
	if b := s.Bands[0].Berths[0]; b.Service != Away || b.InLine() || len(s.Needs) != 0 {
		t.Errorf("%+v, needs %+v", b, s.Needs)
	}
	in.Rounds["c"].Status = plan.Failing
	if s = Make(in); s.Bands[0].Berths[0].Service != Silent || len(s.Needs) == 0 {
		t.Errorf("after the round failed nobody is called: %+v", s.Needs)
	}
}
