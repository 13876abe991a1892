package conform

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

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
	switch kind {
	case act.Restore:
		a.Files = &act.Files{SHA256: strings.Repeat("0", 64), Paths: []string{"etc/hosts"}}
		return a
	case act.Mount, act.Unmount:
		a.URL = "https://127.0.0.1:1/x/none.iso"
		return a
	case act.Snapshot, act.Unsnapshot:
		a.Guest, a.GuestID, a.Copy = t.Guest, t.uid(t.Host), &estate.Snapshot{Name: "yare-conform", Round: t.round, Until: time.Now().Add(time.Hour)}
		return a
	}
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
	case act.HookStep:
		a.Lent = &act.Lent{Unit: "chrony.service"}
		if kind == act.Lend || kind == act.PutBack {
			break
		}
		a.Lent, a.Hook = nil, &act.Hook{Before: true, Of: "visit", OnHost: true, Program: cmp.Or(t.Program, "/usr/bin/true"), Within: time.Minute,
			GoOn: []int{0}}
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

// lapsing loses the lease before an image is given to the host, and once the host has taken the order and before its BMC
// gets the image: what was taken goes no further.
func (t *trial) lapsing() {
	for stage := 1; stage <= 2; stage++ {
		c := t.Flash
		o := t.order(act.Flash, act.Act{Change: &c})
		o.Payload, o.Size = bytes.NewReader(t.Image), int64(len(t.Image))
		asked := 0
		o.Held = func() error {
			if asked++; asked >= stage {
				return errors.New("the lease is lost")
			}
			return nil
		}
		r, err := t.do(o)
		if !errors.Is(err, connector.ErrLapsed) || asked != stage {
			t.Errorf("lost before stage %d: asked %d times: %+v, %v", stage, asked, r, err)
		}
		if f := t.look(o, connector.Receipt{}, time.Now()); f.Outcome == act.Done || f.Outcome == act.UnderWay {
			t.Errorf("lost before stage %d, and it is %s: %s", stage, f.Outcome, f.Detail)
		}
	}
}
