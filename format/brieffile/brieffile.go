// Package brieffile reads and writes briefs as YAML, by the table of settings of core/brief. docs/rounds.md describes the file.
package brieffile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"time"

	"github.com/goccy/go-yaml"

	"yareharbour/core/brief"
	"yareharbour/core/plan"
	"yareharbour/core/span"
	"yareharbour/format/strictyaml"
)

// Schema is the JSON Schema (draft 2020-12) of a brief file.
func Schema() []byte {
	properties := map[string]any{
		"brief":  map[string]any{"description": "The cluster.", "type": "string", "minLength": 1},
		"reason": map[string]any{"description": "For the journal and the hosts' own logs.", "type": "string"},
	}
	for _, s := range brief.Settings {
		properties[s.Key()] = schema(s)
	}
	out, err := json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Yare Harbour brief",
		"description": "The settings of a round. What is not said is as usual on the cluster.",
		"type":        "object", "required": []string{"brief"}, "additionalProperties": false,
		"dependentRequired": map[string]any{"soak": []string{"trial"}}, "properties": properties,
		"$defs": map[string]any{
			"names":    map[string]any{"type": "array", "items": map[string]any{"type": "string", "minLength": 1}},
			"duration": map[string]any{"type": "string", "pattern": span.Pattern},
		},
	}, "", "  ")
	if err != nil { // it holds only what can be marshalled
		panic(err)
	}
	return append(out, '\n')
}

// Cluster is the cluster that a brief file is for.
func Cluster(name string, text []byte) (string, error) {
	in := reflect.New(form)
	f, err := strictyaml.Decode(name, text, in.Interface())
	if err != nil {
		return "", err
	}
	if c := in.Elem().Field(0).String(); c != "" {
		return c, nil
	}
	return "", f.Errorf("$", "the brief names no cluster: expected \"brief: CLUSTER\"")
}

// Parse reads a brief for a cluster: what the file does not say is as usual there. The error is a *strictyaml.Error
// with the place and what was expected there.
func Parse(name string, text []byte, usual plan.Brief, in *time.Location) (plan.Brief, error) {
	d, b := reflect.New(form), usual
	f, err := strictyaml.Decode(name, text, d.Interface())
	if err != nil {
		return b, err
	}
	if c := d.Elem().Field(0).String(); c != usual.Cluster {
		return b, f.Errorf("$.brief", "the brief is for %q, and %q is meant", c, usual.Cluster)
	}
	b.Reason = d.Elem().Field(1).String()
	for i, s := range brief.Settings {
		words, said := ofFile(d.Elem().Field(i + 2))
		if !said {
			continue
		}
		if at, err := s.Lay(&b, words, in); err != nil {
			path := "$." + s.Key()
			if s.Kind.Many() && s.Kind != brief.Pairs {
				path += fmt.Sprintf("[%d]", at)
			}
			return b, f.Errorf(path, "%v", err)
		}
	}
	return b, nil
}

// Write writes a brief as a file: what is usual on its cluster is left out, so that it stays what is usual there.
func Write(b, usual plan.Brief) ([]byte, error) {
	d := reflect.New(form).Elem()
	d.Field(0).SetString(b.Cluster)
	d.Field(1).SetString(b.Reason)
	for i, s := range brief.Settings {
		if words := s.Words(b, usual); len(words) > 0 {
			d.Field(i + 2).Set(inFile(s, words))
		}
	}
	var out bytes.Buffer
	err := yaml.NewEncoder(&out, yaml.IndentSequence(true)).Encode(d.Interface())
	return out.Bytes(), err
}
