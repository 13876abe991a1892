// Package conform holds a kind of connector to the rules of package connector, as testing/slogtest does for handlers.
// Whoever implements one runs Test against hosts that it may do anything to.
package conform

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
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
	// Cut makes the host silent, and Mend lets it answer again.
	Cut, Mend func(host string)
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
		{"keeping the configuration", (*trial).keeping, true},
		{"closing and opening", (*trial).closing, true},
		{"refusals", (*trial).refusals, true},
		{"moving", (*trial).moving, b.Guest != ""},
		{"guests come to rest", (*trial).resting, len(b.Rests) > 0},
		{"a migration that is given up", (*trial).aborted, b.Abort != nil},
		{"changing", (*trial).changing, b.Payload != nil},
		{"a change that fails", (*trial).failing, b.Refused.Component != ""},
		{"services", (*trial).services, b.Service.Component != ""},
		{"flashing", (*trial).flashing, b.Image != nil},
		{"silence", (*trial).silence, b.Cut != nil},
		{"an answer that is lost", (*trial).lostAnswer, b.Lose != nil},
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
	of.Kind, of.Round, of.Epoch, of.By = kind, t.round, t.epoch, "conform"
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

// nobody holds a world to telling what it does not know.
func (t *trial) nobody() {
	s, err := t.World.Open(t.Context(), "no-such-host")
	if err != nil {
		return
	}
	defer s.Close()
	r, err := s.Read(t.Context())
	if err == nil && r.Section(estate.Host).Err == "" {
		t.Error("a host that is not there was read")
	}
}

func (t *trial) ends() {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	start := time.Now()
	_, _ = t.open(t.Host).Read(ctx)
	if took := time.Since(start); took > 2*time.Second {
		t.Errorf("it went on for %s after its context had ended", took)
	}
}

func (t *trial) epochs() {
	t.epoch = t.read(t.Host, estate.Host).Guard.Epoch + 3
	o := t.order(act.Claim, act.Act{})
	t.done(o)
	if g := t.read(t.Host, estate.Host).Guard; g != o.Guard() {
		t.Errorf("it keeps %+v of %+v", g, o.Guard())
	}
	high := t.epoch
	t.epoch--
	for _, kind := range act.Names() {
		if err := t.refused(t.order(kind, t.sample(kind)), "it is of a lower epoch"); !errors.Is(err,
			connector.ErrStale) {
			t.Errorf("%s: %v", kind, err)
		}
	}
	t.epoch = high
	other := t.order(act.Claim, act.Act{})
	other.Round = "another"
	if _, err := t.do(other); !errors.Is(err, connector.ErrStale) {
		t.Errorf("two rounds under one epoch: %v", err)
	}
	if g := t.read(t.Host, estate.Host).Guard; g.Epoch != high {
		t.Errorf("an order that was refused lowered the epoch to %d", g.Epoch)
	}
	if t.read(t.Host).Closed != nil {
		t.Error("an order that was refused closed the host")
	}
	t.epoch = high
}

// sample is an act of each kind that could be carried out here.
func (t *trial) sample(kind act.Name) act.Act {
	a := act.Act{Reason: "conform"}
	switch kind.Step() {
	case act.DrainStep, act.ReturnStep:
		a.Guest, a.GuestID, a.To = t.Guest, t.uid(t.Host), t.To
		switch kind {
		case act.Return:
			a.For = t.To
		case act.Move, act.Carry:
		default:
			a.To = ""
		}
	case act.StageStep, act.ChangeStep:
		c := t.Change
		if kind == act.Flash {
			c = t.Flash
		}
		a.Change = &c
	case act.RestartStep:
		a.Pass = 1
	}
	return a
}

func migrates(kind act.Name) bool { return kind == act.Move || kind == act.Return }

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

func (t *trial) twice() {
	o := t.order(act.Close, act.Act{Reason: "once"})
	t.done(o)
	t.done(t.order(act.Open, act.Act{}))
	if _, err := t.do(o); !errors.Is(err, connector.ErrKnown) {
		t.Errorf("the very same order was taken on again: %v", err)
	}
	if t.read(t.Host).Closed != nil {
		t.Error("it closed the host again")
	}
}

func (t *trial) callers() {
	errs := make(chan error, 8)
	for range cap(errs) {
		go func() {
			s, err := t.World.Open(t.Context(), t.Host)
			if err == nil {
				_, err = s.Read(t.Context())
				err = errors.Join(err, s.Close())
			}
			errs <- err
		}()
	}
	for range cap(errs) {
		if err := <-errs; err != nil {
			t.Error(err)
		}
	}
}

func (t *trial) staging() {
	c := t.Change
	o := t.order(act.Stage, act.Act{Change: &c})
	o.Payload, o.Size = bytes.NewReader(t.Payload), int64(len(t.Payload))
	t.done(o)
	sum := sha256.Sum256(t.Payload)
	trace, err := t.open(t.Host).(connector.Doer).Trace(t.Context(), o.Act, "")
	if err != nil || trace.SHA256 != hex.EncodeToString(sum[:]) {
		t.Errorf("the host computed %q: %v", trace.SHA256, err)
	}
}

func (t *trial) keeping() {
	var kept bytes.Buffer
	o := t.order(act.Backup, act.Act{})
	o.Keep = &kept
	r, err := t.do(o)
	if err != nil {
		t.Fatal(err)
	}
	if sum := sha256.Sum256(kept.Bytes()); kept.Len() == 0 || hex.EncodeToString(sum[:]) != r.SHA256 {
		t.Errorf("%d bytes came, and the host says they have %q", kept.Len(), r.SHA256)
	}
}

func (t *trial) closing() {
	t.done(t.order(act.Close, act.Act{Reason: "patches"}))
	m := t.read(t.Host, estate.Host).Closed
	if m == nil || m.Round != "conform" || m.Reason != "patches" || m.By == "" || m.At.IsZero() {
		t.Errorf("its mark is %+v", m)
	}
	if t.Guest != "" {
		back := act.Act{Host: t.To, To: t.Host, Guest: t.Guest, GuestID: t.anyOn(t.To)}
		if back.GuestID != "" {
			o := t.order(act.Move, back)
			if _, err := t.do(o); err == nil && t.find(o, connector.Receipt{}).Outcome == act.Done {
				t.Error("a closed host took a guest")
			}
		}
	}
	t.done(t.order(act.Remark, act.Act{Reason: "it failed"}))
	if m := t.read(t.Host, estate.Host).Closed; m == nil || m.Reason != "it failed" {
		t.Errorf("its mark is %+v", m)
	}
	t.round = "another" // under a lease of its own
	t.epoch++
	t.refused(t.order(act.Open, act.Act{}), "its mark is another round's")
	t.refused(t.order(act.Close, act.Act{Reason: "theirs"}), "somebody else has closed it")
	t.done(t.order(act.Adopt, act.Act{Reason: "adopted"}))
	t.round = "conform"
	t.epoch++
	t.refused(t.order(act.Open, act.Act{}), "it was adopted by another round")
	t.round = "another"
	t.epoch++
	t.done(t.order(act.Open, act.Act{}))
	t.round = "conform"
	t.epoch++
	if m := t.read(t.Host, estate.Host).Closed; m != nil {
		t.Errorf("it is open and has the mark %+v", m)
	}
}

// resting brings the guest to rest in every way that there is here, and starts it again. It stays where it is, and what
// was in its memory is on disk only where that was meant.
func (t *trial) resting() {
	who := act.Act{Guest: t.Guest, GuestID: t.uid(t.Host)}
	for _, kind := range t.Rests {
		who.MemoryMiB = 4096
		t.done(t.order(kind, who))
		g := t.guest()
		if g.Holds() || g.Saved != (kind == act.Save) {
			t.Errorf("after %s it is %+v", kind, g)
		}
		if kind == act.Save {
			t.refused(t.order(act.Down, who), "it is off")
		}
		t.done(t.order(act.Close, act.Act{Reason: "patches"}))
		if _, err := t.do(t.order(act.Start, who)); err == nil && t.guest().Holds() {
			t.Error("a closed host started a guest")
		}
		t.done(t.order(act.Open, act.Act{}))
		t.done(t.order(act.Start, who))
		if g := t.guest(); g.State != estate.Running || g.Saved {
			t.Errorf("after its start it is %+v", g)
		}
	}
	gone := act.Act{Guest: "nobody", GuestID: "00000000-0000-4000-8000-000000000000"}
	t.refused(t.order(act.Start, gone), "there is no such guest")
}

// guest is the bench's guest as it is on its host.
func (t *trial) guest() *estate.Guest {
	r := t.read(t.Host, estate.Host, estate.GuestList)
	i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.Name == t.Guest })
	if i < 0 {
		t.Fatal("its guest is gone")
	}
	return &r.Guests[i]
}

// anyOn is a guest that runs on the host.
func (t *trial) anyOn(host string) string {
	for _, g := range t.read(host, estate.Host, estate.GuestList).RunningGuests() {
		return g.UID()
	}
	return ""
}

func (t *trial) refusals() {
	if t.Guest != "" {
		t.refused(t.order(act.Move, act.Act{Guest: "nobody", GuestID: "00000000-0000-0000-0000-000000000000",
			To: t.To}), "there is no such guest")
	}
	t.refused(t.order(act.Adopt, act.Act{}), "it is not closed")
	if t.Change.File != "" {
		c := t.Change
		c.File, c.SHA256 = "never-staged", strings.Repeat("0", 64)
		t.refused(t.order(act.Install, act.Act{Change: &c}), "it was never staged")
	}
}

// moves is the order to move the suite's guest.
func (t *trial) moves(from, to string) connector.Order {
	return t.order(act.Move, act.Act{Host: from, Guest: t.Guest, GuestID: t.uid(from), To: to})
}

// aborted gives a migration up: the guest runs on where it was, is not at the target, and can be moved anew.
func (t *trial) aborted() {
	t.claimed(t.To)
	t.Abort(t.Host)
	o := t.moves(t.Host, t.To)
	r, err := t.do(o) // which may tell it at once
	if errors.Is(err, connector.ErrUnreachable) {
		t.Fatal(err)
	}
	if err == nil {
		if f := t.find(o, r); f.Outcome != act.NotDone || f.Detail == "" {
			t.Fatalf("a migration that was given up is found %s: %q", f.Outcome, f.Detail)
		}
	}
	on := func(host string) bool {
		return slices.ContainsFunc(t.read(host, estate.GuestList).RunningGuests(), func(g estate.Guest) bool {
			return g.UID() == o.UID()
		})
	}
	if !on(t.Host) || on(t.To) {
		t.Errorf("%s was to stay on %s: there %v, on %s %v", t.Guest, t.Host, on(t.Host), t.To, on(t.To))
	}
	t.done(t.moves(t.Host, t.To))
	t.done(t.moves(t.To, t.Host))
}

func (t *trial) moving() {
	t.claimed(t.To)
	o := t.moves(t.Host, t.To)
	r, err := t.do(o)
	if err != nil {
		t.Fatal(err)
	}
	best := 0
	for start := time.Now(); ; time.Sleep(t.Settle / 1000) { // its progress never falls
		trace, err := t.open(t.Host).(connector.Doer).Trace(t.Context(), o.Act, r.Task)
		if err != nil {
			t.Fatal(err)
		}
		if trace.State != act.Runs || time.Since(start) > t.Settle {
			break
		}
		if trace.Percent < best || trace.Percent > 100 {
			t.Errorf("its progress went from %d to %d", best, trace.Percent)
		}
		best = max(best, trace.Percent)
	}
	if f := t.find(o, r); f.Outcome != act.Done {
		t.Fatalf("%s: %s", f.Outcome, f.Detail)
	}
	t.done(t.moves(t.To, t.Host))
}

// claimed tells another host the suite's epoch, so that it takes its orders.
func (t *trial) claimed(host string) {
	t.epoch = max(t.epoch, t.read(host, estate.Host).Guard.Epoch)
	t.done(t.order(act.Claim, act.Act{Host: host}))
	t.done(t.order(act.Claim, act.Act{}))
}

func (t *trial) changing() {
	c := t.Change
	o := t.order(act.Install, act.Act{Change: &c})
	t.done(o)
	if got, _ := t.read(t.Host).Component(c.Component, c.Device); got.Version != c.To {
		t.Errorf("%s is at %q", c.Title(), got.Version)
	}
}

func (t *trial) failing() {
	c := t.Refused
	if f := t.settled(t.order(act.Install, act.Act{Change: &c})); f.Outcome != act.NotDone &&
		f.Outcome != act.NeedsPerson || f.Detail == "" {
		t.Errorf("%s: %s", f.Outcome, f.Detail)
	}
}

func (t *trial) services() {
	c := t.Service
	t.done(t.order(act.Service, act.Act{Change: &c, Services: c.Services}))
}

func (t *trial) flashing() {
	c := t.Flash
	o := t.order(act.Flash, act.Act{Change: &c})
	o.Payload, o.Size = bytes.NewReader(t.Image), int64(len(t.Image))
	r, err := t.do(o)
	if err != nil {
		t.Fatal(err)
	}
	// Found without its id too: as a task that the BMC did not list before.
	if f := t.look(o, connector.Receipt{}, time.Now()); f.Outcome != act.UnderWay && f.Outcome != act.Done &&
		f.Outcome != act.Untold {
		t.Errorf("without its id it is %s: %s", f.Outcome, f.Detail)
	}
	if f := t.find(o, r); f.Outcome != act.Done {
		t.Errorf("%s: %s", f.Outcome, f.Detail)
	}
}

// silence holds a connector to telling no answer from an answer.
func (t *trial) silence() {
	t.Cut(t.Host)
	r := t.read(t.Host)
	if r.Reached() || r.Section(estate.GuestList).Err == "" || len(r.Guests) > 0 {
		t.Errorf("a silent host was read: %+v", r.Sections)
	}
	o := t.order(act.Claim, act.Act{})
	if _, err := t.do(o); !errors.Is(err, connector.ErrUnreachable) {
		t.Errorf("a silent host: %v", err)
	}
	trace, err := t.open(t.Host).(connector.Doer).Trace(t.Context(), o.Act, "")
	if err != nil || trace.Unasked == "" {
		t.Errorf("a silent host knows of no act: %+v %v", trace, err)
	}
	t.Mend(t.Host)
	if !t.read(t.Host, estate.Host).Reached() {
		t.Error("it answers again, and was not read")
	}
}

// lostAnswer holds a connector to telling that nobody answered, and the host to knowing all the same what it did.
func (t *trial) lostAnswer() {
	for kind, back := range map[act.Name]act.Name{act.Close: act.Open, act.Claim: ""} {
		o := t.order(kind, act.Act{Reason: "lost"})
		t.Lose(t.Host)
		if _, err := t.do(o); !errors.Is(err, connector.ErrUnreachable) {
			t.Errorf("%s: its answer was lost: %v", o.Says(), err)
		}
		if f := t.look(o, connector.Receipt{}, time.Now()); f.Outcome != act.Done {
			t.Errorf("%s: %s: %s", o.Says(), f.Outcome, f.Detail)
		}
		if _, err := t.do(o); !errors.Is(err, connector.ErrKnown) {
			t.Errorf("%s: it was taken on again: %v", o.Says(), err)
		}
		if back != "" {
			t.done(t.order(back, act.Act{}))
		}
	}
}

func (t *trial) lookOnly() {
	why := fmt.Errorf("%w here", connector.ErrLookOnly)
	plain := t.World
	for name, acts := range map[string]func(string) bool{"nowhere": func(string) bool {
		return false
	}, "not where it leads": func(h string) bool { return h == t.Host }} {
		world := struct {
			connector.Opener
			connector.Clock
		}{connector.LookOnly(plain, acts, why), plain}
		t.World = world
		for _, kind := range act.Names() {
			if acts(t.Host) && !migrates(kind) || migrates(kind) && t.Guest == "" {
				continue
			}
			if err := t.refused(t.order(kind, t.sample(kind)), "acting is allowed "+name); !errors.Is(err,
				connector.ErrLookOnly) {
				t.Errorf("%s: %v", kind, err)
			}
		}
		if !t.read(t.Host, estate.Host).Reached() {
			t.Error("it can't be read any more")
		}
	}
	t.World = plain
}

// restarting comes last: whoever is still on the host may not survive it.
func (t *trial) restarting() {
	if t.Guest != "" {
		t.claimed(t.To)
		for _, g := range t.read(t.Host).RunningGuests() {
			t.done(t.order(act.Move, act.Act{Guest: g.Name, GuestID: g.UID(), To: t.To}))
		}
	}
	before := t.read(t.Host).BootID
	t.done(t.order(act.Close, act.Act{Reason: "conform"}))
	o := t.order(act.Restart, act.Act{Pass: 1, Reason: "conform"})
	r, err := t.do(o)
	if err != nil {
		t.Fatal(err)
	}
	// Whoever does not know that it was taken on finds that too, at any moment: it is not told twice.
	if f := t.looked(o, act.Seen{Since: time.Now()}); f.Outcome == act.NotDone {
		t.Errorf("it was told to restart, and is found not to: %s", f.Detail)
	}
	if f := t.find(o, r); f.Outcome != act.Done {
		t.Fatalf("%s: %s", f.Outcome, f.Detail)
	}
	after := t.read(t.Host)
	if after.BootID == before || after.BootID == "" {
		t.Errorf("its boot id was %q and is %q", before, after.BootID)
	}
	if after.Closed == nil || after.Closed.Loose != "" || after.Guard.Epoch != t.epoch {
		t.Errorf("after its restart its mark is %+v, and its guard %+v", after.Closed, after.Guard)
	}
	t.done(t.order(act.Open, act.Act{}))
}
