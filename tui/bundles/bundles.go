// Package bundles is the Bundle screen: what is in an archive that was opened, before anything of it is taken in.
package bundles

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/catalogue"
	"yareharbour/core/narrow"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part"
)

// App is what the screen asks for.
type App interface {
	TakeIn(ctx context.Context, o *harbour.Opened, progress func(string)) (known bool, err error)
}

// Screen is an opened bundle. It is closed when the screen is left.
type Screen struct {
	app   App
	is    *harbour.Opened
	table part.Table
	files []catalogue.BundleFile
}

// New opens the bundle that the place holds.
func New(d App, p part.Place) *Screen {
	o, _ := p.What.(*harbour.Opened)
	return &Screen{
		app: d,
		is:  o,
		table: part.Table{
			ID: "parcel",
			Columns: []part.TableColumn{
				{Title: "file", Width: 20, Grow: 3},
				{Title: "is a", Width: 19},
				{Title: "size", Width: 11, Right: true},
				{Title: "and brings", Width: 16, Grow: 4},
			},
		},
	}
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place { return part.Place{Screen: part.Bundle, Subject: s.is.Name} }

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"What is in the archive, and what each file brings. Nothing is taken in until you say so; " +
			"leaving lets go of all of it.",
	}
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	d := view.OfBundle(s.is.Bundle, s.is.NewReleases, s.is.NewAdvisories)
	return &d
}

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	busy := ""
	if f.Job != "" {
		busy = f.Job + " is under way; X ends it"
	}
	return []part.Key{part.NewKey("a", "take it in", "take this bundle in, whole", busy, s.takeIn)}
}

// takenIn says that it was.
type takenIn struct {
	name  string
	known bool // before: nothing has changed
}

func (s *Screen) takeIn() tea.Msg {
	o := s.is
	return part.Job{Title: "taking in " + o.Name, Do: func(ctx context.Context, says func(string)) tea.Msg {
		known, err := s.app.TakeIn(ctx, o, says)
		if err != nil {
			return part.Failed{Err: err}
		}
		return takenIn{o.Name, known}
	}}
}

// Leave lets go of what was unpacked.
func (s *Screen) Leave(part.Frame) tea.Msg {
	if err := s.is.Close(); err != nil {
		return part.Several{part.Left{}, part.Failed{Err: err}}
	}
	return part.Several{part.Left{}, part.Say{Text: "nothing of " + s.is.Name + " was taken in"}}
}

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	if mine, _ := s.table.Take(msg, len(s.files)); mine {
		return nil
	}
	switch msg := msg.(type) {
	case part.Shown:
		s.files = slices.DeleteFunc(slices.Clone(s.is.Files), func(x catalogue.BundleFile) bool {
			return !f.Filter.Lets(narrow.Subject{Age: -1, Words: []string{x.Path, string(x.Kind), x.Says}})
		})
	case part.Step:
		s.table.Step(msg.DY, len(s.files))
	case part.Enter:
		return part.NothingHere()
	case takenIn:
		if msg.name == s.is.Name {
			says := " was taken in"
			if msg.known {
				says = " was taken in before; nothing has changed"
			}
			return part.Several{part.Left{}, part.Reload{Say: part.Say{Text: msg.name + says}}}
		}
	}
	return nil
}

// View implements part.Screen.
func (s *Screen) View(_ part.Frame, c *part.Canvas, a part.Area) {
	o := s.is
	x := c.Put(a.X+1, a.Y, part.Strong|part.Bold, o.Name)
	c.Put(x+2, a.Y, part.Plain, fmt.Sprintf("%s  %.12s", catalogue.Bytes(o.Size), o.ID))
	c.Put(
		a.X+1,
		a.Y+1,
		part.Plain,
		fmt.Sprintf("%s, %d new here   %s, %d new here   %s", catalogue.Some(o.Releases, "release"), o.NewReleases,
			catalogue.Some(o.Advisories, "advisory"), o.NewAdvisories, catalogue.Some(o.Payloads, "payload")),
	)
	says, tone := view.Vouched(o.Bundle)
	c.Put(a.X+1, a.Y+2, part.Tones[tone], map[view.Tone]string{view.Good: "✓ ", view.Caution: "◔ "}[tone]+says)
	y := a.Y + 3
	if len(o.Missing) > 0 {
		c.Within(a.X+1, y, a.W-2, part.Caution, "! not in it, though its releases name them: "+
			strings.Join(o.Missing, ", "))
		y++
	}
	order := s.table.Order(len(s.files), func(i, column int) any {
		x := &s.files[i]
		return []any{x.Path, string(x.Kind), int(x.Size), x.Says}[column]
	})
	s.table.Paint(c, part.Rect(a.X, y+1, a.W, a.Y+a.H-y-3), true, len(s.files), func(i int) part.TableLine {
		x := &s.files[order[i]]
		st := part.Plain
		if x.Kind == catalogue.NotRecognised {
			st = part.Quiet
		}
		return part.TableLine{
			Cells: []part.TableCell{
				{Text: part.Tail(x.Path, a.W/3), Style: part.Subject},
				{Text: string(x.Kind), Style: st},
				{Text: catalogue.Bytes(x.Size)},
				{Text: x.Says},
			},
		}
	}, "there is no file in it")
	c.Put(a.X+1, a.Y+a.H-1, part.Strong|part.Bold, "a takes it in, whole.  Esc leaves; nothing of it stays.")
}
