package plan

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// What a reading after the planned changes shows is made in passes of its own: what was planned, dropped or made is not
// made again, nor what the visit can't do.
func TestFurther(t *testing.T) {
	const releases = `
		fw:x 2 host
		fw:y 2 none needs fw:x 2
		deb:s 2 service`
	dropped := act.Change{Component: "fw:x", From: "1", To: "2"}
	for name, c := range map[string]struct {
		host    string
		planned []act.Change
		spoil   func(*Input)
		open    bool // it was not emptied
		want    string
		left    string
	}{
		"nothing":            {host: "a 0 | fw:x=2"},
		"what came to light": {host: "a 0 | fw:x=1", want: "3: fw:x 1 → 2"},
		"one after another":  {host: "a 0 | fw:x=1 fw:y=1", want: "3: fw:x 1 → 2; 4: fw:y 1 → 2"},
		"it was planned":     {host: "a 0 | fw:x=1", planned: []act.Change{dropped}},
		"another device of it": {host: "a 0 | fw:x=2 fw:x@2=1", planned: []act.Change{dropped},
			want: "3: fw:x (2) 1 → 2"},
		"it stands higher than planned": {host: "a 0 | fw:x=1",
			planned: []act.Change{{Component: "fw:x", From: "0", To: "1"}}, want: "3: fw:x 1 → 2"},
		"it needs an empty host": {host: "a 0 | fw:x=1 deb:s=1", open: true, want: "3: deb:s 1 → 2",
			left: "fw:x 1 → 2: it needs an empty host"},
		"its payload is damaged": {host: "a 0 | fw:x=1", spoil: func(in *Input) {
			in.Payloads = func(string, string) error { return errors.New("it is damaged") }
		}, left: "fw:x 1 → 2: it is damaged"},
		"outside the brief": {host: "a 0 | fw:x=1", spoil: func(in *Input) {
			in.Brief.Only = []Scope{"deb:s"}
		}},
		"a service that runs what was replaced": {host: "a 0 | deb:s=2", spoil: func(in *Input) {
			in.Verdicts["a"] = []drift.Verdict{{Host: "a", Component: "deb:s", Has: "2", Outcome: drift.AwaitingRestart,
				Found: &estate.Component{Key: "deb:s", Version: "2", Holders: []estate.Holder{{Service: "s.service"}}}}}
		}},
		"what nobody wants": {host: "a 0 | deb:z=1", spoil: func(in *Input) {
			in.Verdicts["a"] = []drift.Verdict{{Host: "a", Component: "deb:z", Has: "1", Outcome: drift.Unwanted}}
		}},
	} {
		in := parse(t, c.host, releases)
		if c.spoil != nil {
			c.spoil(&in)
		}
		more, left := in.Further("a", c.planned, 2, !c.open)
		var got []string
		for _, m := range more {
			got = append(got, fmt.Sprintf("%d: %s", m.Pass, m.Says()))
		}
		if s := strings.Join(got, "; "); s != c.want || strings.Join(left, "; ") != c.left {
			t.Errorf("%s: %q, left %q; want %q, %q", name, s, left, c.want, c.left)
		}
	}
}

func TestFurtherEnds(t *testing.T) {
	in := parse(t, "a 0 | fw:v=1 fw:w=1 fw:x=1 fw:y=1 fw:z=1", `
		fw:v 2 host
		fw:w 2 host needs fw:v 2
		fw:x 2 host needs fw:w 2
		fw:y 2 host needs fw:x 2
		fw:z 2 host needs fw:y 2`)
	more, _ := in.Further("a", nil, 0, true)
	if len(more) != MostFurther || more[2].Component != "fw:x" || more[0].Restart != catalogue.HostRestart {
		t.Errorf("%+v", more)
	}
}
