package docs

import (
	"slices"
	"strings"
	"testing"

	"yareharbour/core/drift"
	"yareharbour/core/precheck"
)

// Every verdict and every check is explained, a page is found by its name and a part of one by its heading, and what nobody
// wrote of is not found.
func TestEveryTopicIsFound(t *testing.T) {
	finds := func(of, page, text string) bool {
		return slices.ContainsFunc(Find(of), func(f Found) bool { return f.Page == page && strings.Contains(f.Text, text) })
	}
	for _, o := range drift.Outcomes {
		if !finds(o.String(), "verdicts", "| "+o.String()+" |") {
			t.Errorf("%s: %v", o, Find(o.String()))
		}
	}
	for _, c := range precheck.Checks {
		if !finds(c.Name, c.Name, "# "+c.Name) {
			t.Errorf("%s: %v", c.Name, Find(c.Name))
		}
	}
	for _, topic := range Topics() {
		if !finds(topic, topic, "") {
			t.Errorf("%s: %v", topic, Find(topic))
		}
	}
	if got := Find("Boot media"); len(got) != 1 || got[0].Page != "rounds" || !strings.HasPrefix(got[0].Text, "## Boot media") || strings.Contains(got[0].Text, "## Snapshots") {
		t.Errorf("%+v", got)
	}
	for _, none := range []string{"", "no such thing", "---"} {
		if got := Find(none); len(got) > 0 {
			t.Errorf("%q leads to %v", none, got)
		}
	}
	if !slices.Contains(Topics(), "prechecks") {
		t.Error(Topics())
	}
}
