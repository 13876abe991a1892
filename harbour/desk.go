package harbour

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/bundle"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/view"
	"yareharbour/feed"
	"yareharbour/format/baselinefile"
)

// Desk is an opened estate under the hands of a person: what takes time is asked of it, and its answers are views and
// sentences. It may be used from several goroutines.
type Desk struct {
	*Harbour
	By string // who it is
	// Launch has a process of its own begin the round that the words tell, as they would stand behind "yare", and
	// returns once it has begun, or says why it has not.
	Launch func(ctx context.Context, cluster string, words ...string) error
}

// Look reads hosts and keeps what it found, calling progress after each.
func (d *Desk) Look(ctx context.Context, hosts []string, progress func(string, int)) error {
	_, err := d.Read(ctx, hosts, progress)
	return err
}

// Usual is the brief of a cluster's usual round.
func (d *Desk) Usual(cluster string) (plan.Brief, error) {
	c, err := d.Cluster(cluster)
	return plan.DefaultBrief(c), err
}

// Make makes a plan of what was brought together, or says what of its brief means nothing. It reads nothing.
func (d *Desk) Make(in plan.Input) (*plan.Plan, error) {
	if err := in.Wrong(); err != nil {
		return nil, err
	}
	p := plan.Make(in)
	return &p, nil
}

// WaiveFor puts pardons of answers on the record, for so long.
func (d *Desk) WaiveFor(ctx context.Context, cluster string, of []precheck.Answer, reason string,
	lasts time.Duration) error {
	for _, a := range of {
		if _, err := d.Waive(ctx, cluster, a, reason, d.By, d.World.Now().Add(lasts)); err != nil {
			return err
		}
	}
	return nil
}

// TakeBack ends waivers before their time.
func (d *Desk) TakeBack(ctx context.Context, cluster string, of []precheck.Waiver) error {
	for _, w := range of {
		if _, err := d.Unwaive(ctx, cluster, w.ID, d.By); err != nil {
			return err
		}
	}
	return nil
}

// Begin has the plan that was shown carried out, by a process that outlives this one.
func (d *Desk) Begin(ctx context.Context, p *plan.Plan, reason string) error {
	if err := d.Rounds.KeepPlan(ctx, p); err != nil {
		return fmt.Errorf("keeping the plan that is to be carried out: %w", err)
	}
	return d.Launch(ctx, p.Brief.Cluster, "round", "start", p.Brief.Cluster, "--plan", p.Digest(), "--reason", reason)
}

// GoOn has the cluster's newest round gone on with, by such a process.
func (d *Desk) GoOn(ctx context.Context, cluster string) error {
	return d.Launch(ctx, cluster, "round", "resume", cluster)
}

// Hand has work done on a host by hand, by a process that outlives this one. What else the words say stands in options
// of the command.
func (d *Desk) Hand(ctx context.Context, does plan.Does, host, reason string, options ...string) error {
	c, ok := d.Estate.ClusterOf(host)
	if !ok {
		return fmt.Errorf("there is no host %s", host)
	}
	return d.Launch(ctx, c.Name, append([]string{"host", string(does), host, "--reason", reason}, options...)...)
}

// Request asks the running round for something, of a host where that is about one, and says what will happen.
func (d *Desk) Request(ctx context.Context, cluster, what, host string) (string, error) {
	return d.Ask(ctx, cluster, course.Event{Detail: what, Host: host, By: d.By})
}

// Decide takes a decision about the cluster's newest round: it is left for whoever runs that, or else a process that
// outlives this one takes the round on with it.
func (d *Desk) Decide(ctx context.Context, cluster string, w course.Way, reason string) error {
	args := slices.Clone(w.Command)
	if w.Asks != course.AskGoOn {
		args = append(args, "--reason", reason)
	}
	return d.Launch(ctx, cluster, args...)
}

// Past tells what is known of a host's past.
func (d *Desk) Past(ctx context.Context, host string) (p view.Past, err error) {
	if p.Turns, err = d.Life(ctx, host); err == nil {
		p.Spans, err = d.Spans(ctx, host)
	}
	return p, err
}

// MarkSeen notes that the drift of a cluster was seen as it is now.
func (d *Desk) MarkSeen(ctx context.Context, cluster string) error {
	return d.Looked(ctx, cluster, d.By)
}

// SyncFeeds brings feeds up to date, those whose time has come where none is named, and says what came of it.
func (d *Desk) SyncFeeds(ctx context.Context, names []string, progress func(string)) (string, error) {
	feeds := d.Due(time.Now())
	if len(names) > 0 {
		feeds = nil
	}
	for _, n := range names {
		f, err := d.Feed(n)
		if err != nil {
			return "", err
		}
		feeds = append(feeds, f)
	}
	results, err := d.Sync(ctx, feeds, func(p feed.Progress) { progress(p.Says()) })
	var changed []string
	for _, f := range feeds {
		if results[f.Name].Changed {
			changed = append(changed, f.Name)
		}
	}
	if len(changed) == 0 {
		return catalogue.Some(len(feeds), "feed") + " looked at: nothing has changed", err
	}
	return "new from " + strings.Join(changed, ", "), err
}

// Schedule says when a feed is synced by itself.
func (d *Desk) Schedule(_ context.Context, name, schedule string) error {
	f, err := d.Feed(name)
	if err != nil {
		return err
	}
	s, err := feed.ParseSchedule(schedule)
	if err != nil {
		return err
	}
	return d.Shelf.Set(f.Name, s)
}

// Unpack unpacks and reads an archive aside. It must be closed. Where a keyring file is named, a good signature is
// wanted.
func (d *Desk) Unpack(ctx context.Context, file, keyring string, progress func(string)) (*bundle.Opened, error) {
	var keyrings []string
	if keyring != "" {
		keyrings = []string{keyring}
	}
	if rest, ok := strings.CutPrefix(file, "~/"); ok {
		home, err := os.UserHomeDir()
		if err != nil {
			return nil, err
		}
		file = filepath.Join(home, rest)
	}
	b, err := d.OpenBundle(ctx, file, keyrings, false, d.By, func(p bundle.Progress) {
		progress(fmt.Sprintf("%s %s, %s, %s", p.Stage, filepath.Base(p.File), catalogue.Some(p.Entries, "file"),
			catalogue.Bytes(p.Bytes)))
	})
	if err != nil {
		return nil, err
	}
	o := &bundle.Opened{Bundle: b}
	o.NewReleases, o.NewAdvisories = d.Brings(b)
	return o, nil
}

// TakeIn takes an opened bundle in, whole.
func (d *Desk) TakeIn(ctx context.Context, o *bundle.Opened, progress func(string)) error {
	o.Tell(func(p bundle.Progress) { progress(fmt.Sprintf("%s %s", p.Stage, filepath.Base(p.File))) })
	return d.Accept(ctx, o.Bundle)
}

// TakeOut takes a bundle out of the catalogue again.
func (d *Desk) TakeOut(_ context.Context, id string) error {
	if _, err := d.Bundles.Remove(id); err != nil {
		return err
	}
	return d.Reload()
}

// FetchWanted gets the payloads that hosts want.
func (d *Desk) FetchWanted(ctx context.Context, progress func(string)) (string, error) {
	verdicts, err := d.KeptVerdicts(ctx)
	if err != nil {
		return "", err
	}
	var errs []error
	got, here := 0, 0
	for _, r := range d.Wanted(verdicts) {
		if d.Payloads.Check(r.File, r.SHA256) == nil {
			here++
		} else if err := d.Fetch(ctx, r, func(p feed.Progress) { progress(p.Says()) }); err != nil {
			errs = append(errs, err)
		} else {
			got++
		}
	}
	return fmt.Sprintf("%s fetched, %d were here", catalogue.Some(got, "payload"), here), errors.Join(errs...)
}

// VerifyPayloads reads all payloads that are here and holds them against their hashes.
func (d *Desk) VerifyPayloads(ctx context.Context, progress func(string)) (string, error) {
	n := 0
	bad, err := d.Payloads.Store.Verify(ctx, func(i, of int) { n = of; progress(fmt.Sprintf("%d of %d", i, of)) })
	if err == nil && len(bad) > 0 {
		err = fmt.Errorf("%d of %d payloads are damaged; \"yare payload prune --damaged\" removes them", len(bad), n)
	}
	return catalogue.Some(n, "payload") + ", all as their hashes say", err
}

// ListPayloads lists the payloads that are here, a line each.
func (d *Desk) ListPayloads(ctx context.Context) ([]string, error) {
	p, err := d.KeptPayloads(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, x := range p.Payloads {
		release := x.Release
		if release == "" {
			release = "no release names it"
		}
		line := fmt.Sprintf("%.12s  %9s  %s", x.SHA256, catalogue.Bytes(x.Size), release)
		if x.Wanted {
			line += ", wanted"
		}
		out = append(out, line)
	}
	return out, nil
}

// parseRule reads a prune rule in words: "unknown older=90 most=20 damaged".
func parseRule(text string) (rule catalogue.PruneRule, damaged bool, err error) {
	for _, w := range strings.Fields(text) {
		name, value, _ := strings.Cut(w, "=")
		n, e := strconv.ParseInt(value, 10, 32)
		switch {
		case w == "unknown":
			rule.Unknown = true
		case w == "damaged":
			damaged = true
		case name == "older" && e == nil && n > 0:
			rule.OlderThan = time.Duration(n) * 24 * time.Hour
		case name == "most" && e == nil && n > 0:
			rule.Most = n << 30
		default:
			return rule, false, fmt.Errorf(
				"%q is no part of a rule: there are unknown, damaged, older=DAYS and most=GIB", w)
		}
	}
	if rule == (catalogue.PruneRule{}) && !damaged {
		err = errors.New("the rule is empty: say unknown, damaged, older=DAYS or most=GIB")
	}
	return rule, damaged, err
}

// PruneBy removes the payloads that nobody wants by a rule in words, or only says which that would be.
func (d *Desk) PruneBy(ctx context.Context, text string, really bool) ([]catalogue.Doomed, error) {
	rule, damaged, err := parseRule(text)
	if err != nil {
		return nil, err
	}
	doomed, err := d.Doomed(ctx, rule, damaged)
	if err != nil || !really {
		return doomed, err
	}
	for _, x := range doomed {
		if err := d.Payloads.Store.Remove(x.SHA256); err != nil {
			return nil, err
		}
	}
	return doomed, nil
}

// EffectOn tells what it would do to what a view shows if the baseline of that name said the text, and which names in
// it are not there.
func (d *Desk) EffectOn(_ context.Context, e *view.Estate, name, text string) (drift.Effect,
	[]baseline.Problem, error) {
	after, err := baselinefile.Parse(name+".yaml", []byte(text))
	if err != nil {
		return drift.Effect{}, nil, err
	}
	if after.Name != name {
		return drift.Effect{}, nil,
			fmt.Errorf("the text is of the baseline %q; a baseline keeps its name, %q", after.Name, name)
	}
	effect, amiss := d.effect(e.Held, e.Readings, name, &after)
	return effect, amiss, nil
}

// SaveText keeps the text as the version after the one numbered after; 0 for a new baseline.
func (d *Desk) SaveText(ctx context.Context, name, text string, after int, why string) error {
	_, err := d.SaveBaseline(ctx, name, text, after, d.By, why)
	return err
}

// VersionsOf lists a baseline's versions, the newest first, each with what it changed.
func (d *Desk) VersionsOf(ctx context.Context, name string) ([]view.Version, error) {
	list, err := d.Versions.Versions(ctx, name)
	if err != nil {
		return nil, err
	}
	var out []view.Version
	for _, v := range list {
		full, err := d.Versions.Version(ctx, name, v.N)
		if err != nil {
			return nil, err
		}
		one := view.Version{N: full.N, At: full.At, By: full.By, Why: full.Why, Text: full.Text}
		if v.N > 1 {
			if one.Changes, err = d.CompareVersions(ctx, name, v.N-1, v.N); err != nil {
				return nil, err
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// Derive makes the text of a baseline of a host, as it was last read.
func (d *Desk) Derive(ctx context.Context, host string) (name, text string, err error) {
	if _, ok := d.Estate.ClusterOf(host); !ok {
		return "", "", fmt.Errorf("there is no host %q in %s", host, d.Estate.Name)
	}
	kept, err := d.Readings.Newest(ctx, []string{host})
	if err != nil {
		return "", "", err
	}
	if kept[host] == nil {
		return "", "", fmt.Errorf("%s was never read", host)
	}
	name = "like-" + host
	b, err := baseline.Derive(kept[host], name, []estate.Layer{estate.Platform, estate.Driver, estate.Firmware})
	if err != nil {
		return "", "", err
	}
	body, err := baselinefile.Write(b)
	return name, string(body), err
}
