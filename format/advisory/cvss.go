// Package advisory reads security advisories: CSAF 2.0 (OASIS) and the Open Source Vulnerability format (OSV schema
// 1.6), with severities by CVSS 2.0 to 4.0 (FIRST).
package advisory

import (
	"fmt"
	"slices"
	"strings"

	gocvss20 "github.com/pandatix/go-cvss/20"
	gocvss30 "github.com/pandatix/go-cvss/30"
	gocvss31 "github.com/pandatix/go-cvss/31"
	gocvss40 "github.com/pandatix/go-cvss/40"

	"yareharbour/core/catalogue"
)

// Score is the base score of a CVSS vector, 0 to 10.
func Score(vector string) (float64, error) {
	switch {
	case strings.HasPrefix(vector, "CVSS:4.0/"):
		if _, err := gocvss40.ParseVector(vector); err != nil {
			return 0, badVector(vector, err)
		}
		score, err := score40(baseOf(vector))
		if err != nil {
			return 0, badVector(vector, err)
		}
		return score, nil
	case strings.HasPrefix(vector, "CVSS:3.1/"):
		v, err := gocvss31.ParseVector(vector)
		if err != nil {
			return 0, badVector(vector, err)
		}
		return v.BaseScore(), nil
	case strings.HasPrefix(vector, "CVSS:3.0/"):
		v, err := gocvss30.ParseVector(vector)
		if err != nil {
			return 0, badVector(vector, err)
		}
		return v.BaseScore(), nil
	}
	v, err := gocvss20.ParseVector(vector)
	if err != nil {
		return 0, badVector(vector, err)
	}
	return v.BaseScore(), nil
}

// base40 are the base metrics of CVSS 4.0 (specification document, table 23).
var base40 = []string{"AV", "AC", "AT", "PR", "UI", "VC", "VI", "VA", "SC", "SI", "SA"}

// baseOf is a CVSS 4.0 vector without its threat, environmental and supplemental metrics: what somebody else's
// surroundings make of it says nothing here.
func baseOf(vector string) string {
	out := []string{"CVSS:4.0"}
	for _, m := range strings.Split(vector, "/")[1:] {
		if name, _, _ := strings.Cut(m, ":"); slices.Contains(base40, name) {
			out = append(out, m)
		}
	}
	return strings.Join(out, "/")
}

func badVector(vector string, err error) error {
	return fmt.Errorf("%q is no CVSS vector: %w", vector, err)
}

// Rating is the qualitative rating of a base score (CVSS 3.1, section 5); a score of 0 is none, which is Unknown here.
func Rating(score float64) catalogue.Severity {
	switch {
	case score >= 9:
		return catalogue.Critical
	case score >= 7:
		return catalogue.High
	case score >= 4:
		return catalogue.Medium
	case score > 0:
		return catalogue.Low
	}
	return catalogue.Unknown
}

// grade raises the advisory to the vector's score, if that is higher than what it has.
func grade(a *catalogue.Advisory, vector string) error {
	s, err := Score(vector)
	if err != nil {
		return err
	}
	if s > a.Score || a.Vector == "" {
		a.Score, a.Vector = s, vector
		a.Severity = max(a.Severity, Rating(s))
	}
	return nil
}
