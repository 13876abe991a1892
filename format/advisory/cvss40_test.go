package advisory

import (
	"fmt"
	"math"
	"testing"

	gocvss40 "github.com/pandatix/go-cvss/40"
)

// A score of CVSS 4.0 is another implementation's, except where it lies just between two tenths: there it is the
// higher. That is so of one vector in some two hundred.
func TestScoresOfCVSS40(t *testing.T) {
	// By the tables: macrovector 101100 has 8.6. Below it in classes 3 and 6 is 7.6, and the vector is 2 of 7 steps
	// down, which makes (8.6-7.6)·2/8 = 0.25. Five classes have something below: 8.6-0.25/5 = 8.55.
	const between = "CVSS:4.0/AV:N/AC:L/AT:N/PR:N/UI:P/VC:N/VI:L/VA:H/SC:H/SI:H/SA:H"
	if x, err := Score(between); x != 8.6 || err != nil {
		t.Errorf("%v %v", x, err)
	}
	n, higher := 0, 0
	for k := 0; k < 4*2*2*3*3*729; k += 11 {
		x, text := k, "CVSS:4.0"
		for i, values := range []string{"NALP", "LH", "NP", "NLH", "NPA", "HLN", "HLN", "HLN", "HLN", "HLN", "HLN"} {
			text += fmt.Sprintf("/%s:%c", base40[i], values[x%len(values)])
			x /= len(values)
		}
		theirs, err := gocvss40.ParseVector(text)
		if err != nil {
			t.Fatal(err)
		}
		ours, err := Score(text)
		switch up := math.Round(10*ours) - math.Round(10*theirs.Score()); {
		case err != nil || up < 0 || up > 1:
			t.Errorf("%s: %v, theirs %v, %v", text, ours, theirs.Score(), err)
		case up == 1:
			higher++
		}
		n++
	}
	if higher == 0 || higher > n/100 {
		t.Errorf("%d of %d are rounded to the other side", higher, n)
	}
}
