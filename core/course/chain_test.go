package course

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"

	"yareharbour/core/estate"
)

// entries are events as they are kept.
func entries(es []Event) (out []Entry) {
	sum := "R"
	for _, e := range es {
		text, _ := json.Marshal(e)
		sum = Bind(sum, text)
		out = append(out, Entry{e.Seq, text, sum})
	}
	return out
}

func read(round string, ns []Entry, known Head) (es []Event, err error) {
	c := NewChain(round)
	for _, n := range ns {
		e, err := c.Next(n)
		if err != nil {
			return es, err
		}
		es = append(es, e)
	}
	return es, c.Reaches(known)
}

func TestAChainIsReadAsItWasWritten(t *testing.T) {
	ns := entries(whole())
	end := Head{ns[len(ns)-1].Seq, ns[len(ns)-1].Sum}
	for name, c := range map[string]struct {
		round string
		at    int64 // of the first entry that can't be relied on; 0: none
		spoil func([]Entry) []Entry
	}{
		"whole":                {"R", 0, func(ns []Entry) []Entry { return ns }},
		"another round's":      {"Q", 1, func(ns []Entry) []Entry { return ns }},
		"one is missing":       {"R", 4, func(ns []Entry) []Entry { return append(ns[:3], ns[4:]...) }},
		"the first is missing": {"R", 1, func(ns []Entry) []Entry { return ns[1:] }},
		"the end is missing":   {"R", 10, func(ns []Entry) []Entry { return ns[:9] }},
		"all is missing":       {"R", 1, func([]Entry) []Entry { return nil }},
		"a byte is another": {"R", 4, func(ns []Entry) []Entry {
			ns[3].Text = []byte(strings.Replace(string(ns[3].Text), "intent", "Intent", 1))
			return ns
		}},
		"a sum is another": {"R", 4, func(ns []Entry) []Entry { ns[3].Sum = ns[2].Sum; return ns }},
		"two are swapped":  {"R", 4, func(ns []Entry) []Entry { ns[3], ns[4] = ns[4], ns[3]; return ns }},
		"two texts are swapped": {"R", 4, func(ns []Entry) []Entry {
			ns[3].Text, ns[4].Text = ns[4].Text, ns[3].Text
			return ns
		}},
		"it calls itself another": {"R", 4, func(ns []Entry) []Entry { return rebind(ns, 3, `"seq":4`, `"seq":5`) }},
		"it is no event":          {"R", 4, func(ns []Entry) []Entry { return rebind(ns, 3, `{"v"`, `{{"v"`) }},
		"it names an unknown kind": {"R", 4, func(ns []Entry) []Entry {
			return rebind(ns, 3, `"kind":"close"`, `"kind":"flap"`)
		}},
		"all after it is rewritten": {"R", 11, func(ns []Entry) []Entry {
			return rebind(ns, 3, `"host":"a"`, `"host":"b"`)
		}},
	} {
		got, err := read(c.round, c.spoil(entries(whole())), end)
		var bad *Malformed
		if c.at == 0 && (err != nil || len(got) != len(ns)) ||
			c.at > 0 && (!errors.As(err, &bad) || bad.Entry != c.at) {
			t.Errorf("%s: %d events, %v", name, len(got), err)
		}
	}
	c := NewChain("R")
	if c.Head() != (Head{0, "R"}) || len(c.Sums()) != 0 {
		t.Error(c.Head())
	}
	if _, err := c.Next(ns[0]); err != nil || c.Head() != (Head{1, ns[0].Sum}) || len(c.Sums()) != 1 ||
		c.Sums()[0] != ns[0].Sum {
		t.Error(c.Head(), err)
	}
	if err := c.Reaches(Head{}); err != nil {
		t.Errorf("a place that knows nothing contradicts nothing: %v", err)
	}
	if err := c.Reaches(Head{1, "other"}); err == nil {
		t.Error("another head of the same length is accepted")
	}
}

// rebind alters an entry and writes all sums after it anew, as somebody would who knows how.
func rebind(ns []Entry, i int, from, to string) []Entry {
	ns[i].Text = []byte(strings.Replace(string(ns[i].Text), from, to, 1))
	sum := "R"
	for j := range ns {
		sum = Bind(sum, ns[j].Text)
		ns[j].Sum = sum
	}
	return ns
}

func TestAHostContradictsAJournalThatIsNotAll(t *testing.T) {
	sums := []string{"s1", "s2", "s3"}
	for name, c := range map[string]struct {
		g    estate.Guard
		says string
	}{
		"it has taken nothing": {estate.Guard{}, ""},
		"what the journal has": {estate.Guard{Round: "R", Epoch: 4, Entry: 3, Sum: "s3"}, ""},
		"an earlier entry":     {estate.Guard{Round: "R", Epoch: 3, Entry: 1, Sum: "s1"}, ""},
		"an earlier round":     {estate.Guard{Round: "Q", Epoch: 3, Entry: 99, Sum: "x"}, ""},
		"a higher epoch": {estate.Guard{Round: "R", Epoch: 5, Entry: 1, Sum: "s1"},
			"the epoch 5, and this store knows of 4"},
		"an entry beyond the end": {estate.Guard{Round: "R", Epoch: 4, Entry: 4, Sum: "s4"},
			"entry 4, and the journal has 3"},
		"another entry of the number": {estate.Guard{Round: "R", Epoch: 4, Entry: 3, Sum: "x"}, "another entry 3"},
		"another round, same epoch": {estate.Guard{Round: "Q", Epoch: 4, Entry: 1, Sum: "x"},
			"of round Q under the epoch 4"},
		"no entry": {estate.Guard{Round: "R", Epoch: 4}, ""},
	} {
		got := Contradicts("a", c.g, "R", 4, sums)
		var no *Contradiction
		if (c.says == "") != (got == nil) ||
			got != nil && (!errors.As(got, &no) || no.Host != "a" || no.Epoch != c.g.Epoch ||
				!strings.Contains(got.Error(), c.says)) {
			t.Errorf("%s: %v", name, got)
		}
	}
}
