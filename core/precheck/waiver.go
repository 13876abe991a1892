package precheck

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Waiver is a recorded pardon: somebody accepts what a check found on a host, for a reason and until a time. It pardons
// just what was found then: where a check finds something else it says nothing.
type Waiver struct {
	ID       string    `json:"id"`
	Cluster  string    `json:"cluster"`
	Host     string    `json:"host"`
	Check    string    `json:"check"`
	Evidence string    `json:"evidence"` // what was found, without how long ago that was
	Reason   string    `json:"reason"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Until    time.Time `json:"until"`
	// Ended is when somebody took it back, and EndedBy who; zero while it stands.
	Ended   time.Time `json:"ended,omitzero"`
	EndedBy string    `json:"ended_by,omitempty"`
}

// Stands tells whether the waiver pardons anything at that time.
func (w *Waiver) Stands(now time.Time) bool {
	return w.Ended.IsZero() && !now.Before(w.At) && now.Before(w.Until)
}

// Says puts it in words.
func (w *Waiver) Says() string {
	return fmt.Sprintf("waived by %s until %s: %s", w.By, w.Until.Format("Mon 2 Jan 15:04"), w.Reason)
}

// MostWaived is how long a waiver may last.
const MostWaived = 92 * 24 * time.Hour

// NewWaiver makes a waiver of an answer, or says why there can be none.
func NewWaiver(cluster string, a Answer, reason, by string, now, until time.Time) (Waiver, error) {
	switch {
	case a.Level == Clear:
		return Waiver{}, fmt.Errorf("%s of %s is clear: there is nothing to waive", a.Check, a.Host)
	case a.Never != "":
		return Waiver{}, fmt.Errorf("%s must never be waived: %s", a.Check, a.Never)
	case strings.TrimSpace(reason) == "":
		return Waiver{}, fmt.Errorf("waiving %s of %s needs a reason: it goes on the record", a.Check, a.Host)
	case !until.After(now) || until.Sub(now) > MostWaived:
		return Waiver{}, fmt.Errorf("a waiver ends: after now, and within %d days", int(MostWaived.Hours()/24))
	}
	return Waiver{Cluster: cluster, Host: a.Host, Check: a.Check, Evidence: a.lasting(), Reason: reason, By: by,
		At: now, Until: until}, nil
}

// lasting is what was found, without what changes with time alone.
func (a *Answer) lasting() string { return cmp.Or(a.Lasting, a.Evidence) }

// Waive lays waivers over answers: what is pardoned at that time holds nobody up, and says by whom and why. Nothing
// that must never be waived is.
func Waive(answers []Answer, waivers []Waiver, now time.Time) []Answer {
	out := slices.Clone(answers)
	for i := range out {
		a := &out[i]
		if a.Level == Clear || a.Never != "" {
			continue
		}
		n := slices.IndexFunc(waivers, func(w Waiver) bool {
			return w.Host == a.Host && w.Check == a.Check && w.Evidence == a.lasting() && w.Stands(now)
		})
		if n >= 0 {
			a.Waived = &waivers[n]
		}
	}
	return out
}
