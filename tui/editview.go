package tui

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"charm.land/bubbles/v2/textarea"
	tea "charm.land/bubbletea/v2"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
)

// editor is a baseline's text under the hands of a person, and what it would do.
type editor struct {
	name   string
	after  int // the version that it is made from
	was    string
	why    string // proposed
	text   textarea.Model
	turn   int // counts the keys: an effect that was told for an earlier one is let go
	effect drift.Effect
	amiss  []baseline.Problem // names in it that are not there
	wrong  string             // why the text can't be read
	told   int                // the turn of which the effect is
	took   time.Duration
	saved  bool
}

// messages of the editor
type (
	editMsg struct {
		name, text, why string
		after           int
	}
	effectMsg struct {
		turn   int
		effect drift.Effect
		amiss  []baseline.Problem
		err    error
		took   time.Duration
	}
	editedMsg struct { // in $EDITOR
		file string
		err  error
	}
	savedMsg struct {
		name string
		err  error
	}
)

// editHere edits the baseline under the cursor in place.
func (m *Model) editHere() tea.Cmd {
	b := m.chosenBaseline()
	if b.Name == "" {
		m.say(errNoBaseline.Error())
		return nil
	}
	return m.openEditor(b.Name, b.Text, b.Version, "")
}

// openEditor opens the editor on a text that is to take the place of the version numbered after.
func (m *Model) openEditor(name, text string, after int, why string) tea.Cmd {
	m.begunEditor(editMsg{name, text, why, after})
	return m.typedInEditor()
}

func (m *Model) begunEditor(msg editMsg) {
	t := textarea.New()
	t.Prompt, t.ShowLineNumbers = "", false
	t.CharLimit, t.MaxHeight = 0, 0
	t.SetWidth(4000) // lines are not wrapped: what the file says in a line stands in a line
	t.SetHeight(max(1, m.h))
	t.SetValue(msg.text)
	t.MoveToBegin()
	t.Focus()
	was := msg.text
	for _, b := range m.baselines() {
		if b.Name == msg.name {
			was = b.Text
		}
	}
	if msg.after == 0 {
		was = ""
	}
	m.editor = &editor{name: msg.name, after: msg.after, was: was, why: msg.why, text: t}
	m.goTo(place{screen: editScreen, subject: msg.name})
}

// editKey takes a key in the editor.
func (m *Model) editKey(msg tea.KeyPressMsg) tea.Cmd {
	e := m.editor
	if e == nil {
		return nil
	}
	switch msg.String() {
	case "esc":
		return m.leaveEditor()
	case "ctrl+s":
		return m.askWhy()
	case "ctrl+e":
		return m.outside()
	case "tab":
		e.text.InsertString("  ")
		return m.typedInEditor()
	}
	e.text, _ = e.text.Update(msg)
	return m.typedInEditor()
}

// typedInEditor has the effect of the text told anew.
func (m *Model) typedInEditor() tea.Cmd {
	e := m.editor
	e.turn++
	turn, name, text, snap := e.turn, e.name, e.text.Value(), m.snap
	return func() tea.Msg {
		start := time.Now()
		eff, amiss, err := m.backend.Effect(m.ctx, snap, name, text)
		return effectMsg{turn, eff, amiss, err, time.Since(start)}
	}
}

func (m *Model) effect(msg effectMsg) {
	e := m.editor
	if e == nil || msg.turn != e.turn {
		return
	}
	e.told, e.wrong, e.took = msg.turn, "", msg.took
	if msg.err != nil {
		e.wrong = msg.err.Error()
		return
	}
	e.effect, e.amiss = msg.effect, msg.amiss
}

func (m *Model) leaveEditor() tea.Cmd {
	e := m.editor
	leave := func() {
		m.editor = nil
		if m.here().screen == editScreen {
			m.pop()
		}
	}
	if e == nil || e.saved || e.text.Value() == e.was {
		leave()
		return nil
	}
	m.ask = &question{text: []string{"Leave without saving?", "What was changed in " + e.name + " is lost."}, yes: func() tea.Msg { return leaveMsg{} }}
	return nil
}

// leaveMsg leaves the editor.
type leaveMsg struct{}

func (m *Model) askWhy() tea.Cmd {
	e := m.editor
	switch {
	case e.wrong != "":
		m.say("it can't be saved yet: " + e.wrong)
		return nil
	case e.text.Value() == e.was:
		m.say("nothing has changed")
		return nil
	}
	return m.begin(saving, e.why)
}

func (m *Model) save(why string) tea.Cmd {
	e := m.editor
	if e == nil {
		return nil
	}
	if why == "" {
		m.say("a version needs a reason: it is what people will ask for")
		return nil
	}
	name, text, after := e.name, e.text.Value(), e.after
	return func() tea.Msg { return savedMsg{name, m.backend.Save(m.ctx, name, text, after, why)} }
}

func (m *Model) saved(msg savedMsg) tea.Cmd {
	if msg.err != nil {
		m.say("not saved: " + msg.err.Error())
		return nil
	}
	if m.editor != nil {
		m.editor.saved = true
	}
	m.editor = nil
	if m.here().screen == editScreen {
		m.pop()
	}
	m.here().subject = msg.name
	m.kept = versionsOf{}
	m.say(msg.name + " was saved as a new version")
	return m.load()
}

// editOutside opens the baseline under the cursor in the editor and hands it to $EDITOR at once.
func (m *Model) editOutside() tea.Cmd {
	cmd := m.editHere()
	if m.editor == nil {
		return cmd
	}
	return tea.Batch(cmd, m.outside())
}

// outside gives the text to $VISUAL or $EDITOR; what comes back is shown with its effect before anything is saved.
func (m *Model) outside() tea.Cmd {
	program := strings.Fields(os.Getenv("VISUAL"))
	if len(program) == 0 {
		program = strings.Fields(os.Getenv("EDITOR"))
	}
	if len(program) == 0 {
		program = []string{"vi"}
	}
	f, err := os.CreateTemp("", "yare-*.yaml")
	if err == nil {
		_, err = f.WriteString(m.editor.text.Value())
		if e := f.Close(); err == nil {
			err = e
		}
	}
	if err != nil {
		m.say("failed: " + err.Error())
		return nil
	}
	name := f.Name()
	return tea.ExecProcess(exec.CommandContext(m.ctx, program[0], append(program[1:], name)...), func(err error) tea.Msg { return editedMsg{name, err} })
}

func (m *Model) edited(msg editedMsg) tea.Cmd {
	defer os.Remove(msg.file)
	if msg.err != nil {
		m.say("the editor failed: " + msg.err.Error() + "; set EDITOR to one that is here")
		return nil
	}
	text, err := os.ReadFile(msg.file)
	if err != nil || m.editor == nil {
		m.say(fmt.Sprint("what was edited can't be read: ", err))
		return nil
	}
	m.editor.text.SetValue(string(text))
	m.editor.text.MoveToBegin()
	return m.typedInEditor()
}

func (m *Model) deriveHere() tea.Cmd { return m.derive(m.here().host) }

// derive makes the text of a baseline of a host and opens it for editing; nothing is saved yet.
func (m *Model) derive(host string) tea.Cmd {
	if host == "" {
		return nil
	}
	return func() tea.Msg {
		name, text, err := m.backend.Derive(m.ctx, host)
		if err != nil {
			return saidMsg{"failed: " + err.Error()}
		}
		return editMsg{name: name, text: text, why: "made of " + host}
	}
}

// paintEditor paints the text with the cursor, and beside or below it what it would do.
func (m *Model) paintEditor(c *canvas, a area) {
	e := m.editor
	if e == nil {
		return
	}
	left := area{a.x, a.y, a.w, a.h - 9}
	right := area{a.x, a.y + a.h - 8, a.w, 8}
	if a.w >= 100 {
		left = area{a.x, a.y, a.w*11/20 - 1, a.h}
		right = area{a.x + a.w*11/20, a.y, a.w - a.w*11/20, a.h}
		for y := a.y; y < a.y+a.h; y++ {
			c.put(right.x-1, y, water, "│")
		}
	}
	m.paintText(c, left)
	m.paintEffect(c, area{right.x + 1, right.y, right.w - 2, right.h})
}

func (m *Model) paintText(c *canvas, a area) {
	e := m.editor
	lines := strings.Split(e.text.Value(), "\n")
	row, col := e.text.Line(), e.text.Column()
	p := m.here()
	p.scroll = max(0, min(max(p.scroll, row-a.h+1), row))
	const gutter = 5
	shift := max(0, col-(a.w-gutter-2))
	for i := p.scroll; i < len(lines) && i-p.scroll < a.h; i++ {
		y := a.y + i - p.scroll
		c.right(a.x+4, y, 4, quiet, fmt.Sprint(i+1))
		text := []rune(lines[i])
		x := c.within(a.x+gutter, y, a.w-gutter, lineStyle(lines[i]), string(text[min(shift, len(text)):]))
		if i == row {
			c.shade(a.x, y, a.w, selected)
			at := a.x + gutter + col - shift
			if at >= x {
				c.put(at, y, strong|bold|selected, "▏")
			} else if at >= a.x+gutter {
				c.shade(at, y, 1, underline|bold)
			}
		}
	}
}

// lineStyle sets comments and the beginnings of clauses apart.
func lineStyle(line string) style {
	t := strings.TrimSpace(line)
	switch {
	case strings.HasPrefix(t, "#"):
		return quiet
	case strings.HasPrefix(t, "- component:"):
		return subject
	case strings.HasSuffix(t, ":"):
		return water
	}
	return plain
}

// paintEffect says what the text would do to the estate.
func (m *Model) paintEffect(c *canvas, a area) {
	e := m.editor
	y := a.y
	line := func(st style, text string) {
		for _, l := range wrap(text, a.w) {
			if y < a.y+a.h {
				c.put(a.x, y, st, l)
				y++
			}
		}
	}
	state := "unchanged"
	if e.text.Value() != e.was {
		state = "changed, not saved"
	}
	line(water|bold, fmt.Sprintf("%s, from version %d: %s", e.name, e.after, state))
	y++
	if e.wrong != "" {
		line(alarm|bold, "! it can't be read yet")
		line(plain, e.wrong)
		return
	}
	st := good
	if e.effect.Worse > 0 {
		st = caution
	}
	line(st|bold, e.effect.Says())
	if e.told == e.turn {
		line(quiet, fmt.Sprintf("told in %d ms, on what was last read", e.took.Milliseconds()))
	} else {
		line(quiet, "is being told …")
	}
	for _, p := range e.amiss {
		sign, role := "note: ", caution
		if p.Error {
			sign, role = "! not saved as long as this stands: ", alarm|bold
		}
		at := ""
		if p.Line > 0 {
			at = fmt.Sprintf("line %d: ", p.Line)
		}
		line(role, sign+at+p.Text)
	}
	y++
	for i, s := range e.effect.Shifts {
		if y >= a.y+a.h-1 && i < len(e.effect.Shifts)-1 {
			c.put(a.x, y, quiet, fmt.Sprintf("and %d more", len(e.effect.Shifts)-i))
			return
		}
		role, glyph := plain, "→"
		if s.After != drift.NotBound {
			role, glyph = signs[s.After].role, signs[s.After].glyph
		}
		c.put(a.x, y, role, glyph)
		x := c.within(a.x+2, y, 11, subject, s.Host)
		c.within(max(x+1, a.x+13), y, a.w*2/5, plain, s.Title())
		says := s.After.Word()
		if s.Wants != "" {
			says += ", wants " + s.Wants
		}
		if s.Before != drift.InLine {
			says += " (was " + s.Before.Word() + ")"
		}
		c.within(a.x+14+a.w*2/5, y, a.w-14-a.w*2/5, role, says)
		y++
	}
}
