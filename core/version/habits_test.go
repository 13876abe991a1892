package version

import "testing"

// The table of habits in docs/verdicts.md holds.
func TestHabitsOfMakersOfDevices(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"1.2", "1.2.0", 0}, {"1.9", "1.10", -1}, {"2.04", "2.4", 0}, {"1.2", "1.2a", -1}, {"1.2a", "1.2.1", -1},
		{"v7.4.0", "7.4.0", 0}, {"Ver 7.4.0", "7.4.0", 0},
		{"7.4.0-rc2", "7.4.0", -1}, {"7.4.0beta", "7.4.0", -1}, {"7.4.0-rc2", "7.4.0-rc10", -1},
		{"7.3.9", "7.4.0-rc2", -1}, {"A7", "B2", -1}, {"2026-03-01", "2026-04-01", -1},
		{"03/2026", "04/2025", -1}, {"3.04.11", "3.4.11", 0}, {"1.0-A", "1.0_a", 0},
	} {
		if got := Dotted.Compare(c.a, c.b); sign(got) != c.want {
			t.Errorf("%s and %s compare as %d, want %d", c.a, c.b, got, c.want)
		}
		if got := Dotted.Compare(c.b, c.a); sign(got) != -c.want {
			t.Errorf("%s and %s compare as %d, want %d", c.b, c.a, got, -c.want)
		}
	}
}
