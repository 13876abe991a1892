package part

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/baseline"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/span"
	"yareharbour/core/view"
)

// Wisher writes what is wanted into baselines.
type Wisher interface {
	// Amend fulfils a wish in the text of a baseline. It returns the text, and the line, from 1, on which what is new begins.
	Amend(b view.Baseline, w baseline.Wish) (text string, line int, err error)
}

// WishKey is the key with which something else is wanted of a component of a host, in place of what is wanted now.
// The component is looked for once the key is used: the keys are asked for with every frame.
func WishKey(f Frame, app Wisher, cluster, host string, of estate.Key, device string) Key {
	not := ""
	bind := f.View.Binding(cluster, host)
	switch {
	case of == "":
		not = "there is no component of a host under the cursor"
	case len(bind) == 0:
		not = "no baseline binds " + host + "; b makes one"
	}
	return NewKey("W", "want", "want something else of the component under the cursor: a clause, or an exception", not,
		func() tea.Msg {
			for _, l := range f.View.Lines(host, narrow.Filter{}) {
				if l.Component == of && l.Device == device {
					return askWish(app, bind, cluster, &l)
				}
			}
			return Tell("%s has no %s, and none is wanted of it", host, of)
		})
}

func askWish(app Wisher, bind []view.Baseline, cluster string, l *view.Line) tea.Msg {
	c := Choose{Title: "What is wanted of " + l.Title() + "?"}
	if l.Clause != nil {
		c.Lines = append(c.Lines, "Now "+l.Clause.Baseline+" wants it "+l.Clause.Says()+".")
	}
	c.Lines = append(c.Lines, "What you choose is written into a baseline, and shown there with its effect. Nothing is saved yet.")
	for _, w := range l.Wishes() {
		c.Options = append(c.Options, Option{w.Says, askWhere(app, bind, l, w)})
	}
	if l.Clause != nil && l.Outcome.Drifts() {
		c.Options = append(c.Options, Option{"except " + l.Host + " for a time", askException(app, bind, cluster+"/"+l.Host, l)})
	}
	return c
}

// askWhere has the baseline chosen into which a wish is written: the one whose clause binds, where there is one.
func askWhere(app Wisher, bind []view.Baseline, l *view.Line, w baseline.Wish) tea.Msg {
	c := Choose{Title: "Into which baseline?"}
	for _, b := range bind {
		if l.Clause != nil && l.Clause.Baseline != b.Name {
			continue
		}
		says := fmt.Sprintf("%s, for %s", b.Name, strings.Join(b.Assign, ", "))
		c.Options = append(c.Options, Option{says, amend(app, b, l, w)})
	}
	if len(c.Options) == 1 {
		return c.Options[0].Then
	}
	return c
}

func amend(app Wisher, b view.Baseline, l *view.Line, w baseline.Wish) tea.Cmd {
	return func() tea.Msg {
		text, line, err := app.Amend(b, w)
		if err != nil {
			return Failed{err}
		}
		return Go{Screen: Edit, Subject: b.Name, What: Draft{Text: text, After: b.Version, Line: line,
			Why: string(l.Component) + ": " + w.Says}}
	}
}

func askException(app Wisher, bind []view.Baseline, place string, l *view.Line) tea.Msg {
	return Ask{Label: "for so long, and why", Value: "30d ", Hint: "a time as 12d or 4w, and then the reason",
		Then: func(text string) tea.Msg {
			word, reason, _ := strings.Cut(strings.TrimSpace(text), " ")
			lasts, err := span.Parse(word)
			if err != nil {
				return Failed{err}
			}
			if reason = strings.TrimSpace(reason); reason == "" {
				return Refuse("an exception needs a reason: it goes into the baseline")
			}
			return askWhere(app, bind, l, baseline.Wish{Says: "except " + place + ": " + reason,
				Exception: &baseline.Exception{Component: l.Component, Hosts: []string{place}, Reason: reason}, For: lasts})
		}}
}
