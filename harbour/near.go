package harbour

import "strings"

// Near returns a hint at the known word that a misspelt one is closest to, ready to be put behind an error's sentence,
// and "" where none is close.
func Near(word string, known []string) string {
	best, at := "", 3 // more than two letters apart is another word
	for _, k := range known {
		if d := distance(strings.ToLower(word), strings.ToLower(k)); d < at && d < len(k) {
			best, at = k, d
		}
	}
	if best == "" {
		return ""
	}
	return "; did you mean " + best + "?"
}

// distance is how many letters must be put in, taken out or replaced to make one word of the other (Levenshtein).
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			d := before
			if a[i] != b[j] {
				d++
			}
			before = row[j+1]
			row[j+1] = min(d, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
