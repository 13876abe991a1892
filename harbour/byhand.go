package harbour

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
	"yareharbour/store"
)

// ByHand is what a person does to one host: the steps of a visit without changes, through the same gates, journal,
// certificate and proof as a round's.
type ByHand struct {
	Host  string
	Does  plan.Does
	Brief plan.Brief // its cluster's usual one, or what the person asked for
	// Drain has the guests of a host that is to be emptied move away; without it one on which guests run is refused.
	Drain bool
	Until time.Time
	// Home has the guests come back that an earlier visit by hand moved away.
	Home bool
	// Tasks are those of its BMC that are cleared; all that wait there where none is named.
	Tasks []string
	// Guests are those, by name or UUID, whose snapshots are removed; all that rounds made there where none is named.
	Guests []string
	// Files are those of its kept configuration that are put back.
	Files *act.Files
	// Sure says that a closing that is somebody else's may be taken.
	Sure   bool
	Reason string
}

// Work does it, as the one who opened the estate. It refuses what would surprise whoever else is at work on the host, and says who that is.
func (h Rounds) Work(ctx context.Context, w ByHand, seen func(course.Event)) (*course.State, error) {
	host, c, err := h.Host(w.Host)
	if err != nil {
		return nil, err
	}
	w.Host = host
	if strings.TrimSpace(w.Reason) == "" {
		return nil, fmt.Errorf("%s %s: it needs a reason: it is kept on the host and in the journal", w.Does, w.Host)
	}
	r, err := connector.Read(ctx, h.world, host, estate.Host, estate.GuestList)
	if err != nil {
		return nil, err
	}
	if !r.Reached() {
		return nil, fmt.Errorf("%s %s: it does not answer: %s", w.Does, w.Host, r.Section(estate.Host).Err)
	}
	b := w.Brief
	b.Cluster, b.Hosts, b.Hand = c.Name, []string{w.Host}, &plan.Hand{Does: w.Does, Until: w.Until}
	takeOver, err := h.mayWork(ctx, c, &w, r)
	if err != nil {
		return nil, fmt.Errorf("%s %s: %w", w.Does, w.Host, err)
	}
	if r.Closed != nil {
		b.Adopts = w.Host
	}
	switch w.Does {
	case plan.HandOpen:
		err = h.left(ctx, &w, b.Hand)
	case plan.HandRestore:
		b.Hand.Files = w.Files
	case plan.HandUncopy:
		b.Hand.Guests, err = copied(r, w.Guests)
	case plan.HandClear:
		b.Hand.Tasks, err = h.waiting(ctx, w.Host, w.Tasks)
	}
	if err != nil {
		return nil, err
	}
	return h.Start(ctx, Start{Brief: b, Reason: w.Reason, TakeOver: takeOver}, seen)
}

// mayWork says why the work can't be done to the host as it stands; takeOver tells that it is closed by a round of which
// nothing is known here.
func (h *house) mayWork(ctx context.Context, c estate.Cluster, w *ByHand, r *estate.Reading) (takeOver bool, err error) {
	m := r.Closed
	switch {
	case m == nil && w.Does == plan.HandRestore:
		return false, fmt.Errorf("it is open, and guests may run on it: \"yare host close %s --drain\" empties and closes it first", w.Host)
	case m == nil && (w.Does == plan.HandOpen || w.Does == plan.HandTake):
		return false, errors.New("it is not closed")
	case m != nil && w.Does == plan.HandClose:
		return false, fmt.Errorf("it is closed already, by %s since %s (%s)", m.By,
			m.At.Format("Mon 2 Jan 15:04 MST"), m.Reason)
	}
	if m == nil {
		guests := r.Holding()
		if len(guests) == 0 || w.Drain || w.Does == plan.HandClear || w.Does == plan.HandUncopy {
			return false, nil
		}
		var names []string
		for _, g := range guests {
			names = append(names, g.Name)
		}
		return false, fmt.Errorf("%s on it: %s. --drain moves them away first", catalogue.Some(len(guests), "guest"),
			strings.Join(names[:min(len(names), 6)], ", "))
	}
	whose := fmt.Sprintf("it was closed by %s at %s: %s", m.By, m.At.Format("Mon 2 Jan 15:04 MST"), m.Reason)
	if m.Round == "" {
		if m.By == h.By || w.Does == plan.HandTake && w.Sure {
			return false, nil
		}
		return false, fmt.Errorf("%s. Ask them; \"yare host take %s --yes\" makes it yours", whose, w.Host)
	}
	switch by, err := h.closerOf(ctx, w.Host, m); {
	case err != nil:
		return false, err
	case by == lost:
		if w.Does != plan.HandTake || !w.Sure {
			return false, fmt.Errorf("%s, for round %s, of which nothing is known here. See that no runner of it is at work; "+
				"then \"yare host take %s --yes\" makes it yours", whose, m.Round, w.Host)
		}
		return true, nil
	case by == over:
		return false, nil // it was handed over, and could not be told so
	}
	return false, fmt.Errorf("%s, for round %s, which is not finished: \"yare round hand-over %s %s\" makes it "+
		"yours", whose, m.Round, c.Name, w.Host)
}

// left finds what earlier visits left to be undone on a host that is to be opened: guests that rest, and, where that is
// asked for, those that moved away.
func (h *house) left(ctx context.Context, w *ByHand, to *plan.Hand) error {
	readings, err := h.newest(ctx)
	if err != nil {
		return err
	}
	rounds, debts, err := h.debts(ctx, readings)
	if err != nil {
		return err
	}
	for _, d := range debts {
		for _, a := range d.Acts {
			if d.Host == w.Host && !d.Later && !slices.ContainsFunc(to.Owes, func(o act.Act) bool { return o.Of() == a.Of() }) {
				to.Owes = append(to.Owes, a)
			}
		}
	}
	for _, s := range rounds {
		v := s.Visit(w.Host)
		if !w.Home || v == nil || v.Phase != course.HandedOver {
			continue
		}
		for _, m := range v.Moved() {
			if !slices.ContainsFunc(to.Home, func(o fit.Move) bool { return o.UID() == m.UID() }) {
				to.Home = append(to.Home, fit.Move{ID: m.ID, Guest: m.Guest, From: m.To, To: m.From})
			}
		}
	}
	return nil
}

// Clear takes tasks out of the queue of the host's BMC: in the round that failed there, which then goes on, or else by
// hand. left says so where somebody else's process will do it.
func (h Rounds) Clear(ctx context.Context, w ByHand, seen func(course.Event)) (s *course.State, left string, err error) {
	w.Does = plan.HandClear
	host, c, err := h.Host(w.Host)
	if err != nil {
		return nil, "", err
	}
	w.Host = host
	s, _, err = h.latest(ctx, c.Name)
	if err != nil || s == nil || s.Status != course.Failing && s.Status != course.Running || s.Visit(w.Host) == nil ||
		s.Visit(w.Host).Over() {
		s, err = h.Work(ctx, w, seen) // it says too why a journal can't be trusted
		return s, "", err
	}
	tasks, err := h.waiting(ctx, w.Host, w.Tasks)
	if err != nil {
		return nil, "", err
	}
	return h.Decide(ctx, c.Name, course.Event{Detail: course.AskClear, Host: w.Host, Tasks: tasks,
		Reason: w.Reason}, seen)
}

// Logs are the ends of the logs of a host and of its BMC, as they are now.
func (h Looking) Logs(ctx context.Context, name string) ([]act.Log, error) {
	host, _, err := h.Host(name)
	if err != nil {
		return nil, err
	}
	s, err := h.world.Open(ctx, host)
	if err != nil {
		return nil, err
	}
	return connector.Logs(ctx, s), s.Close()
}

// Tasks are what waits or runs at the BMC of a host, as it says now.
func (h Looking) Tasks(ctx context.Context, name string) ([]estate.BMCTask, error) {
	host, _, err := h.Host(name)
	if err != nil {
		return nil, err
	}
	r, err := connector.Read(ctx, h.world, host, estate.BMCState)
	if err != nil {
		return nil, err
	}
	if why := r.Section(estate.BMCState).Err; why != "" {
		return nil, fmt.Errorf("the BMC of %s can't be asked: %s", host, why)
	}
	return r.BMC.Waiting, nil
}

// waiting are the tasks with these ids that wait at the host's BMC, or all.
func (h *house) waiting(ctx context.Context, host string, ids []string) ([]string, error) {
	tasks, err := Looking{h}.Tasks(ctx, host)
	if err != nil {
		return nil, err
	}
	waits := (&estate.BMC{Waiting: tasks}).Waits()
	for _, id := range ids {
		if !slices.Contains(waits, id) {
			return nil, fmt.Errorf("no task %q waits at the BMC of %s: there are %s", id, host,
				cmp.Or(strings.Join(waits, ", "), "none"))
		}
	}
	if len(waits) == 0 {
		return nil, fmt.Errorf("nothing waits at the BMC of %s", host)
	}
	if len(ids) > 0 {
		return ids, nil
	}
	return waits, nil
}

// copied are the guests of the host, by UID, that have snapshots which rounds made, or those named.
func copied(r *estate.Reading, names []string) (out []string, err error) {
	if why := r.Section(estate.GuestList).Err; why != "" {
		return nil, fmt.Errorf("which guests are on it can't be read: %s", why)
	}
	left := slices.Clone(names)
	for i := range r.Guests {
		g := &r.Guests[i]
		ours := slices.ContainsFunc(g.Snapshots, func(s estate.Snapshot) bool { return s.Round != "" })
		named := func(name string) bool { return name == g.Name || name == g.ID }
		if ours && (len(names) == 0 || slices.ContainsFunc(names, named)) {
			out = append(out, g.UID())
			left = slices.DeleteFunc(left, named)
		}
	}
	switch {
	case len(left) > 0:
		return nil, fmt.Errorf("no guest %q on it has a snapshot that a round made", left[0])
	case len(out) == 0:
		return nil, errors.New("no guest on it has a snapshot that a round made")
	}
	return out, nil
}

// Owed is what rounds and work by hand left to be undone, as far as the newest readings do not show that it was.
// Without a cluster it is of all.
func (h Looking) Owed(ctx context.Context, cluster string) ([]course.Debt, error) {
	if cluster != "" {
		if _, err := h.Cluster(cluster); err != nil {
			return nil, err
		}
	}
	readings, err := h.newest(ctx)
	if err != nil {
		return nil, err
	}
	all, err := h.owed(ctx, readings)
	return slices.DeleteFunc(all, func(d course.Debt) bool { return cluster != "" && d.Cluster != cluster }), err
}

// owed is Owed, by these readings.
func (h *house) owed(ctx context.Context, readings map[string]*estate.Reading) (out []course.Debt, err error) {
	_, debts, err := h.debts(ctx, readings)
	said := map[string]bool{}
	for _, d := range debts {
		if d.Later || !said[d.Host] { // a later visit knows better whose the host is, and has taken on what was owed before
			out = append(out, d)
		}
		said[d.Host] = said[d.Host] || !d.Later
	}
	if err != nil {
		return out, err
	}
	for _, c := range h.Estate.Clusters {
		for _, host := range c.Hosts {
			if r := readings[host]; r != nil {
				out = unknown(c.Name, r, readings, out)
			}
		}
	}
	return out, nil
}

// unknown adds what a host's own ledger says is owed and no journal here does: of a round that is lost.
func unknown(cluster string, r *estate.Reading, readings map[string]*estate.Reading,
	debts []course.Debt) []course.Debt {
	for i := range r.Guests {
		g := &r.Guests[i]
		for _, s := range g.Snapshots {
			says := g.Name + ": " + act.Snapshot.Of().Rules().Owes
			if s.Round == "" || s.Claimed || !r.Read(estate.GuestList) || slices.ContainsFunc(debts, func(d course.Debt) bool {
				return d.Later && d.Round == s.Round && strings.HasPrefix(d.Owed[0], says)
			}) {
				continue
			}
			debts = append(debts, course.Debt{Cluster: cluster, Round: s.Round, Host: r.Host, Reason: "the guest's own definition has it",
				Since: r.Tried(), Until: s.Until, Later: true, Owed: []string{says}})
		}
	}
	var known []act.Act
	for _, d := range debts {
		known = append(known, d.Acts...)
	}
	for _, a := range plan.Ledger(r, readings, known) {
		i := slices.IndexFunc(debts, func(d course.Debt) bool { return d.Host == r.Host && d.Round == a.Round })
		if i < 0 {
			d := course.Debt{Cluster: cluster, Round: a.Round, Host: r.Host,
				Reason: "the host's own ledger has it", Since: r.Tried()}
			if r.Closed != nil && r.Closed.Round == a.Round {
				d.Owed, d.Since = []string{"it is closed"}, r.Closed.At
			}
			debts, i = append(debts, d), len(debts)
		}
		debts[i].Owed = append(debts[i].Owed, course.Owes(a))
		debts[i].Acts = append(debts[i].Acts, a)
	}
	return debts
}

// debts are all rounds of which something may be owed, and what is owed of each, the last first.
func (h *house) debts(ctx context.Context, readings map[string]*estate.Reading) (rounds []*course.State,
	out []course.Debt, err error) {
	heads, err := h.rounds.Owing(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, head := range heads {
		s, err := h.known(ctx, head)
		if errors.As(err, new(*course.Malformed)) {
			continue // it is told by itself
		}
		if err != nil {
			return nil, nil, err
		}
		debts := s.Debts(readings)
		if s.Status == course.Finished && settled(s, debts, readings) {
			if err := h.rounds.Settle(ctx, head.ID); err != nil {
				slog.Debug("a round that is over could not be noted as that", "round", head.ID, "error", err)
			}
		}
		rounds, out = append(rounds, s), append(out, debts...)
	}
	return rounds, out, nil
}

// known is a round as its journal tells it, read on from where the last look left it: the newest of its cluster may still
// go on, and the others are what they were.
func (h *house) known(ctx context.Context, head store.Round) (*course.State, error) {
	r, err := h.follow(ctx, head.Cluster)
	if err == nil && r.ID == head.ID {
		return r.State, nil
	}
	if err != nil && !errors.As(err, new(*course.Malformed)) {
		return nil, err
	}
	h.looking.Lock()
	s := h.looks.ended[head.ID]
	h.looking.Unlock()
	if s != nil {
		return s, nil
	}
	if s, err = h.round(ctx, head.ID); err != nil {
		return nil, err
	}
	h.looking.Lock()
	defer h.looking.Unlock()
	if h.looks.ended == nil {
		h.looks.ended = map[string]*course.State{}
	}
	h.looks.ended[head.ID] = s
	return s, nil
}

// settled tells whether nothing of a finished round can be owed any more: nothing is, as its hosts were read since.
func settled(s *course.State, debts []course.Debt, readings map[string]*estate.Reading) bool {
	return len(debts) == 0 && !slices.ContainsFunc(s.Visits, func(v course.Visit) bool {
		r := readings[v.Host]
		return v.Phase == course.HandedOver && (r == nil || !r.Tried().After(s.Ended))
	})
}
