package tui

import (
	"bytes"
	"context"
	"math/rand"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/plan/plantest"
	"yareharbour/core/precheck"
	"yareharbour/core/survey"
	"yareharbour/core/view"
	"yareharbour/export"
	"yareharbour/tui/adrift"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
	"yareharbour/tui/waterline"
)

// narrowings are one of each field by which people narrow, both ways.
var narrowings = []string{"", "severity=critical", "-severity=critical", "vendor=corran", "-vendor=corran", "age=30", "age=-30",
	"layer=platform", "-layer=platform", "kind=fw", "-kind=fw", "class=network", "-class=network", "hardware=m", "-hardware=m",
	"host=a", "-host=a", "verdict=behind", "-verdict=behind", "verdict=in-line", "verdict=withdrawn", "verdict=unread", "critical",
	"-critical", "severity=high verdict=behind", "used=yes"}

// needs is how well the Waterline says that nothing needs anybody; 0 where something does, and 1 where the filter hides it.
const needs = "Waterline: needs you"

// printed is what people act on, as it is printed of a world: counts of what is well, and sentences that say that all is.
// Nothing of it may rise where something is not known any more.
type printed struct {
	texts  string
	counts map[string]int
	todo   string // what plans would change, host by host: a visit that does less may be permitted where one that does more is not
}

// has notes a sentence that says that something is well.
func (p *printed) has(name, text, sentence string) {
	p.counts[name+": “"+sentence+"”"] = strings.Count(text, sentence)
}

// number notes a number that is printed.
func (p *printed) number(name, text, pattern string) {
	n := 0
	if m := regexp.MustCompile(pattern).FindStringSubmatch(text); m != nil {
		n, _ = strconv.Atoi(m[1])
	}
	p.counts[name+": "+pattern] = n
}

func inWords(d view.Document) string {
	var out bytes.Buffer
	if err := export.Write(&out, d, "text"); err != nil {
		panic(err)
	}
	return out.String()
}

// printing prints what is known of a world.
func printing(w plantest.World, filter string) printed {
	w, p := w.Judge()
	f, err := narrow.Parse(filter)
	if err != nil {
		panic(err)
	}
	c := w.In.Cluster
	clusters := []estate.Cluster{c}
	e := &view.Estate{Readings: w.In.Readings, Verdicts: w.In.Verdicts, Speed: 1, Rounds: map[string]view.Round{},
		Siblings: map[string][]drift.Siblings{}, Checker: w.Checker()}
	e.Held = drift.Hold(clusters, w.In.Readings, plantest.Now, w.In.MaxAge)
	usual := w.In
	usual.Brief = plan.DefaultBrief(c)
	q := plan.Make(usual)
	e.Survey = survey.Make(survey.Input{Estate: estate.Estate{Name: "E", Clusters: clusters}, Now: plantest.Now, MaxAge: w.In.MaxAge,
		Readings: w.In.Readings, Verdicts: w.In.Verdicts, Plans: map[string]*plan.Plan{c.Name: &q}})

	out := printed{counts: map[string]int{}}
	say := func(name, text string) string { out.texts += "── " + name + "\n" + text; return text }
	d := view.Judged{Clusters: clusters, Checker: e.Checker, Readings: e.Readings, Verdicts: e.Verdicts}.Report(c.Hosts, f)
	out.counts["check: exit code"] = int(d.Conclusion())
	text := say("check", inWords(d.Document("drift", "", false)))
	out.number("check", text, `(\d+) places? in line`)
	tally := drift.Count(plantest.Now, c.Hosts, e.Verdicts)
	text = say("trend", inWords(view.Trend{Cluster: "c", Tallies: []drift.Tally{tally}}.Document()))
	out.has("trend", text, "–")
	if strings.Contains(text, " 0 of ") && strings.Contains(text, "–") {
		out.counts["trend: all is well"] = 1
	} else {
		out.counts["trend: all is well"] = 0
	}

	var answers []precheck.Answer
	for i := range p.Visits {
		answers = append(answers, p.Visits[i].Answers...)
	}
	out.counts["precheck: exit code"] = -int(plan.Answered(answers, p.Aside))
	say("precheck", inWords(view.OfPrechecks(answers)))
	out.number("plan", say("plan", inWords(view.OfPlan(&p, nil))), `visits (\d+)`)

	for _, p := range []plan.Plan{p, q} {
		slices.SortFunc(p.Visits, func(a, b plan.Visit) int { return strings.Compare(a.Host, b.Host) })
		for _, v := range p.Visits {
			out.todo += v.Host
			for _, c := range v.Changes {
				out.todo += " " + c.Says()
			}
		}
	}
	frame := part.Frame{View: e, Filter: f, Typed: filter, Now: plantest.Now}
	show := func(name string, s part.Screen) string {
		c := part.NewCanvas(160, 45)
		s.Update(frame, part.Shown{})
		s.View(frame, c, part.Rect(0, 0, 160, 45))
		return say(name, parttest.Plain(c))
	}
	line := show("Waterline", waterline.New(part.Place{Screen: part.Waterline}))
	if strings.Contains(line, " adrift") { // otherwise the filter lets no host through
		out.number("Waterline", line, `(\d+) in line`)
		out.number("Waterline", line, `adrift, (\d+) ready`)
		out.counts["Waterline: kept"] = len(regexp.MustCompile(`reserve( of \d+)? kept`).FindAllString(line, -1))
	}
	out.counts[needs] = 0
	out.counts["Waterline: MiB that stay spare"] = max(0, int(e.Survey.Bands[0].Spare.Room.MemoryMiB))
	for n, says := range []string{"nothing among what is shown", "nothing is known that needs you", "nothing; but", "nothing urgent",
		"nothing: all is in line"} {
		if strings.Contains(line, says) {
			out.counts[needs] = n + 1
		}
	}
	rows := show("Drift", adrift.New(context.Background(), nil, part.Place{Screen: part.Drift, Cluster: c.Name}))
	out.has("Drift", rows, "nothing disagrees")
	return out
}

// Make one named thing unreadable, and nothing that is printed becomes better: no exit code, no count of what is well, no
// sentence that says that all is.
func TestNothingPrintedGetsBetterByKnowingLess(t *testing.T) {
	seed, worlds := rand.Int63(), 150
	if n, err := strconv.Atoi(os.Getenv("YARE_WORLDS")); err == nil {
		worlds = n
	}
	r := rand.New(rand.NewSource(seed))
	for n := range worlds {
		w := plantest.Random(r)
		less := w.Without(r)
		if r.Intn(3) == 0 {
			less = w.Unsourced(r)
		}
		for range 3 {
			filter := narrowings[r.Intn(len(narrowings))]
			before, after := printing(w, filter), printing(less, filter)
			for name, n0 := range before.counts {
				less := before.todo != after.todo && (strings.Contains(name, "visits") || strings.Contains(name, "ready")) ||
					name == needs && after.counts[name] <= 1 // of what a filter shows, and it says so
				if after.counts[name] > n0 && !less {
					t.Fatalf("seed %d, world %d, filter %q: %s was %d and is %d by knowing less\n%s\n═══ before\n%s", seed, n, filter,
						name, n0, after.counts[name], after.texts, before.texts)
				}
			}
		}
	}
}
