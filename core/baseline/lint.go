package baseline

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Problem is something in a baseline, or in the catalogue, that does not mean what it seems to.
type Problem struct {
	Baseline string `json:"baseline"`       // empty where it is about the catalogue
	Line     int    `json:"line,omitempty"` // of the clause it is about; 0 where it is about none
	// Error tells that a name was meant to bind or to pardon, and does neither: nothing may be concluded from the
	// baseline before that is put right. Otherwise it is only worth knowing.
	Error bool   `json:"error"`
	Text  string `json:"text"`
}

// String says it in a line.
func (p Problem) String() string {
	if p.Baseline == "" {
		return p.Text
	}
	at := ""
	if p.Line > 0 {
		at = fmt.Sprintf(", line %d", p.Line)
	}
	return fmt.Sprintf("the baseline %s%s: %s", p.Baseline, at, p.Text)
}

// World is what a baseline is looked at beside.
type World struct {
	Clusters  []estate.Cluster
	Catalogue *catalogue.Catalogue
	Readings  map[string]*estate.Reading // by host, as they were last kept; hosts that were never read are not in it
	Now       time.Time
}

// Look names every name in the baseline that matches nothing: places, components, tracks, models, publishers,
// whole-host targets, and exceptions that pardon nothing or have ended. all are the baselines that hold beside it.
func Look(b Baseline, all []Baseline, w World) []Problem {
	l := look{b: b, w: w}
	if len(b.Assign) == 0 {
		l.add(0, false, "it is assigned to nothing, and so binds no host")
	}
	for _, a := range b.Assign {
		l.place(0, "it is assigned to", a)
	}
	for _, c := range b.Clauses {
		l.clause(c)
	}
	for _, e := range b.Exceptions {
		l.exception(e, append(slices.Clone(all), b))
	}
	return l.out
}

type look struct {
	b   Baseline
	w   World
	out []Problem
}

func (l *look) add(line int, isError bool, format string, args ...any) {
	l.out = append(l.out, Problem{l.b.Name, line, isError, fmt.Sprintf(format, args...)})
}

// place holds the name of a place against the estate.
func (l *look) place(line int, says, name string) {
	cluster, host, one := strings.Cut(name, "/")
	i := slices.IndexFunc(l.w.Clusters, func(c estate.Cluster) bool { return c.Name == cluster })
	switch {
	case i < 0:
		var names []string
		for _, c := range l.w.Clusters {
			names = append(names, c.Name)
		}
		l.add(line, true, "%s %s, and there is no cluster %q; there are %s", says, name, cluster,
			strings.Join(names, ", "))
	case one && !slices.Contains(l.w.Clusters[i].Hosts, host):
		l.add(line, true, "%s %s, and there is no host %q in %s, which has %s", says, name, host, cluster,
			strings.Join(l.w.Clusters[i].Hosts, ", "))
	}
}

// bound are the readings of the hosts that the baseline binds.
func (l *look) bound() (out []*estate.Reading) {
	for _, c := range l.w.Clusters {
		for _, h := range c.Hosts {
			if r := l.w.Readings[h]; r != nil && l.b.Binds(c.Name, h) {
				out = append(out, r)
			}
		}
	}
	return out
}

func (l *look) clause(c Clause) {
	if c.Component.Kind() == estate.WholeHost {
		if len(l.w.Catalogue.Releases(c.Component)) == 0 {
			l.add(c.Line, true, "there is no whole-host target %s in the catalogue", c.Component)
		} else if !c.Follow && l.w.Catalogue.Release(c.Component, c.Version, "", "") == nil {
			l.add(c.Line, true, "the whole-host target %s has no release %s", c.Component, c.Version)
		}
		return
	}
	releases := l.w.Catalogue.Releases(c.Component)
	l.named(c, releases)
	if c.Component.Name() == "*" {
		return
	}
	l.pinned(c, releases)
	l.onHosts(c, releases)
}

// named holds track, model and publisher against what the catalogue and the hosts have.
func (l *look) named(c Clause, releases []catalogue.Release) {
	if c.Track == "" && c.Vendor == "" && c.Hardware == "" {
		return
	}
	tracks := l.w.Catalogue.Tracks(c.Component)
	hasTrack := slices.Contains(tracks, c.Track)
	hasVendor, hasModel := false, false
	look := func(releases []catalogue.Release) {
		for i := range releases {
			r := &releases[i]
			hasTrack = hasTrack || r.Track == c.Track
			hasVendor = hasVendor || strings.EqualFold(r.Vendor, c.Vendor)
			hasModel = hasModel || estate.HasModel(r.Hardware, c.Hardware)
			if r.Track != "" && !slices.Contains(tracks, r.Track) {
				tracks = append(tracks, r.Track)
			}
		}
	}
	look(releases)
	if c.Component.Name() == "*" {
		for _, k := range l.w.Catalogue.Components() {
			if k.Kind() == c.Component.Kind() {
				look(l.w.Catalogue.Releases(k))
			}
		}
	}
	for _, r := range l.w.Readings {
		hasModel = hasModel || estate.HasModel(r.Models(), c.Hardware)
	}
	if c.Track != "" && !hasTrack {
		l.add(c.Line, true, "%s has no track %q; its tracks are %s", c.Component, c.Track, cmp.Or(strings.Join(tracks, ", "), "none"))
	}
	if c.Vendor != "" && !hasVendor {
		l.add(c.Line, true, "no release of %s is published by %q", c.Component, c.Vendor)
	}
	if c.Hardware != "" && !hasModel {
		l.add(c.Line, true, "no host has a %q, and no release is for one", c.Hardware)
	}
}

// pinned says of a version that is named whether it can be had.
func (l *look) pinned(c Clause, releases []catalogue.Release) {
	if c.Version == "" || c.Component.Scheme() == 0 || len(releases) == 0 {
		return
	}
	scheme := c.Component.Scheme()
	i := slices.IndexFunc(releases, func(r catalogue.Release) bool { return scheme.Compare(r.Version, c.Version) == 0 })
	switch {
	case i < 0:
		l.add(c.Line, false, "%s %s is in no feed: hosts are held against it, and it can't be installed",
			c.Component, c.Version)
	case releases[i].Withdrawn != "":
		l.add(c.Line, false, "%s %s was withdrawn: %s", c.Component, c.Version, releases[i].Withdrawn)
	}
}

// onHosts asks whether the hosts that are bound can have the component at all. A clause that some host keeps or breaks
// is none of this one's business.
func (l *look) onHosts(c Clause, releases []catalogue.Release) {
	var without []string
	known := 0
	for _, r := range l.bound() {
		if !r.Section(c.Component.Section()).Whole() {
			continue
		}
		known++
		if len(r.Of(c.Component)) > 0 {
			return
		}
		if why := foreign(c.Component, r); why != "" {
			without = append(without, r.Host+" "+why)
		}
	}
	switch {
	case known == 0:
	case len(without) == known && c.Posture != Never:
		l.add(c.Line, true, "no host that it binds can have %s: %s", c.Component, strings.Join(without, ", "))
	case c.Posture == IfPresent || c.Posture == Never && len(releases) == 0:
		l.add(c.Line, false, "no host that it binds has %s (of %d that were read)", c.Component, known)
	}
}

// foreign says why a host can't have the component: its packages are of another kind, or the device is not in it.
func foreign(k estate.Key, r *estate.Reading) string {
	switch k.Kind() {
	case "deb", "rpm":
		other := map[string]string{"deb": "rpm", "rpm": "deb"}[k.Kind()]
		has := func(kind string) bool {
			return slices.ContainsFunc(r.Components, func(c estate.Component) bool { return c.Key.Kind() == kind })
		}
		if !has(k.Kind()) && has(other) {
			return "has " + other + " packages"
		}
	case "fw", "drv":
		return "has no such device"
	}
	return ""
}

// exception holds an exception against the clauses that it could pardon, and against today.
func (l *look) exception(e Exception, all []Baseline) {
	for _, h := range e.Hosts {
		l.place(0, fmt.Sprintf("the exception of %s is for", e.Component), h)
	}
	spoken := slices.ContainsFunc(all, func(b Baseline) bool {
		return l.meets(b, e) && slices.ContainsFunc(b.Clauses, func(c Clause) bool {
			return c.Component.Matches(e.Component) || e.Component.Matches(c.Component) ||
				c.Component.Kind() == estate.WholeHost && l.holds(c.Component, e.Component)
		})
	})
	if !spoken {
		l.add(0, true, "the exception of %s excuses nothing: no clause that binds there is about it", e.Component)
	}
	if !l.w.Now.Before(e.Until) {
		l.add(0, false, "the exception of %s on %s ended with %s: it pardons nothing any more", e.Component,
			strings.Join(e.Hosts, ", "), e.LastDay())
	}
}

// meets tells whether a baseline binds a host that an exception is for.
func (l *look) meets(b Baseline, e Exception) bool {
	for _, c := range l.w.Clusters {
		for _, h := range c.Hosts {
			if b.Binds(c.Name, h) && assigned(e.Hosts, c.Name, h) {
				return true
			}
		}
	}
	return false
}

// holds tells whether a whole-host target has a member that an exception speaks of.
func (l *look) holds(target, pardoned estate.Key) bool {
	return slices.ContainsFunc(l.w.Catalogue.Releases(target), func(r catalogue.Release) bool {
		return slices.ContainsFunc(r.Members, func(m catalogue.Requirement) bool {
			return pardoned.Matches(m.Component) || m.Component == pardoned
		})
	})
}
