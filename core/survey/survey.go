// Package survey sums an estate up for one look: a band for each cluster with its hosts as berths along a waterline,
// load above and drift below it, and beside it what needs a person, worst first. Screens and drawings show a Survey;
// they compute nothing of it.
package survey

import (
	"cmp"
	"slices"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
)

// Service says whether a host takes guests.
type Service string

// The kinds of service.
const (
	Open   Service = "open"
	Closed Service = "closed"
	Silent Service = "silent" // it does not answer
	Away   Service = "away"   // it does not answer, as is expected: a round is changing or restarting it
	Never  Service = "never read"
)

// Survey is the whole look.
type Survey struct {
	Name  string
	At    time.Time
	Bands []Band
	Needs []Need
}

// Untrusted is what is said of a file of the estate that can't be read; its name and what is wrong follow.
const Untrusted = "verdicts can't be trusted until this can be read: "

// Input is what a survey is made from.
type Input struct {
	Estate   estate.Estate
	Now      time.Time
	MaxAge   time.Duration
	Readings map[string]*estate.Reading
	Verdicts map[string][]drift.Verdict
	// Plans are the plans of the clusters' usual rounds; clusters that were not planned are not in it.
	Plans  map[string]*plan.Plan
	Rounds map[string]*course.State // the newest of each cluster
	News   map[string]drift.News    // by cluster: what is new since somebody last looked
	Runs   map[string]bool          // by cluster: somebody runs its round now
	// Faults are the estate's files that can't be read: while there is one, no host is in line. Problems are names in
	// baselines that match nothing, Flags versions on hosts that were withdrawn or are open to advisories.
	Faults []string
	// Edited tells that the estate file says something else than when it was read.
	Edited bool
	// Distrusted are the newest rounds whose journal is not as it was written, by their clusters, and what is wrong
	// with it.
	Distrusted map[string]string
	Problems   []baseline.Problem
	// Overdue says since when a verdict's drift lasts, and until when it may; zero where it has no limit. nil: nothing is
	// known of that.
	Overdue func(v *drift.Verdict) (since, due time.Time)
	// Owed is what rounds and work by hand left to be undone.
	Owed []course.Debt
	// Sure are guests, by UUID, that two looks saw run on several hosts.
	Sure  map[string]bool
	Flags []drift.Flag
}

// Make surveys the estate.
func Make(in Input) Survey {
	s := Survey{Name: in.Estate.Name, At: in.Now}
	for _, c := range in.Estate.Clusters {
		b := band(in, c)
		s.Bands = append(s.Bands, b)
		s.Needs = append(s.Needs, needs(in, b)...)
	}
	s.Needs = append(across(s.Needs, len(s.Bands)), general(in)...)
	slices.SortStableFunc(s.Needs, func(a, b Need) int {
		return cmp.Or(cmp.Compare(a.rank(), b.rank()), cmp.Compare(a.Urgency, b.Urgency))
	})
	return s
}
