package survey

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/act"

	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// Urgency orders what needs a person.
type Urgency int

// The urgencies, worst first.
const (
	Now Urgency = iota
	Soon
	Sometime
)

// Need is something that needs a person.
type Need struct {
	Urgency Urgency
	Cluster string
	Host    string // empty where it is about the whole cluster
	Text    string
	on      []string  // the hosts that it is about, where those are several; none: one, or the whole cluster
	why     string    // the cause, told after the text: it does not keep apart what is so of several hosts
	First   bool      // before all others: what a round left in the middle
	late    bool      // it is overdue
	Since   time.Time // since when it is so; zero where that is not known
	// Where it can be mended, and what to look at there.
	See       Where
	Component estate.Key
	Device    string
	Baseline  string
	// Of are the verdicts that it sums up; none where it is about something else.
	Of []*drift.Verdict
	// Clusters are those that have it in common, where they are several and it is told once; Cluster is the first.
	Clusters []string
}

// rank puts first what a round left in the middle, and then what is overdue.
func (n *Need) rank() int {
	switch {
	case n.First:
		return 0
	case n.late:
		return 1
	}
	return 2
}

// Topic is where the manual tells of it.
func (n *Need) Topic() string {
	switch {
	case len(n.Of) > 0:
		return n.Of[0].Outcome.String()
	case n.See == AtRound:
		return "when it does not go on"
	case n.See == AtPlan:
		return "plans"
	case n.See == AtBaselines:
		return "baselines"
	case n.See == AtCatalogue:
		return "catalogue"
	}
	return "prechecks"
}

// Subjects are what a filter looks at of the need at the time now, of which one let through is enough: the verdicts that
// it sums up, or, of what is no verdict, its hosts. Of that no severity, publisher, layer or verdict can be told. hosts
// are those of its cluster.
func (n *Need) Subjects(hosts []string, now time.Time) (out []narrow.Subject) {
	for _, v := range n.Of {
		s := v.Subject(now)
		s.Words = append(s.Words, n.Cluster, n.Text)
		out = append(out, s)
	}
	if len(out) > 0 {
		return out
	}
	switch {
	case n.Host != "":
		hosts = []string{n.Host}
	case len(n.on) > 0:
		hosts = n.on
	}
	about := func(hosts []string) narrow.Subject {
		return narrow.Subject{Hosts: hosts, Component: n.Component, Age: -1, Words: []string{n.Cluster, n.Text}, Open: true}
	}
	for _, h := range hosts {
		out = append(out, about([]string{h}))
	}
	if len(out) == 0 {
		out = append(out, about(nil))
	}
	return out
}

// Where is where a need can be seen to.
type Where int

// The places. A need that is about nothing of the estate's is seen to outside.
const (
	Outside Where = iota
	AtHost
	AtDrift
	AtRound
	AtPlan
	AtBaselines
	AtCatalogue
)

// general are the needs that are of no one cluster.
func general(in Input) (out []Need) {
	for _, f := range in.Faults {
		out = append(out, Need{Urgency: Now, First: true, Text: Untrusted + f})
	}
	if in.Edited {
		out = append(out, Need{Urgency: Now, First: true, Text: "the estate file was changed: what is shown and done here goes " +
			"by what it said before; q, and open the screens again"})
	}
	for _, p := range in.Problems {
		u := Sometime
		if p.Error {
			u = Now
		}
		out = append(out, Need{Urgency: u, Text: p.String(), See: AtBaselines, Baseline: p.Baseline})
	}
	for _, f := range in.Flags {
		switch {
		case f.Bound: // its verdict says so
		case f.Withdrawn != "":
			out = append(out, Need{Urgency: Soon, Host: only(f.Hosts), on: f.Hosts, See: AtCatalogue, Component: f.Component,
				Text: fmt.Sprintf("withdrawn, and no baseline covers it: %s %s%s", f.Component,
					f.Version, onHosts(f.Hosts))})
		case f.Severity >= catalogue.High:
			out = append(out, Need{Urgency: Sometime, Host: only(f.Hosts), on: f.Hosts, See: AtCatalogue, Component: f.Component,
				Text: fmt.Sprintf("affected by %s, and no baseline covers it: %s %s%s",
					strings.Join(f.Advisories, ", "), f.Component, f.Version, onHosts(f.Hosts))})
		}
	}
	return out
}

// needs lists what a person should see to in a cluster.
func needs(in Input, b Band) []Need {
	var out []Need
	add := func(u Urgency, host, format string, args ...any) *Need {
		n := Need{Urgency: u, Cluster: b.Cluster.Name, Host: host, Text: fmt.Sprintf(format, args...), See: AtDrift}
		if host != "" {
			n.See = AtHost
		}
		out = append(out, n)
		return &out[len(out)-1]
	}
	since := func(r *estate.Reading, s estate.SectionName) time.Time { at, _ := r.Section(s).Known(); return at }
	if why := in.Distrusted[b.Cluster.Name]; why != "" {
		out = append(out, Need{Urgency: Now, Cluster: b.Cluster.Name,
			Text:  "the journal of its round can't be trusted, and nothing is done by it: " + why,
			First: true, See: AtRound})
	}
	inRound := map[string]bool{} // hosts that a round left in the middle
	if s := b.Round; s != nil &&
		(s.Status == course.Failing || s.Status == course.Running && !in.Runs[b.Cluster.Name]) {
		text := "the round failed: " + s.Detail
		if s.Status == course.Running {
			text = "its round was interrupted: nobody runs it any more. Resume it"
		}
		out = append(out, Need{Urgency: Now, Cluster: b.Cluster.Name, Text: text, First: true,
			See: AtRound, Since: s.Last})
		for i := range s.Visits {
			if v := &s.Visits[i]; !v.Over() && len(v.Spans) > 0 {
				inRound[v.Host] = true
			}
		}
	}
	for i := range in.Owed {
		d := &in.Owed[i]
		if d.Cluster != b.Cluster.Name || b.Round != nil && b.Round.Status == course.Running && b.Round.Round == d.Round {
			continue // a round sees to it
		}
		urgency := Now
		if r := in.Readings[d.Host]; d.By != "" && !d.Overdue(in.Now) && r.Reached() && r.Closed != nil {
			urgency = Soon // somebody has the host, and knows
		}
		if d.Later {
			if d.Overdue(in.Now) {
				for _, a := range d.Acts {
					add(Soon, d.Host, "the snapshot of %s was to be kept until %s; the next round over it removes it", a.Guest,
						d.Until.Format("Mon 2 Jan 15:04 MST")).Since = d.Until
				}
			}
			continue
		}
		for _, a := range d.Acts {
			switch a.Kind {
			case act.Mount:
				add(urgency, d.Host, "it %s; \"yare host open\" takes the image out", course.Owes(a)).Since = d.Since
				continue
			case act.Eject:
				add(Soon, d.Host, "%s", course.Owes(a)).Since = d.Since
				continue
			}
			add(urgency, d.Host, "%s %s since %s was visited, and nothing starts it", a.Guest, a.Kind.Of().Rules().Owes,
				d.Host).Since = d.Since
		}
	}
	byOutcome := map[drift.Outcome]*about{}
	var critical about
	for _, h := range b.Berths {
		if h.Step != "" {
			continue // a round sees to it
		}
		r := in.Readings[h.Host]
		switch h.Service {
		case Never:
			add(Now, h.Host, "never read")
			continue
		case Silent:
			n := add(Now, h.Host, "does not answer")
			n.First, n.Since, n.why = inRound[h.Host], since(r, estate.Host), r.Section(estate.Host).Err
		case Closed:
			if inRound[h.Host] {
				n := add(Now, h.Host, "left closed by the round: %s", h.Mark.Reason)
				n.First, n.Since, n.See = true, h.Mark.At, AtRound
				break
			}
			n := add(Soon, h.Host, "closed by %s: %s", h.Mark.By, h.Mark.Reason)
			if n.Since = h.Mark.At; overdue(in, h.Host) {
				n.Urgency, n.why = Now, "it was to be open by now"
			}
		}
		if e := r.Section(estate.GuestList).Err; e != "" && h.Service != Silent {
			n := add(Now, h.Host, "its guests can't be read, and those last known count as running")
			n.Since, n.why = since(r, estate.GuestList), e
		}
		healthKnown, lastKnown := r.Unread(estate.HealthItems, in.Now, in.MaxAge) == "", ""
		if !healthKnown {
			lastKnown = " (last known)"
		}
		if e := r.Section(estate.HealthItems).Err; e != "" && h.Service != Silent && !r.BMC.None {
			n := add(Soon, h.Host, "its health is unread")
			n.Since, n.why = since(r, estate.HealthItems), e
		}
		if p := r.Section(estate.HealthItems).Partial; p != "" {
			add(Soon, h.Host, "its health was not all read").why = p
		}
		for _, i := range r.Health {
			if !i.OK {
				add(Soon, h.Host, "%s: %s%s", i.Item, i.Detail, lastKnown)
			}
		}
		if r.Read(estate.ConditionItems) {
			for _, i := range r.Condition.Says() {
				if !i.OK && !i.Unknown {
					add(Soon, h.Host, "%s: %s", i.Item, i.Detail)
				}
			}
		}
		if n := len(r.BMC.Waiting); n > 0 {
			add(Soon, h.Host, "%s in the BMC's queue, forgotten", catalogue.Some(n, "task"))
		}
		note(in.Verdicts[h.Host], h.Host, byOutcome, &critical)
	}
	out = append(out, late(in, b)...)
	if hosts := critical.hosts; len(hosts) > 0 {
		critical.show(add(Now, only(hosts), "critical release missing%s", onHosts(hosts)))
	}
	for _, t := range precheck.Twice(b.Cluster.Hosts, in.Readings) {
		if b.Round != nil && b.Round.Status == course.Running && !in.Sure[t.ID] && slices.ContainsFunc(t.Hosts, func(h string) bool { return b.Round.Visit(h) != nil }) {
			continue // it has moved since one of them was read, or does at this moment
		}
		if where := strings.Join(t.Hosts, " and "); in.Sure[t.ID] {
			n := add(Now, "", "the guest %s runs on %s at once", t.Guest, where)
			n.First, n.on, n.why = true, t.Hosts, "both write to its disks: turn the wrong one off"
		} else {
			add(Soon, "", "the guest %s ran on %s, as they were last read: read both again", t.Guest, where).on = t.Hosts
		}
	}
	copies := precheck.Copies(b.Cluster.Hosts, in.Readings)
	for _, h := range b.Cluster.Hosts {
		if of := copies[h]; of != "" {
			add(Now, h, "%s and %s are one machine: the boot ids are the same", of, h).why =
				"it counts once in load and reserve; take one of the names out of the estate file"
		}
	}
	if hosts := b.Blind; len(hosts) > 0 {
		add(Now, only(hosts), "guests were never read%s: the reserve is not known", onHosts(hosts)).on = hosts
	}
	for _, o := range []drift.Outcome{drift.Withdrawn, drift.Unread, drift.HalfInstalled, drift.Undecided, drift.Disputed,
		drift.OffTrack, drift.Ahead} {
		if x := byOutcome[o]; x != nil {
			u := Sometime
			if o == drift.Withdrawn || o.Open() || o == drift.HalfInstalled {
				u = Soon
			}
			text := says[o] + onHosts(x.hosts)
			if o == drift.Undecided {
				text += ": " + x.first.Cause
			}
			x.show(add(u, only(x.hosts), "%s", text))
		}
	}
	if n := in.News[b.Cluster.Name]; len(n.Drift) > 0 {
		news := add(Sometime, "", "%d new, out of line or unread", len(n.Drift))
		news.Since = n.Since
		for i := range n.Drift {
			news.Of = append(news.Of, &n.Drift[i])
		}
	}
	if b.Reserve.Outcome == fit.DoesNotFit {
		add(Now, "", "the reserve is not kept: %s", b.Reserve.Obstacle).See = AtPlan
	} else if p := in.Plans[b.Cluster.Name]; p != nil && (b.Round == nil || b.Round.Status != course.Running) {
		out = append(out, drainable(p)...) // a round judges by itself whom it can drain
	}
	return grouped(out)
}

// late tells what is out of line for longer than its baseline allows, by severity, the worst first: before everything that
// is not.
func late(in Input, b Band) (out []Need) {
	if in.Overdue == nil {
		return nil
	}
	type group struct {
		about
		since, due time.Time // of the one that is late the longest
	}
	by := map[catalogue.Severity]*group{}
	for _, h := range b.Berths {
		for i := range in.Verdicts[h.Host] {
			v := &in.Verdicts[h.Host][i]
			since, due := in.Overdue(v)
			if due.IsZero() || !in.Now.After(due) {
				continue
			}
			g := by[v.Severity()]
			if g == nil {
				g = &group{since: since, due: due}
				by[v.Severity()] = g
			}
			if due.Before(g.due) {
				g.since, g.due = since, due
			}
			g.add(h.Host, v)
		}
	}
	for _, s := range catalogue.Severities {
		g := by[s]
		if g == nil {
			continue
		}
		n := Need{Urgency: Now, Cluster: b.Cluster.Name, Host: only(g.hosts), late: true, See: AtDrift, Since: g.due,
			Text: fmt.Sprintf("overdue, severity %s%s", s, onHosts(g.hosts)),
			why:  fmt.Sprintf("for as long as %s; %s are allowed", drift.Age(in.Now.Sub(g.since)), drift.Age(g.due.Sub(g.since)))}
		if n.Host != "" {
			n.See = AtHost
		}
		g.show(&n)
		out = append(out, n)
	}
	return out
}

// stem is what is needed, without the hosts that it is needed on.
func (n *Need) stem() string { return strings.Replace(n.Text, onHosts(n.on), "", 1) }

// across tells once what many clusters of a large estate have in common, where the first of them has it. What a round
// left in the middle is told of each.
func across(needs []Need, clusters int) (out []Need) {
	const large, many = 4, 3 // clusters
	if clusters <= large {
		return needs
	}
	type same struct {
		urgency Urgency
		stem    string
		see     bool
	}
	members := map[same][]*Need{}
	of := func(n *Need) same { return same{n.Urgency, n.stem(), n.See == AtHost || n.See == AtDrift} }
	for i := range needs {
		if n := &needs[i]; n.See != AtHost || n.Host != "" {
			members[of(n)] = append(members[of(n)], n)
		}
	}
	for i := range needs {
		n := needs[i]
		all := members[of(&n)]
		if n.First || len(all) < many {
			out = append(out, n)
			continue
		}
		if all[0] != &needs[i] {
			continue
		}
		n.Text, n.Host, n.on, n.Of = n.stem(), "", nil, nil
		if n.See == AtHost {
			n.See = AtDrift
		}
		for _, o := range all {
			if len(n.Clusters) == 0 || n.Clusters[len(n.Clusters)-1] != o.Cluster {
				n.Clusters = append(n.Clusters, o.Cluster)
			}
			if len(o.on) > 0 {
				n.on = append(n.on, o.on...)
			} else if o.Host != "" {
				n.on = append(n.on, o.Host)
			}
			n.Of = append(n.Of, o.Of...)
			if !o.Since.IsZero() && (n.Since.IsZero() || o.Since.Before(n.Since)) {
				n.Since = o.Since
			}
		}
		if len(n.on) > 0 {
			n.Text = fmt.Sprintf("%s on %d hosts", n.Text, len(n.on))
		}
		out = append(out, n)
	}
	return out
}

// overdue tells whether the host was to be open by now.
func overdue(in Input, host string) bool {
	return slices.ContainsFunc(in.Owed, func(d course.Debt) bool { return d.Host == host && d.Overdue(in.Now) })
}

// grouped tells once what is so of several hosts, where it was first told. Where the causes differ, the first is told
// with its host.
func grouped(needs []Need) (out []Need) {
	type same struct {
		urgency Urgency
		text    string
		see     Where
		first   bool
	}
	at, members := map[same]int{}, map[same][]Need{}
	for _, n := range needs {
		k := same{n.Urgency, n.Text, n.See, n.First}
		i, told := at[k]
		if n.Host == "" || !told {
			at[k] = len(out)
			out = append(out, n)
		} else if out[i].Since.After(n.Since) {
			out[i].Since = n.Since
		}
		members[k] = append(members[k], n)
	}
	for k, i := range at {
		n, of, why := &out[i], members[k], out[i].why
		if len(of) > 1 && n.Host != "" {
			var hosts []string
			for _, o := range of {
				hosts = append(hosts, o.Host)
				if o.why != n.why {
					why = "on " + n.Host + ", " + n.why
				}
			}
			n.Host, n.on, n.Text = "", hosts, n.Text+onHosts(hosts)
			if n.See == AtHost {
				n.See = AtDrift
			}
		}
		if why != "" {
			n.Text += ": " + why
		}
	}
	return out
}

var says = map[drift.Outcome]string{drift.Withdrawn: "withdrawn release", drift.Unread: "something is unread",
	drift.Undecided:     "what is wanted can't be told",
	drift.HalfInstalled: "a package is half installed", drift.Disputed: "baselines disagree",
	drift.OffTrack: "off its track", drift.Ahead: "ahead of its baseline"}

// about is the hosts that have something in common, and the first thing on them that has it.
type about struct {
	hosts []string
	first *drift.Verdict
	all   []*drift.Verdict
}

func (a *about) add(host string, v *drift.Verdict) {
	if a.all = append(a.all, v); a.first == nil {
		a.first = v
	}
	if n := len(a.hosts); n == 0 || a.hosts[n-1] != host {
		a.hosts = append(a.hosts, host)
	}
}

// show has a need lead to it.
func (a *about) show(n *Need) {
	n.Component, n.Device, n.Of = a.first.Component, a.first.Device, a.all
	if len(a.hosts) > 1 {
		n.on = a.hosts
	}
}

func note(vs []drift.Verdict, host string, by map[drift.Outcome]*about, critical *about) {
	for i := range vs {
		v := &vs[i]
		if by[v.Outcome] == nil {
			by[v.Outcome] = &about{}
		}
		by[v.Outcome].add(host, v)
		if v.Outcome.Drifts() && v.Severity() == catalogue.Critical {
			critical.add(host, v)
		}
	}
}

// drainable says which hosts that are out of line could not be drained now, as the plan of the usual round tells.
func drainable(p *plan.Plan) (out []Need) {
	reasons := map[string][]string{}
	var order []string
	for i := range p.Visits {
		v := &p.Visits[i]
		n := slices.IndexFunc(v.Answers, func(a precheck.Answer) bool { return a.Check == precheck.RoomCheck })
		if n < 0 || !v.Answers[n].Blocks() {
			continue
		}
		why := strings.TrimPrefix(v.Answers[n].Evidence, fit.DoesNotFit.String()+": ")
		if reasons[why] == nil {
			order = append(order, why)
		}
		reasons[why] = append(reasons[why], v.Host)
	}
	for _, why := range order {
		who := ""
		if only(reasons[why]) == "" {
			who = list(reasons[why]) + " "
		}
		out = append(out, Need{Urgency: Soon, Cluster: p.Brief.Cluster, Host: only(reasons[why]), on: reasons[why],
			Text: who + "can't be drained: " + why, See: AtPlan})
	}
	return out
}

func only(hosts []string) string {
	if len(hosts) == 1 {
		return hosts[0]
	}
	return ""
}

// onHosts names the hosts where there are several; one stands beside the text anyway.
func onHosts(hosts []string) string {
	if len(hosts) == 1 {
		return ""
	}
	return " on " + list(hosts)
}

func list(hosts []string) string { return estate.Few(hosts, 3) }
