// Package bom writes inventories as CycloneDX 1.6 (ECMA-424): a host as a device, with its packages, drivers and firmware
// in it, and the advisories that they lie open to as vulnerabilities with what is known of each (VEX).
package bom

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	cdx "github.com/CycloneDX/cyclonedx-go"
	"github.com/package-url/packageurl-go"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/plain"
)

// Of is what an inventory is of.
type Of struct {
	Estate    string
	About     string // the clusters and hosts that were named; empty: all of the estate
	Now       time.Time
	Version   string // of yare
	Hosts     []*estate.Reading
	Missing   []string // hosts that were never read
	Catalogue *catalogue.Catalogue
}

// Formats are the forms of an inventory.
var Formats = []string{"json", "xml"}

// Write writes it in one of Formats. The same inventory is the same bytes.
func Write(w io.Writer, of Of, format string) error {
	form := cdx.BOMFileFormatJSON
	if format == "xml" {
		form = cdx.BOMFileFormatXML
	}
	return cdx.NewBOMEncoder(w, form).SetPretty(true).SetEscapeHTML(false).EncodeVersion(build(of), cdx.SpecVersion1_6)
}

func build(of Of) *cdx.BOM {
	b := cdx.NewBOM()
	about := cmp.Or(of.About, of.Estate)
	root := cdx.Component{BOMRef: "estate", Type: cdx.ComponentTypePlatform, Name: plain.Line(about)}
	if of.About != "" {
		root.Group = plain.Line(of.Estate)
	}
	b.Metadata = &cdx.Metadata{Timestamp: of.Now.UTC().Format(time.RFC3339), Component: &root,
		Tools: &cdx.ToolsChoice{Components: &[]cdx.Component{{Type: cdx.ComponentTypeApplication, Name: "yare", Version: of.Version}}}}
	for _, m := range of.Missing {
		add(&b.Metadata.Properties, "yare:never-read", m)
	}
	hosts, of1 := []cdx.Component{}, []string{}
	flaws := flaws{by: map[string]*cdx.Vulnerability{}}
	var deps []cdx.Dependency
	for _, r := range of.Hosts {
		h := host(r)
		var refs []string
		var parts []cdx.Component
		seen := map[string]int{}
		for i := range r.Components {
			c := &r.Components[i]
			if p, ok := part(r, c); ok {
				if seen[p.BOMRef]++; seen[p.BOMRef] > 1 { // several versions of one package
					p.BOMRef = fmt.Sprintf("%s#%d", p.BOMRef, seen[p.BOMRef])
				}
				parts, refs = append(parts, p), append(refs, p.BOMRef)
				flaws.of(of.Catalogue, r, c, p.BOMRef)
			}
		}
		h.Components = &parts
		hosts, of1 = append(hosts, h), append(of1, h.BOMRef)
		slices.Sort(refs)
		deps = append(deps, cdx.Dependency{Ref: h.BOMRef, Dependencies: &refs})
	}
	deps = append([]cdx.Dependency{{Ref: "estate", Dependencies: &of1}}, deps...)
	b.Components, b.Dependencies = &hosts, &deps
	if all := flaws.all(); len(all) > 0 {
		b.Vulnerabilities = &all
	}
	b.SerialNumber = serial(of)
	return b
}

// serial is a UUID that follows from what the inventory is of, and when (RFC 9562, version 8).
func serial(of Of) string {
	h := sha256.New()
	fmt.Fprintln(h, of.Estate, of.About, of.Now.UTC().Format(time.RFC3339Nano))
	for _, r := range of.Hosts {
		fmt.Fprintln(h, r.Host, r.Tried().UTC().Format(time.RFC3339Nano))
	}
	s := h.Sum(nil)[:16]
	s[6], s[8] = s[6]&0x0f|0x80, s[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", s[:4], s[4:6], s[6:8], s[8:10], s[10:16])
}

func add(to **[]cdx.Property, name, value string) {
	if value == "" {
		return
	}
	if *to == nil {
		*to = &[]cdx.Property{}
	}
	**to = append(**to, cdx.Property{Name: name, Value: plain.Line(value)})
}

func host(r *estate.Reading) cdx.Component {
	c := cdx.Component{BOMRef: "host/" + r.Host, Type: cdx.ComponentTypeDevice, Name: r.Host, Description: plain.Line(r.Hardware.Model)}
	if r.Hardware.Maker != "" {
		c.Manufacturer = &cdx.OrganizationalEntity{Name: plain.Line(r.Hardware.Maker)}
	}
	add(&c.Properties, "yare:serial", r.Hardware.Serial)
	add(&c.Properties, "yare:release", r.Release)
	add(&c.Properties, "yare:kernel", r.Kernel.Running)
	add(&c.Properties, "yare:read", r.Tried().UTC().Format(time.RFC3339))
	for _, s := range r.Sections {
		if s.Err != "" {
			add(&c.Properties, "yare:unread", string(s.Name)+": "+s.Err)
		}
	}
	return c
}

// part is a component of a host; ok is false for what is no part of an inventory, as settings are.
func part(r *estate.Reading, c *estate.Component) (out cdx.Component, ok bool) {
	out = cdx.Component{BOMRef: "host/" + r.Host + "/" + c.Title(), Name: plain.Line(c.Key.Name()), Version: plain.Line(c.Version)}
	switch c.Key.Layer() {
	case estate.Platform:
		out.Type = cdx.ComponentTypeLibrary // what CycloneDX has for packages of a distribution
		if kind := c.Key.Kind(); kind == "deb" || kind == "rpm" {
			out.PackageURL = purl(r, c)
		}
	case estate.Driver:
		out.Type = cdx.ComponentTypeDeviceDriver
	case estate.Firmware:
		out.Type = cdx.ComponentTypeFirmware
	default:
		return out, false
	}
	add(&out.Properties, "yare:component", string(c.Key))
	add(&out.Properties, "yare:device", c.Device)
	add(&out.Properties, "yare:model", c.Model)
	add(&out.Properties, "yare:runs", c.Running)
	add(&out.Properties, "yare:unread", c.Unread)
	add(&out.Properties, "yare:last-known", c.Last)
	return out, true
}

// purl is the package URL of a package: its namespace is the distribution, as its release calls itself.
func purl(r *estate.Reading, c *estate.Component) string {
	distro, version := r.System, ""
	if d, v, cut := strings.Cut(r.System, " "); cut {
		distro, version = d, v
	}
	q := packageurl.Qualifiers{}
	if distro != "" && version != "" {
		q = append(q, packageurl.Qualifier{Key: "distro", Value: distro + "-" + version})
	}
	return packageurl.NewPackageURL(c.Key.Kind(), distro, c.Key.Name(), c.Version, q, "").ToString()
}

// flaws gathers advisories, each once, with what is open to it.
type flaws struct {
	by    map[string]*cdx.Vulnerability
	order []string
}

func (f *flaws) of(cat *catalogue.Catalogue, r *estate.Reading, c *estate.Component, ref string) {
	if cat == nil || c.Version == "" {
		return
	}
	runs := cmp.Or(c.Running, c.Version)
	for _, a := range cat.Against(c.Key, runs, r.System) {
		v := f.by[a.ID]
		if v == nil {
			v = &cdx.Vulnerability{BOMRef: "advisory/" + a.ID, ID: a.ID, Description: plain.Line(a.Title), Affects: &[]cdx.Affects{}}
			if a.Link != "" {
				v.Advisories = &[]cdx.Advisory{{URL: a.Link}}
			}
			if !a.Published.IsZero() {
				v.Published = a.Published.UTC().Format(time.RFC3339)
			}
			rating := cdx.VulnerabilityRating{Severity: cdx.Severity(a.Severity.String())}
			if a.Severity == catalogue.Unknown {
				rating.Severity = cdx.SeverityUnknown
			}
			if a.Vector != "" {
				rating.Vector, rating.Method = a.Vector, method(a.Vector)
				score := a.Score
				rating.Score = &score
			}
			v.Ratings = &[]cdx.VulnerabilityRating{rating}
			v.Analysis = &cdx.VulnerabilityAnalysis{State: cdx.IASExploitable, Detail: "the version that runs is among those that have the flaw; whether it can be reached is not judged here"}
			f.by[a.ID], f.order = v, append(f.order, a.ID)
		}
		*v.Affects = append(*v.Affects, cdx.Affects{Ref: ref, Range: &[]cdx.AffectedVersions{{Version: plain.Line(runs), Status: cdx.VulnerabilityStatusAffected}}})
	}
}

func method(vector string) cdx.ScoringMethod {
	switch {
	case strings.HasPrefix(vector, "CVSS:4"):
		return cdx.ScoringMethodCVSSv4
	case strings.HasPrefix(vector, "CVSS:3.1"):
		return cdx.ScoringMethodCVSSv31
	case strings.HasPrefix(vector, "CVSS:3"):
		return cdx.ScoringMethodCVSSv3
	}
	return cdx.ScoringMethodCVSSv2
}

func (f *flaws) all() (out []cdx.Vulnerability) {
	slices.Sort(f.order)
	for _, id := range f.order {
		out = append(out, *f.by[id])
	}
	return out
}
