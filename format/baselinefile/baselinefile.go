// Package baselinefile reads baselines from YAML. docs/baselines.md describes the file.
package baselinefile

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/span"
	"yareharbour/format/strictyaml"
)

type file struct {
	Baseline   string      `yaml:"baseline"`
	Rank       int         `yaml:"rank,omitempty"`
	Assign     []string    `yaml:"assign,omitempty"`
	Clauses    []clause    `yaml:"clauses"`
	Exceptions []exception `yaml:"exceptions,omitempty"`
	// how long drift of a severity may last, as {critical: 14d}
	Due map[string]string `yaml:"due,omitempty"`
}

type clause struct {
	Component  string `yaml:"component"`
	Posture    string `yaml:"posture"`
	Version    string `yaml:"version,omitempty"`
	Follow     string `yaml:"follow,omitempty"`
	Track      string `yaml:"track,omitempty"`
	Severity   string `yaml:"severity,omitempty"`
	MinAgeDays *int   `yaml:"min_age_days,omitempty"`
	Vendor     string `yaml:"vendor,omitempty"`
	Hardware   string `yaml:"hardware,omitempty"`
	Value      string `yaml:"value,omitempty"` // of a setting, in place of a version
}

type exception struct {
	Component string   `yaml:"component"`
	Hosts     []string `yaml:"hosts"`
	Until     string   `yaml:"until"`
	Reason    string   `yaml:"reason"`
	By        string   `yaml:"by"`
}

// lasts is how a file says how long drift may last.
var lasts = regexp.MustCompile(`^[1-9][0-9]{0,4}[hdw]$`)

// Parse reads a baseline. The error is a *strictyaml.Error with the place and what was expected there.
func Parse(name string, text []byte) (baseline.Baseline, error) {
	var in file
	f, err := strictyaml.Decode(name, text, &in)
	if err != nil {
		return baseline.Baseline{}, err
	}
	return in.read(f)
}

func (in *file) read(f *strictyaml.File) (baseline.Baseline, error) {
	b := baseline.Baseline{Name: in.Baseline, Rank: in.Rank, Assign: in.Assign}
	if b.Name == "" {
		return b, f.Errorf("$", "the baseline has no name: expected \"baseline: NAME\"")
	}
	if in.Clauses == nil {
		return b, f.Errorf("$", "the baseline has no clauses; one that wants nothing yet says \"clauses: []\"")
	}
	for i, a := range in.Assign {
		if why := place(a); why != "" {
			return b, f.Errorf(fmt.Sprintf("$.assign[%d]", i), "%s", why)
		}
	}
	for i, c := range in.Clauses {
		at := fmt.Sprintf("$.clauses[%d]", i)
		out, err := c.read(f, at)
		if err != nil {
			return b, err
		}
		if j := slices.IndexFunc(b.Clauses, func(o baseline.Clause) bool {
			return o.Component == out.Component && o.Hardware == out.Hardware
		}); j >= 0 {
			return b, f.Errorf(at+".component", "%s has a clause already, on line %d", out.Component, b.Clauses[j].Line)
		}
		b.Clauses = append(b.Clauses, out)
	}
	for i, e := range in.Exceptions {
		out, err := e.read(f, fmt.Sprintf("$.exceptions[%d]", i))
		if err != nil {
			return b, err
		}
		b.Exceptions = append(b.Exceptions, out)
	}
	for name, text := range in.Due {
		s, err := catalogue.ParseSeverity(name)
		if err != nil || name == "" {
			return b, f.Errorf("$.due", "no severity %q: expected low, medium, high, critical or unknown", name)
		}
		limit, err := span.Parse(text)
		if err != nil || !lasts.MatchString(text) {
			return b, f.Errorf("$.due."+name, "how long drift may last is in hours, days or weeks, as 14d, not %q", text)
		}
		if b.Due == nil {
			b.Due = map[catalogue.Severity]time.Duration{}
		}
		b.Due[s] = limit
	}
	return b, nil
}

func (c clause) read(f *strictyaml.File, at string) (baseline.Clause, error) {
	out := baseline.Clause{Posture: baseline.Posture(c.Posture), Version: cmp.Or(c.Version, c.Value), Track: c.Track,
		Line: f.Line(at + ".component"), Vendor: c.Vendor, Hardware: c.Hardware,
	}
	if c.MinAgeDays != nil {
		out.MinAge = time.Duration(*c.MinAgeDays) * 24 * time.Hour
	}
	var err error
	if out.Component, err = estate.ParseKey(c.Component); err != nil {
		return out, f.Errorf(at+".component", "%v", err)
	}
	if !slices.Contains(baseline.Postures, out.Posture) {
		return out, f.Errorf(at+".posture", "no posture %q: expected one of %s", c.Posture, quoted(baseline.Postures))
	}
	if out.Severity, err = catalogue.ParseSeverity(c.Severity); err != nil {
		return out, f.Errorf(at+".severity", "%v", err)
	}
	if out.MinAge < 0 {
		return out, f.Errorf(at+".min_age_days", "an age can't be negative")
	}
	setting := out.Component.Layer() == estate.Settings
	switch {
	case setting && (c.Version != "" || c.Follow != "" || out.Posture == baseline.AtLeast):
		return out, f.Errorf(at+".component",
			"a setting has a value, no version, and its values have no order: say \"exactly\", \"if present\" or "+
				"\"never\" and \"value: …\"")
	case c.Value != "" && !setting:
		return out, f.Errorf(at+".value", "only a setting (set:NAME) has a value; %s has a version", out.Component)
	case c.Hardware != "" && out.Component.Layer() != estate.Driver && out.Component.Layer() != estate.Firmware:
		return out, f.Errorf(at+".hardware", "only drivers and firmware belong to hardware, %s does not", out.Component)
	}
	c.Version = out.Version
	return out, c.wants(f, at, &out)
}

// wants holds the clause to exactly one way of saying which version it is about.
func (c clause) wants(f *strictyaml.File, at string, out *baseline.Clause) error {
	out.Follow = c.Follow == "newest"
	switch {
	case c.Follow != "" && !out.Follow:
		return f.Errorf(at+".follow", "nothing can be followed but \"newest\", not %q", c.Follow)
	case out.Posture == baseline.Never && (c.Version != "" || out.Follow):
		return f.Errorf(at+".posture", "a component that must never be there has no version")
	case out.Posture == baseline.Never && (c.Track != "" || c.Severity != "" || c.MinAgeDays != nil || c.Vendor != ""):
		return f.Errorf(at+".posture",
			"track, severity, vendor and min_age_days choose a release, and a component that must "+
				"never be there has none")
	case out.Posture == baseline.Never:
		return nil
	case c.Version != "" && out.Follow:
		return f.Errorf(at+".version", "the clause both names a version and follows the newest; it can do one")
	case c.Version == "" && !out.Follow:
		return f.Errorf(at, "the clause says neither \"version: …\" nor \"follow: newest\"")
	case c.Version != "" && (c.Track != "" || c.Severity != "" || c.MinAgeDays != nil || c.Vendor != ""):
		return f.Errorf(at+".version",
			"track, severity, vendor and min_age_days go with \"follow: newest\", not with a version")
	case c.Version != "" && out.Component.Name() == "*":
		return f.Errorf(at+".version", "%s is many components; they can't all be at one version", out.Component)
	case c.Version != "":
		if err := out.Component.Scheme().Valid(c.Version); err != nil {
			return f.Errorf(at+".version", "%v", err)
		}
	}
	return nil
}

func (e exception) read(f *strictyaml.File, at string) (baseline.Exception, error) {
	out := baseline.Exception{Hosts: e.Hosts, Reason: e.Reason, By: e.By}
	var err error
	if out.Component, err = estate.ParseKey(e.Component); err != nil {
		return out, f.Errorf(at+".component", "%v", err)
	}
	for i, h := range e.Hosts {
		if why := place(h); why != "" {
			return out, f.Errorf(fmt.Sprintf("%s.hosts[%d]", at, i), "%s", why)
		}
	}
	day, err := time.ParseInLocation(time.DateOnly, e.Until, time.Local) // the zone in which times are shown
	if err != nil {
		return out, f.Errorf(at+".until", "an exception needs its last day, of the form 2026-12-31, not %q", e.Until)
	}
	out.Until = day.AddDate(0, 0, 1) // it holds through that day
	if e.Reason == "" || e.By == "" || len(e.Hosts) == 0 {
		return out, f.Errorf(at, "an exception names its hosts, its reason and by whom it is")
	}
	return out, nil
}

// place says what is wrong with the name of a place; "" where it is of the form CLUSTER or CLUSTER/HOST.
func place(s string) string {
	cluster, host, one := strings.Cut(s, "/")
	if cluster == "" || one && (host == "" || strings.Contains(host, "/")) {
		return fmt.Sprintf("%q is neither a cluster's name nor CLUSTER/HOST", s)
	}
	return ""
}

func quoted[T ~string](words []T) string {
	var out []string
	for _, w := range words {
		out = append(out, fmt.Sprintf("%q", string(w)))
	}
	return strings.Join(out, ", ")
}
