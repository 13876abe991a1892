package logbook

import (
	"fmt"
	"strings"

	"yareharbour/core/course"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// OfEvent is the entry that an event of a round's journal makes, with its sum there; ok is false for one that decides
// nothing.
func OfEvent(e *course.Event, cluster, round, sum string) (out Entry, ok bool) {
	out = Entry{At: e.At, By: e.By, From: e.From, Cluster: cluster, Host: e.Host, Round: round, Why: e.Reason,
		Of: &Thing{Journals, round, e.Seq, sum}}
	switch e.Kind {
	case course.Started:
		out.Kind, out.Says, out.Why = Begun, "a round over "+cluster, e.Detail
		if e.Plan != nil {
			out.Says, out.Host = begun(e.Plan)
		}
	case course.Taken:
		out.Kind, out.Says = TakenOn, "the round over "+cluster
	case course.Asked:
		out.Kind, out.Says, out.Why = Asked, e.Says(), ""
	case course.Ended:
		out.Kind, out.Says = Ended, strings.TrimSuffix(string(e.Status)+": "+e.Detail, ": ")
	default:
		return Entry{}, false
	}
	return out, true
}

// begun says what is begun, and of which host where it is one alone.
func begun(p *plan.Plan) (says, host string) {
	b := p.Brief
	if len(p.Visits) == 1 {
		host = p.Visits[0].Host
	}
	switch {
	case b.Hand != nil && b.Hand.Does != "":
		return fmt.Sprintf("by hand: %s %s", b.Hand.Does, host), host
	case b.Staging != "":
		return fmt.Sprintf("staging for %s: %s", b.Cluster, p.Summary()), host
	}
	return fmt.Sprintf("a round over %s: %s, plan %.12s", b.Cluster, p.Summary(), p.Digest()), host
}

// OfWaiver is the entry that a waiver makes as it is given, or ended before its time.
func OfWaiver(w precheck.Waiver, sum string) Entry {
	e := Entry{At: w.At, By: w.By, Kind: Waived, Cluster: w.Cluster, Host: w.Host, Why: w.Reason,
		Says: fmt.Sprintf("%s: %s, until %s", w.Check, w.Evidence, w.Until.Format("2006-01-02 15:04 MST")), Of: &Thing{Waivers, w.ID, 0, sum}}
	if !w.Ended.IsZero() {
		e.At, e.By, e.Kind, e.Why = w.Ended, w.EndedBy, Unwaived, ""
	}
	return e
}
