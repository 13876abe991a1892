package connector

import (
	"context"
	"testing"
	"time"

	"yareharbour/core/estate"
)

// some is a host that answers with the host's own section alone, whatever it is asked for.
type some struct{ at time.Time }

func (s some) Open(context.Context, string) (Session, error) { return s, nil }
func (some) Close() error                                    { return nil }
func (s some) Read(context.Context, ...estate.SectionName) (*estate.Reading, error) {
	r := &estate.Reading{Host: "h"}
	r.SetSection(estate.Section{Name: estate.Host, At: s.at, Source: "test"})
	return r, nil
}

// A section that was asked for and did not come is unread: what was known of it before stays what was last known.
func TestASectionThatDidNotComeIsUnread(t *testing.T) {
	at := time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
	last := &estate.Reading{Host: "h", Guests: []estate.Guest{{Name: "g"}}}
	for _, name := range estate.SectionNames {
		last.SetSection(estate.Section{Name: name, At: at.Add(-time.Hour), Source: "test"})
	}
	for _, wanted := range [][]estate.SectionName{nil, {estate.Host, estate.GuestList}} {
		r, err := Read(t.Context(), some{at}, "h", wanted...)
		if err != nil {
			t.Fatal(err)
		}
		r = r.Over(last)
		if !r.Read(estate.Host) || r.Read(estate.GuestList) || !r.Section(estate.GuestList).At.Equal(at) || len(r.Guests) != 1 {
			t.Errorf("asked for %v: %+v", wanted, r.Sections)
		}
		if got := r.Read(estate.Packages); got != (wanted != nil) {
			t.Errorf("asked for %v: the packages, which were not asked for or did not come, are read: %v", wanted, got)
		}
	}
}

// A session around another can do what that one can, and says so.
func TestASessionAroundAnotherCanDoNoMore(t *testing.T) {
	s, err := LookOnly(some{}, func(string) bool { return true }, ErrLookOnly).Open(t.Context(), "h")
	if err != nil {
		t.Fatal(err)
	}
	if _, ok := s.(Doer); !ok {
		t.Fatal("what is asked about here is not wrapped")
	}
	if _, ok := As[Doer](s); ok {
		t.Error("a host that is only looked at takes orders")
	}
	if _, ok := As[Preparer](s); ok {
		t.Error("it can be prepared")
	}
	if all, ok := As[Session](s); !ok || all == nil {
		t.Error("what the outermost does is gone round")
	}
}
