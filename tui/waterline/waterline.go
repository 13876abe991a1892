// Package waterline is the home screen: a band for each cluster with its hosts as berths along a waterline, load above
// it and drift below; and beside it what needs a person.
package waterline

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/survey"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// Screen is the Waterline.
type Screen struct {
	cluster, host string // of the cursor
	needs         bool   // the cursor is in the list of needs
	row           int    // in that list
}

// New opens it.
func New(p part.Place) *Screen { return &Screen{cluster: p.Cluster, host: p.Host} }

// Place implements part.Screen.
func (s *Screen) Place() part.Place {
	return part.Place{Screen: part.Waterline, Cluster: s.cluster, Host: s.host}
}

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{"Each band is a cluster, each column a host at its berth.",
		"Above the waterline is how much of its memory a host's guests take; ┄ is the limit up to which the " +
			"reserve can be kept, and beside it what is spare if the worst host fails.",
		"Below it is drift by layer (g+s: guests and settings together, where a band is low): ▿ out of line, ▾ " +
			"high severity, ▼ critical, ? unread, ¿ undecided, · in line, ~ excepted or not applying.",
		"More than four clusters fold into a line each, the worst first; the one with the cursor unfolds.",
		"Beside it is what needs a person: !! now, ! soon, · sometime, and for how long it has been so. Enter leads " +
			"to where it can be fixed."}
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	d := view.OfEstate(f.View, f.Filter)
	return &d
}

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	not := ""
	if len(f.View.Needs(f.Filter)) == 0 {
		not = "nothing needs you"
	}
	hint := "needs"
	if s.needs {
		hint = "picture"
	}
	none := ""
	if s.host == "" {
		none = "there is no host here"
	}
	return []part.Key{
		part.NewKey("tab", hint, "go between the picture and what needs a person", not, part.Flip(&s.needs)),
		part.NewKey("m", "", "close, restart, open or take over the host under the cursor by hand", none, func() tea.Msg {
			return part.Go{Screen: part.Host, Cluster: s.cluster, Host: s.host, What: part.ByHand{}}
		}),
	}
}

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	bands, needs := f.View.Arranged(f.Filter), f.View.Needs(f.Filter)
	switch msg := msg.(type) {
	case part.Shown:
		s.settle(bands, needs)
	case part.Step:
		if s.needs {
			s.row = part.Clamp(s.row+msg.DY, len(needs))
			s.needs = msg.DX >= 0
			return nil
		}
		s.step(bands, msg)
	case part.Enter:
		switch {
		case s.needs && len(needs) > 0:
			return see(f, needs[part.Clamp(s.row, len(needs))])
		case !s.needs && s.host != "":
			return part.Go{Screen: part.Host, Cluster: s.cluster, Host: s.host}
		}
	case berthPressed:
		if s.host == msg.host && !s.needs {
			return part.Go{Screen: part.Host, Cluster: msg.cluster, Host: msg.host}
		}
		s.cluster, s.host, s.needs = msg.cluster, msg.host, false
	case needPressed:
		if s.needs && s.row == int(msg) && s.row < len(needs) {
			return see(f, needs[s.row])
		}
		s.needs, s.row = true, int(msg)
	case bandTurned:
		s.step(bands, part.Step{DY: int(msg)})
	case needTurned:
		s.needs, s.row = true, part.Clamp(s.row+int(msg), len(needs))
	}
	return nil
}

// messages of the mouse
type (
	berthPressed struct{ cluster, host string }
	needPressed  int
	bandTurned   int
	needTurned   int
)

// settle puts the cursor on something that is there.
func (s *Screen) settle(bands []survey.Band, needs []survey.Need) {
	if len(needs) == 0 {
		s.needs = false
	}
	s.row = part.Clamp(s.row, len(needs))
	for _, b := range bands {
		for _, h := range b.Berths {
			if h.Host == s.host {
				s.cluster = b.Cluster.Name
				return
			}
		}
	}
	s.cluster, s.host = "", ""
	if len(bands) > 0 {
		s.cluster, s.host = bands[0].Cluster.Name, bands[0].Berths[0].Host
	}
}

// at is where the cursor stands: the band, and the berth in it.
func (s *Screen) at(bands []survey.Band) (band, berth int) {
	for i, b := range bands {
		for j, h := range b.Berths {
			if h.Host == s.host {
				return i, j
			}
		}
	}
	return 0, 0
}

func (s *Screen) step(bands []survey.Band, d part.Step) {
	if len(bands) == 0 {
		return
	}
	band, berth := s.at(bands)
	band = part.Clamp(band+d.DY, len(bands))
	berth = part.Clamp(berth+d.DX, len(bands[band].Berths))
	s.cluster, s.host = bands[band].Cluster.Name, bands[band].Berths[berth].Host
}

// berths are sized so that a host's name can be read.
const (
	gutter   = 6 // left of the berths: what a row is about
	minBerth = 7
	maxBerth = 18
)

// View implements part.Screen.
func (s *Screen) View(f part.Frame, c *part.Canvas, a part.Area) {
	bands := f.View.Arranged(f.Filter)
	needs := part.Area{}
	if a.W >= 120 {
		needs = part.Rect(a.W-a.W/3, a.Y, a.W/3, a.H)
		a.W -= needs.W + 1
	} else {
		rows := min(len(f.View.Needs(f.Filter))+1, max(2, a.H/4))
		if s.needs { // one or the other: there is no room for both
			s.paintNeeds(f, c, a)
			return
		}
		needs = part.Rect(a.X, a.Y+a.H-rows, a.W, rows)
		a.H -= rows
	}
	s.paintNeeds(f, c, needs)
	if len(bands) == 0 {
		c.Put(a.X+2, a.Y+1, part.Quiet, "no host matches “"+f.Typed+"”; Esc shows all")
		return
	}
	detail := 3 // rows at the bottom
	if a.H < 30 {
		detail = 2
	}
	at, _ := s.at(bands)
	c.Wheel(a, func(dy int) any { return bandTurned(dy) })
	picture := part.Rect(a.X, a.Y, a.W, a.H-detail)
	if f.View.Folded() {
		s.paintFolded(f, c, bands, at, picture)
	} else {
		s.paintBands(f, c, bands, at, picture)
	}
	s.paintDetail(f, c, bands[at], part.Rect(a.X, a.Y+a.H-detail+1, a.W, detail-1))
}

// least is how many rows the smallest band has that can be read.
const least = 7

// paintBands paints as many bands as there is room for about the one with the cursor.
func (s *Screen) paintBands(f part.Frame, c *part.Canvas, bands []survey.Band, at int, a part.Area) {
	shown := max(1, min(len(bands), a.H/least))
	each := min(14, a.H/shown)
	first, _ := part.Window(at, len(bands), shown)
	for i := first; i < min(len(bands), first+shown); i++ {
		s.paintBand(f, c, bands[i], part.Rect(a.X, a.Y+(i-first)*each, a.W, max(each-1, least)), i == at && !s.needs)
	}
	if first+shown < len(bands) {
		c.Right(a.X+a.W-1, a.Y+a.H, 30, part.Quiet, fmt.Sprintf("↓ %d more below", len(bands)-first-shown))
	}
}

// paintFolded paints the cluster with the cursor as a band, and each of the others as a line.
func (s *Screen) paintFolded(f part.Frame, c *part.Canvas, bands []survey.Band, at int, a part.Area) {
	tall := max(least, min(12, a.H-len(bands)))
	first, shown := part.Window(at, len(bands), max(1, a.H-tall))
	y := a.Y
	for i := first; i < first+shown; i++ {
		if i == at {
			s.paintBand(f, c, bands[i], part.Rect(a.X, y, a.W, tall-1), !s.needs)
			y += tall
			continue
		}
		paintLine(f, c, bands[i], part.Rect(a.X, y, a.W, 1))
		c.Press(part.Rect(a.X, y, a.W, 1), berthPressed{bands[i].Cluster.Name, bands[i].Berths[0].Host})
		y++
	}
	if rest := len(bands) - first - shown; rest > 0 {
		c.Right(a.X+a.W-1, a.Y+a.H, 30, part.Quiet, fmt.Sprintf("↓ %d more below", rest))
	}
}

// paintLine says of a cluster in a line what its band shows: hosts, load and limit, the worst depth, what is not known,
// its round and the age of its readings.
func paintLine(f part.Frame, c *part.Canvas, b survey.Band, a part.Area) {
	name := max(10, min(18, a.W/6))
	c.Within(a.X+1, a.Y, name, part.Water|part.Bold, b.Cluster.Name)
	x := a.X + name + 2
	c.Right(x+9, a.Y, 9, part.Plain, catalogue.Some(len(b.Berths), "host"))
	x += 11
	const bar = 8
	full := int(b.Load*bar + 0.5)
	c.Fill(part.Rect(x, a.Y, bar, 1), part.Quiet, '·')
	c.Fill(part.Rect(x, a.Y, min(full, bar), 1), part.Loads, '▆')
	if at := int(b.Limit * bar); b.Limit > 0 && at < bar {
		c.Put(x+at, a.Y, part.Limits, "┊")
	}
	x = c.Put(x+bar+1, a.Y, part.Plain, fmt.Sprintf("%3.0f%%", 100*b.Load)) + 2
	sign, adrift := part.BySeverity(b.Worst()), "in line"
	style := part.Quiet
	if b.Adrift > 0 {
		adrift, style = fmt.Sprintf("%s %d adrift", sign.Glyph, b.Adrift), sign.Style
	} else if b.InLine == 0 {
		adrift = "–"
	}
	c.Within(x, a.Y, 14, style, adrift)
	x += 14
	end := a.X + a.W - 1
	if ago := f.ReadAgo(b.ReadAt); end-x > 40 {
		end = c.Right(end, a.Y, part.Width(ago), part.Quiet, ago) - part.Width(ago) - 2
	}
	tell := func(st part.Style, text string) {
		if x+part.Width(text) <= end {
			x = c.Put(x, a.Y, st, text) + 2
		}
	}
	if b.Reserve.Outcome == fit.DoesNotFit {
		tell(part.Alarm|part.Bold, "reserve NOT KEPT")
	}
	if r := b.Round; r != nil && r.Status != course.Finished {
		tell(map[bool]part.Style{true: part.Alarm | part.Bold, false: part.Strong}[r.Status == course.Failing], "round "+string(r.Status))
	}
	for _, n := range counts(b) {
		tell(part.Caution, n)
	}
}

// counts are the hosts of a band of which something is to be known, in words.
func counts(b survey.Band) (out []string) {
	for _, n := range []struct {
		n    int
		word string
	}{{b.Unasked, "not covered"}, {b.Unread, "unread"}, {b.Undecided, "undecided"}, {b.Out, "out"}} {
		if n.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", n.n, n.word))
		}
	}
	return out
}

func (s *Screen) paintBand(f part.Frame, c *part.Canvas, b survey.Band, a part.Area, active bool) {
	paintTitle(f, c, b, a, active)
	strata := strataFor(a.H)
	above := a.H - 2 - len(strata) // rows for the load; one for the line, one for the title
	line := a.Y + 1 + above
	w, first, n := window(b, a.W-gutter-2, s.host)
	x0 := a.X + gutter
	c.Fill(part.Rect(a.X+1, line, a.W-2, 1), part.Water, '━')
	limit := line - 1 - int(b.Limit*float64(above))
	if b.Limit > 0 && limit >= a.Y+1 && limit < line {
		c.Put(a.X+1, limit, part.Limits, "limit")
		c.Fill(part.Rect(x0, limit, w*n, 1), part.Limits, '┄')
		paintLimit(c, b, part.Rect(x0+w*n, limit, a.W-gutter-w*n-1, line-limit))
	}
	for i, t := range strata {
		c.Put(a.X+1, line+1+i, part.Quiet, t.name)
	}
	for i := range n {
		h := b.Berths[first+i]
		paintBerth(c, h, part.Rect(x0+i*w, a.Y+1, w, above), line, strata, active && h.Host == s.host)
		c.Press(part.Rect(x0+i*w, a.Y+1, w, a.H-1), berthPressed{b.Cluster.Name, h.Host})
	}
	if first > 0 {
		c.Put(a.X, line, part.Water|part.Bold, fmt.Sprintf("‹%d", first))
	}
	if rest := len(b.Berths) - first - n; rest > 0 {
		c.Right(a.X+a.W, line, 6, part.Water|part.Bold, fmt.Sprintf("%d›", rest))
	}
}

// paintLimit says beside the limit what it is: how much, and below it which failure sets it and what stays spare then.
func paintLimit(c *part.Canvas, b survey.Band, a part.Area) {
	if a.W < 5 {
		return
	}
	c.Within(a.X, a.Y, a.W, part.Limits, fmt.Sprintf(" %.0f%%", 100*b.Limit))
	if b.Spare.Room.MemoryMiB <= 0 || a.W < 14 {
		return
	}
	for i, l := range part.Wrap("if "+strings.Join(b.Spare.Lost, ", ")+" fails, "+fit.GiB(b.Spare.Room.MemoryMiB)+
		" stay spare", a.W-1) {
		if i+1 < a.H {
			c.Within(a.X+1, a.Y+1+i, a.W-1, part.Quiet, l)
		}
	}
}

func paintTitle(f part.Frame, c *part.Canvas, b survey.Band, a part.Area, active bool) {
	st := part.Water | part.Bold
	if active {
		st |= part.Underline
	}
	x := c.Put(a.X+1, a.Y, st, b.Cluster.Name)
	right := fmt.Sprintf("%d in line  %d adrift", b.InLine, b.Adrift)
	if b.Adrift > 0 && b.Planned && a.W >= 90 {
		right += fmt.Sprintf(", %d ready", b.Ready)
	}
	for _, n := range counts(b) {
		right += "  " + n
	}
	if ago := "  " + f.ReadAgo(b.ReadAt); a.W-3-part.Width(right+ago)-(x-a.X) > 18 { // the reserve is worth more
		right += ago
	}
	c.Right(a.X+a.W-1, a.Y, part.Width(right), part.Quiet, right)
	room := a.W - 3 - part.Width(right) - (x - a.X)
	role, word := part.Good, "kept"
	switch b.Reserve.Outcome {
	case fit.DoesNotFit:
		role, word = part.Alarm|part.Bold, "NOT KEPT"
	case fit.Unproven:
		role, word = part.Caution, "unproven"
	}
	head := "  " + catalogue.Some(len(b.Berths), "host") + "  " + b.Guests.Says()
	if n := len(b.Blind); n > 0 {
		head += fmt.Sprintf(" known, %d hosts' never read", n)
		if n == 1 {
			head = strings.Replace(head, "1 hosts'", b.Blind[0]+"'s", 1)
		}
		role, word = part.Caution, "not known"
	}
	if !b.Cluster.Act {
		head += "  look only"
	}
	switch {
	case room > part.Width(head)+part.Width(" reserve of 00 NOT KEPT  "):
		x = c.Put(x, a.Y, part.Plain, head+fmt.Sprintf("  reserve of %d ", b.Cluster.Reserve))
		c.Put(x, a.Y, role, word)
	case room > 18:
		x = c.Put(x, a.Y, part.Plain, "  reserve ")
		c.Put(x, a.Y, role, word)
	}
}

// window fits berths into w cells: how wide each is, the first shown and how many are. The host with the cursor is
// among them.
func window(b survey.Band, w int, host string) (width, first, n int) {
	n = len(b.Berths)
	least := minBerth
	for _, h := range b.Berths {
		least = max(least, min(13, part.Width(h.Host)+2))
	}
	const aside = 26 // cells for what the limit means
	width = max(min(maxBerth, (w-aside)/n), min(13, w/n))
	if width < least {
		const mark = 4 // cells for how many more there are
		width = least
		shown := max(1, (w-mark)/width)
		for i, h := range b.Berths {
			if h.Host == host {
				first, _ = part.Window(i, n, shown)
			}
		}
		n = min(n-first, shown)
	}
	return width, first, n
}

func paintBerth(c *part.Canvas, h survey.Berth, a part.Area, line int, strata []stratum, here bool) {
	bar := min(max(5, a.W/2), a.W-3)
	x := a.X + (a.W-bar)/2
	switch h.Service {
	case survey.Open:
		full := int(h.Memory * float64(a.H) * 8)
		for row := range a.H {
			if e := max(0, min(8, full-8*row)); e > 0 {
				c.Fill(part.Rect(x, line-1-row, bar, 1), part.Loads, part.Eighths[e])
			}
		}
		top := max(line-1-(full+7)/8, a.Y) // a host always has its number
		c.Centre(a.X, top, a.W, part.Quiet, fmt.Sprintf("%.0f%%", 100*h.Memory))
	case survey.Closed:
		c.Fill(part.Rect(x, a.Y+a.H/2, bar, a.H-a.H/2), part.Quiet, '░')
		c.Centre(a.X, line-1, a.W, part.Caution|part.Bold, "closed")
	case survey.Away:
		c.Centre(a.X, line-1, a.W, part.Caution, string(h.Service))
	default:
		c.Centre(a.X, line-1, a.W, part.Alarm|part.Bold, string(h.Service))
	}
	if h.Step != "" {
		c.Centre(a.X, a.Y, a.W, part.Strong|part.Bold, "▸"+string(h.Step))
	}
	st := part.Subject
	if here {
		st = part.Strong | part.Bold | part.Selected
	}
	c.Centre(a.X, line, a.W, st, h.Host)
	if here {
		c.Put(a.X+max(0, (a.W-part.Width(h.Host))/2-1), line, part.Strong|part.Bold, "▸")
	}
	for i, s := range strata {
		paintDepth(c, s.depth(h), a.X, line+1+i, a.W)
	}
}

// stratum is a row below the waterline: a layer, or several where a band is low.
type stratum struct {
	name   string
	layers []estate.Layer
}

func strataFor(height int) []stratum {
	own := []stratum{
		{"plat", []estate.Layer{estate.Platform}},
		{"drv", []estate.Layer{estate.Driver}},
		{"fw", []estate.Layer{estate.Firmware}},
	}
	const tall = 11
	if height < tall {
		return append(own, stratum{"g+s", []estate.Layer{estate.Inside, estate.Settings}})
	}
	return append(own, stratum{"guest", []estate.Layer{estate.Inside}}, stratum{"set", []estate.Layer{estate.Settings}})
}

// depth is how deep a host lies in the stratum.
func (s stratum) depth(h survey.Berth) (d survey.Depth) {
	for _, l := range s.layers {
		x := h.Depth[l]
		d.Drift, d.Unread, d.Worst = d.Drift+x.Drift, d.Unread || x.Unread, max(d.Worst, x.Worst)
		d.Undecided = d.Undecided || x.Undecided
		d.InLine, d.Aside = d.InLine+x.InLine, d.Aside+x.Aside
	}
	return d
}

// paintDepth paints how deep a host lies in one layer: a mark for each thing out of line, and a number where they are
// many.
func paintDepth(c *part.Canvas, d survey.Depth, x, y, w int) {
	sg, open := part.BySeverity(d.Worst), ""
	if d.Undecided {
		open = part.Signs[drift.Undecided].Glyph
	}
	switch {
	case d.Unread:
		c.Centre(x, y, w, part.Alarm|part.Bold, "?")
	case d.Undecided && d.Drift == 0:
		c.Centre(x, y, w, part.Caution|part.Bold, open)
	case d.Drift == 0 && d.InLine > 0:
		c.Centre(x, y, w, part.Quiet, "·")
	case d.Drift == 0 && d.Aside > 0:
		c.Centre(x, y, w, part.Quiet, "~")
	case d.Drift == 0: // no baseline covers it
	case d.Drift <= 3:
		c.Centre(x, y, w, sg.Style, strings.Repeat(sg.Glyph, d.Drift)+open)
	default:
		c.Centre(x, y, w, sg.Style, fmt.Sprintf("%s%s%d%s", sg.Glyph, sg.Glyph, d.Drift, open))
	}
}

// paintDetail says in words what the picture shows of the host under the cursor, and what its cluster's limit means.
func (s *Screen) paintDetail(f part.Frame, c *part.Canvas, b survey.Band, a part.Area) {
	for _, h := range b.Berths {
		if h.Host == s.host {
			x := c.Put(a.X+1, a.Y, part.Strong|part.Bold, h.Host)
			c.Within(x, a.Y, a.W-(x-a.X)-1, part.Plain, berthWords(h, f.View.Readings[h.Host]))
		}
	}
	if a.H < 2 {
		return
	}
	x := c.Put(a.X+1, a.Y+1, part.Limits|part.Bold, "limit")
	c.Within(x, a.Y+1, a.W-(x-a.X)-1, part.Quiet, "  "+limitWords(b))
}

func limitWords(b survey.Band) string {
	switch {
	case b.Cluster.Reserve == 0:
		return b.Cluster.Name + " keeps no host in reserve: no room is kept for one that fails"
	case b.Reserve.Outcome == fit.DoesNotFit:
		return fmt.Sprintf("not all guests of %s find room when a host fails: %s",
			b.Cluster.Name, b.Reserve.Obstacle)
	case b.Spare.Room.MemoryMiB <= 0:
		return fmt.Sprintf("up to %.0f%% of its memory the cluster survives the loss of %s",
			100*b.Limit, catalogue.Some(b.Cluster.Reserve, "host"))
	}
	return fmt.Sprintf("up to %.0f%% of its memory the cluster survives the loss of %s; worst case %s: %s spare",
		100*b.Limit, catalogue.Some(b.Cluster.Reserve, "host"), strings.Join(b.Spare.Lost, ", "), fit.GiB(b.Spare.Room.MemoryMiB))
}

func berthWords(h survey.Berth, r *estate.Reading) string {
	if r == nil {
		return "  never read"
	}
	s := fmt.Sprintf("  %s  %s  memory %.0f%%  cpu %.0f%%", r.Hardware.Model, h.Guests.Says(),
		100*h.Memory, 100*h.CPU)
	if h.InLine() {
		s += "  in line"
	} else {
		s += fmt.Sprintf("  %d out of line", h.Drift)
	}
	worst := catalogue.Unknown
	for _, d := range h.Depth {
		worst = max(worst, d.Worst)
	}
	if worst > catalogue.Unknown {
		s += ", " + worst.String() + " at worst"
	}
	if h.Unread > 0 {
		s += fmt.Sprintf("  %d unread", h.Unread)
	}
	if h.Undecided > 0 {
		s += fmt.Sprintf("  %d undecided", h.Undecided)
	}
	if h.Mark != nil {
		s += fmt.Sprintf("  closed by %s: %s", h.Mark.By, h.Mark.Reason)
	}
	return s
}
