package view

import (
	"fmt"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// ago says how long ago something was; "never" of the zero time.
func ago(t, now time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return drift.Age(now.Sub(t)) + " ago"
}

// SetAside says which entries of a feed could not be read.
func SetAside(name string, aside []string) []string {
	const most = 10
	var s said
	for _, x := range aside[:min(most, len(aside))] {
		s.add("set aside of %s: %s", name, x)
	}
	if rest := len(aside) - most; rest > 0 {
		s.add("set aside of %s: %d more", name, rest)
	}
	return s
}

// OfFeeds are the feeds, and how they stand.
func OfFeeds(all []Feed, now time.Time) Document {
	d := List("feeds", all, []Column{{Name: "feed"}, {Name: "kind"}, {Name: "sync"}, {Name: "synced", In: Text},
		{Name: "synced_at", In: Data}, {Name: "releases"}, {Name: "advisories"}, {Name: "size"}, {Name: "at"}, {Name: "error", In: Data}},
		func(f *Feed) []any {
			return []any{f.Name, f.Kind, f.Schedule, ago(f.Synced, now), f.Synced, f.Releases, f.Advisories, Bytes(f.Bytes), f.At, f.Error}
		})
	d.Table.Empty = "the estate file names no feeds; docs/catalogue.md tells how"
	var s said
	for _, f := range all {
		s = append(s, SetAside(f.Name, f.Aside)...)
		if f.Error != "" {
			s.add("failed %s: %s", ago(f.Tried, now), f.Error)
		}
	}
	d.Text = []Block{{Table: &d.Table}, Lines(s...)}
	return d
}

// OfBundles are bundles that were taken in.
func OfBundles(all []catalogue.Bundle) Document {
	d := List("bundles", all, Columns("id", "name", "taken_in", "by", "releases", "advisories", "payloads"),
		func(b *catalogue.Bundle) []any {
			return []any{fmt.Sprintf("%.12s", b.ID), b.Name, b.Taken, b.By, b.Releases, b.Advisories, b.Payloads}
		})
	d.Table.Empty = "no bundle was taken in; \"yare bundle import FILE\" takes one in"
	return d
}

// OfBundle is what is in a bundle; newReleases and newAdvisories of it the catalogue has not yet.
func OfBundle(b catalogue.Bundle, newReleases, newAdvisories int) Document {
	d := Document{Name: "bundle", Subjects: []string{b.Name}, Title: fmt.Sprintf("%s, %.12s", b.Name, b.ID), Value: b}
	d.Table.Columns = []Column{{Name: "bundle", In: Data}, {Name: "file"}, {Name: "kind"}, {Name: "size", In: Text}, {Name: "bytes", In: Data},
		{Name: "sha256", In: Data}, {Name: "brings"}}
	for _, f := range b.Files {
		d.Table.Rows = append(d.Table.Rows, []any{b.Name, f.Path, f.Kind, Bytes(f.Size), Bytes(f.Size), f.SHA256, f.Says})
	}
	var s said
	s.add("%s, %s: %s (%d not known yet), %s (%d not known yet), %s", b.Name, catalogue.Bytes(b.Size),
		catalogue.Some(b.Releases, "release"), newReleases, catalogue.Some(b.Advisories, "advisory"), newAdvisories,
		catalogue.Some(b.Payloads, "payload"))
	says, _ := Vouched(b)
	s.add("%s", says)
	if len(b.Left) > 0 {
		s.add("left out, since nobody vouches for them: %s", strings.Join(b.Left, ", "))
	}
	if len(b.Missing) > 0 {
		s.add("not in it, though its releases name them: %s", strings.Join(b.Missing, ", "))
	}
	d.Text = []Block{{Table: &d.Table}, Lines(s...)}
	return d
}

// Vouched says who vouches for a bundle's files, and how that is meant.
func Vouched(b catalogue.Bundle) (string, Tone) {
	switch {
	case b.SignedBy != "":
		return fmt.Sprintf("the signature %s is good; %s with the hash that it vouches for", b.SignedBy,
			catalogue.Some(b.Summed, "file")), Good
	case b.Summed > 0:
		return catalogue.Some(b.Summed, "file") + " with the hash that its SHA256SUMS says; nobody has signed that", Caution
	}
	return "it carries no checksums of its own; payloads have the hashes that their releases state", Caution
}

// Document lists the payload store.
func (p Payloads) Document(now time.Time) Document {
	p.Payloads = some(p.Payloads)
	d := List("payloads", p.Payloads, []Column{{Name: "sha256"}, {Name: "size"}, {Name: "came_in", In: Text}, {Name: "at", In: Data},
		{Name: "release"}, {Name: "wanted"}}, func(x *Payload) []any {
		sum, release := x.SHA256, x.Release
		if release == "" {
			release = "no release names it"
		}
		return []any{sum, Bytes(x.Size), ago(x.At, now), x.At, release, x.Wanted}
	})
	d.Value = p
	short := d.Table
	short.Rows = nil
	for _, r := range d.Table.Rows {
		short.Rows = append(short.Rows, append([]any{fmt.Sprintf("%.16s", r[0])}, r[1:]...))
	}
	d.Text = []Block{{Table: &short}, Lines(fmt.Sprintf("%s, %s; %s free", catalogue.Some(len(p.Payloads), "payload"),
		catalogue.Bytes(p.Size), catalogue.Bytes(p.Free)), "besides "+p.Own.Says())}
	return d
}

// OfWays are the ways to hosts, stage by stage.
func OfWays(all []Ways) Document {
	d := Document{Name: "connect", Title: "Ways to hosts", Value: some(all)}
	d.Table.Columns = Columns("host", "way", "stage", "ok", "found", "do")
	broken := 0
	for i := range all {
		w := &all[i]
		if w.Failed() > 0 {
			broken++
		}
		t := Table{Columns: Columns("way", "stage", "holds", "found"), Headless: true}
		for _, s := range w.Stages {
			d.Table.Rows = append(d.Table.Rows, []any{w.Host, s.Way, s.Name, s.OK, s.Found, s.Do})
			t.Rows = append(t.Rows, []any{s.Way, s.Name, map[bool]string{true: "holds", false: "FAILS"}[s.OK], s.Found})
			if s.Do != "" && !s.OK {
				t.Rows = append(t.Rows, []any{"", "", "", "→ " + s.Do})
			}
		}
		d.Text = append(d.Text, Lines(w.Host), Block{Table: &t})
	}
	d.Text = append(d.Text, Lines(fmt.Sprintf("%d of %d hosts: every way holds", len(all)-broken, len(all))))
	return d
}

// Lacks is what a host needs before it takes orders.
type Lacks struct {
	Host  string `json:"host"`
	Items []Item `json:"items"`           // none where it takes orders as it is
	Wrong string `json:"wrong,omitempty"` // why it can't be prepared
}

// Item is something that a host needs.
type Item struct {
	What  string `json:"what"`  // a path, or what is done
	Why   string `json:"why"`   // what it is for
	There bool   `json:"there"` // it is there already, as it should be
}

// Ready tells whether nothing is missing.
func (l *Lacks) Ready() bool {
	for _, i := range l.Items {
		if !i.There {
			return false
		}
	}
	return l.Wrong == ""
}

// OfLacks is what hosts need before they take orders. Hosts that need the same are told of together.
func OfLacks(all []Lacks) Document {
	d := Document{Name: "prepare", Title: "What hosts need", Value: some(all)}
	d.Table.Columns = Columns("host", "what", "there", "why", "wrong")
	told := map[string][]string{}
	var order []Lacks
	for _, l := range all {
		for _, i := range l.Items {
			d.Table.Rows = append(d.Table.Rows, []any{l.Host, i.What, i.There, i.Why, l.Wrong})
		}
		if len(l.Items) == 0 {
			d.Table.Rows = append(d.Table.Rows, []any{l.Host, "", false, "", l.Wrong})
		}
		same := fmt.Sprint(l.Items, l.Wrong)
		if told[same] == nil {
			order = append(order, l)
		}
		told[same] = append(told[same], l.Host)
	}
	for _, l := range order {
		d.Text = append(d.Text, Lines(strings.Join(told[fmt.Sprint(l.Items, l.Wrong)], ", ")))
		switch {
		case l.Wrong != "":
			d.Text = append(d.Text, Lines("  can't be prepared: "+l.Wrong))
		case len(l.Items) == 0:
			d.Text = append(d.Text, Lines("  takes orders as it is"))
		}
		t := Table{Columns: Columns("there", "what", "why"), Headless: true}
		for _, i := range l.Items {
			t.Rows = append(t.Rows, []any{map[bool]string{true: "there", false: "missing"}[i.There], i.What, i.Why})
		}
		d.Text = append(d.Text, Block{Table: &t})
	}
	return d
}

// OfTasks is what waits or runs at a host's BMC.
func OfTasks(host string, tasks []estate.BMCTask) Document {
	d := List("tasks", tasks, Columns("task", "what", "since"), func(t *estate.BMCTask) []any { return []any{t.ID, t.Says, t.Since} })
	d.Subjects, d.Table.Empty = []string{host}, "nothing waits at the BMC of "+host
	return d
}

// OfLogs are the newest lines of a host's logs, n of each.
func OfLogs(host string, logs []act.Log, n int) Document {
	d := Document{Name: "log", Subjects: []string{host}, Title: "Logs of " + host}
	d.Table.Columns = Columns("host", "log", "line", "error")
	logs = some(logs)
	for i := range logs {
		l := &logs[i]
		l.Lines = l.Lines[max(0, len(l.Lines)-max(0, n)):]
		text := said{l.Of}
		for _, line := range l.Lines {
			text.add("  %s", line)
			d.Table.Rows = append(d.Table.Rows, []any{host, l.Of, line, ""})
		}
		switch {
		case l.Err != "":
			text.add("  not all could be read: %s", l.Err)
			d.Table.Rows = append(d.Table.Rows, []any{host, l.Of, "", l.Err})
		case len(l.Lines) == 0:
			text.add("  it says nothing")
		}
		d.Text = append(d.Text, Lines(text...))
	}
	d.Value = logs
	return d
}

// OfPruned is what a rule lets go of the payload store.
func OfPruned(all []catalogue.Pruned) Document {
	d := List("prune", all, Columns("sha256", "size", "why"), func(x *catalogue.Pruned) []any {
		return []any{fmt.Sprintf("%.16s", x.SHA256), Bytes(x.Size), x.Why}
	})
	d.Table.Headless, d.Table.Empty = true, "there is nothing to prune by this rule"
	return d
}

// Filter is a filter that was kept.
type Filter struct {
	Name string `json:"name"`
	Text string `json:"filter"`
}

// OfFilters are filters that were kept.
func OfFilters(all []Filter) Document {
	d := List("filters", all, Columns("name", "filter"), func(f *Filter) []any { return []any{"@" + f.Name, f.Text} })
	d.Table.Empty = "no filter is kept"
	return d
}

// Explained is a verdict with its whole story.
type Explained struct {
	Host      string     `json:"host"`
	Component estate.Key `json:"component"`
	Device    string     `json:"device"`
	Verdict   string     `json:"verdict"`
	Why       []string   `json:"why"`
	Help      string     `json:"help"` // the topic of the manual that explains the verdict
}

// OfExplained tells verdicts' stories in sentences.
func OfExplained(all []Explained) Document {
	d := List("explain", all, Columns("host", "component", "device", "verdict", "why"), func(x *Explained) []any {
		return []any{x.Host, string(x.Component), x.Device, x.Verdict, strings.Join(x.Why, " ")}
	})
	d.Text = []Block{}
	for i := range all {
		all[i].Help = all[i].Verdict
	}
	for _, x := range all {
		title := estate.Component{Key: x.Component, Device: x.Device}.Title()
		d.Text = append(d.Text, Lines(fmt.Sprintf("%s on %s: %s", title, x.Host, x.Verdict)))
		for _, w := range x.Why {
			d.Text = append(d.Text, Lines("  "+w))
		}
		d.Text = append(d.Text, Lines(fmt.Sprintf("  what that means: yare help %q", x.Verdict)))
	}
	return d
}
