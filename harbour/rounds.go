package harbour

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"time"

	"github.com/oklog/ulid/v2"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/program"
	"yareharbour/round"
	"yareharbour/store"
)

// journal reads a round's journal from its beginning, with the chain of its entries. Where it can't be trusted it
// returns what comes before, and a *course.Malformed.
func (h *house) journal(ctx context.Context, id string) (*course.State, *course.Chain, error) {
	chain := course.NewChain(id)
	events, err := h.rounds.Journal(ctx, id, chain)
	s, wrong := course.Fold(events)
	return s, chain, errors.Join(err, wrong)
}

// round folds the journal of a round.
func (h *house) round(ctx context.Context, id string) (*course.State, error) {
	s, _, err := h.journal(ctx, id)
	return s, err
}

// latest returns the newest round of a cluster, folded; nil and an empty head where there was none.
func (h *house) latest(ctx context.Context, cluster string) (*course.State, store.Round, error) {
	head, err := h.rounds.Latest(ctx, cluster)
	if errors.Is(err, store.ErrNoRound) {
		return nil, head, nil
	}
	if err != nil {
		return nil, head, err
	}
	s, err := h.round(ctx, head.ID)
	return s, head, err
}

// ErrLost is what running a round ends with whose lease is not held any more.
var ErrLost = store.ErrLost

// Start is what a round is started from.
type Start struct {
	// Brief is planned and carried out at once. Where Digest is given, the plan is the one of Brief.Cluster that was
	// shown under it.
	Brief  plan.Brief
	Digest string
	Reason string
	// TakeOver begins although hosts have taken orders that this store does not know of: the new lease is above theirs.
	TakeOver bool
}

// Start begins a round and runs it to its end. seen is called for every event. It refuses a cluster that may only be
// looked at, one whose lease is held, one with an unfinished round, a plan with an obstacle, and one whose facts have
// moved since it was shown.
func (h Rounds) Start(ctx context.Context, st Start, seen func(course.Event)) (*course.State, error) {
	c, err := h.Cluster(st.Brief.Cluster)
	if err != nil {
		return nil, err
	}
	if !c.Act {
		return nil, fmt.Errorf("a round over %s: the estate file allows looking at it only; say \"act: true\" for it "+
			"there to change that", c.Name)
	}
	lease, err := h.acquire(ctx, c, "", st.TakeOver)
	if err != nil {
		return nil, err
	}
	defer h.release(lease)
	if err := h.vacant(ctx, c.Name, st.TakeOver); err != nil {
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
	first := course.Event{At: h.Now(), Kind: course.Started, Round: id, Plan: p, By: h.By, From: h.From, Detail: st.Reason}
	if first, err = h.rounds.Begin(ctx, lease, id, first); err != nil {
		return nil, err
	}
	seen(first)
	return h.run(ctx, lease, id, seen)
}

// Resume goes on with the newest round of a cluster: after a pause or stop, after a failure that a person has seen to,
// or after the program died in the middle. What an intent without an outcome came to is looked up on the host, once
// that has been told of the new lease.
func (h Rounds) Resume(ctx context.Context, cluster string, seen func(course.Event)) (*course.State, error) {
	return h.goOn(ctx, cluster, seen, course.Event{Detail: course.AskGoOn})
}

// goOn takes the newest round of a cluster on, with what is asked of it, and runs it.
func (h *house) goOn(ctx context.Context, cluster string, seen func(course.Event),
	asked ...course.Event) (*course.State, error) {
	c, err := h.Cluster(cluster)
	if err != nil {
		return nil, err
	}
	s, head, err := h.latest(ctx, cluster)
	switch {
	case err != nil:
		return nil, fmt.Errorf("nothing is done by a journal that can't be trusted: %w%s", err, above(err, cluster))
	case s == nil:
		return nil, fmt.Errorf("%s had no round yet; begin one with \"yare round start %s\"", cluster, cluster)
	case s.Status == course.Finished:
		return nil, fmt.Errorf("the last round over %s (%s) is finished; there is nothing to resume",
			cluster, head.ID)
	}
	lease, err := h.acquire(ctx, c, head.ID, false)
	if err != nil {
		return nil, err
	}
	defer h.release(lease)
	for i, e := range append([]course.Event{{Kind: course.Taken}}, asked...) {
		if e.At, e.By, e.From = h.Now(), h.By, h.From; i > 0 {
			e.Kind = course.Asked
		}
		if e, _, err = h.rounds.Append(ctx, lease, head.ID, e); err != nil {
			return nil, err
		}
		seen(e)
	}
	return h.run(ctx, lease, head.ID, seen)
}

// above names what leads on where a round's journal is damaged; "" where it is not.
func above(err error, cluster string) string {
	if !errors.As(err, new(*course.Malformed)) {
		return ""
	}
	return fmt.Sprintf(". Where there is no better copy of the state directory, \"yare round start %s --take-over\" begins "+
		"a new one: what can be read of this one is kept, and hosts that it left closed are adopted with \"yare round adopt\"",
		cluster)
}

// Decide takes a person's decision about the newest round of a cluster. Where somebody runs it the decision is left for
// him, and what will happen is returned in words; else the round is taken on with it, and run on to its end.
func (h Rounds) Decide(ctx context.Context, cluster string, e course.Event,
	seen func(course.Event)) (*course.State, string, error) {
	e.Kind, e.By, e.From = course.Asked, h.By, h.From
	s, head, err := h.latest(ctx, cluster)
	switch {
	case err != nil:
		return nil, "", fmt.Errorf("nothing is decided by a journal that can't be trusted: %w%s", err, above(err, cluster))
	case s == nil:
		return nil, "", fmt.Errorf("%s had no round yet", cluster)
	}
	if why := s.Refuses(&e); why != "" {
		return nil, "", fmt.Errorf("round %s over %s: %s", head.ID, cluster, why)
	}
	if err := h.needed(s.Visit(e.Host), &e); err != nil {
		return nil, "", err
	}
	switch held, err := h.rounds.Holder(ctx, cluster); {
	case err != nil:
		return nil, "", err
	case held != nil:
		return nil, "it is left for process " + fmt.Sprint(held.PID) + " on " + held.Machine + ", which runs the round",
			h.rounds.Ask(ctx, head.ID, e)
	}
	asked := []course.Event{e}
	if e.Detail == course.AskDone || e.Detail == course.AskUndone { // whoever settles it wants the visit to go on
		asked = []course.Event{{Detail: course.AskGoOn}, e}
	}
	s, err = h.goOn(ctx, cluster, seen, asked...)
	return s, "", err
}

// needed refuses to leave a change out that another one requires.
func (h *house) needed(v *course.Visit, e *course.Event) error {
	if e.Detail != course.AskDrop || v.Before == nil {
		return nil
	}
	cat, err := h.today()
	if err != nil {
		return nil // what requires what is not known; proof holds the host to it all the same
	}
	without := v.Visit
	without.Changes = slices.DeleteFunc(slices.Clone(v.Changes), func(c act.Change) bool { return c.Title() == e.Of })
	before := v.Mismatches(cat, v.Before)
	for _, m := range without.Mismatches(cat, v.Before) {
		if !slices.ContainsFunc(before, func(o catalogue.Mismatch) bool { return o == m }) {
			return fmt.Errorf("%s can't be left out alone: %s; leave that out first", e.Of, m.Why)
		}
	}
	return nil
}

// closer is what is known here of the round that a host's mark names.
type closer int

// Of a round that is lost nothing can be read here; one is over where it has let the host go.
const (
	lost closer = iota
	over
	unfinished
)

// closerOf says it of a mark that names a round.
func (h *house) closerOf(ctx context.Context, host string, m *estate.Mark) (closer, error) {
	switch s, err := h.round(ctx, m.Round); {
	case errors.Is(err, store.ErrNoRound), errors.As(err, new(*course.Malformed)):
		return lost, nil
	case err != nil:
		return unfinished, err
	case s.Status == course.Finished || s.Visit(host) != nil && s.Visit(host).Over():
		return over, nil
	}
	return unfinished, nil
}

// Adopt begins a round over one host that a lost round left closed: its mark is made the new round's, the host is
// brought in line, proven and reopened. It refuses, and says whose mark the host carries, unless sure says that nobody
// else is at work.
func (h Rounds) Adopt(ctx context.Context, host, reason string, sure bool,
	seen func(course.Event)) (*course.State, error) {
	host, c, err := h.Host(host)
	if err != nil {
		return nil, err
	}
	r, err := connector.Read(ctx, h.world, host, estate.Host)
	if err != nil {
		return nil, err
	}
	switch {
	case !r.Reached():
		return nil, fmt.Errorf("adopting %s: it does not answer: %s", host, r.Section(estate.Host).Err)
	case r.Closed == nil:
		return nil, fmt.Errorf("adopting %s: it is not closed", host)
	case r.Closed.Round == "":
		return nil, fmt.Errorf("adopting %s: it was closed by %s (%s), outside any round: that is theirs to open. Ask them; "+
			"\"yare host take %s --yes\" makes it yours", host, r.Closed.By, r.Closed.Reason, host)
	}
	switch by, err := h.closerOf(ctx, host, r.Closed); {
	case err != nil:
		return nil, err
	case by == over:
		return nil, fmt.Errorf("adopting %s: its round %s is over, and has handed it over: \"yare host open %s\" proves and "+
			"opens it", host, r.Closed.Round, host)
	case by == unfinished:
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
	return h.Start(ctx, Start{Brief: b, Reason: reason, TakeOver: true}, seen)
}

// run carries a round on from its journal, renewing the lease meanwhile.
func (h *house) run(ctx context.Context, lease store.Lease, id string,
	seen func(course.Event)) (*course.State, error) {
	s, chain, err := h.journal(ctx, id)
	if err != nil {
		return nil, err
	}
	c, err := h.Cluster(lease.Cluster())
	if err != nil {
		return nil, err
	}
	known, err := h.readings.Newest(ctx, c.Hosts)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go hold(ctx, lease, cancel)
	j := &journal{store: h.rounds, lease: lease, round: id, seen: seen, sums: slices.Clone(chain.Sums())}
	served := &serving{h: h, round: id}
	defer served.close()
	r := round.Runner{Cluster: c, World: h.world, Journal: j, Lease: lease, Payloads: h.payloads,
		Keeper: keeper{h.keptDir(), h.keptAs}, Contradicts: j.contradicts, Known: known,
		Today: func(v *course.Visit, r *estate.Reading) course.Today {
			t := h.todayOf(&s.Plan, v, r)
			t.URLs, t.Unserved = served.urls(v)
			return t
		}, Reported: served.reported}
	err = r.Run(ctx, s)
	if kept := h.rounds.KeepTimes(context.WithoutCancel(ctx), id, s.Visits); kept != nil {
		slog.Warn("how long the steps took could not be kept", "error", kept)
	}
	if err != nil {
		return s, errors.Join(err, context.Cause(ctx))
	}
	// What was read before the round says little now.
	_, err = h.read(ctx, c.Hosts, nil)
	return s, err
}

// todayOf says what payload store, catalogue and baselines make of a visit now.
func (h *house) todayOf(p *plan.Plan, v *course.Visit, r *estate.Reading) course.Today {
	t := course.Today{Payloads: map[string]error{}, Withdrawn: map[int]string{}}
	if v.Phase == course.Checking {
		t.Programs, _ = p.Brief.Programs(program.Check)
		t.Unkept = h.unkept()
	}
	if v.Phase == course.Closing {
		t.Answers = answering(v)
	}
	cat, err := h.today()
	for i, c := range v.Changes {
		if c.Supplied() {
			t.Payloads[c.File] = h.payloads.Check(c.File, c.SHA256)
		}
		if err != nil { // what can't be read says nothing good
			t.Withdrawn[i] = "whether it is still there can't be told: " + err.Error()
			continue
		}
		track, _ := cat.TrackOf(c.Component, c.To, c.Model)
		if why := cat.WithdrawnFor(c.Component, c.To, track, c.Model); why != "" {
			t.Withdrawn[i] = why
		}
	}
	cl, ok := h.Estate.ClusterOf(v.Host)
	if err == nil && ok && v.Phase == course.Settling && p.Brief.Hand == nil && v.Extended < plan.MostFurther {
		if basis, err := h.basis(); err == nil && basis == p.Basis && h.Unreadable() == nil {
			h.further(p, cl, cat, v, r, &t)
		}
	}
	if err != nil || !ok || v.Phase != course.Checking || h.Unreadable() != nil { // it is judged for its prechecks
		return t
	}
	checker := h.Checker()
	checker.Catalogue = cat
	t.Own = h.askOwn(context.Background(), r, 0)
	if t.Waivers, err = h.waivers.Waivers(context.Background(), cl.Name); err != nil {
		t.Waivers = nil // what can't be read pardons nothing
	}
	t.Judged, t.Verdicts, t.Mismatches = true, checker.Host(cl.Name, r), v.Mismatches(cat, r)
	return t
}

// answering tells at which of the addresses that the visit's guests wait for something answers now.
func answering(v *course.Visit) map[string]bool {
	out := map[string]bool{}
	for i := range v.Rests {
		for _, at := range v.Rests[i].Addresses() {
			if _, known := out[at]; known {
				continue
			}
			conn, err := net.DialTimeout("tcp", at, time.Second)
			if out[at] = err == nil; err == nil {
				conn.Close()
			}
		}
	}
	return out
}

// furtherLimit is how long a host may take to say what more changes would do there.
const furtherLimit = 30 * time.Second

// further looks for what applies to a host beside what its visit makes, by the very releases and baselines that the
// round was planned by: what a round wants is frozen when it starts. What the host's package manager would not do, or
// can't be asked about, is left.
func (h *house) further(p *plan.Plan, c estate.Cluster, cat *catalogue.Catalogue, v *course.Visit, r *estate.Reading,
	t *course.Today) {
	checker := h.Checker()
	checker.Catalogue = cat
	in := plan.Input{Brief: p.Brief, Now: checker.Now, Cluster: c, Catalogue: cat, Below: checker.Below,
		Payloads: h.payloads.Check, Readings: map[string]*estate.Reading{v.Host: r},
		Verdicts: map[string][]drift.Verdict{v.Host: checker.Host(c.Name, r)}}
	t.More, t.Left = in.Further(v.Host, v.Changes, v.Passes, v.Empties)
	of := plan.Visit{Host: v.Host, Changes: t.More}
	packages := of.Packages()
	if len(packages) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), furtherLimit)
	defer cancel()
	for _, said := range h.resolution(ctx, v.Host, packages) {
		if why := cmp.Or(said.Says(), said.Unasked); why != "" {
			t.More = slices.DeleteFunc(t.More, func(c act.Change) bool {
				return slices.ContainsFunc(packages[c.Pass], c.Same)
			})
			t.Left, t.Along = append(t.Left, why), nil
			return
		}
		t.Along = append(t.Along, said.Along...)
	}
}

// Ask asks the running round of a cluster to pause or stop, or to leave a host out, and returns what will happen, in
// words.
func (h Rounds) Ask(ctx context.Context, cluster string, e course.Event) (string, error) {
	e.By, e.From = h.By, h.From
	what, host := e.Detail, e.Host
	if _, err := h.Cluster(cluster); err != nil && len(h.Estate.Clusters) > 0 {
		return "", err
	}
	s, head, err := h.latest(ctx, cluster)
	var cut *course.Malformed
	if err != nil && !errors.As(err, &cut) { // pausing and stopping work whatever became of the journal
		return "", err
	}
	if s != nil && s.Status != course.Running && s.Status != course.Finished {
		return "", fmt.Errorf("the round %s over %s %s, and nothing of it runs; \"yare round end %s\" ends it for good, and "+
			"\"yare round watch %s\" shows what else can be done", head.ID, cluster, s.Status, cluster, cluster)
	}
	if s == nil || s.Status != course.Running {
		return "", fmt.Errorf("no round runs over %s", cluster)
	}
	if held, err := h.rounds.Holder(ctx, cluster); err != nil {
		return "", err
	} else if held == nil {
		return "", fmt.Errorf("the round %s over %s is unfinished, but nobody runs it; resume it with \"yare round "+
			"resume %s\"", head.ID, cluster, cluster)
	}
	v := s.Visit(host)
	if what == course.AskSkip && (v == nil || v.Over()) {
		return "", fmt.Errorf("the round over %s has no visit to %q left that could be skipped", cluster, host)
	}
	if err := h.rounds.Ask(ctx, head.ID, e); err != nil {
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

// Journal is a round of a cluster as its journal tells it: the newest, or the one with the id.
func (h Rounds) Journal(ctx context.Context, cluster, id string) (r view.Round, err error) {
	if _, err := h.Cluster(cluster); err != nil {
		return r, err
	}
	if id == "" {
		head, err := h.rounds.Latest(ctx, cluster)
		if err != nil {
			return r, err
		}
		id = head.ID
	}
	r, err = h.whole(ctx, id)
	if errors.Is(err, store.ErrNoRound) || err == nil && r.State.Plan.Brief.Cluster != cluster {
		err = fmt.Errorf("there is no round %s over %s; \"yare round list\" shows those that there are", id, cluster)
	}
	return r, err
}

// whole is a round as its journal tells it, with its events; up to where it can be trusted, with why not further.
func (h *house) whole(ctx context.Context, id string) (view.Round, error) {
	events, err := h.rounds.Journal(ctx, id, course.NewChain(id))
	s, wrong := course.Fold(events)
	return view.Round{ID: id, State: s, Events: events}, errors.Join(err, wrong)
}

// List are the rounds that began in a period, the newest first; of one cluster where it is named. One whose journal
// can't be read to its end says so.
func (h *house) List(ctx context.Context, cluster string, in Period) (out []view.RoundLine, err error) {
	if cluster != "" {
		if _, err := h.Cluster(cluster); err != nil {
			return nil, err
		}
	}
	heads, err := h.rounds.Rounds(ctx, cluster)
	if err != nil {
		return nil, err
	}
	for _, head := range heads {
		if head.Started.Before(in.From) || !in.Until.IsZero() && !head.Started.Before(in.Until) {
			continue
		}
		if l, over := h.finished(head.ID); over {
			out = append(out, l)
			continue
		}
		r, err := h.whole(ctx, head.ID)
		l := view.RoundLine{ID: head.ID, Cluster: head.Cluster, Started: head.Started}
		if r.State.Seq > 0 {
			l = r.Line()
		}
		if err != nil {
			l.Wrong = err.Error()
		} else if r.State.Status == course.Finished { // nothing is written behind that
			h.looking.Lock()
			if h.looks.lines == nil {
				h.looks.lines = map[string]view.RoundLine{}
			}
			h.looks.lines[head.ID] = l
			h.looking.Unlock()
		}
		out = append(out, l)
	}
	return out, ctx.Err()
}

// finished is the line of a round that was found finished before.
func (h *house) finished(id string) (l view.RoundLine, ok bool) {
	h.looking.Lock()
	defer h.looking.Unlock()
	l, ok = h.looks.lines[id]
	return l, ok
}

// IDs are those of a cluster's rounds.
func (h Rounds) IDs(ctx context.Context, cluster string) (out []string, err error) {
	all, err := h.rounds.Rounds(ctx, cluster)
	for _, r := range all {
		out = append(out, r.ID)
	}
	return out, err
}

// ErrNobody is what watching a round ends with that nobody runs any more.
var ErrNobody = errors.New("nobody runs this round any more")

// watchEvery is how often a watcher looks at the journal.
const watchEvery = 200 * time.Millisecond

// Watch follows the newest round of a cluster from its journal until it stands still, and returns what it has come to.
// It only looks.
func (h Rounds) Watch(ctx context.Context, cluster string, seen func(course.Event)) (*course.State, error) {
	if _, err := h.Cluster(cluster); err != nil && len(h.Estate.Clusters) > 0 {
		return nil, err
	}
	head, err := h.rounds.Latest(ctx, cluster)
	if err != nil {
		return nil, err
	}
	s, chain := &course.State{}, course.NewChain(head.ID)
	for {
		events, err := h.rounds.Journal(ctx, head.ID, chain)
		for _, e := range events {
			seen(e)
			err = errors.Join(err, s.Apply(e))
		}
		if err != nil || s.Status != course.Running {
			return s, err
		}
		if len(events) == 0 {
			if held, err := h.rounds.Holder(ctx, cluster); err == nil && held == nil {
				return s, fmt.Errorf("%w; resume it with \"yare round resume %s\"", ErrNobody, cluster)
			}
		}
		select {
		case <-ctx.Done():
			return s, nil
		case <-time.After(watchEvery):
		}
	}
}

// Request asks the running round for something, of a host where that is about one, and says what will happen.
func (h Rounds) Request(ctx context.Context, cluster, what, host string) (string, error) {
	return h.Ask(ctx, cluster, course.Event{Detail: what, Host: host})
}
