// Package ledger is the Logbook screen: the rounds of a period with what they did, and between them everything else that
// was decided; and what is to be known of the one under the cursor.
package ledger

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/course"
	"yareharbour/core/logbook"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part"
)

// App is what the screen asks for.
type App interface {
	Logbook(ctx context.Context, in harbour.Period) (view.Logbook, error)
	Journal(ctx context.Context, cluster, id string) (view.Round, error)
}

// periods are the times that can be looked at, back from now.
var periods = []struct {
	days int
	says string
}{{7, "the last 7 days"}, {30, "the last 30 days"}, {90, "the last 90 days"}, {365, "the last year"}, {0, "everything"}}

// Screen is the logbook.
type Screen struct {
	ctx    context.Context
	app    App
	period int
	only   bool // rounds alone
	book   view.Logbook
	deeds  []view.Deed // that are shown
	table  part.Table
	turn   int
	asked  time.Time // when it was read last, by the view's clock
	read   bool
	wrong  error
}

// New opens it.
func New(ctx context.Context, d App) *Screen {
	return &Screen{ctx: ctx, app: d, period: 1, table: part.Table{ID: "ledger", Columns: []part.TableColumn{
		{Title: "when", Width: 14}, {Title: "who", Width: 11, Grow: 1}, {Title: "what", Width: 24, Grow: 4}, {Title: "outcome", Width: 10},
		{Title: "hosts", Width: 7, Right: true}, {Title: "changes", Width: 9, Right: true}, {Title: "moves", Width: 7, Right: true},
		{Title: "took", Width: 8, Right: true}}}}
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place {
	return part.Place{Screen: part.Logbook}
}

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"Rounds of the selected period, the newest first, with their results; between them every other decision: baselines saved, waivers, feeds and " +
			"bundles taken in, certificates trusted, requests to rounds. Enter opens a round as it was.",
		"✓ finished, ✗ failed, ‖ paused or stopped, ▸ running, · not a round.",
		"Each entry is chained to the one before. The second line says whether the chain is intact; yare log verify also checks journals, baselines " +
			"and waivers against it.",
	}
}

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	less, more := "", ""
	if s.period == 0 {
		less = "it is the shortest period"
	}
	if s.period == len(periods)-1 {
		more = "it is everything"
	}
	hint, name := "rounds only", "show rounds alone"
	if s.only {
		hint, name = "all entries", "show what was decided beside rounds too"
	}
	return []part.Key{
		part.NewKey("]", "longer", "select a longer period", more, func() tea.Msg { s.period++; return s.load(f) }),
		part.NewKey("[", "shorter", "select a shorter period", less, func() tea.Msg { s.period--; return s.load(f) }),
		part.NewKey("a", hint, name, "", func() tea.Msg { s.only = !s.only; s.arrange(f); return nil }),
	}
}

// Export implements part.Screen: rounds where they alone are shown, or else every entry.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	var d view.Document
	if s.only {
		var all []view.RoundLine
		for _, x := range s.deeds {
			all = append(all, *x.Round)
		}
		d = view.OfRounds(all)
	} else {
		d = view.OfLog(s.book.Entries()).Narrow(f.Filter)
	}
	return &d
}

// messages of the screen
type (
	loaded struct {
		turn int
		book view.Logbook
		err  error
	}
	opened struct{ round view.Round }
)

// load reads it.
func (s *Screen) load(f part.Frame) tea.Msg {
	s.turn++
	turn, in := s.turn, harbour.Period{}
	if days := periods[s.period].days; days > 0 {
		in.From = f.View.At().AddDate(0, 0, -days)
	}
	s.asked = f.View.At()
	return tea.Cmd(func() tea.Msg {
		b, err := s.app.Logbook(s.ctx, in)
		return loaded{turn, b, err}
	})
}

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	if mine, in := s.table.Take(msg, len(s.deeds)); mine {
		if in {
			return s.open(f)
		}
		return nil
	}
	switch msg := msg.(type) {
	case part.Shown:
		s.arrange(f)
		if s.asked.Equal(f.View.At()) {
			return nil
		}
		return s.load(f)
	case loaded:
		if msg.turn == s.turn {
			s.read, s.wrong = true, msg.err
			if msg.err == nil {
				s.book = msg.book
			}
			s.arrange(f)
		}
	case opened:
		return part.Go{Screen: part.Round, Cluster: msg.round.State.Plan.Brief.Cluster, What: msg.round}
	case part.Step:
		s.table.Step(msg.DY, len(s.deeds))
	case part.Enter:
		return s.open(f)
	}
	return nil
}

// arrange takes what the filter lets through.
func (s *Screen) arrange(f part.Frame) {
	s.deeds = nil
	for _, d := range s.book.Deeds(s.only) {
		if f.Filter.Lets(d.Subject()) {
			s.deeds = append(s.deeds, d)
		}
	}
	s.table.Cursor = s.table.At(max(1, len(s.deeds)))
}

// under is the line under the cursor; nil where there is none.
func (s *Screen) under() *view.Deed {
	if len(s.deeds) == 0 {
		return nil
	}
	return &s.deeds[s.table.At(len(s.deeds))]
}

// open goes into the round that the line is, or is about.
func (s *Screen) open(f part.Frame) tea.Msg {
	d := s.under()
	if d == nil {
		return part.NothingHere()
	}
	cluster, id := "", ""
	if d.Round != nil {
		cluster, id = d.Round.Cluster, d.Round.ID
	} else if d.Entry.Round != "" {
		cluster, id = d.Entry.Cluster, d.Entry.Round
	}
	switch {
	case id == "" && d.Entry.Host != "":
		return part.Go{Screen: part.Host, Cluster: f.View.ClusterOf(d.Entry.Host), Host: d.Entry.Host}
	case id == "" && d.Entry.Of != nil && d.Entry.Of.Shelf == logbook.Baselines:
		return part.Go{Screen: part.Baselines, Subject: d.Entry.Of.ID}
	case id == "":
		return part.NothingHere()
	case f.View.Rounds[cluster].ID == id:
		return part.Go{Screen: part.Round, Cluster: cluster}
	}
	return tea.Cmd(func() tea.Msg {
		r, err := s.app.Journal(s.ctx, cluster, id)
		if err != nil {
			return part.Failed{Err: err}
		}
		return opened{r}
	})
}

// View implements part.Screen.
func (s *Screen) View(f part.Frame, c *part.Canvas, a part.Area) {
	var rounds []view.RoundLine
	for _, d := range s.deeds {
		if d.Round != nil {
			rounds = append(rounds, *d.Round)
		}
	}
	sum, says := view.SumOf(rounds)
	x := c.Put(a.X+1, a.Y, part.Strong|part.Bold, periods[s.period].says)
	if s.read {
		c.Within(x+2, a.Y, a.X+a.W-x-3, part.Plain, says+"   "+sum.Says())
	}
	s.paintState(c, a)
	story := part.Rect(a.X+a.W*3/5+1, a.Y+3, a.W-a.W*3/5-2, a.H-3)
	list := part.Rect(a.X, a.Y+3, a.W*3/5, a.H-3)
	if a.W < 120 {
		h := min(9, (a.H-3)/2)
		list, story = part.Rect(a.X, a.Y+3, a.W, a.H-4-h), part.Rect(a.X+1, a.Y+a.H-h, a.W-2, h)
	}
	empty := "it is being read"
	switch {
	case s.read && f.Filter.Empty():
		empty = "no entries in this period; ] selects a longer one"
	case s.read:
		empty = "nothing in this period matches the filter"
	}
	t := s.table
	if list.W < 90 {
		t.Columns = append(t.Columns[:2:2], t.Columns[2], t.Columns[3], t.Columns[4], t.Columns[5])
	}
	order := s.table.Order(len(s.deeds), s.sortKey)
	t.Paint(c, list, true, len(s.deeds), func(i int) part.TableLine { return line(&s.deeds[order[i]], f.View.At()) }, empty)
	s.paintStory(c, story)
}

func (s *Screen) sortKey(i, column int) any {
	d := &s.deeds[i]
	r := d.Round
	if r == nil {
		r = &view.RoundLine{}
	}
	switch column {
	case 0:
		return int(d.At.Unix())
	case 1:
		return d.Who
	case 2:
		return d.Says()
	case 3:
		return r.Status
	case 4:
		return r.Hosts
	case 5:
		return r.Changes
	case 6:
		return r.Moves
	}
	return int(r.Took)
}

// paintState says whether what is shown can be relied on.
func (s *Screen) paintState(c *part.Canvas, a part.Area) {
	switch fault := s.book.Book.Fault; {
	case s.wrong != nil:
		c.Within(a.X+1, a.Y+1, a.W-2, part.Alarm, "✗ it can't be read: "+s.wrong.Error())
	case fault != nil:
		c.Within(a.X+1, a.Y+1, a.W-2, part.Alarm, fmt.Sprintf("✗ the logbook can't be relied on from entry %d on: %s", fault.From, fault.Why))
	case s.read:
		c.Within(a.X+1, a.Y+1, a.W-2, part.Quiet, fmt.Sprintf("✓ the chain of %d entries is intact; yare log verify also checks journals, baselines and waivers",
			len(s.book.Book.Entries)))
	}
}

// signs of how a round stands. The word stands beside it.
var signs = map[string]part.Sign{
	string(course.Finished): {Glyph: "✓", Style: part.Good}, string(course.Failing): {Glyph: "✗", Style: part.Alarm},
	string(course.Paused): {Glyph: "‖", Style: part.Caution}, string(course.Stopped): {Glyph: "‖", Style: part.Caution},
	string(course.Running): {Glyph: "▸", Style: part.Strong},
}

func line(d *view.Deed, now time.Time) part.TableLine {
	when := d.At.Format("2 Jan 15:04")
	if d.At.Year() != now.Year() {
		when = d.At.Format("2 Jan 2006")
	}
	r := d.Round
	if r == nil {
		return part.TableLine{Wide: true, Sign: part.Sign{Glyph: "·", Style: part.Quiet}, Cells: []part.TableCell{part.Cell(when, part.Quiet), part.Cell(d.Who, part.Quiet),
			part.Cell(d.Says(), part.Plain)}}
	}
	out := part.TableLine{Sign: signs[r.Status], Cells: []part.TableCell{part.Cell(when, part.Plain), part.Cell(d.Who, part.Plain), part.Cell(d.Says(), part.Subject),
		part.Cell(r.Status, signs[r.Status].Style), part.Cell(fmt.Sprintf("%d/%d", r.HostsDone, r.Hosts), part.Plain),
		part.Cell(fmt.Sprintf("%d/%d", r.Done, r.Changes), part.Plain), part.Cell(part.Count(r.Moves), part.Plain),
		part.Cell(view.Seconds(r.Took), part.Plain)}}
	if r.Wrong != "" {
		out.Sign, out.Cells[3] = part.Sign{Glyph: "✗", Style: part.Alarm}, part.Cell("unreadable", part.Alarm)
	}
	return out
}

// paintStory tells what is to be known of the line under the cursor.
func (s *Screen) paintStory(c *part.Canvas, a part.Area) {
	d := s.under()
	if d == nil {
		return
	}
	col := part.NewColumn(c, a)
	col.Head(d.Says())
	if why := d.Why(); why != "" {
		col.Line(0, part.Strong, why)
	}
	col.Line(0, part.Plain, "by "+d.Who+", "+d.At.Format("Mon 2 Jan 2006 15:04:05 MST"))
	if r := d.Round; r != nil {
		s.paintRound(col, r)
	}
	if e := d.Entry; e != nil {
		if d.Round == nil && e.Cluster+e.Host != "" {
			col.Line(0, part.Plain, "about "+strings.TrimSpace(e.Cluster+" "+e.Host))
		}
		col.Gap()
		col.Line(0, part.Quiet, fmt.Sprintf("entry %d of the logbook", e.N))
		if e.N <= int64(len(s.book.Book.Sums)) {
			col.Line(0, part.Quiet, "its sum "+s.book.Book.Sums[e.N-1])
		}
		if e.Of != nil {
			col.Line(0, part.Quiet, e.Of.String()+" had the sum "+e.Of.Sum)
		}
	}
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

func (s *Screen) paintRound(col *part.Column, r *view.RoundLine) {
	col.Gap()
	if r.Wrong != "" {
		col.Line(0, part.Alarm, "its journal can't be relied on to its end: "+r.Wrong)
	}
	if r.Detail != "" {
		col.Line(0, signs[r.Status].Style, r.Status+": "+r.Detail)
	}
	col.Line(0, part.Plain, r.Totals.Says())
	col.Line(0, part.Plain, fmt.Sprintf("took %s; the plan had about %s, at worst %s", view.Seconds(r.Took), view.Seconds(r.Planned), view.Seconds(r.Worst)))
	if r.Needed > 0 {
		col.Line(0, part.Caution, "it stood still for a person "+times(r.Needed))
	}
	if r.Decided > 0 {
		col.Line(0, part.Plain, fmt.Sprintf("requests and decisions: %d", r.Decided))
		for _, e := range s.book.Book.Entries {
			if e.Kind == logbook.Asked && e.Round == r.ID {
				col.Line(2, part.Plain, e.At.Format("15:04 ")+view.Who(e.By, e.From)+": "+e.Says)
			}
		}
	}
	col.Line(0, part.Quiet, "round "+r.ID)
	col.Line(0, part.Quiet, "enter opens it as it was; yare report round "+r.Cluster+" "+r.ID+" writes it out")
}
