package view

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// filters are one of each field by which people narrow, both ways.
var filters = []string{"", "severity=critical", "-severity=critical", "vendor=corran", "-vendor=corran", "age=30", "age=-30", "layer=platform",
	"kind=fw", "class=network", "-class=network", "hardware=l25", "-hardware=l25", "host=a", "-host=a", "verdict=behind", "-verdict=behind",
	"verdict=in-line", "verdict=withdrawn", "critical", "-critical", "severity=high verdict=behind", "used=yes"}

// world is a made-up estate of one cluster, before and after something of it can't be read.
type world struct {
	hosts     []string
	readings  map[string]*estate.Reading
	sources   map[string][]catalogue.Release
	gone      map[string]bool // sources
	carried   bool            // what a gone source carries is known
	baselines []baseline.Baseline
}

var noon = time.Date(2026, 11, 21, 12, 0, 0, 0, time.UTC)

func made(r *rand.Rand) world {
	w := world{hosts: []string{"a", "b", "c"}, readings: map[string]*estate.Reading{}, sources: map[string][]catalogue.Release{},
		gone: map[string]bool{}}
	keys := []estate.Key{"deb:k", "deb:l", "fw:n"}
	for _, s := range []string{"s", "t"} {
		for range r.IntN(5) {
			w.sources[s] = append(w.sources[s], catalogue.Release{Component: keys[r.IntN(3)], Version: fmt.Sprint(1 + r.IntN(4)), Feed: s,
				Vendor: []string{"Corran", "Lorne", ""}[r.IntN(3)], Date: noon.AddDate(0, 0, -r.IntN(60)), File: "f", SHA256: s,
				Severity: catalogue.Severity(r.IntN(5)), Withdrawn: []string{"", "", "", "it leaks"}[r.IntN(4)]})
		}
	}
	b := baseline.Baseline{Name: "b", Assign: []string{"c"}}
	for _, k := range []estate.Key{"deb:k", "fw:n", "deb:*"} {
		if r.IntN(3) > 0 {
			b.Clauses = append(b.Clauses, baseline.Clause{Component: k, Follow: true, Line: len(b.Clauses) + 1,
				Posture: []baseline.Posture{baseline.AtLeast, baseline.IfPresent, baseline.Never}[r.IntN(3)]})
		}
	}
	w.baselines = []baseline.Baseline{b}
	for _, h := range w.hosts {
		x := &estate.Reading{Host: h}
		for _, s := range estate.SectionNames {
			x.SetSection(estate.Section{Name: s, At: noon, Source: "test"})
		}
		for _, k := range keys {
			if r.IntN(4) == 0 {
				continue
			}
			c := estate.Component{Key: k, Version: fmt.Sprint(1 + r.IntN(4))}
			if k == "fw:n" {
				c.Model, c.Class = "L25", "network"
			}
			x.Components = append(x.Components, c)
		}
		x.Sort()
		w.readings[h] = x
	}
	return w
}

// less makes one named thing of the world unreadable, and says which.
func (w world) less(r *rand.Rand) (world, string) {
	out := w
	out.readings, out.gone = map[string]*estate.Reading{}, map[string]bool{}
	for h, x := range w.readings {
		c := *x
		c.Sections = append([]estate.Section(nil), x.Sections...)
		c.Components = append([]estate.Component(nil), x.Components...)
		out.readings[h] = &c
	}
	h := w.hosts[r.IntN(3)]
	x := out.readings[h]
	section := []estate.SectionName{estate.Packages, estate.FirmwareItems}[r.IntN(2)]
	switch r.IntN(6) {
	case 0:
		x.SetSection(estate.Section{Name: section, At: noon, Err: "no answer", Held: noon.Add(-time.Hour), HeldFrom: "test"})
		return out, fmt.Sprintf("%s of %s is unread", section, h)
	case 1:
		s := x.Section(section)
		s.Partial = "a part of it"
		x.SetSection(s)
		for i := len(x.Components) - 1; i >= 0; i-- {
			if x.Components[i].Key.Section() == section && r.IntN(2) == 0 {
				x.Components = append(x.Components[:i:i], x.Components[i+1:]...)
			}
		}
		return out, fmt.Sprintf("%s of %s was read in part", section, h)
	case 2:
		if len(x.Components) > 0 {
			c := &x.Components[r.IntN(len(x.Components))]
			c.Last, c.Version, c.Unread = c.Version, "", "the device names none"
			s := x.Section(c.Key.Section())
			s.Partial = "a device names no version"
			x.SetSection(s)
		}
		return out, "a version of " + h + " is unread"
	case 3:
		delete(out.readings, h)
		return out, h + " was never read"
	case 4:
		out.carried = true
		out.gone[[]string{"s", "t"}[r.IntN(2)]] = true
		return out, "a source is too old"
	}
	for _, s := range estate.SectionNames {
		x.SetSection(estate.Section{Name: s, At: noon, Err: "no route"})
	}
	return out, h + " does not answer"
}

func (w world) report(filter string) Report {
	cat := &catalogue.Catalogue{}
	for _, s := range []string{"s", "t"} {
		cat.Add(catalogue.Feed{Name: s}, w.sources[s])
		if w.gone[s] {
			g := catalogue.Gap{Feed: s, Why: "is too old"}
			for _, rel := range w.sources[s] {
				g.Carried = append(g.Carried, rel.Component)
			}
			cat.AddGap(g)
		}
	}
	c := &drift.Checker{Catalogue: cat, Baselines: w.baselines, Now: noon}
	verdicts := map[string][]drift.Verdict{}
	for h, r := range w.readings {
		verdicts[h] = c.Host("c", r)
	}
	f, err := narrow.Parse(filter)
	if err != nil {
		panic(err)
	}
	return Judged{[]estate.Cluster{{Name: "c", Hosts: w.hosts}}, c, w.readings, verdicts, nil}.Report(w.hosts, f)
}

// rank orders what a report comes to from better to worse: all in line, drift, not known.
func rank(d Report) int {
	return map[Conclusion]int{InLine: 0, Adrift: 1, Unknown: 2, Wrong: 3}[d.Conclusion()]
}

// Make one thing of an estate unreadable, and look at it through any filter: the exit code does not get better, no count
// of what is well grows, and what is out of line or not known does not vanish from the sum.
func TestLessKnowledgeMakesNoReportBetter(t *testing.T) {
	seed, worlds := rand.Uint64(), 300
	if n, err := strconv.Atoi(os.Getenv("YARE_WORLDS")); err == nil {
		worlds = n
	}
	r := rand.New(rand.NewPCG(seed, 2))
	for n := range worlds {
		w := made(r)
		after, what := w.less(r)
		for _, filter := range filters {
			a, b := w.report(filter), after.report(filter)
			bad := a.Summary.Drift + a.Summary.Open() + a.Might
			now := b.Summary.Drift + b.Summary.Open() + b.Might + len(b.Unseen)
			if rank(b) < rank(a) || b.Summary.InLine > a.Summary.InLine || bad > 0 && now == 0 ||
				b.Summary.InLine+b.Summary.Aside > a.Summary.InLine+a.Summary.Aside {
				t.Fatalf("seed %d, world %d, filter %q: %s, and it looks better:\n%s\nbefore:\n%s", seed, n, filter, what,
					strings.Join(b.notes(), "\n"), strings.Join(a.notes(), "\n"))
			}
		}
	}
}
