package e2e

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"yareharbour/core/course"
	"yareharbour/sim"
)

// A host starts from an image that its BMC fetches from the round's own process, a snapshot of a guest is made, and the
// process is killed at each of it: the image is put in and started from, and taken out again, and the snapshot has its day.
func TestAnImageWithItsRunnerKilled(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 60)
	args := []string{"round", "start", "tides", "--hosts", "avocet", "--only", "fw:corran-hub,fw:corran-panel", "--out-of-service", "2",
		"--snapshot", "tide-tables=1h", "--reason", "the chassis", "--state", dir}
	for _, step := range []string{"snapshot taken", "boot image taken", "boot taken", "take out image"} {
		killAt(t, dir, step, args)
		args = []string{"round", "resume", "tides", "--state", dir}
	}
	if r := run(t, args...); r.code != 0 || !strings.Contains(r.out, "finished") {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	w := world(t, dir)
	count := map[string]int{}
	for _, a := range w.Acts {
		count[a]++
	}
	if m := w.Hosts["avocet"].Media; m.URL+m.Once != "" || count["start avocet from corran-chassis-2026-11.image"] != 1 || len(w.Restarts) > 0 {
		t.Errorf("its BMC has %+v; %v; guests that were started again: %v", m, count, w.Restarts)
	}
	for _, key := range []string{"fw:corran-hub", "fw:corran-panel"} {
		if r := run(t, "check", "tides/avocet", "--narrow", key, "--state", dir); r.code != 0 || !strings.Contains(r.out+r.err, "1 place in line, 0 adrift, 0 unread") {
			t.Errorf("%s: exit %d\n%s%s", key, r.code, r.out, r.err)
		}
	}
	owed := func() (out []course.Debt) {
		r := run(t, "owed", "--json", "--state", dir)
		if err := json.Unmarshal([]byte(r.out), &out); err != nil {
			t.Fatal(err, r.out, r.err)
		}
		return out
	}
	debts := owed()
	if len(debts) != 1 || !debts[0].Later || !strings.HasPrefix(debts[0].Owed[0], "tide-tables: has a snapshot, to be removed from ") {
		t.Fatalf("owed is %+v", debts)
	}
	host := debts[0].Host
	if r := run(t, "host", "remove-snapshots", host, "nobody", "--reason", "none", "--state", dir); r.code == 0 || !strings.Contains(r.err, `no guest "nobody"`) {
		t.Errorf("a guest that is not there: exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "host", "remove-snapshots", host, "tide-tables", "--reason", "it is well", "--state", dir); r.code != 0 {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if debts := owed(); len(debts) > 0 {
		t.Errorf("owed is %+v", debts)
	}
}

// An image that has an address of its own is fetched there by the BMC: with nothing of it in the store and nothing served
// here, and nowhere said where it would be.
func TestAnImageAtItsOwnAddress(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 60)
	body, err := json.Marshal(sim.Image{Takes: time.Minute, Brings: []sim.Payload{
		{Component: "fw:corran-hub", Version: "2.3"}, {Component: "fw:corran-panel", Version: "1.4"}}})
	if err != nil {
		t.Fatal(err)
	}
	var asked atomic.Int32
	at := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		_, _ = w.Write(body)
	}))
	t.Cleanup(at.Close)
	edit(t, filepath.Join(dir, "releases", "corran.yaml"), "    takes: 9m\n", "    takes: 9m\n    at: "+at.URL+"/hub.image\n")
	edit(t, filepath.Join(dir, "estate.yaml"), "images:              # served to BMCs whose hosts start from one\n  listen: 127.0.0.1:0\n  url: https://127.0.0.1:%p\n", "")
	if err := os.RemoveAll(filepath.Join(dir, "payloads")); err != nil {
		t.Fatal(err)
	}
	args := []string{"tides", "--hosts", "avocet", "--only", "fw:corran-hub,fw:corran-panel", "--out-of-service", "2", "--state", dir}
	if r := run(t, append([]string{"plan"}, args...)...); r.code != 0 || !strings.Contains(r.out, "which its BMC fetches from "+at.URL+"/hub.image") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, append([]string{"round", "start", "--reason", "the chassis"}, args...)...); r.code != 0 || asked.Load() != 1 {
		t.Fatalf("exit %d, asked %d times\n%s%s", r.code, asked.Load(), r.out, r.err)
	}
	if m := world(t, dir).Hosts["avocet"].Media; m.URL+m.Once != "" {
		t.Errorf("its BMC has %+v", m)
	}
	if r := run(t, "check", "tides/avocet", "--narrow", "fw:corran-hub", "--state", dir); r.code != 0 {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
}

// A BMC that shows another certificate after its update is not believed, whatever it says, until the host itself is seen to
// know it, by one command that what failed names; then the round goes on.
func TestABMCWithAnotherCertificate(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 120)
	if r := run(t, "host", "trust", "heron", "--state", dir); r.code != 0 || !strings.Contains(r.out, "it is trusted already") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "sim", "fault", "heron", "renews-certificate", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	r := run(t, "round", "start", "vts", "--hosts", "heron", "--only", "fw:corran-bmc", "--patience", "1m", "--reason", "the BMC", "--state", dir)
	if r.code != 1 || !strings.Contains(r.out+r.err, `"yare host trust heron"`) {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "check", "vts/heron", "--narrow", "fw:corran-bmc", "--state", dir); r.code == 0 {
		t.Errorf("what a BMC says that nobody knows is believed:\n%s%s", r.out, r.err)
	}
	if r := run(t, "host", "trust", "heron", "--state", dir); r.code != 0 || !strings.Contains(r.out, "the host itself sees the same") {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "round", "resume", "vts", "--state", dir); r.code != 0 {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "check", "vts/heron", "--narrow", "fw:corran-bmc", "--state", dir); r.code != 0 {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
}
