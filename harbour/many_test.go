package harbour_test

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"yareharbour/connector/ssh/sshtest"
	"yareharbour/core/estate"
	"yareharbour/harbour"
)

// many opens an estate of so many hosts, each with an address of its own, behind one sshd at that port.
func many(t testing.TB, s *sshtest.Server, port string, n int) (h *harbour.Harbour, hosts []string) {
	t.Helper()
	s.Write(t, "known_hosts", "many "+s.Read(t, "host.pub"))
	var config strings.Builder
	for i := range n {
		name := fmt.Sprintf("n%03d", i+1)
		hosts = append(hosts, name)
		fmt.Fprintf(&config, "Host %s\n\tHostName 127.0.%d.%d\n", name, 1+i/200, 1+i%200)
	}
	fmt.Fprintf(&config, "Host n*\n\tPort %s\n\tHostKeyAlias many\n\tIdentityFile %s\n\tIdentitiesOnly yes\n"+
		"\tIdentityAgent none\n\tUserKnownHostsFile %s\n\tGlobalKnownHostsFile none\n", port, s.Key, s.KnownHosts)
	s.Write(t, "ssh_config", config.String())
	dir := t.TempDir()
	text := fmt.Sprintf("estate: many\nconnector: {kind: ssh, ssh_config: [%s], limit: 60s}\nat_once: 5\nclusters:\n"+
		"  - {name: all, hosts: [%s]}\n", s.Config, strings.Join(hosts, ", "))
	if err := os.WriteFile(filepath.Join(dir, harbour.EstateFile), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	h, err := harbour.Open(t.Context(), harbour.Options{State: dir, By: "tester"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := h.Close(); err != nil {
			t.Error(err)
		}
	})
	return h, hosts
}

// connections counts the connections to a port of this machine that are open, as the kernel lists them.
func connections(t testing.TB, port string) (n int) {
	text, err := os.ReadFile("/proc/net/tcp")
	if err != nil {
		t.Fatal(err)
	}
	var p int
	_, _ = fmt.Sscan(port, &p)
	for line := range strings.Lines(string(text)) {
		if f := strings.Fields(line); len(f) > 3 && f[3] == "01" && strings.HasSuffix(f[2], fmt.Sprintf(":%04X", p)) {
			n++
		}
	}
	return n
}

// watch samples the connections to a port until it is stopped, and returns the most that there were.
func watch(t testing.TB, port string) (stop func() int) {
	var most atomic.Int64
	ended, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-ended:
				return
			case <-time.After(5 * time.Millisecond):
				most.Store(max(most.Load(), int64(connections(t, port))))
			}
		}
	}()
	return func() int {
		close(ended)
		<-done
		return int(most.Load())
	}
}

// lock is a way to a server through which nothing passes until it is opened.
type lock struct {
	Port    string
	arrived chan struct{} // one for each connection
	opened  chan struct{}
}

// newLock stands before a port of this machine, at every address of loopback.
func newLock(t *testing.T, port string) *lock {
	t.Helper()
	l, err := net.Listen("tcp4", ":0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	_, own, err := net.SplitHostPort(l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	k := &lock{own, make(chan struct{}, 100), make(chan struct{})}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return // closed at the end of the test
			}
			k.arrived <- struct{}{}
			go k.pass(conn, port)
		}
	}()
	return k
}

func (k *lock) pass(conn net.Conn, port string) {
	defer conn.Close()
	<-k.opened
	server, err := net.Dial("tcp", "127.0.0.1:"+port)
	if err != nil {
		return
	}
	defer server.Close()
	go func() {
		_, _ = io.Copy(server, conn) // one end's going ends the other
		server.Close()
	}()
	_, _ = io.Copy(conn, server)
}

// However many hosts there are behind one machine, a few are looked at at a time, and none is left out.
func TestManyHostsAreLookedAtAFewAtATime(t *testing.T) {
	t.Parallel()
	s := sshtest.Start(t, "MaxStartups 30:30:60")
	k := newLock(t, s.Port)
	h, hosts := many(t, s, k.Port, 16)
	type answer struct {
		rs  map[string]*estate.Reading
		err error
	}
	read := make(chan answer, 1)
	go func() {
		rs, err := h.Read(t.Context(), hosts, nil)
		read <- answer{rs, err}
	}()
	for range 5 {
		<-k.arrived
	}
	select {
	case <-k.arrived:
		t.Error("a sixth connection was made while five wait")
	case <-time.After(300 * time.Millisecond):
	}
	close(k.opened)
	got := <-read
	if got.err != nil {
		t.Fatal(got.err)
	}
	for _, name := range hosts {
		if r := got.rs[name]; r == nil || !r.Reached() {
			t.Errorf("%s was not read: %+v", name, r)
		}
	}
	for start := time.Now(); connections(t, k.Port) > 0; time.Sleep(10 * time.Millisecond) {
		if time.Since(start) > 10*time.Second {
			t.Fatalf("%d connections are left", connections(t, k.Port))
		}
	}
}

// A look at 200 hosts behind one sshd.
func BenchmarkALookAt200Hosts(b *testing.B) {
	s := sshtest.Start(b, "ListenAddress 0.0.0.0", "MaxStartups 30:30:60")
	h, hosts := many(b, s, s.Port, 200)
	stop := watch(b, s.Port)
	for b.Loop() {
		if _, err := h.Read(b.Context(), hosts, nil); err != nil {
			b.Fatal(err)
		}
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	b.ReportMetric(float64(stop()), "connections")
	b.ReportMetric(float64(m.Sys)/(1<<20), "MiB")
}
