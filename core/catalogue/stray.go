package catalogue

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// Strays tells what the catalogue takes back or warns of that is nothing known: no host has such a component, or not on
// such hardware, and no other release is of it. It may be of no concern here, and it may be misspelt. has tells whether
// some host has the component, on hardware of one of the models where any are named.
func (c *Catalogue) Strays(has func(key estate.Key, models []string) bool) (out []string) {
	sources := map[estate.Key]bool{}
	for _, key := range c.Components() {
		rs := c.releases[key]
		for i := range rs {
			w := &rs[i]
			sources[estate.Key(key.Kind()+":"+w.Source)] = true
			if w.own == "" || has(key, w.Hardware) || slices.ContainsFunc(rs, func(r Release) bool {
				return r.own == "" && (len(w.Hardware) == 0 || len(r.Hardware) == 0 ||
					slices.ContainsFunc(w.Hardware, r.Fits))
			}) {
				continue
			}
			what := fmt.Sprintf("%s %s", key, w.Version)
			if len(w.Hardware) > 0 {
				what += " for " + strings.Join(w.Hardware, ", ")
			}
			out = append(out, fmt.Sprintf("%s takes back %s, and nothing known is that: no host has it, and no other "+
				"release is for it", w.Feed, what))
		}
	}
	stray := map[string][]string{} // by feed, advisories
	var feeds []string
	for _, a := range c.Advisories() {
		if slices.ContainsFunc(a.Affects, func(f Affect) bool {
			return has(f.Component, nil) || len(c.releases[f.Component]) > 0 || f.Source && sources[f.Component]
		}) {
			continue
		}
		if stray[a.Feed] == nil {
			feeds = append(feeds, a.Feed)
		}
		stray[a.Feed] = append(stray[a.Feed], a.ID)
	}
	for _, f := range feeds {
		ids := stray[f]
		says := fmt.Sprintf("%s of %s are about nothing known: no host has it, and no release is of it: ",
			Some(len(ids), "advisory"), f)
		if len(ids) == 1 {
			says = fmt.Sprintf("1 advisory of %s is about nothing known: no host has it, and no release is of it: ", f)
		}
		const most = 3
		says += strings.Join(ids[:min(len(ids), most)], ", ")
		if len(ids) > most {
			says += fmt.Sprintf(" and %d more", len(ids)-most)
		}
		out = append(out, says)
	}
	return out
}
