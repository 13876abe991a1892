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

	"golang.org/x/sync/errgroup"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/format/brieffile"
	"yareharbour/format/deb"
	"yareharbour/format/rpmfile"
	"yareharbour/program"
)

// Usual is the brief of a cluster's usual round.
func (h *house) Usual(cluster string) (plan.Brief, error) {
	c, err := h.Cluster(cluster)
	return plan.DefaultBrief(c), err
}

// Make makes a plan of what was brought together, or says what of its brief means nothing. It reads nothing.
func (h Planning) Make(in plan.Input) (*plan.Plan, error) {
	if err := in.Wrong(); err != nil {
		return nil, err
	}
	p := plan.Make(in)
	return &p, nil
}

// ReadBrief reads a brief file, and returns what is usual on its cluster too. One for another cluster than the one that
// is named is refused; "" lets it be for any.
func (h Planning) ReadBrief(file, cluster string) (b, usual plan.Brief, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return b, usual, err
	}
	if cluster == "" {
		if cluster, err = brieffile.Cluster(file, text); err != nil {
			return b, usual, err
		}
	}
	if usual, err = h.Usual(cluster); err != nil {
		return b, usual, fmt.Errorf("%s: %w", file, err)
	}
	b, err = brieffile.Parse(file, text, usual, time.Local)
	return b, usual, err
}

// WriteBrief writes a brief as a file: what is usual on its cluster is left out.
func (h Planning) WriteBrief(b plan.Brief) ([]byte, error) {
	usual, err := h.Usual(b.Cluster)
	if err != nil {
		return nil, err
	}
	return brieffile.Write(b, usual)
}

// Shown is the plan of a cluster that was shown with a digest, or its beginning.
func (h Planning) Shown(ctx context.Context, cluster, digest string) (*plan.Plan, error) {
	return h.rounds.Plan(ctx, cluster, digest)
}

// Digests are those under which plans of a cluster were shown.
func (h Planning) Digests(ctx context.Context, cluster string) ([]string, error) {
	return h.rounds.Digests(ctx, cluster)
}

// Plan reads the cluster and plans a round over it. Nothing is touched. The plan is kept under its digest, so that a
// round can be started from the very one that was shown.
func (h Planning) Plan(ctx context.Context, b plan.Brief) (plan.Plan, error) {
	p, err := h.plan(ctx, b)
	if err != nil {
		return p, err
	}
	if err := h.rounds.KeepPlan(ctx, &p); err != nil {
		slog.Warn("the plan could not be kept: a round can't be started from it by its digest", "error", err)
	}
	return p, nil
}

func (h *house) plan(ctx context.Context, b plan.Brief) (plan.Plan, error) {
	in, err := h.Gather(ctx, b)
	if err != nil {
		return plan.Plan{}, err
	}
	return plan.Make(*in), ctx.Err()
}

// Gather reads the cluster of a brief and brings together all that a plan is made from, what the hosts' own package
// managers say of it included. From it a plan for another brief can be made without reading anything. A brief that
// names what there is not is refused.
func (h *house) Gather(ctx context.Context, b plan.Brief) (*plan.Input, error) {
	c, err := h.Cluster(b.Cluster)
	if err != nil {
		return nil, err
	}
	h.refresh(ctx)
	if err := h.refuses("nothing is planned"); err != nil {
		return nil, err
	}
	readings, err := h.read(ctx, c.Hosts, nil)
	if err != nil {
		return nil, err
	}
	times, err := h.rounds.Times(ctx)
	if err != nil {
		return nil, err
	}
	checker := h.Checker()
	in, err := h.facts(ctx, c, checker, readings, h.Check(checker, readings), times)
	if err != nil {
		return nil, err
	}
	if in.Basis, err = h.basis(); err != nil {
		return nil, err
	}
	in.Brief = b
	if err := errors.Join(in.Wrong(), h.controllerThere(ctx)); err != nil {
		return nil, err
	}
	in.Own = h.askAll(ctx, c, readings)
	p := plan.Make(in)
	in.Resolved = h.resolve(ctx, &p)
	h.recall(&in)
	return &in, ctx.Err()
}

// facts are what a plan of a cluster is made from, but for the brief, what hosts answer to questions, and the checks of
// one's own.
func (h *house) facts(ctx context.Context, c estate.Cluster, checker *drift.Checker,
	readings map[string]*estate.Reading, verdicts map[string][]drift.Verdict, times plan.Times) (in plan.Input, err error) {
	in = plan.Input{Now: checker.Now, MaxAge: checker.MaxAge, Cluster: c, Readings: readings, Verdicts: verdicts, Times: times,
		Controller: h.controller(), Below: checker.Below, Payloads: h.payloads.Check, Programs: program.Check, Unserved: h.unserved(), Unkept: h.unkept(), Catalogue: checker.Catalogue}
	in.Waivers, err = h.waivers.Waivers(ctx, c.Name)
	return in, err
}

// askAll asks the checks of one's own about the hosts of a cluster that were read.
func (h *house) askAll(ctx context.Context, c estate.Cluster,
	readings map[string]*estate.Reading) map[string][]precheck.Answer {
	out := map[string][]precheck.Answer{}
	for _, host := range c.Hosts {
		if r := readings[host]; r != nil {
			out[host] = h.askOwn(ctx, r, MaxAge)
		}
	}
	return out
}

// controller is the guest that this program runs in: the one that the estate file names, or the one with this machine's
// UUID. Where that is no guest of the cluster it means nothing.
func (h *house) controller() string {
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
func (h *house) controllerThere(ctx context.Context) error {
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
func (h *house) resolve(ctx context.Context, p *plan.Plan) map[string]plan.Resolved {
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
func (h *house) resolution(ctx context.Context, host string, passes map[int][]act.Change) (out []act.Resolution) {
	s, err := h.world.Open(ctx, host)
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
func (h *house) control(c act.Change) ([]byte, error) {
	f, _, err := h.payloads.Open(c.File, c.SHA256)
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

// approved is the plan that is carried out: the one that was shown, if it is what would be done now, or else one that
// is made now.
func (h *house) approved(ctx context.Context, st Start) (*plan.Plan, error) {
	if st.Digest == "" {
		p, err := Planning{h}.Plan(ctx, st.Brief)
		return &p, err
	}
	shown, err := h.rounds.Plan(ctx, st.Brief.Cluster, st.Digest)
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
