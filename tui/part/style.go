package part

import (
	"fmt"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/view"
)

// Style is a foreground role with attributes and a background. The zero style is plain text.
type Style uint16

// roles of the foreground. A role is never the only sign of a state: each state has its own shape or word too.
const (
	Plain Style = iota
	Quiet       // what is there to be found, not read
	Strong
	Water // the waterline and headings
	Loads
	Limits
	Good
	Caution
	Alarm
	Deep    // drift of no special severity
	Subject // names of hosts and components
	roles
)

const (
	fgMask    Style = 0x1f
	Bold      Style = 1 << 5
	Underline Style = 1 << 6
	Selected  Style = 1 << 7 // background of the row under the cursor
	Panel     Style = 1 << 8 // background of overlays
	Bar       Style = 1 << 9 // background of the top line
	Struck    Style = 1 << 10
)

// Theme gives roles their colours on one kind of background.
type Theme struct {
	dark  bool
	fg    [roles]string // "r;g;b"
	bg    map[Style]string
	cache map[Style]string
}

// NewTheme returns the colours for a dark or a light background.
func NewTheme(dark bool) *Theme {
	t := &Theme{dark: dark, cache: map[Style]string{}}
	if dark {
		t.fg = [roles]string{
			Quiet:   "128;140;150",
			Strong:  "240;244;246",
			Water:   "96;178;208",
			Loads:   "120;152;168",
			Limits:  "214;190;120",
			Good:    "128;190;138",
			Caution: "226;172;84",
			Alarm:   "240;112;112",
			Deep:    "190;186;130",
			Subject: "196;218;230",
		}
		t.bg = map[Style]string{Selected: "38;62;78", Panel: "26;36;46", Bar: "22;44;58"}
		return t
	}
	t.fg = [roles]string{
		Quiet:   "104;112;120",
		Strong:  "12;20;28",
		Water:   "0;92;128",
		Loads:   "78;114;132",
		Limits:  "132;92;0",
		Good:    "24;108;48",
		Caution: "148;84;0",
		Alarm:   "176;24;40",
		Deep:    "100;96;20",
		Subject: "20;66;92",
	}
	t.bg = map[Style]string{Selected: "200;224;236", Panel: "236;240;240", Bar: "212;230;238"}
	return t
}

// sgr is the escape sequence (ECMA-48) that turns everything else off and the style on.
func (t *Theme) sgr(s Style) string {
	if q, ok := t.cache[s]; ok {
		return q
	}
	parts := []string{"0"}
	if s&Bold != 0 {
		parts = append(parts, "1")
	}
	if s&Underline != 0 {
		parts = append(parts, "4")
	}
	if s&Struck != 0 {
		parts = append(parts, "9")
	}
	if c := t.fg[s&fgMask]; c != "" {
		parts = append(parts, "38;2;"+c)
	}
	for _, b := range []Style{Panel, Bar, Selected} {
		if s&b != 0 {
			parts = append(parts, "48;2;"+t.bg[b])
		}
	}
	q := fmt.Sprintf("\x1b[%sm", strings.Join(parts, ";"))
	t.cache[s] = q
	return q
}

// Dark tells for which background the theme is.
func (t *Theme) Dark() bool { return t.dark }

// Tones are the styles in which what is said is painted.
var Tones = map[view.Tone]Style{
	view.Plain:   Plain,
	view.Quiet:   Quiet,
	view.Strong:  Strong | Bold,
	view.Good:    Good,
	view.Caution: Caution,
	view.Alarm:   Alarm | Bold,
}

// Sign is a shape and the style it is painted in. The word stands beside it wherever there is room, and in the help.
type Sign struct {
	Glyph string
	Style Style
}

// Signs are those of the verdicts.
var Signs = map[drift.Outcome]Sign{
	drift.Unread:          {"?", Alarm},
	drift.Disputed:        {"≠", Caution},
	drift.Undecided:       {"¿", Caution},
	drift.Excepted:        {"~", Quiet},
	drift.NotApplying:     {" ", Quiet},
	drift.Unwanted:        {"+", Caution},
	drift.Withdrawn:       {"✗", Alarm},
	drift.Absent:          {"−", Caution},
	drift.HalfInstalled:   {"◐", Caution},
	drift.OffTrack:        {"◇", Caution},
	drift.Behind:          {"▿", Deep},
	drift.Ahead:           {"▴", Deep},
	drift.AwaitingRestart: {"◔", Caution},
	drift.InLine:          {"·", Quiet},
}

// Legend explains the signs of the verdicts.
func Legend() string {
	var parts []string
	for _, o := range drift.Outcomes {
		if g := Signs[o].Glyph; g != " " {
			parts = append(parts, g+"\u00a0"+strings.ReplaceAll(o.String(), " ", "\u00a0"))
		}
	}
	return strings.Join(parts, ", ")
}

// BySeverity is the style of drift whose mending release has that severity, and the shape of its depth mark.
func BySeverity(s catalogue.Severity) Sign {
	switch s {
	case catalogue.Critical:
		return Sign{"▼", Alarm | Bold}
	case catalogue.High:
		return Sign{"▾", Caution}
	}
	return Sign{"▿", Deep}
}

// SignOf marks a verdict: what is behind by its severity.
func SignOf(v *drift.Verdict) Sign {
	if v.Outcome == drift.Behind {
		return BySeverity(v.Severity())
	}
	return Signs[v.Outcome]
}

// Steps fill lanes: each step has its own texture, and its name where there is room.
var Steps = map[act.Step]Sign{
	act.PrecheckStep: {"·", Quiet}, act.StageStep: {":", Quiet}, act.DrainStep: {"▒", Loads},
	act.CloseStep:  {"│", Strong},
	act.BackupStep: {"=", Quiet}, act.ChangeStep: {"▆", Caution}, act.RestartStep: {"▞", Limits},
	act.ProveStep:  {"░", Good},
	act.ReopenStep: {"│", Good}, act.ReturnStep: {"▒", Good},
	act.HookStep: {"*", Strong},
}

// Eighths are the blocks that fill a cell from below by eighths.
var Eighths = []rune(" ▁▂▃▄▅▆▇█")
