// Package baselines is the Baselines screen: the baselines by rank, the clauses of one with how hosts stand to each, who
// is out of line by it, and its versions.
package baselines

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part"
)

// App is what the screen asks for.
type App interface {
	VersionsOf(ctx context.Context, name string) ([]view.Version, error)
	RemoveBaseline(ctx context.Context, name string) error
	CompareVersions(ctx context.Context, name string, from, to int) ([]baseline.Change, error)
	Begin(ctx context.Context, of harbour.Beginning) (name, text string, err error)
}

// Screen is the Baselines.
type Screen struct {
	ctx      context.Context
	app      App
	name     string // of the baseline under the cursor
	versions bool   // keys go to the versions
	row      int    // among them
	kept     kept
	standing map[int]view.Standing
	out      []drift.Verdict
	disputes []string
}

// kept are the versions of a baseline, as they were told when the newest had that number.
type kept struct {
	name   string
	newest int
	list   []view.Version
}

// New opens it, on the baseline that the place names.
func New(ctx context.Context, d App, p part.Place) *Screen {
	return &Screen{ctx: ctx, app: d, name: p.Subject}
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place { return part.Place{Screen: part.Baselines, Subject: s.name} }

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"Left the baselines, the first to go before the others on top; beside them the clauses with how many hosts " +
			"are in line and out of line by each, and who is out of line; below the versions, " +
			"each with what it changed.",
		"≥ at least, = exactly, ⊇ if present, ∅ never. Enter edits in place, with the effect on the estate told " +
			"while you type. u goes back to the version under the cursor: it is shown with its " +
			"effect before it is saved.",
	}
}

// chosen is the baseline under the cursor; the zero value where there is none.
func (s *Screen) chosen(f part.Frame) view.Baseline {
	if b, ok := f.View.Baseline(s.name); ok {
		return b
	}
	if len(f.View.Baselines) == 0 {
		return view.Baseline{}
	}
	return f.View.Baselines[0]
}

// version is the version under the cursor; the zero value where there is none.
func (s *Screen) version() view.Version {
	if !s.versions || len(s.kept.list) == 0 {
		return view.Version{}
	}
	return s.kept.list[part.Clamp(s.row, len(s.kept.list))]
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	b := s.chosen(f)
	if b.Name == "" {
		return nil
	}
	d := view.OfBaseline(b, f.Filter)
	return &d
}

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	b, v := s.chosen(f), s.version()
	none, noVersion, now := "", "", ""
	if b.Name == "" {
		none = "there is no baseline; D begins one"
	}
	if v.N == 0 {
		noVersion = "Tab goes to the versions; this is about the one under the cursor"
	}
	if now = noVersion; v.N == b.Version && v.N > 0 {
		now = "that is what it says now"
	}
	hint := "versions"
	if s.versions {
		hint = "baselines"
	}
	return []part.Key{
		part.NewKey("tab", hint, "go between baselines and versions", none, part.Flip(&s.versions)),
		part.NewKey("E", "$EDITOR", "edit the baseline in $EDITOR", none, func() tea.Msg {
			return edit(b, part.Draft{Text: b.Text, After: b.Version, Outside: true})
		}),
		{Key: "u", Name: "let the baseline say again what the version under the cursor said", Hint: "revert", Not: now,
			Do: func() tea.Msg {
				return edit(b, part.Draft{Text: v.Text, After: b.Version, Why: fmt.Sprintf("back to version %d", v.N)})
			}},
		part.NewKey("=", "compare", "compare the version under the cursor with another one", noVersion, func() tea.Msg {
			return s.askCompare(b, v.N)
		}),
		part.NewKey("x", "", "take away the baseline under the cursor, if it was made here", none, func() tea.Msg {
			return s.askRemove(b.Name)
		}),
		part.NewKey("D", "new", "begin a new baseline: by a rule, as a host is, or empty", "", s.askNew),
	}
}

func edit(b view.Baseline, d part.Draft) tea.Msg {
	return part.Go{Screen: part.Edit, Subject: b.Name, What: d}
}

// messages of the mouse
type (
	named  string
	turned int
	picked int
)

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	switch msg := msg.(type) {
	case part.Shown:
		return s.look(f)
	case part.Step:
		if s.versions {
			s.row = part.Clamp(s.row+msg.DY, len(s.kept.list))
			return nil
		}
		return s.step(f, msg.DY)
	case turned:
		return s.step(f, int(msg))
	case named:
		if s.name == string(msg) && !s.versions {
			return s.enter(f)
		}
		s.name, s.versions = string(msg), false
		return s.look(f)
	case picked:
		s.versions, s.row = true, part.Clamp(int(msg), len(s.kept.list))
	case part.Enter:
		return s.enter(f)
	case kept:
		if msg.name == s.name {
			s.kept = msg
		}
	}
	return nil
}

func (s *Screen) enter(f part.Frame) tea.Msg {
	b := s.chosen(f)
	if b.Name == "" {
		return part.Tell("there is no baseline to edit; D begins one")
	}
	return edit(b, part.Draft{Text: b.Text, After: b.Version})
}

func (s *Screen) step(f part.Frame, dy int) tea.Msg {
	all := f.View.Baselines
	if len(all) == 0 {
		return nil
	}
	at := slices.IndexFunc(all, func(b view.Baseline) bool { return b.Name == s.name })
	s.name = all[part.Clamp(at+dy, len(all))].Name
	return s.look(f)
}

// look counts how hosts stand to the baseline, and has its versions told where there are newer ones.
func (s *Screen) look(f part.Frame) tea.Msg {
	b := s.chosen(f)
	s.name = b.Name
	s.standing, s.out, s.disputes = f.View.Standings(b.Name), f.View.OutOfLine(b.Name, f.Filter),
		f.View.Disputes(b.Name)
	if b.Name == "" || s.kept.name == b.Name && s.kept.newest == b.Version {
		return nil
	}
	if s.kept.name != b.Name {
		s.kept, s.row = kept{}, 0
	}
	return func() tea.Msg {
		list, err := s.app.VersionsOf(s.ctx, b.Name)
		if err != nil {
			return part.Failed{Err: fmt.Errorf("the versions of %s: %w", b.Name, err)}
		}
		return kept{b.Name, b.Version, list}
	}
}

func (s *Screen) askCompare(b view.Baseline, from int) tea.Msg {
	return part.Ask{
		Label: fmt.Sprintf("compare version %d with", from),
		Hint:  "Enter shows the differences, Esc leaves",
		Value: strconv.Itoa(b.Version),
		Then: func(text string) tea.Msg {
			to, err := strconv.Atoi(text)
			if err != nil {
				return part.Refuse("%s is no version", text)
			}
			return func() tea.Msg {
				changes, err := s.app.CompareVersions(s.ctx, b.Name, from, to)
				if err != nil {
					return part.Failed{Err: err}
				}
				sheet := part.Sheet{Title: fmt.Sprintf("%s, version %d to %d", b.Name, from, to)}
				for _, ch := range changes {
					sheet.Lines = append(sheet.Lines, ch.String())
				}
				if len(sheet.Lines) == 0 {
					sheet.Lines = []string{"they want the same"}
				}
				return sheet
			}
		},
	}
}

func (s *Screen) askRemove(name string) tea.Msg {
	return part.Confirm{Title: "Take the baseline " + name + " away?", Yes: "take it away",
		Lines: []string{
			"Its clauses bind nobody from then on. Its versions stay on record; one that the estate file names is " +
				"the estate file's to remove.",
		},
		Then: part.Try(func() (string, error) {
			return name + " binds nobody any more", s.app.RemoveBaseline(s.ctx, name)
		})}
}

// askNew has it chosen what a new baseline is to want.
func (s *Screen) askNew() tea.Msg {
	by := func(severity catalogue.Severity) harbour.Beginning {
		return harbour.Beginning{Beginning: baseline.Beginning{Kinds: harbour.Kinds, Severity: severity}}
	}
	return part.Choose{Title: "A new baseline", Lines: []string{"Its text opens to be edited; nothing is saved before you say so."}, Options: []part.Option{
		{Says: "what mends high severity or worse, of all that hosts have", Then: s.begin(by(catalogue.High), "what mends high or worse")},
		{Says: "the newest release of all that hosts have", Then: s.begin(by(catalogue.Unknown), "the newest of all")},
		{Says: "as a host is that is well", Then: part.Ask{Label: "baseline like host", Hint: "Enter makes its text, to be edited and saved; Esc leaves",
			Then: func(host string) tea.Msg {
				if host == "" {
					return nil
				}
				return s.begin(harbour.Beginning{Like: host}, "made of "+host)
			}}},
		{Says: "nothing yet: clauses are written by hand", Then: s.begin(harbour.Beginning{}, "begun empty")},
	}}
}

func (s *Screen) begin(of harbour.Beginning, why string) tea.Cmd {
	return func() tea.Msg {
		name, text, err := s.app.Begin(s.ctx, of)
		if err != nil {
			return part.Failed{Err: err}
		}
		return part.Go{Screen: part.Edit, Subject: name, What: part.Draft{Text: text, Why: why}}
	}
}

// postures tell a clause's posture by shape; the word stands beside it.
var postures = map[baseline.Posture]string{
	baseline.AtLeast:   "≥",
	baseline.Exactly:   "=",
	baseline.IfPresent: "⊇",
	baseline.Never:     "∅",
}

// View implements part.Screen.
func (s *Screen) View(f part.Frame, c *part.Canvas, a part.Area) {
	b := s.chosen(f)
	if b.Name == "" {
		c.Put(a.X+2, a.Y+1, part.Strong|part.Bold, "There is no baseline yet: nothing is wanted of any host.")
		c.Put(a.X+2, a.Y+3, part.Plain,
			"D begins one by a rule or as a host is; or name files in the estate file, as docs/baselines.md tells.")
		return
	}
	left := 20
	if a.W >= 100 {
		left = 28
	}
	s.paintNames(f, c, part.Rect(a.X, a.Y, left, a.H))
	rows := min(len(s.kept.list)+1, max(4, a.H/4))
	if s.versions {
		rows = max(rows, a.H/2)
	}
	right := part.Rect(a.X+left+1, a.Y, a.W-left-1, a.H-rows-1)
	if right.W < 150 {
		y := s.paintClauses(f, c, b, right)
		s.paintOut(f, c, part.Rect(right.X, y+1, right.W, right.Y+right.H-y-1))
		const readable = 6 // lines of its file, and a heading
		end := a.Y + a.H
		if next := y + 3 + max(1, len(s.out)); !s.versions && next+rows+readable < end {
			s.paintVersions(c, part.Rect(right.X, next, right.W, rows))
			paintFile(c, b, part.Rect(right.X, next+rows+1, right.W, end-next-rows-1))
			return
		}
		s.paintVersions(c, part.Rect(right.X, end-rows, right.W, rows))
		return
	}
	s.paintVersions(c, part.Rect(right.X, a.Y+a.H-rows, right.W, rows))
	half := right.W * 3 / 5
	s.paintClauses(f, c, b, part.Rect(right.X, right.Y, half, right.H))
	for y := right.Y + 1; y < right.Y+right.H; y++ {
		c.Put(right.X+half, y, part.Water, "│")
	}
	s.paintOut(f, c, part.Rect(right.X+half+1, right.Y+1, right.W-half-1, right.H-1))
}

func (s *Screen) paintNames(f part.Frame, c *part.Canvas, a part.Area) {
	c.Put(a.X+2, a.Y, part.Water|part.Bold, "baselines, by rank")
	all := f.View.Baselines
	at := max(0, slices.IndexFunc(all, func(b view.Baseline) bool { return b.Name == s.name }))
	first, shown := part.Window(at, len(all), (a.H-1)/2)
	for i, b := range all[first : first+shown] {
		y := a.Y + 1 + 2*i
		c.Within(a.X+2, y, a.W-2, part.Subject, b.Name)
		who := strings.Join(b.Assign, ", ")
		if who == "" {
			who = "binds nobody"
		}
		c.Within(a.X+4, y+1, a.W-4, part.Quiet, fmt.Sprintf("%d · %s", b.Rank, who))
		if b.Name == s.name {
			c.Choose(part.Rect(a.X, y, a.W, 1), y, !s.versions)
		}
		c.Press(part.Rect(a.X, y, a.W, 2), named(b.Name))
	}
	c.Wheel(a, func(dy int) any { return turned(dy) })
}

func (s *Screen) paintClauses(f part.Frame, c *part.Canvas, b view.Baseline, a part.Area) int {
	x := c.Put(a.X+1, a.Y, part.Strong|part.Bold, b.Name)
	c.Within(x+2, a.Y, a.X+a.W-x-2, part.Quiet,
		fmt.Sprintf("rank %d, version %d, %s  Enter edits", b.Rank, b.Version, filepath.Base(b.File)))
	name, says := 18, 18 // as wide as what stands there, where there is room
	for _, cl := range b.Clauses {
		name, says = max(name, part.Width(string(cl.Component)+cl.Hardware)+6), max(says, part.Width(cl.Says())+2)
		for _, p := range f.View.Checker.Parts(cl) {
			name = max(name, part.Width(string(p.Component))+6)
		}
	}
	name = min(name, max(18, a.W/4))
	says = min(says, max(18, a.W-name-40))
	c.Put(a.X+3, a.Y+1, part.Water|part.Bold, "component")
	c.Put(a.X+3+name, a.Y+1, part.Water|part.Bold, "should be")
	c.Put(a.X+3+name+says, a.Y+1, part.Water|part.Bold, "hosts and devices")
	y, skipped, end := a.Y+2, 0, a.Y+a.H
	for _, cl := range b.Clauses {
		st := s.standing[cl.Line]
		if !view.LetsClause(f.Filter, cl, st) {
			skipped++
			continue
		}
		if y >= end {
			c.Right(a.X+a.W-1, end-1, 22, part.Quiet, " more; Enter shows all")
			break
		}
		c.Put(a.X+1, y, part.Limits, postures[cl.Posture])
		title := string(cl.Component)
		if cl.Hardware != "" {
			title += " on " + cl.Hardware
		}
		c.Within(a.X+3, y, name-1, part.Subject, title)
		c.Within(a.X+3+name, y, says-1, part.Plain, strings.TrimSuffix(cl.Says(), ", on a "+cl.Hardware))
		paintStanding(c, st, part.Rect(a.X+3+name+says, y, a.W-name-says-4, 1))
		y++
		for _, p := range f.View.Checker.Parts(cl) {
			if y < end {
				c.Within(a.X+5, y, name-3, part.Quiet, string(p.Component))
				c.Within(a.X+3+name, y, says-1, part.Quiet, p.Says())
				y++
			}
		}
	}
	col := part.NewColumn(c, part.Rect(a.X+1, y, a.W-1, end-y))
	for _, e := range b.Exceptions {
		col.Line(0, part.Quiet, fmt.Sprintf("~ %s is excepted on %s until %s by %s: %s", e.Component,
			strings.Join(e.Hosts, ", "), e.Until.AddDate(0, 0, -1).Format("2 Jan"), e.By, e.Reason))
	}
	for _, d := range s.disputes {
		col.Line(0, part.Caution|part.Bold, "≠ "+d)
	}
	if skipped > 0 {
		col.Line(2, part.Quiet, catalogue.Some(skipped, "clause")+" hidden by the filter")
	}
	return col.Y
}

func paintStanding(c *part.Canvas, s view.Standing, a part.Area) {
	x := a.X
	if s.Drift > 0 {
		x = c.Within(x, a.Y, a.X+a.W-x, part.Caution|part.Bold, fmt.Sprintf("▿ %d out of line", s.Drift)) + 2
	}
	if s.Unread > 0 {
		x = c.Within(x, a.Y, a.X+a.W-x, part.Alarm, fmt.Sprintf("? %d", s.Unread)) + 2
	}
	if s.Undecided > 0 {
		x = c.Within(x, a.Y, a.X+a.W-x, part.Caution, fmt.Sprintf("¿ %d undecided", s.Undecided)) + 2
	}
	role := part.Good
	if s.InLine == 0 {
		role = part.Quiet
	}
	x = c.Within(x, a.Y, a.X+a.W-x, role, fmt.Sprintf("· %d in line", s.InLine)) + 2
	for _, n := range []struct {
		n    int
		word string
	}{{s.Excepted, "excepted"}, {s.Idle, "not applying"}} {
		if n.n > 0 {
			x = c.Within(x, a.Y, a.X+a.W-x, part.Quiet, fmt.Sprintf("%d %s", n.n, n.word)) + 2
		}
	}
}

// noneOut says why nobody is listed as out of line: only where something was judged, all of it was read, and nothing is
// hidden is that good.
func (s *Screen) noneOut(f part.Frame) (string, part.Style) {
	var all view.Standing
	for _, st := range s.standing {
		all.Drift, all.Unread = all.Drift+st.Drift, all.Unread+st.Unread
		all.InLine, all.Idle = all.InLine+st.InLine, all.Idle+st.Excepted+st.Idle
		all.Undecided += st.Undecided
	}
	switch {
	case all.Drift > 0:
		return fmt.Sprintf("nothing that matches “%s”; %d without it", f.Typed, all.Drift), part.Caution
	case all.Unread > 0:
		return fmt.Sprintf("nothing is known to be, but %d unread", all.Unread), part.Caution
	case all.Undecided > 0:
		return fmt.Sprintf("nothing is known to be, but %d undecided", all.Undecided), part.Caution
	case all.InLine == 0 && all.Idle > 0:
		return "nothing: all of it is excepted, or does not apply", part.Caution
	case all.InLine == 0:
		return "nothing: it says nothing of any host that was read", part.Caution
	}
	return "nothing", part.Good
}

// paintOut lists who is out of line by the baseline, and in what.
func (s *Screen) paintOut(f part.Frame, c *part.Canvas, a part.Area) {
	if a.H < 3 {
		return
	}
	c.Put(a.X+1, a.Y, part.Water|part.Bold, "out of line by it")
	if len(s.out) == 0 {
		says, role := s.noneOut(f)
		part.NewColumn(c, part.Rect(a.X+1, a.Y+1, a.W-2, 2)).Line(2, role, says)
	}
	for i := range s.out {
		v := &s.out[i]
		y := a.Y + 1 + i
		if y >= a.Y+a.H-1 && i < len(s.out)-1 {
			c.Put(a.X+3, y, part.Quiet, fmt.Sprintf("and %d more; Drift (d) shows them by component", len(s.out)-i))
			return
		}
		sg := part.SignOf(v)
		c.Put(a.X+1, y, sg.Style, sg.Glyph)
		c.Within(a.X+3, y, 12, part.Subject, v.Host)
		name := max(16, a.W*2/5-12)
		c.Within(a.X+15, y, name-1, part.Plain, v.Title())
		c.Within(a.X+15+name, y, a.W-16-name, part.Plain,
			fmt.Sprintf("%s: has %s, wants %s", v.Outcome, view.OrDash(v.Has), view.OrDash(v.Wants)))
		c.Press(
			part.Rect(a.X, y, a.W, 1),
			part.Go{
				Screen:    part.Host,
				Cluster:   f.View.ClusterOf(v.Host),
				Host:      v.Host,
				Component: v.Component,
				Device:    v.Device,
			},
		)
	}
}

// paintFile paints the text of a baseline, as far as there is room.
func paintFile(c *part.Canvas, b view.Baseline, a part.Area) {
	c.Put(a.X+1, a.Y, part.Water|part.Bold, filepath.Base(b.File))
	lines := strings.Split(strings.TrimRight(b.Text, "\n"), "\n")
	for i, l := range lines {
		y := a.Y + 1 + i
		if y == a.Y+a.H-1 && i < len(lines)-1 {
			c.Put(a.X+3, y, part.Quiet, fmt.Sprintf("and %d more lines; Enter shows all", len(lines)-i))
			return
		}
		c.Right(a.X+5, y, 4, part.Quiet, fmt.Sprint(i+1))
		c.Within(a.X+7, y, a.W-8, part.Plain, l)
	}
}

func (s *Screen) paintVersions(c *part.Canvas, a part.Area) {
	st := part.Water | part.Bold
	if s.versions {
		st |= part.Underline
	}
	c.Put(a.X+1, a.Y, st, "versions")
	y, row := a.Y+1, part.Clamp(s.row, len(s.kept.list))
	first := 0
	if s.versions {
		first = max(0, row-2)
	}
	for i := first; i < len(s.kept.list) && y < a.Y+a.H; i++ {
		v := s.kept.list[i]
		c.Within(a.X+3, y, a.W-4, part.Plain,
			fmt.Sprintf("%d  %s  %s: %s", v.N, v.At.Local().Format("2 Jan 2006 15:04"), v.By, v.Why))
		c.Press(part.Rect(a.X, y, a.W, 1), picked(i))
		here := s.versions && i == row
		if here {
			c.Choose(part.Rect(a.X, y, a.W, 1), y, true)
		}
		y++
		for _, ch := range v.Changes {
			if here && y < a.Y+a.H {
				c.Within(a.X+6, y, a.W-7, part.Quiet, ch.String())
				y++
			}
		}
	}
}
