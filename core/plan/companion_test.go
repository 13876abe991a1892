package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"yareharbour/core/drift"
)

// What a change requires and the brief leaves out is told first, with what waits for it and where, and taken along as far
// as it goes; what no baseline wants is told, and left.
func TestWhatAChangeRequiresComesAlong(t *testing.T) {
	for name, c := range map[string]struct {
		hosts, releases string
		only            string
		says, then      string // of the plan, and of the one with what was taken along
	}{
		"it is left out": {"a | fw:x=1 drv:d=1 deb:z=1\nb | fw:x=1 drv:d=1\nc | fw:x=1 drv:d=2",
			"fw:x 2 host needs drv:d 2\ndrv:d 2 host\ndeb:z 2 none", "fw:x",
			"fw:x is not done on a, b: it requires drv:d 2, which this plan leaves out", ""},
		"two wait for it": {"a | fw:x=1 fw:y=1 drv:d=1", "fw:x 2 host needs drv:d 2\nfw:y 2 host needs drv:d 2\ndrv:d 2 host",
			"fw:x,fw:y", "fw:x, fw:y are not done on a: they require drv:d 2, which this plan leaves out", ""},
		"it requires something itself": {"a | fw:x=1 drv:d=1 deb:k=1",
			"fw:x 2 host needs drv:d 2\ndrv:d 2 host needs deb:k 2\ndeb:k 2 host", "fw:x",
			"fw:x is not done on a: it requires drv:d 2, which this plan leaves out",
			"drv:d is not done on a: it requires deb:k 2, which this plan leaves out"},
		"it can't be had": {"a | fw:x=1 drv:d=1", "fw:x 2 host needs drv:d 3\ndrv:d 2 host", "",
			"fw:x is not done on a: it requires drv:d 3, and no baseline wants that there", "nothing"},
		"the newest is too old": {"a | fw:x=1 drv:d=1", "fw:x 2 host needs drv:d 3\ndrv:d 2 host", "fw:x",
			"fw:x is not done on a: it requires drv:d 3, and no baseline wants that there", "nothing"},
		"at what it stands was not read": {"a | fw:x=1 drv:d=?", "fw:x 2 host needs drv:d 2\ndrv:d 2 host", "fw:x",
			"fw:x is not done on a: it requires drv:d 2, and at what that stands there is not known", "nothing"},
		"all of it is done": {"a | fw:x=1 drv:d=1", "fw:x 2 host needs drv:d 2\ndrv:d 2 host", "", "", "nothing"},
	} {
		in := parse(t, strings.ReplaceAll(c.hosts, "=?", "="), c.releases)
		if strings.Contains(c.hosts, "=?") {
			for i := range in.Readings["a"].Components {
				if x := &in.Readings["a"].Components[i]; x.Version == "" {
					x.Unread = "it does not say"
				}
			}
			in.Verdicts["a"] = slices.DeleteFunc(in.Verdicts["a"], func(d drift.Verdict) bool { return d.Component == "drv:d" })
			in.Verdicts["a"] = append(in.Verdicts["a"], drift.Verdict{Host: "a", Component: "drv:d", Outcome: drift.Unread})
		}
		if c.only != "" {
			for _, k := range strings.Split(c.only, ",") {
				in.Brief.Only = append(in.Brief.Only, Scope(k))
			}
		}
		was := fmt.Sprint(in.Brief.Only)
		p := Make(in)
		if got := companions(&p); got != c.says {
			t.Errorf("%s: %s, want %s", name, got, c.says)
		}
		b := in.Brief
		if is := p.TakeAlong(&b); is != (c.then != "nothing") || fmt.Sprint(in.Brief.Only) != was {
			t.Errorf("%s: it takes along %v, and the brief is %v", name, is, in.Brief.Only)
		} else if is {
			in.Brief = b
			p = Make(in)
			if got := companions(&p); got != c.then {
				t.Errorf("%s, with what it requires: %s, want %s", name, got, c.then)
			}
		}
	}
}

func companions(p *Plan) string {
	var out []string
	for i := range p.Companions {
		out = append(out, p.Companions[i].Says())
	}
	return strings.Join(out, "; ")
}
