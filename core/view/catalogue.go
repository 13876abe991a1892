package view

import (
	"fmt"
	"strings"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/ladder"
	"yareharbour/core/narrow"
)

// Components lists what the catalogue has, as the hosts that were read stand to it: of what hosts have or baselines
// speak of, and with all of everything.
func (e *Estate) Components(f narrow.Filter, all bool) []ladder.Row {
	return ladder.List(e.Checker.Catalogue, e.Held, e.Verdicts, f, e.Survey.At, all)
}

// Ladder lays a component's releases out by track, with the hosts on their rungs.
func (e *Estate) Ladder(key estate.Key) ladder.Ladder {
	return ladder.Make(e.Checker.Catalogue, e.Held, e.Verdicts, key)
}

// OfComponents is a list of components.
func OfComponents(rows []ladder.Row) Document {
	return List("catalogue", rows, []Column{{Name: "component"}, {Name: "newest"}, {Name: "releases"},
		{Name: "withdrawn", In: Data}, {Name: "severity"}, {Name: "vendor"}, {Name: "date"}, {Name: "feed", In: Data},
		{Name: "hosts"}, {Name: "drift"}}, func(r *ladder.Row) []any {
		return []any{string(r.Component), r.Newest, r.Releases, r.Withdrawn, graded(r.Severity), r.Vendor, day(r.Made), r.Feed,
			r.Hosts, r.Drift}
	})
}

// OfLadder is a component's tracks.
func OfLadder(l ladder.Ladder) Document {
	d := Document{Name: "ladder", Subjects: []string{string(l.Component)}, Value: l, Drawing: l}
	d.Table.Columns = Columns("component", "hardware", "track", "version", "date", "severity", "withdrawn", "newest",
		"wanted_by", "hosts")
	for _, t := range l.Tracks {
		rungs := Table{Columns: Columns("version", "date", "says", "hosts"), Headless: true}
		for _, r := range t.Rungs {
			var release catalogue.Release
			if r.Release != nil {
				release = *r.Release
			}
			d.Table.Rows = append(d.Table.Rows, []any{string(l.Component), t.Model, t.Name, r.Version, day(release.Date),
				graded(release.Severity), release.Withdrawn, r.Newest, r.Wanted, r.Hosts})
			rungs.Rows = append(rungs.Rows, []any{r.Version, day(release.Date), strings.Join(r.Says(), "; "), r.Hosts})
		}
		d.Text = append(d.Text, Lines(l.Title(t)), Block{Table: &rungs})
	}
	if len(l.Without) > 0 {
		d.Text = append(d.Text, Lines("absent though it is wanted: "+strings.Join(l.Without, ", ")))
	}
	return d
}

// OfBaselines is a list of the baselines that hold.
func OfBaselines(all []Baseline) Document {
	type line struct {
		Name       string   `json:"baseline"`
		Rank       int      `json:"rank"`
		Clauses    int      `json:"clauses"`
		Exceptions int      `json:"exceptions"`
		Version    int      `json:"version"`
		Assign     []string `json:"assign"`
		File       string   `json:"file"`
	}
	lines := make([]line, len(all))
	for i, b := range all {
		lines[i] = line{b.Name, b.Rank, len(b.Clauses), len(b.Exceptions), b.Version, some(b.Assign), b.File}
	}
	d := List("baselines", lines, Columns("baseline", "rank", "clauses", "exceptions", "version", "binds", "file"),
		func(l *line) []any {
			return []any{l.Name, l.Rank, l.Clauses, l.Exceptions, l.Version, l.Assign, l.File}
		})
	d.Table.Empty = "there is no baseline; \"yare baseline start --as HOST\" makes one from a good host"
	return d
}

// OfBaseline is the clauses of a baseline that the filter lets through, and its exceptions; as text, its file.
func OfBaseline(b Baseline, f narrow.Filter) Document {
	type clause struct {
		Component string `json:"component"`
		Says      string `json:"says"`
		Hardware  string `json:"hardware,omitempty"`
	}
	v := struct {
		Name    string   `json:"baseline"`
		Rank    int      `json:"rank"`
		Assign  []string `json:"assign"`
		Clauses []clause `json:"clauses"`
	}{Name: b.Name, Rank: b.Rank, Assign: some(b.Assign), Clauses: []clause{}}
	d := Document{Name: "baseline", Subjects: []string{b.Name}, Text: []Block{Lines(strings.Split(strings.TrimSuffix(b.Text, "\n"), "\n")...)},
		Title: fmt.Sprintf("%s, version %d, binds %s", b.Name, b.Version, strings.Join(b.Assign, ", "))}
	d.Table.Columns = Columns("baseline", "component", "hardware", "posture", "should_be")
	drawn := Table{Columns: Columns("component", "should be")}
	for _, c := range b.Clauses {
		if !f.Lets(c.Subject()) {
			continue
		}
		v.Clauses = append(v.Clauses, clause{string(c.Component), c.Says(), c.Hardware})
		d.Table.Rows = append(d.Table.Rows, []any{b.Name, string(c.Component), c.Hardware, string(c.Posture), c.Says()})
		drawn.Rows = append(drawn.Rows, []any{string(c.Component), c.Says()})
	}
	for _, x := range b.Exceptions {
		drawn.Rows = append(drawn.Rows, []any{string(x.Component),
			fmt.Sprintf("excepted on %s by %s: %s", strings.Join(x.Hosts, ", "), x.By, x.Reason)})
	}
	d.Value, d.Drawing = v, drawn
	return d
}

// OfVersions is a list of a baseline's versions.
func OfVersions(name string, all []Version) Document {
	d := List("versions", all, Columns("version", "when", "who", "why"),
		func(v *Version) []any { return []any{v.N, v.At, v.By, v.Why} })
	d.Subjects = []string{name}
	return d
}

// OfChanges is in what two versions of a baseline differ.
func OfChanges(name string, from, to int, changes []baseline.Change) Document {
	d := Document{Name: "versions", Subjects: []string{name}, Title: fmt.Sprintf("%s, version %d to %d", name, from, to),
		Value: struct {
			Baseline string            `json:"baseline"`
			From     int               `json:"from"`
			To       int               `json:"to"`
			Changes  []baseline.Change `json:"changes"`
		}{name, from, to, some(changes)},
		Table: Table{Columns: Columns("change"), Headless: true, Empty: "  they want the same"}}
	for _, c := range changes {
		d.Table.Rows = append(d.Table.Rows, []any{c.String()})
	}
	d.Text = []Block{Lines(d.Title + ":"), {Table: &d.Table}}
	return d
}

// OfEffect is what an edit of a baseline would change, and what the edited one names that is not there.
func OfEffect(e drift.Effect, ps []baseline.Problem) Document {
	type shift struct {
		Host      string `json:"host"`
		Component string `json:"component"`
		Device    string `json:"device,omitempty"`
		Has       string `json:"has"`
		Wants     string `json:"wants"`
		Before    string `json:"before"`
		After     string `json:"after"`
	}
	v := struct {
		Worse    int                `json:"hosts_worse"`
		Better   int                `json:"hosts_better"`
		Unread   int                `json:"hosts_unread"`
		Shifts   []shift            `json:"verdicts"`
		Problems []baseline.Problem `json:"problems,omitempty"`
	}{e.Worse, e.Better, e.Unread, []shift{}, ps}
	d := Document{Name: "effect", Title: "Effect of an edit"}
	d.Table.Columns = []Column{{Name: "host"}, {Name: "component"}, {Name: "has"}, {Name: "would_want"}, {Name: "now"},
		{Name: "then"}}
	for _, s := range e.Shifts {
		v.Shifts = append(v.Shifts, shift{s.Host, string(s.Component), s.Device, s.Has, s.Wants, s.Before.Word(), s.After.Word()})
		d.Table.Rows = append(d.Table.Rows, []any{s.Host, s.Title(), s.Has, s.Wants, s.Before.Word(), s.After.Word()})
	}
	d.Value = v
	if len(e.Shifts) > 0 {
		d.Text = append(d.Text, Block{Table: &d.Table})
	}
	d.Text = append(d.Text, Lines(append(Problems(ps), e.Says())...))
	return d
}
