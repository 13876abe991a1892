// Package tui is the full-screen interface: what screens stand in. It keeps the view, the filter and the way in, and
// shows one screen at a time, each of a package of its own. It waits for nothing: all that takes time is a command
// whose result comes as a message. What is painted is a function of the state; painting changes nothing.
package tui

import (
	"context"

	"yareharbour/core/view"
	"yareharbour/tui/adrift"
	"yareharbour/tui/baselines"
	"yareharbour/tui/bundles"
	"yareharbour/tui/compare"
	"yareharbour/tui/editor"
	"yareharbour/tui/host"
	"yareharbour/tui/ledger"
	"yareharbour/tui/part"
	"yareharbour/tui/plans"
	"yareharbour/tui/prechecks"
	"yareharbour/tui/releases"
	"yareharbour/tui/rounds"
	"yareharbour/tui/waterline"
)

// App does for the screens what takes time. Calls come from several goroutines. harbour.App is one.
type App interface {
	// View is all that is known; it reads no host.
	View(ctx context.Context) (*view.Estate, error)
	// Foresee finds out how many hosts usual rounds would visit, where facts have changed, and tells whether they have.
	Foresee(ctx context.Context, e *view.Estate) (bool, error)
	// Look reads hosts and keeps what it found, calling progress after each.
	Look(ctx context.Context, hosts []string, progress func(host string, done int)) error
	// KeepFilter keeps a filter under a name, and forgets it where the text is empty.
	KeepFilter(ctx context.Context, name, text string) error
	host.App
	adrift.App
	rounds.App
	plans.App
	prechecks.App
	releases.App
	bundles.App
	baselines.App
	editor.App
	ledger.App
}

// screens open the places, by their names.
var screens = map[string]func(m *Model, p part.Place) part.Screen{
	part.Waterline: func(_ *Model, p part.Place) part.Screen { return waterline.New(p) },
	part.Host:      func(m *Model, p part.Place) part.Screen { return host.New(m.ctx, m.app, p) },
	part.Drift:     func(m *Model, p part.Place) part.Screen { return adrift.New(m.ctx, m.app, p) },
	part.Plan:      func(m *Model, p part.Place) part.Screen { return plans.New(m.ctx, m.app, p) },
	part.Prechecks: func(m *Model, p part.Place) part.Screen { return prechecks.New(m.ctx, m.app, p) },
	part.Round:     func(m *Model, p part.Place) part.Screen { return rounds.New(m.ctx, m.app, p) },
	part.Catalogue: func(m *Model, p part.Place) part.Screen { return releases.New(m.ctx, m.app, p) },
	part.Bundle:    func(m *Model, p part.Place) part.Screen { return bundles.New(m.app, p) },
	part.Baselines: func(m *Model, p part.Place) part.Screen { return baselines.New(m.ctx, m.app, p) },
	part.Edit:      func(m *Model, p part.Place) part.Screen { return editor.New(m.ctx, m.app, p) },
	part.Logbook:   func(m *Model, _ part.Place) part.Screen { return ledger.New(m.ctx, m.app) },
	part.Compare:   func(_ *Model, p part.Place) part.Screen { return compare.New(p) },
}
