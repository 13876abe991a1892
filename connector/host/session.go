package host

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/libvirt"
	"yareharbour/connector/ssh"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// session is a conversation with one host. It keeps its connection from one look to the next, and makes a new one where
// that ended.
type session struct {
	by   *Connector
	host string

	meter libvirt.Meter

	dialling sync.Mutex
	conn     *ssh.Conn // nil before the first

	mu      sync.Mutex
	flights map[string]*flight // by the act's id
}

// Open begins a session with a host. It connects when it is first asked.
func (d *Connector) Open(_ context.Context, host string) (connector.Session, error) {
	return &session{by: d, host: host, flights: map[string]*flight{}}, nil
}

// dialled returns the connection, a new one where there is none that lives.
func (s *session) dialled(ctx context.Context) (*ssh.Conn, error) {
	s.dialling.Lock()
	defer s.dialling.Unlock()
	if s.conn != nil && !s.conn.Ended() {
		return s.conn, nil
	}
	if ctx.Err() != nil {
		return nil, fmt.Errorf("%s: %w in time", s.host, connector.ErrUnreachable)
	}
	conn, err := s.by.SSH.Dial(ctx, s.host)
	if err == nil {
		s.conn = conn
	}
	return conn, err
}

// Read reads the sections asked for, or all. The machine and its BMC are asked side by side.
func (s *session) Read(ctx context.Context, sections ...estate.SectionName) (*estate.Reading, error) {
	if len(sections) == 0 {
		sections = estate.SectionNames
	}
	bounded, cancel := context.WithTimeout(ctx, s.by.limit())
	defer cancel()
	var machine, board *estate.Reading
	var wait sync.WaitGroup
	wait.Go(func() { machine = s.machine(bounded, sections) })
	wait.Go(func() { board = s.by.bmc(bounded, s.host, sections) })
	wait.Wait()
	r := join(machine, board)
	r.Sort()
	return r, ctx.Err()
}

// Logs are the ends of the logs of the host and of its BMC.
func (s *session) Logs(ctx context.Context) (out []act.Log) {
	var board act.Log
	var wait sync.WaitGroup
	wait.Go(func() {
		b, err := s.by.client(ctx, s.host)
		if err != nil {
			board = act.Log{Of: act.LogBMC, Err: err.Error()}
			return
		}
		defer b.Close()
		board = b.Log(ctx)
	})
	conn, err := s.dialled(ctx)
	if err == nil {
		out, err = s.by.logs(ctx, conn, s.host)
	}
	if err != nil {
		out = []act.Log{{Of: act.LogHost, Err: err.Error()}}
	}
	wait.Wait()
	return append(out, board)
}

// Connect tries every way to the host.
func (s *session) Connect(ctx context.Context) []connector.Stage { return s.by.Connect(ctx, s.host) }

// Close lets go of the connection. What the host was told to do goes on there.
func (s *session) Close() error {
	s.dialling.Lock()
	defer s.dialling.Unlock()
	if s.conn != nil {
		s.conn.Close()
	}
	return nil
}

// guests connects to the host's libvirt with the right to change things.
func (s *session) guests(ctx context.Context) (*libvirt.Host, error) {
	conn, err := s.dialled(ctx)
	if err != nil {
		return nil, err
	}
	d := overSSH{conn, s.by.Sudo}
	ctx, cancel := context.WithTimeout(ctx, guestPatience)
	defer cancel()
	var tried error
	for _, path := range libvirt.Sockets[:libvirt.Writable] {
		c, err := d.socket(ctx, path)
		if err == nil {
			h, err := libvirt.Connect(ctx, c, libvirt.URI)
			return h, away(s.host, err)
		}
		tried = errors.Join(tried, err)
	}
	c, err := d.helper()
	if err == nil {
		var h *libvirt.Host
		if h, err = libvirt.Connect(ctx, c, libvirt.URI); err == nil {
			return h, nil
		}
	}
	if ctx.Err() != nil || conn.Ended() {
		return nil, away(s.host, err)
	}
	return nil, fmt.Errorf("libvirt of %s lets nobody in who changes things: %w", s.host, errors.Join(tried, err))
}

// away makes an error one of a libvirt that does not answer.
func away(host string, err error) error {
	if err == nil {
		return nil
	}
	return naming("libvirt of %s: %w (%v)", host, connector.ErrUnreachable, err)
}

// flight is a migration that this session began or found under way.
type flight struct {
	ended   chan struct{} // closed when libvirt's call has ended; nil where somebody else called
	err     error         // of the call, once it ended
	best    int           // the most that stood at the target, in percent
	watched bool
	gaveUp  string // why it was given up; empty where it was not
}

func (s *session) flight(id string) *flight {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.flights[id] == nil {
		s.flights[id] = &flight{}
	}
	return s.flights[id]
}

// beginning is how long libvirt may take to refuse a migration before that counts as begun.
const beginning = 800 * time.Millisecond

// move begins a migration and returns when it is under way, or was refused. libvirt goes on with it by itself.
func (s *session) move(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	h, err := s.guests(ctx)
	if err != nil {
		return connector.Receipt{}, err
	}
	if err := o.Still(); err != nil {
		h.Close()
		return connector.Receipt{}, err
	}
	f := s.flight(o.ID)
	s.mu.Lock()
	f.ended = make(chan struct{})
	s.mu.Unlock()
	go func() {
		err := h.Migrate(o.UID(), o.To, !o.Unslowed, s.by.Migration)
		h.Close()
		s.mu.Lock()
		f.err = err
		s.mu.Unlock()
		close(f.ended)
	}()
	s.watch(o.Act, f)
	select {
	case <-f.ended:
		if errors.Is(f.err, libvirt.ErrNoGuest) || f.err != nil && s.stayed(ctx, o.UID()) {
			return connector.Receipt{}, naming("%s refuses to move %s to %s: %w", s.host, o.Guest, o.To, f.err)
		}
	case <-time.After(beginning):
	case <-ctx.Done():
		return connector.Receipt{}, away(s.host, ctx.Err())
	}
	return connector.Receipt{Task: o.UID()}, nil
}

// stayed tells whether the guest is certainly here and nothing moves it.
func (s *session) stayed(ctx context.Context, id string) bool {
	h, err := s.guests(ctx)
	if err != nil {
		return false
	}
	defer h.Close()
	job, err := h.Job(id)
	return err == nil && !job.Leaves
}

// A migration does not converge where the guest writes as fast as its memory is sent: so many times that was gone
// through, and for so long, and each time as much had to be sent again. It is first let go without a limit, and given
// up after as much again.
const (
	rounds = 3
	vainly = 20 * time.Second
)

// progress is how a migration comes along, by what there is to send at the beginning of each time that the memory is
// gone through.
type progress struct {
	now, top uint64    // the time under way, and the most that was seen to be left in it, in bytes
	least    uint64    // of the tops of those before
	since    uint64    // the time in which the least was found
	from     time.Time // and when
	unbound  bool      // it may take all that there is
}

// verdict is what is to be done about a migration.
type verdict int

const (
	goOn verdict = iota
	letGo
	giveUp
)

// see takes in how the migration stands, and says what is to be done.
func (p *progress) see(remaining, iteration uint64, at time.Time) verdict {
	if p.from.IsZero() {
		p.from, p.now = at, iteration
	}
	if iteration == p.now {
		p.top = max(p.top, remaining)
		return goOn
	}
	if p.least == 0 || p.top < p.least-p.least/20 { // a twentieth less is progress
		p.least, p.since, p.from = max(p.top, 1), p.now, at
	}
	p.now, p.top = iteration, remaining
	switch {
	case iteration-p.since <= rounds || at.Sub(p.from) < vainly:
		return goOn
	case !p.unbound:
		p.unbound, p.since, p.from = true, iteration, at
		return letGo
	}
	return giveUp
}

// watch looks after a migration until it has ended: one that does not converge is given all the bandwidth that there
// is, and then given up.
func (s *session) watch(a act.Act, f *flight) {
	s.mu.Lock()
	begun := f.watched
	f.watched = true
	s.mu.Unlock()
	if begun {
		return
	}
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Hour)
		defer cancel()
		h, err := s.guests(ctx)
		if err != nil {
			return
		}
		defer h.Close()
		var p progress
		for {
			job, err := h.Job(a.UID())
			if err != nil || !job.Leaves && f.over() {
				return
			}
			s.mu.Lock()
			f.best = max(f.best, job.Percent())
			s.mu.Unlock()
			if job.Total > 0 {
				switch p.see(job.Remaining, job.Iteration, time.Now()) {
				case letGo:
					_ = h.Unbound(a.UID()) // where it can't be, it is given up below
				case giveUp:
					s.mu.Lock()
					f.gaveUp = fmt.Sprintf("it writes its memory as fast as that can be sent: given up at the %d. "+
						"time through it, with %d MiB to send at best", job.Iteration, p.least>>20)
					s.mu.Unlock()
					_ = h.Abort(a.UID()) // it is looked at again
				}
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(500 * time.Millisecond):
			}
		}
	}()
}

// over tells whether the call has ended, as far as this session knows.
func (f *flight) over() bool {
	if f.ended == nil {
		return true
	}
	select {
	case <-f.ended:
		return true
	default:
		return false
	}
}

// flown says how far a migration is, as the source knows it. Where the guest is, its two hosts say.
func (s *session) flown(ctx context.Context, a act.Act) (act.Trace, error) {
	f := s.flight(a.ID)
	h, err := s.guests(ctx)
	if err != nil {
		return act.Trace{Unasked: err.Error()}, nil
	}
	defer h.Close()
	stop := context.AfterFunc(ctx, h.Drop)
	defer stop()
	job, err := h.Job(a.UID())
	if err != nil && !errors.Is(err, libvirt.ErrNoGuest) {
		return act.Trace{Unasked: away(s.host, err).Error()}, nil
	}
	if job.Leaves {
		s.watch(a, f)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case job.Leaves:
		f.best = max(f.best, job.Percent())
		t := act.Trace{State: act.Runs, Task: a.UID(), Percent: min(f.best, 99)}
		if job.Percent() > 0 {
			t.Left = time.Duration(float64(job.Elapsed) / float64(job.Percent()) * float64(100-job.Percent()))
		}
		return t, nil
	case !f.over():
		return act.Trace{State: act.Runs, Task: a.UID(), Percent: min(f.best, 99)}, nil
	case f.gaveUp != "":
		return act.Trace{State: act.Broke, Error: f.gaveUp, Final: true}, nil
	case f.err != nil:
		return act.Trace{State: act.Broke, Error: f.err.Error()}, nil
	}
	return act.Trace{}, nil
}

var (
	_ connector.Opener = (*Connector)(nil)
	_ connector.Doer   = (*session)(nil)
	_ connector.Tester = (*session)(nil)
)
