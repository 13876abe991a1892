package baselinefile

import (
	"bytes"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"yareharbour/core/baseline"
	"yareharbour/format/strictyaml"
)

// Amend fulfils a wish in the text of a baseline, and returns the text, in which all else stands as it stood, and the
// line, from 1, on which what is new begins. A text that can't be read, or whose list is written between brackets, is
// refused.
func Amend(name string, text []byte, w baseline.Wish) ([]byte, int, error) {
	if n := bytes.Count(text, []byte("\r\n")); n > 0 && n == bytes.Count(text, []byte("\n")) { // the YAML library counts lines by \n
		out, line, err := Amend(name, bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n")), w)
		return bytes.ReplaceAll(out, []byte("\n"), []byte("\r\n")), line, err
	}
	var in file
	f, err := strictyaml.Decode(name, text, &in)
	if err != nil {
		return nil, 0, err
	}
	b, err := in.read(f)
	if err != nil {
		return nil, 0, err
	}
	list, at, over := "exceptions", len(b.Exceptions), false
	var entry any
	if w.Clause != nil {
		list, entry = "clauses", written(*w.Clause)
		at, over = w.Replaces(b.Clauses)
	} else {
		entry = excepted(*w.Exception)
	}
	lines := strings.Split(strings.TrimRight(string(text), "\n"), "\n")
	entries, column, ok := f.Lines("$." + list)
	from, to := len(lines), len(lines) // which lines it takes the place of
	switch {
	case !ok && at == 0 && !over && bracketed(lines, list) >= 0: // none yet
		n := bracketed(lines, list)
		lines[n], column = list+":", 3
		from, to = n+1, n+1
	case !ok && f.Line("$."+list) > 0:
		return nil, 0, f.Errorf("$."+list, "this list stands between brackets: nothing can be added for you, write it by hand")
	case !ok:
		lines, column = append(lines, list+":"), 3
		from, to = len(lines), len(lines)
	case over:
		from, to = entries[at][0]-1, entries[at][1]
	case len(entries) > 0:
		from = entries[len(entries)-1][1]
		to = from
	}
	body, err := yaml.MarshalWithOptions([]any{entry}, yaml.Indent(2))
	if err != nil {
		return nil, 0, err
	}
	indent := strings.Repeat(" ", column-1)
	var fresh []string
	for _, l := range strings.Split(strings.TrimRight(string(body), "\n"), "\n") {
		fresh = append(fresh, indent+l)
	}
	if from > to || to > len(lines) {
		return nil, 0, f.Errorf("$."+list, "where this list ends can't be told: write it by hand")
	}
	lines = slices.Replace(lines, from, to, fresh...)
	out := []byte(strings.Join(lines, "\n") + "\n")
	if _, err := Parse(name, out); err != nil {
		return nil, 0, err
	}
	return out, from + 1, nil
}

// bracketed is the line, from 0, on which an empty list stands as "NAME: []"; below 0 where none does.
func bracketed(lines []string, list string) int {
	return slices.IndexFunc(lines, func(l string) bool {
		rest, is := strings.CutPrefix(l, list+":")
		rest = strings.TrimSpace(rest)
		return is && strings.HasPrefix(rest, "[") && strings.TrimSpace(strings.TrimPrefix(strings.ReplaceAll(rest, " ", ""), "[]")) == ""
	})
}
