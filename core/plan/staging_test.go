package plan

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// What is staged is what the plan puts in and is not there yet; what is there and of no plan is taken away. An image
// for a BMC waits nowhere, nor does what a host that is left out would get.
func TestStaging(t *testing.T) {
	const hosts = "a 10 | deb:k=1 deb:l=1 fw:x=1\nb 10 | deb:k=1\nc 10 | deb:k=2"
	const releases = "deb:k 2 host\ndeb:l 2 none\nfw:x 2 host"
	for name, c := range map[string]struct {
		how     Staging
		there   string // that waits on a
		only    string
		visits  string // host: what is brought, and how many are taken away
		because string // why the others are not visited
	}{
		"nothing waits":       {StageAhead, "", "", "a: deb:k deb:l -0; b: deb:k -0", "c the plan brings nothing to it that could wait there"},
		"a part waits":        {StageAhead, "deb:k2", "", "a: deb:l -0; b: deb:k -0", "c the plan brings nothing"},
		"all waits":           {StageAhead, "deb:k2 deb:l2", "", "b: deb:k -0", "a 2 payloads: all that the plan brings waits there already"},
		"what nobody wants":   {StageAhead, "deb:k1 deb:k2 deb:l2", "", "a: -1; b: deb:k -0", ""},
		"a part of the round": {StageAhead, "deb:l2 deb:l1", "deb:k", "a: deb:k -1; b: deb:k -0", ""},
		"firmware alone":      {StageAhead, "", "fw:x", "", "a the plan brings nothing to it that could wait there"},
		"all goes":            {StageAway, "deb:k1 deb:k2", "", "a: -2", "b no payload waits there"},
	} {
		in := parse(t, hosts, releases)
		for _, w := range strings.Fields(c.there) {
			in.Readings["a"].Staged = append(in.Readings["a"].Staged, estate.Staged{SHA256: "sum-" + w, Kind: "deb"})
		}
		if c.only != "" {
			in.Brief.Only = []Scope{Scope(c.only)}
		}
		in.Brief.Trial, in.Brief.Windows = "b", []Window{{now, now}}
		in.Brief.Hooks, in.Brief.Temporary = []act.Hook{{Of: "visit"}}, []act.Lent{{Unit: "x.service"}}
		in.Brief = in.Brief.Staged(c.how)
		if b := &in.Brief; len(b.Hooks)+len(b.Temporary)+len(b.Windows) > 0 || b.Trial != "" || b.AtOnce() != StagesAtOnce {
			t.Errorf("%s: it keeps what is about rounds: %+v", name, b)
		}
		p := Make(in)
		var got []string
		for i := range p.Visits {
			v := &p.Visits[i]
			says := v.Host + ":"
			for _, x := range v.Changes {
				says += " " + string(x.Component)
			}
			got = append(got, says+fmt.Sprintf(" -%d", len(v.Unstages)))
			if v.Empties || len(v.Restarts)+len(v.Moves) > 0 || v.Backup || v.Obstacle != "" {
				t.Errorf("%s: more is done than to bring it there: %+v", name, v)
			}
			for _, s := range v.Steps {
				if s.Step != act.PrecheckStep && s.Step != act.StageStep {
					t.Errorf("%s: it takes time for a %s", name, s.Step)
				}
			}
		}
		if says := strings.Join(got, "; "); says != c.visits {
			t.Errorf("%s: %s, want %s", name, says, c.visits)
		}
		var why []string
		for _, a := range p.Aside {
			why = append(why, a.Host+" "+a.Why)
		}
		if says := strings.Join(why, "; "); !strings.Contains(says, c.because) {
			t.Errorf("%s: %s, want %s", name, says, c.because)
		}
	}
}

// A plan counts what waits on its hosts: it need not be brought, and needs no room.
func TestWhatWaitsSavesTime(t *testing.T) {
	in := parse(t, "a 10 | deb:k=1 fw:x=1\nb 10 | deb:k=1", "deb:k 2 host\nfw:x 2 host")
	before := Make(in)
	in.Readings["a"].Staged = []estate.Staged{{SHA256: "sum-deb:k2"}, {SHA256: "sum-fw:x2"}}
	p := Make(in)
	was, _ := before.visit("a").Estimate()
	is, _ := p.visit("a").Estimate()
	mib, _ := p.visit("a").Stages()
	if saved := was - is; saved <= 0 || mib != 0 {
		t.Errorf("what waits on a saves %s, and %d MiB are to be brought", saved, mib)
	}
	if says := strings.Join(p.Notes(), "; "); !strings.Contains(says, "1 payload waits (80.0 MiB) on the hosts already, which saves about 5 s") {
		t.Errorf("the plan says: %s", says)
	}
	if len(Moved(&before, &p)) > 0 {
		t.Errorf("what was shown is refused once payloads wait: %v", Moved(&before, &p))
	}
}

// What has waited at a BMC for as long as the brief says is cleared first, and no more; of what is not known since when it
// waits nothing is.
func TestOldTasksAreClearedFirst(t *testing.T) {
	in := parse(t, "a 10 | deb:k=1\nb 10 | deb:k=2", "deb:k 2 host")
	waits := []estate.BMCTask{{ID: "old", Since: now.Add(-72 * time.Hour)}, {ID: "young", Since: now.Add(-time.Hour)}, {ID: "unknown"}}
	in.Readings["a"].BMC.Waiting, in.Readings["b"].BMC.Waiting = waits, waits
	if p := Make(in); len(p.Visits[0].Clears) > 0 || p.Visits[0].Obstacle == "" {
		t.Errorf("nobody asked for it: %v", p.Visits[0].Clears)
	}
	in.Brief.ClearTasks = 48 * time.Hour
	p := Make(in)
	if v := &p.Visits[0]; len(p.Visits) != 1 || len(v.Clears) != 1 || v.Clears[0] != "old" || !strings.Contains(v.Obstacle, "young, unknown") {
		t.Errorf("%v, %q", v.Clears, v.Obstacle)
	}
}
