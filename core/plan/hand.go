package plan

import (
	"slices"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/precheck"
)

// arrange makes a visit of what a person does to a host by hand.
func (h *Hand) arrange(v *Visit, r *estate.Reading) {
	v.Passes = 1
	switch h.Does {
	case HandClose:
		v.Empties, v.Keeps = true, true
	case HandTake:
		v.Keeps = true
	case HandRestart:
		v.Empties, v.Restarts, v.Keeps = true, []int{1}, r.Closed != nil
	case HandOpen:
		v.Back, v.Owes = h.Home, h.Owes
	case HandRestore:
		v.Restores, v.Keeps, v.Backup = h.Files, true, true
	case HandUncopy:
		v.Uncopies = uncopies(r, func(g *estate.Guest, _ *estate.Snapshot) bool { return slices.Contains(h.Guests, g.UID()) })
		v.Keeps = r.Closed != nil
	case HandClear:
		v.Clears, v.Keeps = h.Tasks, r.Closed != nil
	}
}

// Asks are the prechecks that are asked before it; nil, for no work by hand, asks all. A host that is ill may be emptied,
// taken and restarted by a person, who mostly does it for that; it may not be opened.
func (h *Hand) Asks() []string {
	if h == nil {
		return nil
	}
	takesOrders := []string{"reachable", "orders", "machine"}
	empties := append(slices.Clone(takesOrders), "members", "closed", "rules", "single", "guests", "serves", "controller",
		precheck.RoomCheck)
	switch h.Does {
	case HandClose:
		return empties
	case HandRestart:
		return append(empties, "root", "storage", "boot")
	case HandOpen:
		return append(takesOrders, "single", "health", "root", "storage", "bonds", "clock")
	}
	return takesOrders
}

// Ledger is what a host's own ledger says is owed, beside what is known already: of guests that are not known to run
// anywhere.
func Ledger(r *estate.Reading, readings map[string]*estate.Reading, known []act.Act) (out []act.Act) {
	for _, o := range r.Owed {
		if !act.Name(o.Kind).Known() || estate.RunsSomewhere(o.GuestID, readings) ||
			slices.ContainsFunc(known, func(a act.Act) bool { return a.UID() == o.GuestID }) {
			continue
		}
		out = append(out, act.Act{Kind: act.Name(o.Kind), Round: o.Round, Host: r.Host, Guest: o.Guest, GuestID: o.GuestID})
	}
	return out
}
