// Package round carries rounds out. It has no policy: course.Next names what is to be recorded, begun and looked at;
// the runner does it through the connectors, feeds back what came of it, and wakes up when told to. What it remembers
// between two decisions are facts: the newest readings, and which calls are out.
package round

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/estate"
)

// Journal is where a runner writes. It refuses whoever does not hold the lease.
type Journal interface {
	// Append writes an event and returns it with its number, and the sum that its entry carries.
	Append(ctx context.Context, e course.Event) (course.Event, string, error)
	// Take writes down what people have asked of the round since it was last called, and returns that.
	Take(ctx context.Context, now time.Time) ([]course.Event, error)
	// SetProgress tells watchers how far things are.
	SetProgress(ctx context.Context, at time.Time, says []course.Said) error
}

// Lease is the right to act on the cluster.
type Lease interface {
	// Stands returns nil while it is certain that nobody else can have the lease, and why not otherwise.
	Stands() error
}

// Payloads gives payload files as streams. What comes out of one was verified before.
type Payloads interface {
	Open(file, sha256 string) (body io.ReadCloser, size int64, err error)
}

// Keeper takes what a host gives back, under the act's name, and returns its SHA-256 once it is safe on disk.
type Keeper interface {
	Keep(a act.Act, write func(io.Writer) error) (sha256 string, err error)
}

// Runner runs one round.
type Runner struct {
	Cluster  estate.Cluster
	World    connector.World
	Journal  Journal
	Lease    Lease
	Payloads Payloads
	Keeper   Keeper
	// Today says beside the rest what payload store, catalogue and baselines make of a visit, on the host's newest
	// reading.
	Today func(v *course.Visit, r *estate.Reading) course.Today
	// Reported is what the image that a host runs said last of how far it is; it may be nil. It proves nothing.
	Reported func(a act.Act) (percent int, says string)
	// Contradicts returns how a reading shows that the journal is not all that was written, and nil where it does not.
	// It may be nil itself.
	Contradicts func(r *estate.Reading) error
	// Known are the readings that were last kept of the hosts, by which their guests are known even where a host never
	// answers to this runner.
	Known map[string]*estate.Reading

	state    *course.State
	facts    course.Facts
	sessions map[string]connector.Session
	looking  map[string]bool // hosts that are being looked at
	logging  map[string]bool // hosts whose logs are being fetched, by whose visit it is for
	ticks    int64           // looks that came back
	came     chan func(context.Context) error
	reported time.Time
	wall     time.Time     // when this runner last found the time of day to be right
	lasted   time.Duration // how long the world had lasted by then
}

// Heard is how often the runner looks for requests, in our own time: whatever is under way, one is heard within a
// second.
const Heard = 300 * time.Millisecond

// Run goes on with the round from the state that its journal folds to, until it ends or the context does. A failed
// visit is no error: the state says so. An error means that the runner could not go on, and the journal tells how far
// it came.
func (r *Runner) Run(ctx context.Context, state *course.State) error {
	ctx, cancel := context.WithCancel(ctx)
	r.state, r.sessions, r.looking, r.came = state, map[string]connector.Session{}, map[string]bool{},
		make(chan func(context.Context) error)
	r.logging = map[string]bool{}
	r.facts = course.Facts{Hosts: r.Cluster.Hosts, Readings: map[string]*estate.Reading{}, Calls: map[string]bool{},
		Today: map[string]course.Today{}}
	for h, known := range r.Known {
		r.facts.Readings[h] = known
	}
	r.wall, r.lasted = r.World.Now(), r.World.Lasted()
	r.forget()
	err := r.loop(ctx)
	cancel()
	for len(r.looking)+len(r.logging)+len(r.facts.Calls) > 0 { // whatever is out ends with its context
		_ = (<-r.came)(ctx)
	}
	for _, s := range r.sessions {
		err = errors.Join(err, s.Close())
	}
	return err
}

func (r *Runner) loop(ctx context.Context) error {
	requests := time.NewTicker(Heard)
	defer requests.Stop()
	if err := r.take(ctx); err != nil {
		return err
	}
	for {
		wake, over, err := r.decide(ctx)
		if err != nil || over {
			return err
		}
		timer := r.timer(wake)
	waiting:
		for {
			select {
			case <-ctx.Done():
				err = ctx.Err()
			case then := <-r.came:
				err = then(ctx)
				break waiting
			case <-timer.C:
				r.forget()
				break waiting
			case <-requests.C:
				before := r.state.Seq
				if err = r.take(ctx); r.state.Seq != before {
					break waiting
				}
			}
			if err != nil {
				break
			}
		}
		timer.Stop()
		if err != nil {
			return err
		}
	}
}

// timer rings after so long of the estate's time; 0 never does.
func (r *Runner) timer(after time.Duration) *time.Timer {
	if after == 0 {
		after = 24 * time.Hour
	}
	return time.NewTimer(max(time.Duration(float64(after)/max(r.World.Speed(), 0.001)), 2*time.Millisecond))
}

// forget lets go of what was seen: from now on only what is looked at anew counts as seen.
func (r *Runner) forget() {
	r.facts.Read, r.facts.Traces = map[string]map[estate.SectionName]course.Sight{}, map[string]course.Traced{}
}

// decide asks what is to be done until there is nothing to record, and starts it.
func (r *Runner) decide(ctx context.Context) (wake time.Duration, over bool, err error) {
	for {
		if r.facts.Now, err = r.now(ctx); err != nil {
			return 0, false, err
		}
		r.facts.Lease = r.Lease.Stands() == nil
		d := course.Next(r.state, r.facts)
		if d.End != nil {
			_, err := r.append(ctx, *d.End)
			return 0, true, err
		}
		for _, e := range d.Record {
			if _, err := r.append(ctx, e); err != nil {
				return 0, false, err
			}
		}
		for _, a := range d.Begin {
			if err := r.begin(ctx, a); err != nil {
				return 0, false, err
			}
		}
		for _, l := range d.Look {
			r.look(ctx, l)
		}
		for _, l := range d.Logs {
			r.fetch(ctx, l)
		}
		if len(d.Look) == 0 { // else what is to be told is only being looked up
			r.tell(ctx, d.Says)
		}
		if len(d.Record) == 0 {
			return d.Wake, false, nil
		}
	}
}

// leap is by how much the time of day may be off what passed before that counts as a leap. It is far below every
// patience, and above what a clock is slewed by in a round.
const leap = 20 * time.Second

// now is the time of day. If it leapt since it was last asked, that is written down first, so that all entries between
// two leaps go by one clock.
func (r *Runner) now(ctx context.Context) (time.Time, error) {
	now, lasted := r.World.Now(), r.World.Lasted()
	by := now.Sub(r.wall) - (lasted - r.lasted)
	if by.Abs() < leap {
		return now, nil
	}
	r.wall, r.lasted = now, lasted
	_, err := r.write(ctx, now, course.Event{Kind: course.Leapt, Leap: by})
	return now, err
}

func (r *Runner) append(ctx context.Context, e course.Event) (sum string, err error) {
	now, err := r.now(ctx)
	if err != nil {
		return "", err
	}
	return r.write(ctx, now, e)
}

func (r *Runner) write(ctx context.Context, now time.Time, e course.Event) (sum string, err error) {
	e.At, e.V, e.Epoch = now, course.Schema, r.state.Epoch
	if e.Kind == course.Failed {
		e.Again = r.state.Again(&e)
	}
	if e, sum, err = r.Journal.Append(ctx, e); err != nil {
		return "", err
	}
	return sum, r.state.Apply(e)
}

func (r *Runner) take(ctx context.Context) error {
	now, err := r.now(ctx)
	if err != nil {
		return err
	}
	asked, err := r.Journal.Take(ctx, now)
	for _, e := range asked {
		err = errors.Join(err, r.state.Apply(e))
	}
	return err
}

// tell writes progress for those who watch, at most a few times a second: it must never slow the work down.
func (r *Runner) tell(ctx context.Context, says []course.Said) {
	if time.Since(r.reported) < 200*time.Millisecond {
		return
	}
	r.reported = time.Now()
	_ = r.Journal.SetProgress(ctx, r.World.Now(), says) // for looking at only
}

func (r *Runner) session(ctx context.Context, host string) (connector.Session, error) {
	if s, ok := r.sessions[host]; ok {
		return s, nil
	}
	s, err := r.World.Open(ctx, host)
	if err == nil {
		r.sessions[host] = s
	}
	return s, err
}

// asking is how long the logs of a failure may take, in our own time: they help, and nothing hangs on them.
const asking = 15 * time.Second

// fetch writes down the ends of the logs of the host at which a visit failed.
func (r *Runner) fetch(ctx context.Context, l course.Culprit) {
	if r.logging[l.Visit] {
		return
	}
	r.logging[l.Visit] = true
	s, err := r.session(ctx, l.Host)
	go func() {
		ask := func() ([]act.Log, error) {
			if err != nil {
				return nil, nil
			}
			ctx, cancel := context.WithTimeout(ctx, asking)
			defer cancel()
			return l.Kind.Foremost(connector.Logs(ctx, s)), nil
		}
		logs, _, hangs := within(ctx, asking+grace, ask, func() ([]act.Log, error) { return nil, nil })
		r.came <- func(ctx context.Context) error {
			delete(r.logging, l.Visit)
			r.lost(l.Host, s, hangs)
			if ctx.Err() != nil {
				return nil // whoever goes on with the round asks for them
			}
			_, err := r.append(ctx, course.Event{Kind: course.Logged, Host: l.Visit, Logs: logs})
			return err
		}
	}()
}

// look looks at a host beside whatever else is under way. One that is being looked at already is not asked again.
func (r *Runner) look(ctx context.Context, l course.Look) {
	if r.looking[l.Host] {
		return
	}
	r.looking[l.Host] = true
	since := course.Sight{Seq: r.state.Seq, Tick: r.ticks}
	open := map[string]course.Pending{}
	for _, p := range r.state.Open {
		open[p.Act.ID] = p
	}
	was := r.facts.Readings[l.Host]
	var visit *course.Visit
	if v := r.state.Visit(l.Host); v != nil && v.Under() {
		own := *v
		visit = &own
	}
	s, opened := r.session(ctx, l.Host)
	see := func() (saw sight, err error) {
		saw, err = sight{host: l.Host, since: since, sections: l.Sections, traces: map[string]act.Trace{}}, opened
		for _, id := range l.Traces {
			saw.traces[id] = act.Trace{Unasked: "this kind of host is only looked at"}
			if d, ok := connector.As[connector.Doer](s); ok && err == nil {
				trace, wrong := d.Trace(ctx, open[id].Act, open[id].Task)
				if r.Reported != nil && open[id].Act.Kind == act.Boot {
					trace.Percent, trace.Said = r.Reported(open[id].Act)
				}
				saw.traces[id], err = trace, wrong
			}
		}
		if err == nil && len(l.Sections) > 0 {
			if saw.reading, err = s.Read(ctx, l.Sections...); err == nil {
				saw.reading = saw.reading.Over(was)
			}
		}
		if saw.reading != nil && visit != nil {
			today := r.Today(visit, saw.reading)
			saw.today = &today
		}
		return saw, err
	}
	late := func() (sight, error) {
		saw := sight{host: l.Host, since: since, sections: l.Sections, traces: map[string]act.Trace{}}
		why := fmt.Errorf("nothing came within %s: it %w", lookLimit, connector.ErrUnreachable)
		for _, id := range l.Traces {
			saw.traces[id] = act.Trace{Unasked: why.Error()}
		}
		if len(l.Sections) > 0 {
			saw.reading = connector.Unreached(l.Host, "", r.World.Now(), why, l.Sections...).Over(was)
		}
		return saw, nil
	}
	go func() {
		saw, err, hangs := within(ctx, lookLimit, see, late)
		r.came <- func(context.Context) error {
			delete(r.looking, l.Host)
			r.lost(l.Host, s, hangs)
			if err != nil {
				return fmt.Errorf("looking at %s: %w", l.Host, err)
			}
			r.saw(saw)
			return nil
		}
	}()
}

// lookLimit is how long a look may take, in our own time. Connectors end within limits of their own; this is for one
// that does not.
const lookLimit = 3 * time.Minute

// grace is how long a call has to end once its context has.
const grace = 5 * time.Second

// within makes a call that must not hang the round: where it does not end in time it is left to itself, and what is late
// stands for it.
func within[T any](ctx context.Context, most time.Duration, call, late func() (T, error)) (v T, err error, hangs bool) {
	type came struct {
		v   T
		err error
	}
	out := make(chan came, 1)
	go func() {
		v, err := call()
		out <- came{v, err}
	}()
	timer := time.NewTimer(most)
	defer timer.Stop()
	done := ctx.Done()
	for {
		select {
		case c := <-out:
			return c.v, c.err, false
		case <-done:
			done = nil
			timer.Reset(min(grace, most))
		case <-timer.C:
			v, err = late()
			return v, err, true
		}
	}
}

// lost lets go of a session in which a call hangs: the next one begins anew.
func (r *Runner) lost(host string, s connector.Session, hangs bool) {
	if hangs && r.sessions[host] == s {
		delete(r.sessions, host)
		go s.Close() // it may hang too
	}
}

// sight is what a look found.
type sight struct {
	host     string
	since    course.Sight // when it began
	sections []estate.SectionName
	reading  *estate.Reading // nil where none was asked for
	traces   map[string]act.Trace
	today    *course.Today
}

// saw takes in what a look found.
func (r *Runner) saw(got sight) {
	r.ticks++
	for id, t := range got.traces {
		r.facts.Traces[id] = course.Traced{Trace: t, Sight: course.Sight{Seq: got.since.Seq, Tick: r.ticks}}
	}
	if got.reading == nil {
		return
	}
	r.facts.Readings[got.host] = got.reading
	if r.facts.Read[got.host] == nil {
		r.facts.Read[got.host] = map[estate.SectionName]course.Sight{}
	}
	for _, s := range got.sections {
		r.facts.Read[got.host][s] = got.since
	}
	if r.Contradicts != nil && r.facts.Contradiction == nil {
		r.facts.Contradiction = r.Contradicts(got.reading)
	}
	if got.today != nil {
		r.facts.Today[got.host] = *got.today
	}
}

// begin writes the intent of an act down and starts its call. Between the two it proves once more that the lease
// stands.
func (r *Runner) begin(ctx context.Context, a act.Act) error {
	if err := r.Lease.Stands(); err != nil {
		return err
	}
	sum, err := r.append(ctx, course.Event{Kind: course.Intent, Act: &a})
	if err != nil {
		return err
	}
	o := connector.Order{Act: a, Entry: r.state.Seq, Sum: sum}
	s, err := r.session(ctx, a.Host)
	if err != nil {
		return err
	}
	r.facts.Calls[a.ID] = true
	go func() {
		most := limit + grace
		if a.Change != nil {
			most += time.Duration(a.Change.Size>>20) * time.Second
		}
		receipt, err, hangs := within(ctx, most,
			func() (connector.Receipt, error) { return r.do(ctx, s, o) },
			func() (out connector.Receipt, err error) {
				return out, fmt.Errorf("no answer came in time: %w", connector.ErrUnreachable)
			})
		r.came <- func(ctx context.Context) error {
			delete(r.facts.Calls, a.ID)
			r.lost(a.Host, s, hangs)
			return r.answered(ctx, a, receipt, err)
		}
	}()
	return nil
}

// limit is how long the call of an order may take at most, beside a second for each MiB that it carries.
const limit = 2 * time.Minute

// do sends one order.
func (r *Runner) do(ctx context.Context, s connector.Session,
	o connector.Order) (receipt connector.Receipt, err error) {
	d, ok := connector.As[connector.Doer](s)
	if !ok {
		return receipt, fmt.Errorf("%s on %s: %w", o.Says(), o.Host, connector.ErrLookOnly)
	}
	rules := o.Kind.Of().Rules()
	if rules.Carries {
		file, sum, _ := o.Carried()
		body, size, err := r.Payloads.Open(file, sum)
		if err != nil {
			return receipt, err
		}
		defer body.Close()
		o.Payload, o.Size = body, size
	}
	ctx, cancel := context.WithTimeout(ctx, limit+time.Duration(o.Size>>20)*time.Second)
	defer cancel()
	o.Held = r.Lease.Stands
	if err := o.Still(); err != nil {
		return receipt, err
	}
	if !rules.Gives {
		return d.Do(ctx, o)
	}
	sum, err := r.Keeper.Keep(o.Act, func(w io.Writer) error {
		o.Keep = w
		var err error
		receipt, err = d.Do(ctx, o)
		return err
	})
	if err == nil && receipt.SHA256 != sum {
		err = fmt.Errorf("what was kept has the SHA-256 %s, and %s says %s", sum, o.Host, receipt.SHA256)
	}
	return receipt, err
}

// answered writes down what became of a call. What ended without an answer is not known to have failed.
func (r *Runner) answered(ctx context.Context, a act.Act, receipt connector.Receipt, err error) error {
	e := course.Event{Kind: course.Accepted, Act: &a, Task: receipt.Task, SHA256: receipt.SHA256}
	switch {
	case ctx.Err() != nil:
		return ctx.Err() // how it came out is not known here: it will be looked up on the host
	case errors.Is(err, connector.ErrStale), errors.Is(err, connector.ErrLapsed):
		return err
	case errors.Is(err, connector.ErrUnreachable), errors.Is(err, context.DeadlineExceeded),
		errors.Is(err, connector.ErrKnown):
		e = course.Event{Kind: course.Unanswered, Act: &a, Detail: err.Error()}
	case err != nil:
		e = course.Event{Kind: course.Failed, Act: &a, Detail: err.Error(), Remedy: a.Kind.Of().Rules().Remedy}
	}
	_, err = r.append(ctx, e)
	return err
}
