package tui

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"yareharbour/tui/part"
)

// overlay is what lies over the screen, or is typed below it, and takes every key meanwhile.
type overlay interface {
	// key takes a key, or a click on the line with the number; -1 for none.
	key(m *Model, name string, line int) tea.Msg
	paint(m *Model, c *part.Canvas)
}

// typing is an overlay in which text is typed.
type typing interface {
	overlay
	take(m *Model, msg tea.KeyPressMsg) tea.Msg
	paste(m *Model, text string) tea.Msg
}

// picked is a click on a line of a box.
type picked int

// finder finds commands and places by name.
type finder struct {
	line
	chosen int
}

func newFinder() *finder { return &finder{line: newLine("", nil)} }

func (f *finder) key(m *Model, name string, at int) tea.Msg {
	found := m.found(f.text())
	switch name {
	case "esc":
		m.over = nil
	case "up":
		f.chosen = part.Clamp(f.chosen-1, len(found))
	case "down":
		f.chosen = part.Clamp(f.chosen+1, len(found))
	case "enter":
		if at >= 0 {
			f.chosen = at
		}
		m.over = nil
		if len(found) == 0 {
			return part.Tell("nothing is called %s", f.text())
		}
		return m.perform(found[part.Clamp(f.chosen, len(found))])
	}
	return nil
}

func (f *finder) take(m *Model, msg tea.KeyPressMsg) tea.Msg {
	switch name := msg.String(); name {
	case "esc", "enter", "up", "down":
		return f.key(m, name, -1)
	}
	f.input, _ = f.input.Update(msg)
	f.chosen = 0
	return nil
}

func (f *finder) paste(_ *Model, text string) tea.Msg { f.add(text); f.chosen = 0; return nil }

func (f *finder) paint(m *Model, c *part.Canvas) {
	found := m.found(f.text())
	first, shown := part.Window(part.Clamp(f.chosen, len(found)), len(found), min(14, m.h-6))
	var lines []string
	for _, k := range found[first : first+shown] {
		name := k.Name
		if k.Not != "" {
			name += " – not now: " + k.Not
		}
		lines = append(lines, fmt.Sprintf("%-6s  %s", keyName(k.Key), name))
	}
	if len(lines) == 0 {
		lines = []string{"nothing is called that"}
	}
	a := paintBox(m, c, "Find", lines, part.Clamp(f.chosen, len(found))-first)
	for i := range lines {
		c.Press(part.Rect(a.X, a.Y+1+i, a.W, 1), picked(first+i))
	}
	f.paintLine(m, c, "find", "↑↓ choose, Enter does it, Esc leaves", "")
}

// question is a Confirm: every key but y is a no.
type question struct{ part.Confirm }

func (q *question) key(m *Model, name string, _ int) tea.Msg {
	m.over = nil
	if name == "y" {
		return q.Then
	}
	return part.Tell("nothing was done")
}

func (q *question) paint(m *Model, c *part.Canvas) {
	paintBox(m, c, q.Title, append(slices.Clone(q.Lines), "", "y  "+q.Yes+"      Enter, Esc or any other key  no"), -1)
}

// choice is a Choose: a number or Enter chooses, and every other key but those of the cursor leaves it.
type choice struct {
	part.Choose
	at int
}

func (q *choice) key(m *Model, name string, clicked int) tea.Msg {
	if s, ok := steps[name]; ok && clicked < 0 {
		q.at = part.Clamp(q.at+s.DY, len(q.Options))
		return nil
	}
	m.over = nil
	for i, o := range q.Options {
		if name == fmt.Sprint(i+1) || i == clicked || name == "enter" && i == q.at && clicked < 0 {
			return o.Then
		}
	}
	return part.Tell("nothing was done")
}

func (q *choice) paint(m *Model, c *part.Canvas) {
	var lines []string
	inner := min(m.w-6, 76)
	for _, l := range q.Lines {
		lines = append(lines, part.Hang(l, inner)...)
	}
	if len(lines) > 0 {
		lines = append(lines, "")
	}
	first := len(lines)
	for i, o := range q.Options {
		lines = append(lines, fmt.Sprintf("%-*d  %s", len(fmt.Sprint(len(q.Options))), i+1, o.Says))
	}
	a := paintBox(m, c, q.Title, append(lines, "", "a number, or ↑↓ and Enter  chooses      Esc  leaves"), first+q.at)
	for i := range q.Options {
		c.Press(part.Rect(a.X, a.Y+1+first+i, a.W, 1), picked(i))
	}
}

// sheet is a Sheet: any key takes it away.
type sheet struct{ part.Sheet }

func (s *sheet) key(m *Model, _ string, _ int) tea.Msg { m.over = nil; return nil }

func (s *sheet) paint(m *Model, c *part.Canvas) {
	lines := s.Lines
	if most := m.h - 6; len(lines) > most {
		lines = append(slices.Clone(lines[:most-1]), fmt.Sprintf("and %d more", len(s.Lines)-most+1))
	}
	paintBox(m, c, s.Title, append(slices.Clone(lines), "", "any key  goes back"), -1)
}

// help tells what is shown here, and what can be done.
type help struct{ top int }

func (h *help) key(m *Model, name string, _ int) tea.Msg {
	if s, ok := steps[name]; ok {
		h.top = max(0, h.top+s.DY)
		return nil
	}
	m.over = nil
	return nil
}

func (h *help) paint(m *Model, c *part.Canvas) {
	inner := min(m.w-6, 76)
	var lines []string
	for _, l := range m.top().Help() {
		lines = append(lines, part.Hang(l, inner)...)
	}
	lines = append(lines, "")
	lines = append(
		lines,
		part.Hang(
			"↑↓←→ or hjkl  move; PgUp, PgDn, Home, End too; the mouse points, its wheel scrolls, and a "+
				"click on a heading sorts",
			inner,
		)...)
	for _, k := range m.keys() {
		lines = append(lines, part.Hang(fmt.Sprintf("%-6s  %s", keyName(k.Key), k.Name), inner)...)
	}
	room := m.h - 4
	if top := max(0, min(h.top, len(lines)-room)); len(lines) > room {
		rest := len(lines) - top - room + 1
		lines = lines[top:min(len(lines), top+room)]
		if rest > 1 {
			lines = append(slices.Clone(lines[:len(lines)-1]), fmt.Sprintf("↓ %d more lines", rest))
		}
	}
	paintBox(m, c, "Help: "+m.top().Place().Screen, lines, -1)
}

// chooser asks in which form the view is exported.
type chooser struct{}

func (chooser) key(m *Model, name string, at int) tea.Msg {
	m.over = nil
	for i, f := range exportFormats {
		if f.key == name || i == at {
			return m.export(f.format)
		}
	}
	return part.Tell("nothing was exported")
}

func (chooser) paint(m *Model, c *part.Canvas) {
	var lines []string
	for _, f := range exportFormats {
		lines = append(lines, f.key+"  "+f.name)
	}
	a := paintBox(m, c, "Export this view as", append(lines, "", "Esc leaves"), -1)
	for i := range exportFormats {
		c.Press(part.Rect(a.X, a.Y+1+i, a.W, 1), picked(i))
	}
}

// paintBox paints lines in a frame in the middle of the screen; the chosen line stands out. The mouse reaches nothing
// below it.
func paintBox(m *Model, c *part.Canvas, title string, lines []string, chosen int) part.Area {
	inner := min(m.w-6, 76)
	var out []string
	for _, l := range lines {
		if l == "" || chosen >= 0 {
			out = append(out, l)
			continue
		}
		out = append(out, part.Hang(l, inner)...)
	}
	w := part.Width(title) + 2
	for _, l := range out {
		w = max(w, min(part.Width(l), inner))
	}
	h := min(len(out), m.h-2)
	a := part.Rect((m.w-w-4)/2, max(0, (m.h-h-2)/2), w+4, h+2)
	c.Cover()
	c.Fill(a, part.Panel, ' ')
	c.Fill(part.Rect(a.X, a.Y, a.W, 1), part.Water|part.Panel, '─')
	c.Fill(part.Rect(a.X, a.Y+a.H-1, a.W, 1), part.Water|part.Panel, '─')
	c.Put(a.X+2, a.Y, part.Water|part.Bold|part.Panel, " "+title+" ")
	for i := range h {
		st := part.Plain | part.Panel
		if i == chosen {
			st = part.Strong | part.Bold | part.Selected
			c.Put(a.X, a.Y+1+i, st, "▸")
		}
		c.Within(a.X+2, a.Y+1+i, w, st, out[i])
	}
	return a
}
