package catalogue

import (
	"cmp"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Rule narrows which releases may be proposed. Its zero value admits all that were not withdrawn.
type Rule struct {
	// Track is the line to follow; empty is the unnamed line.
	Track string
	// Severity is the least severity of a release worth moving to.
	Severity Severity
	// Before admits only releases dated before it; the zero time admits any age. A release without a date is not
	// admitted where Before is set.
	Before time.Time
	// Vendor admits only releases of that publisher; empty admits all. Case does not matter.
	Vendor string
	// From is the version to move from: advisories that it has mended already make nothing more severe. Empty: there is
	// none.
	From string
}

// Newest returns the newest release of the component for the model that the rule admits, or nil. Releases that were
// withdrawn, are manual, are for other hardware or on another track are never returned.
func (c *Catalogue) Newest(key estate.Key, model string, rule Rule) *Release {
	rs := c.releases[key]
	for i := len(rs) - 1; i >= 0; i-- {
		if admits(rule, &rs[i], model) {
			return &rs[i]
		}
	}
	return nil
}

// Admitted returns every release of the component above that version that the rule admits for the model, newest first:
// where the newest can't be had, one of the next.
func (c *Catalogue) Admitted(key estate.Key, above, model string, rule Rule) (out []*Release) {
	rs := c.releases[key]
	for i := len(rs) - 1; i >= 0 && key.Scheme().Compare(rs[i].Version, above) > 0; i-- {
		if admits(rule, &rs[i], model) {
			out = append(out, &rs[i])
		}
	}
	return out
}

// Mended returns the version since which all that the rule's severity asks for is mended, where the version that the
// rule moves from is that or later: then no release is worth moving to and yet the clause has been kept. It returns ""
// where no advisory of that severity was ever mended.
func (c *Catalogue) Mended(key estate.Key, model string, rule Rule) string {
	if rule.Severity == Unknown || rule.From == "" {
		return ""
	}
	scheme := key.Scheme()
	since := ""
	for i := range c.releases[key] {
		r := &c.releases[key][i]
		if r.Track != rule.Track || !r.Fits(model) {
			continue
		}
		for _, f := range r.Fixes {
			if f.Severity >= rule.Severity && scheme.Compare(f.In, rule.From) <= 0 &&
				(since == "" || scheme.Compare(f.In, since) > 0) {
				since = f.In
			}
		}
	}
	return since
}

func admits(rule Rule, r *Release, model string) bool {
	switch {
	case r.Withdrawn != "" || r.Manual || r.Ambiguous() || !r.Fits(model) || r.Track != rule.Track ||
		rule.Severity > Unknown && r.SeverityFrom(rule.From) < rule.Severity:
		return false
	case rule.Vendor != "" && !strings.EqualFold(rule.Vendor, r.Vendor):
		return false
	case !rule.Before.IsZero():
		return !r.Date.IsZero() && r.Date.Before(rule.Before)
	}
	return true
}

// Refusal is a release that looks newer than the one proposed, and why it is not proposed.
type Refusal struct {
	Release *Release
	Why     string
}

// Refusals lists the releases above the version given that the rule does not admit, newest first, each with the reason
// in words. It is the answer to "but there is a newer one".
func (c *Catalogue) Refusals(key estate.Key, above, model string, rule Rule) []Refusal {
	scheme := key.Scheme()
	var out []Refusal
	rs := c.releases[key]
	for i := len(rs) - 1; i >= 0 && scheme.Compare(rs[i].Version, above) > 0; i-- {
		if why := refusal(rule, &rs[i], model); why != "" {
			out = append(out, Refusal{&rs[i], why})
		}
	}
	return out
}

func refusal(rule Rule, r *Release, model string) string {
	switch {
	case r.Withdrawn != "":
		return "its publisher withdrew it: " + r.Withdrawn
	case !r.Fits(model):
		return "it is not for this hardware"
	case r.Ambiguous():
		return "feeds disagree about it: " + r.Disputed
	case r.Track == "" && rule.Track != "":
		return "it names no track, and track " + rule.Track + " is followed here"
	case r.Track != rule.Track && rule.Track == "":
		return "it is on the track " + r.Track + ", which is not followed here"
	case r.Track != rule.Track:
		return "it is on track " + r.Track + "; track " + rule.Track +
			" is followed here, and one does not continue the other"
	case r.Manual:
		return "its feed is not to be followed automatically"
	case rule.Vendor != "" && !strings.EqualFold(rule.Vendor, r.Vendor):
		return "it is published by " + cmp.Or(r.Vendor, "nobody who is named") +
			", and the clause follows " + rule.Vendor
	case rule.Severity > Unknown && r.SeverityFrom(rule.From) < rule.Severity:
		return "its severity is " + r.SeverityFrom(rule.From).String() + ", and the clause follows " +
			rule.Severity.String() + " and above"
	case !rule.Before.IsZero() && r.Date.IsZero():
		return "it has no date, and the clause asks for an age"
	case !admits(rule, r, model):
		return "it is younger than the clause allows"
	}
	return ""
}
