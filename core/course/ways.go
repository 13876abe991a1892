package course

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// Way is something that a person can do about a round that does not go on by itself: a sentence, and the arguments of
// the command that does it. What the person must say is left to him: a reason, and what he saw.
type Way struct {
	Says    string   `json:"says"`
	Command []string `json:"command"`
	Asks    string   `json:"asks"` // the decision, or AskGoOn
	Host    string   `json:"host,omitempty"`
	Of      string   `json:"of,omitempty"`
}

// Ways are what a person can do, the least first; none while the round goes on by itself, or is over. From every state
// in which a round has ended and holds something, one of them leads on.
func (s *State) Ways() (out []Way) {
	if s.Status == Running || s.Status == Finished || s.Status == Planned || s.Status == "" {
		return nil
	}
	c := s.Plan.Brief.Cluster
	out = append(out, Way{Says: "put it right, and let the round go on", Command: []string{"round", "resume", c},
		Asks: AskGoOn})
	for i := range s.Visits {
		v := &s.Visits[i]
		if v.Over() || v.Failure == nil {
			continue
		}
		out = append(out, s.waysFor(v)...)
		out = append(out, Way{Says: "take " + v.Host + " over as it is; the round goes on without it",
			Command: []string{"round", "hand-over", c, v.Host}, Asks: AskHand, Host: v.Host})
	}
	return append(out, Way{Says: "end the round: nothing more is begun", Command: []string{"round", "end", c},
		Asks: AskEnd})
}

// waysFor are what can be decided about what a visit stands at: acts that no look settles, and changes that are still to
// be made.
func (s *State) waysFor(v *Visit) (out []Way) {
	c := s.Plan.Brief.Cluster
	given := s.given(v.Host)
	for _, p := range given {
		out = append(out, Way{Says: "you have seen that it was done: " + p.Act.Says(),
			Command: []string{"round", "settle", c, v.Host, "--done"}, Asks: AskDone, Host: v.Host, Of: p.Act.ID})
		if p.Act.Kind != act.Start { // nobody's word permits starting a guest: it may run elsewhere
			out = append(out, Way{Says: "you have seen that it was not done: " + p.Act.Says(),
				Command: []string{"round", "settle", c, v.Host, "--not-done"}, Asks: AskUndone, Host: v.Host, Of: p.Act.ID})
		}
	}
	if len(v.Failure.Queued) > 0 {
		out = append(out, Way{Says: "clear what waits in its BMC's queue", Command: []string{"host", "clear", v.Host, "--all"},
			Asks: AskClear, Host: v.Host})
	}
	for _, i := range v.wanted() {
		ch := &v.Changes[i]
		if !v.Made(i) && len(given) == 0 && !s.opens(v.Host, i) && !v.rung(i) {
			out = append(out, Way{Says: "do the rest without " + made(ch),
				Command: []string{"round", "drop", c, v.Host, ch.Title()}, Asks: AskDrop, Host: v.Host, Of: ch.Title()})
		}
	}
	return out
}

// Refuses says why a decision can't be taken as the round stands, and "" where it can. It fills in what is plain: which
// act is meant where one alone needs a person, and a component that a change of one device alone is about.
func (s *State) Refuses(e *Event) string {
	v := s.Visit(e.Host)
	switch {
	case s.Status == Finished:
		return "the round is finished"
	case strings.TrimSpace(e.Reason) == "":
		return "it needs a reason"
	case e.Detail == AskEnd:
		return ""
	case v == nil:
		return fmt.Sprintf("the round has no visit to %q", e.Host)
	case v.Over():
		return fmt.Sprintf("the visit to %s is over: %s", e.Host, v.Phase)
	}
	switch e.Detail {
	case AskDrop:
		return s.refusesDrop(v, e)
	case AskDone, AskUndone:
		return s.refusesWord(v, e)
	case AskClear:
		if len(e.Tasks) == 0 {
			return "no task is named"
		}
		return ""
	case AskHand:
		return ""
	}
	return fmt.Sprintf("nobody can decide %q", e.Detail)
}

func (s *State) refusesDrop(v *Visit, e *Event) string {
	var titles []string
	matches := map[string]bool{}
	for i := range v.Changes {
		c := &v.Changes[i]
		if title := c.Title(); v.rung(i) || v.Without(i) {
			continue
		} else if titles = append(titles, title); title == e.Of || c.Component == estate.Key(e.Of) {
			matches[title] = true
			switch {
			case v.Made(i):
				return title + " " + c.To + " was put in already"
			case s.opens(v.Host, i):
				return "how an act about " + title + " came out is not known: settle that first, or hand the host over"
			}
			e.Of = title
		}
	}
	if given := s.given(v.Host); len(given) > 0 && len(matches) > 0 {
		return fmt.Sprintf("how it came out to %q is not known: settle that first, or hand the host over",
			given[0].Act.Says())
	}
	switch {
	case len(matches) == 0:
		return fmt.Sprintf("the visit to %s makes no change %q; it makes: %s", v.Host, e.Of, strings.Join(titles, ", "))
	case len(matches) > 1:
		return fmt.Sprintf("several changes of %s are called that: say which device: %s", v.Host, strings.Join(titles, ", "))
	}
	return ""
}

// made says what a change would make.
func made(c *act.Change) string {
	switch {
	case c.To == "":
		return "removing " + c.Title()
	case c.From == "":
		return "installing " + c.Title() + " " + c.To
	}
	return c.Title() + " " + c.From + " → " + c.To
}

// given are the acts of the visit that were waited for in vain, or of which a look does not tell: only a person can
// settle them. A claim is none of them: it is the lease's.
func (s *State) given(host string) (out []*Pending) {
	for j := range s.Open {
		if p := &s.Open[j]; p.Act.Visit() == host && p.Ordered && p.Act.Kind != act.Claim {
			out = append(out, p)
		}
	}
	return out
}

// opens tells whether an act about the change is open.
func (s *State) opens(host string, i int) bool {
	return slices.ContainsFunc(s.Open, func(p Pending) bool { return p.Act.Visit() == host && p.Act.Makes(i) })
}

func (s *State) refusesWord(v *Visit, e *Event) string {
	var ids []string
	for _, p := range s.given(v.Host) {
		if e.Of != "" && p.Act.ID != e.Of {
			continue
		}
		if p.Act.Kind == act.Start && e.Detail == AskUndone {
			return "nobody's word permits starting a guest: it may run elsewhere. See that it runs, or hand the host over"
		}
		ids = append(ids, p.Act.ID)
	}
	switch len(ids) {
	case 0:
		return "nothing of the visit to " + v.Host + " needs a person's word: looks settle the rest"
	case 1:
		e.Of = ids[0]
		return ""
	}
	return "several acts need a person's word: say which: " + strings.Join(ids, ", ")
}
