// Package round carries rounds out. It adds no policy: core/plan names the next thing to do, the runner does it through the
// connectors and writes the journal, an intent before and an outcome after. When an intent has no outcome, because the program or its
// machine died, the runner first looks at the host and writes down what it finds.
package round

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"yareharbour/connector"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/store"
)

// Journal is where a runner writes. Every call may fail with store.ErrLost, and then the runner must not act any more.
type Journal interface {
	// Append writes an event and returns it with its number.
	Append(ctx context.Context, e plan.Event) (plan.Event, error)
	// Take returns what people have asked of the round since it was last called.
	Take(ctx context.Context) ([]store.Request, error)
	// SetProgress tells watchers how far things are.
	SetProgress(ctx context.Context, p store.Progress) error
}

// Payloads gives payload files, verified.
type Payloads interface {
	// Check returns why the file can't be used, and "" where it is here and has that hash.
	Check(file, sha256 string) string
	// Open returns the bytes of a file, or an error if they don't have that hash.
	Open(file, sha256 string) ([]byte, error)
}

// Runner runs one round.
type Runner struct {
	ID       string
	Cluster  estate.Cluster
	World    connector.World
	Journal  Journal
	Payloads Payloads
	// Withdrawn says why what a change would put in was taken back by its publisher; "" where it stands. It may be nil.
	Withdrawn func(plan.Change) string
	// Usual is how long a step usually takes on a host's hardware; silence longer than the pessimistic figure is told.
	Usual func(step plan.StepName, model string) (middle, pessimistic time.Duration)

	// Known are the readings that were last kept of the hosts, by which their guests are known even where a host never answers to this runner.
	Known map[string]*estate.Reading

	state    *plan.State
	known    map[string]*estate.Reading // the last reading of each host in which it answered
	waiting  map[string]time.Time       // since when a task's host is silent
	reported time.Time
}

// poll is how long the runner waits between two looks at work under way, in the estate's time.
const poll = 3 * time.Second

// looked are the sections read before every turn; the others are read where they are asked about.
var looked = []estate.SectionName{estate.Host, estate.GuestList, estate.BMCState}

// Run goes on with the round from the state that its journal folds to, until it ends or the context does. A failed
// visit is no error: the state says so. An error means that the runner could not go on, and the journal tells how far it came.
func (r *Runner) Run(ctx context.Context, state *plan.State) error {
	r.state = state
	r.known, r.waiting = maps.Clone(r.Known), map[string]time.Time{}
	if r.known == nil {
		r.known = map[string]*estate.Reading{}
	}
	full := ""
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := r.takeRequests(ctx); err != nil {
			return err
		}
		facts, err := r.look(ctx, full)
		if err != nil {
			return err
		}
		full = ""
		turn := plan.Next(r.state, facts)
		switch {
		case turn.End != nil:
			return r.append(ctx, *turn.End)
		case turn.Look != "":
			full = turn.Look
		case turn.Settle != nil:
			err = r.settle(ctx, turn.Settle.Action)
		case turn.Do != nil:
			err = r.do(ctx, *turn.Do, facts)
		case turn.Record != nil:
			err = r.append(ctx, *turn.Record)
		case turn.Await != nil:
			err = r.await(ctx, turn.Await)
		case turn.Wait != "":
			r.tell(ctx, store.Progress{Says: turn.Wait})
			err = r.World.Sleep(ctx, poll)
		}
		if err != nil {
			return err
		}
	}
}

func (r *Runner) append(ctx context.Context, e plan.Event) error {
	e.At = r.World.Now()
	e, err := r.Journal.Append(ctx, e)
	if err != nil {
		return err
	}
	return r.state.Apply(e)
}

func (r *Runner) takeRequests(ctx context.Context) error {
	asked, err := r.Journal.Take(ctx)
	if err != nil {
		return err
	}
	for _, q := range asked {
		if err := r.append(ctx, plan.Event{Kind: plan.Asked, Detail: q.What, By: q.By}); err != nil {
			return err
		}
	}
	return nil
}

// look reads every host of the cluster, the named one in full.
func (r *Runner) look(ctx context.Context, full string) (plan.Facts, error) {
	f := plan.Facts{Round: r.ID, Hosts: r.Cluster.Hosts, Readings: map[string]*estate.Reading{}, Full: full, Payload: r.Payloads.Check,
		Withdrawn: r.Withdrawn}
	var mu sync.Mutex
	var wg sync.WaitGroup
	var failed error
	for _, h := range r.Cluster.Hosts {
		wg.Go(func() {
			sections := looked
			if h == full {
				sections = nil
			}
			got, err := r.World.Read(ctx, h, sections...)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				failed = fmt.Errorf("looking at %s: %w", h, err)
				return
			}
			f.Readings[h] = got
		})
	}
	wg.Wait()
	if failed != nil {
		return f, failed
	}
	for h, got := range f.Readings {
		f.Readings[h] = got.Over(r.known[h])
		r.known[h] = f.Readings[h]
	}
	f.Now = r.World.Now()
	return f, nil
}

// do writes the intent, acts, and writes what came of it.
func (r *Runner) do(ctx context.Context, a plan.Action, f plan.Facts) error {
	if at := f.Readings[a.Host]; at != nil {
		a.Before.BootID, a.Before.Mark = at.BootID, at.Closed
	}
	if err := r.append(ctx, plan.Event{Kind: plan.Intent, Action: &a}); err != nil {
		return err
	}
	task, err := r.act(ctx, a)
	if ctx.Err() != nil {
		return ctx.Err() // how it came out is not known here: it will be looked up on the host
	}
	switch {
	case err != nil && uncertain(err):
		return r.settle(ctx, a)
	case err != nil:
		return r.append(ctx, plan.Event{Kind: plan.Failed, Action: &a, Detail: err.Error(), Remedy: remedy(a)})
	case task != "":
		return r.append(ctx, plan.Event{Kind: plan.Accepted, Action: &a, Task: task})
	}
	return r.append(ctx, plan.Event{Kind: plan.Done, Action: &a})
}

// uncertain tells whether a call that ended in this error may have been carried out all the same.
func uncertain(err error) bool { return errors.Is(err, connector.ErrUnreachable) }

// act does the one outside call of an action. It returns a task for what goes on after the call.
func (r *Runner) act(ctx context.Context, a plan.Action) (task string, err error) {
	switch a.Kind {
	case plan.Stage:
		err = r.stage(ctx, a)
	case plan.Move:
		task, err = r.World.Move(ctx, a.Host, a.UID(), a.To)
	case plan.Close, plan.Remark:
		err = r.World.Close(ctx, a.Host, estate.Mark{By: r.state.Plan.Brief.By, Round: r.ID, Reason: a.Reason})
	case plan.Install:
		task, err = r.install(ctx, a)
	case plan.Restart:
		task, err = r.World.Restart(ctx, a.Host, fmt.Sprintf("%s, round %s by %s", a.Reason, r.ID, r.state.Plan.Brief.By))
	case plan.Reopen:
		err = r.World.Open(ctx, a.Host, r.ID)
	default:
		err = fmt.Errorf("there is no way to do %q", a.Kind)
	}
	return task, err
}

// stage puts a payload on the host, unless it is there; the host's own hash decides.
func (r *Runner) stage(ctx context.Context, a plan.Action) error {
	if has, err := r.World.Staged(ctx, a.Host, a.Change.File); err == nil && has == a.Change.SHA256 {
		return nil
	}
	body, err := r.Payloads.Open(a.Change.File, a.Change.SHA256)
	if err != nil {
		return err
	}
	got, err := r.World.Stage(ctx, a.Host, a.Change.File, body)
	if err == nil && got != a.Change.SHA256 {
		err = fmt.Errorf("%s arrived on %s with the hash %s instead of %s", a.Change.File, a.Host, got, a.Change.SHA256)
	}
	return err
}

func (r *Runner) install(ctx context.Context, a plan.Action) (string, error) {
	c := a.Change
	item := connector.Item{Component: c.Component, Device: c.Device, Version: c.To, File: c.File, Restart: c.Restart}
	if c.File != "" {
		body, err := r.Payloads.Open(c.File, c.SHA256)
		if err != nil {
			return "", err
		}
		item.Body = body
	}
	return r.World.Change(ctx, a.Host, item)
}

func remedy(a plan.Action) string {
	switch a.Kind {
	case plan.Move:
		return "see on both hosts why the guest can't move, then resume the round"
	case plan.Restart:
		return "look at the host's console through its BMC, then resume the round"
	}
	return "see the host's own log of that moment, mend it, then resume the round"
}

// await polls the tasks under way once, writes down those that ended, and otherwise lets a little time pass.
func (r *Runner) await(ctx context.Context, open []plan.Pending) error {
	p := store.Progress{At: r.World.Now()}
	ended := false
	for _, o := range slices.Clone(open) {
		t, over, err := r.follow(ctx, o)
		if err != nil {
			return err
		}
		ended = ended || over
		if !over {
			p.Tasks = append(p.Tasks, store.Tick{Action: o.Action.ID, Percent: t.Percent, Left: t.Left})
			p.Says = t.Error
		}
	}
	if ended {
		return nil
	}
	r.tell(ctx, p)
	return r.World.Sleep(ctx, poll)
}

// tell writes progress for those who watch, at most a few times a second: it must never slow the work down.
func (r *Runner) tell(ctx context.Context, p store.Progress) {
	if time.Since(r.reported) < 200*time.Millisecond {
		return
	}
	r.reported = time.Now()
	p.At = r.World.Now()
	_ = r.Journal.SetProgress(ctx, p) // for looking at only
}

// follow looks after one accepted action. While it goes on, the returned task says how far it is, and its Error what the round waits for.
func (r *Runner) follow(ctx context.Context, o plan.Pending) (t connector.Task, over bool, err error) {
	if o.Action.Kind == plan.Restart {
		return r.followRestart(ctx, o)
	}
	t, err = r.World.Task(ctx, o.Action.Host, o.Task)
	switch {
	case errors.Is(err, connector.ErrUnreachable):
		return r.silent(ctx, o, err)
	case err != nil:
		return t, true, r.settle(ctx, o.Action) // the task is forgotten: the host itself must tell
	}
	delete(r.waiting, o.Action.ID)
	a := o.Action
	switch t.State {
	case connector.TaskDone:
		return t, true, r.append(ctx, plan.Event{Kind: plan.Done, Action: &a})
	case connector.TaskFailed:
		return t, true, r.append(ctx, plan.Event{Kind: plan.Failed, Action: &a, Detail: t.Error, Remedy: remedy(a)})
	}
	return t, false, nil
}

// silent bears with a host or BMC that does not answer while work is under way on it, for as long as the brief's patience lasts.
func (r *Runner) silent(ctx context.Context, o plan.Pending, cause error) (connector.Task, bool, error) {
	a := o.Action
	since, ok := r.waiting[a.ID]
	if !ok {
		since = r.World.Now()
		r.waiting[a.ID] = since
	}
	quiet := r.World.Now().Sub(since)
	if quiet < r.state.Plan.Brief.Patience {
		who := a.Host
		if a.Change != nil && a.Change.Component.Layer() == estate.Firmware {
			who = "the BMC of " + a.Host
		}
		return connector.Task{Error: fmt.Sprintf("%s has been silent for %s, as is expected meanwhile", who, quiet.Round(time.Second))}, false, nil
	}
	return connector.Task{}, true, r.append(ctx, plan.Event{Kind: plan.Failed, Action: &a, Remedy: remedy(a),
		Detail: fmt.Sprintf("no answer for %s: %v", quiet.Round(time.Second), cause)})
}

// followRestart waits until the host answers with another boot id. Its silence is expected up to the usual time.
func (r *Runner) followRestart(ctx context.Context, o plan.Pending) (connector.Task, bool, error) {
	a := o.Action
	got, err := r.World.Read(ctx, a.Host, estate.Host)
	if err != nil {
		return connector.Task{}, false, err
	}
	if got.Reached() && got.BootID != a.Before.BootID {
		return connector.Task{}, true, r.append(ctx, plan.Event{Kind: plan.Done, Action: &a, Detail: "boot " + got.BootID})
	}
	middle, worst := r.usual(a.Host)
	quiet := r.World.Now().Sub(o.At)
	t := connector.Task{Percent: min(99, int(100*quiet/max(middle, 1))), Left: max(0, middle-quiet)}
	if quiet < worst+r.state.Plan.Brief.Patience {
		t.Error = fmt.Sprintf("%s restarts: silent for %s, usually back after %s", a.Host, quiet.Round(time.Second), middle.Round(time.Second))
		return t, false, nil
	}
	return t, true, r.append(ctx, plan.Event{Kind: plan.Failed, Action: &a, Remedy: remedy(a),
		Detail: fmt.Sprintf("it did not come back within %s; usually it takes %s", quiet.Round(time.Second), middle.Round(time.Second))})
}

func (r *Runner) usual(host string) (middle, worst time.Duration) {
	model := ""
	if v := r.state.Visit(host); v != nil {
		model = v.Model
	}
	if r.Usual != nil {
		return r.Usual(plan.RestartStep, model)
	}
	middle, worst, _ = plan.Times{}.Usual(plan.RestartStep, model)
	return middle, worst
}
