package act

import (
	"fmt"
	"strings"

	"yareharbour/core/estate"
)

// Along is a package that comes in, or changes, because others do. It was asked of the host's own package manager when
// the round was planned, and is part of the plan from then on.
type Along struct {
	Component estate.Key `json:"component"`
	From      string     `json:"from,omitempty"` // empty: it is not there yet
	To        string     `json:"to"`
	Pass      int        `json:"pass"`
}

// Says returns it in words.
func (a Along) Says() string {
	if a.From == "" {
		return fmt.Sprintf("%s %s comes along", a.Component, a.To)
	}
	return fmt.Sprintf("%s %s → %s comes along", a.Component, a.From, a.To)
}

// Resolution is what the host's own package manager says that the package changes of a pass would do there.
type Resolution struct {
	Pass    int          `json:"pass"`
	Along   []Along      `json:"along,omitempty"`
	Removes []estate.Key `json:"removes,omitempty"` // that would go, though nobody asked for it
	Refused string       `json:"refused,omitempty"` // why it would not do it
	Unasked string       `json:"unasked,omitempty"` // why it could not be asked
}

// Says returns in words what keeps the changes from being made as they are, and "" where nothing does.
func (r Resolution) Says() string {
	switch {
	case r.Refused != "":
		return "its package manager would refuse: " + r.Refused
	case len(r.Removes) > 0:
		var out []string
		for _, k := range r.Removes {
			out = append(out, string(k))
		}
		return "it would also remove " + strings.Join(out, ", ")
	}
	return ""
}
