package tui

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/bundle"
	"yareharbour/core/catalogue"
	"yareharbour/core/narrow"
	"yareharbour/format/intake"
)

// paintBundle paints what is in an opened bundle.
func (m *Model) paintBundle(c *canvas, a area) {
	o := m.opened
	if o == nil {
		c.put(a.x+2, a.y+1, quiet, "no bundle is open")
		return
	}
	x := c.put(a.x+1, a.y, strong|bold, o.Name)
	c.put(x+2, a.y, plain, fmt.Sprintf("%s  %.12s", catalogue.Bytes(o.Size), o.ID))
	c.put(a.x+1, a.y+1, plain, fmt.Sprintf("%s, %d new here   %s, %d new here   %s", catalogue.Some(o.Releases, "release"), o.NewReleases,
		catalogue.Some(o.Advises, "advisory"), o.NewAdvisories, catalogue.Some(o.Payloads, "payload")))
	switch {
	case o.SignedBy != "":
		c.put(a.x+1, a.y+2, good, fmt.Sprintf("✓ the signature %s is good; %s with the hash that it vouches for", o.SignedBy, catalogue.Some(o.Summed, "file")))
	case o.Summed > 0:
		c.put(a.x+1, a.y+2, caution, fmt.Sprintf("◔ %s with the hash that its SHA256SUMS says; nobody has signed that", catalogue.Some(o.Summed, "file")))
	default:
		c.put(a.x+1, a.y+2, caution, "◔ it carries no checksums of its own; payloads have the hashes that their releases state")
	}
	y := a.y + 3
	if len(o.Missing) > 0 {
		c.within(a.x+1, y, a.w-2, caution, "! not in it, though its releases name them: "+strings.Join(o.Missing, ", "))
		y++
	}
	m.paintBundleFiles(c, o, area{a.x, y + 1, a.w, a.y + a.h - y - 3})
	c.put(a.x+1, a.y+a.h-1, strong|bold, "a takes it in, whole.  Esc leaves; nothing of it stays.")
}

func (m *Model) paintBundleFiles(c *canvas, o *Opened, a area) {
	p := m.here()
	files := slices.DeleteFunc(slices.Clone(o.Files), func(f bundle.File) bool {
		return !m.narrow.Lets(narrow.Subject{Age: -1, Words: []string{f.Path, string(f.Kind), f.Says}})
	})
	p.row = clamp(p.row, len(files))
	name := a.w * 2 / 5
	c.put(a.x+2, a.y, water|bold, "file")
	c.put(a.x+2+name, a.y, water|bold, "is a")
	c.put(a.x+22+name, a.y, water|bold, "size")
	c.put(a.x+32+name, a.y, water|bold, "and brings")
	room := a.h - 1
	first := max(0, min(p.row-room/2, len(files)-room))
	for i := first; i < len(files) && i-first < room; i++ {
		y, f := a.y+1+i-first, files[i]
		st := plain
		if f.Kind == intake.Other {
			st = quiet
		}
		c.within(a.x+2, y, name-1, subject, tailOf(f.Path, name-1))
		c.within(a.x+2+name, y, 19, st, string(f.Kind))
		c.within(a.x+22+name, y, 9, plain, catalogue.Bytes(f.Size))
		c.within(a.x+32+name, y, a.w-33-name, plain, f.Says)
		if i == p.row {
			c.shade(a.x, y, a.w, selected)
			c.put(a.x, y, strong|bold|selected, "▸")
		}
		c.press(a.x, y, a.w, 1, pickMsg{i})
	}
}

// tailOf is the end of a path that fits: what tells files apart stands there.
func tailOf(s string, w int) string {
	if r := []rune(s); len(r) > w && w > 1 {
		return "…" + string(r[len(r)-w+1:])
	}
	return s
}
