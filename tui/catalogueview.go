package tui

import (
	"fmt"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/ladder"
)

// listOf is the list of components that was made, and what it was made from.
type listOf struct {
	snap   *Snapshot
	filter string
	all    bool
	rows   []ladder.Row
	key    estate.Key
	ladder ladder.Ladder
}

// components are the rows of the Catalogue, made once for what they are made from.
func (m *Model) components() []ladder.Row {
	k := &m.listed
	if k.snap != m.snap || k.filter != m.narrow.String() {
		k.snap, k.filter, k.key = m.snap, m.narrow.String(), ""
		k.rows = ladder.List(m.snap.Checker.Catalogue, m.snap.Held, m.snap.Verdicts, m.narrow, m.snap.Survey.At, k.all)
	}
	return k.rows
}

// chosenComponent is the one under the cursor; "" where there is none.
func (m *Model) chosenComponent() estate.Key {
	rows := m.components()
	if len(rows) == 0 {
		return ""
	}
	p := m.here()
	i := p.row
	if p.pane == 1 {
		i = p.second
	}
	return rows[clamp(i, len(rows))].Component
}

func (m *Model) ladderOf(key estate.Key) ladder.Ladder {
	k := &m.listed
	if k.key != key {
		k.key = key
		k.ladder = ladder.Make(m.snap.Checker.Catalogue, m.snap.Held, m.snap.Verdicts, key)
	}
	return k.ladder
}

// paintCatalogue paints the components, the ladders of the chosen one, and below them feeds and bundles.
func (m *Model) paintCatalogue(c *canvas, a area) {
	shelves := min(len(m.shelfRows())+2, max(4, a.h/3))
	const low = 30 // rows: then one pane has the room at a time
	switch {
	case m.here().pane == 1:
		shelves = min(len(m.shelfRows())+2, a.h*2/3)
	case a.h < low:
		shelves = min(3, shelves)
	}
	top := area{a.x, a.y, a.w, a.h - shelves - 1}
	rows := m.components()
	if a.w >= 100 {
		left := area{top.x, top.y, a.w / 2, top.h}
		m.paintComponents(c, rows, left)
		m.paintLadders(c, m.chosenComponent(), area{left.w + 1, top.y, a.w - left.w - 2, top.h})
	} else {
		left := area{top.x, top.y, a.w, min(top.h/2, len(rows)+1)}
		m.paintComponents(c, rows, left)
		m.paintLadders(c, m.chosenComponent(), area{a.x, top.y + left.h + 1, a.w - 1, top.h - left.h - 1})
	}
	m.paintShelves(c, area{a.x, a.y + a.h - shelves, a.w, shelves})
}

func (m *Model) paintComponents(c *canvas, rows []ladder.Row, a area) {
	p := m.here()
	name := max(16, a.w*7/20)
	x1, x2 := a.x+2+name, a.x+a.w-23
	c.within(a.x+2, a.y, name, water|bold, "component")
	c.within(x1, a.y, x2-x1-1, water|bold, "newest (track)")
	c.within(x2, a.y, 8, water|bold, "severity")
	c.right(a.x+a.w-7, a.y, 5, water|bold, "hosts")
	c.right(a.x+a.w-1, a.y, 5, water|bold, "drift")
	if len(rows) == 0 {
		c.put(a.x+2, a.y+2, quiet, "nothing to show: no feed says anything of what hosts have, or the filter lets nothing through")
		return
	}
	row := p.row
	if p.pane == 1 {
		row = p.second
	}
	row = clamp(row, len(rows))
	room := a.h - 1
	first := max(0, min(row-room/2, len(rows)-room))
	for i := first; i < len(rows) && i-first < room; i++ {
		y, r := a.y+1+i-first, rows[i]
		st := subject
		if r.Drift == 0 {
			st = plain
		}
		c.within(a.x+2, y, name-1, st, string(r.Component))
		newest := strings.Join(r.Newest, ", ")
		if r.Releases == 0 {
			newest = "in no feed"
		}
		c.within(x1, y, x2-x1-1, plain, newest)
		if r.Severity > catalogue.Unknown {
			role, glyph := bySeverity(r.Severity)
			c.within(x2, y, 10, role, glyph+" "+r.Severity.String())
		}
		c.right(a.x+a.w-7, y, 5, plain, fmt.Sprint(r.Hosts))
		if r.Drift > 0 {
			c.right(a.x+a.w-1, y, 5, caution, fmt.Sprint(r.Drift))
		} else {
			c.right(a.x+a.w-1, y, 5, quiet, "·")
		}
		if r.Withdrawn > 0 {
			c.put(a.x, y, alarm, "✗")
		}
		if i == row {
			bg := selected
			c.shade(a.x, y, a.w, bg)
			if p.pane == 0 {
				c.put(a.x, y, strong|bold|selected, "▸")
			}
		}
		c.press(a.x, y, a.w, 1, pickMsg{i})
	}
	if rest := len(rows) - first - room; rest > 0 {
		c.right(a.x+a.w-1, a.y+a.h, 12, quiet, fmt.Sprintf("%d more ↓", rest))
	}
}

// paintLadders paints a component's tracks, beside each other where there is room.
func (m *Model) paintLadders(c *canvas, key estate.Key, a area) {
	if key == "" || a.h < 3 {
		return
	}
	l := m.ladderOf(key)
	x := c.put(a.x+1, a.y, strong|bold, string(key))
	if len(l.Tracks) > 1 {
		c.within(x+2, a.y, a.w-(x-a.x)-2, quiet, fmt.Sprintf("%d ladders; nothing leads from one to another by itself", len(l.Tracks)))
	}
	y := a.y + 2
	if len(l.Without) > 0 {
		c.within(a.x+1, a.y+1, a.w-2, caution, "absent though it is wanted: "+strings.Join(l.Without, ", "))
		y++
	}
	if len(l.Tracks) == 0 {
		c.within(a.x+1, y, a.w-2, quiet, "no release is known, and no host has it")
		return
	}
	const least = 44
	beside := max(1, min(len(l.Tracks), a.w/least))
	w := a.w / beside
	bottom := a.y + a.h
	for i := 0; i < len(l.Tracks); i += beside {
		tall := 0
		for j := i; j < min(i+beside, len(l.Tracks)); j++ {
			tall = max(tall, m.paintTrack(c, l.Tracks[j], area{a.x + 1 + (j-i)*w, y, w - 1, bottom - y}))
		}
		if y += tall + 1; y >= bottom {
			return
		}
	}
	m.paintReleases(c, l, area{a.x + 1, y, a.w - 2, bottom - y})
}

// paintReleases says what there is to know of the newest release of each track, and of the advisories about the component.
func (m *Model) paintReleases(c *canvas, l ladder.Ladder, a area) {
	y := a.y
	line := func(st style, text string) {
		for _, s := range wrap(text, a.w) {
			if y < a.y+a.h {
				c.put(a.x, y, st, s)
				y++
			}
		}
	}
	for _, t := range l.Tracks {
		for _, r := range t.Rungs {
			if r.Newest {
				line(water|bold, "release "+r.Version)
				for _, s := range r.Release.Details() {
					line(plain, s)
				}
			}
		}
	}
	for _, id := range l.Advisories() {
		adv := m.snap.Checker.Catalogue.Advisory(id)
		if adv == nil {
			continue
		}
		role, glyph := bySeverity(adv.Severity)
		line(role, fmt.Sprintf("%s %s %s", glyph, id, adv.Grade()))
		line(plain, adv.Title)
	}
	for _, p := range m.snap.Checker.Catalogue.Pairings() {
		if p.Speaks(l.Component) {
			line(quiet, p.String())
		}
	}
}

// paintTrack paints one ladder and returns its height.
func (m *Model) paintTrack(c *canvas, t ladder.Track, a area) int {
	name := "track " + t.Name
	if t.Name == "" {
		name = "one track"
	}
	if t.Model != "" {
		name += ", for " + t.Model
	}
	c.within(a.x, a.y, a.w, water|bold, name)
	wide := 6
	for _, r := range t.Rungs {
		wide = max(wide, min(len(r.Version), a.w/2-4))
	}
	y := a.y + 1
	for i, r := range t.Rungs {
		if y >= a.y+a.h {
			c.fill(a.x+a.w-15, a.y+a.h-1, 15, 1, plain, ' ')
			c.right(a.x+a.w, a.y+a.h-1, 14, quiet, fmt.Sprintf("%d more below", len(t.Rungs)-i))
			break
		}
		y = m.paintRung(c, r, wide, i == len(t.Rungs)-1, area{a.x, y, a.w, a.y + a.h - y})
	}
	return y - a.y
}

func (m *Model) paintRung(c *canvas, r ladder.Rung, wide int, last bool, a area) int {
	st, mark := plain, " "
	switch {
	case r.Release != nil && r.Release.Withdrawn != "":
		st, mark = alarm|struck, "✗"
	case r.Newest:
		st, mark = strong|bold, "▴"
	case r.Release == nil:
		st = quiet
	}
	role := st &^ (struck | bold)
	c.put(a.x, a.y, role, mark)
	c.put(a.x+2, a.y, water, "╫")
	c.within(a.x+4, a.y, wide, st, r.Version)
	c.put(a.x+5+wide, a.y, water, "╫")
	x := a.x + 7 + wide
	if len(r.Wanted) > 0 {
		x = c.put(x, a.y, limits|bold, "◂") + 1
	}
	bottom := a.y + a.h
	y := a.y
	put := func(st style, text string) {
		for _, line := range wrap(text, a.x+a.w-x) {
			if y >= bottom {
				return
			}
			if y > a.y {
				m.rails(c, a.x, y, wide, last)
			}
			c.within(x, y, a.x+a.w-x, st, line)
			y++
		}
	}
	if len(r.Hosts) > 0 {
		put(subject|bold, strings.Join(r.Hosts, ", "))
	}
	says := r.Says()
	if r.Release != nil && !r.Release.Date.IsZero() {
		says = append([]string{r.Release.Date.Format("2 Jan 2006")}, says...)
	}
	put(quiet, strings.Join(says, "; "))
	if y == a.y {
		y++
	}
	if y < bottom {
		m.rails(c, a.x, y, wide, last)
		y++
	}
	return y
}

// rails are the sides of a ladder between its rungs; below the last rung it ends.
func (m *Model) rails(c *canvas, x, y, wide int, last bool) {
	if last {
		return
	}
	c.put(x+2, y, water, "║")
	c.put(x+5+wide, y, water, "║")
}

// shelfRow is a line among feeds, bundles and payloads.
type shelfRow struct {
	feed, bundle string // what the cursor is on; neither: the payload store
	glyph        string
	role         style
	cells        [4]string
	trouble      string
}

func (m *Model) shelfRows() (out []shelfRow) {
	for _, f := range m.snap.Feeds {
		r := shelfRow{feed: f.Name, glyph: "·", role: quiet, cells: [4]string{f.Name, "feed, " + string(f.Kind), f.Schedule.String(), ""}}
		switch {
		case f.Error != "":
			r.glyph, r.role, r.trouble = "!", alarm, f.Error
		case f.Schedule.Off:
			r.glyph = "○"
		}
		if n := len(f.Aside); n > 0 && f.Error == "" {
			r.glyph, r.role = "!", caution
		}
		if f.Synced.IsZero() {
			r.cells[3] = "never synced"
		} else {
			r.cells[3] = fmt.Sprintf("synced %s: %s, %s, %s", m.ago(f.Synced), catalogue.Some(f.Releases, "release"), catalogue.Some(f.Advisories, "advisory"), catalogue.Bytes(f.Bytes))
		}
		if n := len(f.Aside); n > 0 {
			r.cells[3] = fmt.Sprintf("%d set aside, %s; %s", n, f.Aside[0], r.cells[3])
		}
		out = append(out, r)
	}
	for _, b := range m.snap.Bundles {
		out = append(out, shelfRow{bundle: b.ID, glyph: "▪", role: quiet, cells: [4]string{b.Name, "bundle", "by " + b.By,
			fmt.Sprintf("taken in %s: %s, %s, %s", m.ago(b.Taken), catalogue.Some(b.Releases, "release"), catalogue.Some(b.Advises, "advisory"), catalogue.Some(b.Payloads, "payload"))}})
	}
	p := m.snap.Payloads
	return append(out, shelfRow{glyph: "▫", role: quiet, cells: [4]string{"payload store", "", "", fmt.Sprintf("%s, %s; %s free", catalogue.Some(p.Count, "payload"), catalogue.Bytes(p.Size), catalogue.Bytes(p.Free))}})
}

func (m *Model) paintShelves(c *canvas, a area) {
	p := m.here()
	st := water | bold
	if p.pane == 1 {
		st |= underline
	}
	c.put(a.x+1, a.y, st, "feeds, bundles, payloads")
	if p.pane == 1 {
		c.within(a.x+28, a.y, a.w-29, quiet, "s sync  S all  o when  i import  u take out; payloads: l list  f fetch  v verify  p prune")
	}
	rows := m.shelfRows()
	room := a.h - 1
	row := clamp(p.row, len(rows))
	if p.pane == 0 {
		row = 0
	}
	first := max(0, min(row-room/2, len(rows)-room))
	w := [3]int{20, 16, 13}
	for i := first; i < len(rows) && i-first < room; i++ {
		y, r := a.y+1+i-first, rows[i]
		c.put(a.x+2, y, r.role, r.glyph)
		x := a.x + 4
		for j, cell := range r.cells[:3] {
			style := plain
			if j == 0 {
				style = subject
			}
			if j == 1 && a.w < 100 {
				continue
			}
			c.within(x, y, w[j]-1, style, cell)
			x += w[j]
		}
		if r.trouble != "" {
			c.within(x, y, a.x+a.w-1-x, alarm, "failed: "+r.trouble)
		} else {
			c.within(x, y, a.x+a.w-1-x, plain, r.cells[3])
		}
		if p.pane == 1 && i == row {
			c.shade(a.x, y, a.w, selected)
			c.put(a.x, y, strong|bold|selected, "▸")
		}
	}
}
