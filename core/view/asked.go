package view

import (
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// What follows is looked up when somebody asks for it.

// Past is what is known of a host's past.
type Past struct {
	Spans []drift.Span // when each version was first and last seen
	Life  []Happening  // what changed, and what was done
}

// Comparison is two readings, and in what they differ.
type Comparison struct {
	FromName, ToName string // as they were asked for
	From, To         *estate.Reading
	drift.Comparison
}

// Compare compares two readings, each under the name by which it was asked for.
func Compare(fromName string, from *estate.Reading, toName string, to *estate.Reading) Comparison {
	return Comparison{FromName: fromName, ToName: toName, From: from, To: to, Comparison: drift.Compare(from, to)}
}

// Version is a version of a baseline, and in what it differs from the one before.
type Version struct {
	N       int               `json:"version"` // counts from 1
	At      time.Time         `json:"at"`
	By      string            `json:"by"`
	Why     string            `json:"why"`
	Text    string            `json:"text,omitempty"` // YAML
	Changes []baseline.Change `json:"changes,omitempty"`
}
