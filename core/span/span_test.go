package span

import (
	"testing"
	"time"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]time.Duration{
		"30m": 30 * time.Minute, "1h30m": 90 * time.Minute, "3d": 72 * time.Hour, "2w": 14 * 24 * time.Hour, "1w2d3h4m5s": 219*time.Hour +
			4*time.Minute + 5*time.Second, "1.5d": 36 * time.Hour, "0s": 0, "0": 0,
		"": -1, "d": -1, "-3d": -1, "3d-1h": -1, "3 d": -1, "h": -1, "-1h": -1, "3x": -1, "1e9w": -1, "nand": -1, "NaNd": -1, "Infw": -1,
	} {
		if got, err := Parse(text); (err != nil) != (want < 0) || err == nil && got != want {
			t.Errorf("%q is %v, %v, want %v", text, got, err, want)
		}
	}
}

// What is written is read as the same.
func TestThereAndBack(t *testing.T) {
	for _, d := range []time.Duration{0, time.Second, 90 * time.Minute, 36 * time.Hour, 10*time.Minute + time.Second} {
		if got, err := Parse(String(d)); err != nil || got != d {
			t.Errorf("%v is written as %q, and read as %v, %v", d, String(d), got, err)
		}
	}
	if s := String(6 * time.Hour); s != "6h" {
		t.Error(s)
	}
}
