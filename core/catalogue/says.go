package catalogue

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
	"yareharbour/core/span"
)

// Details says what there is to know of a release beyond its version, date and severity, a sentence each.
func (r *Release) Details() (out []string) {
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if r.Notes != "" {
		add("%s", r.Notes)
	}
	if r.Link != "" {
		add("More at %s", r.Link)
	}
	if r.Disputed != "" {
		add("Feeds disagree about it: %s.", r.Disputed)
	}
	by := r.Feed
	if r.Vendor != "" {
		by = r.Vendor + ", in the feed " + r.Feed
	}
	if by != "" {
		add("Published by %s.", by)
	}
	switch {
	case !r.Image:
	case r.Takes > 0:
		add("It comes by an image that the host starts from once through its BMC, which takes about %s beside the restart.", span.String(r.Takes))
	default:
		add("It comes by an image that the host starts from once through its BMC.")
	}
	if r.At != "" {
		add("The BMC fetches it itself, from %s; nothing here holds what it gets against the hash.", r.At)
	}
	switch r.Restart {
	case "", NoRestart:
	case PowerCycle:
		add("It takes a power cycle.")
	case BMCRestart:
		add("It takes a restart of the BMC.")
	default:
		add("It takes a %s restart.", r.Restart)
	}
	for _, q := range r.Requires {
		where := ""
		if q.Anywhere {
			where = " somewhere in the cluster"
		}
		add("It requires %s %s or later to run first%s.", q.Component, q.AtLeast, where)
	}
	if r.OneWay != "" {
		add("There is no way back from it: %s.", strings.TrimSuffix(r.OneWay, "."))
	}
	if len(r.Adds) > 0 {
		add("With it a host has %s.", strings.Join(r.Adds, ", "))
	}
	if len(r.Drops) > 0 {
		add("With it a host has %s no more.", strings.Join(r.Drops, ", "))
	}
	for _, k := range r.Replaces {
		add("It takes the place of %s.", k)
	}
	if len(r.Members) > 0 {
		var parts []string
		for _, q := range r.Members {
			parts = append(parts, string(q.Component)+" "+q.AtLeast)
		}
		add("It is made of %s.", strings.Join(parts, ", "))
	}
	if r.File != "" {
		add("It comes in %s, %s.", r.File, Bytes(r.Size))
	}
	if r.SHA256 != "" {
		add("Its SHA-256 is %s.", r.SHA256)
	}
	return out
}

// Grade says how severe the advisory is, with its score where it has one.
func (a *Advisory) Grade() string {
	if a.Score > 0 {
		return fmt.Sprintf("%s, CVSS %.1f", a.Severity, a.Score)
	}
	return a.Severity.String()
}

// Speaks tells whether a line of a compatibility list is about the component.
func (p Pairing) Speaks(k estate.Key) bool {
	return slices.ContainsFunc(p.With, func(w Within) bool { return w.Component == k })
}

// String says the line in words.
func (p Pairing) String() string {
	var parts []string
	for _, w := range p.With {
		parts = append(parts, w.String())
	}
	on := ""
	if p.Hardware != "" {
		on = "on a " + p.Hardware + ", "
	}
	s := fmt.Sprintf("%s: %s%s", p.List, on, strings.Join(parts, " with "))
	if p.Platform != "" {
		s += ", under " + p.Platform
	}
	return s + "."
}
