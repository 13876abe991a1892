package tui

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"yareharbour/export"
	"yareharbour/tui/part"
)

// line is a line of text to type in. ↑ and ↓ go through what was typed where the same was asked before.
type line struct {
	input textinput.Model
	past  []string // the last one last
	at    int      // which of it is shown; len(past): what is typed now
	now   string   // that, while another is shown
}

func newLine(text string, past []string) line {
	in := textinput.New()
	in.Prompt = ""
	in.SetValue(text)
	in.CursorEnd()
	in.Focus() // its command only makes a cursor blink, and ours does not
	return line{input: in, past: past, at: len(past)}
}

func (l *line) text() string { return strings.TrimSpace(l.input.Value()) }

func (l *line) set(text string) {
	l.input.SetValue(text)
	l.input.CursorEnd()
}

func (l *line) add(text string) { l.set(l.input.Value() + text) }

// take takes a key.
func (l *line) take(msg tea.KeyPressMsg) {
	by, ok := map[string]int{"up": -1, "down": 1}[msg.String()]
	if !ok {
		l.input, _ = l.input.Update(msg)
		return
	}
	if l.at == len(l.past) {
		l.now = l.input.Value()
	}
	if l.at = max(0, min(l.at+by, len(l.past))); l.at == len(l.past) {
		l.set(l.now)
		return
	}
	l.set(l.past[l.at])
}

// paintLine paints the label and what was typed at the bottom of the screen, and a hint beside it, or above it where it
// does not fit. What is wrong goes before the hint.
func (l *line) paintLine(m *Model, c *part.Canvas, label, hint, wrong string) {
	y := m.h - 1
	c.Fill(part.Rect(0, y, m.w, 1), part.Panel, ' ')
	x := c.Put(1, y, part.Water|part.Bold|part.Panel, label+": ")
	value, at := []rune(l.input.Value()), l.input.Position()
	shift := max(0, at-(m.w-x-4)) // what is typed last is seen
	x0 := x
	x = c.Put(x, y, part.Strong|part.Panel, string(value[min(shift, len(value)):]))
	if cursor := x0 + part.Width(string(value[min(shift, at):at])); cursor < x {
		c.Shade(cursor, y, 1, part.Underline|part.Bold)
	} else {
		c.Put(x, y, part.Strong|part.Underline|part.Panel, "▏")
	}
	style := part.Quiet
	if wrong != "" {
		hint, style = "! "+wrong, part.Strong
	} else if len(l.past) > 0 {
		hint += "; ↑ earlier ones"
	}
	if part.Width(hint) < m.w-x-6 {
		c.Right(m.w-1, y, m.w-x-4, style|part.Panel, hint)
		return
	}
	lines := part.Hang(hint, m.w-2)
	for i, text := range lines {
		y := m.h - 1 - len(lines) + i
		c.Fill(part.Rect(0, y, m.w, 1), part.Panel, ' ')
		c.Put(1, y, style|part.Panel, text)
	}
}

// keep remembers what was typed, whatever becomes of it.
func (m *Model) keep(asked, text string) {
	if text == "" {
		return
	}
	const most = 50
	was := slices.DeleteFunc(slices.Clone(m.typed[asked]), func(t string) bool { return t == text })
	m.typed[asked] = append(was[max(0, len(was)-most):], text)
}

// prompt is an Ask. It stays until what was typed could be taken, or until it is left; what was typed can be had back.
type prompt struct {
	line
	ask   part.Ask
	wrong string // why what was typed was not taken
	waits bool   // for what comes of it
}

// messages of prompts
type (
	answered struct {
		of  *prompt
		msg tea.Msg
	}
	completed struct {
		of         *prompt
		from, text string
		several    []string
	}
)

func (m *Model) newPrompt(a part.Ask) *prompt {
	return &prompt{line: newLine(a.Value, m.typed[a.Label]), ask: a}
}

func (p *prompt) key(m *Model, name string, _ int) tea.Msg {
	switch name {
	case "esc":
		m.leave()
	case "enter":
		if p.waits {
			return nil
		}
		text := p.text()
		m.keep(p.ask.Label, text)
		if p.ask.File {
			text = atHome(text)
		}
		return p.came(m, p.ask.Then(text))
	}
	return nil
}

// came takes in what came of what was typed.
func (p *prompt) came(m *Model, msg tea.Msg) tea.Msg {
	p.waits = false
	switch msg := msg.(type) {
	case part.Failed:
		if m.over == p {
			p.wrong = msg.Err.Error()
			return nil
		}
		return msg
	case tea.Cmd:
		p.waits = true
		return tea.Cmd(func() tea.Msg { return answered{p, msg()} })
	case func() tea.Msg:
		return p.came(m, tea.Cmd(msg))
	}
	if m.over == p {
		m.over = nil
	}
	return msg
}

func (p *prompt) take(m *Model, msg tea.KeyPressMsg) tea.Msg {
	switch name := msg.String(); name {
	case "esc", "enter":
		return p.key(m, name, -1)
	case "tab":
		return p.complete()
	}
	if p.waits {
		return nil
	}
	p.wrong = ""
	p.line.take(msg)
	return nil
}

// complete completes a path as far as there is but one way on.
func (p *prompt) complete() tea.Msg {
	if !p.ask.File {
		return nil
	}
	from := p.input.Value()
	i := strings.LastIndex(from, "=") + 1 // keyring=FILE
	return func() tea.Msg {
		path, several := completePath(from[i:])
		return completed{p, from, from[:i] + path, several}
	}
}

// atHome is a path with ~/ as the directory that it stands for.
func atHome(file string) string {
	if rest, ok := strings.CutPrefix(file, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	return file
}

func completePath(from string) (text string, several []string) {
	dir, begin := filepath.Split(from)
	at := atHome(cmp.Or(dir, "."))
	entries, err := os.ReadDir(at)
	if err != nil {
		return from, nil
	}
	for _, e := range entries {
		name := e.Name()
		if !strings.HasPrefix(name, begin) || begin == "" && strings.HasPrefix(name, ".") {
			continue
		}
		if st, err := os.Stat(filepath.Join(at, name)); err == nil && st.IsDir() {
			name += "/"
		}
		several = append(several, name)
	}
	if len(several) == 0 {
		return from, nil
	}
	same := part.Common(several)
	return dir + same, several
}

func (p *prompt) completed(msg completed) {
	if p.input.Value() != msg.from {
		return // something was typed meanwhile
	}
	p.wrong = ""
	p.set(msg.text)
	switch {
	case len(msg.several) == 0:
		p.wrong = "no file begins so"
	case len(msg.several) > 1:
		most := min(len(msg.several), 12)
		p.wrong = fmt.Sprintf("%d begin so: %s", len(msg.several), strings.Join(msg.several[:most], "  "))
		if most < len(msg.several) {
			p.wrong += " …"
		}
	}
}

func (p *prompt) paste(_ *Model, text string) tea.Msg { p.add(text); return nil }

func (p *prompt) paint(m *Model, c *part.Canvas) {
	hint := p.ask.Hint
	switch {
	case p.waits:
		hint = "…"
	case p.ask.File:
		hint += "; Tab completes"
	}
	p.paintLine(m, c, p.ask.Label, hint, p.wrong)
}

// write writes a file, over one that is there only after a yes.
func write(w part.Write) tea.Cmd {
	do := part.Try(func() (string, error) { return w.Says, export.WriteFile(w.File, w.Text) })
	return func() tea.Msg {
		if _, err := os.Stat(w.File); err != nil {
			return do()
		}
		return part.Confirm{Title: w.File + " is there already", Yes: "write over it", Lines: []string{"What it holds is lost."},
			Then: do}
	}
}

// leave takes away what lies over the screen; what was typed into it can be had back.
func (m *Model) leave() {
	switch o := m.over.(type) {
	case *prompt:
		m.keep(o.ask.Label, o.text())
	case *narrowing:
		m.keep(narrowTo, o.text())
	}
	m.over = nil
}

const narrowTo = "narrow to"

// narrowing is a filter that is typed; every view follows it.
type narrowing struct {
	line
	wrong string // what can't be understood
}

func newNarrowing(m *Model) *narrowing {
	return &narrowing{line: newLine(m.filter, m.typed[narrowTo])}
}

func (n *narrowing) key(m *Model, name string, _ int) tea.Msg {
	switch {
	case name == "esc":
		m.leave()
		return m.setFilter("")
	case name == "enter" && n.wrong == "": // else it stays until it can be understood, or Esc lets it go
		m.leave()
	}
	return nil
}

func (n *narrowing) take(m *Model, msg tea.KeyPressMsg) tea.Msg {
	if name := msg.String(); name == "esc" || name == "enter" {
		return n.key(m, name, -1)
	}
	n.line.take(msg)
	return n.typed(m)
}

func (n *narrowing) paste(m *Model, text string) tea.Msg { n.add(text); return n.typed(m) }

func (n *narrowing) typed(m *Model) tea.Msg {
	n.wrong = ""
	if _, err := m.understand(n.input.Value()); err != nil {
		n.wrong = err.Error()
	}
	return m.setFilter(n.input.Value())
}

func (n *narrowing) paint(m *Model, c *part.Canvas) {
	n.paintLine(m, c, narrowTo, "words, layer= severity= vendor= host= kind= class= hardware= verdict= age= used=, @kept; "+
		"Esc shows all", n.wrong)
}
