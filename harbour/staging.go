package harbour

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/course"
	"yareharbour/core/plan"
)

// Staging is what is brought to hosts ahead of the round that puts it in, or taken away from them.
type Staging struct {
	// Brief is the round's. Where Digest is given, it is that of the plan of Brief.Cluster that was shown under it.
	Brief  plan.Brief
	Digest string
	How    plan.Staging
	Reason string
}

// Stage fetches the payloads of a round and brings them to its hosts, through the same lease and journal as a round, or
// takes away what waits there. A host to which they can't be brought holds nothing up: the error names it. Where there
// is nothing to do the state is nil, and the progress says so.
func (h Rounds) Stage(ctx context.Context, st Staging, progress func(string), seen func(course.Event)) (*course.State, error) {
	b := st.Brief
	if st.Digest != "" {
		shown, err := h.rounds.Plan(ctx, b.Cluster, st.Digest)
		if err != nil {
			return nil, err
		}
		b = shown.Brief
	}
	switch s, head, err := h.latest(ctx, b.Cluster); {
	case err != nil:
		return nil, fmt.Errorf("%w%s", err, above(err, b.Cluster))
	case s != nil && s.Status != course.Finished: // it could not be gone on with once there is a newer one
		return nil, fmt.Errorf("staging on %s: round %s is not finished (%s): \"yare round resume %s\" goes on with it, and brings "+
			"what it puts in itself; \"yare round end %s\" ends it", b.Cluster, head.ID, s.Status, b.Cluster, b.Cluster)
	}
	b = b.Staged(st.How)
	in, err := h.Gather(ctx, b)
	if err != nil {
		return nil, err
	}
	p := plan.Make(*in)
	if st.How == plan.StageAhead && len(p.Visits) > 0 {
		says, err := Supplies(h).FetchPlanned(ctx, &p, progress)
		if progress(says); err != nil {
			progress(err.Error()) // hosts that need it are named below
		}
		p = plan.Make(*in)
	}
	var not []string
	for _, v := range p.Obstacles() {
		b.Except = append(slices.Clip(b.Except), v.Host)
		b.Hosts = slices.DeleteFunc(slices.Clone(b.Hosts), func(host string) bool { return host == v.Host })
		not = append(not, v.Host+": "+v.Obstacle)
	}
	for _, a := range p.Aside {
		if slices.Contains(b.Except, a.Host) || len(b.Hosts) > 0 && !slices.Contains(b.Hosts, a.Host) {
			continue
		}
		progress(a.Host + ": " + a.Why)
	}
	var s *course.State
	if len(p.Ready()) > 0 {
		s, err = h.Start(ctx, Start{Brief: b, Reason: st.Reason}, func(e course.Event) {
			if seen(e); e.Kind == course.Left {
				not = append(not, e.Host+": "+e.Detail)
			}
		})
		if err != nil {
			return s, err
		}
	}
	if len(not) > 0 {
		return s, fmt.Errorf("%w on %s", errUnstaged, strings.Join(not, "; "))
	}
	return s, nil
}

var errUnstaged = errors.New("not everything could be staged")
