// Package logbook is the record of everything that was decided: who, from where, when and why. Each entry is bound to the
// one before by the same sum as the entries of a journal are, and names by a sum of its own what it is about, so that a
// text that is altered, removed or put in later shows. Nothing here reads or writes.
package logbook

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"yareharbour/core/course"
)

// Seed stands before the first entry, as a round's id does before the first of its journal.
const Seed = "logbook"

// Kind says what an entry tells.
type Kind string

// The kinds. A reader takes any other for what its text says.
const (
	Found    Kind = "found"       // was there already when the logbook began
	Begun    Kind = "round begun" // by hand too: a closing, an opening, a host taken over
	TakenOn  Kind = "round taken on"
	Asked    Kind = "asked of a round"
	Ended    Kind = "round ended"
	Saved    Kind = "baseline saved"
	Waived   Kind = "waived"
	Unwaived Kind = "waiver ended"
	Synced   Kind = "feed taken in"
	Schedule Kind = "feed schedule set"
	TakenIn  Kind = "bundle taken in"
	TakenOut Kind = "bundle taken out"
	Trusted  Kind = "certificate trusted"
	Prepared Kind = "host prepared"
	Removed  Kind = "host program removed"
	Acting   Kind = "acting set"
	Pruned   Kind = "pruned"
)

// Shelf is where something is kept that an entry is about.
type Shelf string

// The shelves that a logbook is held against.
const (
	Journals  Shelf = "round"    // ID is the round's; Seq the entry of its journal
	Baselines Shelf = "baseline" // ID is its name; Seq its version
	Waivers   Shelf = "waiver"   // ID is the waiver's
)

// Thing is what an entry is about, with its sum at that moment.
type Thing struct {
	Shelf Shelf  `json:"shelf"`
	ID    string `json:"id"`
	Seq   int64  `json:"seq,omitempty"`
	Sum   string `json:"sum"`
}

// Entry is one decision, or one thing that was done.
type Entry struct {
	N       int64     `json:"n"` // counts from 1, without a gap
	At      time.Time `json:"at"`
	By      string    `json:"by"`             // the operating system's user
	From    string    `json:"from,omitempty"` // his machine, and the login of SSH
	Kind    Kind      `json:"kind"`
	Cluster string    `json:"cluster,omitempty"`
	Host    string    `json:"host,omitempty"`
	Round   string    `json:"round,omitempty"`
	Says    string    `json:"says"`
	Why     string    `json:"why,omitempty"`
	Of      *Thing    `json:"of,omitempty"`
}

// held tells whether it is about something on a shelf that the logbook is held against.
func (e *Entry) held() bool {
	return e.Of != nil && (e.Of.Shelf == Journals || e.Of.Shelf == Baselines || e.Of.Shelf == Waivers)
}

// Fault is from where on a logbook can't be relied on.
type Fault struct {
	From int64 // the number of an entry
	Why  string
}

func (f *Fault) Error() string { return fmt.Sprintf("from entry %d on: %s", f.From, f.Why) }

// Book is a logbook as far as it can be relied on.
type Book struct {
	Entries []Entry // whole ones, from the first
	Sums    []string
	Fault   *Fault // what comes after them; nil where nothing is wrong
}

// Read reads a logbook from its first entry, up to the first that is not as it was written. head is how far it goes, as a
// second place knows.
func Read(kept []course.Entry, head course.Head) Book { return (&Book{}).Extend(kept, head) }

// Extend reads on behind a book that was read before.
func (b *Book) Extend(kept []course.Entry, head course.Head) Book {
	out := Book{slices.Clip(b.Entries), slices.Clip(b.Sums), nil}
	sum := out.Head().Sum
	for _, k := range kept {
		at := int64(len(out.Entries) + 1)
		var e Entry
		switch err := json.Unmarshal(k.Text, &e); {
		case k.Seq != at:
			out.Fault = &Fault{at, fmt.Sprintf("it is missing: entry %d comes after entry %d", k.Seq, at-1)}
		case course.Bind(sum, k.Text) != k.Sum:
			out.Fault = &Fault{at, "it is not as it was written, or not in its place: its sum is another"}
		case err != nil:
			out.Fault = &Fault{at, "it can't be read: " + err.Error()}
		case e.N != at:
			out.Fault = &Fault{at, fmt.Sprintf("it calls itself number %d", e.N)}
		}
		if out.Fault != nil {
			return out
		}
		sum = k.Sum
		out.Entries, out.Sums = append(out.Entries, e), append(out.Sums, sum)
	}
	out.Fault = out.Reaches(head)
	return out
}

// Head is how far the book goes.
func (b *Book) Head() course.Head {
	if len(b.Sums) == 0 {
		return course.Head{Sum: Seed}
	}
	return course.Head{Seq: int64(len(b.Sums)), Sum: b.Sums[len(b.Sums)-1]}
}

// Reaches holds the book against a head that was written down elsewhere: nil where it has that very entry.
func (b *Book) Reaches(h course.Head) *Fault {
	switch n := int64(len(b.Sums)); {
	case h.Seq == 0:
		return nil
	case h.Seq > n:
		return &Fault{n + 1, fmt.Sprintf("it is missing: the logbook was %d entries long", h.Seq)}
	case b.Sums[h.Seq-1] != h.Sum:
		return &Fault{h.Seq, "it is not the one that was written: its sum is another"}
	}
	return nil
}

// Next is the entry that comes behind a head, as it is kept.
func Next(head course.Head, e Entry) (course.Entry, error) {
	e.N = head.Seq + 1
	text, err := json.Marshal(e)
	if head.Seq == 0 {
		head.Sum = Seed
	}
	return course.Entry{Seq: e.N, Text: text, Sum: course.Bind(head.Sum, text)}, err
}

// Stands is what a shelf has of a thing now.
type Stands struct {
	Sum  string // of what is there; of a journal, of its entry Seq
	Gone bool
	Why  string // why its sum can't be told, where it can't: what is kept is not as it was written
}

// Finding is something that is kept and is not as the logbook tells, or is there and in no entry.
type Finding struct {
	Thing Thing  `json:"thing"`
	N     int64  `json:"entry,omitempty"` // that speaks of it; 0 where none does
	Says  string `json:"says"`
}

// Against holds what is kept now against the entries: now says how a thing stands, and have are all that there are. Of a
// waiver the newest entry says how it stands, of the others each. What a Pruned entry names is not missed.
func (b *Book) Against(have []Thing, now func(Thing) Stands) (out []Finding) {
	type key struct {
		shelf Shelf
		id    string
		seq   int64
	}
	newest, known, pruned := map[key]int{}, map[key]bool{}, map[string]bool{}
	of := func(t Thing) key {
		k := key{t.Shelf, t.ID, t.Seq}
		if t.Shelf == Waivers {
			k.seq = 0
		}
		return k
	}
	for i := range b.Entries {
		e := &b.Entries[i]
		if !e.held() {
			continue
		}
		if e.Kind == Pruned {
			pruned[e.Of.ID] = true
			continue
		}
		newest[of(*e.Of)] = i
		known[key{e.Of.Shelf, e.Of.ID, 0}] = true
		if e.Of.Shelf == Baselines {
			known[of(*e.Of)] = true
		}
	}
	gone := map[string]bool{}
	for i := range b.Entries {
		e := &b.Entries[i]
		if !e.held() || newest[of(*e.Of)] != i || e.Kind == Pruned || pruned[e.Of.ID] || gone[string(e.Of.Shelf)+e.Of.ID] {
			continue
		}
		t := *e.Of
		switch s := now(t); {
		case s.Gone && t.Shelf == Journals:
			gone[string(t.Shelf)+t.ID] = true
			out = append(out, Finding{t, e.N, fmt.Sprintf("the round %s is not there any more: it was removed", t.ID)})
		case s.Gone:
			out = append(out, Finding{t, e.N, t.String() + " is not there any more: it was removed"})
		case s.Why != "":
			out = append(out, Finding{t, e.N, t.String() + ": " + s.Why})
		case s.Sum != t.Sum:
			out = append(out, Finding{t, e.N, t.String() + " is not as it was written: its sum is another"})
		}
	}
	for _, t := range have {
		k := key{t.Shelf, t.ID, 0}
		if t.Shelf == Baselines {
			k = of(t)
		}
		if !known[k] {
			out = append(out, Finding{t, 0, t.String() + " has no entry in the logbook: it was added behind its back"})
		}
	}
	return out
}

// String names the thing.
func (t Thing) String() string {
	switch {
	case t.Shelf == Baselines:
		return fmt.Sprintf("version %d of the baseline %s", t.Seq, t.ID)
	case t.Shelf == Journals && t.Seq > 0:
		return fmt.Sprintf("entry %d of the journal of round %s", t.Seq, t.ID)
	}
	return fmt.Sprintf("%s %s", t.Shelf, t.ID)
}

// Since are the entries from a moment on, and before another; a zero time is none.
func Since(all []Entry, from, until time.Time) []Entry {
	return slices.DeleteFunc(slices.Clone(all), func(e Entry) bool {
		return !from.IsZero() && e.At.Before(from) || !until.IsZero() && !e.At.Before(until)
	})
}
