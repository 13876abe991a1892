// Package tui is the full-screen interface: what screens stand in. It keeps the view, the filter and the way in, and
// shows one screen at a time, each of a package of its own. It waits for nothing: all that takes time is a command
// whose result comes as a message. What is painted is a function of the state; painting changes nothing.
package tui

import (
	"context"

	"yareharbour/core/view"
	"yareharbour/tui/berth"
	"yareharbour/tui/beside"
	"yareharbour/tui/checks"
	"yareharbour/tui/clauses"
	"yareharbour/tui/editor"
	"yareharbour/tui/ladders"
	"yareharbour/tui/lanes"
	"yareharbour/tui/matrix"
	"yareharbour/tui/parcel"
	"yareharbour/tui/part"
	"yareharbour/tui/tide"
	"yareharbour/tui/waterline"
)

// Desk does for the screens what takes time. Calls come from several goroutines. harbour.Desk is one.
type Desk interface {
	// View is all that is known; it reads no host.
	View(ctx context.Context) (*view.Estate, error)
	// Foresee finds out how many hosts usual rounds would visit, where facts have changed, and tells whether they have.
	Foresee(ctx context.Context, e *view.Estate) (bool, error)
	// Look reads hosts and keeps what it found, calling progress after each.
	Look(ctx context.Context, hosts []string, progress func(host string, done int)) error
	// KeepFilter keeps a filter under a name, and forgets it where the text is empty.
	KeepFilter(ctx context.Context, name, text string) error
	berth.Desk
	matrix.Desk
	lanes.Desk
	tide.Desk
	checks.Desk
	ladders.Desk
	parcel.Desk
	clauses.Desk
	editor.Desk
}

// screens open the places, by their names.
var screens = map[string]func(m *Model, p part.Place) part.Screen{
	part.Waterline: func(_ *Model, p part.Place) part.Screen { return waterline.New(p) },
	part.Host:      func(m *Model, p part.Place) part.Screen { return berth.New(m.ctx, m.desk, p) },
	part.Drift:     func(m *Model, p part.Place) part.Screen { return matrix.New(m.ctx, m.desk, p) },
	part.Plan:      func(m *Model, p part.Place) part.Screen { return tide.New(m.ctx, m.desk, p) },
	part.Prechecks: func(m *Model, p part.Place) part.Screen { return checks.New(m.ctx, m.desk, p) },
	part.Round:     func(m *Model, p part.Place) part.Screen { return lanes.New(m.ctx, m.desk, p) },
	part.Catalogue: func(m *Model, p part.Place) part.Screen { return ladders.New(m.ctx, m.desk, p) },
	part.Bundle:    func(m *Model, p part.Place) part.Screen { return parcel.New(m.desk, p) },
	part.Baselines: func(m *Model, p part.Place) part.Screen { return clauses.New(m.ctx, m.desk, p) },
	part.Edit:      func(m *Model, p part.Place) part.Screen { return editor.New(m.ctx, m.desk, p) },
	part.Compare:   func(_ *Model, p part.Place) part.Screen { return beside.New(p) },
}
