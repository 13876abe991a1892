// Package brieffile reads and writes briefs as YAML, and as the words of a command line that mean the same.
// docs/rounds.md describes the file.
package brieffile

import (
	"bytes"
	_ "embed" // for Schema
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/format/strictyaml"
)

// Schema is the JSON Schema (draft 2020-12) of a brief file.
//
//go:embed schema.json
var Schema []byte

type file struct {
	Brief     string            `yaml:"brief"` // the cluster
	Reason    string            `yaml:"reason,omitempty"`
	Hosts     []string          `yaml:"hosts,omitempty"`
	Order     string            `yaml:"order,omitempty"`
	Sequence  []string          `yaml:"sequence,omitempty"`
	Trial     string            `yaml:"trial,omitempty"`
	Soak      string            `yaml:"soak,omitempty"`
	Rehearse  string            `yaml:"rehearse,omitempty"`
	Out       *int              `yaml:"out_of_service,omitempty"`
	Leaves    *int              `yaml:"leave_failed,omitempty"`
	Reserve   *int              `yaml:"reserve,omitempty"`
	Moves     *int              `yaml:"moves,omitempty"`
	Bandwidth *int64            `yaml:"bandwidth,omitempty"`
	Home      bool              `yaml:"home,omitempty"`
	Limit     *float64          `yaml:"limit,omitempty"`
	Lift      []string          `yaml:"lift,omitempty"`
	Only      []string          `yaml:"only,omitempty"`
	Releases  map[string]string `yaml:"releases,omitempty"`
	Guests    []policy          `yaml:"guests,omitempty"`
	Windows   []string          `yaml:"windows,omitempty"`
	Patience  string            `yaml:"patience,omitempty"`
}

// policy is what is done with guests that do not move.
type policy struct {
	Guests []string `yaml:"guests"`
	Do     string   `yaml:"do"`
}

// dos are the words for what is done with a guest.
var dos = map[string]plan.Do{"shut-down": plan.DoShutDown, "suspend": plan.DoSuspend, "eject": plan.DoEject,
	"cold": plan.DoCold, "leave": plan.DoLeave}

// Do reads the word for what is done with a guest.
func Do(word string) (plan.Do, error) {
	n, ok := dos[word]
	if !ok {
		return n, fmt.Errorf("%q is nothing that is done with a guest; %s are", word,
			strings.Join(slices.Sorted(maps.Keys(dos)), " and "))
	}
	return n, nil
}

// Policy writes what is done with guests as one word, as ParsePolicy reads it: guest,guest=what.
func Policy(p plan.Policy) string { return strings.Join(p.Guests, ",") + "=" + doing(p.Do) }

// ParsePolicy reads such a word.
func ParsePolicy(word string) (plan.Policy, error) {
	names, how, ok := strings.Cut(word, "=")
	do, err := Do(how)
	if !ok || names == "" || err != nil {
		return plan.Policy{}, fmt.Errorf(
			"%q is not guest=shut-down, guest=suspend, guest=eject, guest=cold or guest=leave", word)
	}
	return plan.Policy{Guests: strings.Split(names, ","), Do: do}, nil
}

func doing(n plan.Do) string {
	for w, x := range dos {
		if x == n {
			return w
		}
	}
	return string(n)
}

// orders are the words for the orders.
var orders = map[string]plan.Order{"fewest-moves": plan.FewestMoves, "lightest-first": plan.LightestFirst}

// Order reads an order's word.
func Order(word string) (plan.Order, error) {
	o, ok := orders[word]
	if !ok {
		return o, fmt.Errorf("there is no order %q; there are %s", word,
			strings.Join(slices.Sorted(maps.Keys(orders)), " and "))
	}
	return o, nil
}

// Window reads an interval of ISO 8601, as "2026-11-22T22:00/2026-11-23T04:00"; without an offset its times are those
// of the zone in.
func Window(text string, in *time.Location) (w plan.Window, err error) {
	from, to, ok := strings.Cut(text, "/")
	if !ok {
		return w, fmt.Errorf("%q is no window: an interval as 2026-11-22T22:00/2026-11-23T04:00 is wanted", text)
	}
	if w.From, err = moment(from, in); err == nil {
		w.To, err = moment(to, in)
	}
	if err == nil && !w.To.After(w.From) {
		err = fmt.Errorf("the window %s ends before it begins", text)
	}
	return w, err
}

func moment(text string, in *time.Location) (time.Time, error) {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(form, text, in); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time: one as 2026-11-22T22:00 is wanted, or with an offset, as "+
		"2026-11-22T22:00:00+01:00", text)
}

// Cluster is the cluster that a brief file is for.
func Cluster(name string, text []byte) (string, error) {
	var in file
	if f, err := strictyaml.Decode(name, text, &in); err != nil {
		return "", err
	} else if in.Brief == "" {
		return "", f.Errorf("$", "the brief names no cluster: expected \"brief: CLUSTER\"")
	}
	return in.Brief, nil
}

// Parse reads a brief for a cluster: what the file does not say is as usual there. The error is a *strictyaml.Error
// with the place and what was expected there.
func Parse(name string, text []byte, usual plan.Brief, in *time.Location) (plan.Brief, error) {
	var d file
	b := usual
	f, err := strictyaml.Decode(name, text, &d)
	if err != nil {
		return b, err
	}
	if d.Brief != usual.Cluster {
		return b, f.Errorf("$.brief", "the brief is for %q, and %q is meant", d.Brief, usual.Cluster)
	}
	b.Reason, b.Hosts, b.Sequence, b.Trial, b.Lift, b.Home = d.Reason, d.Hosts, d.Sequence, d.Trial, d.Lift, d.Home
	if d.Order != "" {
		if b.Order, err = Order(d.Order); err != nil {
			return b, f.Errorf("$.order", "%v", err)
		}
	}
	for _, n := range []struct {
		from *int
		to   *int
	}{{d.Out, &b.Out}, {d.Leaves, &b.Leaves}, {d.Reserve, &b.Reserve}, {d.Moves, &b.Moves}} {
		if n.from != nil {
			*n.to = *n.from
		}
	}
	if d.Bandwidth != nil {
		b.Bandwidth = *d.Bandwidth
	}
	if d.Limit != nil {
		if *d.Limit < 1 || *d.Limit > 100 {
			return b, f.Errorf("$.limit", "a limit of %g %%: 1 to 100 is wanted", *d.Limit)
		}
		b.Limit = *d.Limit / 100
	}
	for _, t := range []struct {
		at, text string
		to       *time.Duration
	}{{"$.soak", d.Soak, &b.Soak}, {"$.rehearse", d.Rehearse, &b.Rehearse}, {"$.patience", d.Patience, &b.Patience}} {
		if t.text == "" {
			continue
		}
		if *t.to, err = time.ParseDuration(t.text); err != nil || *t.to < 0 {
			return b, f.Errorf(t.at, "%q is no time as \"30m\"", t.text)
		}
	}
	for i, k := range d.Only {
		key, err := estate.ParseKey(k)
		if err != nil {
			return b, f.Errorf(fmt.Sprintf("$.only[%d]", i), "%v", err)
		}
		b.Only = append(b.Only, key)
	}
	for _, k := range slices.Sorted(maps.Keys(d.Releases)) {
		key, err := estate.ParseKey(k)
		if err != nil || d.Releases[k] == "" {
			return b, f.Errorf("$.releases", "%q is no component, or has no version", k)
		}
		if b.Releases == nil {
			b.Releases = map[estate.Key]string{}
		}
		b.Releases[key] = d.Releases[k]
	}
	for i, p := range d.Guests {
		do, err := Do(p.Do)
		if err != nil || len(p.Guests) == 0 {
			return b, f.Errorf(fmt.Sprintf("$.guests[%d]", i),
				"guests, and what is done with them, are wanted: %v", err)
		}
		b.Guests = append(b.Guests, plan.Policy{Guests: p.Guests, Do: do})
	}
	for i, w := range d.Windows {
		window, err := Window(w, in)
		if err != nil {
			return b, f.Errorf(fmt.Sprintf("$.windows[%d]", i), "%v", err)
		}
		b.Windows = append(b.Windows, window)
	}
	return b, nil
}

// Write writes a brief as a file: what is usual on its cluster is left out, so that it stays what is usual there.
func Write(b, usual plan.Brief) ([]byte, error) {
	d := file{Brief: b.Cluster, Reason: b.Reason, Hosts: b.Hosts, Sequence: b.Sequence, Trial: b.Trial,
		Lift: b.Lift, Home: b.Home}
	if b.Order != usual.Order {
		d.Order = word(b.Order)
	}
	for _, n := range []struct {
		is, usual int
		to        **int
	}{{b.Out, usual.Out, &d.Out}, {b.Leaves, usual.Leaves, &d.Leaves}, {b.Reserve, usual.Reserve, &d.Reserve},
		{b.Moves, usual.Moves, &d.Moves}} {
		if n.is != n.usual {
			*n.to = &n.is
		}
	}
	if b.Bandwidth != usual.Bandwidth {
		d.Bandwidth = &b.Bandwidth
	}
	if b.Limit > 0 {
		percent := percent(b.Limit)
		d.Limit = &percent
	}
	if b.Soak > 0 {
		d.Soak = duration(b.Soak)
	}
	if b.Rehearse > 0 {
		d.Rehearse = duration(b.Rehearse)
	}
	if b.Patience != usual.Patience {
		d.Patience = duration(b.Patience)
	}
	for _, k := range b.Only {
		d.Only = append(d.Only, string(k))
	}
	for k, v := range b.Releases {
		if d.Releases == nil {
			d.Releases = map[string]string{}
		}
		d.Releases[string(k)] = v
	}
	for _, p := range b.Guests {
		d.Guests = append(d.Guests, policy{p.Guests, doing(p.Do)})
	}
	for _, w := range b.Windows {
		d.Windows = append(d.Windows, Interval(w))
	}
	var out bytes.Buffer
	err := yaml.NewEncoder(&out, yaml.IndentSequence(true)).Encode(d)
	return out.Bytes(), err
}

func word(o plan.Order) string {
	for w, x := range orders {
		if x == o {
			return w
		}
	}
	return string(o)
}

func percent(share float64) float64 { return math.Round(share*1e6) / 1e4 }

// duration writes a time without the parts that are zero.
func duration(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Interval writes a window as an interval of ISO 8601.
func Interval(w plan.Window) string {
	return w.From.Format(time.RFC3339) + "/" + w.To.Format(time.RFC3339)
}

// Words are the options of a command line that make the brief what it is, behind the cluster's name. A word that a
// shell would take apart stands in quotes.
func Words(b, usual plan.Brief) (out []string) {
	option := func(name, value string) { out = append(out, "--"+name, quoted(value)) }
	list := func(name string, values []string) {
		if len(values) > 0 {
			option(name, strings.Join(values, ","))
		}
	}
	number := func(name string, is, usual int) {
		if is != usual {
			option(name, strconv.Itoa(is))
		}
	}
	list("hosts", b.Hosts)
	if b.Order != usual.Order {
		option("order", word(b.Order))
	}
	list("sequence", b.Sequence)
	if b.Trial != "" {
		option("trial", b.Trial)
	}
	if b.Soak > 0 {
		option("soak", duration(b.Soak))
	}
	if b.Rehearse > 0 {
		option("rehearse", duration(b.Rehearse))
	}
	number("out-of-service", b.Out, usual.Out)
	number("leave-failed", b.Leaves, usual.Leaves)
	number("reserve", b.Reserve, usual.Reserve)
	number("moves", b.Moves, usual.Moves)
	if b.Bandwidth != usual.Bandwidth {
		option("bandwidth", strconv.FormatInt(b.Bandwidth, 10))
	}
	if b.Home {
		out = append(out, "--home")
	}
	if b.Limit > 0 {
		option("limit", strconv.FormatFloat(percent(b.Limit), 'f', -1, 64))
	}
	for _, rule := range b.Lift {
		option("lift", rule)
	}
	var only []string
	for _, k := range b.Only {
		only = append(only, string(k))
	}
	list("only", only)
	for _, k := range slices.Sorted(maps.Keys(b.Releases)) {
		option("release", string(k)+"="+b.Releases[k])
	}
	for _, p := range b.Guests {
		option("guest", Policy(p))
	}
	for _, w := range b.Windows {
		option("window", Interval(w))
	}
	if b.Patience != usual.Patience {
		option("patience", duration(b.Patience))
	}
	return out
}

func quoted(word string) string {
	if strings.ContainsAny(word, " \t\"'$`\\*?[]{}()<>|&;#~!") || word == "" {
		return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
	}
	return word
}
