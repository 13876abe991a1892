package part

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/view"
)

// Screen is one screen. It is changed by messages alone; what it paints is a function of what it is and of the frame.
type Screen interface {
	// Place is where one stands on it.
	Place() Place
	// Update takes in a message: a Step, a Shown, a message of its own, or the answer to a command of its own. What it
	// returns is taken in at once, before the next key is; only where that is a tea.Cmd is it done beside the screens.
	Update(f Frame, msg tea.Msg) tea.Msg
	// Keys are what can be done here, with why not where it can't be done now.
	Keys(f Frame) []Key
	// View paints the screen into the area.
	View(f Frame, c *Canvas, a Area)
	// Export is what it shows, for that format; nil where there is nothing.
	Export(f Frame, format string) *view.Document
	// Help says what it shows.
	Help() []string
}

// Typing is a screen that takes every key as text.
type Typing interface {
	Type(f Frame, msg tea.KeyPressMsg) tea.Msg
	Paste(f Frame, text string) tea.Msg
}

// Leaving is a screen that must be asked before one leaves it. It answers with Left, at once or later.
type Leaving interface {
	Leave(f Frame) tea.Msg
}

// The screens, by the names under which they are opened and shown.
const (
	Waterline = "Waterline"
	Host      = "Host"
	Drift     = "Drift"
	Plan      = "Plan"
	Prechecks = "Prechecks"
	Round     = "Round"
	Catalogue = "Catalogue"
	Bundle    = "Bundle"
	Baselines = "Baselines"
	Edit      = "Edit"
	Compare   = "Compare"
	Logbook   = "Logbook"
)

// Place is a screen and what it is about.
type Place struct {
	Screen        string
	Cluster, Host string
	Component     estate.Key // to put the cursor on
	Device        string
	Subject       string // a baseline, a bundle
	What          any    // what the screen is opened on, where that is no name
}

// Just opens a plan on less than all of a cluster: its What.
type Just struct {
	Hosts []string     // empty: all
	Only  []estate.Key // the components that are changed; empty: all
}

// ByHand opens a host's screen to have something done to it by hand: its What.
type ByHand struct{}

// Frame is what every screen is shown with.
type Frame struct {
	View   *view.Estate // never nil
	Filter narrow.Filter
	Typed  string    // the filter, as it was typed
	Now    time.Time // of this machine: feeds and bundles are no matter of a simulated estate's clock
	Job    string    // work that is under way; "" for none
}

// Lets tells whether the filter lets a verdict through.
func (f *Frame) Lets(v *drift.Verdict) bool { return f.View.Lets(f.Filter, v) }

// ReadAgo says how old a reading is; the zero time is one of which nothing could be read.
func (f *Frame) ReadAgo(at time.Time) string {
	if at.IsZero() {
		return "not read"
	}
	return "read " + drift.Age(f.View.At().Sub(at)) + " ago"
}

// Ago says how long ago something of this machine was.
func (f *Frame) Ago(t time.Time) string { return drift.Age(f.Now.Sub(t)) + " ago" }

// Key is something that can be done: by its key, by its name in the finder, or with the mouse. What Do returns is taken
// in as what Update returns: who types on at once types into the prompt that the key opened, not into the screen.
type Key struct {
	Key  string
	Name string // in words, as the finder and the help show it
	Hint string // short, for the bottom line; "": not shown there
	Not  string // why it can't be done now; "": it can
	Do   func() tea.Msg
}

// NewKey is a key with its hint, its name, why it can't be used now, and what it does.
func NewKey(key, hint, name, not string, do func() tea.Msg) Key { return Key{key, name, hint, not, do} }

// Messages that a screen sends to what it stands in.
type (
	// Go opens a place; Back leaves the screen.
	Go   Place
	Back struct{}
	// Left says that a Leaving screen lets go.
	Left struct{}
	// Say tells something for a while. Undo may take back what it tells of, with the key U.
	Say struct {
		Text string
		Undo tea.Cmd
	}
	// Ask has a line typed, and sends what Then makes of it. Where that is Failed, at once or as the result of a command,
	// the line stays, with what is wrong.
	Ask struct {
		Label, Hint, Value string
		File               bool // the path of a file: it is completed
		Then               func(text string) tea.Msg
	}
	// Confirm asks before something that is hard to take back. No is the answer of every key but y.
	Confirm struct {
		Title, Yes string
		Lines      []string
		Then       tea.Msg
	}
	// Choose has one of several things chosen, by its number or with the cursor.
	Choose struct {
		Title   string
		Lines   []string // what is to be known before
		Options []Option
	}
	// Write has a text written to a file, over one that is there only after a yes, and says so.
	Write struct {
		File string
		Text []byte
		Says string
	}
	// Sheet is a list that lies over the screen until a key is pressed.
	Sheet struct {
		Title string
		Lines []string
	}
	// Job is work that takes its time. Only one is under way at once; it can be ended with a key, and the screens stay
	// usable meanwhile.
	Job struct {
		Title string
		Do    func(ctx context.Context, says func(string)) tea.Msg
	}
	// Reload looks at the estate anew, and says something.
	Reload struct{ Say }
	// Failed says that something did not come off.
	Failed struct{ Err error }
	// Several are messages, one after the other.
	Several []tea.Msg
)

// AskReason has a reason typed, without which nothing is done, and sends what Then makes of it.
func AskReason(label, hint string, then func(reason string) tea.Msg) Ask {
	return Ask{Label: label, Hint: hint, Then: func(reason string) tea.Msg {
		if reason == "" {
			return Refuse("nothing is done without a reason")
		}
		return then(reason)
	}}
}

// Option is one of the things that can be chosen.
type Option struct {
	Says string
	Then tea.Msg
}

// Messages that a screen gets.
type (
	// Shown comes when the screen is opened, when the view or the filter is another, and when one comes back to it.
	Shown struct{}
	// Step moves the cursor.
	Step struct{ DX, DY int }
	// Enter goes in.
	Enter struct{}
)

// Tell says something.
func Tell(text string, args ...any) tea.Msg { return Say{Text: fmt.Sprintf(text, args...)} }

// Refuse is what bad input comes to.
func Refuse(text string, args ...any) tea.Msg { return Failed{fmt.Errorf(text, args...)} }

// NothingHere is what Enter comes to where there is nothing to go into.
func NothingHere() tea.Msg { return Tell("there is nothing to go into here") }

// Try is a command that does something and looks at the estate anew: it says what came of it.
func Try(do func() (string, error)) tea.Cmd {
	return func() tea.Msg {
		text, err := do()
		if err != nil {
			return Failed{err}
		}
		return Reload{Say{Text: text}}
	}
}

// Count is a number as it is shown.
func Count(n int) string { return fmt.Sprint(n) }

// Flip turns a choice between two around.
func Flip(is *bool) func() tea.Msg {
	return func() tea.Msg { *is = !*is; return nil }
}

// Draft is a text that an editor is opened on.
type Draft struct {
	Text, Why string
	After     int  // the version that it is made from; 0 for a new baseline
	Line      int  // the line, from 1, to look at first; 0: the top
	Outside   bool // it is given to $EDITOR at once
}
