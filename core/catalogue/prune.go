package catalogue

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Stored is a payload that is kept.
type Stored struct {
	SHA256 string    `json:"sha256"`
	Size   int64     `json:"size"` // bytes
	At     time.Time `json:"at"`   // when it came in
}

// PruneRule says which payloads may go. Those that some host still wants are never among them.
type PruneRule struct {
	// OlderThan lets go what came in longer ago and is wanted by nobody; zero lets none go by its age.
	OlderThan time.Duration
	// Unknown lets go what no release in the catalogue names any more, whatever its age.
	Unknown bool
	// Most is how many bytes may be kept in all; the oldest that nobody wants go first until that holds. Zero: any
	// amount.
	Most int64
}

// Pruned is a payload that the rule lets go, and why.
type Pruned struct {
	Stored
	Why string
}

// Prune says which of the payloads the rule lets go, oldest first. wanted holds the hashes that hosts still want; known
// those that releases of the catalogue name.
func Prune(have []Stored, wanted, known map[string]bool, rule PruneRule, now time.Time) []Pruned {
	sorted := slices.SortedFunc(slices.Values(have), func(a, b Stored) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.SHA256, b.SHA256))
	})
	var out []Pruned
	var kept []Stored
	var total int64
	for _, s := range sorted {
		switch age := now.Sub(s.At); {
		case wanted[s.SHA256]:
			total += s.Size
		case rule.Unknown && !known[s.SHA256]:
			out = append(out, Pruned{s, "no release names it"})
		case rule.OlderThan > 0 && age > rule.OlderThan:
			out = append(out, Pruned{s,
				fmt.Sprintf("no host wants it, and it came in %d days ago", int(age.Hours()/24))})
		default:
			kept = append(kept, s)
			total += s.Size
		}
	}
	for _, s := range kept {
		if rule.Most == 0 || total <= rule.Most {
			break
		}
		total -= s.Size
		out = append(out, Pruned{s, "no host wants it, and there is too much in all"})
	}
	return out
}

// Payloads are the hashes that releases of the catalogue name.
func (c *Catalogue) Payloads() map[string]bool {
	out := map[string]bool{}
	for _, rs := range c.releases {
		for i := range rs {
			if rs[i].SHA256 != "" {
				out[rs[i].SHA256] = true
			}
		}
	}
	return out
}

// ByPayload returns the release that comes in the file with that SHA-256, or nil.
func (c *Catalogue) ByPayload(sum string) *Release {
	for _, rs := range c.releases {
		for i := range rs {
			if rs[i].SHA256 == sum {
				return &rs[i]
			}
		}
	}
	return nil
}

// Bytes says a number of bytes as people do.
func Bytes(n int64) string {
	switch {
	case n < 1<<10:
		return fmt.Sprintf("%d B", n)
	case n < 1<<20:
		return fmt.Sprintf("%.0f KiB", float64(n)/(1<<10))
	case n < 10<<30:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
}

// Some says how many there are of something: "1 file", "3 files". A word that ends in y has its plural in ies.
func Some(n int, what string) string {
	switch {
	case n == 1:
		return "1 " + what
	case len(what) > 1 && what[len(what)-1] == 'y':
		return fmt.Sprintf("%d %sies", n, what[:len(what)-1])
	}
	return fmt.Sprintf("%d %ss", n, what)
}
