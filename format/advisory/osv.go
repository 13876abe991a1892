package advisory

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/package-url/packageurl-go"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/bounds"
)

type osv struct {
	SchemaVersion string    `json:"schema_version"`
	ID            string    `json:"id"`
	Modified      time.Time `json:"modified"`
	Withdrawn     time.Time `json:"withdrawn"`
	Aliases       []string  `json:"aliases"`
	Upstream      []string  `json:"upstream"`
	Summary       string    `json:"summary"`
	Details       string    `json:"details"`
	Severity      []struct {
		Type  string `json:"type"`
		Score string `json:"score"`
	} `json:"severity"`
	Affected []struct {
		Package struct {
			Ecosystem string `json:"ecosystem"`
			Name      string `json:"name"`
			Purl      string `json:"purl"`
		} `json:"package"`
		Severity []struct {
			Type  string `json:"type"`
			Score string `json:"score"`
		} `json:"severity"`
		Ranges []struct {
			Type   string `json:"type"`
			Events []struct {
				Introduced string `json:"introduced"`
				Fixed      string `json:"fixed"`
				Last       string `json:"last_affected"`
			} `json:"events"`
		} `json:"ranges"`
		Versions          []string `json:"versions"`
		EcosystemSpecific struct {
			Urgency string `json:"urgency"`
		} `json:"ecosystem_specific"`
	} `json:"affected"`
	References []struct {
		Type string `json:"type"`
		URL  string `json:"url"`
	} `json:"references"`
}

// ReadOSV reads an OSV record, or an array of them. Records that were withdrawn and packages of ecosystems that hosts
// are not made of are passed over. A record that can't be understood, or of whose packages no range and no version is,
// is given to bad, which says whether to go on without it.
func ReadOSV(text []byte, bad func(error) error) ([]catalogue.Advisory, error) {
	records := []json.RawMessage{text}
	if text = bytes.TrimSpace(text); bytes.HasPrefix(text, []byte("[")) {
		if err := bounds.Unmarshal(text, &records, bounds.Usual); err != nil {
			return nil, fmt.Errorf("not an OSV record: %w", err)
		}
	}
	var out []catalogue.Advisory
	for i, raw := range records {
		var o osv
		err := bounds.Unmarshal(raw, &o, bounds.Usual)
		if err == nil && (o.ID == "" || o.Modified.IsZero()) {
			err = errors.New("it has no id or no date of modification")
		}
		if err != nil {
			if err := bad(fmt.Errorf("record %d is not an OSV record: %w", i+1, err)); err != nil {
				return nil, err
			}
			continue
		}
		if !o.Withdrawn.IsZero() {
			continue
		}
		a, err := o.advisory()
		if err != nil {
			if err := bad(fmt.Errorf("the OSV record %s: %w", o.ID, err)); err != nil {
				return nil, err
			}
			continue
		}
		out = append(out, a)
	}
	return out, nil
}

func (o osv) advisory() (catalogue.Advisory, error) {
	a := catalogue.Advisory{ID: o.ID, Aliases: append(o.Aliases, o.Upstream...),
		Title: cmp.Or(o.Summary, sentence(o.Details)), Published: o.Modified}
	for _, s := range o.Severity {
		if err := o.grade(&a, s.Type, s.Score); err != nil {
			return a, err
		}
	}
	for _, r := range o.References {
		if a.Link == "" && (r.Type == "ADVISORY" || r.Type == "WEB") {
			a.Link = r.URL
		}
	}
	ours := false
	for _, p := range o.Affected {
		key, source := packageKey(p.Package.Ecosystem, p.Package.Name, p.Package.Purl)
		if key == "" {
			continue
		}
		ours = true
		system := systemOf(p.Package.Ecosystem)
		for _, s := range p.Severity {
			if err := o.grade(&a, s.Type, s.Score); err != nil {
				return a, err
			}
		}
		if a.Vector == "" {
			a.Severity = max(a.Severity, urgencies[p.EcosystemSpecific.Urgency])
		}
		for _, r := range p.Ranges {
			if r.Type != "ECOSYSTEM" {
				continue
			}
			var events []event
			for _, e := range r.Events {
				events = append(events, event{e.Introduced, 0}, event{e.Fixed, 1}, event{e.Last, 2})
			}
			for _, f := range spans(key, source, events) {
				f.System = system
				a.Affects = append(a.Affects, f)
			}
		}
		for _, v := range p.Versions { // affected are those in a range and those that are named
			if !slices.ContainsFunc(a.Affects, func(f catalogue.Affect) bool {
				return f.Component == key && f.Source == source && f.System == system && f.Has(v)
			}) {
				a.Affects = append(a.Affects,
					catalogue.Affect{Component: key, Source: source, System: system, Since: v, Last: v})
			}
		}
	}
	if ours && len(a.Affects) == 0 {
		return a, errors.New("it names packages of hosts, and no range or version of them that is understood")
	}
	return a, nil
}

// event is where something begins or ends to be affected: 0 introduced, 1 fixed, 2 last affected.
type event struct {
	version string
	kind    int
}

// spans makes spans of events, in whatever order a record has them: the schema has them sorted by version before they
// mean anything ("affected[].ranges[].events").
func spans(key estate.Key, source bool, events []event) (out []catalogue.Affect) {
	events = slices.DeleteFunc(events, func(e event) bool { return e.version == "" })
	slices.SortStableFunc(events, func(a, b event) int {
		switch {
		case (a.version == "0") != (b.version == "0"):
			return map[bool]int{true: -1, false: 1}[a.version == "0"]
		case a.version == b.version:
			return map[[2]int]int{{0, 2}: -1, {2, 0}: 1, {1, 0}: -1, {0, 1}: 1}[[2]int{a.kind, b.kind}]
		}
		return key.Scheme().Compare(a.version, b.version)
	})
	var open *catalogue.Affect
	for _, e := range events {
		switch {
		case e.kind == 0 && open == nil:
			open = &catalogue.Affect{Component: key, Source: source, Since: e.version}
			if e.version == "0" {
				open.Since = ""
			}
		case e.kind == 1 && open != nil:
			open.Fixed = e.version
		case e.kind == 2 && open != nil:
			open.Last = e.version
		}
		if e.kind != 0 && open != nil {
			out = append(out, *open)
			open = nil
		}
	}
	if open != nil {
		out = append(out, *open)
	}
	return out
}

// urgencies are the words of distributions' own trackers, for records without a score.
var urgencies = map[string]catalogue.Severity{"low": catalogue.Low, "medium": catalogue.Medium, "high": catalogue.High,
	"critical": catalogue.Critical}

func (o osv) grade(a *catalogue.Advisory, kind, score string) error {
	if !strings.HasPrefix(kind, "CVSS_") {
		if w, ok := urgencies[strings.ToLower(score)]; ok {
			a.Severity = max(a.Severity, w)
		}
		return nil
	}
	return grade(a, score)
}

// packageKey is the component that an OSV package is, and whether its name is a source package's. Distributions with
// dpkg name sources, those with rpm name what is installed (the OSV schema, "affected[].package"). It is "" for what no
// host is made of.
func packageKey(ecosystem, name, purl string) (key estate.Key, source bool) {
	if purl != "" {
		p, err := packageurl.FromString(purl)
		if err == nil && (p.Type == packageurl.TypeDebian || p.Type == packageurl.TypeRPM) {
			arch := p.Qualifiers.Map()["arch"]
			source = arch == "source" || arch == "src" || p.Type == packageurl.TypeDebian && arch == ""
			return estate.Key(p.Type + ":" + cmp.Or(name, p.Name)), source
		}
	}
	family, _, _ := strings.Cut(ecosystem, ":")
	switch family {
	case "Debian", "Ubuntu":
		return estate.Key("deb:" + name), true
	case "AlmaLinux", "Rocky Linux", "Red Hat", "openSUSE", "SUSE", "openEuler", "Mageia", "Azure Linux":
		return estate.Key("rpm:" + name), false
	}
	return "", false
}

// systemOf is the distribution and the release that an ecosystem names, as os-release(5) has them: "debian 12" of
// "Debian:12", "ubuntu 24.04" of "Ubuntu:Pro:24.04:LTS". It is empty where it names no release, or one in other words.
func systemOf(ecosystem string) string {
	family, rest, _ := strings.Cut(ecosystem, ":")
	id := map[string]string{"Debian": "debian", "Ubuntu": "ubuntu", "AlmaLinux": "almalinux", "Rocky Linux": "rocky"}[family]
	release := strings.TrimSuffix(strings.TrimPrefix(rest, "Pro:"), ":LTS")
	if id == "" || release == "" || strings.Trim(release, "0123456789.") != "" {
		return ""
	}
	return id + " " + release
}

// sentence is the beginning of a text, for a title.
func sentence(s string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	if r := []rune(line); len(r) > 160 {
		return string(r[:159]) + "…"
	}
	return line
}
