package lab

import (
	"bytes"
	"context"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"time"

	"yareharbour/connector/redfish"
	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/sim"
	"yareharbour/store"
)

// following is a command in the background that runs a round, and the round's journal as it grows.
type following struct {
	t    *trial
	site *site
	cmd  *exec.Cmd
	out  *output
	done chan struct{}
	last string // the round before
	seen int64  // entries of the newest round's journal that were waited for already
}

// output is what a command writes, to be read while it writes.
type output struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.buf.Write(b)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.buf.String()
}

// begin runs a command that runs a round, in the background. What is waited for is what the journal gets from now on.
func (s *site) begin(t *trial, args ...string) *following {
	t.Helper()
	f := &following{t: t, site: s, cmd: s.command(t, args...), out: &output{}, done: make(chan struct{})}
	if events := s.journal(t); len(events) > 0 {
		f.last, f.seen = events[0].Round, events[len(events)-1].Seq
	}
	f.cmd.Stdout, f.cmd.Stderr = f.out, f.out
	if err := f.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() {
		defer close(f.done)
		_ = f.cmd.Wait() // its exit status is asked for
	}()
	t.Cleanup(func() {
		f.kill()
		t.Logf("$ yare %s\n%s(exit status %d)", strings.Join(args, " "), f.out, f.cmd.ProcessState.ExitCode())
	})
	return f
}

// visits begins a round over h1 alone.
func (s *site) visits(t *trial) *following {
	t.Helper()
	return s.begin(t, "round", "start", "piers", "--hosts", "h1", "--prepare", "--reason", "patches")
}

// journal is the journal of the newest round.
func (s *site) journal(t *trial) []course.Event {
	t.Helper()
	st, err := store.Open(t.Context(), s.dir)
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	head, err := st.Latest(t.Context(), "piers")
	if err != nil {
		return nil
	}
	events, err := st.Journal(t.Context(), head.ID, course.NewChain(head.ID))
	if err != nil {
		t.Fatal(err)
	}
	return events
}

// until waits for an entry of the kind, of an act of the kind if there is one, and returns it.
func (f *following) until(kind course.EventKind, of act.Name) course.Event {
	f.t.Helper()
	for start := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		events := f.site.journal(f.t)
		if len(events) > 0 && events[0].Round != f.last { // a new round's journal
			f.last, f.seen = events[0].Round, 0
		}
		for _, e := range events {
			if e.Seq > f.seen && e.Kind == kind && (of == "" || e.Act != nil && e.Act.Kind == of) {
				f.seen = e.Seq
				return e
			}
		}
		select {
		case <-f.done:
			f.t.Fatalf("it ended, and the journal has no %s %s", kind, of)
		default:
		}
		if time.Since(start) > 2*time.Minute {
			f.t.Fatalf("the journal never had %s %s:\n%s", kind, of, f.out)
		}
	}
}

// ends waits for the command's end, with the status.
func (f *following) ends(status int) string {
	f.t.Helper()
	select {
	case <-f.done:
	case <-time.After(4 * time.Minute):
		_ = f.cmd.Process.Signal(syscall.SIGQUIT) // it says where it stands
		<-f.done
		f.t.Fatalf("it does not end:\n%s", f.out)
	}
	if got := f.cmd.ProcessState.ExitCode(); got != status {
		f.t.Fatalf("exit status %d, want %d", got, status)
	}
	return f.out.String()
}

// kill ends the command as a crash would, and waits until it is gone.
func (f *following) kill() {
	_ = f.cmd.Process.Signal(syscall.SIGKILL) // it may have ended
	<-f.done
}

// switchPower asks a host's BMC for a reset of the kind.
func switchPower(t *trial, a sim.Address, host, kind string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	c := redfish.New(host, redfish.Target{At: a.BMC[host], User: sim.User, Fingerprint: a.Fingerprint}, a.Secret)
	defer c.Close()
	if err := c.Reset(ctx, kind); err != nil {
		t.Fatal(err)
	}
}
