package conn

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"yareharbour/connector/conform"
	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/sim"
	"yareharbour/sim/demo"
)

// The simulated estate keeps the rules that every connector is held to.
func TestTheSimulatedEstateConforms(t *testing.T) {
	t.Parallel()
	c := dialWorld(t, 600, func() *sim.World {
		w := demo.World()
		for i := range w.Hosts["knot"].Reading.Components { // a service that runs what was replaced
			if x := &w.Hosts["knot"].Reading.Components[i]; x.Key == "deb:brae-guard" {
				x.Holders = []estate.Holder{{Service: "brae-guard.service", Runs: "1.3-1"}}
			}
		}
		w.Hosts["lapwing"].Reading.Guests = nil // so that there is room
		w.Hosts["knot"].Waiting = []string{"waiting-1", "waiting-2"}
		return w
	})
	world, err := c.World(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	has := func(key estate.Key) estate.Component {
		for _, x := range world.Hosts["knot"].Reading.Components {
			if x.Key == key {
				return x
			}
		}
		t.Fatalf("knot has no %s", key)
		return estate.Component{}
	}
	payload := func(p sim.Payload) []byte {
		b, err := json.Marshal(p)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	tls, bmc, guard := has("deb:brae-tls"), has("fw:corran-bmc"), has("deb:brae-guard")
	body := payload(sim.Payload{Component: tls.Key, Version: "1.9-brae1", Restart: catalogue.ServiceRestart})
	image := payload(sim.Payload{Component: bmc.Key, Version: "9.9", Restart: catalogue.NoRestart})
	sum := func(b []byte) string {
		p, err := sim.ParsePayload(b)
		if err != nil {
			t.Fatal(err)
		}
		return p.SHA256
	}
	cut := func(up bool) func(string) {
		return func(host string) {
			f := sim.Fault{Host: host, Kind: sim.Crashes}
			if up {
				f.Kind = sim.Answers
			}
			if err := c.Order(t.Context(), f); err != nil {
				t.Fatal(err)
			}
		}
	}
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_ = json.NewEncoder(w).Encode(sim.Image{Brings: []sim.Payload{{Component: bmc.Key, Version: "9.9"}}, Takes: time.Minute})
	}))
	t.Cleanup(served.Close)
	conform.Test(t, conform.Bench{Boots: served.URL + "/x/x.image", World: c, Host: "knot", To: "lapwing", Waits: true, Program: sim.Programs + "told",
		Guest: world.Hosts["knot"].Reading.RunningGuests()[0].Name, Rests: []act.Name{act.Down, act.Save}, Copies: world.Hosts["knot"].Reading.RunningGuests()[1].Name,
		Change: act.Change{Component: tls.Key, From: tls.Version, To: "1.9-brae1", File: "tls", SHA256: sum(body),
			Pass: 1}, Payload: body,
		Flash: act.Change{Component: bmc.Key, Device: bmc.Device, From: bmc.Version, To: "9.9", File: "bmc",
			SHA256: sum(image), Pass: 1}, Image: image,
		Service: act.Change{Component: guard.Key, From: guard.Version, To: guard.Version,
			Services: []string{"brae-guard.service"}, Pass: 1},
		Abort: func(host string) {
			if err := c.Order(t.Context(), sim.Fault{Host: host, Kind: sim.MoveFails, Times: 1}); err != nil {
				t.Fatal(err)
			}
		},
		Lose: func(host string) {
			if err := c.Order(t.Context(), sim.Fault{Host: host, Kind: sim.LosesAnswer, Times: 1}); err != nil {
				t.Fatal(err)
			}
		},
		Cut: cut(false), Mend: cut(true), Settle: 20 * time.Second})
}

// What was accepted is known again after the simulation was killed and started anew.
func TestASimulationThatIsKilledForgetsNothing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	wait, err := sim.Start(t.Context(), sim.Options{Dir: dir, Speed: 1, New: demo.World})
	if err != nil {
		t.Fatal(err)
	}
	c, err := Dial(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	s, err := c.Open(t.Context(), "knot")
	if err != nil {
		t.Fatal(err)
	}
	o := order(act.Act{ID: "x", Kind: act.Close, Host: "knot", Round: "R", Epoch: 7})
	if _, err := s.(*session).Do(t.Context(), o); err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadFile(filepath.Join(dir, "world.json"))
	if err != nil {
		t.Fatal(err)
	}
	var w sim.World
	if err := json.Unmarshal(kept, &w); err != nil || w.Hosts["knot"].Reading.Guard.Epoch != 7 ||
		w.Hosts["knot"].Reading.Closed == nil {
		t.Errorf("what was answered is not on disk: %+v %v", w.Hosts["knot"].Reading.Guard, err)
	}
	if err := c.Stop(t.Context()); err != nil {
		t.Fatal(err)
	}
	c.Hangup()
	_ = wait()
}
