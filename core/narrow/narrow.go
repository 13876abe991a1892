// Package narrow is the small language in which people say which part of a view they want to see. It is the same everywhere: words that must all be found,
// and words of the form field=value.
//
//	firmware tarbet        both words anywhere in the line, in whatever case
//	layer=firmware         one layer; layer=driver,firmware: either
//	severity=high          that severity and above
//	vendor=corran          a publisher, by the beginning of its name
//	host=avo*              hosts by a pattern: * is any run of characters, ? one
//	kind=fw,drv            kinds of components
//	verdict=behind         a verdict; a blank in it is written with a hyphen: verdict=off-track
//	age=30                 released within so many days; age=-30: longer ago
//	-word, -field=value    not that
package narrow

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Filter is a text that was understood. The zero value lets everything through.
type Filter struct {
	text  string
	terms []term
}

type term struct {
	not    bool
	field  string // empty: a word anywhere
	values []string
	least  catalogue.Severity
	days   int
}

// Subject is what a filter looks at: a line of a view. What is empty is not known of it.
type Subject struct {
	Hosts     []string
	Component estate.Key
	Severity  catalogue.Severity
	Vendor    string
	Verdicts  []string
	Age       time.Duration // since its release; negative: not known
	Words     []string      // everything else that the line says
}

// fields and what of a subject they ask for.
var fields = []string{"layer", "severity", "vendor", "host", "kind", "verdict", "age"}

// Parse understands a text. An unknown field is an error; so is a value that a field can't have.
func Parse(text string) (Filter, error) {
	f := Filter{text: strings.TrimSpace(text)}
	for _, word := range strings.Fields(text) {
		t, err := parseTerm(word)
		if err != nil {
			return Filter{}, err
		}
		f.terms = append(f.terms, t)
	}
	return f, nil
}

func parseTerm(word string) (term, error) {
	var t term
	if rest, ok := strings.CutPrefix(word, "-"); ok && rest != "" {
		t.not, word = true, rest
	}
	field, value, ok := strings.Cut(word, "=")
	if !ok {
		t.values = []string{strings.ToLower(word)}
		return t, nil
	}
	t.field = strings.ToLower(field)
	if !slices.Contains(fields, t.field) {
		return t, fmt.Errorf("there is no field %q to narrow by; there are %s", field, strings.Join(fields, ", "))
	}
	if value == "" {
		return t, fmt.Errorf("%s= wants a value", field)
	}
	t.values = strings.Split(strings.ToLower(value), ",")
	return t, t.check(value)
}

func (t *term) check(value string) (err error) {
	switch t.field {
	case "severity":
		t.least, err = catalogue.ParseSeverity(strings.ToLower(value))
	case "age":
		if t.days, err = strconv.Atoi(value); err != nil || t.days == 0 {
			err = fmt.Errorf("age=%s: a number of days is wanted, as age=30 or age=-30", value)
		}
	case "layer":
		for _, v := range t.values {
			if !slices.Contains(estate.Layers, estate.Layer(v)) {
				err = fmt.Errorf("there is no layer %q; there are %v", v, estate.Layers)
			}
		}
	case "kind":
		for _, v := range t.values {
			if !slices.Contains(estate.Kinds(), v) {
				err = fmt.Errorf("there is no kind %q; there are %v", v, estate.Kinds())
			}
		}
	case "host":
		for _, v := range t.values {
			if _, e := path.Match(v, ""); e != nil {
				err = fmt.Errorf("host=%s is no pattern: %w", v, e)
			}
		}
	}
	return err
}

// String returns the text that was parsed.
func (f Filter) String() string { return f.text }

// Empty tells whether everything is let through.
func (f Filter) Empty() bool { return len(f.terms) == 0 }

// Lets tells whether the filter lets the subject through.
func (f Filter) Lets(s Subject) bool {
	words := ""
	for i := range f.terms {
		t := &f.terms[i]
		if t.field == "" && words == "" {
			words = strings.ToLower(strings.Join(append([]string{string(s.Component), string(s.Component.Layer()), s.Vendor, s.severity()},
				slices.Concat(s.Hosts, s.Verdicts, s.Words)...), "\x00"))
		}
		if t.holds(s, words) == t.not {
			return false
		}
	}
	return true
}

func (s Subject) severity() string {
	if s.Severity == catalogue.Unknown {
		return ""
	}
	return s.Severity.String()
}

func (t *term) holds(s Subject, words string) bool {
	switch t.field {
	case "":
		return strings.Contains(words, t.values[0])
	case "layer":
		return slices.Contains(t.values, string(s.Component.Layer()))
	case "kind":
		return slices.Contains(t.values, s.Component.Kind())
	case "severity":
		return s.Severity >= t.least
	case "vendor":
		return slices.ContainsFunc(t.values, func(v string) bool { return strings.HasPrefix(strings.ToLower(s.Vendor), v) })
	case "verdict":
		return slices.ContainsFunc(s.Verdicts, func(v string) bool {
			return slices.Contains(t.values, strings.ReplaceAll(strings.ToLower(v), " ", "-"))
		})
	case "age":
		limit := time.Duration(max(t.days, -t.days)) * 24 * time.Hour
		return s.Age >= 0 && (s.Age <= limit) == (t.days > 0)
	}
	return slices.ContainsFunc(s.Hosts, func(h string) bool {
		return slices.ContainsFunc(t.values, func(v string) bool {
			ok, _ := path.Match(v, strings.ToLower(h))
			return ok
		})
	})
}

// Hosts returns the hosts of a list that the filter's host patterns let through; the other terms do not speak of hosts alone.
func (f Filter) Hosts(hosts []string) []string {
	return slices.DeleteFunc(slices.Clone(hosts), func(h string) bool {
		for i := range f.terms {
			if t := &f.terms[i]; t.field == "host" && t.holds(Subject{Hosts: []string{h}}, "") == t.not {
				return true
			}
		}
		return false
	})
}
