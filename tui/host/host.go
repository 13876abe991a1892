// Package host is the screen of one host: has and wants side by side by layer, the story of the line under the cursor,
// what was read, guests, and the host's life.
package host

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/catalogue"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part"
)

// App is what the screen asks for.
type App interface {
	Past(ctx context.Context, host string) (view.Past, error)
	Compare(ctx context.Context, from, to string) (view.Comparison, error)
	Begin(ctx context.Context, of harbour.Beginning) (name, text string, err error)
	LaunchWork(ctx context.Context, does plan.Does, host, reason string, options ...string) error
	part.Wisher
}

// Screen is a host.
type Screen struct {
	ctx    context.Context
	app    App
	at     part.Place
	table  part.Table
	folded map[string]bool
	rows   []row
	moved  bool // the cursor is where somebody put it; else it is on what needs somebody most
	past   view.Past
	pastOf time.Time // of the reading with which it was told
}

// row is a line of the list, or a heading.
type row struct {
	head   string // of a group; "": a line
	n      int    // lines in it
	bad    int    // of them not calm
	folded bool
	line   view.Line
}

// New opens the host of a place.
func New(ctx context.Context, d App, p part.Place) *Screen {
	return &Screen{ctx: ctx, app: d, at: p, folded: map[string]bool{view.NoClause: true},
		table: part.Table{
			ID: "host",
			Columns: []part.TableColumn{
				{Title: "component", Width: 18, Grow: 4},
				{Title: "has", Width: 9, Grow: 2},
				{Title: "wants", Width: 9, Grow: 2},
				{Title: "verdict", Width: 15, Grow: 1},
			},
		}}
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place {
	p := part.Place{Screen: part.Host, Cluster: s.at.Cluster, Host: s.at.Host}
	if i := s.table.At(len(s.rows)); i < len(s.rows) && s.rows[i].head == "" {
		p.Component, p.Device = s.rows[i].line.Component, s.rows[i].line.Device
	}
	return p
}

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"Left is what the host has and what is wanted of it, by layer; right the story of the line under the cursor, " +
			"what was read and when, its guests and what would keep each from moving, and its life.",
		"Enter or Space on a heading folds what is under it, or shows it again.",
		part.Legend(),
	}
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	d := view.OfHost(f.View, s.at.Host, f.Filter)
	return &d
}

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	never := ""
	if f.View.Readings[s.at.Host] == nil {
		never = s.at.Host + " was never read; R reads every host"
	}
	return []part.Key{
		part.NewKey("=", "compare", "compare this host with another one, or with its past", never, s.askCompare),
		part.NewKey("m", "by hand", "close, restart, open or take over this host by hand", s.handless(f),
			func() tea.Msg { return s.askHand(f) }),
		part.WishKey(f, s.app, s.at.Cluster, s.at.Host, s.Place().Component, s.Place().Device),
		part.NewKey("D", "make baseline", "make a baseline of this host", never, s.derive),
		part.NewKey("space", "", "fold what is under a heading, or show it", "", func() tea.Msg {
			s.fold()
			s.lay(f)
			return nil
		}),
	}
}

// handless says why nothing can be done to the host by hand; "" where something can.
func (s *Screen) handless(f part.Frame) string {
	switch r := f.View.Readings[s.at.Host]; {
	case r == nil || !r.Reached():
		return s.at.Host + " does not answer"
	case !f.View.Band(s.at.Cluster).Cluster.Act:
		return "the estate file allows looking at " + s.at.Cluster + " only"
	case f.View.Rounds[s.at.Cluster].Runs:
		return "a round runs over " + s.at.Cluster
	}
	return ""
}

// askHand has it chosen what is done by hand: what the host, as it stands, can have done.
func (s *Screen) askHand(f part.Frame) tea.Msg {
	r := f.View.Readings[s.at.Host]
	c := part.Choose{Title: s.at.Host + " by hand"}
	offer := func(says string, does plan.Does, follows string, options ...string) {
		c.Options = append(c.Options, part.Option{Says: says, Then: s.askReason(says, does, follows, options...)})
	}
	const proven = "It is looked at and proven first."
	if m := r.Closed; m == nil {
		guests := len(r.Holding())
		moves := fmt.Sprintf("%d guests leave it first, where they find room with the reserve kept.", guests)
		offer("empty and close it", plan.HandClose, moves+" It stays closed, and yours, until you open it.", "--drain")
		offer("empty and restart it", plan.HandRestart, moves+" It is proven and opened afterwards.", "--drain")
	} else {
		c.Lines = []string{fmt.Sprintf("closed by %s since %s: %s", m.By, m.At.Format("Mon 2 Jan 15:04 MST"), m.Reason)}
		offer("open it", plan.HandOpen, proven+" Guests that were shut down for it are started.")
		offer("open it, and bring its guests back", plan.HandOpen, proven+" Guests that had left it come back.", "--home")
		offer("restart it, and leave it closed", plan.HandRestart, "It is proven, and stays yours.")
		offer("take it over from "+m.By, plan.HandTake, "Ask them first: it is on the record, and theirs no more.", "--yes")
	}
	if n := len(r.BMC.Waiting); n > 0 {
		offer("clear the queue of its BMC: "+catalogue.Some(n, "task"), plan.HandClear,
			"What waits there would run at the next restart: "+strings.Join(r.BMC.Waits(), ", "), "--all")
	}
	return c
}

func (s *Screen) askReason(says string, does plan.Does, follows string, options ...string) tea.Msg {
	host := s.at.Host
	return part.AskReason("why", "it is kept on the host and in the journal", func(reason string) tea.Msg {
		return part.Confirm{Title: host + ": " + says + "?", Yes: "do it", Lines: []string{follows, "Reason: " + reason},
			Then: tea.Cmd(func() tea.Msg {
				if err := s.app.LaunchWork(s.ctx, does, host, reason, options...); err != nil {
					return part.Failed{Err: err}
				}
				return part.Go{Screen: part.Round, Cluster: s.at.Cluster, Host: host}
			})}
	})
}

func (s *Screen) askCompare() tea.Msg {
	return part.Ask{
		Label: "compare " + s.at.Host + " with",
		Hint:  "HOST, or HOST@TIME: a date, 24h, 7d",
		Value: s.at.Host + "@7d",
		Then: func(other string) tea.Msg {
			if other == "" {
				return nil
			}
			return func() tea.Msg {
				c, err := s.app.Compare(s.ctx, other, s.at.Host)
				if err != nil {
					return part.Failed{Err: err}
				}
				return part.Go{Screen: part.Compare, Cluster: s.at.Cluster, Host: s.at.Host, What: &c}
			}
		},
	}
}

func (s *Screen) derive() tea.Msg {
	return func() tea.Msg {
		name, text, err := s.app.Begin(s.ctx, harbour.Beginning{Like: s.at.Host})
		if err != nil {
			return part.Failed{Err: err}
		}
		return part.Go{Screen: part.Edit, Subject: name, What: part.Draft{Text: text, Why: "made of " + s.at.Host}}
	}
}

// pastMsg is what is known of the host's past.
type pastMsg struct {
	host string
	at   time.Time
	past view.Past
}

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	if mine, in := s.table.Take(msg, len(s.rows)); mine {
		s.moved = true
		if in {
			return s.enter(f)
		}
		return nil
	}
	switch msg := msg.(type) {
	case part.Shown:
		s.lay(f)
		past := s.wantPast(f)
		if _, is := s.at.What.(part.ByHand); is {
			s.at.What = nil
			if why := s.handless(f); why != "" {
				return part.Several{past, part.Say{Text: why}}
			}
			return part.Several{past, s.askHand(f)}
		}
		return past
	case part.Step:
		if msg.DX != 0 {
			return s.neighbour(f, msg.DX)
		}
		s.table.Step(msg.DY, len(s.rows))
		s.moved = true
	case part.Enter:
		return s.enter(f)
	case pastMsg:
		if msg.host == s.at.Host {
			s.past, s.pastOf = msg.past, msg.at
		}
	}
	return nil
}

// enter folds a heading, and leads from a line to its component in the catalogue.
func (s *Screen) enter(f part.Frame) tea.Msg {
	if len(s.rows) == 0 {
		return nil
	}
	r := s.rows[s.table.At(len(s.rows))]
	if r.head == "" {
		return part.Go{Screen: part.Catalogue, Component: r.line.Component}
	}
	s.fold()
	s.lay(f)
	return nil
}

// fold turns the group around in which the cursor stands, and puts the cursor on its heading.
func (s *Screen) fold() {
	for i := s.table.At(len(s.rows)); i >= 0 && i < len(s.rows); i-- {
		if h := s.rows[i].head; h != "" {
			s.folded[h] = !s.folded[h]
			s.table.Cursor, s.moved = i, true
			return
		}
	}
}

// neighbour goes to another host of the cluster, with the cursor on the same line where there is one.
func (s *Screen) neighbour(f part.Frame, dx int) tea.Msg {
	hosts := f.View.Hosts(s.at.Cluster)
	if len(hosts) == 0 {
		return nil
	}
	s.keep()
	s.at.Host = hosts[part.Clamp(max(0, slices.Index(hosts, s.at.Host))+dx, len(hosts))]
	s.past, s.pastOf = view.Past{}, time.Time{}
	s.lay(f)
	return s.wantPast(f)
}

// keep remembers on which component the cursor stands.
func (s *Screen) keep() {
	if len(s.rows) > 0 {
		if r := s.rows[s.table.At(len(s.rows))]; r.head == "" {
			s.at.Component, s.at.Device = r.line.Component, r.line.Device
		}
	}
}

// lay makes the rows anew, and puts the cursor on the component that it is to stand on.
func (s *Screen) lay(f part.Frame) {
	if s.at.Cluster == "" {
		s.at.Cluster = f.View.ClusterOf(s.at.Host)
	}
	if s.at.Component == "" && s.moved {
		s.keep()
	}
	var rows []row
	head := -1
	for _, l := range f.View.Lines(s.at.Host, f.Filter) {
		if head < 0 || rows[head].head != l.Group() {
			head = len(rows)
			rows = append(rows, row{head: l.Group(), folded: s.folded[l.Group()] && f.Filter.Empty()})
		}
		rows[head].n++
		if !l.Calm() {
			rows[head].bad++
		}
		if s.folded[l.Group()] && f.Filter.Empty() &&
			!(l.Component == s.at.Component && l.Device == s.at.Device && s.rows == nil) {
			continue
		}
		rows = append(rows, row{line: l})
	}
	first := !s.moved
	s.rows = rows
	for i, r := range rows {
		if r.head == "" && s.at.Component != "" && r.line.Component == s.at.Component &&
			(r.line.Device == s.at.Device || s.at.Device == "") {
			s.table.Cursor, first, s.moved = i, false, true
			break
		}
	}
	s.at.Component, s.at.Device = "", ""
	if first && len(rows) > 1 {
		s.table.Cursor = worst(rows)
	}
	s.table.Cursor = s.table.At(len(rows))
}

// worst is the row that needs somebody most: the most severe of what is out of line, or else the first that is not calm.
func worst(rows []row) int {
	best, severity := 1, -1
	for i, r := range rows {
		if v := &r.line.Verdict; r.head == "" && !r.line.Calm() && int(v.Severity()) > severity {
			best, severity = i, int(v.Severity())
		}
	}
	return best
}

// wantPast has the past told, where a newer reading of the host is there.
func (s *Screen) wantPast(f part.Frame) tea.Msg {
	r := f.View.Readings[s.at.Host]
	if r == nil || s.pastOf.Equal(r.Tried()) {
		return nil
	}
	host, at := s.at.Host, r.Tried()
	return func() tea.Msg {
		p, err := s.app.Past(s.ctx, host)
		if err != nil {
			return part.Failed{Err: fmt.Errorf("the past of %s: %w", host, err)}
		}
		return pastMsg{host, at, p}
	}
}

// line is how a row is shown.
func (s *Screen) line(i int) part.TableLine {
	r := s.rows[i]
	if r.head != "" {
		says := map[bool]string{false: "▾ ", true: "▸ "}[r.folded] + r.head
		if r.folded {
			says += fmt.Sprintf("  %d", r.n)
			if r.bad > 0 {
				says += fmt.Sprintf(", %d not in line", r.bad)
			}
		}
		return part.TableLine{Head: says}
	}
	l := &r.line
	sg := part.SignOf(&l.Verdict)
	name := part.Subject
	if l.Calm() {
		name = part.Quiet
	}
	says, st := l.Outcome.String(), sg.Style
	has := part.TableCell{Text: view.OrDash(l.Has)}
	if l.Has == "" && l.Last != "" {
		has = part.Cell("last "+l.Last, part.Quiet)
	}
	switch {
	case l.Unbound && l.Found.Unread != "":
		sg.Glyph, says, st = "?", "unread", part.Alarm
	case l.Unbound:
		sg.Glyph, says = " ", ""
	}
	if !l.Unbound && l.Outcome.Drifts() && l.Severity() > catalogue.Unknown {
		says += ", " + l.Severity().String()
	}
	return part.TableLine{
		Sign: sg,
		Cells: []part.TableCell{{Text: l.Title(), Style: name}, has, {Text: view.OrDash(l.Wants)},
			{Text: says, Style: st}},
	}
}
