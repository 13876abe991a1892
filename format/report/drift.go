// Package report writes what was found and what was done as text, CSV and JSON. docs/formats.md describes the fields.
package report

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"text/tabwriter"
	"time"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// Verdict is a verdict as it is written out.
type Verdict struct {
	Host      string   `json:"host"`
	Component string   `json:"component"`
	Device    string   `json:"device,omitempty"`
	Layer     string   `json:"layer"`
	Verdict   string   `json:"verdict"`
	Has       string   `json:"has"`
	Wants     string   `json:"wants"`
	Severity  string   `json:"severity,omitempty"`
	Why       []string `json:"why"`
}

// Drift is a drift report.
type Drift struct {
	Estate   string                     `json:"estate,omitempty"`
	At       time.Time                  `json:"at"`
	Verdicts []Verdict                  `json:"verdicts"`
	Summary  drift.Summary              `json:"summary"`
	Unread   map[string][]UnreadSection `json:"unread_sections,omitempty"` // by host
}

// UnreadSection is a part of a host of which nothing is known, and why.
type UnreadSection struct {
	Section string `json:"section"`
	Why     string `json:"why"`
}

// NewDrift makes a report of the verdicts on hosts of a cluster that the filter lets through; reports of several clusters are joined with Join.
func NewDrift(c *drift.Checker, cluster string, readings []*estate.Reading, f narrow.Filter) Drift {
	d := Drift{At: c.Now, Verdicts: []Verdict{}, Unread: map[string][]UnreadSection{}}
	var all []drift.Verdict
	for _, r := range readings {
		vs := slices.DeleteFunc(c.Host(cluster, r), func(v drift.Verdict) bool { return !f.Empty() && !f.Lets(v.Subject(c.Now)) })
		all = append(all, vs...)
		for _, v := range vs {
			d.Verdicts = append(d.Verdicts, Verdict{Host: v.Host, Component: string(v.Component), Device: v.Device, Layer: string(v.Layer()),
				Verdict: v.Outcome.String(), Has: v.Has, Wants: v.Wants, Severity: severity(v), Why: c.Why(cluster, v, r)})
		}
		for _, s := range r.Sections {
			if s.Err != "" {
				d.Unread[r.Host] = append(d.Unread[r.Host], UnreadSection{string(s.Name), s.Err})
			}
		}
	}
	d.Summary = drift.Summarize(all)
	return d
}

func severity(v drift.Verdict) string {
	if v.Severity() == 0 {
		return ""
	}
	return v.Severity().String()
}

// Join adds another report's verdicts to this one.
func (d *Drift) Join(o Drift) {
	d.Verdicts = append(d.Verdicts, o.Verdicts...)
	if d.Unread == nil {
		d.Unread = map[string][]UnreadSection{}
	}
	for h, s := range o.Unread {
		d.Unread[h] = s
	}
	a, b := &d.Summary, o.Summary
	a.InLine, a.Drift, a.Unread, a.Aside, a.Worst = a.InLine+b.InLine, a.Drift+b.Drift, a.Unread+b.Unread, a.Aside+b.Aside, max(a.Worst, b.Worst)
	a.ByWord, a.ByLayer = sum(a.ByWord, b.ByWord), sum(a.ByLayer, b.ByLayer)
	d.At = o.At
}

func sum(a, b map[string]int) map[string]int {
	out := map[string]int{}
	for k, n := range a {
		out[k] += n
	}
	for k, n := range b {
		out[k] += n
	}
	return out
}

// JSON writes the report as one indented object.
func JSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// Text writes what is not in line as a table, and the summary. With all, what is in line too.
func (d Drift) Text(w io.Writer, all bool) error {
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	fmt.Fprintln(t, "HOST\tCOMPONENT\tVERDICT\tHAS\tWANTS\tSEVERITY")
	for _, v := range d.Verdicts {
		if !all && (v.Verdict == drift.InLine.String() || v.Verdict == drift.NotApplying.String()) {
			continue
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%s\n", v.Host, v.title(), v.Verdict, dash(v.Has), dash(v.Wants), dash(v.Severity))
	}
	if err := t.Flush(); err != nil {
		return err
	}
	for host, sections := range d.Unread {
		for _, s := range sections {
			if _, err := fmt.Fprintf(w, "unread on %s: %s: %s\n", host, s.Section, s.Why); err != nil {
				return err
			}
		}
	}
	_, err := fmt.Fprintf(w, "%d in line, %d adrift, %d unread, %d excepted or not applying\n", d.Summary.InLine, d.Summary.Drift, d.Summary.Unread, d.Summary.Aside)
	return err
}

func (v Verdict) title() string {
	return estate.Component{Key: estate.Key(v.Component), Device: v.Device}.Title()
}

func dash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// CSV writes every verdict as a line (RFC 4180), with a header.
func (d Drift) CSV(w io.Writer) error {
	c := csv.NewWriter(w)
	rows := [][]string{{"host", "component", "device", "layer", "verdict", "has", "wants", "severity"}}
	for _, v := range d.Verdicts {
		rows = append(rows, []string{v.Host, v.Component, v.Device, v.Layer, v.Verdict, v.Has, v.Wants, v.Severity})
	}
	return c.WriteAll(rows)
}
