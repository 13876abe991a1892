// Package brieffile reads and writes briefs as YAML, and as the words of a command line that mean the same: all of it by
// one table of settings. docs/rounds.md describes the file.
package brieffile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"yareharbour/core/act"
	"yareharbour/core/plan"
	"yareharbour/format/strictyaml"
)

// Schema is the JSON Schema (draft 2020-12) of a brief file.
func Schema() []byte {
	properties := map[string]any{
		"brief":  map[string]any{"description": "The cluster.", "type": "string", "minLength": 1},
		"reason": map[string]any{"description": "For the journal and the hosts' own logs.", "type": "string"},
	}
	for _, s := range Settings {
		properties[s.key()] = s.schema()
	}
	out, err := json.MarshalIndent(map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Yare Harbour brief",
		"description": "The settings of a round. What is not said is as usual on the cluster.",
		"type":        "object", "required": []string{"brief"}, "additionalProperties": false,
		"dependentRequired": map[string]any{"soak": []string{"trial"}}, "properties": properties,
		"$defs": map[string]any{
			"names":    map[string]any{"type": "array", "items": map[string]any{"type": "string", "minLength": 1}},
			"duration": map[string]any{"type": "string", "pattern": `^([0-9]+(\.[0-9]+)?(h|m|s))+$`},
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
	for i, s := range Settings {
		words, said := s.ofFile(d.Elem().Field(i + 2))
		if !said {
			continue
		}
		if at, err := s.lay(&b, words, in); err != nil {
			path := "$." + s.key()
			if s.Kind.Many() && s.Kind != Pairs {
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
	for i, s := range Settings {
		if words := s.Words(b, usual); len(words) > 0 {
			d.Field(i + 2).Set(s.inFile(words))
		}
	}
	var out bytes.Buffer
	err := yaml.NewEncoder(&out, yaml.IndentSequence(true)).Encode(d.Interface())
	return out.Bytes(), err
}

// Words are the options of a command line that make the brief what it is, behind the cluster's name. A word that a
// shell would take apart stands in quotes.
func Words(b, usual plan.Brief) (out []string) {
	for _, s := range Settings {
		words := s.Words(b, usual)
		switch {
		case len(words) == 0:
		case s.Kind == Yes:
			out = append(out, "--"+s.Name)
		case s.Kind == Names:
			out = append(out, "--"+s.Name, act.Quoted(strings.Join(words, ",")))
		default:
			for _, w := range words {
				out = append(out, "--"+s.Name, act.Quoted(w))
			}
		}
	}
	return out
}
