package rpmrepo

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/format/bounds"
	"yareharbour/format/compressed"
)

// update is an <update> of an updateinfo.xml.
type update struct {
	Type     string `xml:"type,attr"`
	Status   string `xml:"status,attr"`
	ID       string `xml:"id"`
	Title    string `xml:"title"`
	Severity string `xml:"severity"`
	Issued   struct {
		Date string `xml:"date,attr"`
	} `xml:"issued"`
	Updated struct {
		Date string `xml:"date,attr"`
	} `xml:"updated"`
	Description string `xml:"description"`
	References  []struct {
		Type string `xml:"type,attr"`
		ID   string `xml:"id,attr"`
		Href string `xml:"href,attr"`
	} `xml:"references>reference"`
	Packages []struct {
		Name    string `xml:"name,attr"`
		Epoch   string `xml:"epoch,attr"`
		Version string `xml:"version,attr"`
		Release string `xml:"release,attr"`
		Arch    string `xml:"arch,attr"`
		Reboot  *bool  `xml:"reboot_suggested"`
		Restart *bool  `xml:"restart_suggested"`
	} `xml:"pkglist>collection>package"`
}

// severities are the words of updateinfo files, in lower case.
var severities = map[string]catalogue.Severity{"critical": catalogue.Critical, "important": catalogue.High,
	"high":     catalogue.High,
	"moderate": catalogue.Medium, "medium": catalogue.Medium, "low": catalogue.Low}

// Restarts tells what must restart after a package of an update: by component and version.
type Restarts map[string]catalogue.Restart

func restartKey(component, version string) string { return component + " " + version }

// ReadUpdateinfo reads an updateinfo.xml, plain. An update with the status "retracted" withdraws the versions that it
// lists. The file is streamed. An update that says nothing usable is given to bad, which says whether to go on.
func ReadUpdateinfo(r *compressed.Bounded, native string, bad func(error) error) ([]catalogue.Advisory,
	Restarts, error) {
	d := xml.NewDecoder(bounds.XML(r, bounds.Limits{Values: 1 << 30})) // updates are read one by one
	var out []catalogue.Advisory
	restarts := Restarts{}
	root := false
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, nil, fmt.Errorf("not an updateinfo.xml: %w", err)
		}
		s, ok := t.(xml.StartElement)
		switch {
		case !ok:
		case !root && s.Name.Local != "updates":
			return nil, nil, fmt.Errorf("not an updateinfo.xml: it begins with <%s>", s.Name.Local)
		case !root:
			root = true
		case s.Name.Local == "update":
			var u update
			if err := d.DecodeElement(&u, &s); err != nil {
				return nil, nil, fmt.Errorf("after the update %s of the updateinfo.xml: %w", last(out), err)
			}
			r.Next()
			if u.ID == "" {
				if err := bad(fmt.Errorf("after %s: an update has no id", last(out))); err != nil {
					return nil, nil, err
				}
				continue
			}
			out = append(out, u.advisory(native, restarts))
		}
	}
	if !root {
		return nil, nil, errors.New("not an updateinfo.xml: it is empty")
	}
	return out, restarts, nil
}

func last(as []catalogue.Advisory) string {
	if len(as) == 0 {
		return "its beginning"
	}
	return as[len(as)-1].ID
}

func (u update) advisory(native string, restarts Restarts) catalogue.Advisory {
	a := catalogue.Advisory{ID: u.ID, Title: strings.TrimSpace(u.Title),
		Severity: severities[strings.ToLower(strings.TrimSpace(u.Severity))]}
	a.Published = date(u.Issued.Date)
	if up := date(u.Updated.Date); up.After(a.Published) {
		a.Published = up
	}
	for _, r := range u.References {
		if r.Type == "cve" && r.ID != "" {
			a.Aliases = append(a.Aliases, r.ID)
		}
		if a.Link == "" && r.Type == "self" {
			a.Link = r.Href
		}
	}
	seen := map[string]bool{}
	for _, p := range u.Packages {
		if p.Arch == "src" {
			continue
		}
		f := catalogue.Affect{Component: Key(p.Name, p.Arch, native), Fixed: EVR(p.Epoch, p.Version, p.Release)}
		at := restartKey(string(f.Component), f.Fixed)
		if p.Reboot != nil && *p.Reboot {
			restarts[at] = catalogue.HostRestart
		} else if p.Restart != nil && *p.Restart {
			restarts[at] = catalogue.ServiceRestart
		}
		if u.Status == "retracted" {
			f.Withdrawn = "its update " + u.ID + " was retracted"
			if t := strings.TrimSpace(u.Description); t != "" {
				f.Withdrawn += ": " + firstLine(t)
			}
		}
		if !seen[at] {
			seen[at] = true
			a.Affects = append(a.Affects, f)
		}
	}
	return a
}

// Apply notes on the releases what must restart after them.
func (r Restarts) Apply(releases []catalogue.Release) {
	for i := range releases {
		if need, ok := r[restartKey(string(releases[i].Component), releases[i].Version)]; ok {
			releases[i].Restart = need
		}
	}
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return strings.TrimSpace(line)
}

// date reads the ways in which updateinfo files write dates; the zero time where it is none of them.
func date(s string) time.Time {
	for _, layout := range []string{time.DateTime, time.DateOnly, "2006-01-02 15:04:05 MST",
		"2006-01-02 15:04", time.RFC3339} {
		if t, err := time.Parse(layout, strings.TrimSpace(s)); err == nil {
			return t.UTC()
		}
	}
	return time.Time{}
}
