package round

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"yareharbour/connector"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
)

// finding is what a look at the host says of an intent without an outcome.
type finding int

const (
	unknown  finding = iota // neither test holds: a person must look
	done                    // the test for done holds
	notDone                 // the test for not done holds
	underWay                // a task for it runs
	noAnswer                // the host can't be asked now
)

// settle looks at the host and writes down whether the intended action was done. Nothing is done again on a guess.
func (r *Runner) settle(ctx context.Context, a plan.Action) error {
	for start := r.World.Now(); ; {
		f, task, detail, err := r.find(ctx, a)
		if err != nil {
			return err
		}
		switch f {
		case done:
			return r.append(ctx, plan.Event{Kind: plan.Done, Action: &a, Detail: "found done: " + detail})
		case notDone:
			return r.append(ctx, plan.Event{Kind: plan.Undone, Action: &a, Detail: "found not done: " + detail})
		case underWay:
			return r.append(ctx, plan.Event{Kind: plan.Accepted, Action: &a, Task: task, Detail: "found under way"})
		case unknown:
			return r.append(ctx, plan.Event{Kind: plan.Failed, Action: &a, Detail: detail, Remedy: "look at " + a.Host + " yourself, then resume the round"})
		}
		if r.World.Now().Sub(start) > r.state.Plan.Brief.Patience {
			return r.append(ctx, plan.Event{Kind: plan.Failed, Action: &a, Detail: "whether it was done can't be told: " + detail, Remedy: remedy(a)})
		}
		if err := r.World.Sleep(ctx, poll); err != nil {
			return err
		}
	}
}

// find applies the two tests of an action to what is found on the host.
func (r *Runner) find(ctx context.Context, a plan.Action) (f finding, task, detail string, err error) {
	if a.Kind == plan.Stage {
		return r.findStaged(ctx, a)
	}
	got, err := r.World.Read(ctx, a.Host)
	if err != nil {
		return 0, "", "", err
	}
	if a.Kind == plan.Install && a.Change.Component.Layer() == estate.Firmware {
		if e := got.Section(estate.FirmwareItems).Err; e != "" {
			return noAnswer, "", e, nil
		}
	} else if !got.Reached() {
		return r.findSilent(a, got)
	}
	switch a.Kind {
	case plan.Move:
		return r.findGuest(ctx, a, got)
	case plan.Close, plan.Remark:
		f, detail = findMark(got.Closed, a, r.ID)
	case plan.Reopen:
		if f, detail = notDone, "it is closed"; got.Closed == nil {
			f, detail = done, "it is open"
		}
	case plan.Restart:
		if f, detail = notDone, "boot "+got.BootID+" as before"; got.BootID != a.Before.BootID {
			f, detail = done, "boot "+got.BootID
		}
	case plan.Install:
		return r.findVersion(ctx, a, got)
	}
	return f, "", detail, nil
}

// findSilent judges a host that does not answer: it may well be restarting, and otherwise it can't be told.
func (r *Runner) findSilent(a plan.Action, got *estate.Reading) (finding, string, string, error) {
	if a.Kind == plan.Restart {
		return underWay, "restart", "it does not answer", nil
	}
	return noAnswer, "", got.Section(estate.Host).Err, nil
}

func (r *Runner) findStaged(ctx context.Context, a plan.Action) (finding, string, string, error) {
	has, err := r.World.Staged(ctx, a.Host, a.Change.File)
	switch {
	case errors.Is(err, connector.ErrUnreachable):
		return noAnswer, "", err.Error(), nil
	case err != nil:
		return 0, "", "", err
	case has == a.Change.SHA256:
		return done, "", "the host holds it", nil
	}
	return notDone, "", "the host does not hold it", nil
}

func findMark(m *estate.Mark, a plan.Action, round string) (finding, string) {
	switch {
	case m == nil:
		return notDone, "it is open"
	case m.Round != round:
		return unknown, fmt.Sprintf("it is closed, but by %s (%s)", m.By, m.Reason)
	case a.Kind == plan.Remark && m.Reason != a.Reason:
		return notDone, "it carries the reason from before"
	}
	return done, "it carries our mark"
}

// findGuest looks for a guest at both ends, and for a migration of it.
func (r *Runner) findGuest(ctx context.Context, a plan.Action, from *estate.Reading) (finding, string, string, error) {
	to, err := r.World.Read(ctx, a.To, estate.Host, estate.GuestList)
	if err != nil {
		return 0, "", "", err
	}
	tasks, err := r.World.Running(ctx, a.Host)
	if errors.Is(err, connector.ErrUnreachable) {
		return noAnswer, "", err.Error(), nil
	}
	if err != nil {
		return 0, "", "", err
	}
	for _, end := range []*estate.Reading{from, to} {
		if e := end.Section(estate.GuestList).Err; e != "" {
			return noAnswer, "", "the guests of " + end.Host + " can't be read: " + e, nil
		}
	}
	runs := func(g estate.Guest) bool { return g.UID() == a.UID() && g.State == estate.Running }
	here, there := slices.ContainsFunc(from.Guests, runs), slices.ContainsFunc(to.Guests, runs)
	for _, t := range tasks {
		if t.Guest == a.UID() {
			return underWay, t.ID, "", nil
		}
	}
	switch {
	case there && !here:
		return done, "", "it runs on " + a.To, nil
	case here && !there:
		return notDone, "", "it still runs on " + a.Host, nil
	case !to.Reached():
		return noAnswer, "", a.To + " does not answer", nil
	}
	return unknown, "", fmt.Sprintf("%s runs on %s: %v, on %s: %v", a.Guest, a.Host, here, a.To, there), nil
}

// findVersion looks at the component's version, and for a task that changes it.
func (r *Runner) findVersion(ctx context.Context, a plan.Action, got *estate.Reading) (finding, string, string, error) {
	if e := got.Section(a.Change.Component.Section()).Err; e != "" {
		return noAnswer, "", e, nil
	}
	tasks, err := r.World.Running(ctx, a.Host)
	if errors.Is(err, connector.ErrUnreachable) {
		return noAnswer, "", err.Error(), nil
	}
	if err != nil {
		return 0, "", "", err
	}
	c, _ := got.Component(a.Change.Component, a.Change.Device)
	if c.Version == a.Change.To && a.Change.To != a.Change.From {
		return done, "", fmt.Sprintf("%s is at %q", a.Change.Component, c.Version), nil
	}
	for _, t := range tasks {
		if t.Component == a.Change.Component || t.Component == "" && a.Change.Component.Layer() == estate.Firmware {
			return underWay, t.ID, "", nil
		}
	}
	if c.Version == a.Change.From {
		return notDone, "", fmt.Sprintf("%s is at %q", a.Change.Component, c.Version), nil
	}
	return unknown, "", fmt.Sprintf("%s was %q, should become %q and is %q", a.Change.Component, a.Change.From, a.Change.To, c.Version), nil
}
