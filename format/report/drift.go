// Package report writes what was found and what was done as text, CSV and JSON. docs/formats.md describes the fields.
package report

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/view"
	"yareharbour/format/plain"
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
	Last      string   `json:"last_known,omitempty"` // version, where it is unread
	Severity  string   `json:"severity,omitempty"`
	Why       []string `json:"why"`
}

// Drift is a drift report.
type Drift struct {
	Estate   string                     `json:"estate,omitempty"`
	At       time.Time                  `json:"at"`
	Verdicts []Verdict                  `json:"verdicts"`
	Summary  drift.Summary              `json:"summary"`
	Clusters map[string]drift.Summary   `json:"by_cluster"`
	Unread   map[string][]UnreadSection `json:"unread_sections,omitempty"` // by host
	// Narrowed is the filter, Hidden how many verdicts it did not let through, and Idle the words of it that nothing
	// answers to. Might is how many of the hidden ones nobody can give now, that it might let through if they were known.
	Narrowed string   `json:"narrowed,omitempty"`
	Hidden   int      `json:"hidden"`
	Might    int      `json:"might"`
	Idle     []string `json:"matches_nothing,omitempty"`
	// Unasked are hosts of which nothing was judged, and Unseen those that were never read: nothing good is said of
	// either.
	Unasked []string `json:"unasked"`
	Unseen  []string `json:"never_read"`
	// Gaps are sources of releases that are not known as they stand.
	Gaps []string `json:"source_gaps,omitempty"`
	// Flags are versions that hosts have and that were withdrawn or are open to advisories, with or without a clause.
	Flags    []drift.Flag       `json:"flagged,omitempty"`
	Problems []baseline.Problem `json:"problems,omitempty"`
}

// Standing is what a report comes to.
type Standing int

// The standings, the worst first. Only the last says that all is well, and only of what was judged.
const (
	Wrong   Standing = iota // a baseline names what is not there: nothing can be concluded
	Unknown                 // something is unread, or nothing was judged at all
	Adrift
	InLine
)

// Standing tells what the report comes to. A report in which nothing was judged, or of which a filter shows nothing,
// says nothing good.
func (d *Drift) Standing() Standing {
	switch s := d.Summary; {
	case slices.ContainsFunc(d.Problems, func(p baseline.Problem) bool { return p.Error }):
		return Wrong
	case s.Open() > 0 || d.Might > 0 || len(d.Verdicts) == 0 || len(d.Unasked)+len(d.Unseen) > 0:
		return Unknown
	case s.Drift > 0:
		return Adrift
	}
	return InLine
}

// UnreadSection is a part of a host of which nothing is known, and why.
type UnreadSection struct {
	Section string `json:"section"`
	Why     string `json:"why"`
}

// NewDrift makes a report of those of the verdicts on hosts that the filter lets through. The hosts are reported on in
// the order of their clusters; one that was never read has no verdicts, and is told by name.
func NewDrift(clusters []estate.Cluster, c *drift.Checker, readings map[string]*estate.Reading,
	verdicts map[string][]drift.Verdict, hosts []string, f narrow.Filter) Drift {
	all := Drift{Verdicts: []Verdict{}, Unasked: []string{}, Unseen: []string{}, At: c.Now}
	for _, g := range c.Catalogue.Gaps() {
		all.Gaps = append(all.Gaps, g.Says())
	}
	for _, cl := range clusters {
		var own []*estate.Reading
		for _, h := range hosts {
			switch r := readings[h]; {
			case !slices.Contains(cl.Hosts, h):
			case r != nil:
				own = append(own, r)
			case len(f.Hosts([]string{h})) > 0:
				all.Unseen = append(all.Unseen, h)
			}
		}
		if len(own) > 0 {
			all.join(driftOf(c, cl.Name, own, verdicts, f))
		}
	}
	return all
}

// Of makes a report of what a view holds of hosts.
func Of(e *view.Estate, hosts []string, f narrow.Filter) Drift {
	var clusters []estate.Cluster
	for _, b := range e.Survey.Bands {
		clusters = append(clusters, b.Cluster)
	}
	d := NewDrift(clusters, e.Checker, e.Readings, e.Verdicts, hosts, f)
	d.Estate = e.Survey.Name
	return d
}

func driftOf(c *drift.Checker, cluster string, readings []*estate.Reading, verdicts map[string][]drift.Verdict,
	f narrow.Filter) Drift {
	d := Drift{At: c.Now, Verdicts: []Verdict{}, Unasked: []string{}, Unread: map[string][]UnreadSection{},
		Clusters: map[string]drift.Summary{}, Narrowed: f.String()}
	var all []drift.Verdict
	var subjects []narrow.Subject
	for _, r := range readings {
		if drift.Summarize(verdicts[r.Host]).Unjudged() && len(f.Hosts([]string{r.Host})) > 0 {
			d.Unasked = append(d.Unasked, r.Host)
		}
		for _, v := range verdicts[r.Host] {
			s := v.Subject(c.Now)
			if subjects = append(subjects, s); !f.Lets(s) {
				if s.Open && f.Might(s) {
					d.Might++
				}
				continue
			}
			all = append(all, v)
			d.Verdicts = append(d.Verdicts, Verdict{Host: v.Host, Component: string(v.Component), Device: v.Device,
				Layer: string(v.Layer()), Verdict: v.Outcome.String(), Has: v.Has, Wants: v.Wants, Last: v.Last,
				Severity: severity(v),
				Why:      c.Why(cluster, v, r)})
		}
		for _, s := range r.Sections {
			if !s.Whole() {
				d.Unread[r.Host] = append(d.Unread[r.Host], UnreadSection{string(s.Name), cmp.Or(s.Err, s.Partial)})
			}
		}
	}
	d.Summary = drift.Summarize(all)
	d.Clusters[cluster] = d.Summary
	d.Hidden, d.Idle = len(subjects)-len(all), f.Idle(subjects)
	return d
}

func severity(v drift.Verdict) string {
	if v.Severity() == 0 {
		return ""
	}
	return v.Severity().String()
}

// join adds another report's verdicts to this one.
func (d *Drift) join(o Drift) {
	d.Verdicts = append(d.Verdicts, o.Verdicts...)
	if d.Unread == nil {
		d.Unread = map[string][]UnreadSection{}
	}
	for h, s := range o.Unread {
		d.Unread[h] = s
	}
	if d.Clusters == nil {
		d.Clusters, d.Narrowed, d.Idle = map[string]drift.Summary{}, o.Narrowed, o.Idle
	}
	d.Idle = slices.DeleteFunc(slices.Clone(d.Idle), func(w string) bool { return !slices.Contains(o.Idle, w) })
	d.Hidden += o.Hidden
	d.Might += o.Might
	d.Unasked = append(d.Unasked, o.Unasked...)
	maps.Copy(d.Clusters, o.Clusters)
	d.Summary = d.Summary.Plus(o.Summary)
	d.At = o.At
}

// Write writes the report as text, CSV or JSON.
func (d Drift) Write(w io.Writer, format string) error {
	switch format {
	case "csv":
		return d.CSV(w)
	case "json":
		return JSON(w, d)
	}
	return d.Text(w, false)
}

// Text writes what is not in line as a table, and the summary. With all, what is in line too.
func (d Drift) Text(w io.Writer, all bool) error {
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	plain.Fprintln(t, "HOST\tCOMPONENT\tVERDICT\tHAS\tWANTS\tSEVERITY")
	for _, v := range d.Verdicts {
		if !all && (v.Verdict == drift.InLine.String() || v.Verdict == drift.NotApplying.String()) {
			continue
		}
		has := dash(v.Has)
		if v.Last != "" {
			has = "last known " + v.Last
		}
		plain.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%s\n", v.Host, v.title(), v.Verdict, has, dash(v.Wants), dash(v.Severity))
	}
	if err := t.Flush(); err != nil {
		return err
	}
	for _, host := range slices.Sorted(maps.Keys(d.Unread)) {
		for _, s := range d.Unread[host] {
			if _, err := plain.Fprintf(w, "unread on %s: %s: %s\n", host, s.Section, s.Why); err != nil {
				return err
			}
		}
	}
	for _, f := range d.Flags {
		if f.Withdrawn != "" || !f.Bound {
			plain.Fprintf(w, "%s on %s%s\n", f.Says(), strings.Join(f.Hosts, ", "),
				map[bool]string{false: " (not every host has a clause about it)"}[f.Bound])
		}
	}
	for _, p := range d.Problems {
		plain.Fprintf(w, "%s%s\n", map[bool]string{true: "ERROR: ", false: "note: "}[p.Error], p)
	}
	for _, g := range d.Gaps {
		plain.Fprintf(w, "note: %s\n", g)
	}
	if len(d.Idle) > 0 {
		plain.Fprintf(w, "nothing answers to %s\n", strings.Join(d.Idle, ", "))
	}
	return d.sum(w)
}

// sum writes the counts, by cluster too where there are several.
func (d *Drift) sum(w io.Writer) error {
	if len(d.Clusters) > 1 {
		for _, c := range slices.Sorted(maps.Keys(d.Clusters)) {
			plain.Fprintf(w, "%s: %s\n", c, bySeverity(d.Clusters[c]))
		}
	}
	_, err := plain.Fprintln(w, d.Says())
	return err
}

// Says puts what the report comes to into a sentence, with all that is not known.
func (d *Drift) Says() string {
	text := bySeverity(d.Summary)
	switch {
	case len(d.Verdicts) == 0 && d.Hidden == 0:
		text = "nothing was judged: no baseline covers these hosts"
	case d.Hidden > 0:
		text += fmt.Sprintf("; narrowed to %q, %d of %d shown", d.Narrowed, len(d.Verdicts), len(d.Verdicts)+d.Hidden)
	}
	if d.Might > 0 {
		text += fmt.Sprintf("; %d hidden that nobody can give now, and that might be among these", d.Might)
	}
	if len(d.Unasked) > 0 && len(d.Verdicts)+d.Hidden > 0 {
		text += "; nothing was judged on " + strings.Join(d.Unasked, ", ")
	}
	if len(d.Unseen) > 0 {
		text += "; never read: " + strings.Join(d.Unseen, ", ")
	}
	return text
}

// bySeverity is a sum in words, with how severe the drift is.
func bySeverity(s drift.Summary) string {
	var by []string
	for _, sev := range slices.Backward([]catalogue.Severity{catalogue.Unknown, catalogue.Low, catalogue.Medium,
		catalogue.High, catalogue.Critical}) {
		if n := s.BySeverity[sev.String()]; n > 0 {
			by = append(by, fmt.Sprintf("%s %d", sev, n))
		}
	}
	if len(by) == 0 {
		return s.Says()
	}
	return s.Says() + " (adrift by severity: " + strings.Join(by, ", ") + ")"
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
	rows := [][]string{{"host", "component", "device", "layer", "verdict", "has", "wants", "severity"}}
	for _, v := range d.Verdicts {
		rows = append(rows, []string{v.Host, v.Component, v.Device, v.Layer, v.Verdict, v.Has, v.Wants, v.Severity})
	}
	return Rows(w, rows)
}
