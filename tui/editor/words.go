package editor

import (
	"slices"
	"strings"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/narrow"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// line is the line of the cursor, up to the cursor.
func (s *Screen) line() string {
	lines := strings.Split(s.text.Value(), "\n")
	runes := []rune(lines[s.text.Line()])
	return string(runes[:min(s.text.Column(), len(runes))])
}

// indent is how far the line after this one begins: below its first word, where it begins an entry of a list; further in
// than a name after which nothing stands.
func indent(line string) string {
	rest := strings.TrimLeft(line, " ")
	in := line[:len(line)-len(rest)]
	if strings.HasPrefix(rest, "- ") {
		return in + "  "
	}
	if strings.HasSuffix(strings.TrimSpace(rest), ":") && !strings.HasPrefix(rest, "#") {
		return in + "  "
	}
	return in
}

// fields are the names that stand in a baseline's file.
var fields = []string{"assign:", "baseline:", "by:", "clauses:", "component:", "exceptions:", "follow:", "hardware:", "hosts:",
	"min_age_days:", "posture:", "rank:", "reason:", "severity:", "track:", "until:", "value:", "vendor:", "version:"}

// know finds out which components there are, once for each view in which one is named.
func (s *Screen) know(e *view.Estate) {
	if s.knownOf == e || !strings.Contains(s.line(), "component:") {
		return
	}
	s.known, s.knownOf = nil, e
	for _, r := range e.Components(narrow.Filter{}, true) {
		s.known = append(s.known, string(r.Component))
	}
}

// offers are the words that can stand where the cursor is, and what of them is there.
func (s *Screen) offers() (typed string, words []string) {
	line := strings.TrimPrefix(strings.TrimLeft(s.line(), " "), "- ")
	field, value, named := strings.Cut(line, ": ")
	all := fields
	switch typed = value; {
	case !named:
		typed = line
	case field == "component":
		all = s.known
	case field == "posture":
		all = nil
		for _, p := range baseline.Postures {
			all = append(all, string(p))
		}
	case field == "follow":
		all = []string{"newest"}
	case field == "severity":
		all = nil
		for sev := catalogue.Unknown + 1; sev <= catalogue.Critical; sev++ {
			all = append(all, sev.String())
		}
	default:
		all = nil
	}
	for _, w := range all {
		if strings.HasPrefix(w, typed) && w != typed && (typed != "" || named) {
			words = append(words, w)
		}
	}
	slices.Sort(words)
	return typed, slices.Compact(words)
}

// more is what Tab writes: as much as all the words that can stand there have in common, or else an indent.
func (s *Screen) more() string {
	typed, words := s.offers()
	if len(words) == 0 {
		return "  "
	}
	same := part.Common(words)
	if len(words) == 1 && strings.HasSuffix(same, ":") {
		same += " "
	}
	return same[len(typed):]
}
