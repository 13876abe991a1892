package harbour

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/view"
)

// Report judges readings, and reports what the filter lets through. Where a baseline is given, only that one binds, and
// everywhere.
func (h Looking) Report(ctx context.Context, hosts []string, readings map[string]*estate.Reading, only *baseline.Baseline,
	f narrow.Filter) (view.Report, error) {
	c := h.Checker() // of now: what was read is judged by what holds once it was read
	if only != nil {
		b := *only
		b.Assign = nil
		for _, cl := range h.Estate.Clusters {
			b.Assign = append(b.Assign, cl.Name)
		}
		c.Baselines = []baseline.Baseline{b}
	}
	verdicts := h.Check(c, readings)
	j := view.Judged{Clusters: h.Estate.Clusters, Checker: c, Readings: readings, Verdicts: verdicts}
	var err error
	if only == nil {
		if j.Lasting, err = h.lasting(ctx); err != nil {
			return view.Report{}, err
		}
	}
	d := j.Report(hosts, f)
	d.Estate = h.Estate.Name
	if d.Problems, err = Baselines(h).Problems(ctx, c.Baselines); err != nil {
		return d, err
	}
	held := drift.Hold(h.Estate.Clusters, readings, c.Now, c.MaxAge)
	d.Flags = drift.Flags(held, c.Catalogue, drift.BoundBy(verdicts))
	return d, nil
}

// Explain reads a host and tells the whole story of every verdict on a component there. Where there is none it says in
// bare what is there.
func (h Looking) Explain(ctx context.Context, name string, key estate.Key) (told []view.Explained, bare string, err error) {
	host, cl, err := h.Host(name)
	if err != nil {
		return nil, "", err
	}
	readings, err := h.read(ctx, []string{host}, nil)
	if err != nil {
		return nil, "", err
	}
	c, r := h.Checker(), readings[host]
	j := view.Judged{Checker: c}
	if j.Lasting, err = h.lasting(ctx); err != nil {
		return nil, "", err
	}
	for _, v := range c.Host(cl.Name, r) {
		if v.Component == key {
			told = append(told, view.Explained{Host: host, Component: v.Component, Device: v.Device, Verdict: v.Outcome.String(),
				Why: j.Why(cl.Name, &v, r)})
		}
	}
	if len(told) > 0 {
		return told, "", nil
	}
	if has := r.Of(key); len(has) > 0 {
		return nil, fmt.Sprintf("%s has %s at %s, and no baseline covers it.", host, key,
			cmp.Or(has[0].Version, "a version that could not be read ("+has[0].Unread+")")), nil
	}
	var near []string
	for _, x := range r.Components {
		if strings.Contains(string(x.Key), key.Name()) {
			near = append(near, string(x.Key))
		}
	}
	hint := ""
	if len(near) > 0 {
		hint = "; did you mean " + strings.Join(near, " or ")
	}
	return nil, "", fmt.Errorf("%s has no component %s and no baseline covers it%s", host, key, hint)
}

// Newly reads clusters and tells what is out of line there and was not at the last look; all where none is named.
func (h Looking) Newly(ctx context.Context, clusters []string) (out []view.New, err error) {
	if len(clusters) == 0 {
		for _, c := range h.Estate.Clusters {
			clusters = append(clusters, c.Name)
		}
	}
	for _, name := range clusters {
		c, err := h.Cluster(name)
		if err != nil {
			return nil, err
		}
		readings, err := h.read(ctx, c.Hosts, nil)
		if err != nil {
			return nil, err
		}
		n, err := h.News(ctx, c.Name, h.Check(h.Checker(), readings))
		if err != nil {
			return nil, err
		}
		out = append(out, view.NewOf(c.Name, n))
	}
	return out, nil
}

// Local says against what this machine is held.
type Local struct {
	Baseline   string   // a baseline file; "": its own apt indices
	Lists      string   // the directory in which apt keeps these
	Keyrings   []string // by one of which every index must then be signed
	Advisories []string // files of OSV or CSAF advisories
}

// localCluster is what this machine is assigned to.
const localCluster = "local"

// CheckHere reads this machine and reports what the filter lets through.
func CheckHere(ctx context.Context, o Local, f narrow.Filter) (view.Report, error) {
	b := baseline.Baseline{Name: "this machine's apt indices", Clauses: []baseline.Clause{
		{Component: "deb:*", Posture: baseline.IfPresent, Follow: true}}}
	if o.Baseline != "" {
		var err error
		if b, _, err = ReadBaseline(o.Baseline); err != nil {
			return view.Report{}, err
		}
	}
	b.Assign = []string{localCluster}
	var r *estate.Reading
	cat := &catalogue.Catalogue{}
	now := time.Now()
	var g errgroup.Group
	g.Go(func() (err error) {
		r, err = Here(ctx)
		return err
	})
	g.Go(func() error {
		names, native, err := installed()
		if err != nil {
			return err
		}
		l := indexes{dir: o.Lists, native: native, keyrings: o.Keyrings, now: now}
		if o.Baseline == "" { // it asks for nothing that is not here
			l.keep = func(name []byte) bool { return names[string(name)] }
		}
		err = l.load(cat)
		if errors.Is(err, errNoIndexes) {
			err = fmt.Errorf("%w; name it with --lists", err)
		}
		return err
	})
	if err := g.Wait(); err != nil {
		return view.Report{}, err
	}
	for _, name := range o.Advisories {
		if err := loadAdvisories(cat, name); err != nil {
			return view.Report{}, err
		}
	}
	c := &drift.Checker{Catalogue: cat, Baselines: []baseline.Baseline{b}, Now: time.Now(), MaxAge: MaxAge}
	clusters := []estate.Cluster{{Name: localCluster, Hosts: []string{r.Host}}}
	readings := map[string]*estate.Reading{r.Host: r}
	d := view.Judged{Clusters: clusters, Checker: c, Readings: readings,
		Verdicts: map[string][]drift.Verdict{r.Host: c.Host(localCluster, r)}}.Report([]string{r.Host}, f)
	if o.Baseline != "" {
		d.Problems = baseline.Look(b, nil, baseline.World{Clusters: clusters, Catalogue: cat, Readings: readings, Now: c.Now})
	}
	return d, nil
}
