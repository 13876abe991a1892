package harbour

import (
	"context"
	"fmt"
	"slices"

	"yareharbour/core/course"
	"yareharbour/core/plan"
)

// LaunchRound has the plan that was shown carried out, by a process that outlives this one.
func (h Launching) LaunchRound(ctx context.Context, p *plan.Plan, reason string) error {
	if err := h.rounds.KeepPlan(ctx, p); err != nil {
		return fmt.Errorf("keeping the plan that is to be carried out: %w", err)
	}
	return h.Launch(ctx, p.Brief.Cluster, "round", "start", p.Brief.Cluster, "--plan", p.Digest(), "--reason", reason)
}

// LaunchStaging has the payloads of the plan that was shown brought to its hosts, by such a process.
func (h Launching) LaunchStaging(ctx context.Context, p *plan.Plan) error {
	if err := h.rounds.KeepPlan(ctx, p); err != nil {
		return fmt.Errorf("keeping the plan whose payloads are to be brought: %w", err)
	}
	return h.Launch(ctx, p.Brief.Cluster, "stage", p.Brief.Cluster, "--plan", p.Digest())
}

// LaunchResume has the cluster's newest round resumed, by such a process.
func (h Launching) LaunchResume(ctx context.Context, cluster string) error {
	return h.Launch(ctx, cluster, "round", "resume", cluster)
}

// LaunchWork has work done on a host by hand, by such a process. What else the words say stands in options of the
// command.
func (h Launching) LaunchWork(ctx context.Context, does plan.Does, host, reason string, options ...string) error {
	c, err := h.clusterOf(host)
	if err != nil {
		return err
	}
	return h.Launch(ctx, c.Name, append([]string{"host", string(does), host, "--reason", reason}, options...)...)
}

// LaunchDecision takes a decision about the cluster's newest round: it is left for whoever runs that, or else such a
// process takes the round on with it.
func (h Launching) LaunchDecision(ctx context.Context, cluster string, w course.Way, reason string) error {
	args := slices.Clone(w.Command)
	if w.Asks != course.AskGoOn {
		args = append(args, "--reason", reason)
	}
	return h.Launch(ctx, cluster, args...)
}
