package estate

import (
	"strings"
	"testing"
)

// Names of hardware are compared without case, and blanks inside as one; nothing else is passed over.
func TestModelsThatAreTheSame(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"Lorne L25", "Lorne L25", true}, {"Lorne L25", "lorne l25", true}, {" Lorne \t L25 ", "Lorne L25", true},
		{"Lorne\u00a0L25", "Lorne L25", true}, {"ÉTÉ 1", "été 1", true}, {"", " ", true}, {"", "", true},
		{"Lorne L25", "Lorne L2", false}, {"Lorne L25", "LorneL25", false}, {"Lorne L25", "Lorne-L25", false},
		{"", "x", false}, {"a b", "a  c", false},
	} {
		if SameModel(c.a, c.b) != c.same || SameModel(c.b, c.a) != c.same {
			t.Errorf("%q and %q", c.a, c.b)
		}
	}
	if !HasModel([]string{"A", "b "}, "B") || HasModel(nil, "") || SameModels([]string{"a"}, []string{"a", "b"}) ||
		!SameModels([]string{"a", "B"}, []string{"A", "b"}) {
		t.Error("lists of them")
	}
}

func FuzzSameModel(f *testing.F) {
	f.Add("Lorne L25", "lorne  l25")
	f.Fuzz(func(t *testing.T, a, b string) {
		fold := func(s string) string { return strings.ToLower(strings.Join(strings.Fields(s), " ")) }
		if SameModel(a, b) != (fold(a) == fold(b)) {
			t.Errorf("%q and %q", a, b)
		}
	})
}

// Firmware and drivers are spelled one way, whoever writes them; names of packages are what they are.
func TestKeysAreSpelledOneWay(t *testing.T) {
	for text, want := range map[string]Key{"fw:Lorne L25": "fw:lorne-l25", "fw: Lorne  L25 ": "fw:lorne-l25",
		"drv:Lorne25": "drv:lorne25", "fw:*": "fw:*", "deb:Brae": "deb:Brae", "rpm:Brae-TLS": "rpm:Brae-TLS"} {
		if k, err := ParseKey(text); err != nil || k != want {
			t.Errorf("%q: %q, %v", text, k, err)
		}
	}
	for _, text := range []string{"fw: ", "deb:a b", "fw", "x:y", "deb: a"} {
		if k, err := ParseKey(text); err == nil {
			t.Errorf("%q is taken for %q", text, k)
		}
	}
}
