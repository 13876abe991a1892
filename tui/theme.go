package tui

import (
	"fmt"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
)

// style is a foreground role with attributes and a background. The zero style is plain text.
type style uint16

// roles of the foreground. A role is never the only sign of a state: each state has its own shape or word too.
const (
	plain style = iota
	quiet       // what is there to be found, not read
	strong
	water // the waterline and headings
	loads
	limits
	good
	caution
	alarm
	deep    // drift of no special severity
	subject // names of hosts and components
	roles
)

const (
	fgMask    style = 0x1f
	bold      style = 1 << 5
	underline style = 1 << 6
	selected  style = 1 << 7 // background of the selected row
	panel     style = 1 << 8 // background of overlays
	bar       style = 1 << 9 // background of the top line
	struck    style = 1 << 10
)

// theme gives roles their colours on one kind of background.
type theme struct {
	dark  bool
	fg    [roles]string // "r;g;b"
	bg    map[style]string
	cache map[style]string
}

func newTheme(dark bool) *theme {
	t := &theme{dark: dark, cache: map[style]string{}}
	if dark {
		t.fg = [roles]string{quiet: "128;140;150", strong: "240;244;246", water: "96;178;208", loads: "120;152;168", limits: "214;190;120",
			good: "128;190;138", caution: "226;172;84", alarm: "240;112;112", deep: "190;186;130", subject: "196;218;230"}
		t.bg = map[style]string{selected: "38;62;78", panel: "26;36;46", bar: "22;44;58"}
		return t
	}
	t.fg = [roles]string{quiet: "104;112;120", strong: "12;20;28", water: "0;92;128", loads: "78;114;132", limits: "132;92;0",
		good: "24;108;48", caution: "148;84;0", alarm: "176;24;40", deep: "100;96;20", subject: "20;66;92"}
	t.bg = map[style]string{selected: "200;224;236", panel: "236;240;240", bar: "212;230;238"}
	return t
}

// sgr is the escape sequence (ECMA-48) that turns everything else off and the style on.
func (t *theme) sgr(s style) string {
	if q, ok := t.cache[s]; ok {
		return q
	}
	parts := []string{"0"}
	if s&bold != 0 {
		parts = append(parts, "1")
	}
	if s&underline != 0 {
		parts = append(parts, "4")
	}
	if s&struck != 0 {
		parts = append(parts, "9")
	}
	if c := t.fg[s&fgMask]; c != "" {
		parts = append(parts, "38;2;"+c)
	}
	for _, b := range []style{panel, bar, selected} {
		if s&b != 0 {
			parts = append(parts, "48;2;"+t.bg[b])
		}
	}
	q := fmt.Sprintf("\x1b[%sm", strings.Join(parts, ";"))
	t.cache[s] = q
	return q
}

// sign is the shape of an outcome and the role it is painted in. The word stands beside it wherever there is room, and in the help.
type sign struct {
	glyph string
	role  style
}

var signs = map[drift.Outcome]sign{
	drift.Unread:          {"?", alarm},
	drift.Disputed:        {"≠", caution},
	drift.Excepted:        {"~", quiet},
	drift.NotApplying:     {" ", quiet},
	drift.Unwanted:        {"+", caution},
	drift.Withdrawn:       {"✗", alarm},
	drift.Absent:          {"−", caution},
	drift.HalfInstalled:   {"◐", caution},
	drift.OffTrack:        {"◇", caution},
	drift.Behind:          {"▾", deep},
	drift.Ahead:           {"▴", deep},
	drift.AwaitingRestart: {"◔", caution},
	drift.InLine:          {"·", quiet},
}

// bySeverity is the role of drift whose mending release has that severity, and the shape of its depth mark.
func bySeverity(s catalogue.Severity) (role style, glyph string) {
	switch s {
	case catalogue.Critical:
		return alarm | bold, "▼"
	case catalogue.High:
		return caution, "▾"
	}
	return deep, "▿"
}
