package lab

import (
	"bytes"
	"fmt"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/libvirt"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// ratio runs two ways to the same thing in turns, and reports how long the first takes in times of the second. Each
// makes ready, and returns what is timed.
func ratio(b *testing.B, own, raw func() func()) {
	var a, c time.Duration
	timed := func(do func()) time.Duration {
		start := time.Now()
		do()
		return time.Since(start)
	}
	for b.Loop() {
		a, c = a+timed(own()), c+timed(raw())
	}
	b.ReportMetric(a.Seconds()/float64(b.N), "own-s/op")
	b.ReportMetric(c.Seconds()/float64(b.N), "raw-s/op")
	b.ReportMetric(a.Seconds()/c.Seconds(), "ratio")
}

// bench gives a benchmark a lab of its own.
func benched(b *testing.B) *trial {
	b.Helper()
	t := &trial{b, <-free}
	b.Cleanup(func() { free <- t.n })
	return t
}

// side runs something for each, side by side.
func side[T any](all []T, do func(T)) {
	var wait sync.WaitGroup
	for _, x := range all {
		wait.Go(func() { do(x) })
	}
	wait.Wait()
}

// A look at three hosts as a round looks at them, beside ssh that asks each the same.
func BenchmarkLook(b *testing.B) {
	t := benched(b)
	fresh(t)
	w := t.reach()
	var sessions []connector.Session
	for _, h := range hosts {
		s, err := w.Open(t.Context(), h)
		if err != nil {
			b.Fatal(err)
		}
		defer s.Close()
		sessions = append(sessions, s)
	}
	ready := func(do func()) func() func() { return func() func() { return do } }
	ratio(b, ready(func() {
		side(sessions, func(s connector.Session) {
			if r, err := s.Read(t.Context(), estate.Host, estate.GuestList); err != nil || len(r.Guests) != 3 {
				b.Errorf("%v", err)
			}
		})
	}), ready(func() {
		side(hosts, func(h string) {
			on(t, h, "cat /proc/meminfo /proc/loadavg /etc/os-release /proc/sys/kernel/random/boot_id >/dev/null; "+
				"uname -r >/dev/null; for g in $(virsh -q list --name); do virsh -q dominfo $g >/dev/null; done")
		})
	}))
}

// Twelve guests leave a host, four at a time, by orders through the host's program, each followed until it is found
// done; beside the same migrations by libvirt's call alone.
func BenchmarkDrain(b *testing.B) {
	t := benched(b)
	fresh(t)
	run(t, "guests", "h1", "12")
	w := t.reach()
	prepared(t, w)
	epoch, n := int64(1), 0
	guests := func(host string) []estate.Guest {
		r, err := connector.Read(t.Context(), w, host, estate.GuestList)
		if err != nil {
			b.Fatal(err)
		}
		var out []estate.Guest
		for _, g := range r.RunningGuests() {
			if strings.HasPrefix(g.Name, "g1-") {
				out = append(out, g)
			}
		}
		return out
	}
	atATime := func(all []estate.Guest, do func(estate.Guest)) {
		work := make(chan estate.Guest, len(all))
		for _, g := range all {
			work <- g
		}
		close(work)
		side(make([]int, 4), func(int) {
			for g := range work {
				do(g)
			}
		})
	}
	// There and back again: by orders there, by calls back, and the other way round the next time.
	leave := func(from, to string, move func(g estate.Guest, from, to string)) func() func() {
		return func() func() {
			all := guests(from)
			if len(all) != 12 {
				b.Fatalf("%d guests are on %s", len(all), from)
			}
			return func() { atATime(all, func(g estate.Guest) { move(g, from, to) }) }
		}
	}
	sessions := map[string]connector.Session{}
	for _, h := range hosts {
		s, err := w.Open(t.Context(), h)
		if err != nil {
			b.Fatal(err)
		}
		defer s.Close()
		sessions[h] = s
	}
	var mu sync.Mutex
	ordered := func(g estate.Guest, from, to string) {
		mu.Lock()
		n++
		a := act.Act{Kind: act.Move, ID: fmt.Sprintf("bench/%d/%d", time.Now().UnixNano(), n), Round: "bench",
			Host: from, Epoch: epoch, Guest: g.Name, GuestID: g.UID(), To: to}
		mu.Unlock()
		if _, err := sessions[from].(connector.Doer).Do(t.Context(),
			connector.Order{Act: a, Entry: 1, Sum: "s"}); err != nil {
			b.Error(err)
			return
		}
		for { // as a round does
			seen := act.Seen{Now: time.Now(), Accepted: true}
			trace, err := sessions[from].(connector.Doer).Trace(t.Context(), a, "")
			if err != nil {
				b.Error(err)
				return
			}
			if seen.Trace = trace; trace.State != act.Runs {
				side([]string{from, to}, func(h string) {
					r, err := sessions[h].Read(t.Context(), estate.Host, estate.GuestList)
					if err != nil {
						b.Error(err)
					}
					if h == from {
						seen.Host = r
					} else {
						seen.To = r
					}
				})
				if f := a.Kind.Of().Find(a, seen); f.Outcome == act.Done {
					return
				} else if f.Outcome != act.UnderWay && f.Outcome != act.Untold {
					b.Errorf("%s: %s", f.Outcome, f.Detail)
					return
				}
			}
			time.Sleep(250 * time.Millisecond)
		}
	}
	raw := func(g estate.Guest, from, to string) {
		out, err := exec.CommandContext(t.Context(), "ssh", "-F", t.lab("ssh_config"), from,
			fmt.Sprintf("virsh -q migrate --live --p2p --persistent --undefinesource --auto-converge %s %s", g.Name,
				libvirt.Migration{URI: "qemu+tcp://%h/system"}.At(to))).CombinedOutput()
		if err != nil {
			b.Errorf("%v: %s", err, out)
		}
	}
	ratio(b, leave("h1", "h2", ordered), leave("h2", "h1", raw))
}

// The rolling patch of three hosts by a round, beside a shell script that does the same and looks at nothing.
func BenchmarkRollingPatch(b *testing.B) {
	t := benched(b)
	ratio(b, func() func() {
		fresh(t)
		s := settle(t, keel, bmcs(t), 0)
		s.must(t, 0, "host", "prepare", "piers", "--yes")
		return func() { s.must(t, 0, "round", "start", "piers", "--moves", "1", "--reason", "patches") }
	}, func() func() {
		fresh(t)
		return func() { byHand(t) }
	})
}

// byHand is what an administrator would type: keep the configuration, copy the package, move the guests, put it in,
// restart, and wait.
func byHand(t *trial) {
	for i, h := range hosts {
		to := hosts[(i+1)%len(hosts)]
		for _, g := range running(t, h) {
			on(t, h, fmt.Sprintf("virsh -q migrate --live --p2p --persistent --undefinesource %s qemu+tcp://%s/system",
				g, to))
		}
		on(t, h, "tar -C / --one-file-system -cz etc") // which comes here
		body, _ := deb(t, keel[0].file)
		send := exec.CommandContext(t.Context(), "ssh", "-F", t.lab("ssh_config"), h,
			"cat >/tmp/keel.deb && sha256sum /tmp/keel.deb")
		send.Stdin = bytes.NewReader(body)
		if out, err := send.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		on(t, h, "DEBIAN_FRONTEND=noninteractive apt-get -q -y install /tmp/keel.deb")
		boot := on(t, h, "cat /proc/sys/kernel/random/boot_id")
		_ = exec.CommandContext(t.Context(), "ssh", "-F", t.lab("ssh_config"), h, "reboot").Run() // its connection ends
		waitUntil(t, h+" is back", func() bool {
			out, err := exec.CommandContext(t.Context(), "ssh", "-F", t.lab("ssh_config"), "-o", "ConnectTimeout=2", h,
				"virsh -q list >/dev/null && cat /proc/sys/kernel/random/boot_id").Output()
			return err == nil && strings.TrimSpace(string(out)) != boot
		})
	}
}
