package command

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"yareharbour/cli"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/export"
	"yareharbour/harbour"
	"yareharbour/plain"
	"yareharbour/sim"
	"yareharbour/sim/conn"
	"yareharbour/sim/demo"
)

// exampleCluster is the cluster that the example brings in line.
const exampleCluster = "vts"

// resting is a guest that is shut down for the visit of its host, and started again.
const resting = "notices"

// runExample does what demo --run does, in a state directory that is removed afterwards.
func runExample(ctx context.Context, a *cli.App, out string, speed float64) error {
	if speed == 0 {
		speed = runSpeed
	}
	state, err := os.MkdirTemp("", "yare-demo-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(state)
	a.Use("", state)
	if err := start(ctx, a, state, speed); err != nil {
		return err
	}
	h, err := harbour.Open(ctx, a.Options())
	if err != nil {
		return err
	}
	defer h.Close()
	return errors.Join(rehearse(ctx, a, h, out), stop(filepath.Join(state, demo.SimDir)))
}

// rehearse does the example on an open estate.
func rehearse(ctx context.Context, a *cli.App, h *harbour.Harbour, out string) error {
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	c, err := h.Cluster(exampleCluster)
	if err != nil {
		return err
	}
	before, _, err := look(ctx, a, h, c, out, "before")
	if err != nil {
		return err
	}
	// Something goes wrong on the way, somebody decides, and a guest rests: what a report is for.
	way, err := conn.Dial(ctx, filepath.Join(a.State(), demo.SimDir))
	if err != nil {
		return err
	}
	defer way.Hangup()
	if err := way.Order(ctx, sim.Fault{Host: "jacana", Kind: sim.InstallFails, Times: 1}); err != nil {
		return err
	}
	b := plan.DefaultBrief(c)
	b.Guests = []plan.Policy{{Guests: []string{resting}, Do: plan.DoShutDown}}
	s, err := h.Start(ctx, harbour.Start{Brief: b, Reason: "the demo's example round"}, a.Event)
	if err != nil {
		return err
	}
	if s.Status != course.Failing {
		return fmt.Errorf("the round was to fail once, and is %s", s.Status)
	}
	plain.Fprintln(a.Out(), "somebody looks at jacana, and lets the round go on")
	if s, err = h.Resume(ctx, c.Name, a.Event); err != nil {
		return err
	}
	r, err := h.Journal(ctx, c.Name, "")
	if err != nil {
		return err
	}
	after, d, err := look(ctx, a, h, c, out, "after")
	if err != nil {
		return err
	}
	e, err := h.View(ctx)
	if err != nil {
		return err
	}
	if err := errors.Join(write(out, "round", export.Formats, h.Dated(view.OfRound(r))),
		write(out, "waterline", []string{"svg", "pdf", "html"}, h.Dated(view.OfEstate(e, narrow.Filter{})))); err != nil {
		return err
	}
	plain.Fprintf(a.Out(), "reports are in %s\n", out)
	switch {
	case s.Status != course.Finished:
		return fmt.Errorf("the round ended as %s: %s", s.Status, s.Detail)
	case d.Conclusion() != view.InLine:
		return fmt.Errorf("%s is not in line after the round: %s", c.Name, d.Says())
	}
	return ranThrough(before, after)
}

// look reads and checks a cluster, prints the sum and writes the report.
func look(ctx context.Context, a *cli.App, h *harbour.Harbour, c estate.Cluster, out, when string) (map[string]*estate.Reading,
	view.Report, error) {
	readings, err := h.Read(ctx, c.Hosts, nil)
	if err != nil {
		return nil, view.Report{}, err
	}
	d, err := h.Report(ctx, c.Hosts, readings, nil, narrow.Filter{})
	if err != nil {
		return nil, d, err
	}
	plain.Fprintf(a.Out(), "%s, %s the round: %s\n", c.Name, when, d.Summary.Says())
	return readings, d, write(out, "drift-"+when, []string{"text", "csv", "json"}, h.Dated(d.Document("drift", c.Name, false)))
}

// write writes a document in each of the formats below dir.
func write(dir, name string, formats []string, d view.Document) error {
	var errs []error
	for _, format := range formats {
		f, err := os.Create(filepath.Join(dir, name+"."+export.Extension(format)))
		if err != nil {
			return err
		}
		errs = append(errs, export.Write(f, d, format), f.Close())
	}
	return errors.Join(errs...)
}

// ranThrough makes sure that every guest that ran before runs now and was not started in between.
func ranThrough(before, after map[string]*estate.Reading) error {
	since := map[string]time.Time{}
	for _, r := range after {
		for _, g := range r.RunningGuests() {
			since[g.Name] = g.Since
		}
	}
	n := 0
	for _, r := range before {
		for _, g := range r.RunningGuests() {
			if at, ok := since[g.Name]; !ok || !at.Equal(g.Since) && g.Name != resting {
				return fmt.Errorf("the guest %s ran before the round and did not run through it", g.Name)
			}
			n++
		}
	}
	if n == 0 {
		return errors.New("no guest ran before the round, which proves nothing")
	}
	return nil
}
