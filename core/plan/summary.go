package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/drift"
)

// Summary says in one line what the plan comes to.
func (p *Plan) Summary() string {
	if p.Brief.Staging != "" {
		return p.stagingSummary()
	}
	bad := len(p.Obstacles())
	parts := []string{fmt.Sprintf("visits %d", len(p.Visits)-bad)}
	if bad > 0 {
		parts = append(parts, fmt.Sprintf("can't be made %d", bad))
	}
	middle, worst := p.Takes()
	moves := fmt.Sprintf("moves %d (floor %d, going home each time %d)", p.Moves, p.Floor, p.GoingHome)
	if p.Brief.Home {
		moves = fmt.Sprintf("moves %d, guests go home (floor %d)", p.Moves, p.Floor)
	}
	parts = append(parts, moves,
		fmt.Sprintf("about %s, at worst %s", drift.Age(middle), drift.Age(worst)))
	return strings.Join(parts, " · ")
}

// returns counts the guests that leave their hosts, and those that come back.
func (p *Plan) returns() (left, back int) {
	for i := range p.Visits {
		left, back = left+len(p.Visits[i].Moves), back+len(p.Visits[i].Back)
	}
	return left, back
}

// Notes are what else is to be said of the plan as a whole: what costs moves, how level the hosts are afterwards, what
// staging takes, how the windows are used.
func (p *Plan) Notes() (out []string) {
	switch left, back := p.returns(); {
	case p.Brief.Home && left > back:
		out = append(out, fmt.Sprintf("%d of %d guests find no room to go home, and stay", left-back, left))
	case p.Brief.Home && len(p.Visits) > 0:
		out = append(out, fmt.Sprintf("every guest is where it was afterwards, for %d moves more", back))
	case back > 0:
		out = append(out, fmt.Sprintf("%s comes back to %s as proof, and stays there over the soak",
			p.visit(p.Brief.Trial).Back[0].Guest, p.Brief.Trial))
	case slices.ContainsFunc(p.Visits, func(v Visit) bool {
		return v.Host == p.Brief.Trial && v.Empties && v.Obstacle == ""
	}):
		out = append(out, "no guest comes back to "+p.Brief.Trial+" as proof: it had none that could")
	}
	if !p.Brief.Home && len(p.Twice) > 0 && p.Moves > p.Floor {
		s := fmt.Sprintf("%d moves more than the floor", p.Moves-p.Floor)
		if len(p.Excess) > 0 {
			s += fmt.Sprintf("; %d would do %s", p.Excess[0].Moves, p.Excess[0].Says)
		}
		out = append(out, s)
	}
	late := p.Schedule((*Visit).worst)
	for i := range p.Visits {
		if v := &p.Visits[i]; v.Obstacle == "" {
			if why := v.pardoned(late[v.Host].From); why != "" {
				out = append(out, v.Host+" has its turn in time, but at worst: "+why)
			}
		}
	}
	if p.Bound > p.Floor {
		out = append(out, fmt.Sprintf("with hosts as these are, no order takes fewer than %d moves", p.Bound))
	}
	var staging time.Duration
	for i := range p.Visits {
		for _, s := range p.Visits[i].Steps {
			if s.Step == act.StageStep && p.Visits[i].Obstacle == "" {
				staging += s.Middle
			}
		}
	}
	if staging >= time.Minute {
		out = append(out, fmt.Sprintf("of that, %s go into staging", drift.Age(staging)))
	}
	if says := p.stagingNote(); says != "" {
		out = append(out, says)
	}
	if p.Level > 0 {
		last := ""
		for i := range p.Visits {
			if v := &p.Visits[i]; v.Empties && v.Obstacle == "" {
				last = v.Host
			}
		}
		if last != "" {
			out = append(out, fmt.Sprintf(
				"afterwards %s is empty and the others are within %.0f points of each other; %d moves more would "+
					"level that", last, 100*p.Spread, p.Level))
		}
	}
	if turns := p.Schedule((*Visit).worst); len(p.Brief.Windows) > 0 && len(turns) > 0 {
		var last time.Time
		for _, t := range turns {
			last = later(last, t.To)
		}
		i := slices.IndexFunc(p.Brief.Windows, func(w Window) bool { return !last.After(w.To) })
		if i >= 0 {
			w := p.Brief.Windows[i]
			out = append(out, fmt.Sprintf("at worst it ends at %s, and the window at %s", last.Format("Mon 15:04"),
				w.To.In(last.Location()).Format("Mon 15:04")))
		}
	}
	return out
}
