package tui

import (
	"fmt"
	"strings"
	"time"

	"yareharbour/core/survey"
	"yareharbour/tui/part"
)

// toastFor is how long something that was said stays.
const toastFor = 6 * time.Second

// paint paints the whole frame: the top line, the screen, what was said, the keys, and what lies over them.
func (m *Model) paint() *part.Canvas {
	c := part.NewCanvas(m.w, m.h)
	m.paintTop(c)
	body := part.Rect(0, 1, m.w, m.h-2)
	switch {
	case m.view == nil && m.failed != nil:
		m.paintFailed(c, body)
	case m.view == nil:
		c.Centre(0, m.h/2, m.w, part.Quiet, "opening the estate …")
	case len(m.view.Survey.Bands) == 0:
		paintEmpty(c, body)
	default:
		m.top().View(m.frame(), c, m.paintFaults(c, body))
	}
	m.paintKeys(c)
	m.paintToast(c)
	if m.over != nil {
		m.over.paint(m, c)
	}
	return c
}

// paintTop says where one stands, and the estate's time.
func (m *Model) paintTop(c *part.Canvas) {
	c.Fill(part.Rect(0, 0, m.w, 1), part.Bar, 0)
	x := c.Put(1, 0, part.Water|part.Bold|part.Bar, "Yare Harbour")
	c.Press(part.Rect(0, 0, x, 1), pressKey("w"))
	p := m.top().Place()
	trail := "  " + p.Screen
	for _, s := range []string{p.Cluster, p.Host, p.Subject} {
		if s != "" && p.Screen != part.Waterline {
			trail += " › " + s
		}
	}
	x = c.Put(x, 0, part.Strong|part.Bar, trail)
	if m.view == nil {
		return
	}
	right := m.view.At().Format("Mon 2 Jan 15:04")
	if m.view.Speed > 1 {
		right = fmt.Sprintf("simulated, %s ×%.0f", right, m.view.Speed)
	}
	if m.reading != nil {
		right = fmt.Sprintf("reading %d of %d  %s", m.reading.done, m.reading.total, right)
	}
	if m.job != nil {
		right = m.job.title + ": " + m.job.says + " (X ends it)"
	}
	if m.filter != "" {
		idle := ""
		// which hold more than hosts do
		if len(m.idle) > 0 && p.Screen != part.Catalogue && p.Screen != part.Baselines {
			idle = ", nothing answers to " + strings.Join(m.idle, ", ")
		}
		right = "narrowed to “" + m.filter + "”" + idle + "  " + right
	}
	room := m.w - x - 3
	if name := m.view.Survey.Name; p.Screen == part.Waterline && part.Width(name)+part.Width(right)+4 < room {
		c.Put(x+2, 0, part.Quiet|part.Bar, name)
	}
	c.Right(m.w-1, 0, room, part.Plain|part.Bar, right)
}

// paintFaults says above a screen why no verdict on it can be trusted, and returns what is left of the area. The
// Waterline says it among what needs a person.
func (m *Model) paintFaults(c *part.Canvas, a part.Area) part.Area {
	if len(m.view.Faults) == 0 || m.top().Place().Screen == part.Waterline {
		return a
	}
	lines := part.Wrap("! "+survey.Untrusted+m.view.Faults[0], a.W-2)
	lines = lines[:min(len(lines), 2)]
	for i, l := range lines {
		c.Within(a.X+1, a.Y+i, a.W-2, part.Alarm|part.Bold, l)
	}
	return part.Rect(a.X, a.Y+len(lines), a.W, a.H-len(lines))
}

// paintKeys shows what can be done here and now.
func (m *Model) paintKeys(c *part.Canvas) {
	x, y := 1, m.h-1
	for _, k := range m.keys() {
		if k.Hint == "" || k.Not != "" {
			continue
		}
		if x+part.Width(keyName(k.Key)+k.Hint)+3 > m.w {
			continue // a shorter one may fit
		}
		end := c.Put(x, y, part.Water|part.Bold, keyName(k.Key))
		end = c.Put(end+1, y, part.Quiet, k.Hint)
		c.Press(part.Rect(x, y, end-x, 1), pressKey(k.Key))
		x = end + 2
	}
}

// paintToast says above the keys what was said last, or that the last look failed.
func (m *Model) paintToast(c *part.Canvas) {
	says, st := m.toast.Text, part.Strong|part.Bold|part.Panel
	if m.toast.Undo != nil {
		says += "  (U takes it back)"
	}
	if says == "" || m.now.Sub(m.toast.at) > toastFor {
		if m.failed == nil || m.view == nil {
			return
		}
		says, st = "! what is shown may be old: "+m.failed.Error(), part.Alarm|part.Bold|part.Panel
	}
	lines := part.Wrap(says, m.w-2)
	lines = lines[:min(len(lines), 3)]
	for i, l := range lines {
		y := m.h - 1 - len(lines) + i
		c.Fill(part.Rect(0, y, m.w, 1), part.Panel, ' ')
		c.Put(1, y, st, l)
	}
}

func keyName(key string) string {
	switch key {
	case "enter":
		return "⏎"
	case "esc":
		return "Esc"
	case "tab":
		return "Tab"
	case "space":
		return "Space"
	case "ctrl+s":
		return "Ctrl+S"
	case "ctrl+e":
		return "Ctrl+E"
	}
	return key
}

func (m *Model) paintFailed(c *part.Canvas, a part.Area) {
	c.Put(a.X+2, a.Y+1, part.Alarm|part.Bold, "The estate can't be opened.")
	col := part.NewColumn(c, part.Rect(a.X+2, a.Y+3, a.W-3, a.H-3))
	col.Line(0, part.Plain, m.failed.Error())
	col.Gap()
	col.Line(0, part.Quiet, "It is retried automatically. q closes the screens.")
}

func paintEmpty(c *part.Canvas, a part.Area) {
	c.Put(a.X+2, a.Y+1, part.Strong|part.Bold, "There is no cluster in this estate yet.")
	col := part.NewColumn(c, part.Rect(a.X+2, a.Y+3, a.W-3, a.H-3))
	col.Line(
		0,
		part.Plain,
		"Write clusters with their hosts into the estate file, then open it again; docs/formats.md describes the "+
			"file, and \"yare estate init\" asks for what it needs and writes it. \"yare demo\" shows a "+
			"simulated estate meanwhile.",
	)
}
