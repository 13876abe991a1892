package view

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// OfPlan is all that a round would do; as a drawing, its timeline. words are the options of a command line that plans
// the same.
func OfPlan(p *plan.Plan, words []string) Document {
	d := Document{Name: "plan", Subjects: []string{p.Brief.Cluster}, Value: p,
		Drawing: forecast(p)}
	d.Table.Columns = Columns("cluster", "turn", "host", "obstacle", "component", "device", "from", "to", "pass",
		"restart", "why", "way back")
	for i := range p.Visits {
		v := &p.Visits[i]
		for _, c := range v.Changes {
			d.Table.Rows = append(d.Table.Rows, []any{p.Brief.Cluster, i + 1, v.Host, v.Obstacle, string(c.Component), c.Device, c.From,
				c.To, c.Pass, string(c.Restart), c.Why, wayBack(v, c)})
		}
	}
	lines := planHead(p, words)
	for i := range p.Visits {
		lines = append(lines, "")
		lines = append(lines, visitLines(p, i, words)...)
	}
	d.Text = append([]Block{Lines(lines...)}, aside(p.Aside)...)
	return d
}

// wayBack says how a change could be undone; "" for one that puts nothing in.
func wayBack(v *plan.Visit, c act.Change) string {
	for i := range v.WaysBack {
		if w := &v.WaysBack[i]; w.Component == c.Component && w.Device == c.Device {
			return w.Says()
		}
	}
	return ""
}

// planHead says what a plan comes to, and by which commands it is made again and carried out.
func planHead(p *plan.Plan, words []string) said {
	var s said
	for i := range p.Companions {
		s.add("! %s", p.Companions[i].Says())
	}
	if b := p.Brief; p.TakeAlong(&b) {
		var only []string
		for _, x := range b.Only {
			only = append(only, string(x))
		}
		s.add("  with it: yare plan %s", strings.Join(slices.Concat([]string{p.Brief.Cluster}, without(words, "--only"),
			[]string{"--only", strings.Join(only, ",")}), " "))
	}
	s.add("%s: %s", p.Brief.Cluster, p.Summary())
	s = append(s, p.Notes()...)
	if len(words) > 0 {
		s.add("the same: yare plan %s %s", p.Brief.Cluster, strings.Join(words, " "))
	}
	switch ready := p.Ready(); {
	case len(p.Visits) == 0:
	case len(ready) == len(p.Visits):
		s.add("to carry out just this: yare round start %s --plan %s", p.Brief.Cluster, p.Digest()[:12])
	case len(ready) > 0:
		s.add("no round starts from this, because of those that can't be visited; of the others alone:")
		s.add("  yare plan %s", strings.Join(slices.Concat([]string{p.Brief.Cluster}, without(words, "--hosts"),
			[]string{"--hosts", strings.Join(ready, ",")}), " "))
	}
	return s
}

// without are the words of a command line without an option and its value.
func without(words []string, option string) []string {
	i := slices.Index(words, option)
	if i < 0 {
		return words
	}
	return slices.Concat(words[:i], words[min(i+2, len(words)):])
}

// visitLines say what the i-th visit does.
func visitLines(p *plan.Plan, i int, words []string) (s said) {
	v := &p.Visits[i]
	middle, worst := v.Estimate()
	how := ", not drained: nothing here needs the host empty"
	if v.Empties {
		how = fmt.Sprintf(", drained (%d moves), restarts %d", len(v.Moves), len(v.Restarts))
	}
	s.add("%d  %s  about %s, at worst %s%s", i+1, v.Host, drift.Age(middle), drift.Age(worst), how)
	if len(v.After) > 0 {
		s.add("   after %s: its guests go there", strings.Join(v.After, ", "))
	}
	if v.Obstacle != "" {
		s.add("   can't be made: %s", v.Obstacle)
		s = append(s, waysOut(p, v, words)...)
	}
	if len(v.Clears) > 0 {
		s.add("   first   clear from its BMC's queue: %s", strings.Join(v.Clears, ", "))
	}
	for _, l := range p.Brief.Temporary {
		s.add("   first   %s for the time of the visit", l.Says())
	}
	if v.Rehearses {
		s.add("   pass 1  a restart before anything is changed")
	}
	for _, c := range v.Changes {
		s.add("   pass %d  %s  (%s)", c.Pass, c.Says(), Because(v, c))
	}
	for _, x := range v.Along {
		s.add("   pass %d  %s", x.Pass, x.Says())
	}
	each := func(word string, lines ...string) {
		for _, l := range lines {
			if l != "" {
				s.add("   %-7s %s", word, l)
			}
		}
	}
	for _, h := range p.Brief.Hooks {
		if h.Of != "round" {
			each("hook", h.Says())
		}
	}
	none, others := v.Backs()
	each("back", append(none, others)...)
	each("left", v.Left...)
	for _, m := range v.Moves {
		each("move", m.Guest+" → "+m.To)
	}
	for _, m := range v.Back {
		each("return", m.Guest+" from "+m.From)
	}
	for j := range v.Colds {
		each("cold", v.Colds[j].Says())
	}
	for j := range v.Uncopies {
		each("first", v.Uncopies[j].Says())
	}
	for j := range v.Copies {
		each("keep", v.Copies[j].Says())
	}
	for j := range v.Ejects {
		each("eject", v.Ejects[j].Says())
	}
	if len(v.Off) > 0 {
		each("off", fmt.Sprintf("%d powered off, left as they are: %s", len(v.Off), strings.Join(v.Off, ", ")))
	}
	for j := range v.Rests {
		each("rests", v.Rests[j].Says())
	}
	for _, c := range v.Answers {
		if c.Level != precheck.Clear {
			each(string(c.Level), c.Check+": "+c.Evidence)
			if c.Waived != nil {
				s.add("           %s", c.Waived.Says())
			}
		}
	}
	return s
}

// Because says why a change is made, and whether its payload waits on the host already.
func Because(v *plan.Visit, c act.Change) string {
	if c.Stages() && slices.Contains(v.Staged, c.SHA256) {
		return c.Why + ", its payload waits there"
	}
	return c.Why
}

// waysOut are what would let a host be visited, and beside the first that the round can take what takes it.
func waysOut(p *plan.Plan, v *plan.Visit, words []string) (s said) {
	if len(v.Ways) == 0 {
		s.add("   way out: %s", v.WayOut)
	}
	taken := false
	for i := range v.Ways {
		how := ""
		if !taken && v.Ways[i].Takeable() {
			taken = true
			how = fmt.Sprintf("  (yare plan %s takes it)",
				strings.Join(slices.Concat([]string{p.Brief.Cluster}, words, []string{"--way", v.Host}), " "))
		}
		s.add("   way out: %s%s", v.Ways[i].Says(), how)
	}
	return s
}

// aside is which hosts are not visited, and why.
func aside(all []plan.Aside) []Block {
	if len(all) == 0 {
		return nil
	}
	t := Table{Columns: Columns("host", "why"), Headless: true}
	for _, a := range all {
		t.Rows = append(t.Rows, []any{a.Host, a.Why})
	}
	return []Block{{Head: "not visited", Table: &t}}
}

// forecast is a plan's timeline.
func forecast(p *plan.Plan) Timeline {
	l := Planned(p, nil, 0)
	return timeline(course.Forecast(p), l, "about", l.To.Sub(l.From))
}

// OfPrechecks is what checks found: in a text, what blocks first.
func OfPrechecks(answers []precheck.Answer) Document {
	type explained struct {
		precheck.Answer
		Help string `json:"help"` // the topic of the manual that explains the check
	}
	value := []explained{}
	for _, a := range answers {
		value = append(value, explained{a, a.Check})
	}
	d := Document{Name: "prechecks", Title: "Prechecks", Value: value}
	d.Table.Columns = Columns("host", "check", "answer", "unknown", "evidence", "remedy", "read", "holds_until",
		"waived_by", "waived_until", "waived_for")
	drawn := Table{Columns: Columns("answer", "host", "check", "evidence", "what to do")}
	host, check := 0, 0
	for i := range answers {
		a := &answers[i]
		host, check = max(host, utf8.RuneCountInString(a.Host)), max(check, utf8.RuneCountInString(a.Check))
		var by, reason string
		var until time.Time
		if x := a.Waived; x != nil {
			by, until, reason = x.By, x.Until, x.Reason
		}
		d.Table.Rows = append(d.Table.Rows, []any{a.Host, a.Check, string(a.Level), a.Unknown, a.Evidence, a.Advice(), a.At, a.Until,
			by, until, reason})
	}
	for _, a := range answers {
		if a.Level != precheck.Clear && !slices.Contains(d.Topics, a.Check) {
			d.Topics = append(d.Topics, a.Check)
		}
	}
	var s said
	line := func(word, of, asked, says string) { s.add("%-19s %-*s %-*s %s", word, host, of, check, asked, says) }
	for _, level := range []precheck.Level{precheck.Blocker, precheck.Caution, precheck.Clear} {
		for i := range answers {
			a := &answers[i]
			if a.Level != level {
				continue
			}
			word := string(a.Level)
			if a.Unknown {
				word += ", not known"
			}
			line(word, a.Host, a.Check, a.Evidence)
			todo := ""
			if a.Waived != nil {
				todo = a.Waived.Says()
			} else if a.Level != precheck.Clear {
				todo = a.Advice()
			}
			drawn.Rows = append(drawn.Rows, []any{word, a.Host, a.Check, a.Evidence, todo})
			if a.Level != precheck.Clear && a.Waived == nil {
				line("", "", "", "→ "+a.Advice())
			}
			if a.Waived != nil {
				line("", "", "", a.Waived.Says())
			}
		}
	}
	d.Text = []Block{Lines(s...)}
	d.Drawing = drawn
	return d
}

// OfWaivers is what was waived on a cluster, in the order in which it was.
func OfWaivers(cluster string, all []precheck.Waiver, now time.Time) Document {
	state := func(x *precheck.Waiver) string {
		switch {
		case x.Stands(now):
			return "stands"
		case !x.Ended.IsZero():
			return "taken back by " + x.EndedBy
		}
		return "over"
	}
	d := List("waivers", all, Columns("id", "host", "check", "evidence", "reason", "by", "given", "until", "state"),
		func(x *precheck.Waiver) []any {
			return []any{x.ID, x.Host, x.Check, x.Evidence, x.Reason, x.By, x.At, x.Until, state(x)}
		})
	d.Subjects = []string{cluster}
	d.Text = []Block{{}}
	for i := range all {
		x := &all[i]
		d.Text = append(d.Text, Lines(fmt.Sprintf("%s  %s of %s, %s: %s", x.ID[max(0, len(x.ID)-6):], x.Check, x.Host, state(x), x.Says()),
			"    "+x.Evidence))
	}
	return d
}

// OfOwed is what rounds and work by hand have left to be undone.
func OfOwed(debts []course.Debt, now time.Time) Document {
	d := List("owed", debts, Columns("host", "owed", "whose", "since", "until", "overdue", "reason"), func(d *course.Debt) []any {
		whose := d.By
		if whose == "" {
			whose = "the round's"
		}
		return []any{d.Host, strings.Join(d.Owed, "; "), whose, d.Since, d.Until, d.Overdue(now), d.Reason}
	})
	d.Table.Empty = "nothing is owed"
	return d
}

// Answers are those that a filter lets through: by host, and by the words of check, evidence and remedy.
func Answers(all []precheck.Answer, f narrow.Filter) []precheck.Answer {
	return slices.DeleteFunc(slices.Clone(all), func(a precheck.Answer) bool {
		return !f.Lets(narrow.Subject{Hosts: []string{a.Host}, Age: -1, Words: []string{a.Check, string(a.Level), a.Evidence, a.Advice()}})
	})
}

// OfDifference is in what a plan differs from one that was shown: in figures, and in what it does.
func OfDifference(shown, now *plan.Plan) Document {
	d := Document{Name: "plan", Subjects: []string{now.Brief.Cluster, "difference"}, Title: "Difference of plans",
		Table: Table{Columns: Columns("difference"), Headless: true, Empty: "  they would do the same"}}
	lines := append(plan.Differences(shown, now), plan.Moved(shown, now)...)
	type end struct {
		Digest  string    `json:"digest"`
		Made    time.Time `json:"made"`
		Summary string    `json:"summary"`
	}
	v := struct {
		Shown       end      `json:"shown"`
		Now         end      `json:"now"`
		Differences []string `json:"differences"`
	}{end{shown.Digest(), shown.Made, shown.Summary()}, end{now.Digest(), now.Made, now.Summary()}, some(lines)}
	var head said
	for _, e := range []end{v.Shown, v.Now} {
		head.add("%s, %s: %s", e.Digest[:12], e.Made.Local().Format(minute), e.Summary)
	}
	for _, l := range lines {
		d.Table.Rows = append(d.Table.Rows, []any{l})
	}
	d.Value, d.Text = v, []Block{Lines(head...), {Table: &d.Table}}
	return d
}
