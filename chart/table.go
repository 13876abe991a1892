package chart

import (
	"image/color"

	"gonum.org/v1/plot/vg"

	"yareharbour/core/ladder"
	"yareharbour/core/survey"
	"yareharbour/core/view"
)

// Of draws a document: what it has for a drawing, or its table.
func Of(d view.Document) Drawing {
	out, ok := Picture(d, d.Drawing)
	if t, is := d.Drawing.(view.Table); is {
		out, ok = Table(heading(d), t), true
	}
	if !ok {
		out = Table(heading(d), d.Table)
	}
	out.Foot = d.Stamp()
	return out
}

// heading is the title with what it comes to.
func heading(d view.Document) string {
	if d.Sum == "" {
		return d.Title
	}
	return d.Title + ": " + d.Sum
}

// Picture is a drawing of a document; ok is false for what is no drawing but a table.
func Picture(d view.Document, what any) (out Drawing, ok bool) {
	switch is := what.(type) {
	case survey.Survey:
		out = Waterline(is)
	case ladder.Ladder:
		out = Ladder(is)
	case view.Timeline:
		out = Timeline(is)
	case view.Trend:
		out = Trend(is)
	default:
		return out, false
	}
	out.Foot = d.Stamp()
	return out, true
}

// Table draws a table under a title, in the columns that people read. Where it is grouped, rows stand under headings:
// their first cell, where it is another than the last.
func Table(title string, t view.Table) Drawing {
	const line, letter = 15, 4.9
	columns := t.Stands(view.Text)
	if t.Grouped {
		columns = columns[1:]
	}
	var rows [][]string // one cell: a heading
	head := make([]string, len(columns))
	for n, i := range columns {
		head[n] = t.Columns[i].Name
	}
	group := ""
	for _, r := range t.Rows {
		if first := view.Shown(r[0]); t.Grouped && first != group {
			group = first
			rows = append(rows, []string{group})
		}
		cells := make([]string, len(columns))
		for n, i := range columns {
			cells[n] = view.Shown(r[i])
		}
		rows = append(rows, cells)
	}
	widths := make([]int, len(head))
	for _, r := range append([][]string{head}, rows...) {
		for i, c := range r {
			if len(r) > 1 || len(head) == 1 {
				widths[i] = max(widths[i], min(len([]rune(c)), mostLetters))
			}
		}
	}
	total := vg.Length(2 * margin)
	for _, w := range widths {
		total += vg.Length(float64(w)*letter) + 12
	}
	return Drawing{Width: max(total, 480), Height: vg.Length(2*margin + 44 + line*len(rows)),
		paint: drawn(func(p *pen) {
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
				row(r, ink, len(r) == 1 && len(head) > 1)
			}
			if len(rows) == 0 {
				p.text(margin, y, 9, left, grey, "nothing to show")
			}
		})}
}

// mostLetters is how much of a cell is drawn.
const mostLetters = 120

func (p *pen) width() vg.Length { return p.Max.X - p.Min.X }
