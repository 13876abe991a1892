package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"

	"yareharbour/core/drift"
)

// paint paints the whole frame: the top line, the screen, the bottom line, and what lies over them.
func (m *Model) paint() *canvas {
	c := newCanvas(m.w, m.h)
	m.paintTop(c)
	body := area{0, 1, m.w, m.h - 2}
	switch {
	case m.snap == nil && m.failed != nil:
		m.paintFailed(c, body)
	case m.snap == nil:
		c.centre(0, m.h/2, m.w, quiet, "opening the estate …")
	case len(m.snap.Survey.Bands) == 0:
		m.paintEmpty(c, body)
	default:
		m.paintScreen(c, body)
	}
	m.paintBottom(c)
	m.paintOverlay(c)
	return c
}

// area is a rectangle of cells.
type area struct{ x, y, w, h int }

func (m *Model) paintScreen(c *canvas, a area) {
	switch m.here().screen {
	case waterlineScreen:
		m.paintWaterline(c, a)
	case hostScreen:
		m.paintHost(c, a)
	case driftScreen:
		m.paintDrift(c, a)
	case roundScreen:
		m.paintRound(c, a)
	case catalogueScreen:
		m.paintCatalogue(c, a)
	case bundleScreen:
		m.paintBundle(c, a)
	case baselineScreen:
		m.paintBaselines(c, a)
	case editScreen:
		m.paintEditor(c, a)
	case compareScreen:
		m.paintCompare(c, a)
	}
}

// paintTop says where one stands, and the estate's time.
func (m *Model) paintTop(c *canvas) {
	c.fill(0, 0, m.w, 1, bar, 0)
	x := c.put(1, 0, water|bold|bar, "Yare Harbour")
	p := m.here()
	trail := "  " + string(p.screen)
	for _, s := range []string{p.cluster, p.host, p.subject} {
		if s != "" && p.screen != waterlineScreen && p.screen != catalogueScreen {
			trail += " › " + s
		}
	}
	x = c.put(x, 0, strong|bar, trail)
	if m.snap == nil {
		return
	}
	right := m.snap.Survey.At.Format("Mon 2 Jan 15:04")
	if m.snap.Speed > 1 {
		right = fmt.Sprintf("simulated, %s ×%.0f", right, m.snap.Speed)
	}
	if m.reading != nil {
		right = fmt.Sprintf("reading %d of %d  %s", m.reading.done, m.reading.total, right)
	}
	if m.job != nil {
		right = m.job.title + ": " + m.job.says + " (X ends it)"
	}
	if m.filter != "" || m.mode == filtering {
		right = "narrowed to “" + m.filter + "”" + m.idleWords() + "  " + right
	}
	room := m.w - x - 3
	if name := m.snap.Survey.Name; p.screen == waterlineScreen && runewidth.StringWidth(name)+runewidth.StringWidth(right)+4 < room {
		c.put(x+2, 0, quiet|bar, name)
	}
	c.right(m.w-1, 0, room, plain|bar, right)
}

// paintBottom shows what is being typed, or what was said, or the keys.
func (m *Model) paintBottom(c *canvas) {
	y := m.h - 1
	switch {
	case m.mode == filtering && m.wrong != "":
		m.paintInput(c, "narrow to", "! "+m.wrong)
		return
	case m.mode == filtering:
		m.paintInput(c, "narrow to", "words, layer= severity= vendor= host= kind= class= hardware= verdict= age= used=, @kept; Esc shows all")
		return
	case m.mode == naming:
		m.paintInput(c, "keep as @", "Enter keeps it, -NAME forgets one, Esc leaves")
		return
	case m.mode == opening:
		m.paintInput(c, "bundle's path", "keyring=FILE behind it wants a signature; nothing is taken in yet")
		return
	case m.mode == scheduling:
		m.paintInput(c, "sync "+m.chosenFeed(), "on demand, off, every 6h, daily 03:30")
		return
	case m.mode == comparing:
		m.paintInput(c, "compare with", "HOST, or HOST@TIME: a date, 24h, 7d")
		return
	case m.mode == saving:
		m.paintInput(c, "why", "Enter saves it as a new version, Esc goes on editing")
		return
	case m.mode == pruning:
		m.paintInput(c, "prune by", "unknown, older=DAYS, most=GIB, damaged; what would go is shown first")
		return
	case m.mode == versioning:
		m.paintInput(c, fmt.Sprintf("compare version %d with", m.chosenVersion().N), "Enter shows the differences, Esc leaves")
		return
	case m.mode == deriving:
		m.paintInput(c, "baseline like host", "Enter makes its text, to be edited and saved; Esc leaves")
		return
	case m.mode == finding:
		m.paintInput(c, "find", "↑↓ choose, Enter does it, Esc leaves")
		return
	case m.mode == reasoning:
		m.paintInput(c, "reason for the round", "Enter goes on, Esc leaves")
		return
	case m.toast != "" && time.Since(m.toasted) < toastFor:
		c.put(1, y, strong|bold, m.toast)
		return
	case m.failed != nil && m.snap != nil:
		c.put(1, y, alarm|bold, "! what is shown may be old: "+m.failed.Error())
		return
	}
	x := 1
	if m.here().screen == editScreen {
		for _, k := range [][2]string{{"Ctrl+S", "save as a new version"}, {"Ctrl+E", "edit in $EDITOR"}, {"Esc", "leave"}} {
			x = c.put(c.put(x, y, water|bold, k[0])+1, y, quiet, k[1]) + 2
		}
		return
	}
	for _, cmd := range m.available() {
		if cmd.hint == "" {
			continue
		}
		n := runewidth.StringWidth(cmd.key+cmd.hint) + 3
		if x+n > m.w {
			break
		}
		end := c.put(x, y, water|bold, keyName(cmd.key))
		end = c.put(end+1, y, quiet, cmd.hint)
		c.press(x, y, end-x, 1, keyMsg{cmd.key})
		x = end + 2
	}
}

func keyName(key string) string {
	switch key {
	case "enter":
		return "⏎"
	case "esc":
		return "Esc"
	case "tab":
		return "Tab"
	}
	return key
}

func (m *Model) paintInput(c *canvas, label, hint string) {
	y := m.h - 1
	x := c.put(1, y, water|bold, label+": ")
	x = c.put(x, y, strong, m.input.Value())
	c.put(x, y, strong|underline, "▏")
	c.right(m.w-1, y, max(0, m.w-x-4), quiet, hint)
}

func (m *Model) paintFailed(c *canvas, a area) {
	c.put(a.x+2, a.y+1, alarm|bold, "The estate can't be opened.")
	y := a.y + 3
	for _, line := range wrap(m.failed.Error(), a.w-4) {
		c.put(a.x+2, y, plain, line)
		y++
	}
	c.put(a.x+2, y+1, quiet, "It is tried again by itself. q closes the screens.")
}

func (m *Model) paintEmpty(c *canvas, a area) {
	c.put(a.x+2, a.y+1, strong|bold, "There is no cluster in this estate yet.")
	y := a.y + 3
	for _, line := range wrap("Write clusters with their hosts into the estate file, then open it again; docs/formats.md describes the file. \"yare demo\" shows a "+
		"simulated estate meanwhile.", a.w-4) {
		c.put(a.x+2, y, plain, line)
		y++
	}
}

// paintOverlay paints what lies over the screen: a question, the help, the finder, the chooser of exports.
func (m *Model) paintOverlay(c *canvas) {
	switch {
	case m.sheet != nil:
		lines := m.sheet.lines
		if most := m.h - 6; len(lines) > most {
			lines = append(slices.Clone(lines[:most-1]), fmt.Sprintf("and %d more", len(m.sheet.lines)-most+1))
		}
		m.paintBox(c, m.sheet.title, append(slices.Clone(lines), "", "any key  goes back"), -1)
	case m.ask != nil:
		lines := append([]string{}, m.ask.text...)
		m.paintBox(c, "Are you sure?", append(lines, "", "y  yes, do it      any other key  no"), -1)
	case m.help:
		m.paintHelp(c)
	case m.mode == finding:
		m.paintFinder(c)
	case m.mode == exporting:
		var lines []string
		for _, f := range exportFormats {
			if m.canExport(f.format) {
				lines = append(lines, f.key+"  "+f.name)
			}
		}
		m.paintBox(c, "Export this view as", append(lines, "", "Esc leaves"), -1)
	}
}

// paintBox paints lines in a frame in the middle of the screen; the chosen line stands out.
func (m *Model) paintBox(c *canvas, title string, lines []string, chosen int) area {
	inner := min(m.w-6, 76)
	var out []string
	for _, l := range lines {
		if l == "" || chosen >= 0 {
			out = append(out, l)
			continue
		}
		out = append(out, wrap2(l, inner)...)
	}
	w := runewidth.StringWidth(title) + 2
	for _, l := range out {
		w = max(w, min(runewidth.StringWidth(l), inner))
	}
	h := min(len(out), m.h-2)
	a := area{(m.w - w - 4) / 2, max(0, (m.h-h-2)/2), w + 4, h + 2}
	c.hits = nil
	c.fill(a.x, a.y, a.w, a.h, panel, ' ')
	c.fill(a.x, a.y, a.w, 1, water|panel, '─')
	c.fill(a.x, a.y+a.h-1, a.w, 1, water|panel, '─')
	c.put(a.x+2, a.y, water|bold|panel, " "+title+" ")
	for i := range h {
		st := plain | panel
		if i == chosen {
			st = strong | bold | selected
			c.put(a.x, a.y+1+i, st, "▸")
		}
		c.within(a.x+2, a.y+1+i, w, st, out[i])
	}
	return a
}

// wrap2 wraps a line and keeps the indent of what stands before its first double blank.
func wrap2(l string, w int) []string {
	if runewidth.StringWidth(l) <= w {
		return []string{l}
	}
	indent := 0
	if i := strings.Index(l, "  "); i >= 0 && i < 16 {
		indent = len(l[:i]) + len(l[i:]) - len(strings.TrimLeft(l[i:], " "))
	}
	lines := wrap(l[indent:], w-indent)
	for i := range lines {
		if i == 0 {
			lines[0] = l[:indent] + lines[0]
		} else {
			lines[i] = strings.Repeat(" ", indent) + lines[i]
		}
	}
	return lines
}

func (m *Model) paintFinder(c *canvas) {
	found := m.found(strings.TrimSpace(m.input.Value()))
	m.chosen = max(0, min(m.chosen, len(found)-1))
	most := min(14, m.h-6)
	first := max(0, m.chosen-most+1)
	var lines []string
	for _, cmd := range found[first:min(len(found), first+most)] {
		lines = append(lines, fmt.Sprintf("%-5s  %s", keyName(cmd.key), cmd.name))
	}
	if len(lines) == 0 {
		lines = []string{"nothing is called that"}
	}
	m.paintBox(c, "Find", lines, m.chosen-first)
}

// screenHelp says what a screen shows.
var screenHelp = map[screenName][]string{
	waterlineScreen: {"Each band is a cluster, each column a host at its berth.",
		"Above the waterline stands the memory its guests take; ┄ is the limit up to which the reserve can be kept.",
		"Below it stands drift by layer (g+s: guests and settings together, where a band is low): ▿ out of line, ▾ high severity, ▼ critical, ? unread, · in line.",
		"Beside it is what needs a person: !! now, ! soon, · sometime."},
	hostScreen: {"Left is what the host has and what is wanted of it, by layer, right the story of the line under the cursor."},
	driftScreen: {"Only components in which something disagrees; a column a host. An empty cell: the host does not have it, and need not.",
		"Below: siblings of one hardware model, grouped by what they have in common."},
	roundScreen: {"A lane a host, time to the right, ┃ is now. Before a round begins it shows what would be done; nothing is touched.",
		"Above the lanes: the load of the hosts in service while one is out, its peak, and the limit that the reserve sets."},
	catalogueScreen: {"Left the components, with what hosts have of them and what is out of line; right the tracks of the one under the cursor as ladders, the newest rung on top.",
		"▴ is the newest that may be proposed on its track, ◂ what a baseline wants, ✗ withdrawn. Hosts stand beside their rung. Another track is another ladder: nothing leads across.",
		"Tab goes to the feeds and bundles below."},
	bundleScreen:   {"What is in the archive, and what each file brings. Nothing is taken in until you say so; leaving lets go of all of it."},
	baselineScreen: {"Left the baselines; beside them the clauses with how many hosts are in line and out of line by each; below the versions, each with what it changed.", "Enter edits in place, with the effect on the estate told while you type."},
	editScreen:     {"The text is the baseline's file. Right stands what it would do to the estate, told anew after every key.", "Ctrl+S saves it as a new version, with a reason; Esc leaves."},
	compareScreen:  {"What differs between two readings. What either lacks is named, and not compared."},
}

func (m *Model) paintHelp(c *canvas) {
	var lines []string
	lines = append(lines, screenHelp[m.here().screen]...)
	if s := m.here().screen; s == driftScreen {
		lines = append(lines, "• is new since somebody last looked; m marks all as seen.")
	}
	if s := m.here().screen; s == hostScreen || s == driftScreen {
		lines = append(lines, legend())
	}
	lines = append(lines, "", "↑↓←→ or hjkl  move; PgUp, PgDn, Home, End too; the mouse points and scrolls")
	for _, cmd := range m.available() {
		lines = append(lines, fmt.Sprintf("%-5s  %s", keyName(cmd.key), cmd.name))
	}
	m.paintBox(c, "Help: "+string(m.here().screen), lines, -1)
}

// legend explains the signs of the verdicts.
func legend() string {
	var parts []string
	for _, o := range drift.Outcomes {
		if g := signs[o].glyph; g != " " {
			parts = append(parts, g+"\u00a0"+strings.ReplaceAll(o.String(), " ", "\u00a0"))
		}
	}
	return strings.Join(parts, ", ")
}
