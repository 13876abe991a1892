package view

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/logbook"
	"yareharbour/core/narrow"
)

// Logbook is the rounds of a period, and everything that was decided in it.
type Logbook struct {
	From, Until time.Time // zero: open
	Rounds      []RoundLine
	Book        logbook.Book // all of it
}

// Entries are those of the period, the newest first.
func (l *Logbook) Entries() []logbook.Entry {
	all := logbook.Since(l.Book.Entries, l.From, l.Until)
	slices.Reverse(all)
	return all
}

// Deed is a line of the logbook as it is shown: a round, with what it did, or something else that was decided.
type Deed struct {
	At    time.Time
	Who   string
	Round *RoundLine     // nil: Entry alone
	Entry *logbook.Entry // nil: a round that the logbook does not know
}

// Says puts it in words.
func (d *Deed) Says() string {
	switch {
	case d.Round != nil && d.Round.Does == "round":
		return "round over " + d.Round.Cluster
	case d.Round != nil && d.Round.Does == "staging":
		return "staging for " + d.Round.Cluster
	case d.Round != nil:
		return "by hand: " + d.Round.Does
	}
	return string(d.Entry.Kind) + ": " + d.Entry.Says
}

// Why is the reason that was given.
func (d *Deed) Why() string {
	if d.Round != nil {
		return d.Round.Reason
	}
	return d.Entry.Why
}

// Subject is what a filter looks at.
func (d *Deed) Subject() narrow.Subject {
	s := narrow.Subject{Age: -1, Words: []string{d.Who, d.Says(), d.Why()}}
	if r := d.Round; r != nil {
		s.Words = append(s.Words, r.ID, r.Cluster, r.Status, r.Detail)
	}
	if e := d.Entry; e != nil {
		s.Words = append(s.Words, e.Cluster, e.Round, string(e.Kind))
		if e.Host != "" {
			s.Hosts = []string{e.Host}
		}
	}
	return s
}

// Deeds are the rounds of the period and what was decided beside them, the newest first. What a round's own line tells,
// that it began, was taken on and ended, is no line of its own.
func (l *Logbook) Deeds(roundsOnly bool) (out []Deed) {
	begun := map[string]*logbook.Entry{}
	for i := range l.Book.Entries {
		if e := &l.Book.Entries[i]; e.Kind == logbook.Begun || e.Kind == logbook.Found && e.Round != "" {
			begun[e.Round] = e
		}
	}
	shown := map[string]bool{}
	for i := range l.Rounds {
		r := &l.Rounds[i]
		shown[r.ID] = true
		out = append(out, Deed{r.Started, Who(r.By, r.From), r, begun[r.ID]})
	}
	for _, e := range l.Entries() {
		own := e.Kind == logbook.Begun || e.Kind == logbook.TakenOn || e.Kind == logbook.Ended || e.Kind == logbook.Found && e.Round != ""
		if roundsOnly || own && shown[e.Round] {
			continue
		}
		out = append(out, Deed{e.At, Who(e.By, e.From), nil, &e})
	}
	slices.SortStableFunc(out, func(a, b Deed) int { return b.At.Compare(a.At) })
	return out
}

// Who is somebody, and where he was.
func Who(by, from string) string {
	if from == "" {
		return OrDash(by)
	}
	return OrDash(by) + " on " + from
}

// OfLog is entries of the logbook.
func OfLog(all []logbook.Entry) Document {
	columns := []Column{{Name: "n"}, {Name: "at"}, {"who", Text}, {"by", Data}, {"from", Data}, {Name: "kind"}, {"cluster", Data}, {"host", Data}, {"round", Data},
		{Name: "says"}, {Name: "why"}}
	d := List("log", all, columns, func(e *logbook.Entry) []any {
		return []any{int(e.N), e.At, Who(e.By, e.From), e.By, e.From, string(e.Kind), e.Cluster, e.Host, e.Round, e.Says, e.Why}
	})
	d.Title, d.Table.Empty = "Logbook", "no entries in this period"
	return d
}

// OfHead is how far the logbook goes, in one line: the number of its last entry, its sum, when that was, and of which
// estate.
func OfHead(b *logbook.Book, name string) Document {
	h := b.Head()
	var at time.Time
	if n := len(b.Entries); n > 0 {
		at = b.Entries[n-1].At
	}
	d := Document{Name: "log-head", Title: "Head of the logbook", Value: struct {
		N      int64     `json:"n"`
		Sum    string    `json:"sum"`
		At     time.Time `json:"at,omitzero"`
		Estate string    `json:"estate"`
	}{h.Seq, h.Sum, at, name}}
	d.Table = Table{Columns: Columns("n", "sum", "at", "estate"), Rows: [][]any{{int(h.Seq), h.Sum, at, name}}}
	d.Text = []Block{Lines(fmt.Sprintf("%d %s %s %s", h.Seq, h.Sum, at.Format(time.RFC3339), name))}
	return d
}

// Verified is what came of holding the logbook against itself and what it speaks of.
type Verified struct {
	Entries  int               `json:"entries"` // that can be relied on
	Sum      string            `json:"sum"`     // of the last of them
	From     int64             `json:"unreliable_from,omitempty"`
	Why      string            `json:"why,omitempty"`
	Findings []logbook.Finding `json:"findings"`
}

// Verify sums up.
func Verify(b *logbook.Book, found []logbook.Finding) Verified {
	v := Verified{Entries: len(b.Entries), Sum: b.Head().Sum, Findings: some(found)}
	if f := b.Fault; f != nil {
		v.From, v.Why = f.From, f.Why
		if v.Entries = int(min(int64(v.Entries), f.From-1)); v.Entries > 0 {
			v.Sum = b.Sums[v.Entries-1]
		} else {
			v.Sum = logbook.Seed
		}
	}
	return v
}

// Whole tells whether nothing is wrong.
func (v *Verified) Whole() bool { return v.From == 0 && len(v.Findings) == 0 }

// Document is it as one.
func (v Verified) Document() Document {
	d := Document{Name: "log-verify", Title: "The logbook, verified", Value: v}
	d.Table.Columns = Columns("entry", "thing", "finding")
	var s said
	if v.From > 0 {
		d.Table.Rows = append(d.Table.Rows, []any{int(v.From), "logbook", v.Why})
		s.add("The logbook can't be relied on from entry %d on: %s.", v.From, v.Why)
		s.add("Later entries are not used.")
	} else {
		s.add("The logbook is whole: %d entries, the last with the sum %s.", v.Entries, v.Sum)
	}
	for _, f := range v.Findings {
		d.Table.Rows = append(d.Table.Rows, []any{int(f.N), f.Thing.String(), f.Says})
		where := "in no entry"
		if f.N > 0 {
			where = fmt.Sprintf("entry %d", f.N)
		}
		s.add("%s: %s.", where, f.Says)
	}
	if v.Whole() {
		s.add("Every journal, baseline and waiver is as it was recorded, and each has its entry.")
	}
	d.Text = []Block{Lines(s...)}
	return d
}
