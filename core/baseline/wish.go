package baseline

import "time"

// Wish is a change of a baseline: a clause, which takes the place of the one about the same component and hardware if
// there is one, or an exception. One of the two is set.
type Wish struct {
	Says      string // in words: "never", "at least 8.2.4-1"
	Clause    *Clause
	Exception *Exception
	For       time.Duration // how long the exception holds at least: through the end of its last day
}

// Replaces finds the clause of all whose place the wish's takes.
func (w *Wish) Replaces(all []Clause) (at int, is bool) {
	for i, c := range all {
		if c.Component == w.Clause.Component && c.Hardware == w.Clause.Hardware {
			return i, true
		}
	}
	return len(all), false
}
