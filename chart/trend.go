package chart

import (
	"image/color"
	"time"

	"gonum.org/v1/plot/vg"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// layerInk tells layers apart; the legend names them.
var layerInk = map[estate.Layer]color.RGBA{estate.Platform: {36, 98, 128, 255}, estate.Driver: {188, 118, 20, 255}, estate.Firmware: {120, 60, 96, 255},
	estate.Inside: {84, 130, 84, 255}, estate.Settings: {120, 130, 140, 255}}

// Trend draws a cluster's drift over time as steps, the layers stacked: a tally holds until the next.
func Trend(cluster string, all []drift.Tally, from, to time.Time) Drawing {
	const width, height = 900, 340
	return Drawing{Width: width, Height: height, paint: func(p *pen) {
		p.bold(margin, margin, 15, left, ink, "Drift of "+cluster)
		p.text(margin, margin+17, 9, left, grey, "%s to %s", from.Format("2 Jan 2006"), to.Format("2 Jan 2006 15:04"))
		if len(all) == 0 {
			p.text(margin, height/2, 11, left, grey, "nothing was counted in this time")
			return
		}
		paintTrend(p, all, from, to, width, height)
	}}
}

func paintTrend(p *pen, all []drift.Tally, from, to time.Time, width, height vg.Length) {
	most := 1
	for _, t := range all {
		most = max(most, t.Total()+t.Unread)
	}
	if all[0].At.After(from) {
		from = all[0].At
	}
	x0, y0, x1, y1 := vg.Length(margin+34), vg.Length(margin+40), width-margin, height-margin-30
	whole := max(to.Sub(from), time.Minute)
	x := func(t time.Time) vg.Length {
		return x0 + (x1-x0)*vg.Length(max(0, t.Sub(from).Seconds())/whole.Seconds())
	}
	tall := func(n int) vg.Length { return (y1 - y0) * vg.Length(n) / vg.Length(most) }
	for i := 0; i <= 4; i++ {
		n := most * i / 4
		p.line(x0, y1-tall(n), x1, y1-tall(n), 0.5, faint)
		p.text(x0-6, y1-tall(n), 8, right, grey, "%d", n)
	}
	for i, t := range all {
		end := to
		if i+1 < len(all) {
			end = all[i+1].At
		}
		y := y1
		for _, l := range estate.Layers {
			h := tall(t.Drift[l])
			y -= h
			p.box(x(t.At), y, max(x(end)-x(t.At), 0.6), h, layerInk[l])
		}
		if t.Unread > 0 { // hollow, on top: not known
			h := tall(t.Unread)
			p.box(x(t.At), y-h, max(x(end)-x(t.At), 0.6), h, hollow)
			p.frame(x(t.At), y-h, max(x(end)-x(t.At), 0.6), h, grey)
		}
	}
	p.line(x0, y1, x1, y1, 1, water)
	for i := 0; i <= 4; i++ {
		t := from.Add(whole * time.Duration(i) / 4)
		layout := "2 Jan 15:04"
		if whole > 4*24*time.Hour {
			layout = "2 Jan"
		}
		p.text(x(t), y1+12, 8, centre, grey, "%s", t.Format(layout))
	}
	at := x0
	for _, l := range estate.Layers {
		p.box(at, y1+26, 10, 10, layerInk[l])
		p.text(at+14, y1+31, 8, left, ink, "%s", l)
		at += 78
	}
	p.box(at, y1+26, 10, 10, hollow)
	p.frame(at, y1+26, 10, 10, grey)
	p.text(at+14, y1+31, 8, left, ink, "unread")
}

// Table draws a table: a title, a head, and rows of cells. A row with one cell is a heading.
func Table(title string, head []string, rows [][]string) Drawing {
	const line, letter = 15, 4.9
	widths := make([]int, len(head))
	for _, r := range append([][]string{head}, rows...) {
		for i, c := range r {
			if len(r) > 1 {
				widths[i] = max(widths[i], min(len([]rune(c)), mostLetters))
			}
		}
	}
	total := vg.Length(2 * margin)
	for _, w := range widths {
		total += vg.Length(float64(w)*letter) + 12
	}
	return Drawing{Width: max(total, 480), Height: vg.Length(2*margin + 44 + line*len(rows)), paint: func(p *pen) {
		p.bold(margin, margin, 14, left, ink, title)
		y := vg.Length(margin + 26)
		row := func(cells []string, c color.Color, strong bool) {
			x := vg.Length(margin)
			for i, cell := range cells {
				if strong {
					p.bold(x, y, 8, left, c, clip(cell, mostLetters))
				} else {
					p.text(x, y, 8, left, c, "%s", clip(cell, mostLetters))
				}
				if i < len(widths) {
					x += vg.Length(float64(widths[i])*letter) + 12
				}
			}
			y += line
		}
		row(head, water, true)
		p.line(margin, y-line/2, p.width()-margin, y-line/2, 0.7, water)
		for _, r := range rows {
			row(r, ink, len(r) == 1)
		}
		if len(rows) == 0 {
			p.text(margin, y, 9, left, grey, "nothing to show")
		}
	}}
}

// mostLetters is how much of a cell is drawn.
const mostLetters = 60

func (p *pen) width() vg.Length { return p.Max.X - p.Min.X }
