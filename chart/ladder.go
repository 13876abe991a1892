package chart

import (
	"strings"
	"time"

	"gonum.org/v1/plot/vg"

	"yareharbour/core/ladder"
)

const (
	rungHeight = 24
	trackWidth = 430
)

// Ladder draws a component's tracks side by side, the newest rung on top, with the hosts on their rungs.
func Ladder(l ladder.Ladder) Drawing {
	most := 1
	for _, t := range l.Tracks {
		most = max(most, len(t.Rungs))
	}
	n := max(1, len(l.Tracks))
	return Drawing{Width: vg.Length(2*margin + n*trackWidth), Height: vg.Length(2*margin + 90 + most*rungHeight*2),
		paint: drawn(func(p *pen) {
			p.bold(margin, margin, 15, left, ink, string(l.Component))
			for i, t := range l.Tracks {
				paintTrack(p, t, vg.Length(margin+i*trackWidth), margin+34)
			}
			if len(l.Without) > 0 {
				p.text(margin, p.height-margin, 9, left, alarm, "absent though it is wanted: %s",
					strings.Join(l.Without, ", "))
			}
		})}
}

func paintTrack(p *pen, t ladder.Track, x, y vg.Length) {
	name := "releases"
	if t.Name != "" {
		name = "track " + t.Name
	}
	if t.Model != "" {
		name += ", for " + t.Model
	}
	p.bold(x, y, 10, left, water, name)
	top := y + 22
	bottom := top + vg.Length(len(t.Rungs))*rungHeight*2 - rungHeight
	p.line(x+6, top-8, x+6, bottom, 1.6, water)
	p.line(x+96, top-8, x+96, bottom, 1.6, water)
	for i, r := range t.Rungs {
		at := top + vg.Length(i)*rungHeight*2
		gone := r.Release != nil && r.Release.Withdrawn != ""
		c := ink
		if gone {
			c = alarm
		}
		p.line(x+6, at+9, x+96, at+9, 1.2, water)
		p.bold(x+51, at, 9, centre, c, r.Version)
		if gone {
			p.line(x+14, at, x+88, at, 1, alarm)
		}
		var says []string
		if r.Release != nil && !r.Release.Date.IsZero() {
			says = append(says, r.Release.Date.Format(time.DateOnly))
		}
		p.text(x+104, at, 8, left, grey, "%s", p.fit(strings.Join(append(says, r.Says()...), "; "), 8, trackWidth-114))
		if len(r.Hosts) > 0 {
			p.text(x+104, at+12, 9, left, ink, "%s", p.fit(strings.Join(r.Hosts, ", "), 9, trackWidth-114))
		}
	}
}

// clip shortens a text to so many letters.
func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}
