package view

import (
	"yareharbour/core/estate"
	"yareharbour/core/ladder"
	"yareharbour/core/narrow"
)

// Components lists what the catalogue has, as the hosts that were read stand to it: of what hosts have or baselines
// speak of, and with all of everything.
func (e *Estate) Components(f narrow.Filter, all bool) []ladder.Row {
	return ladder.List(e.Checker.Catalogue, e.Held, e.Verdicts, f, e.Survey.At, all)
}

// Ladder lays a component's releases out by track, with the hosts on their rungs.
func (e *Estate) Ladder(key estate.Key) ladder.Ladder {
	return ladder.Make(e.Checker.Catalogue, e.Held, e.Verdicts, key)
}
