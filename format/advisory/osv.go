package advisory

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/package-url/packageurl-go"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
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
		EcosystemSpecific struct {
			Urgency string `json:"urgency"`
		} `json:"ecosystem_specific"`
	} `json:"affected"`
	References []struct {
		Type string `json:"type"`
		URL  string `json:"url"`
	} `json:"references"`
}

// ReadOSV reads an OSV record, or an array of them. Records that were withdrawn and packages of ecosystems that hosts are not made of are passed over.
func ReadOSV(text []byte) ([]catalogue.Advisory, error) {
	var records []osv
	var err error
	if text = bytes.TrimSpace(text); bytes.HasPrefix(text, []byte("[")) {
		err = json.Unmarshal(text, &records)
	} else {
		records = make([]osv, 1)
		err = json.Unmarshal(text, &records[0])
	}
	if err != nil {
		return nil, fmt.Errorf("not an OSV record: %w", err)
	}
	var out []catalogue.Advisory
	for i, o := range records {
		if o.ID == "" || o.Modified.IsZero() {
			return nil, fmt.Errorf("record %d is not an OSV record: it has no id or no date of modification", i+1)
		}
		if !o.Withdrawn.IsZero() {
			continue
		}
		a, err := o.advisory()
		if err != nil {
			return nil, fmt.Errorf("the OSV record %s: %w", o.ID, err)
		}
		out = append(out, a)
	}
	return out, nil
}

func (o osv) advisory() (catalogue.Advisory, error) {
	a := catalogue.Advisory{ID: o.ID, Aliases: append(o.Aliases, o.Upstream...), Title: cmp.Or(o.Summary, sentence(o.Details)), Published: o.Modified}
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
	for _, p := range o.Affected {
		key, source := packageKey(p.Package.Ecosystem, p.Package.Name, p.Package.Purl)
		if key == "" {
			continue
		}
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
			f := catalogue.Affect{Component: key, Source: source}
			open := false
			for _, e := range r.Events { // pairs of introduced and fixed or last, in order
				switch {
				case e.Introduced == "0":
					f.Since, f.Fixed, f.Last, open = "", "", "", true
				case e.Introduced != "":
					f.Since, f.Fixed, f.Last, open = e.Introduced, "", "", true
				default:
					f.Fixed, f.Last, open = e.Fixed, e.Last, false
					a.Affects = append(a.Affects, f)
				}
			}
			if open {
				a.Affects = append(a.Affects, f)
			}
		}
	}
	return a, nil
}

// urgencies are the words of distributions' own trackers, for records without a score.
var urgencies = map[string]catalogue.Severity{"low": catalogue.Low, "medium": catalogue.Medium, "high": catalogue.High, "critical": catalogue.Critical}

func (o osv) grade(a *catalogue.Advisory, kind, score string) error {
	if !strings.HasPrefix(kind, "CVSS_") {
		if w, ok := urgencies[strings.ToLower(score)]; ok {
			a.Severity = max(a.Severity, w)
		}
		return nil
	}
	return grade(a, score)
}

// packageKey is the component that an OSV package is, and whether its name is a source package's. Distributions with dpkg name sources, those with rpm
// name what is installed (the OSV schema, "affected[].package"). It is "" for what no host is made of.
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

// sentence is the beginning of a text, for a title.
func sentence(s string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	if r := []rune(line); len(r) > 160 {
		return string(r[:159]) + "…"
	}
	return line
}
