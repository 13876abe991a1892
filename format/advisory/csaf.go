package advisory

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/gocsaf/csaf/v3/csaf"
	"github.com/package-url/packageurl-go"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/bounds"
)

// Namespace marks, among a product's x_generic_uris, the URI that names a component of ours: "fw:lorne-l25". Everything
// that is no package needs one, since no other identification of CSAF says which firmware or driver a product is.
const Namespace = "https://yareharbour.invalid/component"

// product is what a product of the tree is here.
type product struct {
	component estate.Key
	version   string
	ranged    bool // version is a range
}

// ReadCSAF reads a CSAF 2.0 document. It is held against the JSON schema of the standard first. Each vulnerability
// becomes an advisory of its own, named after the document and the vulnerability, so that severities are not mixed.
func ReadCSAF(text []byte) ([]catalogue.Advisory, error) {
	if err := bounds.JSON(text, bounds.Limits{Values: 1 << 20}); err != nil { // it is held in memory as it stands
		return nil, fmt.Errorf("not a CSAF document: %w", err)
	}
	var doc any
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if err := d.Decode(&doc); err != nil {
		return nil, fmt.Errorf("not a CSAF document: %w", err)
	}
	lenient(doc)
	wrong, err := csaf.ValidateCSAF(doc)
	if err != nil {
		return nil, fmt.Errorf("not a CSAF document: %w", err)
	}
	if len(wrong) > 0 {
		return nil, fmt.Errorf("not a CSAF 2.0 document by its schema: %s", wrong[0])
	}
	var a csaf.Advisory
	if err := json.Unmarshal(text, &a); err != nil {
		return nil, fmt.Errorf("not a CSAF document: %w", err)
	}
	if a.Document == nil || a.Document.Tracking == nil {
		return nil, errors.New("not a CSAF document: it has no tracking")
	}
	products := map[csaf.ProductID]product{}
	if a.ProductTree != nil {
		walk(a.ProductTree.Branches, nil, products)
		if a.ProductTree.FullProductNames != nil {
			for _, p := range *a.ProductTree.FullProductNames {
				take(p, nil, products)
			}
		}
		relate(a.ProductTree, products)
	}
	like := head(&a)
	var out []catalogue.Advisory
	for i, v := range a.Vulnerabilities {
		adv := like
		if len(a.Vulnerabilities) > 1 {
			adv.ID = fmt.Sprintf("%s/%d", like.ID, i+1)
			if v.CVE != nil {
				adv.ID = like.ID + "/" + string(*v.CVE)
			}
		}
		if err := fill(&adv, v, products); err != nil {
			return nil, fmt.Errorf("vulnerability %d of %s: %w", i+1, like.ID, err)
		}
		out = append(out, adv)
	}
	return out, nil
}

// lenient takes an empty list of relationships out of a document: the schema wants at least one where there is a list,
// publishers write it empty all the same, and it says nothing either way.
func lenient(doc any) {
	top, _ := doc.(map[string]any)
	tree, _ := top["product_tree"].(map[string]any)
	if list, is := tree["relationships"].([]any); is && len(list) == 0 && len(tree) > 1 {
		delete(tree, "relationships")
	}
}

// head is what all vulnerabilities of a document have in common.
func head(a *csaf.Advisory) catalogue.Advisory {
	out := catalogue.Advisory{ID: string(*a.Document.Tracking.ID)}
	if a.Document.Title != nil {
		out.Title = *a.Document.Title
	}
	if s := a.Document.Tracking.CurrentReleaseDate; s != nil {
		out.Published, _ = time.Parse(time.RFC3339, *s)
		out.Published = out.Published.UTC()
	}
	if s := a.Document.AggregateSeverity; s != nil && s.Text != nil {
		out.Severity = words[strings.ToLower(*s.Text)]
	}
	for _, r := range a.Document.References {
		if r.ReferenceCategory != nil && *r.ReferenceCategory == "self" && r.URL != nil && out.Link == "" {
			out.Link = *r.URL
		}
	}
	return out
}

// words are how publishers grade a document as a whole.
var words = map[string]catalogue.Severity{"critical": catalogue.Critical, "high": catalogue.High,
	"important": catalogue.High,
	"medium":    catalogue.Medium, "moderate": catalogue.Medium, "low": catalogue.Low}

// walk goes through the branches of a product tree; the nearest product version above a product is its version.
func walk(bs csaf.Branches, above []*csaf.Branch, products map[csaf.ProductID]product) {
	for _, b := range bs {
		path := append(above[:len(above):len(above)], b)
		if b.Product != nil {
			take(b.Product, path, products)
		}
		walk(b.Branches, path, products)
	}
}

func take(p *csaf.FullProductName, path []*csaf.Branch, products map[csaf.ProductID]product) {
	if p.ProductID == nil {
		return
	}
	var out product
	for _, b := range path {
		if b.Category == nil || b.Name == nil {
			continue
		}
		switch *b.Category {
		case csaf.CSAFBranchCategoryProductVersion:
			out.version, out.ranged = *b.Name, false
		case csaf.CSAFBranchCategoryProductVersionRange:
			out.version, out.ranged = *b.Name, true
		}
	}
	if h := p.ProductIdentificationHelper; h != nil {
		identify(&out, h)
	}
	if out.component != "" {
		products[*p.ProductID] = out
	}
}

func identify(out *product, h *csaf.ProductIdentificationHelper) {
	if h.PURL != nil {
		p, err := packageurl.FromString(string(*h.PURL))
		if err == nil && (p.Type == packageurl.TypeDebian || p.Type == packageurl.TypeRPM) {
			out.component = estate.Key(p.Type + ":" + p.Name)
			v := p.Version
			if e := p.Qualifiers.Map()["epoch"]; e != "" && e != "0" && !strings.Contains(v, ":") {
				v = e + ":" + v
			}
			if v != "" {
				out.version, out.ranged = v, false
			}
		}
	}
	for _, u := range h.XGenericURIs {
		if u.Namespace == nil || u.URI == nil || *u.Namespace != Namespace {
			continue
		}
		if k, err := estate.ParseKey(*u.URI); err == nil {
			out.component = k
		}
	}
}

// relate lets a product that is another one in its place, as "this package as part of that platform", be what the first
// is.
func relate(t *csaf.ProductTree, products map[csaf.ProductID]product) {
	if t.RelationShips == nil {
		return
	}
	for _, r := range *t.RelationShips {
		if r.FullProductName == nil || r.FullProductName.ProductID == nil || r.ProductReference == nil {
			continue
		}
		if p, ok := products[*r.ProductReference]; ok {
			products[*r.FullProductName.ProductID] = p
		}
	}
}

// fill takes over severity, fixed and affected versions of a vulnerability.
func fill(a *catalogue.Advisory, v *csaf.Vulnerability, products map[csaf.ProductID]product) error {
	if v.CVE != nil {
		a.Aliases = append(a.Aliases[:len(a.Aliases):len(a.Aliases)], string(*v.CVE))
	}
	if v.Title != nil && *v.Title != "" {
		a.Title = *v.Title
	}
	for _, s := range v.Scores {
		vector := ""
		switch {
		case s.CVSS3 != nil && s.CVSS3.VectorString != nil:
			vector = string(*s.CVSS3.VectorString)
		case s.CVSS2 != nil && s.CVSS2.VectorString != nil:
			vector = string(*s.CVSS2.VectorString)
		}
		if vector == "" {
			continue
		}
		if err := grade(a, vector); err != nil {
			return err
		}
	}
	if v.ProductStatus == nil {
		return nil
	}
	fixed := map[estate.Key]bool{}
	for _, list := range []*csaf.Products{v.ProductStatus.FirstFixed, v.ProductStatus.Fixed} {
		each(list, products, func(p product) {
			if p.version != "" && !p.ranged {
				fixed[p.component] = true
				a.Affects = append(a.Affects, catalogue.Affect{Component: p.component, Fixed: p.version})
			}
		})
	}
	for _, list := range []*csaf.Products{v.ProductStatus.KnownAffected, v.ProductStatus.FirstAffected,
		v.ProductStatus.LastAffected} {
		each(list, products, func(p product) {
			switch {
			case fixed[p.component]: // all before the fixed one
			case p.version == "" || p.ranged:
				// of a range only the words are known: all versions, until something mends it
				a.Affects = append(a.Affects, catalogue.Affect{Component: p.component})
			default:
				a.Affects = append(a.Affects,
					catalogue.Affect{Component: p.component, Since: p.version, Last: p.version})
			}
		})
	}
	return nil
}

func each(list *csaf.Products, products map[csaf.ProductID]product, do func(product)) {
	if list == nil {
		return
	}
	for _, id := range *list {
		if id == nil {
			continue
		}
		if p, ok := products[*id]; ok {
			do(p)
		}
	}
}
