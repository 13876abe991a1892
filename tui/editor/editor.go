// Package editor is the Edit screen: a baseline's text under the hands of a person, and beside it what it would do to
// the estate.
package editor

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"charm.land/bubbles/v2/textarea"
	tea "charm.land/bubbletea/v2"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// App is what the screen asks for.
type App interface {
	EffectOn(ctx context.Context, e *view.Estate, name, text string) (drift.Effect, []baseline.Problem, error)
	SaveBaseline(ctx context.Context, name, text string, after int, why string) (int, error)
}

// Screen is a text under way.
type Screen struct {
	ctx     context.Context
	app     App
	name    string
	draft   part.Draft
	was     string // what the baseline says; "" for a new one
	text    textarea.Model
	outside bool // it is to be given to $EDITOR
	turn    int  // counts the changes: an effect that was told for an earlier one is let go
	effect  drift.Effect
	amiss   []baseline.Problem // names in it that are not there
	wrong   string             // why the text can't be read
	known   []string           // the components that there are
	knownOf *view.Estate       // in that view
	told    int                // the turn of which the effect is
	took    time.Duration
}

// New opens the draft that the place holds.
func New(ctx context.Context, d App, p part.Place) *Screen {
	draft, _ := p.What.(part.Draft)
	t := textarea.New()
	t.Prompt, t.ShowLineNumbers = "", false
	t.CharLimit, t.MaxHeight = 0, 0
	t.SetWidth(4000) // lines are not wrapped: what the file says in a line stands in a line
	t.SetHeight(200)
	t.SetValue(draft.Text)
	t.MoveToBegin()
	for range draft.Line - 1 {
		t.CursorDown()
	}
	t.Focus()
	return &Screen{ctx: ctx, app: d, name: p.Subject, draft: draft, text: t, outside: draft.Outside}
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place { return part.Place{Screen: part.Edit, Subject: s.name} }

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"The text is the baseline's file. On the right is what it would do to the estate, worked out again after every key.",
		"Tab writes on: the words of a clause, postures, and the components that hosts have or feeds bring. Where there is " +
			"nothing to write on it indents.",
		"Ctrl+S saves it as a new version, with a reason; Esc leaves.",
	}
}

// Export implements part.Screen.
func (s *Screen) Export(part.Frame, string) *view.Document { return nil }

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	not := ""
	switch {
	case s.wrong != "":
		not = "it can't be saved yet: " + s.wrong
	case s.text.Value() == s.was:
		not = "nothing has changed"
	}
	return []part.Key{part.NewKey("ctrl+s", "save as a new version", "save as a new version", not, s.askWhy),
		part.NewKey("ctrl+e", "edit in $EDITOR", "edit in $EDITOR", "", s.edit)}
}

// Leave asks, where something would be lost.
func (s *Screen) Leave(part.Frame) tea.Msg {
	if s.text.Value() == s.was {
		return part.Left{}
	}
	return part.Confirm{
		Title: "Leave without saving?",
		Yes:   "leave",
		Lines: []string{"What was changed in " + s.name + " is lost."},
		Then:  part.Left{},
	}
}

// messages of the screen
type (
	effectMsg struct {
		name   string
		turn   int
		effect drift.Effect
		amiss  []baseline.Problem
		err    error
		took   time.Duration
	}
	edited struct { // in $EDITOR
		text string
		err  error
	}
	saved struct {
		name string
		n    int // its version
		why  string
		err  error
	}
	wheel int
)

// Type takes a key as text.
func (s *Screen) Type(f part.Frame, msg tea.KeyPressMsg) tea.Msg {
	switch msg.String() {
	case "tab":
		s.text.InsertString(s.more())
	case "enter":
		s.text.InsertString("\n" + indent(s.line()))
	default:
		s.text, _ = s.text.Update(msg)
	}
	return s.changed(f)
}

// Paste takes what was pasted as text.
func (s *Screen) Paste(f part.Frame, text string) tea.Msg {
	s.text.InsertString(text)
	return s.changed(f)
}

// changed has the effect of the text told anew.
func (s *Screen) changed(f part.Frame) tea.Msg {
	s.know(f.View)
	s.turn++
	turn, text := s.turn, s.text.Value()
	return func() tea.Msg {
		start := time.Now()
		e, amiss, err := s.app.EffectOn(s.ctx, f.View, s.name, text)
		return effectMsg{s.name, turn, e, amiss, err, time.Since(start)}
	}
}

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	switch msg := msg.(type) {
	case part.Shown:
		if b, ok := f.View.Baseline(s.name); ok && s.draft.After > 0 {
			s.was = b.Text
		}
		if s.outside {
			s.outside = false
			return part.Several{s.changed(f), s.edit()}
		}
		if s.turn == 0 {
			return s.changed(f)
		}
	case effectMsg:
		if msg.name == s.name && msg.turn == s.turn {
			s.told, s.wrong, s.took = msg.turn, "", msg.took
			if msg.err != nil {
				s.wrong = msg.err.Error()
				return nil
			}
			s.effect, s.amiss = msg.effect, msg.amiss
		}
	case edited:
		return s.back(f, msg)
	case saved:
		if msg.name == s.name {
			return s.done(msg)
		}
	case wheel:
		for range max(int(msg), -int(msg)) {
			if msg > 0 {
				s.text.CursorDown()
			} else {
				s.text.CursorUp()
			}
		}
	}
	return nil
}

func (s *Screen) askWhy() tea.Msg {
	return part.Ask{
		Label: "why",
		Hint:  "Enter saves it as a new version, Esc continues editing",
		Value: s.draft.Why,
		Then: func(why string) tea.Msg {
			if why == "" {
				return part.Refuse("a version needs a reason: it is what people will ask for")
			}
			name, text, after := s.name, s.text.Value(), s.draft.After
			return func() tea.Msg {
				n, err := s.app.SaveBaseline(s.ctx, name, text, after, why)
				return saved{name, n, why, err}
			}
		},
	}
}

// done leaves the editor once the text was saved. What the baseline said before can be had back.
func (s *Screen) done(msg saved) tea.Msg {
	if msg.err != nil {
		return part.Failed{Err: fmt.Errorf("not saved: %w", msg.err)}
	}
	say := part.Say{Text: s.name + " was saved as a new version"}
	if name, was := s.name, s.was; s.draft.After > 0 {
		say.Undo = part.Try(func() (string, error) {
			_, err := s.app.SaveBaseline(s.ctx, name, was, msg.n, "undone: "+msg.why)
			return name + " says again what it said before", err
		})
	}
	return part.Several{part.Left{}, part.Go{Screen: part.Baselines, Subject: s.name}, part.Reload{Say: say}}
}

// edit gives the text to $VISUAL or $EDITOR; what comes back is shown with its effect before anything is saved.
func (s *Screen) edit() tea.Msg {
	text := s.text.Value()
	return func() tea.Msg {
		f, err := os.CreateTemp("", "yare-*.yaml")
		if err != nil {
			return part.Failed{Err: err}
		}
		_, err = f.WriteString(text)
		if err = errors.Join(err, f.Close()); err != nil {
			return part.Failed{Err: err}
		}
		program := strings.Fields(cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR"), "vi"))
		return tea.ExecProcess(exec.CommandContext(s.ctx, program[0], append(program[1:], f.Name())...), func(err error) tea.Msg {
			return outOf(f.Name(), err)
		})()
	}
}

// outOf is what comes back out of an editor, whose file goes.
func outOf(file string, err error) edited {
	defer os.Remove(file)
	if err != nil {
		return edited{err: fmt.Errorf("the editor failed: %w; set EDITOR to one that is here", err)}
	}
	text, err := os.ReadFile(file)
	if err != nil {
		err = fmt.Errorf("what was edited can't be read: %w", err)
	}
	return edited{string(text), err}
}

func (s *Screen) back(f part.Frame, msg edited) tea.Msg {
	if msg.err != nil {
		return part.Failed{Err: msg.err}
	}
	s.text.SetValue(msg.text)
	s.text.MoveToBegin()
	return s.changed(f)
}

// View implements part.Screen.
func (s *Screen) View(_ part.Frame, c *part.Canvas, a part.Area) {
	left := part.Rect(a.X, a.Y, a.W, a.H-9)
	right := part.Rect(a.X, a.Y+a.H-8, a.W, 8)
	if a.W >= 100 {
		left = part.Rect(a.X, a.Y, a.W*11/20-1, a.H)
		right = part.Rect(a.X+a.W*11/20, a.Y, a.W-a.W*11/20, a.H)
		for y := a.Y; y < a.Y+a.H; y++ {
			c.Put(right.X-1, y, part.Water, "│")
		}
	}
	s.paintText(c, left)
	s.paintEffect(c, part.Rect(right.X+1, right.Y, right.W-2, right.H))
}

func (s *Screen) paintText(c *part.Canvas, a part.Area) {
	lines := strings.Split(s.text.Value(), "\n")
	row, col := s.text.Line(), s.text.Column()
	const gutter = 5
	shift := max(0, col-(a.W-gutter-2))
	first, shown := part.Window(row, len(lines), a.H)
	c.Wheel(a, func(dy int) any { return wheel(dy) })
	for i := first; i < first+shown; i++ {
		y := a.Y + i - first
		c.Right(a.X+4, y, 4, part.Quiet, fmt.Sprint(i+1))
		text := []rune(lines[i])
		x := c.Within(a.X+gutter, y, a.W-gutter, lineStyle(lines[i]), string(text[min(shift, len(text)):]))
		if i != row {
			continue
		}
		c.Shade(a.X, y, a.W, part.Selected)
		if at := a.X + gutter + col - shift; at >= x {
			c.Put(at, y, part.Strong|part.Bold|part.Selected, "▏")
		} else if at >= a.X+gutter {
			c.Shade(at, y, 1, part.Underline|part.Bold)
		}
	}
}

// lineStyle sets comments and the beginnings of clauses apart.
func lineStyle(line string) part.Style {
	t := strings.TrimSpace(line)
	switch {
	case strings.HasPrefix(t, "#"):
		return part.Quiet
	case strings.HasPrefix(t, "- component:"):
		return part.Subject
	case strings.HasSuffix(t, ":"):
		return part.Water
	}
	return part.Plain
}

// paintEffect says what the text would do to the estate.
func (s *Screen) paintEffect(c *part.Canvas, a part.Area) {
	if _, words := s.offers(); len(words) > 0 {
		a.H -= 2
		says := strings.Join(words[:min(len(words), 12)], "  ")
		c.Within(a.X, a.Y+a.H+1, a.W, part.Quiet, "Tab: "+says)
	}
	col := part.NewColumn(c, a)
	state := "unchanged"
	if s.text.Value() != s.was {
		state = "changed, not saved"
	}
	col.Head(fmt.Sprintf("%s, from version %d: %s", s.name, s.draft.After, state))
	col.Gap()
	if s.wrong != "" {
		col.Line(0, part.Alarm|part.Bold, "! it can't be read yet")
		col.Line(0, part.Plain, s.wrong)
		return
	}
	st := part.Good
	if s.effect.Worse > 0 || s.effect.Unread > 0 {
		st = part.Caution
	}
	col.Line(0, st|part.Bold, s.effect.Says())
	if s.told == s.turn {
		col.Line(0, part.Quiet, fmt.Sprintf("computed in %d ms from the last readings", s.took.Milliseconds()))
	} else {
		col.Line(0, part.Quiet, "computing …")
	}
	for _, p := range s.amiss {
		sign, role := "note: ", part.Caution
		if p.Error {
			sign, role = "! not saved until this is fixed: ", part.Alarm|part.Bold
		}
		at := ""
		if p.Line > 0 {
			at = fmt.Sprintf("line %d: ", p.Line)
		}
		col.Line(0, role, sign+at+p.Text)
	}
	col.Gap()
	name := 8
	for i := range s.effect.Shifts {
		name = max(name, min(part.Width(s.effect.Shifts[i].Title())+1, a.W*2/5))
	}
	for i := range s.effect.Shifts {
		if col.Left() == 1 && i < len(s.effect.Shifts)-1 {
			c.Put(a.X, col.Y, part.Quiet, fmt.Sprintf("and %d more", len(s.effect.Shifts)-i))
			return
		}
		if !col.Full() {
			paintShift(c, &s.effect.Shifts[i], part.Rect(a.X, col.Y, a.W, 1), name)
			col.Y++
		}
	}
}

// paintShift paints what becomes of one component of a host, with so many cells for the component's name.
func paintShift(c *part.Canvas, s *drift.Shift, a part.Area, name int) {
	sg := part.Sign{Glyph: "→", Style: part.Plain}
	if s.After != drift.NotBound {
		sg = part.Signs[s.After]
	}
	c.Put(a.X, a.Y, sg.Style, sg.Glyph)
	x := c.Within(a.X+2, a.Y, 11, part.Subject, s.Host)
	c.Within(max(x+1, a.X+13), a.Y, name, part.Plain, s.Title())
	says := s.After.Word()
	if s.Wants != "" {
		says += ", wants " + s.Wants
	}
	if s.Before != drift.InLine {
		says += " (was " + s.Before.Word() + ")"
	}
	c.Within(a.X+14+name, a.Y, a.W-14-name, sg.Style, says)
}
