package drift

import (
	"cmp"
	"slices"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Flag is a version that hosts have and that its publisher took back, or against which there is an advisory: whether
// any clause speaks of it or not.
type Flag struct {
	Component  estate.Key         `json:"component"`
	Version    string             `json:"version"`
	Model      string             `json:"hardware,omitempty"`
	Withdrawn  string             `json:"withdrawn,omitempty"` // why; empty: it stands
	Advisories []string           `json:"advisories,omitempty"`
	Severity   catalogue.Severity `json:"severity"` // the worst of the advisories
	Hosts      []string           `json:"hosts"`    // that have it, sorted
	Bound      bool               `json:"bound"`    // a clause speaks of the component on every one of them
}

// Flags lists what hosts have that was withdrawn or is open to advisories, withdrawn ones first, then by severity.
// bound tells whether a clause speaks of a component on a host; nil: none does.
func Flags(h *Holdings, cat *catalogue.Catalogue, bound func(host string, k estate.Key) bool) []Flag {
	var out []Flag
	for _, k := range h.keys {
		for _, v := range h.variants[k] {
			if v.version == "" {
				continue
			}
			of := len(out)
			for _, at := range h.bySystem(v.at) {
				f := Flag{Component: k, Version: v.version, Model: v.model, Bound: true}
				track, _ := cat.TrackOf(k, v.version, v.model)
				f.Withdrawn = cat.WithdrawnFor(k, v.version, track, v.model)
				for _, a := range cat.Against(k, v.version, h.hosts[at[0].host].system) {
					f.Advisories = append(f.Advisories, a.ID)
					f.Severity = max(f.Severity, a.Severity)
				}
				if f.Withdrawn == "" && len(f.Advisories) == 0 {
					continue
				}
				i := of + slices.IndexFunc(out[of:], func(o Flag) bool { return slices.Equal(o.Advisories, f.Advisories) })
				if i < of {
					i, out = len(out), append(out, f)
				}
				for _, s := range at {
					name := h.hosts[s.host].host
					out[i].Bound = out[i].Bound && bound != nil && bound(name, k)
					if !slices.Contains(out[i].Hosts, name) {
						out[i].Hosts = append(out[i].Hosts, name)
					}
				}
				slices.Sort(out[i].Hosts)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Flag) int {
		return cmp.Or(cmp.Compare(min(len(b.Withdrawn), 1), min(len(a.Withdrawn), 1)),
			cmp.Compare(b.Severity, a.Severity), strings.Compare(string(a.Component), string(b.Component)))
	})
	return out
}

// bySystem parts the spots by what distribution and release their hosts are of: advisories speak of those.
func (h *Holdings) bySystem(at []spot) (out [][]spot) {
	for _, s := range at {
		i := slices.IndexFunc(out, func(of []spot) bool { return h.hosts[of[0].host].system == h.hosts[s.host].system })
		if i < 0 {
			i, out = len(out), append(out, nil)
		}
		out[i] = append(out[i], s)
	}
	return out
}

// BoundBy tells, of verdicts by host, whether one is about a component.
func BoundBy(byHost map[string][]Verdict) func(host string, k estate.Key) bool {
	return func(host string, k estate.Key) bool {
		vs := byHost[host]
		i, _ := slices.BinarySearchFunc(vs, k, func(v Verdict, k estate.Key) int {
			return strings.Compare(string(v.Component), string(k))
		})
		return i < len(vs) && vs[i].Component == k
	}
}

// Says is the flag in words.
func (f Flag) Says() string {
	s := string(f.Component) + " " + f.Version
	if f.Withdrawn != "" {
		s += " was withdrawn: " + f.Withdrawn
	}
	if len(f.Advisories) > 0 {
		s += " is affected by " + strings.Join(f.Advisories, ", ")
	}
	return s
}
