package sim

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/core/estate"
	"yareharbour/demo"
	"yareharbour/sim"
)

func dial(t *testing.T, speed float64, acts func(string) bool) *Connector {
	t.Helper()
	dir := t.TempDir()
	wait, err := sim.Start(t.Context(), sim.Options{Dir: dir, Speed: speed, New: demo.World})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = wait() })
	c, err := Dial(t.Context(), dir, acts)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Hangup)
	return c
}

// The connector itself refuses every changing call on a host that may only be looked at, whatever the layers above think.
func TestNothingIsChangedWhereOnlyLookingIsAllowed(t *testing.T) {
	c := dial(t, 1, func(h string) bool { return h == "heron" })
	ctx := t.Context()
	for name, call := range map[string]func() error{
		"stage":   func() error { _, err := c.Stage(ctx, "ruff", "x", []byte("{}")); return err },
		"move":    func() error { _, err := c.Move(ctx, "ruff", "crane-plan", "stint"); return err },
		"move to": func() error { _, err := c.Move(ctx, "heron", "met-feed", "ruff"); return err },
		"close":   func() error { return c.Close(ctx, "ruff", estate.Mark{Round: "R"}) },
		"open":    func() error { return c.Open(ctx, "ruff", "R") },
		"change":  func() error { _, err := c.Change(ctx, "ruff", connector.Item{Component: "deb:brae-tls"}); return err },
		"flash": func() error {
			_, err := c.Change(ctx, "ruff", connector.Item{Component: "fw:corran-bmc", File: "x"})
			return err
		},
		"restart": func() error { _, err := c.Restart(ctx, "ruff", "why"); return err },
	} {
		if err := call(); !errors.Is(err, connector.ErrLookOnly) {
			t.Errorf("%s: %v", name, err)
		}
	}
	w, err := c.World(ctx)
	if err != nil || len(w.Acts) > 0 {
		t.Errorf("done all the same: %v %v", w.Acts, err)
	}
}

func TestReadTellsHostFromBMC(t *testing.T) {
	c := dial(t, 1, nil)
	r, err := c.Read(t.Context(), "godwit")
	if err != nil {
		t.Fatal(err)
	}
	if why := r.Section(estate.FirmwareItems).Err; !strings.Contains(why, "the inventory is being rebuilt") {
		t.Errorf("firmware of godwit: %q", why)
	}
	if r.Section(estate.Packages).Err != "" || r.Closed == nil || r.Closed.By != "night shift" {
		t.Errorf("%+v", r)
	}
	if err := c.Order(t.Context(), sim.Fault{Host: "heron", Kind: sim.Crashes}); err != nil {
		t.Fatal(err)
	}
	r, err = c.Read(t.Context(), "heron")
	if err != nil || r.Reached() || r.Section(estate.FirmwareItems).Err != "" {
		t.Errorf("a dead host with a living BMC: %+v %v", r.Sections, err)
	}
	if _, err := c.Read(t.Context(), "dodo"); err == nil {
		t.Error("a host that is not there was read")
	}
}

func TestTheEstatesClockRunsFaster(t *testing.T) {
	c := dial(t, 1000, nil)
	real, start := time.Now(), c.Now()
	if err := c.Sleep(t.Context(), time.Minute); err != nil {
		t.Fatal(err)
	}
	passed := c.Now().Sub(start)
	if factor := passed.Seconds() / time.Since(real).Seconds(); factor < 500 || passed < time.Minute {
		t.Errorf("%v passed, %.0f times as fast", passed, factor)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if c.Sleep(ctx, time.Hour) == nil {
		t.Error("it slept through its end")
	}
}

func TestDialWithoutASimulationSaysWhatToDo(t *testing.T) {
	_, err := Dial(t.Context(), t.TempDir(), nil)
	if !errors.Is(err, connector.ErrUnreachable) || !strings.Contains(err.Error(), "start it with yare sim or yare demo") {
		t.Error(err)
	}
}
