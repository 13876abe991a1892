package export

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"yareharbour/core/view"
)

// What is written as JSON is as the published schema says, and CSV has the columns that are published, for a document of
// every kind.
func TestEveryDocumentIsAsItsSchemaSays(t *testing.T) {
	seen := map[string]bool{}
	for name, c := range documents() {
		form, ok := view.FormOf(c.d.Name)
		if c.d.Name == "waterline" || c.d.Name == "host" { // reports of verdicts, as drift is
			form, ok = view.FormOf("drift")
		}
		if !ok {
			t.Errorf("%s: there is no form %q", name, c.d.Name)
			continue
		}
		seen[form.Name] = true
		holds(t, name, form, c.d)
	}
	for _, form := range view.Forms() {
		holds(t, form.Name+" of nothing", form, form)
	}
	if len(seen) < 19 {
		t.Errorf("only %d kinds were tried", len(seen))
	}
}

func holds(t *testing.T, name string, form, d view.Document) {
	t.Helper()
	text, err := Schema(form)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("s.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("s.json")
	if err != nil {
		t.Fatalf("%s: %v", name, err)
	}
	var b bytes.Buffer
	if err := Write(&b, d, "json"); err != nil {
		t.Fatal(err)
	}
	got, err := jsonschema.UnmarshalJSON(bytes.NewReader(b.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Validate(got); err != nil {
		t.Errorf("%s: %v\n%.600s", name, err, b.String())
	}
	b.Reset()
	if err := Write(&b, d, "csv"); err != nil {
		t.Fatal(err)
	}
	head, err := csv.NewReader(strings.NewReader(b.String())).Read()
	if err != nil {
		t.Fatal(name, err)
	}
	text, err = CSVSchema(form)
	if err != nil {
		t.Fatal(err)
	}
	var said struct {
		TableSchema struct{ Columns []struct{ Name string } } `json:"tableSchema"`
	}
	if err := json.Unmarshal(text, &said); err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, c := range said.TableSchema.Columns {
		names = append(names, c.Name)
	}
	if !slices.Equal(names, head) {
		t.Errorf("%s: the columns are %q, published %q", name, head, names)
	}
}
