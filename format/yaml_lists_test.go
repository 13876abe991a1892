package format

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"yareharbour/format/releaselist"
)

const goodList = `feed: f
made: 2026-11-01
vendor: Corran
components:
  - component: fw:n
    hardware: [S9]
    replaces: ["fw:old"]
    tracks: [{name: "4", versions: "4."}]
    releases:
      - {version: "4.1", track: "4", severity: high, restart: host, requires: [{component: "drv:d", at_least: "2", anywhere: true}]}
  - component: host:stack
    releases:
      - {version: "2026.11", members: [{component: "fw:n", version: "4.1"}]}
compatibility:
  - list: net
    hardware: S9
    outside: blocker
    lines:
      - {platform: Brae, with: [{component: "fw:n", version: "4.1"}, {component: "drv:d", from: "2"}]}
images:
  - {file: hub.image, sha256: SUM, at: "https://images.example/hub.image", takes: 9m, brings: [{component: "fw:hub", version: "2"}]}
`

// The schema and the reader refuse the same, and the reader says where.
func TestReleaseListAndItsSchemaAgree(t *testing.T) {
	c := jsonschema.NewCompiler()
	var schema any
	if err := json.Unmarshal(releaselist.Schema, &schema); err != nil {
		t.Fatal(err)
	}
	if err := c.AddResource("list.json", schema); err != nil {
		t.Fatal(err)
	}
	sch, err := c.Compile("list.json")
	if err != nil {
		t.Fatal(err)
	}
	for name, edit := range map[string]struct{ from, to, want string }{
		"as it is":         {"", "", ""},
		"no feed":          {"feed: f", "vendor2: f", "unknown field"},
		"unknown severity": {"severity: high", "severity: bad", "no severity"},
		"unknown restart":  {"restart: host", "restart: maybe", "no restart"},
		"a member without version": {`{component: "fw:n", version: "4.1"}]}` + "\ncompat",
			`{component: "fw:n"}]}` + "\ncompat", "a member is a component with its version"},
		"outside is neither": {"outside: blocker", "outside: fatal", "caution"},
		"version and range": {`{component: "drv:d", from: "2"}`,
			`{component: "drv:d", from: "2", version: "3"}`, "say the version, or from and to"},
		"a pairing without version": {`{component: "drv:d", from: "2"}`, `{component: "drv:d"}`,
			"say the version, or from and to"},
		"an address with a password": {"images.example", "me:pass@images.example", "without a password"},
		"an address that is none":    {"https://images.example", "images.example", "an http or https URL"},
		"no list name":               {"list: net", "hardware2: x", "unknown field"},
		"a kind that is none":        {"drv:d\", at_least", "apk:d\", at_least", "the kinds are"},
	} {
		text := strings.Replace(goodList, "SUM", strings.Repeat("5b", 32), 1)
		text = strings.Replace(text, edit.from, edit.to, 1)
		b, err := releaselist.Parse("list.yaml", []byte(text))
		if edit.want == "" {
			if err != nil || len(b.Releases) != 3 || b.Releases[2].At != "https://images.example/hub.image" || len(b.Pairings) != 1 || !b.Pairings[0].Blocks ||
				b.Releases[0].Vendor != "Corran" || len(b.Releases[1].Members) != 1 ||
				b.Releases[0].Replaces[0] != "fw:old" ||
				!b.Releases[0].Requires[0].Anywhere {
				t.Errorf("%s: %+v %v", name, b, err)
			}
		} else if err == nil || !strings.Contains(err.Error(), edit.want) ||
			!strings.HasPrefix(err.Error(), "list.yaml:") {
			t.Errorf("%s: %v, want %q with its place", name, err, edit.want)
		}
		var doc any
		js, e := yaml.YAMLToJSON([]byte(text))
		if e != nil {
			t.Fatal(e)
		}
		if e := json.Unmarshal(js, &doc); e != nil {
			t.Fatal(e)
		}
		if schemaErr := sch.Validate(doc); (schemaErr == nil) != (err == nil) {
			t.Errorf("%s: the schema says %v and the reader %v", name, schemaErr, err)
		}
	}
}
