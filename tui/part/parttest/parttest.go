// Package parttest drives one screen by itself: without a terminal, and without what it stands in. Whatever a screen
// sends is done at once: questions are answered, commands are carried out where they stand.
package parttest

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/survey"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// Now is when it is on a bench.
var Now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// Bench holds a screen, and what it sent.
type Bench struct {
	T      testing.TB
	Screen part.Screen
	Frame  part.Frame
	Typed  string      // the answer to whatever is asked for
	Pick   int         // which of what is to be chosen from is taken
	Chose  part.Choose // what was last to be chosen from
	No     bool        // the answer to questions is no
	Wrote  part.Write
	Said   string       // what was said, asked or reported last
	Asked  part.Confirm // the last question
	Undo   tea.Cmd      // what takes back what was said last; nil where nothing does
	Went   []part.Go    // where it led to
	Sheet  part.Sheet   // the last that was shown
}

// Notes is what a desk was asked for, and what it answers to all of it. Desks of tests have it in them.
type Notes struct {
	Did   []string
	Wrong error
}

// Note writes down what was asked for.
func (n *Notes) Note(format string, args ...any) error {
	n.Did = append(n.Did, fmt.Sprintf(format, args...))
	return n.Wrong
}

// Frame is one of an estate in which nothing is yet.
func Frame() part.Frame {
	return part.Frame{View: &view.Estate{Rounds: map[string]view.Round{}, Survey: survey.Survey{At: Now}}, Now: Now}
}

// Open shows a screen.
func Open(t testing.TB, s part.Screen, f part.Frame) *Bench {
	b := &Bench{T: t, Screen: s, Frame: f}
	b.Take(s.Update(f, part.Shown{}))
	return b
}

// Take does what a message asks for, until nothing more comes.
func (b *Bench) Take(msg tea.Msg) {
	switch msg := msg.(type) {
	case nil:
	case func() tea.Msg:
		b.Take(msg())
	case tea.Cmd:
		b.Take(msg())
	case part.Several:
		for _, m := range msg {
			b.Take(m)
		}
	case part.Say:
		b.Said, b.Undo = msg.Text, msg.Undo
	case part.Reload:
		b.Take(msg.Say)
	case part.Failed:
		b.Said = msg.Err.Error()
	case part.Ask:
		b.Take(msg.Then(b.Typed))
	case part.Confirm:
		b.Said, b.Asked = msg.Title, msg
		if !b.No {
			b.Take(msg.Then)
		}
	case part.Choose:
		b.Chose = msg
		b.Take(msg.Options[b.Pick].Then)
	case part.Job:
		b.Take(msg.Do(b.T.Context(), func(string) {}))
	case part.Write:
		b.Wrote = msg
	case part.Sheet:
		b.Sheet = msg
	case part.Go:
		b.Went = append(b.Went, msg)
	case part.Left, part.Back:
	default:
		b.Take(b.Screen.Update(b.Frame, msg))
	}
}

// Press uses the keys that the screen has, one after the other. It returns why the last could not be used; a key that
// there is not ends the test.
func (b *Bench) Press(keys ...string) (not string) {
	b.T.Helper()
	for _, k := range keys {
		found := false
		for _, key := range b.Screen.Keys(b.Frame) {
			if key.Key == k {
				if found, not = true, key.Not; not == "" {
					b.Take(key.Do())
				}
			}
		}
		if !found {
			b.T.Fatalf("there is no key %q", k)
		}
	}
	return not
}

// Step moves the cursor, and Enter goes in.
func (b *Bench) Step(dx, dy int) { b.Take(part.Step{DX: dx, DY: dy}) }

// Enter goes in.
func (b *Bench) Enter() { b.Take(part.Enter{}) }

var escapes = regexp.MustCompile(`\x1b\[[0-9;]*m`)

// Text is what the screen shows at that size, without its colours.
func (b *Bench) Text(w, h int) string {
	c := part.NewCanvas(w, h)
	b.Screen.View(b.Frame, c, part.Rect(0, 0, w, h))
	return Plain(c)
}

// Plain is what was painted, without its colours.
func Plain(c *part.Canvas) string { return escapes.ReplaceAllString(c.Render(part.NewTheme(true)), "") }

// Shows holds what is shown at that size to texts that must stand there.
func (b *Bench) Shows(w, h int, what ...string) {
	b.T.Helper()
	got := b.Text(w, h)
	for _, x := range what {
		if !strings.Contains(got, x) {
			b.T.Errorf("%d × %d: %q is not shown:\n%s", w, h, x, got)
		}
	}
}

// Hides holds it to texts that must not.
func (b *Bench) Hides(w, h int, what ...string) {
	b.T.Helper()
	got := b.Text(w, h)
	for _, x := range what {
		if strings.Contains(got, x) {
			b.T.Errorf("%d × %d: %q is shown:\n%s", w, h, x, got)
		}
	}
}

// Named is what a file of a document would be called.
func Named(d *view.Document) string {
	return strings.Join(append([]string{d.Name}, d.Subjects...), "-")
}
