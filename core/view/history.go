package view

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/logbook"
)

// Trend is a cluster's drift over time: its tallies from then to now.
type Trend struct {
	Cluster  string        `json:"cluster"`
	Tallies  []drift.Tally `json:"trend"`
	Means    []drift.Mean  `json:"lasting"` // how long drift lasts, by severity
	Marks    []Mark        `json:"marks"`   // what was done meanwhile
	From, To time.Time     `json:"-"`
}

// Mark is something that was done at a time and bears on drift.
type Mark struct {
	At   time.Time `json:"at"`
	Kind string    `json:"kind"` // round, or news: what feeds and bundles brought
	Says string    `json:"says"`
}

// Marks are those of a cluster among entries of the logbook.
func Marks(all []logbook.Entry, cluster string) []Mark {
	out := []Mark{}
	for i := range all {
		switch e := &all[i]; {
		case e.Kind == logbook.Begun && e.Cluster == cluster:
			out = append(out, Mark{e.At, "round", e.Says})
		case e.Kind == logbook.Synced || e.Kind == logbook.TakenIn || e.Kind == logbook.TakenOut:
			out = append(out, Mark{e.At, "news", e.Says})
		}
	}
	return out
}

// Document writes the trend out.
func (t Trend) Document() Document {
	t.Tallies, t.Means, t.Marks = some(t.Tallies), some(t.Means), some(t.Marks)
	d := Document{Name: "trend", Subjects: []string{t.Cluster}, Value: t, Drawing: t}
	d.Table.Columns = []Column{{Name: "cluster", In: Data}, {Name: "at"}}
	for _, l := range estate.Layers {
		d.Table.Columns = append(d.Table.Columns, Column{Name: string(l)})
	}
	for _, s := range catalogue.Severities {
		d.Table.Columns = append(d.Table.Columns, Column{Name: s.String(), In: Data})
	}
	for _, n := range []string{"unread", "undecided", "hosts", "adrift", "not_covered", "never_read"} {
		d.Table.Columns = append(d.Table.Columns, Column{Name: n, In: Data})
	}
	d.Table.Columns = append(d.Table.Columns, Column{Name: "hosts adrift", In: Text}, Column{Name: "not known", In: Text})
	for _, x := range t.Tallies {
		row := []any{t.Cluster, x.At}
		for _, l := range estate.Layers {
			row = append(row, x.Drift[l])
		}
		for _, s := range catalogue.Severities {
			row = append(row, x.Severities[s.String()])
		}
		d.Table.Rows = append(d.Table.Rows, append(row, x.Unread, x.Undecided, x.Hosts, x.Adrift, x.Unasked, x.Unseen,
			fmt.Sprintf("%d of %d", x.Adrift, x.Hosts), x.Open()))
	}
	d.Text = []Block{{Table: &d.Table}}
	if len(t.Means) > 0 {
		lasts := Table{Columns: Columns("severity", "places", "still", "mean", "longest")}
		for _, m := range t.Means {
			longest := ""
			if m.Still > 0 {
				longest = drift.Age(m.Longest)
			}
			lasts.Rows = append(lasts.Rows, []any{m.Severity, m.Places, m.Still, drift.Age(m.Mean), longest})
		}
		d.Text = append(d.Text, Block{Head: "How long drift lasts, from first seen until fixed", Table: &lasts})
	}
	if len(t.Marks) > 0 {
		marks := Table{Columns: Columns("at", "what")}
		for _, m := range t.Marks {
			marks.Rows = append(marks.Rows, []any{m.At, m.Says})
		}
		d.Text = append(d.Text, Block{Head: "What was done meanwhile", Table: &marks})
	}
	return d
}

// Document writes the comparison out.
func (c Comparison) Document() Document {
	type end struct {
		Host string    `json:"host"`
		At   time.Time `json:"at"`
	}
	from, to := c.From, c.To
	d := Document{Name: "compare", Subjects: []string{c.FromName, c.ToName}, Title: c.FromName + " and " + c.ToName,
		Value: struct {
			From end `json:"from"`
			To   end `json:"to"`
			drift.Comparison
		}{end{from.Host, from.Tried()}, end{to.Host, to.Tried()}, c.Comparison}}
	d.Table.Columns = Columns("what", "device", "from", "to")
	lines := Table{Columns: Columns("what", "from", "to"), Headless: true, Empty: "  nothing differs in what both hold"}
	drawn := Table{Columns: Columns("what", c.FromName, c.ToName)}
	row := func(title, what, device, from, to string) {
		d.Table.Rows = append(d.Table.Rows, []any{what, device, from, to})
		lines.Rows = append(lines.Rows, []any{title, OrDash(from), "→ " + OrDash(to)})
		drawn.Rows = append(drawn.Rows, []any{title, from, to})
	}
	for _, f := range c.Facts {
		row(f.What, f.What, "", f.From, f.To)
	}
	for _, t := range c.Turns {
		row(t.Title(), string(t.Component), t.Device, t.From, t.To)
	}
	d.Drawing = drawn
	const when = "2 Jan 2006 15:04 MST"
	var unread said
	for _, s := range c.Unread {
		lacks := "one of the two lacks"
		if from.Section(s).Err != "" && to.Section(s).Err != "" {
			lacks = "neither holds"
		}
		unread.add("not compared: %s, which %s", s, lacks)
	}
	d.Text = []Block{Lines(fmt.Sprintf("%s of %s → %s of %s", from.Host, from.Tried().Local().Format(when), to.Host,
		to.Tried().Local().Format(when))), {Table: &lines}, Lines(unread...)}
	return d
}

// Happening is something in the life of a host: a component that came, went or changed its version, or something that was
// done to the host.
type Happening struct {
	At   time.Time `json:"at"`
	What string    `json:"what"` // a component, or what was done
	From string    `json:"from,omitempty"`
	To   string    `json:"to,omitempty"`
	// By is who did it; of a change, in which round it was made, as far as that can be told, or that it was in none.
	By    string `json:"by,omitempty"`
	Round string `json:"round,omitempty"`

	device string
}

// Life puts what changed on a host together with the rounds that visited it, and what else the logbook has of it, the newest
// first. A change is a round's where it was first seen while that went on, or within a minute after it.
func Life(host string, turns []drift.Turn, rounds []RoundLine, entries []logbook.Entry) []Happening {
	out := []Happening{}
	visits := func(r *RoundLine) bool { return slices.Contains(r.Visited, host) }
	for _, t := range turns {
		h := Happening{At: t.At, What: t.Title(), From: t.From, To: t.To, By: "outside of any round", device: t.Device}
		for i := range rounds {
			r := &rounds[i]
			end := r.Ended
			if end.IsZero() {
				end = t.At
			}
			if visits(r) && !t.At.Before(r.Started) && !t.At.After(end.Add(time.Minute)) {
				h.By, h.Round = r.By+", in a round", r.ID
			}
		}
		out = append(out, h)
	}
	for i := range rounds {
		if r := &rounds[i]; visits(r) {
			d := Deed{Round: r}
			out = append(out, Happening{At: r.Started, What: d.Says() + ": " + r.Reason, To: r.Status, By: Who(r.By, r.From), Round: r.ID})
		}
	}
	for i := range entries {
		if e := &entries[i]; e.Host == host && e.Kind != logbook.Begun {
			out = append(out, Happening{At: e.At, What: string(e.Kind) + ": " + e.Says, By: Who(e.By, e.From), Round: e.Round})
		}
	}
	slices.SortStableFunc(out, func(a, b Happening) int { return b.At.Compare(a.At) })
	return out
}

// OfLife is a host's life.
func OfLife(host string, all []Happening) Document {
	d := Document{Name: "life", Subjects: []string{host}, Title: "Life of " + host, Value: struct {
		Host string      `json:"host"`
		Life []Happening `json:"life"`
	}{host, some(all)}}
	d.Table = Table{Columns: []Column{{Name: "host", In: Data}, {Name: "at"}, {Name: "what"}, {Name: "device", In: Data},
		{Name: "from"}, {Name: "to"}, {Name: "by"}, {Name: "round", In: Data}}, Empty: "nothing changed on " + host + " since it was first read, and nothing was done to it"}
	for _, h := range all {
		d.Table.Rows = append(d.Table.Rows, []any{host, h.At, h.What, h.device, h.From, h.To, h.By, h.Round})
	}
	return d
}

// Seen is a version of a component on hosts: when it was first and last seen on any of them.
type Seen struct {
	Component string    `json:"component"`
	Version   string    `json:"version"`
	First     time.Time `json:"first"`
	FirstOn   string    `json:"first_on"`
	Last      time.Time `json:"last"`
	Hosts     []string  `json:"hosts"`     // that had it at some time
	Now       []string  `json:"hosts_now"` // that have it by their newest reading
}

// SeenOf puts together when versions of a component were seen on hosts, by what each host's spans say; the newest version
// first.
func SeenOf(key estate.Key, hosts []string, spans map[string][]drift.Span) (out []Seen) {
	for _, host := range hosts {
		for _, s := range spans[host] {
			if s.Component != key {
				continue
			}
			i := slices.IndexFunc(out, func(x Seen) bool { return x.Version == s.Version })
			if i < 0 {
				i = len(out)
				out = append(out, Seen{Component: string(key), Version: s.Version, First: s.First, FirstOn: host, Hosts: []string{}, Now: []string{}})
			}
			x := &out[i]
			if s.First.Before(x.First) {
				x.First, x.FirstOn = s.First, host
			}
			if s.Last.After(x.Last) {
				x.Last = s.Last
			}
			if !slices.Contains(x.Hosts, host) {
				x.Hosts = append(x.Hosts, host)
			}
			if s.Now && !slices.Contains(x.Now, host) {
				x.Now = append(x.Now, host)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Seen) int { return key.Scheme().Compare(b.Version, a.Version) })
	return out
}

// OfSeen is when versions of a component were seen.
func OfSeen(key estate.Key, all []Seen) Document {
	d := List("seen", all, Columns("component", "version", "first", "first_on", "last", "hosts", "hosts_now"), func(s *Seen) []any {
		return []any{s.Component, s.Version, s.First, s.FirstOn, s.Last, s.Hosts, s.Now}
	})
	d.Subjects, d.Title, d.Table.Empty = []string{string(key)}, "Versions of "+string(key), "no host was seen with "+string(key)
	return d
}

// New is what is out of line in a cluster and was not at the last look.
type New struct {
	Cluster string    `json:"cluster"`
	Since   time.Time `json:"since,omitzero"`
	News    []Verdict `json:"news"`
	// Now is how the cluster stands; its time is left out.
	Now drift.Tally `json:"now"`

	by string
}

// NewOf is what is new in a cluster.
func NewOf(cluster string, of drift.News) New {
	n := New{cluster, of.Since, []Verdict{}, of.Now, of.By}
	n.Now.At = time.Time{}
	for i := range of.Drift {
		n.News = append(n.News, verdictOf(&of.Drift[i], nil))
	}
	return n
}

// OfNews is what is new in clusters.
func OfNews(all []New) Document {
	d := Document{Name: "news", Title: "News", Value: some(all)}
	d.Table.Columns = Columns("cluster", "host", "component", "device", "verdict", "has", "wants", "severity")
	for _, n := range all {
		open := ""
		if s := n.Now.Open(); s != "" {
			open = "; not known: " + s
		}
		if n.Since.IsZero() {
			d.Text = append(d.Text, Lines(n.Cluster+": nobody has looked yet; --seen notes what is there now"+open))
			continue
		}
		lines := Table{Columns: Columns("host", "component", "verdict", "has", "wants"), Headless: true}
		for i := range n.News {
			v := &n.News[i]
			d.Table.Rows = append(d.Table.Rows, []any{n.Cluster, v.Host, v.Component, v.Device, v.Verdict, v.Has, v.Wants, v.Severity})
			lines.Rows = append(lines.Rows, []any{v.Host, v.title(), v.Verdict, OrDash(v.Has), OrDash(v.Wants)})
		}
		d.Text = append(d.Text, Lines(fmt.Sprintf("%s: %d new since %s (%s)%s", n.Cluster, len(n.News),
			n.Since.Local().Format(minute), n.by, open)), Block{Table: &lines})
	}
	return d
}
