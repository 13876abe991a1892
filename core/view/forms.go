package view

import (
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/ladder"
	"yareharbour/core/logbook"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
)

// Forms are a document of nothing of each kind, by its name, for what only its form is wanted of. Those whose form is
// that of another are left out.
func Forms() []Document {
	e := &Estate{Checker: &drift.Checker{Catalogue: &catalogue.Catalogue{}}}
	named := func(d Document, name string) Document { d.Name = name; return d }
	return []Document{
		OfDrift(e, "", narrow.Filter{}), OfComponents(nil), OfLadder(ladder.Ladder{}), OfBaselines(nil),
		OfBaseline(Baseline{}, narrow.Filter{}), OfVersions("", nil), named(OfChanges("", 0, 0, nil), "changes"), OfEffect(drift.Effect{}, []baseline.Problem{}),
		Trend{}.Document(), Comparison{From: &estate.Reading{}, To: &estate.Reading{}}.Document(), OfLife("", nil), OfSeen("deb:x", nil), OfNews(nil), OfReadings(nil), OfPlan(&plan.Plan{}, nil), OfPrechecks(nil),
		OfWaivers("", nil, time.Time{}), OfOwed(nil, time.Time{}), OfRound(Round{State: &course.State{}}), OfRounds(nil), OfLog(nil),
		OfHead(&logbook.Book{}, ""), Verified{}.Document(), OfFeeds(nil, time.Time{}), OfBundles(nil), OfBundle(catalogue.Bundle{}, 0, 0),
		OfWays(nil), OfLacks(nil), OfBackups(nil), OfFilters(nil), OfPruned(nil), OfExplained(nil), named(OfTasks("", nil), "tasks"), named(OfLogs("", nil, 0), "logs"),
		Payloads{}.Document(time.Time{}),
	}
}

// FormOf is the document of nothing with that name; ok is false where there is none.
func FormOf(name string) (d Document, ok bool) {
	for _, d := range Forms() {
		if d.Name == name {
			return d, true
		}
	}
	return d, false
}
