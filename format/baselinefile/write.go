package baselinefile

import (
	_ "embed" // the schema
	"fmt"
	"time"

	"github.com/goccy/go-yaml"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Schema is the JSON Schema (draft 2020-12) of a baseline file.
//
//go:embed schema.json
var Schema []byte

// Write writes a baseline as a file that Parse reads back as it was; only the line numbers are new.
func Write(b baseline.Baseline) ([]byte, error) {
	out := file{Baseline: b.Name, Rank: b.Rank, Assign: b.Assign}
	for _, c := range b.Clauses {
		out.Clauses = append(out.Clauses, written(c))
	}
	for _, e := range b.Exceptions {
		out.Exceptions = append(out.Exceptions, excepted(e))
	}
	for s, limit := range b.Due {
		if out.Due == nil {
			out.Due = map[string]string{}
		}
		out.Due[s.String()] = fmt.Sprintf("%dh", limit/time.Hour)
		if limit%(24*time.Hour) == 0 {
			out.Due[s.String()] = fmt.Sprintf("%dd", limit/(24*time.Hour))
		}
	}
	return yaml.MarshalWithOptions(out, yaml.Indent(2), yaml.IndentSequence(true))
}

// written is a clause as the file says it.
func written(c baseline.Clause) clause {
	w := clause{Component: string(c.Component), Posture: string(c.Posture), Version: c.Version, Track: c.Track,
		Vendor: c.Vendor, Hardware: c.Hardware}
	if c.Component.Layer() == estate.Settings {
		w.Version, w.Value = "", c.Version
	}
	if days := int(c.MinAge / (24 * time.Hour)); days > 0 {
		w.MinAgeDays = &days
	}
	if c.Follow {
		w.Follow = "newest"
	}
	if c.Severity > catalogue.Unknown {
		w.Severity = c.Severity.String()
	}
	return w
}

// excepted is an exception as the file says it.
func excepted(e baseline.Exception) exception {
	return exception{string(e.Component), e.Hosts, e.Until.AddDate(0, 0, -1).Format(time.DateOnly), e.Reason, e.By}
}
