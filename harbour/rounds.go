package harbour

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/oklog/ulid/v2"
	"golang.org/x/sync/errgroup"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/format/deb"
	"yareharbour/format/rpmfile"
	"yareharbour/round"
	"yareharbour/store"
)

// Plan reads the cluster and plans a round over it. Nothing is touched. The plan is kept under its digest, so that a
// round can be started from the very one that was shown.
func (h *Harbour) Plan(ctx context.Context, b plan.Brief) (plan.Plan, error) {
	p, err := h.plan(ctx, b)
	if err != nil {
		return p, err
	}
	if err := h.Rounds.KeepPlan(ctx, &p); err != nil {
		slog.Warn("the plan could not be kept: a round can't be started from it by its digest", "error", err)
	}
	return p, nil
}

func (h *Harbour) plan(ctx context.Context, b plan.Brief) (plan.Plan, error) {
	in, err := h.Gather(ctx, b)
	if err != nil {
		return plan.Plan{}, err
	}
	return plan.Make(*in), ctx.Err()
}

// Gather reads the cluster of a brief and brings together all that a plan is made from, what the hosts' own package
// managers say of it included. From it a plan for another brief can be made without reading anything. A brief that
// names what there is not is refused.
func (h *Harbour) Gather(ctx context.Context, b plan.Brief) (*plan.Input, error) {
	c, err := h.Cluster(b.Cluster)
	if err != nil {
		return nil, err
	}
	if err := h.Sound(); err != nil {
		return nil, fmt.Errorf("nothing is planned while this can't be read: %w", err)
	}
	readings, err := h.Read(ctx, c.Hosts, nil)
	if err != nil {
		return nil, err
	}
	times, err := h.Rounds.Times(ctx)
	if err != nil {
		return nil, err
	}
	waivers, err := h.Waivers.Waivers(ctx, c.Name)
	if err != nil {
		return nil, err
	}
	checker := h.Checker()
	in := plan.Input{Brief: b, Waivers: waivers, Now: h.World.Now(), MaxAge: MaxAge, Cluster: c, Readings: readings,
		Controller: h.controller(), Verdicts: h.Check(checker, readings), Below: checker.Below,
		Payloads: h.Payloads.Check, Times: times,
		Catalogue: h.Catalogue()}
	if err := errors.Join(in.Wrong(), h.controllerThere(ctx)); err != nil {
		return nil, err
	}
	in.Own = map[string][]precheck.Answer{}
	for host, r := range readings {
		in.Own[host] = h.askOwn(ctx, r, MaxAge)
	}
	p := plan.Make(in)
	in.Resolved = h.resolve(ctx, &p)
	return &in, ctx.Err()
}

// controller is the guest that this program runs in: the one that the estate file names, or the one with this machine's
// UUID. Where that is no guest of the cluster it means nothing.
func (h *Harbour) controller() string {
	if h.file.Controller != "" {
		return h.file.Controller
	}
	text, err := os.ReadFile("/sys/class/dmi/id/product_uuid")
	if err != nil {
		return "" // it is for root to read, and not every machine has one
	}
	return strings.ToLower(strings.TrimSpace(string(text)))
}

// controllerThere refuses where the estate file names a guest that this program runs in, and no host that was ever read
// has such a guest.
func (h *Harbour) controllerThere(ctx context.Context) error {
	name := h.file.Controller
	if name == "" {
		return nil
	}
	all, err := h.newest(ctx)
	if err != nil {
		return err
	}
	for _, r := range all {
		if slices.ContainsFunc(r.Guests, func(g estate.Guest) bool { return g.ID == name || g.Name == name }) {
			return nil
		}
	}
	return fmt.Errorf("the estate file says that this program runs in the guest %q, and no host has such a guest", name)
}

// resolve asks the hosts of a plan what its changes of packages would really do there, some at a time.
func (h *Harbour) resolve(ctx context.Context, p *plan.Plan) map[string]plan.Resolved {
	out := map[string]plan.Resolved{}
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(h.atOnce())
	for i := range p.Visits {
		v := &p.Visits[i]
		passes := v.Packages()
		if len(passes) == 0 {
			continue
		}
		g.Go(func() error {
			said := h.resolution(ctx, v.Host, passes)
			mu.Lock()
			defer mu.Unlock()
			out[v.Host] = plan.Resolved{Asked: passes, Said: said}
			return nil
		})
	}
	_ = g.Wait() // what could not be asked is in what was said
	return out
}

// resolution asks a host about the package changes of each pass.
func (h *Harbour) resolution(ctx context.Context, host string, passes map[int][]act.Change) (out []act.Resolution) {
	s, err := h.World.Open(ctx, host)
	if err != nil {
		return []act.Resolution{{Unasked: err.Error()}}
	}
	defer s.Close()
	for _, pass := range slices.Sorted(maps.Keys(passes)) {
		var wanted []connector.Wanted
		for _, c := range passes[pass] {
			w := connector.Wanted{Change: c}
			if c.File != "" {
				w.Control = func() ([]byte, error) { return h.control(c) }
			}
			wanted = append(wanted, w)
		}
		r := connector.Resolve(ctx, s, wanted)
		r.Pass = pass
		for i := range r.Along {
			r.Along[i].Pass = pass
		}
		out = append(out, r)
	}
	return out
}

// control is what a resolver looks at of a payload.
func (h *Harbour) control(c act.Change) ([]byte, error) {
	f, _, err := h.Payloads.Open(c.File, c.SHA256)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	read := deb.Control
	if c.Component.Kind() == "rpm" {
		read = rpmfile.Head
	}
	text, err := read(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c.File, err)
	}
	return text, nil
}

// Journal reads a round's journal from its beginning, with the chain of its entries. Where it can't be trusted it
// returns what comes before, and a *course.Malformed.
func (h *Harbour) Journal(ctx context.Context, id string) (*course.State, *course.Chain, error) {
	chain := course.NewChain(id)
	events, err := h.Rounds.Journal(ctx, id, chain)
	s, wrong := course.Fold(events)
	return s, chain, errors.Join(err, wrong)
}

// Round folds the journal of a round.
func (h *Harbour) Round(ctx context.Context, id string) (*course.State, error) {
	s, _, err := h.Journal(ctx, id)
	return s, err
}

// Latest returns the newest round of a cluster, folded; nil and an empty head where there was none.
func (h *Harbour) Latest(ctx context.Context, cluster string) (*course.State, store.Round, error) {
	head, err := h.Rounds.Latest(ctx, cluster)
	if errors.Is(err, store.ErrNoRound) {
		return nil, head, nil
	}
	if err != nil {
		return nil, head, err
	}
	s, err := h.Round(ctx, head.ID)
	return s, head, err
}

// NothingError is what starting a round gives when no host is to be visited. That every host is in line is only one of
// the reasons.
type NothingError struct{ Plan plan.Plan }

func (e *NothingError) Error() string {
	if e.Plan.InLine() {
		return fmt.Sprintf("a round over %s: there is nothing to do: every host is in line", e.Plan.Brief.Cluster)
	}
	s := fmt.Sprintf("a round over %s would visit no host, and not all of them are in line:", e.Plan.Brief.Cluster)
	for _, a := range e.Plan.Aside {
		s += fmt.Sprintf("\n  %s: %s", a.Host, a.Why)
	}
	return s
}

// MovedError is what starting a round gives when facts have moved since its plan was shown.
type MovedError struct {
	Cluster string
	Moved   []string
}

func (e *MovedError) Error() string {
	return fmt.Sprintf("the plan of %s that was shown is not what would be done now; look at a new one:\n  %s",
		e.Cluster, strings.Join(e.Moved, "\n  "))
}

// ContradictionError is what going on with a round gives when hosts know of orders that this store does not: its
// journal is not all that was written.
type ContradictionError struct {
	Cluster string
	Against []*course.Contradiction
}

func (e *ContradictionError) Error() string {
	var says []string
	for _, x := range e.Against {
		says = append(says, x.Why)
	}
	return fmt.Sprintf("hosts of %s have taken orders that are not in this state directory:\n  %s\n"+
		"See that no other runner is at work, and find the newer copy. Only where there is none: "+
		"\"yare round start %s --take-over\" begins anew, and \"yare round adopt HOST\" brings a host to its end "+
		"that was left closed", e.Cluster, strings.Join(says, "\n  "), e.Cluster)
}

// ErrObstacles is what starting a round gives when a visit can't be made as things stand.
var ErrObstacles = errors.New("the round can't be made as planned")

// journal binds the store's journal to one round and its lease.
type journal struct {
	store store.Rounds
	lease store.Lease
	round string
	seen  func(course.Event)

	mu   sync.Mutex
	sums []string // of the entries
}

func (j *journal) Append(ctx context.Context, e course.Event) (course.Event, string, error) {
	e, sum, err := j.store.Append(ctx, j.lease, j.round, e)
	if err != nil {
		return e, "", err
	}
	j.add(sum)
	j.seen(e)
	return e, sum, nil
}

func (j *journal) add(sum string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.sums = append(j.sums, sum)
}

func (j *journal) Take(ctx context.Context, now time.Time) ([]course.Event, error) {
	events, sums, err := j.store.Take(ctx, j.lease, j.round, now)
	for i, e := range events {
		j.add(sums[i])
		j.seen(e)
	}
	return events, err
}

func (j *journal) SetProgress(ctx context.Context, at time.Time, says []course.Said) error {
	return j.store.SetProgress(ctx, j.round, store.Progress{At: at, Says: says})
}

// contradicts returns how a reading shows that the journal is not all that was written.
func (j *journal) contradicts(r *estate.Reading) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	return course.Contradicts(r.Host, r.Guard, j.round, j.lease.Epoch(), j.sums)
}

// Start is what a round is started from.
type Start struct {
	// Brief is planned and carried out at once. Where Digest is given, the plan is the one of Brief.Cluster that was
	// shown under it.
	Brief  plan.Brief
	Digest string
	By     string
	Reason string
	// TakeOver begins although hosts have taken orders that this store does not know of: the new lease is above theirs.
	TakeOver bool
}

// Start begins a round and runs it to its end. seen is called for every event. It refuses a cluster that may only be
// looked at, one whose lease is held, one with an unfinished round, a plan with an obstacle, and one whose facts have
// moved since it was shown.
func (h *Harbour) Start(ctx context.Context, st Start, seen func(course.Event)) (*course.State, error) {
	c, err := h.Cluster(st.Brief.Cluster)
	if err != nil {
		return nil, err
	}
	if !c.Act {
		return nil, fmt.Errorf("a round over %s: the estate file allows looking at it only; say \"act: true\" for it "+
			"there to change that", c.Name)
	}
	lease, err := h.acquire(ctx, c, "", st.By, st.TakeOver)
	if err != nil {
		return nil, err
	}
	defer h.release(lease)
	if err := h.vacant(ctx, c.Name); err != nil {
		return nil, err
	}
	p, err := h.approved(ctx, st)
	if err != nil {
		return nil, err
	}
	if len(p.Visits) == 0 {
		return nil, &NothingError{*p}
	}
	if err := refuse(p); err != nil {
		return nil, err
	}
	id := ulid.Make().String()
	first := course.Event{At: h.World.Now(), Kind: course.Started, Round: id, Plan: p, By: st.By, Detail: st.Reason}
	if first, err = h.Rounds.Begin(ctx, lease, id, first); err != nil {
		return nil, err
	}
	seen(first)
	return h.run(ctx, lease, id, seen)
}

// vacant refuses where the cluster's last round still holds something.
func (h *Harbour) vacant(ctx context.Context, cluster string) error {
	last, head, err := h.Latest(ctx, cluster)
	if err != nil {
		return err
	}
	if last != nil && last.Status != course.Finished && last.Holds() {
		return fmt.Errorf("round %s over %s is not finished (%s) and holds a closed host, or an act of which it is "+
			"not known how it came out; go on with it: yare round resume %s",
			head.ID, cluster, last.Status, cluster)
	}
	return nil
}

// approved is the plan that is carried out: the one that was shown, if it is what would be done now, or else one that
// is made now.
func (h *Harbour) approved(ctx context.Context, st Start) (*plan.Plan, error) {
	if st.Digest == "" {
		p, err := h.Plan(ctx, st.Brief)
		return &p, err
	}
	shown, err := h.Rounds.Plan(ctx, st.Brief.Cluster, st.Digest)
	if err != nil {
		return nil, err
	}
	now, err := h.plan(ctx, shown.Brief)
	if err != nil {
		return nil, err
	}
	if moved := plan.Moved(shown, &now); len(moved) > 0 {
		return nil, &MovedError{st.Brief.Cluster, moved}
	}
	return shown, nil
}

// acquire takes the lease of a cluster, and holds what its hosts have taken against what this store knows: of the round
// with that id, where one is meant, and of epochs. Where taking over is meant, the lease is above whatever hosts know.
func (h *Harbour) acquire(ctx context.Context, c estate.Cluster, id, by string, takeOver bool) (store.Lease, error) {
	if h.unwritable != nil {
		return nil, fmt.Errorf("a round over %s keeps its journal in the state directory, and that can't be written: "+
			"%w", c.Name, h.unwritable)
	}
	term, err := h.file.LeaseTerm()
	if err != nil {
		return nil, err
	}
	lease, err := h.Rounds.Acquire(ctx, c.Name, store.Want{Term: term})
	if err != nil {
		return nil, err
	}
	against, err := h.contradictions(ctx, c, id, lease.Epoch()-1)
	if err == nil && len(against) == 0 {
		return lease, nil
	}
	h.release(lease)
	switch {
	case err != nil:
		return nil, err
	case !takeOver:
		return nil, &ContradictionError{c.Name, against}
	}
	above := int64(0)
	for _, x := range against {
		above = max(above, x.Epoch)
		if err := h.Rounds.TakeOver(ctx, x.Round, by, h.World.Now()); err != nil {
			return nil, err
		}
	}
	return h.Rounds.Acquire(ctx, c.Name, store.Want{Term: term, Above: above})
}

// contradictions are what hosts have taken of which this store does not know. Before any host is asked the journal is
// read: nobody writes in it while the lease is ours.
func (h *Harbour) contradictions(ctx context.Context, c estate.Cluster, id string,
	epoch int64) (out []*course.Contradiction, err error) {
	var sums []string
	if id != "" {
		_, chain, err := h.Journal(ctx, id)
		if err != nil {
			return nil, fmt.Errorf("nothing is done by a journal that can't be trusted: %w", err)
		}
		sums = chain.Sums()
	}
	seen, err := h.glance(ctx, c.Hosts)
	if err != nil {
		return nil, err
	}
	for _, host := range c.Hosts {
		g := seen[host].Guard
		known, err := h.Rounds.Knows(ctx, g.Round)
		if err != nil {
			return nil, err
		}
		var x *course.Contradiction
		switch err := course.Contradicts(host, g, id, epoch, sums); {
		case errors.As(err, &x):
			out = append(out, x)
		case err != nil:
			return nil, err
		case g.Round != "" && !known:
			out = append(out, &course.Contradiction{Host: host, Round: g.Round, Epoch: g.Epoch,
				Why: fmt.Sprintf("%s has taken orders of round %s, of which this store does not know: another "+
					"store's runner is or was at work", host, g.Round)})
		}
	}
	return out, nil
}

// glance asks the hosts what they say of themselves, and keeps nothing of it.
func (h *Harbour) glance(ctx context.Context, hosts []string) (map[string]*estate.Reading, error) {
	out := map[string]*estate.Reading{}
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(h.atOnce())
	for _, host := range hosts {
		g.Go(func() error {
			r, err := connector.Read(ctx, h.World, host, estate.Host)
			if err != nil {
				return fmt.Errorf("looking at %s: %w", host, err)
			}
			mu.Lock()
			defer mu.Unlock()
			out[host] = r
			return nil
		})
	}
	return out, g.Wait()
}

func refuse(p *plan.Plan) error {
	obstacles := p.Obstacles()
	if len(obstacles) == 0 {
		return nil
	}
	var lines, can []string
	for _, v := range p.Visits {
		if v.Obstacle == "" {
			can = append(can, v.Host)
		}
	}
	for _, v := range obstacles {
		lines = append(lines, fmt.Sprintf("  %s: %s (%s)", v.Host, v.Obstacle, v.WayOut))
	}
	hint := ""
	if len(can) > 0 {
		hint = "\nthe others could be visited alone: --hosts " + strings.Join(can, ",")
	}
	return fmt.Errorf("%w:\n%s%s", ErrObstacles, strings.Join(lines, "\n"), hint)
}

// Resume goes on with the newest round of a cluster: after a pause or stop, after a failure that a person has seen to,
// or after the program died in the middle. What an intent without an outcome came to is looked up on the host, once
// that has been told of the new lease.
func (h *Harbour) Resume(ctx context.Context, cluster, by string, seen func(course.Event)) (*course.State, error) {
	c, err := h.Cluster(cluster)
	if err != nil {
		return nil, err
	}
	s, head, err := h.Latest(ctx, cluster)
	switch {
	case err != nil:
		return nil, fmt.Errorf("nothing is done by a journal that can't be trusted: %w", err)
	case s == nil:
		return nil, fmt.Errorf("%s had no round yet; begin one with \"yare round start %s\"", cluster, cluster)
	case s.Status == course.Finished:
		return nil, fmt.Errorf("the last round over %s (%s) is finished; there is nothing to go on with",
			cluster, head.ID)
	}
	lease, err := h.acquire(ctx, c, head.ID, by, false)
	if err != nil {
		return nil, err
	}
	defer h.release(lease)
	for _, e := range []course.Event{{Kind: course.Taken}, {Kind: course.Asked, Detail: course.AskGoOn}} {
		e.At, e.By = h.World.Now(), by
		if e, _, err = h.Rounds.Append(ctx, lease, head.ID, e); err != nil {
			return nil, err
		}
		seen(e)
	}
	return h.run(ctx, lease, head.ID, seen)
}

// Adopt begins a round over one host that a lost round left closed: its mark is made the new round's, the host is
// brought in line, proven and reopened. It refuses, and says whose mark the host carries, unless sure says that nobody
// else is at work.
func (h *Harbour) Adopt(ctx context.Context, host, by, reason string, sure bool,
	seen func(course.Event)) (*course.State, error) {
	c, ok := h.Estate.ClusterOf(host)
	if !ok {
		_, err := h.Hosts(host)
		return nil, err
	}
	r, err := connector.Read(ctx, h.World, host, estate.Host)
	if err != nil {
		return nil, err
	}
	switch {
	case !r.Reached():
		return nil, fmt.Errorf("adopting %s: it does not answer: %s", host, r.Section(estate.Host).Err)
	case r.Closed == nil:
		return nil, fmt.Errorf("adopting %s: it is not closed", host)
	case r.Closed.Round == "":
		return nil, fmt.Errorf("adopting %s: it was closed by %s (%s), outside any round: that is theirs to open", host,
			r.Closed.By, r.Closed.Reason)
	}
	if _, err := h.Round(ctx, r.Closed.Round); !errors.Is(err, store.ErrNoRound) {
		return nil, fmt.Errorf("adopting %s: its round %s is in this state directory: resume it with \"yare round "+
			"resume %s\"", host, r.Closed.Round, c.Name)
	}
	if !sure {
		m := r.Closed
		return nil, fmt.Errorf("%s was closed at %s by %s for round %s (%s). See that no runner of that round is "+
			"still at work: its orders are refused from then on. "+
			"Then \"yare round adopt %s --yes\" brings the host to its end", host,
			m.At.Format("Mon 2 Jan 2006 15:04:05 MST"), m.By, m.Round, m.Reason, host)
	}
	b := plan.DefaultBrief(c)
	b.Hosts, b.Adopts = []string{host}, host
	return h.Start(ctx, Start{Brief: b, By: by, Reason: reason, TakeOver: true}, seen)
}

// run carries a round on from its journal, renewing the lease meanwhile.
func (h *Harbour) run(ctx context.Context, lease store.Lease, id string,
	seen func(course.Event)) (*course.State, error) {
	s, chain, err := h.Journal(ctx, id)
	if err != nil {
		return nil, err
	}
	c, err := h.Cluster(lease.Cluster())
	if err != nil {
		return nil, err
	}
	known, err := h.Readings.Newest(ctx, c.Hosts)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go renew(ctx, lease, cancel)
	j := &journal{store: h.Rounds, lease: lease, round: id, seen: seen, sums: slices.Clone(chain.Sums())}
	r := round.Runner{Cluster: c, World: h.World, Journal: j, Lease: lease, Payloads: h.Payloads,
		Keeper: keeper{h.keptDir(), h.keptAs}, Today: h.todayOf, Contradicts: j.contradicts, Known: known}
	err = r.Run(ctx, s)
	if kept := h.Rounds.KeepTimes(context.WithoutCancel(ctx), id, s.Visits); kept != nil {
		slog.Warn("how long the steps took could not be kept", "error", kept)
	}
	if err != nil {
		return s, errors.Join(err, context.Cause(ctx))
	}
	// What was read before the round says little now.
	_, err = h.Read(ctx, c.Hosts, nil)
	return s, err
}

// todayOf says what payload store, catalogue and baselines make of a visit now.
func (h *Harbour) todayOf(v *course.Visit, r *estate.Reading) course.Today {
	t := course.Today{Payloads: map[string]error{}, Withdrawn: map[int]string{}}
	cat, err := h.today()
	for i, c := range v.Changes {
		if c.File != "" {
			t.Payloads[c.File] = h.Payloads.Check(c.File, c.SHA256)
		}
		if err != nil { // what can't be read says nothing good
			t.Withdrawn[i] = "whether it still stands can't be told: " + err.Error()
			continue
		}
		track, _ := cat.TrackOf(c.Component, c.To, c.Model)
		if why := cat.WithdrawnFor(c.Component, c.To, track, c.Model); why != "" {
			t.Withdrawn[i] = why
		}
	}
	cl, ok := h.Estate.ClusterOf(v.Host)
	if err != nil || !ok || v.Phase != course.Checking || h.Sound() != nil { // it is judged for its prechecks
		return t
	}
	checker := h.Checker()
	checker.Catalogue = cat
	t.Own = h.askOwn(context.Background(), r, 0)
	if t.Waivers, err = h.Waivers.Waivers(context.Background(), cl.Name); err != nil {
		t.Waivers = nil // what can't be read pardons nothing
	}
	t.Judged, t.Verdicts, t.Mismatches = true, checker.Host(cl.Name, r), v.Mismatches(cat, r)
	return t
}

// renew keeps the lease. A runner that lost it must stop at once.
func renew(ctx context.Context, l store.Lease, cancel context.CancelCauseFunc) {
	t := time.NewTicker(l.Every())
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		err := l.Renew(ctx)
		if errors.Is(err, store.ErrLost) || l.Stands() != nil {
			cancel(store.ErrLost)
			return
		}
		if err != nil {
			slog.Warn("the lease could not be renewed; it is tried again", "cluster", l.Cluster(), "error", err)
		}
	}
}

func (h *Harbour) release(l store.Lease) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := l.Release(ctx); err != nil {
		slog.Warn("giving the lease back", "cluster", l.Cluster(), "error", err)
	}
}

// Ask asks the running round of a cluster to pause or stop, or to leave a host out, and returns what will happen, in
// words.
func (h *Harbour) Ask(ctx context.Context, cluster, what, host, by string) (string, error) {
	if _, err := h.Cluster(cluster); err != nil && len(h.Estate.Clusters) > 0 {
		return "", err
	}
	s, head, err := h.Latest(ctx, cluster)
	var cut *course.Malformed
	if err != nil && !errors.As(err, &cut) { // pausing and stopping work whatever became of the journal
		return "", err
	}
	if s == nil || s.Status != course.Running {
		return "", fmt.Errorf("no round runs over %s", cluster)
	}
	if held, err := h.Rounds.Holder(ctx, cluster); err != nil {
		return "", err
	} else if held == nil {
		return "", fmt.Errorf("the round %s over %s is unfinished, but nobody runs it; resume it with \"yare round "+
			"resume %s\"", head.ID, cluster, cluster)
	}
	v := s.Visit(host)
	if what == course.AskSkip && (v == nil || v.Over()) {
		return "", fmt.Errorf("the round over %s has no visit to %q left that could be skipped", cluster, host)
	}
	if err := h.Rounds.Ask(ctx, head.ID, what, host, by); err != nil {
		return "", err
	}
	switch {
	case what == course.AskSkip && v.Closed():
		return host + " is closed already: its visit is brought to its end", nil
	case what == course.AskSkip:
		return host + " is left out; guests that have moved away from it stay where they are", nil
	case what == course.AskStop:
		return "the round stops at the next safe point: a host that is closed is finished first", nil
	}
	return "the round pauses after the current host", nil
}
