package harbour

import (
	"errors"
	"fmt"
	"strings"

	"yareharbour/core/course"
	"yareharbour/core/plan"
)

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
		"\"yare round start %s --take-over\" begins a new one, and \"yare round adopt HOST\" brings a host to its end "+
		"that was left closed", e.Cluster, strings.Join(says, "\n  "), e.Cluster)
}

// ErrObstacles is what starting a round gives when a visit can't be made as things stand.
var ErrObstacles = errors.New("the round can't be made as planned")

func refuse(p *plan.Plan) error {
	obstacles := p.Obstacles()
	if len(obstacles) == 0 {
		return nil
	}
	var lines []string
	for _, v := range obstacles {
		lines = append(lines, fmt.Sprintf("  %s: %s (%s)", v.Host, v.Obstacle, v.WayOut))
	}
	hint := ""
	if can := p.Ready(); len(can) > 0 {
		hint = "\nthe others could be visited alone: --hosts " + strings.Join(can, ",")
	}
	return fmt.Errorf("%w:\n%s%s", ErrObstacles, strings.Join(lines, "\n"), hint)
}
