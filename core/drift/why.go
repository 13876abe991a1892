package drift

import (
	"fmt"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

const stamp = "2 Jan 2006 15:04 MST"

// Why tells the verdict's whole story, a sentence each: the value that was read, the clause, the release that is
// wanted, the verdict, and the newer-looking releases that were passed over. The reading must be the one that the
// verdict was made from.
func (c *Checker) Why(cluster string, v Verdict, r *estate.Reading) []string {
	why := []string{c.whyHas(v, r), c.whyClause(v)}
	if v.Release != nil {
		why = append(why, whyRelease(v.Release))
	} else if s := c.whyNoRelease(v); s != "" {
		why = append(why, s)
	}
	why = append(why, c.whyOpen(v, r.System)...)
	why = append(why, c.whyOutcome(cluster, v, r))
	return append(why, c.whyNotNewer(v)...)
}

func (c *Checker) whyHas(v Verdict, r *estate.Reading) string {
	s := r.Section(v.Component.Section())
	if v.Outcome == Unread && v.Found != nil {
		return fmt.Sprintf("%s has %s, and at which version is not known: %s.%s", r.Host, v.Title(),
			v.Found.Unread, lastKnown(v))
	}
	if v.Outcome == Unread {
		why := r.Unread(s.Name, c.Now, c.MaxAge)
		if why == "" {
			why = s.Partial
		}
		return fmt.Sprintf("What %s has is not known: %s.%s", r.Host, why, lastKnown(v))
	}
	from := fmt.Sprintf("read %s (%s ago) from %s", s.At.Format(stamp), Age(c.Now.Sub(s.At)), s.Source)
	if v.Found == nil {
		return fmt.Sprintf("%s does not have %s, %s.", r.Host, v.Title(), from)
	}
	has := fmt.Sprintf("%s has %s at %s", r.Host, v.Title(), v.Found.Version)
	if v.Found.Model != "" {
		has += " on a " + v.Found.Model
	}
	if v.Found.State != "" {
		has += ", " + v.Found.State + " only"
	}
	if v.Found.Running != "" {
		has += ", of which " + v.Found.Running + " still runs"
	}
	has += ", " + from + "."
	if why := s.Unseen(); why != "" {
		has += " " + why + "."
	}
	return has
}

// lastKnown says what an unread component was last known to be.
func lastKnown(v Verdict) string {
	switch {
	case v.Last == "":
		return ""
	case v.LastAt.IsZero():
		return " It was last known to be at " + v.Last + "."
	}
	return fmt.Sprintf(" It was last known to be at %s, read %s.", v.Last, v.LastAt.Format(stamp))
}

func (c *Checker) whyClause(v Verdict) string {
	at := ""
	if v.Clause.Line > 0 {
		at = fmt.Sprintf(" (line %d)", v.Clause.Line)
	}
	says := v.Clause.Says()
	if v.Clause.Component != v.Component {
		says += ", as for every " + strings.TrimSuffix(string(v.Clause.Component), "*") + " component"
	}
	if v.Clause.Of != "" {
		says += ", as a part of " + v.Clause.Of
	}
	return fmt.Sprintf("The baseline %s%s wants it %s.", v.Clause.Baseline, at, says)
}

// whyNoRelease says that a version to which a clause is pinned is in no feed, or only for other hardware.
func (c *Checker) whyNoRelease(v Verdict) string {
	if v.Clause.Follow || v.Wants == "" || v.Component.Scheme() == 0 || v.Component.Kind() == estate.WholeHost {
		return ""
	}
	var models []string
	for _, r := range c.Catalogue.Releases(v.Component) {
		if v.Component.Scheme().Compare(r.Version, v.Wants) == 0 {
			models = append(models, r.Hardware...)
		}
	}
	if len(models) > 0 {
		return fmt.Sprintf("Release %s is for other hardware only: %s.", v.Wants, strings.Join(models, ", "))
	}
	return fmt.Sprintf("Release %s is in no feed: it is held against, and can't be installed.", v.Wants)
}

func whyRelease(r *catalogue.Release) string {
	s := fmt.Sprintf("Release %s is in the feed %s", r.Version, r.Feed)
	if !r.Date.IsZero() {
		s += ", dated " + r.Date.Format("2 Jan 2006")
	}
	if r.Track != "" {
		s += ", on track " + r.Track
	}
	if r.Severity > catalogue.Unknown {
		s += ", severity " + r.Severity.String()
	}
	if r.Disputed != "" {
		s += "; feeds disagree about it (" + r.Disputed + ")"
	}
	if len(r.Advisories) > 0 {
		s += ", fixes " + strings.Join(r.Advisories, ", ")
	}
	if r.Restart != "" && r.Restart != catalogue.NoRestart {
		s += ", takes a " + string(r.Restart) + " restart"
		s = strings.Replace(s, "a power cycle restart", "a power cycle", 1)
	}
	if r.Link != "" {
		s += " (" + r.Link + ")"
	}
	return s + "."
}

func (c *Checker) whyOutcome(cluster string, v Verdict, r *estate.Reading) string {
	switch v.Outcome {
	case Unread:
		return "So it is unread: it counts neither as in line nor as drift."
	case Undecided:
		return "But what is wanted can't be told: " + v.Cause + ". So it is undecided: it counts neither as in line nor " +
			"as drift, and a round leaves the host standing."
	case Disputed:
		return fmt.Sprintf("But %s at the same rank, so it is disputed: until one gives way, "+
			"nobody knows what is wanted.",
			v.Clause.Rivals())
	case Excepted:
		e := c.set(cluster, v.Host).Excepted(v.Component, c.Now)
		return fmt.Sprintf("It is out of line, but excepted through %s by %s: %s.", e.LastDay(), e.By, e.Reason)
	case NotApplying:
		if v.Found == nil {
			return "It is not there, and the clause speaks only of where it is: the clause does not apply here."
		}
		return c.whyNothing(v)
	case Unwanted:
		if v.Wants != "" {
			return fmt.Sprintf("It is set to %s and %s is wanted; a setting has no order, so this value is simply "+
				"unwanted.", v.Has, v.Wants)
		}
		return "It is there and should not be: it is unwanted."
	case Withdrawn:
		return c.whyWithdrawn(v)
	case Absent:
		return "It should be there and is not: it is absent."
	case HalfInstalled:
		return fmt.Sprintf("It is there, but %s: its package system did not finish with it, and installs nothing "+
			"else until somebody fixes that. It is half installed.", v.Found.State)
	case OffTrack:
		return c.whyOffTrack(v)
	case AwaitingRestart:
		return whyAwaiting(v)
	case Behind:
		return fmt.Sprintf("%s sorts before %s, so it is behind.", v.Has, v.Wants)
	case Ahead:
		return fmt.Sprintf("%s sorts after %s, and the clause admits no other version: it is ahead.", v.Has, v.Wants)
	}
	return c.whyInLine(v)
}

// whyAwaiting says what runs still and what must restart: the host for a kernel or firmware, a service, or a guest
// whose emulator was replaced.
func whyAwaiting(v Verdict) string {
	s := fmt.Sprintf("The wanted version is installed but does not run until %s restarts", v.Found.Awaits())
	var guests, services int
	runs := ""
	for _, h := range v.Found.Holders {
		if h.Guest != "" {
			guests++
		} else {
			services++
		}
		if h.Runs != "" {
			runs = h.Runs
		}
	}
	if guests > 0 {
		verb := "run"
		if guests+services == 1 {
			verb = "runs"
		}
		s = fmt.Sprintf("The wanted version is installed, but %s still %s on what it replaced", v.Found.Awaits(), verb)
		if runs != "" {
			s += " (" + runs + ")"
		}
		s += "; a live migration to another host and back, or a stop and start, brings each onto the new one"
	} else if services > 0 {
		s = fmt.Sprintf("The wanted version is installed, but the program that %s runs was replaced on disk under "+
			"it; it must restart", v.Found.Awaits())
	}
	return s + ": it is awaiting restart."
}

func (c *Checker) whyInLine(v Verdict) string {
	switch {
	case v.Found == nil:
		return "It is not there, as wanted: in line."
	case v.Release == nil && v.Clause.Follow:
		return fmt.Sprintf("All that the clause asks for has been fixed since %s: in line.", v.Wants)
	case v.Component.Scheme().Compare(v.Has, v.Wants) > 0 && v.Clause.Follow && c.older(v):
		return fmt.Sprintf("%s is later than %s, the newest that is known: the catalogue is older than the host. In line.", v.Has,
			v.Wants)
	case v.Component.Scheme().Compare(v.Has, v.Wants) > 0:
		return fmt.Sprintf("%s is later than %s, which the clause admits: in line.", v.Has, v.Wants)
	}
	return "It is at the wanted version: in line."
}

func (c *Checker) whyWithdrawn(v Verdict) string {
	track, _ := c.Catalogue.TrackOf(v.Component, v.Has, v.Found.Model)
	s := fmt.Sprintf("Release %s was withdrawn by its publisher: %s.", v.Has,
		c.Catalogue.WithdrawnFor(v.Component, v.Has, track, v.Found.Model))
	if v.Wants == "" {
		return s + " There is no other release to go to."
	}
	if v.Component.Scheme().Compare(v.Has, v.Wants) > 0 {
		return s + " The newest that was not withdrawn is " + v.Wants + ", which is a step back."
	}
	return s + " " + v.Wants + " takes its place."
}

func (c *Checker) whyOffTrack(v Verdict) string {
	own, known := c.Catalogue.TrackOf(v.Component, v.Has, v.Found.Model)
	if !known {
		return fmt.Sprintf("%s is on none of the tracks that are known (%s): it is off track.", v.Has,
			strings.Join(c.Catalogue.Tracks(v.Component), ", "))
	}
	return fmt.Sprintf("It stands on track %s and the clause wants another; one does not continue the other, so it "+
		"is off track and a person decides.", own)
}

// whyNotNewer lists releases above the wanted one that were passed over. A pinned clause passes over nothing: it asks
// for what it says.
func (c *Checker) whyNotNewer(v Verdict) []string {
	if v.Wants == "" || !v.Clause.Follow {
		return nil
	}
	model := ""
	if v.Found != nil {
		model = v.Found.Model
	}
	var out []string
	for _, f := range c.Catalogue.Refusals(v.Component, v.Wants, model, c.rule(v.Clause, v.Component, v.Has, model)) {
		out = append(out, fmt.Sprintf("%s is newer still but not offered: %s.", f.Release.Version, f.Why))
	}
	return out
}

// Age says a duration the way people do: "40 s", "4 min", "3 h", "2 days".
func Age(d time.Duration) string {
	switch {
	case d < 0:
		return "0 s"
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// whyOpen names the advisories to which the version that is there lies open.
func (c *Checker) whyOpen(v Verdict, system string) []string {
	if v.Has == "" {
		return nil
	}
	const most = 4
	var ids []string
	open := c.Catalogue.Against(v.Component, v.Has, system)
	for _, a := range open[:min(len(open), most)] {
		s := a.ID
		if a.Severity > catalogue.Unknown {
			s += " (" + a.Severity.String() + ")"
		}
		if a.Title != "" {
			s += ": " + strings.TrimSuffix(a.Title, ".")
		}
		ids = append(ids, s)
	}
	if len(ids) == 0 {
		return nil
	}
	if rest := len(open) - len(ids); rest > 0 {
		ids = append(ids, fmt.Sprintf("and %d more", rest))
	}
	return []string{fmt.Sprintf("%s is affected by %s.", v.Has, strings.Join(ids, "; "))}
}

// whyNothing says why a clause that follows the newest finds nothing to offer for what is there: the answer to "why is
// nothing offered?".
func (c *Checker) whyNothing(v Verdict) string {
	const so = ", so there is nothing to compare with: the clause does not apply."
	rs := c.Catalogue.Releases(v.Component)
	model := v.Found.Model
	switch {
	case v.Component.Kind() == estate.WholeHost:
		return "The catalogue has no such whole-host target" + so
	case len(rs) == 0:
		return c.whyUnknown(v) + so
	}
	rule := c.rule(v.Clause, v.Component, v.Has, model)
	newest := rs[len(rs)-1]
	all := map[string]bool{}
	for _, f := range c.Catalogue.Refusals(v.Component, "", model, rule) {
		all[f.Why] = true
	}
	why := "no release that the clause admits here"
	if len(all) == 1 {
		for w := range all {
			why += " (of each that there is: " + w + ")"
		}
	}
	if c.older(v) {
		why += "; the newest it knows is " + newest.Version + ": the catalogue is older than the host"
	}
	return "The catalogue has " + why + so
}

// older tells whether what is there sorts after every release that the catalogue has of it.
func (c *Checker) older(v Verdict) bool {
	rs := c.Catalogue.Releases(v.Component)
	return len(rs) > 0 && v.Component.Scheme().Compare(v.Has, rs[len(rs)-1].Version) > 0
}

// whyUnknown tells a component that no feed has from one that feeds have under another kind of package.
func (c *Checker) whyUnknown(v Verdict) string {
	for _, kind := range estate.Kinds() {
		if k := estate.Key(kind + ":" + v.Component.Name()); kind != v.Component.Kind() && kind != "set" &&
			len(c.Catalogue.Releases(k)) > 0 {
			return fmt.Sprintf("The catalogue has %s but not as a %s package", k, v.Component.Kind())
		}
	}
	return "No feed has any release of it"
}
