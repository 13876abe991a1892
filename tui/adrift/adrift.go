// Package adrift is the Drift screen: components × hosts of a cluster, only what disagrees, with the story of a cell
// beside it; and the cluster's drift over time.
package adrift

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// App is what the screen asks for.
type App interface {
	MarkSeen(ctx context.Context, cluster string) error
	part.Wisher
}

// Screen is a cluster's drift.
type Screen struct {
	ctx      context.Context
	app      App
	at       part.Place
	overTime bool
	matrix   view.Matrix
	kin      []view.Kin
	row, col int
	laid     bool
}

// New opens the cluster of a place.
func New(ctx context.Context, d App, p part.Place) *Screen {
	return &Screen{ctx: ctx, app: d, at: p}
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place {
	p := part.Place{Screen: part.Drift, Cluster: s.at.Cluster, Host: s.host()}
	if s.row < len(s.matrix.Rows) && !s.overTime {
		p.Component, p.Device = s.matrix.Rows[s.row].Component, s.matrix.Rows[s.row].Device
	}
	return p
}

func (s *Screen) host() string {
	if s.col < len(s.matrix.Hosts) {
		return s.matrix.Hosts[s.col]
	}
	return ""
}

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"Only components in which something disagrees; a column for each host. An empty cell: the host does not have " +
			"it, and need not. ∘: it has it, and no baseline covers it there. Beside it is the story of the cell " +
			"under the cursor.",
		"A component that is behind is marked by its severity: ▿ behind, ▾ high severity, ▼ critical. • is new since " +
			"somebody last looked; m marks all as seen.",
		"Below: siblings of one hardware model, grouped by what they have in common. Tab shows drift over time.",
		part.Legend(),
	}
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	c := s.at.Cluster
	if s.overTime {
		d := view.Trend{Cluster: c, Tallies: f.View.Trends[c], From: f.View.At().Add(-view.TrendFor), To: f.View.At()}.Document()
		return &d
	}
	d := view.OfDrift(f.View, c, f.Filter)
	return &d
}

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	hint := "over time"
	if s.overTime {
		hint = "now"
	}
	c := s.at.Cluster
	return []part.Key{
		part.WishKey(f, s.app, c, s.host(), s.Place().Component, s.Place().Device),
		part.NewKey("tab", hint, "go between what disagrees now and drift over time", "", part.Flip(&s.overTime)),
		{
			Key:  "m",
			Name: "mark this cluster's drift as seen; what comes after is new",
			Hint: "mark seen",
			Do: func() tea.Msg {
				return part.Try(func() (string, error) {
					return "what is out of line on " + c + " now is marked as seen", s.app.MarkSeen(s.ctx, c)
				})
			},
		},
	}
}

// messages of the mouse
type (
	cell   struct{ row, col int }
	turned int
)

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	switch msg := msg.(type) {
	case part.Shown:
		s.lay(f)
	case part.Step:
		s.row, s.col = part.Clamp(s.row+msg.DY, len(s.matrix.Rows)), part.Clamp(s.col+msg.DX, len(s.matrix.Hosts))
	case turned:
		s.row = part.Clamp(s.row+int(msg), len(s.matrix.Rows))
	case cell:
		if s.row == msg.row && s.col == msg.col {
			return s.enter()
		}
		s.row, s.col = part.Clamp(msg.row, len(s.matrix.Rows)), part.Clamp(msg.col, len(s.matrix.Hosts))
	case part.Enter:
		return s.enter()
	}
	return nil
}

// enter goes to the host, with the cursor on the component.
func (s *Screen) enter() tea.Msg {
	if s.host() == "" || len(s.matrix.Rows) == 0 {
		return nil
	}
	r := s.matrix.Rows[s.row]
	return part.Go{Screen: part.Host, Cluster: s.at.Cluster, Host: s.host(), Component: r.Component, Device: r.Device}
}

// lay makes the matrix anew, and leaves the cursor on what it stood on.
func (s *Screen) lay(f part.Frame) {
	host, component, device := s.host(), s.at.Component, s.at.Device
	if !s.laid {
		host = s.at.Host
	} else if s.row < len(s.matrix.Rows) {
		component, device = s.matrix.Rows[s.row].Component, s.matrix.Rows[s.row].Device
	}
	s.matrix, s.kin, s.laid = f.View.Matrix(s.at.Cluster, f.Filter), f.View.Kin(s.at.Cluster), true
	s.col = max(0, slices.Index(s.matrix.Hosts, host))
	at := slices.IndexFunc(s.matrix.Rows, func(r view.Row) bool {
		return r.Component == component && (device == "" || r.Device == device)
	})
	if at < 0 {
		at = part.Clamp(s.row, len(s.matrix.Rows))
	}
	s.row = at
}

// View implements part.Screen.
func (s *Screen) View(f part.Frame, c *part.Canvas, a part.Area) {
	n := f.View.News[s.at.Cluster]
	paintNews(c, n, part.Rect(a.X, a.Y, a.W, 1))
	a.Y, a.H = a.Y+1, a.H-1
	if s.overTime {
		s.paintTrend(f, c, a)
		return
	}
	if len(s.matrix.Rows) == 0 {
		s.paintNothing(f, c, a)
		return
	}
	grid, story := s.share(a)
	below := part.Rect(a.X, grid.Y+grid.H+1, a.W, a.Y+a.H-grid.Y-grid.H-1)
	s.paintGrid(f, c, n, grid, a.W >= 110)
	if story.X > a.X { // beside it
		for y := story.Y; y < story.Y+story.H; y++ {
			c.Put(story.X-2, y, part.Water, "│")
		}
		s.paintStory(f, c, story)
		s.paintKin(c, part.Rect(a.X+1, below.Y, story.X-a.X-4, below.H))
		return
	}
	s.paintStory(f, c, story)
	s.paintKin(c, part.Rect(a.X+1, story.Y+story.H, a.W-2, a.Y+a.H-story.Y-story.H))
}

// cells of a matrix: how wide the names are, and one host at least and at most.
const (
	leastCell = 5
	mostCell  = 16
	severity  = 10
)

// share divides the area between the grid and the story: beside each other where both have room, else below each other.
func (s *Screen) share(a part.Area) (grid, story part.Area) {
	kin := 0
	for _, k := range s.kin {
		kin += 1 + 2*len(k.Odd)
	}
	rows := len(s.matrix.Rows) + 1
	const readable = 38
	if a.W >= 110 {
		w := min(a.W-readable, s.names(a.W)+severity+3+mostCell*len(s.matrix.Hosts))
		grid = part.Rect(a.X, a.Y, w, min(rows, max(a.H*2/3, a.H-kin-2)))
		return grid, part.Rect(a.X+w+3, a.Y, a.W-w-3, a.H)
	}
	const told = 4
	grid = part.Rect(a.X, a.Y, a.W, min(rows, max(4, a.H-told-min(kin+1, a.H/4)-1)))
	return grid, part.Rect(a.X, grid.Y+grid.H+1, a.W, told)
}

func (s *Screen) names(w int) int {
	n := 14
	for i := range s.matrix.Rows {
		n = max(n, part.Width(s.matrix.Rows[i].Title())+2)
	}
	return min(n, max(22, w/4))
}

func (s *Screen) paintGrid(f part.Frame, c *part.Canvas, news drift.News, a part.Area, severe bool) {
	name, hosts := s.names(a.W), s.matrix.Hosts
	x0 := a.X + name + 2
	if severe {
		c.Within(x0, a.Y, severity-1, part.Water|part.Bold, "severity")
		x0 += severity
	}
	w := max(leastCell, min(mostCell, (a.X+a.W-x0)/len(hosts)))
	n := min(len(hosts), max(1, (a.X+a.W-x0)/w))
	first, _ := part.Window(s.col, len(hosts), n)
	top, shown := part.Window(s.row, len(s.matrix.Rows), a.H-1)
	for i := range n {
		st := part.Subject
		if first+i == s.col {
			st = part.Strong | part.Bold | part.Underline
		}
		c.Within(x0+i*w, a.Y, w-1, st, hosts[first+i])
		c.Press(part.Rect(x0+i*w, a.Y, w, 1), cell{s.row, first + i})
	}
	c.Wheel(a, func(dy int) any { return turned(dy) })
	if rest := len(hosts) - first - n; rest > 0 {
		c.Right(a.X+a.W, a.Y, 6, part.Water|part.Bold, fmt.Sprintf(" %d›", rest))
	}
	if first > 0 {
		c.Put(a.X+1, a.Y, part.Water|part.Bold, fmt.Sprintf("‹%d", first))
	}
	for i := top; i < top+shown; i++ {
		y, r := a.Y+1+i-top, &s.matrix.Rows[i]
		if sev := r.Severity(); severe && sev > catalogue.Unknown {
			c.Within(a.X+name+2, y, severity-1, part.BySeverity(sev).Style, sev.String())
		}
		c.Within(a.X+2, y, name-1, part.Subject, r.Title())
		for j := range n {
			s.paintCell(f, c, r, news, hosts[first+j], part.Rect(x0+j*w, y, w, 1), i == s.row && first+j == s.col)
			c.Press(part.Rect(x0+j*w, y, w, 1), cell{i, first + j})
		}
		if i == s.row {
			c.Choose(part.Rect(a.X, y, a.W, 1), y, true)
		}
		c.Press(part.Rect(a.X, y, name, 1), cell{i, s.col})
	}
	if rest := len(s.matrix.Rows) - top - shown; rest > 0 {
		c.Put(a.X+2, a.Y+a.H, part.Quiet, fmt.Sprintf("%d more ↓", rest))
	}
}

// paintCell paints a verdict: its sign, and the version where there is room for it.
func (s *Screen) paintCell(f part.Frame, c *part.Canvas, r *view.Row, news drift.News, host string,
	a part.Area, here bool) {
	v, ok := r.ByHost[host]
	if !ok {
		st := part.Quiet
		if here {
			st |= part.Underline
		}
		bare := f.View.Bare(host, r)
		x := c.Put(a.X, a.Y, st, bareSign(bare))
		if a.W >= 9 && bare.Has != "" {
			c.Within(x+1, a.Y, a.X+a.W-2-x, st, bare.Has)
		}
		return
	}
	sg := part.SignOf(&v)
	st := sg.Style
	if here {
		st |= part.Underline | part.Bold
	}
	x := c.Put(a.X, a.Y, st, sg.Glyph)
	if news.Has(&v) {
		c.Put(a.X+a.W-2, a.Y, part.Caution|part.Bold, "•")
		a.W--
	}
	if a.W >= 9 && v.Has != "" && v.Outcome != drift.InLine {
		if a.W >= 12 {
			x++
		}
		c.Within(x, a.Y, a.X+a.W-1-x, st, v.Has)
	}
}

// bareSign is how a cell without a verdict is marked.
func bareSign(b view.Bare) string {
	switch {
	case b.Unread != "":
		return "?"
	case b.Has != "":
		return "∘"
	}
	return " "
}

// paintStory says in words what the cell under the cursor shows.
func (s *Screen) paintStory(f part.Frame, c *part.Canvas, a part.Area) {
	r, host := &s.matrix.Rows[s.row], s.host()
	col := part.NewColumn(c, part.Rect(a.X+1, a.Y, a.W-1, a.H))
	v, ok := r.ByHost[host]
	if !ok {
		col.Head(r.Title() + " on " + host)
		col.Line(0, part.Plain, host+": "+f.View.Bare(host, r).Says()+".")
		return
	}
	sg := part.SignOf(&v)
	says := v.Outcome.String()
	if v.Outcome.Drifts() && v.Severity() > catalogue.Unknown {
		says += ", " + v.Severity().String()
	}
	if a.H < 8 {
		x := c.Put(a.X+1, a.Y, sg.Style|part.Bold, sg.Glyph+" "+says)
		c.Put(x, a.Y, part.Plain, fmt.Sprintf("  %s on %s  has %s  wants %s", v.Title(), host, view.OrDash(v.Has),
			view.OrDash(v.Wants)))
		col.Y++
		why := f.View.Why(&v)
		for _, w := range why[max(0, len(why)-1):] {
			col.Line(2, part.Quiet, w)
		}
		return
	}
	col.Head(v.Title() + " on " + host)
	col.Line(0, sg.Style|part.Bold, sg.Glyph+" "+says)
	col.Line(0, part.Plain, "has "+view.OrDash(v.Has)+", wants "+view.OrDash(v.Wants))
	col.Gap()
	for _, w := range f.View.Why(&v) {
		col.Line(0, part.Plain, w)
	}
	col.Gap()
	s.paintOthers(f, col, r)
}

// paintOthers tells where the other hosts of the row stand, by what they have.
func (s *Screen) paintOthers(f part.Frame, col *part.Column, r *view.Row) {
	col.Head("across the cluster")
	by := map[string][]string{}
	var order []string
	for _, h := range s.matrix.Hosts {
		v, ok := r.ByHost[h]
		says := part.SignOf(&v).Glyph + " " + strings.TrimPrefix(v.Has+", ", ", ") + v.Outcome.String()
		if !ok {
			bare := f.View.Bare(h, r)
			if bare == (view.Bare{}) {
				continue
			}
			says = bareSign(bare) + " " + bare.Says()
		}
		if by[says] == nil {
			order = append(order, says)
		}
		by[says] = append(by[says], h)
	}
	for _, says := range order {
		col.Line(0, part.Plain, says+": "+strings.Join(by[says], ", "))
	}
}

// paintKin tells how siblings of one model differ.
func (s *Screen) paintKin(c *part.Canvas, a part.Area) {
	col := part.NewColumn(c, a)
	for _, k := range s.kin {
		switch {
		case len(k.Odd) == 0:
			col.Head(fmt.Sprintf("siblings %s: all %d alike", k.Model, k.Hosts))
		case k.Alike == 1:
			col.Head(fmt.Sprintf("siblings %s: %d hosts, no two alike; each beside what most have", k.Model, k.Hosts))
		default:
			col.Head(fmt.Sprintf("siblings %s: %d hosts, %d alike", k.Model, k.Hosts, k.Alike))
		}
		for _, o := range k.Odd {
			col.Line(1, part.Plain, strings.Join(o.Hosts, ", ")+": "+strings.Join(o.Differ, ", "))
		}
	}
	if col.Left() > 3 {
		col.Gap()
		col.Line(0, part.Quiet, part.Legend())
	}
}

// paintNothing says why the matrix has no row: nothing was judged, nothing disagrees, or the filter hides what does.
func (s *Screen) paintNothing(f part.Frame, c *part.Canvas, a part.Area) {
	m := &s.matrix
	switch {
	case m.Judged == 0:
		c.Put(a.X+2, a.Y+1, part.Caution|part.Bold, s.at.Cluster+": nothing is known to be in line")
		c.Put(a.X+2, a.Y+2, part.Quiet,
			"no baseline covers these hosts, or none of them was read; R reads them, b shows the baselines")
	case m.Hidden > 0:
		c.Put(a.X+2, a.Y+1, part.Caution|part.Bold,
			fmt.Sprintf("nothing to show among what matches “%s”: %d verdicts that are not in line are hidden",
				f.Typed, m.Hidden))
		c.Put(a.X+2, a.Y+2, part.Quiet, "Esc shows all")
	case len(m.Unjudged) > 0:
		c.Put(a.X+2, a.Y+1, part.Caution|part.Bold,
			fmt.Sprintf("%s: nothing disagrees where it was judged, %d verdicts are in line", s.at.Cluster, m.InLine))
		c.Within(a.X+2, a.Y+2, a.W-3, part.Plain, "nothing was judged of "+strings.Join(m.Unjudged, ", "))
		s.paintKin(c, part.Rect(a.X+1, a.Y+4, a.W-2, a.H-4))
	default:
		c.Put(a.X+2, a.Y+1, part.Good,
			fmt.Sprintf("%s: nothing disagrees, %d verdicts are in line", s.at.Cluster, m.InLine))
		s.paintKin(c, part.Rect(a.X+1, a.Y+3, a.W-2, a.H-3))
	}
}
