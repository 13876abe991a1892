package logbook

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/course"
)

// book is a logbook of entries about these things, one each.
func book(t *testing.T, entries ...Entry) (kept []course.Entry, head course.Head) {
	t.Helper()
	for _, e := range entries {
		k, err := Next(head, e)
		if err != nil {
			t.Fatal(err)
		}
		kept, head = append(kept, k), course.Head{Seq: k.Seq, Sum: k.Sum}
	}
	return kept, head
}

func about(shelf Shelf, id string, seq int64, sum string) Entry {
	return Entry{Kind: Begun, Says: id, Of: &Thing{shelf, id, seq, sum}}
}

// Whatever is done to a logbook is told, with the first entry that can't be relied on.
func TestATamperedLogbook(t *testing.T) {
	at := time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
	var all []Entry
	for i := range 5 {
		all = append(all, Entry{At: at.Add(time.Duration(i) * time.Hour), By: "ana", Kind: Begun, Says: fmt.Sprint("round ", i)})
	}
	for name, c := range map[string]struct {
		do   func(k []course.Entry) []course.Entry
		from int64
		says string
	}{
		"nothing": {func(k []course.Entry) []course.Entry { return k }, 0, ""},
		"a text altered": {func(k []course.Entry) []course.Entry {
			k[2].Text = []byte(strings.Replace(string(k[2].Text), "ana", "eve", 1))
			return k
		}, 3, "not as it was written"},
		"one removed":   {func(k []course.Entry) []course.Entry { return append(k[:1:1], k[2:]...) }, 2, "is missing"},
		"the first cut": {func(k []course.Entry) []course.Entry { return k[1:] }, 1, "is missing"},
		"the end cut":   {func(k []course.Entry) []course.Entry { return k[:3] }, 4, "was 5 entries long"},
		"all of it cut": {func([]course.Entry) []course.Entry { return nil }, 1, "was 5 entries long"},
		"two exchanged": {func(k []course.Entry) []course.Entry { k[1].Text, k[2].Text = k[2].Text, k[1].Text; return k }, 2, "not as it was written"},
		"written anew":  {func(k []course.Entry) []course.Entry { return forged(t, k, 3) }, 5, "not the one that was written"},
		"one more put in": {func(k []course.Entry) []course.Entry {
			n, _ := Next(course.Head{Seq: 5, Sum: "x"}, Entry{})
			return append(k, n)
		}, 6, "not as it was written"},
		"one not readable": {func(k []course.Entry) []course.Entry {
			k[4].Text, k[4].Sum = []byte("{"), course.Bind(k[3].Sum, []byte("{"))
			return k
		}, 5, "can't be read"},
	} {
		kept, head := book(t, all...)
		b := Read(c.do(kept), head)
		switch {
		case c.from == 0:
			if b.Fault != nil || len(b.Entries) != 5 || b.Head() != head {
				t.Errorf("%s: %v", name, b.Fault)
			}
		case b.Fault == nil || b.Fault.From != c.from || !strings.Contains(b.Fault.Why, c.says):
			t.Errorf("%s: %v, want from %d: %s", name, b.Fault, c.from, c.says)
		case int64(len(b.Entries)) < c.from-1 && name != "written anew":
			t.Errorf("%s: only %d are relied on", name, len(b.Entries))
		}
	}
}

// A book that was read is read on in, and comes to the same as read at once; what it has read is not changed by that.
func TestReadingOn(t *testing.T) {
	kept, head := book(t, Entry{Says: "1"}, Entry{Says: "2"}, Entry{Says: "3"})
	first := Read(kept[:1], course.Head{})
	whole := first.Extend(kept[1:], head)
	if whole.Fault != nil || whole.Head() != head || len(first.Entries) != 1 {
		t.Errorf("%+v", whole)
	}
	if other := first.Extend(kept[2:], head); other.Fault == nil || other.Fault.From != 2 {
		t.Errorf("%+v", other)
	}
	if again := whole.Extend(nil, head); again.Fault != nil || len(again.Entries) != 3 {
		t.Errorf("%+v", again)
	}
	if cut := whole.Extend(nil, course.Head{Seq: 3, Sum: "other"}); cut.Fault == nil || cut.Fault.From != 3 {
		t.Errorf("%+v", cut)
	}
}

// forged writes a logbook anew from an entry on, with sums that follow from each other: only a head kept elsewhere shows it.
func forged(t *testing.T, k []course.Entry, from int) []course.Entry {
	t.Helper()
	out := k[:from:from]
	head := course.Head{Seq: out[from-1].Seq, Sum: out[from-1].Sum}
	for range k[from:] {
		n, err := Next(head, Entry{Says: "forged"})
		if err != nil {
			t.Fatal(err)
		}
		out, head = append(out, n), course.Head{Seq: n.Seq, Sum: n.Sum}
	}
	return out
}

// What is kept is held against the entries, both ways.
func TestWhatIsKeptIsHeldAgainstTheLogbook(t *testing.T) {
	entries := []Entry{about(Journals, "R1", 1, "a"), about(Journals, "R1", 9, "b"), about(Journals, "R2", 1, "c"),
		about(Baselines, "ssl", 1, "d"), about(Baselines, "ssl", 2, "e"), about(Waivers, "W1", 0, "f"), about(Waivers, "W1", 0, "g"),
		about(Journals, "R0", 1, "old"), {Kind: Pruned, Of: &Thing{Journals, "R0", 0, ""}}}
	stands := func(change map[string]Stands) func(Thing) Stands {
		return func(x Thing) Stands {
			if s, ok := change[fmt.Sprint(x.ID, x.Seq)]; ok {
				return s
			}
			return Stands{Sum: map[string]string{"R11": "a", "R19": "b", "R21": "c", "ssl1": "d", "ssl2": "e", "W10": "g"}[fmt.Sprint(x.ID, x.Seq)]}
		}
	}
	have := []Thing{{Journals, "R1", 0, ""}, {Journals, "R2", 0, ""}, {Baselines, "ssl", 1, ""}, {Baselines, "ssl", 2, ""}, {Waivers, "W1", 0, ""}}
	for name, c := range map[string]struct {
		change map[string]Stands
		more   []Thing
		want   string // what is said, apart by |
	}{
		"nothing":               {nil, nil, ""},
		"a round is gone":       {map[string]Stands{"R11": {Gone: true}, "R19": {Gone: true}}, nil, "the round R1 is not there any more: it was removed"},
		"a journal is altered":  {map[string]Stands{"R19": {Sum: "x"}}, nil, "entry 9 of the journal of round R1 is not as it was written: its sum is another"},
		"a journal is broken":   {map[string]Stands{"R21": {Why: "entry 1 is missing"}}, nil, "entry 1 of the journal of round R2: entry 1 is missing"},
		"a waiver is altered":   {map[string]Stands{"W10": {Sum: "f"}}, nil, "waiver W1 is not as it was written: its sum is another"},
		"a version is altered":  {map[string]Stands{"ssl1": {Sum: "x"}}, nil, "version 1 of the baseline ssl is not as it was written: its sum is another"},
		"a version is gone":     {map[string]Stands{"ssl2": {Gone: true}}, nil, "version 2 of the baseline ssl is not there any more: it was removed"},
		"a round is slipped in": {nil, []Thing{{Journals, "R3", 0, ""}}, "round R3 has no entry in the logbook: it was added behind its back"},
		"a version slipped in":  {nil, []Thing{{Baselines, "ssl", 3, ""}}, "version 3 of the baseline ssl has no entry in the logbook: it was added behind its back"},
		"a waiver slipped in":   {nil, []Thing{{Waivers, "W2", 0, ""}}, "waiver W2 has no entry in the logbook: it was added behind its back"},
	} {
		kept, head := book(t, entries...)
		b := Read(kept, head)
		var got []string
		for _, f := range b.Against(append(have, c.more...), stands(c.change)) {
			got = append(got, f.Says)
		}
		if strings.Join(got, "|") != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

func TestAPeriod(t *testing.T) {
	at := time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
	all := []Entry{{N: 1, At: at}, {N: 2, At: at.Add(time.Hour)}, {N: 3, At: at.Add(2 * time.Hour)}}
	for want, got := range map[int][]Entry{3: Since(all, time.Time{}, time.Time{}), 2: Since(all, at.Add(time.Hour), time.Time{}),
		1: Since(all, at.Add(time.Hour), at.Add(2*time.Hour))} {
		if len(got) != want {
			t.Errorf("%v, want %d", got, want)
		}
	}
}
