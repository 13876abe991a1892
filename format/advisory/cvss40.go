package advisory

import (
	"strings"

	gocvss40 "github.com/pandatix/go-cvss/40"
)

// level is one step of an equivalence class of CVSS 4.0: the most severe values in it, how far those are from the
// worst there are, and how far the least severe are from them (specification document, tables 24 to 30).
type level struct {
	worst     string
	from, far int
}

var (
	class1  = []level{{"AV:N PR:N UI:N", 0, 0}, {"AV:A PR:N UI:N", 1, 3}, {"AV:P PR:N UI:N", 3, 4}}
	class2  = []level{{"AC:L AT:N", 0, 0}, {"AC:L AT:P", 1, 1}}
	class36 = []level{{"VC:H VI:H VA:H", 0, 6}, {"VC:L VI:H VA:H", 1, 7}, {"VC:L VI:L VA:L", 3, 9}}
	class4  = []level{{"SC:H SI:H SA:H", 0, 4}, {"SC:L SI:L SA:L", 3, 3}}
	// what is next below each level of class 3 and 6, of which the more severe counts; nothing is below the last
	below36 = [][]string{{"VC:L VI:H VA:H", "VC:H VI:H VA:H CR:M IR:M AR:M"}, {"VC:H VI:L VA:H CR:M IR:H AR:M"}, nil}
)

// score40 is the score of a CVSS 4.0 vector that has base metrics alone (specification document, section 8.2). It is
// reckoned in whole numbers: in binary fractions a score that lies just between two tenths, of which the higher is
// meant, comes out as the lower now and then.
func score40(vector string) (float64, error) {
	v, err := gocvss40.ParseVector(vector)
	if err != nil {
		return 0, err
	}
	is := func(metric, value string) bool {
		x, _ := v.Get(metric)
		return x == value
	}
	steps := func(metrics, order string) (n int) { // from the most severe values
		for _, m := range strings.Fields(metrics) {
			x, _ := v.Get(m)
			n += strings.Index(order, x)
		}
		return n
	}
	if steps("VC VI VA SC SI SA", "HLN") == 12 {
		return 0, nil
	}
	one, two, three, four := 2, 0, 2, 1
	reach := steps("AV", "NALP") + steps("PR", "NLH") + steps("UI", "NPA")
	if reach == 0 {
		one = 0
	} else if !is("AV", "P") && (is("AV", "N") || is("PR", "N") || is("UI", "N")) {
		one = 1
	}
	if !is("AC", "L") || !is("AT", "N") {
		two = 1
	}
	if is("VC", "H") && is("VI", "H") {
		three = 0
	} else if is("VC", "H") || is("VI", "H") || is("VA", "H") {
		three = 1
	}
	if is("SC", "H") || is("SI", "H") || is("SA", "H") {
		four = 0
	}
	// The package's table, in tenths: the most severe vector of each of its rows has the row's own score.
	row := func(parts ...string) int {
		m := map[string]string{"E": "A", "CR": "H", "IR": "H", "AR": "H"}
		for _, p := range strings.Fields(strings.Join(parts, " ")) {
			name, value, _ := strings.Cut(p, ":")
			m[name] = value
		}
		text := "CVSS:4.0"
		for _, name := range append(base40, "E", "CR", "IR", "AR") {
			text += "/" + name + ":" + m[name]
		}
		x, err := gocvss40.ParseVector(text)
		if err != nil {
			panic(err) // all of them stand above
		}
		return int(x.Score()*10 + 0.5)
	}
	a, b, c, d := class1[one], class2[two], class36[three], class4[four]
	here := row(a.worst, b.worst, c.worst, d.worst)
	const whole = 280     // what every distance can be told in parts of
	classes, less := 1, 0 // one for E, which is always at its worst
	fall := func(below, distance, far int) {
		classes++
		less += (here - below) * distance * whole / (far + 1)
	}
	if one < 2 {
		fall(row(class1[one+1].worst, b.worst, c.worst, d.worst), reach-a.from, a.far)
	}
	if two < 1 {
		fall(row(a.worst, class2[1].worst, c.worst, d.worst), steps("AC", "LH")+steps("AT", "NP")-b.from, b.far)
	}
	if next := below36[three]; next != nil {
		below := 0
		for _, w := range next {
			below = max(below, row(a.worst, b.worst, w, d.worst))
		}
		fall(below, steps("VC VI VA", "HLN")-c.from, c.far)
	}
	if four < 1 {
		fall(row(a.worst, b.worst, c.worst, class4[1].worst), steps("SC SI SA", "HLN")-d.from, d.far)
	}
	parts := whole * classes
	return float64((2*(here*parts-less)+parts)/(2*parts)) / 10, nil
}
