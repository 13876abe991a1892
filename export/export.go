// Package export writes views in each of their forms: text, CSV and JSON by format/report, SVG and PDF by chart. It
// writes what the view holds, and reads and computes nothing.
package export

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"yareharbour/bundle"
	"yareharbour/chart"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/ladder"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/view"
	"yareharbour/format/report"
)

// Formats are the forms of what has a drawing; Words those of what has none.
var (
	Formats = []string{"text", "csv", "json", "svg", "pdf"}
	Words   = []string{"text", "csv", "json"}
)

// Writer writes one view in one of Formats.
type Writer func(w io.Writer, format string) error

// Extension is the ending of a file of that format, without the dot.
func Extension(format string) string {
	if format == "text" {
		return "txt"
	}
	return format
}

// notInName is what has no place in the name of a file, whatever a host or a component calls itself.
var notInName = regexp.MustCompile(`[^A-Za-z0-9.-]+`)

// FileName names a file after the view, what it shows, and the estate's time.
func FileName(at time.Time, format, name string, subjects ...string) string {
	for _, s := range subjects {
		if s != "" {
			name += "-" + notInName.ReplaceAllString(s, "_")
		}
	}
	return fmt.Sprintf("yare-%s-%s.%s", name, at.Format("20060102-1504"), Extension(format))
}

func draws(format string) bool { return slices.Contains(chart.Formats, format) }

// Waterline is the whole estate: as a drawing its picture, as words all verdicts.
func Waterline(e *view.Estate, f narrow.Filter) Writer {
	return func(w io.Writer, format string) error {
		if draws(format) {
			return chart.Waterline(e.Survey).Write(w, format)
		}
		return report.Of(e, e.Hosts(""), f).Write(w, format)
	}
}

// Drift is what is out of line in a cluster.
func Drift(e *view.Estate, cluster string, f narrow.Filter) Writer {
	return verdicts(e, cluster, e.Hosts(cluster), f, false)
}

// Host is every verdict on a host.
func Host(e *view.Estate, host string, f narrow.Filter) Writer {
	return verdicts(e, host, []string{host}, f, true)
}

func verdicts(e *view.Estate, title string, hosts []string, f narrow.Filter, all bool) Writer {
	return func(w io.Writer, format string) error {
		d := report.Of(e, hosts, f)
		if draws(format) {
			return driftTable(title, d, all).Write(w, format)
		}
		return d.Write(w, format)
	}
}

// driftTable draws verdicts as a table, all of them or what is out of line.
func driftTable(title string, d report.Drift, all bool) chart.Drawing {
	var rows [][]string
	host := ""
	for _, v := range d.Verdicts {
		if !all && (v.Verdict == drift.InLine.String() || v.Verdict == drift.NotApplying.String()) {
			continue
		}
		if v.Host != host {
			host = v.Host
			rows = append(rows, []string{host})
		}
		name := estate.Component{Key: estate.Key(v.Component), Device: v.Device}.Title()
		rows = append(rows, []string{name, v.Has, v.Wants, v.Verdict, v.Severity})
	}
	for _, h := range d.Unseen {
		rows = append(rows, []string{h}, []string{"all of it", "", "", "never read", ""})
	}
	return chart.Table(fmt.Sprintf("%s on %s: %s", title, d.At.Local().Format("2 Jan 2006 15:04 MST"), d.Says()),
		[]string{"component", "has", "wants", "verdict", "severity"}, rows)
}

// Trend is a cluster's drift over time, from then to now.
func Trend(cluster string, all []drift.Tally, from, to time.Time) Writer {
	return func(w io.Writer, format string) error {
		if draws(format) {
			return chart.Trend(cluster, all, from, to).Write(w, format)
		}
		return report.Trend(w, cluster, all, format)
	}
}

// Catalogue is the list of components. It has no drawing: that of a component is its Ladder.
func Catalogue(rows []ladder.Row) Writer {
	return func(w io.Writer, format string) error { return report.Components(w, rows, format) }
}

// Ladder is a component's tracks.
func Ladder(l ladder.Ladder) Writer {
	return func(w io.Writer, format string) error {
		if draws(format) {
			return chart.Ladder(l).Write(w, format)
		}
		return report.Ladder(w, l, format)
	}
}

// Baseline is the clauses of a baseline that the filter lets through, and its exceptions; as text, its file.
func Baseline(b view.Baseline, f narrow.Filter) Writer {
	return func(w io.Writer, format string) error {
		if format == "text" {
			_, err := io.WriteString(w, b.Text)
			return err
		}
		b.Clauses = slices.DeleteFunc(slices.Clone(b.Clauses), func(c baseline.Clause) bool {
			return !f.Lets(c.Subject())
		})
		if !draws(format) {
			return report.Baseline(w, b.Baseline, format)
		}
		var rows [][]string
		for _, c := range b.Clauses {
			rows = append(rows, []string{string(c.Component), c.Says()})
		}
		for _, x := range b.Exceptions {
			rows = append(
				rows,
				[]string{
					string(x.Component),
					fmt.Sprintf("excepted on %s by %s: %s", strings.Join(x.Hosts, ", "), x.By, x.Reason),
				},
			)
		}
		return chart.Table(fmt.Sprintf("%s, version %d, binds %s", b.Name, b.Version, strings.Join(b.Assign, ", ")),
			[]string{"component", "should be"}, rows).
			Write(w, format)
	}
}

// Comparison is two readings beside each other, each under the name by which it was asked for.
func Comparison(c view.Comparison) Writer {
	return func(w io.Writer, format string) error {
		if !draws(format) {
			return report.Comparison(w, c, format)
		}
		var rows [][]string
		for _, f := range c.Facts {
			rows = append(rows, []string{f.What, f.From, f.To})
		}
		for _, t := range c.Turns {
			rows = append(rows, []string{t.Title(), t.From, t.To})
		}
		return chart.Table(c.FromName+" and "+c.ToName, []string{"what", c.FromName, c.ToName}, rows).Write(w, format)
	}
}

// Bundle is what is in a bundle.
func Bundle(c bundle.Contents) Writer {
	return func(w io.Writer, format string) error {
		if !draws(format) {
			return report.Bundle(w, c, format)
		}
		rows := [][]string{}
		for _, f := range c.Files {
			rows = append(rows, []string{f.Path, string(f.Kind), catalogue.Bytes(f.Size), f.Says})
		}
		return chart.Table(fmt.Sprintf("%s, %.12s", c.Name, c.ID), []string{"file", "is a", "size", "brings"}, rows).
			Write(w, format)
	}
}

// Plan is all that a round would do; as a drawing, its timeline. words are the options of a command line that plans the
// same.
func Plan(p *plan.Plan, words []string) Writer {
	return func(w io.Writer, format string) error {
		if draws(format) {
			return timeline(course.Forecast(p), view.Planned(p, nil, 0), "about").Write(w, format)
		}
		return report.Plan(w, p, words, format)
	}
}

// Prechecks are what checks found.
func Prechecks(answers []precheck.Answer) Writer {
	return func(w io.Writer, format string) error {
		if !draws(format) {
			return report.Prechecks(w, answers, format)
		}
		var rows [][]string
		for _, a := range answers {
			rows = append(rows, []string{a.Host, a.Check, string(a.Level), a.Evidence})
		}
		return chart.Table("Prechecks", []string{"host", "check", "answer", "evidence"}, rows).Write(w, format)
	}
}

// Round is what a round did; as a drawing, its timeline.
func Round(id string, s *course.State) Writer {
	return func(w io.Writer, format string) error {
		if draws(format) {
			return timeline(s, view.Went(s, s.Last, nil, 0), "took").Write(w, format)
		}
		return report.NewRound(id, s).Write(w, format)
	}
}

// timeline draws a round with its lanes.
func timeline(s *course.State, l view.Lanes, took string) chart.Drawing {
	_, moves := s.Tally()
	b := s.Plan.Brief
	subtitle := fmt.Sprintf("%s – %s", s.Started.Format("Mon 2 Jan 2006 15:04"), s.Status)
	if b.By != "" {
		subtitle += fmt.Sprintf(", by %s: %s", b.By, b.Reason)
	}
	note := fmt.Sprintf("%s %s; moves %d, floor %d", took, drift.Age(l.To.Sub(l.From)), moves, s.Plan.Floor)
	return chart.Timeline("Round over "+b.Cluster, subtitle, note, l)
}
