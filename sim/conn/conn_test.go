package conn

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/sim"
	"yareharbour/sim/demo"
)

func dial(t *testing.T, speed float64) *Connector { return dialWorld(t, speed, demo.World) }

func dialWorld(t *testing.T, speed float64, world func() *sim.World) *Connector {
	t.Helper()
	dir := t.TempDir()
	wait, err := sim.Start(t.Context(), sim.Options{Dir: dir, Speed: speed, New: world})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = wait() })
	c, err := Dial(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Hangup)
	return c
}

func order(a act.Act) connector.Order { return connector.Order{Act: a, Entry: 1, Sum: "sum"} }

func TestReadTellsHostFromBMC(t *testing.T) {
	t.Parallel()
	c := dial(t, 1)
	r, err := connector.Read(t.Context(), c, "godwit")
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
	r, err = connector.Read(t.Context(), c, "heron")
	if err != nil || r.Reached() || r.Section(estate.FirmwareItems).Err != "" {
		t.Errorf("a dead host with a living BMC: %+v %v", r.Sections, err)
	}
	if _, err := connector.Read(t.Context(), c, "dodo"); err == nil {
		t.Error("a host that is not there was read")
	}
}

func TestTheEstatesClockRunsFaster(t *testing.T) {
	t.Parallel()
	c := dial(t, 1000)
	real, start := time.Now(), c.Now()
	time.Sleep(60 * time.Millisecond)
	passed := c.Now().Sub(start)
	if factor := passed.Seconds() / time.Since(real).Seconds(); factor < 500 || passed < time.Minute {
		t.Errorf("%v passed, %.0f times as fast", passed, factor)
	}
}

func TestDialWithoutASimulationSaysWhatToDo(t *testing.T) {
	t.Parallel()
	_, err := Dial(t.Context(), t.TempDir())
	if !errors.Is(err, connector.ErrUnreachable) ||
		!strings.Contains(err.Error(), "start it with yare sim or yare demo") {
		t.Error(err)
	}
}

// An estate that was started again has other ports and another secret: it is found there, its BMCs too.
func TestAnEstateThatWasStartedAgain(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	begin := func() (end func()) {
		ctx, cancel := context.WithCancel(t.Context())
		wait, err := sim.Start(ctx, sim.Options{Dir: dir, Speed: 1, New: demo.World})
		if err != nil {
			t.Fatal(err)
		}
		return func() { cancel(); _ = wait() }
	}
	end := begin()
	c, err := Dial(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Hangup)
	was := c.at()
	end()
	defer begin()()
	for _, wantErr := range []bool{true, false} {
		r, err := connector.Read(t.Context(), c, "heron", estate.Host, estate.BMCState)
		if err != nil {
			t.Fatal(err)
		}
		if lost := r.Section(estate.Host).Err + r.Section(estate.BMCState).Err; wantErr != (lost != "") {
			t.Errorf("%v is wanted: %q", wantErr, lost)
		}
		if wantErr { // what is told of its BMC may be of either
			continue
		}
		if c.at().Secret == was.Secret || c.at().Host == was.Host {
			t.Error("it stands where it stood: nothing is tested")
		}
	}
}
