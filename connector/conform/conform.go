// Package conform holds a kind of connector to the rules of package connector, as testing/slogtest does for handlers.
// Whoever implements one runs Test against hosts that it may do anything to.
package conform

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// Bench is a cluster of at least two hosts, and what Test must know of it. Each field that is not set leaves out what
// needs it, and Test says so.
type Bench struct {
	World connector.World
	// Host is acted on; a guest named Guest runs on it that can move to To. They are open, and nothing is under way on
	// them.
	Host, To, Guest string
	// Change puts something in that is behind, out of Payload. Refused is one that the host refuses while it is carried
	// out.
	Change  act.Change
	Payload []byte
	Refused act.Change
	// Flash is the same for the host's BMC.
	Flash act.Change
	Image []byte
	// Service is a change that is put in and that services do not run yet.
	Service act.Change
	// Rests are the ways in which Guest can be brought to rest here.
	Rests []act.Name
	// Copies is a guest that runs on Host and of which a snapshot can be made; "" for none.
	Copies string
	// Boots is the address of an image that the host's BMC takes; "" for none.
	Boots string
	// Program is one that ends well on the host; "" where none is there.
	Program string
	// Cut makes the host silent, and Mend lets it answer again.
	Cut, Mend func(host string)
	// Waits tells that tasks wait at the host's BMC, two at least.
	Waits bool
	// Lose lets the host carry the next order out and its answer be lost.
	Lose func(host string)
	// Abort sees to it that the host gives up the next migration of Guest from it while that is under way.
	Abort func(host string)
	// Settle is how long an act may take at most, in our own time.
	Settle time.Duration
}

// trial is the suite under way.
type trial struct {
	*testing.T
	Bench
	epoch int64
	round string
	n     int
}

// Test holds the bench's world to the rules.
func Test(t *testing.T, b Bench) {
	tr := &trial{T: t, Bench: b, epoch: 1, round: "conform"}
	for _, c := range []struct {
		name string
		run  func(*trial)
		can  bool
	}{
		{"reading", (*trial).reading, true},
		{"a host that is not there", (*trial).nobody, true},
		{"a call ends with its context", (*trial).ends, true},
		{"claiming and epochs", (*trial).epochs, true},
		{"the same order twice", (*trial).twice, true},
		{"two callers", (*trial).callers, true},
		{"staging", (*trial).staging, b.Payload != nil},
		{"programs of the site's own", (*trial).hooks, b.Program != ""},
		{"a service for a time", (*trial).lending, true},
		{"keeping the configuration", (*trial).keeping, true},
		{"closing and opening", (*trial).closing, true},
		{"refusals", (*trial).refusals, true},
		{"moving", (*trial).moving, b.Guest != ""},
		{"guests come to rest", (*trial).resting, len(b.Rests) > 0},
		{"snapshots", (*trial).copying, b.Copies != ""},
		{"a migration that is given up", (*trial).aborted, b.Abort != nil},
		{"changing", (*trial).changing, b.Payload != nil},
		{"a change that fails", (*trial).failing, b.Refused.Component != ""},
		{"services", (*trial).services, b.Service.Component != ""},
		{"a lease that is lost between two stages", (*trial).lapsing, b.Image != nil},
		{"flashing", (*trial).flashing, b.Image != nil},
		{"an image in the BMC's drive", (*trial).mounting, b.Boots != ""},
		{"silence", (*trial).silence, b.Cut != nil},
		{"an answer that is lost", (*trial).lostAnswer, b.Lose != nil},
		{"clearing the queue of a BMC", (*trial).clearing, b.Waits},
		{"looking only", (*trial).lookOnly, true},
		{"restarting", (*trial).restarting, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			if !c.can {
				t.Skip("this bench can't show it")
			}
			own := *tr
			own.T = t
			c.run(&own)
			tr.epoch, tr.n = own.epoch, own.n
		})
	}
}

func (t *trial) open(host string) connector.Session {
	t.Helper()
	s, err := t.World.Open(t.Context(), host)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	return s
}

func (t *trial) read(host string, sections ...estate.SectionName) *estate.Reading {
	t.Helper()
	r, err := t.open(host).Read(t.Context(), sections...)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// order makes an order of its own.
func (t *trial) order(kind act.Name, of act.Act) connector.Order {
	t.n++
	of.Kind, of.Round, of.Epoch, of.By = kind, t.round, t.epoch, cmp.Or(of.By, "conform")
	if of.Host == "" {
		of.Host = t.Host
	}
	of.ID = fmt.Sprintf("conform/%d/%d", time.Now().UnixNano(), t.n)
	of.Before = act.Remember(t.read(of.Host))
	if of.Change != nil {
		of.Before.Version = of.Change.From
	}
	return connector.Order{Act: of, Entry: int64(t.n), Sum: fmt.Sprint("sum", t.n)}
}

func (t *trial) do(o connector.Order) (connector.Receipt, error) {
	t.Helper()
	d, ok := t.open(o.Host).(connector.Doer)
	if !ok {
		t.Fatalf("%s can't be acted on", o.Host)
	}
	return d.Do(t.Context(), o)
}

// done carries an order out and follows it until its kind finds it done.
func (t *trial) done(o connector.Order) act.Finding {
	t.Helper()
	f := t.settled(o)
	if f.Outcome != act.Done {
		t.Fatalf("%s: %s: %s", o.Says(), f.Outcome, f.Detail)
	}
	return f
}

// settled carries an order out and looks, as a round does, until its kind can say how it came out.
func (t *trial) settled(o connector.Order) act.Finding {
	t.Helper()
	r, err := t.do(o)
	if err != nil {
		t.Fatalf("%s: %v", o.Says(), err)
	}
	return t.find(o, r)
}

func (t *trial) find(o connector.Order, r connector.Receipt) act.Finding {
	t.Helper()
	since := time.Now()
	for {
		f := t.look(o, r, since)
		if f.Outcome != act.UnderWay && f.Outcome != act.Untold {
			return f
		}
		if time.Since(since) > t.Settle {
			t.Fatalf("%s: %s after %s: %s", o.Says(), f.Outcome, t.Settle, f.Detail)
		}
		time.Sleep(t.Settle / 500)
	}
}

// look looks once: first for the trace, then at the hosts.
func (t *trial) look(o connector.Order, r connector.Receipt, since time.Time) act.Finding {
	t.Helper()
	return t.looked(o, act.Seen{Since: since, Accepted: true, SHA256: r.SHA256, Trace: act.Trace{Task: r.Task}})
}

// looked looks with what is known of the order already.
func (t *trial) looked(o connector.Order, seen act.Seen) act.Finding {
	t.Helper()
	asks := o.Kind.Of().Asks(o.Act)
	seen.Now = t.World.Now()
	if asks.Trace {
		trace, err := t.open(o.Host).(connector.Doer).Trace(t.Context(), o.Act, seen.Trace.Task)
		if err != nil {
			t.Fatal(err)
		}
		seen.Trace = trace
	}
	if len(asks.Host) > 0 {
		seen.Host = t.read(o.Host, asks.Host...)
	}
	if o.To != "" {
		seen.To = t.read(o.To, asks.To...)
	}
	return o.Kind.Of().Find(o.Act, seen)
}

// refused tells that an order was refused, for certain, and with the host's name.
func (t *trial) refused(o connector.Order, why string) error {
	t.Helper()
	_, err := t.do(o)
	switch {
	case err == nil:
		t.Fatalf("%s: %s, and it was taken on", o.Says(), why)
	case errors.Is(err, connector.ErrUnreachable):
		t.Errorf("%s: a refusal says that nobody answered: %v", o.Says(), err)
	case !strings.Contains(err.Error(), o.Host):
		t.Errorf("%s: the error does not say on which host: %v", o.Says(), err)
	}
	return err
}

func (t *trial) reading() {
	for _, want := range [][]estate.SectionName{{estate.Host}, {estate.GuestList, estate.Host}, {estate.BMCState},
		estate.SectionNames} {
		r := t.read(t.Host, want...)
		for _, s := range r.Sections {
			if !slices.Contains(want, s.Name) {
				t.Errorf("asked for %v it brought %q too", want, s.Name)
			}
			if s.At.IsZero() || s.Source == "" || s.Err != "" {
				t.Errorf("%+v", s)
			}
		}
		if len(r.Sections) != len(want) {
			t.Errorf("asked for %v it brought %d sections", want, len(r.Sections))
		}
		if slices.Contains(want, estate.GuestList) != (len(r.Guests) > 0) {
			t.Errorf("asked for %v it brought %d guests", want, len(r.Guests))
		}
	}
	if all := t.read(t.Host); len(all.Sections) != len(estate.SectionNames) {
		t.Errorf("asked for nothing in particular it brought %d sections", len(all.Sections))
	}
}

// uid is the UUID of the bench's guest, if it is on the host.
func (t *trial) uid(host string) string {
	r := t.read(host, estate.Host, estate.GuestList)
	for _, g := range r.Guests {
		if g.Name == t.Guest {
			return g.UID()
		}
	}
	return ""
}
