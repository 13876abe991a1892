package view

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
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
	Last      string   `json:"last_known,omitempty"` // version, where it is unread
	Severity  string   `json:"severity,omitempty"`
	Why       []string `json:"why"`
	Help      string   `json:"help"` // the topic of the manual that explains the verdict
	// Since when it was found out of line, and until when that may last, by the baseline's own limit.
	Since   time.Time `json:"since,omitzero"`
	Due     time.Time `json:"due,omitzero"`
	Overdue bool      `json:"overdue,omitempty"`

	last string // how long it lasts, in words
	calm bool   // there is nothing to do about it
}

func verdictOf(v *drift.Verdict, why []string) Verdict {
	return Verdict{Host: v.Host, Component: string(v.Component), Device: v.Device, Layer: string(v.Layer()),
		Verdict: v.Outcome.String(), Has: v.Has, Wants: v.Wants, Last: v.Last, Severity: graded(v.Severity()), Why: why, Help: v.Outcome.String(),
		calm: v.Outcome == drift.InLine || v.Outcome == drift.NotApplying}
}

func (v *Verdict) title() string {
	return estate.Component{Key: estate.Key(v.Component), Device: v.Device}.Title()
}

// Why tells the story of a verdict, and for how long it has been so.
func (j Judged) Why(cluster string, v *drift.Verdict, r *estate.Reading) []string {
	why := j.Checker.Why(cluster, *v, r)
	if !v.Outcome.Drifts() {
		return why
	}
	since := j.Lasting[v.Place()]
	if says := outOfLine(since, j.Checker.Due(v, since), j.Checker.Now); says != "" {
		why = append(why, says)
	}
	return why
}

// outOfLine says since when a place is out of line, and until when it may; "" where that is not known.
func outOfLine(since, due, now time.Time) string {
	if since.IsZero() {
		return ""
	}
	says := fmt.Sprintf("Out of line since %s, %s ago", since.Local().Format("2 Jan 2006 15:04 MST"), drift.Age(now.Sub(since)))
	switch {
	case due.IsZero():
	case now.After(due):
		says += fmt.Sprintf("; its baseline allows that until %s: overdue by %s", due.Local().Format("2 Jan 15:04"), drift.Age(now.Sub(due)))
	default:
		says += fmt.Sprintf("; its baseline allows that until %s", due.Local().Format("2 Jan 15:04"))
	}
	return says + "."
}

// lasts says how long it has lasted, and whether that is too long.
func (v *Verdict) lasts(now time.Time) {
	if v.Since.IsZero() {
		return
	}
	v.last = drift.Age(now.Sub(v.Since))
	if v.Overdue = !v.Due.IsZero() && now.After(v.Due); v.Overdue {
		v.last += ", overdue by " + drift.Age(now.Sub(v.Due))
	}
}

// graded is a severity in a word; "" where it is not known.
func graded(s catalogue.Severity) string {
	if s == catalogue.Unknown {
		return ""
	}
	return s.String()
}

// Report is a drift report: the verdicts on hosts, and what they come to.
type Report struct {
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

// UnreadSection is a part of a host of which nothing is known, and why.
type UnreadSection struct {
	Section string `json:"section"`
	Why     string `json:"why"`
}

// Conclusion is what a report comes to.
type Conclusion int

// The conclusions, the worst first. Only the last says that all is well, and only of what was judged.
const (
	Wrong   Conclusion = iota // a baseline names what is not there: nothing can be concluded
	Unknown                   // something is unread, or nothing was judged at all
	Adrift
	InLine
)

// Conclusion tells what the report comes to. A report in which nothing was judged, or of which a filter shows nothing, says
// nothing good.
func (d *Report) Conclusion() Conclusion {
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

// Judged is what a report is made of: verdicts on hosts, and what they were given from.
type Judged struct {
	Clusters []estate.Cluster
	Checker  *drift.Checker
	Readings map[string]*estate.Reading
	Verdicts map[string][]drift.Verdict
	Lasting  map[string]time.Time // since when a place is out of line, by drift.Verdict.Place
}

// Report makes a report of those of the verdicts on hosts that the filter lets through. The hosts are reported on in the
// order of their clusters; one that was never read has no verdicts, and is told by name.
func (j Judged) Report(hosts []string, f narrow.Filter) Report {
	d := Report{At: j.Checker.Now, Verdicts: []Verdict{}, Unasked: []string{}, Unseen: []string{}, Narrowed: f.String(),
		Unread: map[string][]UnreadSection{}, Clusters: map[string]drift.Summary{}}
	for _, g := range j.Checker.Catalogue.Gaps() {
		d.Gaps = append(d.Gaps, g.Says())
	}
	var subjects []narrow.Subject
	for _, c := range j.Clusters {
		var let []drift.Verdict
		read := false
		for _, h := range hosts {
			switch r := j.Readings[h]; {
			case !slices.Contains(c.Hosts, h):
			case r != nil:
				read = true
				let = append(let, d.host(j, c.Name, r, f, &subjects)...)
			case len(f.Hosts([]string{h})) > 0:
				d.Unseen = append(d.Unseen, h)
			}
		}
		if read {
			d.Clusters[c.Name] = drift.Summarize(let)
			d.Summary = d.Summary.Plus(d.Clusters[c.Name])
		}
	}
	d.Hidden = len(subjects) - len(d.Verdicts)
	if len(subjects) > 0 {
		d.Idle = f.Idle(subjects)
	}
	return d
}

// host reports on one host, and returns the verdicts that are let through.
func (d *Report) host(j Judged, cluster string, r *estate.Reading, f narrow.Filter,
	subjects *[]narrow.Subject) (let []drift.Verdict) {
	all := j.Verdicts[r.Host]
	if drift.Summarize(all).Unjudged() && len(f.Hosts([]string{r.Host})) > 0 {
		d.Unasked = append(d.Unasked, r.Host)
	}
	for i := range all {
		s := all[i].Subject(d.At)
		if *subjects = append(*subjects, s); !f.Lets(s) {
			if s.Open && f.Might(s) {
				d.Might++
			}
			continue
		}
		let = append(let, all[i])
		v := verdictOf(&all[i], j.Why(cluster, &all[i], r))
		if all[i].Outcome.Drifts() {
			v.Since = j.Lasting[all[i].Place()]
			v.Due = j.Checker.Due(&all[i], v.Since)
			v.lasts(d.At)
		}
		d.Verdicts = append(d.Verdicts, v)
	}
	for _, s := range r.Sections {
		if !s.Whole() {
			d.Unread[r.Host] = append(d.Unread[r.Host], UnreadSection{string(s.Name), cmp.Or(s.Err, s.Partial)})
		}
	}
	return let
}

// Report reports on hosts as the view knows them.
func (e *Estate) Report(hosts []string, f narrow.Filter) Report {
	j := Judged{Checker: e.Checker, Readings: e.Readings, Verdicts: e.Verdicts, Lasting: e.Lasting}
	for _, b := range e.Survey.Bands {
		j.Clusters = append(j.Clusters, b.Cluster)
	}
	d := j.Report(hosts, f)
	d.Estate = e.Survey.Name
	return d
}

// OfEstate is the whole estate: as a drawing its Waterline, as words all verdicts.
func OfEstate(e *Estate, f narrow.Filter) Document {
	d := e.Report(e.Hosts(""), f)
	out := d.Document("waterline", "", false)
	out.Drawing = e.Survey
	return out
}

// OfDrift is what is out of line in a cluster.
func OfDrift(e *Estate, cluster string, f narrow.Filter) Document {
	d := e.Report(e.Hosts(cluster), f)
	return d.Document("drift", cluster, false)
}

// OfHost is every verdict on a host.
func OfHost(e *Estate, host string, f narrow.Filter) Document {
	d := e.Report([]string{host}, f)
	return d.Document("host", host, true)
}

// Document writes the report out. Data has every verdict; text and drawings have what is not in line, or, with all,
// what is in line too.
func (d *Report) Document(name, about string, all bool) Document {
	columns := []Column{{Name: "host"}, {Name: "component"}, {Name: "device", In: Data}, {Name: "layer", In: Data},
		{Name: "verdict"}, {Name: "has"}, {Name: "wants"}, {Name: "severity"}, {Name: "for", In: Text}, {Name: "since", In: Data}, {Name: "due", In: Data}}
	every := Table{Columns: columns}
	shown := Table{Columns: columns, Grouped: true}
	for i := range d.Verdicts {
		v := &d.Verdicts[i]
		every.Rows = append(every.Rows, []any{v.Host, v.Component, v.Device, v.Layer, v.Verdict, v.Has, v.Wants, v.Severity, v.last, v.Since, v.Due})
		if all || !v.calm {
			has := v.Has
			if v.Last != "" {
				has = "last known " + v.Last
			}
			shown.Rows = append(shown.Rows, []any{v.Host, v.title(), v.Device, v.Layer, v.Verdict, has, v.Wants, v.Severity, v.last, v.Since, v.Due})
		}
	}
	drawn := shown
	drawn.Rows = slices.Clone(shown.Rows)
	for _, h := range d.Unseen {
		drawn.Rows = append(drawn.Rows, []any{h, "all of it", "", "", "never read", "", "", "", "", time.Time{}, time.Time{}})
	}
	return Document{Name: name, Subjects: []string{about}, Value: d, Table: every, Drawing: drawn,
		Title: strings.TrimSuffix(map[bool]string{true: "Components of ", false: "Drift of "}[all]+cmp.Or(about, "the estate"), " "), Sum: d.Says(), Topics: d.words(),
		Text: []Block{{Table: &shown}, Lines(d.notes()...)}}
}

// words are the verdicts that occur.
func (d *Report) words() (out []string) {
	for _, o := range drift.Outcomes {
		if d.Summary.ByWord[o.String()] > 0 {
			out = append(out, o.String())
		}
	}
	return out
}

// notes are what stands below the table.
func (d *Report) notes() []string {
	var s said
	for _, host := range slices.Sorted(maps.Keys(d.Unread)) {
		for _, u := range d.Unread[host] {
			s.add("unread on %s: %s: %s", host, u.Section, u.Why)
		}
	}
	for _, f := range d.Flags {
		if f.Withdrawn != "" || !f.Bound {
			s.add("%s on %s%s", f.Says(), strings.Join(f.Hosts, ", "),
				map[bool]string{false: " (not every host has a clause about it)"}[f.Bound])
		}
	}
	s = append(s, Problems(d.Problems)...)
	for _, g := range d.Gaps {
		s.add("note: %s", g)
	}
	if len(d.Idle) > 0 {
		s.add("nothing matches %s", strings.Join(d.Idle, ", "))
	}
	if len(d.Clusters) > 1 {
		for _, c := range slices.Sorted(maps.Keys(d.Clusters)) {
			s.add("%s: %s", c, bySeverity(d.Clusters[c]))
		}
	}
	return append(s, d.Says())
}

// Problems are what is wrong with baselines, a line each.
func Problems(ps []baseline.Problem) []string {
	var s said
	for _, p := range ps {
		s.add("%s%s", map[bool]string{true: "ERROR: ", false: "note: "}[p.Error], p)
	}
	return s
}

// fewHosts is how many hosts a sentence of a report names.
const fewHosts = 8

// Says puts what the report comes to into a sentence, with all that is not known.
func (d *Report) Says() string {
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
		text += "; nothing was judged on " + estate.Few(d.Unasked, fewHosts)
	}
	if len(d.Unseen) > 0 {
		text += "; never read: " + estate.Few(d.Unseen, fewHosts)
	}
	return text
}

// bySeverity is a sum in words, with how severe the drift is.
func bySeverity(s drift.Summary) string {
	var by []string
	for _, sev := range catalogue.Severities {
		if n := s.BySeverity[sev.String()]; n > 0 {
			by = append(by, fmt.Sprintf("%s %d", sev, n))
		}
	}
	if len(by) == 0 {
		return s.Says()
	}
	return s.Says() + " (adrift by severity: " + strings.Join(by, ", ") + ")"
}
