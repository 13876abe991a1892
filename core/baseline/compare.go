package baseline

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Change is a difference between two states of a baseline, in words on both sides.
type Change struct {
	What string `json:"what"` // "deb:brae-tls", "exception of fw:corran-bios", "rank", "binds"
	From string `json:"from"` // empty: it was not there
	To   string `json:"to"`   // empty: it is gone
}

// String says it in a line.
func (c Change) String() string {
	switch {
	case c.From == "":
		return fmt.Sprintf("+ %s: %s", c.What, c.To)
	case c.To == "":
		return fmt.Sprintf("− %s: %s", c.What, c.From)
	}
	return fmt.Sprintf("~ %s: %s → %s", c.What, c.From, c.To)
}

// Compare says in what a baseline differs from what it was.
func Compare(from, to Baseline) []Change {
	var out []Change
	add := func(what, a, b string) {
		if a != b {
			out = append(out, Change{what, a, b})
		}
	}
	add("rank", fmt.Sprint(from.Rank), fmt.Sprint(to.Rank))
	add("binds", orNobody(from.Assign), orNobody(to.Assign))
	for _, c := range from.Clauses {
		i := slices.IndexFunc(to.Clauses, func(o Clause) bool {
			return o.Component == c.Component && estate.SameModel(o.Hardware, c.Hardware)
		})
		if i < 0 {
			add(string(c.Component), c.Says(), "")
			continue
		}
		add(string(c.Component), c.Says(), to.Clauses[i].Says())
	}
	for _, c := range to.Clauses {
		if !slices.ContainsFunc(from.Clauses, func(o Clause) bool {
			return o.Component == c.Component && estate.SameModel(o.Hardware, c.Hardware)
		}) {
			add(string(c.Component), "", c.Says())
		}
	}
	was, is := pardons(from), pardons(to)
	for _, e := range from.Exceptions {
		what := "exception of " + string(e.Component)
		if !slices.Contains(is, e.says()) {
			add(what, e.says(), "")
		}
	}
	for _, e := range to.Exceptions {
		if !slices.Contains(was, e.says()) {
			add("exception of "+string(e.Component), "", e.says())
		}
	}
	return out
}

func orNobody(names []string) string {
	if len(names) == 0 {
		return "nobody"
	}
	return strings.Join(names, ", ")
}

func pardons(b Baseline) (out []string) {
	for _, e := range b.Exceptions {
		out = append(out, e.says())
	}
	return out
}

func (e Exception) says() string {
	return fmt.Sprintf("on %s until %s by %s: %s", strings.Join(e.Hosts, ", "),
		e.Until.Add(-time.Second).Format(time.DateOnly), e.By, e.Reason)
}
