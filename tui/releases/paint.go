package releases

import (
	"fmt"
	"path/filepath"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/ladder"
	"yareharbour/tui/part"
)

// View implements part.Screen.
func (s *Screen) View(f part.Frame, c *part.Canvas, a part.Area) {
	shelves := shelfRows(f)
	const low = 30 // rows: then one pane has the room at a time
	tall := min(len(shelves)+1, max(4, a.H/3))
	switch {
	case s.shelves:
		tall = min(len(shelves)+1, a.H*2/3)
	case a.H < low:
		tall = min(3, tall)
	}
	below := part.Rect(a.X, a.Y+a.H-tall, a.W, tall)
	a.H -= tall + 1
	const empty = "nothing to show: no feed says anything of what hosts have, or the filter lets nothing through"
	if a.W >= 100 {
		left := part.Rect(a.X, a.Y, a.W/2, a.H)
		s.table.Paint(c, left, !s.shelves, len(s.listed.rows), s.line, empty)
		for y := a.Y; y < a.Y+a.H; y++ {
			c.Put(left.W, y, part.Water, "│")
		}
		s.paintLadders(f, c, part.Rect(left.W+1, a.Y, a.W-left.W-2, a.H))
	} else {
		left := part.Rect(a.X, a.Y, a.W, min(a.H/2, len(s.listed.rows)+1))
		s.table.Paint(c, left, !s.shelves, len(s.listed.rows), s.line, empty)
		s.paintLadders(f, c, part.Rect(a.X, a.Y+left.H+1, a.W-1, a.H-left.H-1))
	}
	s.shelf.Paint(c, below, s.shelves, len(shelves), func(i int) part.TableLine { return shelves[i] }, "")
}

// line is a component as it is listed.
func (s *Screen) line(i int) part.TableLine {
	r := s.row(i)
	l := part.TableLine{
		Cells: []part.TableCell{
			{Text: string(r.Component), Style: part.Subject},
			{Text: strings.Join(r.Newest, ", ")},
			{},
			{Text: fmt.Sprint(r.Hosts)},
			{Text: "·", Style: part.Quiet},
		},
	}
	if r.Releases == 0 {
		l.Cells[1] = part.Cell("in no feed", part.Quiet)
	}
	if r.Severity > catalogue.Unknown {
		sg := part.BySeverity(r.Severity)
		l.Cells[2] = part.Cell(sg.Glyph+" "+r.Severity.String(), sg.Style)
	}
	if r.Drift > 0 {
		l.Cells[4] = part.Cell(fmt.Sprint(r.Drift), part.Caution)
	} else {
		l.Cells[0].Style = part.Plain
	}
	if r.Withdrawn > 0 {
		l.Sign = part.Sign{Glyph: "✗", Style: part.Alarm}
	}
	return l
}

// paintLadders paints the tracks of the component under the cursor, beside each other where there is room.
func (s *Screen) paintLadders(f part.Frame, c *part.Canvas, a part.Area) {
	key := s.chosen()
	if key == "" || a.H < 3 {
		return
	}
	x := c.Put(a.X+1, a.Y, part.Strong|part.Bold, string(key))
	l := s.ladder.ladder
	if l.Component != key {
		c.Put(x+2, a.Y, part.Quiet, "…")
		return
	}
	if len(l.Tracks) > 1 {
		c.Within(x+2, a.Y, a.W-(x-a.X)-2, part.Quiet,
			fmt.Sprintf("%d ladders; nothing leads from one to another by itself", len(l.Tracks)))
	}
	y := a.Y + 2
	if len(l.Without) > 0 {
		c.Within(a.X+1, a.Y+1, a.W-2, part.Caution, "absent though it is wanted: "+strings.Join(l.Without, ", "))
		y++
	}
	if len(l.Tracks) == 0 {
		c.Within(a.X+1, y, a.W-2, part.Quiet, "no release is known, and no host has it")
		return
	}
	const least = 44
	beside := max(1, min(len(l.Tracks), a.W/least))
	w := a.W / beside
	bottom := a.Y + a.H
	for i := 0; i < len(l.Tracks); i += beside {
		tall := 0
		for j := i; j < min(i+beside, len(l.Tracks)); j++ {
			tall = max(tall, paintTrack(c, l.Tracks[j], part.Rect(a.X+1+(j-i)*w, y, w-1, bottom-y)))
		}
		if y += tall + 1; y >= bottom {
			return
		}
	}
	paintReleases(f, l, part.NewColumn(c, part.Rect(a.X+1, y, a.W-2, bottom-y)))
}

// paintReleases says what there is to know of the newest release of each track, and of the advisories about the
// component.
func paintReleases(f part.Frame, l ladder.Ladder, col *part.Column) {
	cat := f.View.Checker.Catalogue
	for _, t := range l.Tracks {
		for _, r := range t.Rungs {
			if r.Newest {
				col.Head("release " + r.Version)
				for _, s := range r.Release.Details() {
					col.Line(0, part.Plain, s)
				}
			}
		}
	}
	for _, id := range l.Advisories() {
		if adv := cat.Advisory(id); adv != nil {
			sg := part.BySeverity(adv.Severity)
			col.Line(0, sg.Style, fmt.Sprintf("%s %s %s", sg.Glyph, id, adv.Grade()))
			col.Line(2, part.Plain, adv.Title)
		}
	}
	for _, p := range cat.Pairings() {
		if p.Speaks(l.Component) {
			col.Line(0, part.Quiet, p.String())
		}
	}
}

// paintTrack paints one ladder and returns its height.
func paintTrack(c *part.Canvas, t ladder.Track, a part.Area) int {
	name := "track " + t.Name
	if t.Name == "" {
		name = "one track"
	}
	if t.Model != "" {
		name += ", for " + t.Model
	}
	c.Within(a.X, a.Y, a.W, part.Water|part.Bold, name)
	wide := 6
	for _, r := range t.Rungs {
		wide = max(wide, min(part.Width(r.Version), a.W/2-4))
	}
	y := a.Y + 1
	for i, r := range t.Rungs {
		if y >= a.Y+a.H {
			c.Fill(part.Rect(a.X+a.W-15, a.Y+a.H-1, 15, 1), part.Plain, ' ')
			c.Right(a.X+a.W, a.Y+a.H-1, 14, part.Quiet, fmt.Sprintf("%d more below", len(t.Rungs)-i))
			break
		}
		y = paintRung(c, r, wide, i == len(t.Rungs)-1, part.Rect(a.X, y, a.W, a.Y+a.H-y))
	}
	return y - a.Y
}

func paintRung(c *part.Canvas, r ladder.Rung, wide int, last bool, a part.Area) int {
	st, mark := part.Plain, " "
	switch {
	case r.Release != nil && r.Release.Withdrawn != "":
		st, mark = part.Alarm|part.Struck, "✗"
	case r.Newest:
		st, mark = part.Strong|part.Bold, "▴"
	case r.Release == nil:
		st = part.Quiet
	}
	c.Put(a.X, a.Y, st&^(part.Struck|part.Bold), mark)
	c.Put(a.X+2, a.Y, part.Water, "╫")
	c.Within(a.X+4, a.Y, wide, st, r.Version)
	c.Put(a.X+5+wide, a.Y, part.Water, "╫")
	x := a.X + 7 + wide
	if len(r.Wanted) > 0 {
		x = c.Put(x, a.Y, part.Limits|part.Bold, "◂") + 1
	}
	bottom, y := a.Y+a.H, a.Y
	put := func(st part.Style, text string) {
		for _, line := range part.Wrap(text, a.X+a.W-x) {
			if y >= bottom {
				return
			}
			if y > a.Y {
				rails(c, a.X, y, wide, last)
			}
			c.Within(x, y, a.X+a.W-x, st, line)
			y++
		}
	}
	if len(r.Hosts) > 0 {
		put(part.Subject|part.Bold, strings.Join(r.Hosts, ", "))
	}
	says := r.Says()
	if r.Release != nil && !r.Release.Date.IsZero() {
		says = append([]string{r.Release.Date.Format("2 Jan 2006")}, says...)
	}
	put(part.Quiet, strings.Join(says, "; "))
	if y == a.Y {
		y++
	}
	if y < bottom {
		rails(c, a.X, y, wide, last)
		y++
	}
	return y
}

// rails are the sides of a ladder between its rungs; below the last rung it ends.
func rails(c *part.Canvas, x, y, wide int, last bool) {
	if last {
		return
	}
	c.Put(x+2, y, part.Water, "║")
	c.Put(x+5+wide, y, part.Water, "║")
}

// shelfRows are the feeds, then the bundles, the lists that the estate file names, and the payload store.
func shelfRows(f part.Frame) (out []part.TableLine) {
	for _, x := range f.View.Feeds {
		l := part.TableLine{
			Sign: part.Sign{Glyph: "·", Style: part.Quiet},
			Cells: []part.TableCell{
				{Text: x.Name, Style: part.Subject},
				{Text: "feed, " + x.Kind},
				{Text: x.Schedule},
				{Text: "never synced"},
			},
		}
		if !x.Synced.IsZero() {
			l.Cells[3].Text = fmt.Sprintf("%s: %s, %s, %s", f.Ago(x.Synced), catalogue.Some(x.Releases, "release"),
				catalogue.Some(x.Advisories, "advisory"), catalogue.Bytes(x.Bytes))
		}
		if n := len(x.Aside); n > 0 {
			l.Sign = part.Sign{Glyph: "!", Style: part.Caution}
			l.Cells[3].Text = fmt.Sprintf("%d set aside, %s; %s", n, x.Aside[0], l.Cells[3].Text)
		}
		switch {
		case x.Error != "":
			l.Sign = part.Sign{Glyph: "!", Style: part.Alarm}
			l.Cells[3] = part.Cell("failed: "+x.Error, part.Alarm)
		case x.Off:
			l.Sign.Glyph = "○"
		}
		out = append(out, l)
	}
	for _, b := range f.View.Bundles {
		out = append(
			out,
			part.TableLine{
				Sign: part.Sign{Glyph: "▪", Style: part.Quiet},
				Cells: []part.TableCell{{Text: b.Name, Style: part.Subject}, {Text: "bundle"}, {Text: "by " + b.By},
					{
						Text: fmt.Sprintf("%s: %s, %s, %s", f.Ago(b.Taken), catalogue.Some(b.Releases, "release"),
							catalogue.Some(b.Advisories, "advisory"), catalogue.Some(b.Payloads, "payload")),
					}},
			},
		)
	}
	for _, x := range f.View.Lists {
		made := "of no date"
		if !x.Made.IsZero() {
			made = "of " + x.Made.Format("2 Jan 2006") + ", " + drift.Age(f.View.At().Sub(x.Made)) + " old"
		}
		out = append(out, part.TableLine{Sign: part.Sign{Glyph: "·", Style: part.Quiet}, Cells: []part.TableCell{
			{Text: x.Name, Style: part.Subject}, {Text: "list"}, {},
			{Text: made + ": " + catalogue.Some(x.Releases, "release") + ", from " + filepath.Base(x.File)}}})
	}
	p := f.View.Stock
	return append(
		out,
		part.TableLine{
			Sign: part.Sign{Glyph: "▫", Style: part.Quiet},
			Cells: []part.TableCell{{Text: "payload store", Style: part.Subject}, {Text: "store"}, {},
				{
					Text: fmt.Sprintf("%s, %s; %s free.  f fetches, v verifies, L lists, P prunes",
						catalogue.Some(p.Count, "payload"), catalogue.Bytes(p.Size), catalogue.Bytes(p.Free)),
				}},
		},
	)
}
