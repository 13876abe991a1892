package export

import (
	"encoding"
	"encoding/json"
	"reflect"
	"time"

	"github.com/invopop/jsonschema"

	"yareharbour/core/view"
)

// Schema is the JSON Schema (draft 2020-12) of a document's JSON: it allows no field that it does not name, and asks for none: what
// is nothing is often left out.
func Schema(d view.Document) ([]byte, error) {
	text := reflect.TypeFor[encoding.TextMarshaler]()
	r := jsonschema.Reflector{Anonymous: true, RequiredFromJSONSchemaTags: true, Mapper: func(t reflect.Type) *jsonschema.Schema {
		switch {
		case t == reflect.TypeFor[time.Time]():
			return &jsonschema.Schema{Type: "string", Format: "date-time"}
		case t == reflect.TypeFor[time.Duration]():
			return &jsonschema.Schema{Type: "integer", Description: "nanoseconds"}
		case t == reflect.TypeFor[json.RawMessage]():
			return jsonschema.TrueSchema
		case t.Implements(text) && t.Kind() != reflect.Pointer:
			return &jsonschema.Schema{Type: "string"}
		}
		return nil
	}}
	s := r.Reflect(d.Value)
	s.Title = "yare " + d.Name
	return json.MarshalIndent(s, "", "  ")
}

// CSVSchema describes the columns of a document's CSV, by W3C's Metadata Vocabulary for Tabular Data.
func CSVSchema(d view.Document) ([]byte, error) {
	type column struct {
		Name   string `json:"name"`
		Titles string `json:"titles"`
	}
	columns := []column{}
	for _, i := range d.Table.Stands(view.Data) {
		columns = append(columns, column{d.Table.Columns[i].Name, d.Table.Columns[i].Name})
	}
	return json.MarshalIndent(map[string]any{"@context": "http://www.w3.org/ns/csvw", "dc:title": "yare " + d.Name,
		"dialect":     map[string]any{"header": true, "lineTerminators": []string{"\r\n"}},
		"tableSchema": map[string]any{"columns": columns}}, "", "  ")
}
