package chart

import (
	"fmt"
	"strings"

	"gonum.org/v1/plot/vg"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/survey"
)

// sizes of a band, in points.
const (
	margin     = 36
	berthWidth = 74
	aboveDeep  = 96 // room for the load
	rowHeight  = 15
	bandHeight = 40 + aboveDeep + 26 + rowHeight*5 + 22
	needHeight = 14
)

// Waterline draws a survey: a band a cluster, load above the line and drift below, and what needs a person.
func Waterline(s survey.Survey) Drawing {
	widest := 9 // room for the legend
	for _, b := range s.Bands {
		widest = max(widest, len(b.Berths))
	}
	return Drawing{
		Width:  vg.Length(2*margin + 60 + berthWidth*widest),
		Height: vg.Length(2*margin + 60 + bandHeight*len(s.Bands) + needHeight*len(s.Needs) + 30),
		Cuts:   cuts(len(s.Bands)),
		paint:  drawn(func(p *pen) { paintWaterline(p, s) }),
	}
}

// cuts are where the drawing may be cut across: between bands.
func cuts(bands int) (out []vg.Length) {
	for i := range bands {
		out = append(out, vg.Length(margin+66+(i+1)*bandHeight-14))
	}
	return out
}

func paintWaterline(p *pen, s survey.Survey) {
	y := vg.Length(margin)
	p.bold(margin, y, 15, left, ink, s.Name)
	p.text(margin, y+17, 9, left, grey, "%s – load above the line, what is out of line below it",
		s.At.Format("Mon 2 Jan 2006 15:04 MST"))
	paintLegend(p, margin, y+32)
	y += 66
	for _, b := range s.Bands {
		paintBand(p, b, y, s)
		y += bandHeight
	}
	p.bold(margin, y, 11, left, ink, "Needs a person")
	for _, n := range s.Needs {
		y += needHeight
		c := [...]string{"now", "soon", "sometime"}[n.Urgency]
		p.text(margin, y, 9, left, grey, "%s", c)
		p.text(margin+52, y, 9, left, ink, "%s: %s", n.Cluster, needText(n))
	}
}

// paintLegend says what the colours of drift mean; the number in a box is how many components are out of line.
func paintLegend(p *pen, x0, y vg.Length) {
	x := x0
	for _, l := range []struct {
		severity catalogue.Severity
		says     string
	}{{catalogue.Critical, "a critical release is missing"}, {catalogue.High, "one of high severity"},
		{catalogue.Low, "any other drift"}} {
		p.box(x, y-4, 9, 9, depthInk(l.severity))
		p.text(x+13, y, 8, left, grey, "%s", l.says)
		x += 138
	}
	for _, l := range []struct {
		paint func(x, y vg.Length)
		says  string
		wide  vg.Length
	}{
		{func(x, y vg.Length) { p.box(x+3, y-1.5, 3, 3, grey) }, "in line", 52},
		{func(x, y vg.Length) { p.text(x+4, y, 8, centre, grey, "~") }, "not bound by a baseline", 112},
		{func(x, y vg.Length) { p.frame(x, y-4, 9, 9, grey) }, "unread", 52},
	} {
		l.paint(x, y)
		p.text(x+13, y, 8, left, grey, "%s", l.says)
		x += l.wide
	}
	x, y = x0, y+14
	for _, l := range []struct {
		paint func(x, y vg.Length)
		says  string
		wide  vg.Length
	}{
		{func(x, y vg.Length) { p.box(x, y-4, 9, 9, load) }, "memory in use, of the host's", 138},
		{func(x, y vg.Length) { p.hatch(x, y-4, 9, 9, hollow); p.frame(x, y-4, 9, 9, grey) }, "out of service", 138},
		{func(x, y vg.Length) { p.line(x-2, y, x+11, y, 0.8, grey, 3, 3) }, "limit up to which the reserve is kept", 170},
	} {
		l.paint(x, y)
		p.text(x+13, y, 8, left, grey, "%s", l.says)
		x += l.wide
	}
}

func needText(n survey.Need) string {
	if n.Host == "" {
		return n.Text
	}
	return n.Host + " – " + n.Text
}

// blind names the hosts whose guests nobody ever read; open says of how many hosts not all is known.
func blind(b survey.Band) string {
	if len(b.Blind) == 0 {
		return ""
	}
	return " known (never read: " + strings.Join(b.Blind, ", ") + ")"
}

func open(b survey.Band) (out string) {
	if b.Unread > 0 {
		out += fmt.Sprintf(", %d unread", b.Unread)
	}
	if b.Undecided > 0 {
		out += fmt.Sprintf(", %d undecided", b.Undecided)
	}
	if b.Unasked > 0 {
		out += fmt.Sprintf(", %d not covered", b.Unasked)
	}
	return out
}

func paintBand(p *pen, b survey.Band, y vg.Length, s survey.Survey) {
	p.bold(margin, y, 12, left, ink, b.Cluster.Name)
	p.text(margin+80, y, 9, left, grey,
		"%d hosts, %s%s, reserve of %d host: %s; %d in line, %d adrift, %d out of service%s; read %s ago",
		len(b.Berths), b.Guests.Says(), blind(b), b.Cluster.Reserve, reserveWord(b), b.InLine, b.Adrift, b.Out, open(b),
		drift.Age(s.At.Sub(b.ReadAt)))
	line := y + 16 + aboveDeep
	x0 := vg.Length(margin + 60)
	if b.Limit > 0 {
		at := line - vg.Length(b.Limit)*aboveDeep
		p.line(x0, at, x0+vg.Length(berthWidth*len(b.Berths)), at, 0.8, grey, 3, 3)
		p.text(x0-6, at, 8, right, grey, "limit %.0f%%", 100*b.Limit)
	}
	for i, l := range estate.Layers {
		p.text(x0-6, line+30+vg.Length(i*rowHeight), 8, right, grey, "%s", l)
	}
	for i, h := range b.Berths {
		paintBerth(p, h, x0+vg.Length(i*berthWidth), line)
	}
	p.line(x0, line, x0+vg.Length(berthWidth*len(b.Berths)), line, 2, water)
}

func reserveWord(b survey.Band) string {
	switch {
	case len(b.Blind) > 0:
		return "not known"
	case b.Reserve.Outcome == fit.Fits:
		return "kept"
	case b.Reserve.Outcome == fit.Unproven:
		return "unproven"
	}
	return "not kept"
}

func paintBerth(p *pen, h survey.Berth, x, line vg.Length) {
	const bar = 40
	left0 := x + (berthWidth-bar)/2
	height := vg.Length(h.Memory) * aboveDeep
	switch h.Service {
	case survey.Open:
		p.box(left0, line-height, bar, height, load)
		if height > 14 {
			p.text(x+berthWidth/2, line-height+7, 8, centre, white, "%.0f%%", 100*h.Memory)
		} else {
			p.text(x+berthWidth/2, line-height-7, 8, centre, ink, "%.0f%%", 100*h.Memory)
		}
	default:
		p.hatch(left0, line-aboveDeep, bar, aboveDeep, hollow)
		p.frame(left0, line-aboveDeep, bar, aboveDeep, grey)
		p.box(left0+1, line-aboveDeep/2-7, bar-2, 14, white)
		p.text(x+berthWidth/2, line-aboveDeep/2, 8, centre, ink, "%s", h.Service)
	}
	p.bold(x+berthWidth/2, line+12, 9, centre, ink, h.Host)
	for i, l := range estate.Layers {
		d, y := h.Depth[l], line+24+vg.Length(i*rowHeight)
		switch {
		case d.Unread:
			p.frame(left0, y, bar, rowHeight-3, grey)
			p.text(x+berthWidth/2, y+6, 8, centre, ink, "unread")
		case d.Drift > 0:
			p.box(left0, y, bar, rowHeight-3, depthInk(d.Worst))
			p.text(x+berthWidth/2, y+6, 8, centre, white, "%s", fmt.Sprint(d.Drift))
		case d.InLine > 0:
			p.box(left0+bar/2-1.5, y+4.5, 3, 3, grey)
		case d.Aside > 0:
			p.text(x+berthWidth/2, y+6, 8, centre, grey, "~")
		}
	}
}
