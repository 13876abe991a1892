// Package narrow is the small language in which people say which part of a view they want to see. It is the same
// everywhere: words that must all be found, and words of the form field=value.
//
//	firmware tarbet        both words anywhere in the line, in whatever case
//	layer=firmware         one layer; layer=driver,firmware: either
//	severity=high          that severity and above
//	vendor=corran          a publisher, by the beginning of its name
//	host=avo*              hosts by a pattern: * is any run of characters, ? one
//	kind=fw,drv            kinds of components
//	verdict=behind         a verdict; a blank in it is written with a hyphen: verdict=off-track
//	age=30                 released within so many days; age=-30: longer ago
//	class=network,disk     kinds of devices
//	hardware=lorne*        models of hardware, by a pattern
//	used=no                on no host yet; used=yes: on some
//	-word, -field=value    not that
//
// A verdict that nobody can give, since something was not read or what is wanted can't be told, is not something else:
// where it has no severity, publisher, age, class or model of its own it stays, whatever of these is asked for.
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
	Hardware  []string      // models
	Class     string        // of a device
	Age       time.Duration // since its release; negative: not known
	Words     []string      // everything else that the line says
	// Open tells that the line is a verdict which nobody can give, or no verdict at all: what of it depends on the release
	// that is wanted, or on a device that was not read, is not known, rather than something else.
	Open bool
}

// fields and what of a subject they ask for.
var fields = []string{"layer", "severity", "vendor", "host", "kind", "verdict", "age", "class", "hardware", "used"}

// Verdicts are the words that verdict= knows, with hyphens for blanks: those of the vocabulary, and what an edit can
// come to.
var Verdicts = []string{"unread", "disputed", "excepted", "does-not-apply", "unwanted", "withdrawn", "absent",
	"half-installed", "undecided", "off-track", "behind", "ahead", "awaiting-restart", "in-line"}

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
				err = fmt.Errorf("there is no layer %q; there are %s", v, estate.Listed(estate.Layers))
			}
		}
	case "kind":
		for _, v := range t.values {
			if !slices.Contains(estate.Kinds(), v) {
				err = fmt.Errorf("there is no kind %q; there are %s", v, estate.Listed(estate.Kinds()))
			}
		}
	case "verdict":
		err = t.oneOf("verdict", Verdicts)
	case "class":
		err = t.oneOf("class of devices", estate.Classes)
	case "used":
		err = t.oneOf("answer to used=", []string{"yes", "no"})
	case "host", "hardware":
		for _, v := range t.values {
			if _, e := path.Match(v, ""); e != nil {
				err = fmt.Errorf("%s=%s is no pattern: %w", t.field, v, e)
			}
		}
	}
	return err
}

func (t *term) oneOf(what string, words []string) error {
	for _, v := range t.values {
		if !slices.Contains(words, v) {
			return fmt.Errorf("there is no %s %q; there are %s", what, v, strings.Join(words, ", "))
		}
	}
	return nil
}

// String returns the term as it was written, but for case.
func (t *term) String() string {
	s := strings.Join(t.values, ",")
	if t.field != "" {
		s = t.field + "=" + s
	}
	if t.not {
		s = "-" + s
	}
	return s
}

// Idle returns the words of the filter that nothing in the whole view answers to: a host, a model, a publisher that is
// not there, or a word that nobody says. Whoever narrows to one of them sees nothing, and should be told that it is not
// since all is well.
func (f Filter) Idle(all []Subject) (out []string) {
	for i := range f.terms {
		t := &f.terms[i]
		if !slices.ContainsFunc(all, func(s Subject) bool { return t.answer(s, s.words()) == yes }) {
			out = append(out, t.String())
		}
	}
	return out
}

// String returns the text that was parsed.
func (f Filter) String() string { return f.text }

// Empty tells whether everything is let through.
func (f Filter) Empty() bool { return len(f.terms) == 0 }

// Lets tells whether the filter lets the subject through: everything of which it can't be said that it is something else
// stays.
func (f Filter) Lets(s Subject) bool { return f.lets(s, false) }

// Might tells whether the filter would let the subject through, whatever it turns out to be once it is known. What Lets
// lets through it does too; beyond that, verdicts that are open might come to any verdict, and say any word.
func (f Filter) Might(s Subject) bool { return f.lets(s, true) }

func (f Filter) lets(s Subject, might bool) bool {
	words := ""
	for i := range f.terms {
		t := &f.terms[i]
		if t.field == "" && words == "" {
			words = s.words()
		}
		switch t.answer(s, words) {
		case unsaid:
		case yes:
			if t.not && !(might && s.Open && t.field == "verdict") {
				return false
			}
		case no:
			if !t.not && !(might && s.Open && (t.field == "verdict" || t.field == "")) {
				return false
			}
		}
	}
	return true
}

// said is what a term comes to: it holds, it does not, or nobody can say.
type said int

const (
	no said = iota
	yes
	unsaid
)

// answer is what the term comes to for a subject. What an open verdict has no value of is not known.
func (t *term) answer(s Subject, words string) said {
	if s.Open && t.unknown(s) {
		return unsaid
	}
	if t.holds(s, words) {
		return yes
	}
	// the name of a severity asks for one, and that of an open verdict is not known
	if _, err := catalogue.ParseSeverity(t.values[0]); t.field == "" && err == nil && s.Open && s.Severity == catalogue.Unknown {
		return unsaid
	}
	return no
}

// unknown tells whether an open verdict says nothing of what the term asks for.
func (t *term) unknown(s Subject) bool {
	if s.Component == "" && len(s.Verdicts) == 0 { // it is about a host, and no verdict at all
		return t.field != "" && (t.field != "host" || len(s.Hosts) == 0)
	}
	device := s.Component.Layer() == estate.Firmware || s.Component.Layer() == estate.Driver
	switch t.field {
	case "verdict":
		return len(s.Verdicts) == 0
	case "severity":
		return s.Severity == catalogue.Unknown
	case "vendor":
		return s.Vendor == ""
	case "age":
		return s.Age < 0
	case "class":
		return device && s.Class == ""
	case "hardware":
		return device && strings.Join(s.Hardware, "") == ""
	}
	return false
}

// words are all that the line says, in small letters.
func (s Subject) words() string {
	return strings.ToLower(strings.Join(
		append([]string{string(s.Component), string(s.Component.Layer()), s.Vendor, s.severity(), s.Class},
			slices.Concat(s.Hosts, s.Verdicts, s.Hardware, s.Words)...), "\x00"))
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
		return slices.ContainsFunc(t.values, func(v string) bool {
			return strings.HasPrefix(strings.ToLower(s.Vendor), v)
		})
	case "verdict":
		return slices.ContainsFunc(s.Verdicts, func(v string) bool {
			return slices.Contains(t.values, strings.ReplaceAll(strings.ToLower(v), " ", "-"))
		})
	case "class":
		return slices.Contains(t.values, s.Class)
	case "used":
		return slices.Contains(t.values, map[bool]string{true: "yes", false: "no"}[len(s.Hosts) > 0])
	case "hardware":
		return matchAny(s.Hardware, t.values)
	case "age":
		limit := time.Duration(max(t.days, -t.days)) * 24 * time.Hour
		return s.Age >= 0 && (s.Age <= limit) == (t.days > 0)
	}
	return matchAny(s.Hosts, t.values)
}

func matchAny(names, patterns []string) bool {
	return slices.ContainsFunc(names, func(h string) bool {
		return slices.ContainsFunc(patterns, func(v string) bool {
			ok, _ := path.Match(v, strings.ToLower(h))
			return ok
		})
	})
}

// Hosts returns the hosts of a list that the filter's host patterns let through; the other terms do not speak of hosts
// alone.
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
