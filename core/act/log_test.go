package act

import (
	"slices"
	"testing"
)

func TestTheLogOfWhatFailedComesFirst(t *testing.T) {
	logs := []Log{{Of: LogPackages}, {Of: LogGuests}, {Of: LogHost}, {Of: LogBMC}}
	for kind, want := range map[Name]string{Flash: LogBMC, Clear: LogBMC, Install: LogPackages, Move: LogGuests,
		Return: LogGuests, Down: LogGuests, Restart: LogPackages, "": LogPackages} {
		got := kind.Foremost(logs)
		if got[0].Of != want || len(got) != 4 || logs[0].Of != LogPackages {
			t.Errorf("%s: %v", kind, got)
		}
		rest := slices.DeleteFunc(slices.Clone(logs), func(l Log) bool { return l.Of == want })
		if !slices.EqualFunc(got[1:], rest, func(a, b Log) bool { return a.Of == b.Of }) {
			t.Errorf("%s: the others are in another order: %v", kind, got)
		}
	}
}

func TestTheEndOfALog(t *testing.T) {
	l := Log{Of: LogGuests, Lines: []string{"a", "b", "c"}}
	if got := l.Last(2); !slices.Equal(got, []string{"b", "c"}) || len(l.Last(9)) != 3 || l.Title() != "libvirt" {
		t.Error(got)
	}
	l = Log{Of: LogBMC, Err: "it is silent"}
	if got := l.Last(2); !slices.Equal(got, []string{"it can't be read: it is silent"}) || l.Title() != "the BMC" {
		t.Error(got)
	}
}

func TestACommandAsItIsTyped(t *testing.T) {
	for want, command := range map[string][]string{"": nil, "yare round end vts": {"round", "end", "vts"},
		"yare round drop c a 'fw:x (slot 2)'": {"round", "drop", "c", "a", "fw:x (slot 2)"},
		`yare a 'it'\''s' ''`:                 {"a", "it's", ""}} {
		if got := Typed(command); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if got := Advised("look", nil) + "; " + Advised("look", []string{"owed"}); got != "look; look: yare owed" {
		t.Error(got)
	}
}
