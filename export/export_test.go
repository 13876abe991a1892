package export

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/bundle"
	"yareharbour/core/act"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/ladder"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/survey"
	"yareharbour/core/view"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// anEstate is two clusters of two hosts, of which one host each is behind in one component, and one was never read.
func anEstate() *view.Estate {
	cat := &catalogue.Catalogue{}
	cat.Add(catalogue.Feed{Name: "f"},
		[]catalogue.Release{{Component: "deb:k", Version: "2", Severity: catalogue.High}})
	e := &view.Estate{
		Checker:  &drift.Checker{Catalogue: cat, Now: now},
		Readings: map[string]*estate.Reading{},
		Verdicts: map[string][]drift.Verdict{},
		Survey:   survey.Survey{Name: "Merrow Sound", At: now},
	}
	b := baseline.Baseline{
		Name: "b",
		Clauses: []baseline.Clause{
			{Line: 1, Component: "deb:k", Posture: baseline.AtLeast, Follow: true},
			{Line: 2, Component: "fw:n", Posture: baseline.IfPresent, Follow: true},
		},
	}
	b.Assign = []string{"c", "d"}
	e.Checker.Baselines = []baseline.Baseline{b}
	e.Baselines = []view.Baseline{{Baseline: b, Text: "baseline: b\n", Version: 1}}
	for _, c := range b.Assign {
		cl := estate.Cluster{Name: c, Hosts: []string{c + "1", c + "2"}}
		band := survey.Band{Cluster: cl}
		for i, h := range cl.Hosts {
			r := &estate.Reading{Host: h, Components: []estate.Component{{Key: "deb:k", Version: fmt.Sprint(i + 1)}}}
			for _, s := range []estate.SectionName{estate.Host, estate.Packages} {
				r.SetSection(estate.Section{Name: s, At: now, Source: "test"})
			}
			e.Readings[h], e.Verdicts[h] = r, e.Checker.Host(c, r)
			band.Berths = append(band.Berths, survey.Berth{Host: h, Service: survey.Open})
		}
		e.Survey.Bands = append(e.Survey.Bands, band)
	}
	return e
}

func parse(t *testing.T, text string) narrow.Filter {
	t.Helper()
	f, err := narrow.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// What is exported of verdicts is what the view holds, no more and no less, also where the checker would say something
// else by now.
func TestAnExportSaysWhatItsViewSays(t *testing.T) {
	e := anEstate()
	e.Verdicts["c1"][0].Has = "as it was shown"
	e.Checker.Baselines = nil // whoever judged anew would find nothing
	for _, c := range []struct {
		what   Writer
		hosts  []string
		filter string
	}{
		{Waterline(e, narrow.Filter{}), []string{"c1", "c2", "d1", "d2"}, ""},
		{Drift(e, "c", narrow.Filter{}), []string{"c1", "c2"}, ""},
		{Host(e, "d1", narrow.Filter{}), []string{"d1"}, ""},
		{Drift(e, "c", parse(t, "verdict=behind")), []string{"c1", "c2"}, "verdict=behind"},
	} {
		var b bytes.Buffer
		if err := c.what(&b, "json"); err != nil {
			t.Fatal(err)
		}
		var got struct {
			Verdicts []struct{ Host, Component, Verdict, Has, Wants string } `json:"verdicts"`
		}
		if err := json.Unmarshal(b.Bytes(), &got); err != nil {
			t.Fatal(err)
		}
		var said, shown []string
		for _, v := range got.Verdicts {
			said = append(said, fmt.Sprint(v.Host, v.Component, v.Verdict, v.Has, v.Wants))
		}
		for _, h := range c.hosts {
			for _, v := range e.Verdicts[h] {
				if e.Lets(parse(t, c.filter), &v) {
					shown = append(shown, fmt.Sprint(v.Host, string(v.Component), v.Outcome.String(), v.Has, v.Wants))
				}
			}
		}
		if !slices.Equal(said, shown) {
			t.Errorf("%v, %q: exported %q, shown %q", c.hosts, c.filter, said, shown)
		}
	}
}

// everything is one of each kind of view.
func everything() map[string]Writer {
	e := anEstate()
	p := &plan.Plan{
		Made:  now,
		Brief: plan.Brief{Cluster: "c"},
		Visits: []plan.Visit{
			{
				Host:    "c1",
				Changes: []act.Change{{Component: "deb:k", From: "1", To: "2"}},
				Steps:   []plan.Stretch{{Step: act.ChangeStep, Middle: time.Minute}},
			},
		},
	}
	return map[string]Writer{
		"waterline": Waterline(e, narrow.Filter{}), "drift": Drift(e, "c", narrow.Filter{}),
		"host": Host(e, "c1", narrow.Filter{}),
		"trend": Trend("c", []drift.Tally{{At: now, Drift: map[estate.Layer]int{estate.Platform: 1}}},
			now.Add(-time.Hour), now),
		"ladder": Ladder(
			ladder.Ladder{
				Component: "deb:k",
				Tracks:    []ladder.Track{{Rungs: []ladder.Rung{{Version: "2", Hosts: []string{"c2"}}}}},
			},
		),
		"baseline":   Baseline(e.Baselines[0], narrow.Filter{}),
		"bundle":     Bundle(bundle.Contents{Name: "q4.zip", Files: []bundle.File{{Path: "a", Says: "deb:k"}}}),
		"comparison": Comparison(view.Compare("c1", e.Readings["c1"], "c2", e.Readings["c2"])), "plan": Plan(p, nil),
		"round": Round("R", course.Forecast(p)),
	}
}

func TestEveryViewInEveryForm(t *testing.T) {
	for name, what := range everything() {
		for _, format := range Formats {
			var b bytes.Buffer
			if err := what(&b, format); err != nil {
				t.Errorf("%s as %s: %v", name, format, err)
			}
			begins := map[string]string{"svg": "<?xml", "pdf": "%PDF", "json": "{"}[format]
			if b.Len() == 0 || !strings.HasPrefix(b.String(), begins) {
				t.Errorf("%s as %s begins with %.20q", name, format, b.String())
			}
			if (format == "text" || format == "csv" || format == "svg") && !strings.ContainsAny(b.String(), "k1b") {
				t.Errorf("%s as %s says nothing: %s", name, format, b.String())
			}
		}
	}
	var b bytes.Buffer
	if err := Catalogue([]ladder.Row{{Component: "deb:k"}})(&b, "csv"); err != nil ||
		!strings.Contains(b.String(), "deb:k") {
		t.Errorf("%v %s", err, b.String())
	}
}

func TestAFileIsNamedAfterWhatItHolds(t *testing.T) {
	for want, got := range map[string]string{
		"yare-drift-c-20261121-2000.csv":              FileName(now, "csv", "drift", "c"),
		"yare-waterline-20261121-2000.txt":            FileName(now, "text", "waterline", ""),
		"yare-compare-a_7d-.._etc_-20261121-2000.svg": FileName(now, "svg", "compare", "a@7d", "../etc/"),
	} {
		if got != want || strings.ContainsAny(got, "/ ") {
			t.Errorf("%s, want %s", got, want)
		}
	}
}
