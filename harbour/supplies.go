package harbour

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/bundle"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/logbook"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/feed"
	"yareharbour/format/debindex"
)

// feed returns the feed of that name.
func (h *house) feed(name string) (feed.Feed, error) {
	i := slices.IndexFunc(h.feeds, func(f feed.Feed) bool { return f.Name == name })
	if i < 0 {
		var names []string
		for _, f := range h.feeds {
			names = append(names, f.Name)
		}
		return feed.Feed{}, fmt.Errorf("there is no feed %q in the estate file; there are %s%s", name, strings.Join(names, ", "), Near(name, names))
	}
	return h.feeds[i], nil
}

// Feeds are those of the estate file, and how they stand.
func (h *house) Feeds() (out []view.Feed, err error) {
	now := time.Now() // of this machine: feeds are no matter of a simulated estate's clock
	for _, f := range h.feeds {
		st, err := h.shelf.Status(f.Name)
		if err != nil {
			return nil, err
		}
		schedule := h.shelf.Scheduled(f)
		out = append(out, view.Feed{Name: f.Name, Kind: string(f.Kind), At: feed.Shown(f.At), Schedule: schedule.String(),
			Off: schedule.Off, Due: feed.State{Feed: f, Status: st, Schedule: schedule}.Due(now), Tried: st.Tried, Synced: st.Synced,
			Made: st.Made, Error: st.Error, Releases: st.Releases, Advisories: st.Advisories, Bytes: st.Bytes, Aside: st.Aside})
	}
	return out, nil
}

// Which says which feeds are synced: those that are named; without a name those whose time has come, or all that are
// not switched off.
type Which struct {
	Names []string
	Due   bool
}

func (h *house) which(w Which) (out []feed.Feed, err error) {
	for _, n := range w.Names {
		f, err := h.feed(n)
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	if len(w.Names) > 0 {
		return out, nil
	}
	all, err := h.Feeds()
	for i, f := range all {
		if w.Due && f.Due || !w.Due && !f.Off {
			out = append(out, h.feeds[i])
		}
	}
	return out, err
}

// Synced is what became of a feed.
type Synced struct {
	Name, Says string
	Changed    bool
	Aside      []string // entries that could not be read
}

// Sync brings feeds up to date one after the other, and then the catalogue. One that fails does not keep the others;
// its error is among those joined, and it is not in the result.
func (h Supplies) Sync(ctx context.Context, w Which, progress func(string)) (out []Synced, err error) {
	feeds, err := h.which(w)
	if err != nil {
		return nil, err
	}
	var errs []error
	changed := false
	for _, f := range feeds {
		r, err := h.shelf.Sync(ctx, f, time.Now(), func(p feed.Progress) { progress(p.Says()) })
		errs = append(errs, err)
		changed = changed || r.Changed
		if err == nil {
			s := Synced{Name: f.Name, Says: "nothing has changed", Changed: r.Changed, Aside: r.Status.Aside}
			if r.Changed {
				s.Says = fmt.Sprintf("%s, %s, %s in %s", catalogue.Some(r.Status.Releases, "release"),
					catalogue.Some(r.Status.Advisories, "advisory"), catalogue.Bytes(r.Status.Bytes),
					catalogue.Some(r.Status.Files, "file"))
			}
			out = append(out, s)
			if r.Changed {
				errs = append(errs, h.enter(ctx, logbook.Entry{Kind: logbook.Synced, Says: f.Name + ": " + s.Says}))
			}
		}
		if ctx.Err() != nil {
			break
		}
	}
	if changed {
		errs = append(errs, h.Reload())
	}
	return out, errors.Join(errs...)
}

// Says sums up what became of feeds.
func Says(all []Synced) string {
	var changed []string
	for _, s := range all {
		if s.Changed {
			changed = append(changed, s.Name)
		}
	}
	if len(changed) == 0 {
		return catalogue.Some(len(all), "feed") + " checked: nothing has changed"
	}
	return "new from " + strings.Join(changed, ", ")
}

// Schedule says when a feed is synced by itself, and returns that in words, with what the estate file says.
func (h Supplies) Schedule(ctx context.Context, name, schedule string) (says string, err error) {
	f, err := h.feed(name)
	if err != nil {
		return "", err
	}
	s, err := feed.ParseSchedule(strings.TrimSpace(schedule))
	if err != nil {
		return "", err
	}
	if err := h.shelf.Set(f.Name, s); err != nil {
		return "", err
	}
	return fmt.Sprintf("%s is synced %s from now on (%s in the estate file)", f.Name, s, cmp.Or(f.Schedule.String(), "on demand")),
		h.enter(ctx, logbook.Entry{Kind: logbook.Schedule, Says: fmt.Sprintf("%s: %s", f.Name, s)})
}

func (h *house) bundleOptions(o bundle.Options) bundle.Options {
	for _, f := range h.feeds {
		o.Native = cmp.Or(o.Native, f.Architecture)
		for k, v := range f.Names {
			if o.Names == nil {
				o.Names = map[string]estate.Key{}
			}
			o.Names[k] = v
		}
	}
	for _, x := range h.file.Indexes {
		o.Native = cmp.Or(o.Native, x.Architecture)
	}
	return o
}

// Signed says whose signature is wanted over every file of a bundle: OpenPGP keyring files. With Only, files that no
// good signature names are left out instead of refused.
type Signed struct {
	Keyrings []string
	Only     bool
}

// Opened is a bundle that was unpacked and read aside, and is not decided on. It must be closed.
type Opened struct {
	catalogue.Bundle
	NewReleases, NewAdvisories int // that the catalogue has not yet

	is *bundle.Bundle
}

// Open unpacks and reads an archive aside. Nothing is taken in yet.
func (h Supplies) Open(ctx context.Context, file string, by Signed, progress func(string)) (*Opened, error) {
	keys, err := debindex.OpenKeyrings(by.Keyrings)
	if err != nil {
		return nil, err
	}
	if by.Only && keys.Empty() {
		return nil, errors.New("a keyring is needed to tell which files are vouched for")
	}
	b, err := h.bundles.Open(ctx, file, h.bundleOptions(bundle.Options{Keys: keys, Vouched: by.Only, Now: time.Now(), By: h.By,
		Progress: told(progress)}))
	if err != nil {
		return nil, err
	}
	o := &Opened{Bundle: b.Bundle, is: b}
	o.NewReleases, o.NewAdvisories = h.brings(b)
	return o, nil
}

func told(progress func(string)) func(bundle.Progress) {
	return func(p bundle.Progress) {
		progress(fmt.Sprintf("%s %s, %s, %s", p.Stage, filepath.Base(p.File), catalogue.Some(p.Entries, "file"),
			catalogue.Bytes(p.Bytes)))
	}
}

// brings tells how many of the releases and advisories in an opened bundle the catalogue has not yet.
func (h *house) brings(b *bundle.Bundle) (releases, advisories int) {
	cat := h.Catalogue()
	for _, batch := range b.Batches {
		for i := range batch.Releases {
			r := &batch.Releases[i]
			if !slices.ContainsFunc(cat.Releases(r.Component), func(o catalogue.Release) bool {
				return o.Version == r.Version && o.Track == r.Track && estate.SameModels(o.Hardware, r.Hardware)
			}) {
				releases++
			}
		}
		for _, a := range batch.Advisories {
			if cat.Advisory(a.ID) == nil {
				advisories++
			}
		}
	}
	return releases, advisories
}

// Close lets go of what was unpacked. It is harmless after TakeIn.
func (o *Opened) Close() error {
	if o.is == nil {
		return nil
	}
	return o.is.Close()
}

// TakeIn takes the bundle in, whole. known tells that this very one was taken in before: nothing has changed then.
func (h Supplies) TakeIn(ctx context.Context, o *Opened, progress func(string)) (known bool, err error) {
	o.is.Tell(told(progress))
	switch err := o.is.Accept(ctx); {
	case errors.Is(err, bundle.ErrKnown):
		return true, nil
	case err != nil:
		return false, err
	}
	return false, errors.Join(h.enter(ctx, logbook.Entry{Kind: logbook.TakenIn, Says: fmt.Sprintf("%s, id %s: %s, %s", o.Name, o.ID,
		catalogue.Some(o.NewReleases, "new release"), catalogue.Some(o.NewAdvisories, "new advisory"))}), h.Reload())
}

// Bundles are those that were taken in, the newest first.
func (h *house) Bundles() ([]catalogue.Bundle, error) { return h.bundles.Taken() }

// TakeOut takes a bundle out of the catalogue again; its payloads stay until they are pruned.
func (h Supplies) TakeOut(ctx context.Context, id string) (catalogue.Bundle, error) {
	b, err := h.bundles.Remove(id)
	if err != nil {
		return b, err
	}
	return b, errors.Join(h.enter(ctx, logbook.Entry{Kind: logbook.TakenOut, Says: fmt.Sprintf("%s, id %s", b.Name, b.ID)}), h.Reload())
}

// wanted returns the releases that verdicts of the estate want, by the hash of their payload.
func wanted(verdicts map[string][]drift.Verdict) map[string]*catalogue.Release {
	out := map[string]*catalogue.Release{}
	for _, vs := range verdicts {
		for _, v := range vs {
			if v.Outcome.Drifts() && v.Release != nil && v.Release.SHA256 != "" && v.Release.At == "" {
				out[v.Release.SHA256] = v.Release
			}
		}
	}
	return out
}

// keptVerdicts judges hosts as they were last read; all where none is named.
func (h *house) keptVerdicts(ctx context.Context, hosts ...string) (map[string][]drift.Verdict, error) {
	hosts, err := h.Hosts(hosts...)
	if err != nil {
		return nil, err
	}
	kept, err := h.readings.Newest(ctx, hosts)
	if err != nil {
		return nil, err
	}
	return h.Check(h.Checker(), kept), nil
}

// Fetch gets the payloads that hosts want, all of them where none is named, and says how many.
func (h Supplies) Fetch(ctx context.Context, hosts []string, progress func(string)) (says string, err error) {
	verdicts, err := h.keptVerdicts(ctx, hosts...)
	if err != nil {
		return "", err
	}
	var all []*catalogue.Release
	for _, r := range wanted(verdicts) {
		all = append(all, r)
	}
	return h.fetchAll(ctx, all, progress)
}

// FetchPlanned gets the payloads that a plan puts in and that are not here, and says how many.
func (h Supplies) FetchPlanned(ctx context.Context, p *plan.Plan, progress func(string)) (says string, err error) {
	var all []*catalogue.Release
	var errs []error
	seen := map[string]bool{}
	cat := h.Catalogue()
	for i := range p.Visits {
		for _, c := range p.Visits[i].Changes {
			if !c.Supplied() || seen[c.File] {
				continue
			}
			seen[c.File] = true
			rs := cat.Releases(c.Component)
			n := slices.IndexFunc(rs, func(r catalogue.Release) bool { return r.File == c.File && r.SHA256 == c.SHA256 })
			if n < 0 {
				errs = append(errs, fmt.Errorf("the payload of %s %s is in no feed any more; plan again", c.Component, c.To))
				continue
			}
			all = append(all, &rs[n])
		}
	}
	says, err = h.fetchAll(ctx, all, progress)
	return says, errors.Join(append(errs, err)...)
}

func (h *house) fetchAll(ctx context.Context, all []*catalogue.Release, progress func(string)) (says string, err error) {
	var errs []error
	here, got := 0, 0
	for _, r := range all {
		if h.payloads.Check(r.File, r.SHA256) == nil {
			here++
		} else if err := h.fetch(ctx, r, progress); err != nil {
			errs = append(errs, err)
		} else {
			got++
		}
	}
	return fmt.Sprintf("%s fetched, %d were here, %d failed", catalogue.Some(got, "payload"), here, len(errs)), errors.Join(errs...)
}

// fetch gets the payload of a release from its feed into the payload store.
func (h *house) fetch(ctx context.Context, r *catalogue.Release, progress func(string)) error {
	f, err := h.feed(r.Feed)
	if err != nil {
		return fmt.Errorf("the payload of %s %s: its releases come from %s, which is no feed that can be fetched "+
			"from; import a bundle that holds it", r.Component, r.Version, r.Feed)
	}
	if err := h.shelf.Payload(ctx, f, r, h.payloads.Store, func(p feed.Progress) { progress(p.Says()) }); err != nil {
		return fmt.Errorf("the payload of %s %s from the feed %s: %w", r.Component, r.Version, f.Name, err)
	}
	return nil
}

// Rule says which payloads are pruned, and with Damaged those too that are not as their hashes say, wanted or not.
type Rule struct {
	catalogue.PruneRule
	Damaged bool
}

// ParseRule reads a rule in words, as "unknown older=90 most=20 damaged".
func ParseRule(text string) (rule Rule, err error) {
	for _, w := range strings.Fields(text) {
		name, value, _ := strings.Cut(w, "=")
		n, e := strconv.ParseInt(value, 10, 32)
		switch {
		case w == "unknown":
			rule.Unknown = true
		case w == "damaged":
			rule.Damaged = true
		case name == "older" && e == nil && n > 0:
			rule.OlderThan = time.Duration(n) * 24 * time.Hour
		case name == "most" && e == nil && n > 0:
			rule.Most = n << 30
		default:
			return rule, fmt.Errorf("%q is no part of a rule: there are unknown, damaged, older=DAYS and most=GIB", w)
		}
	}
	if rule == (Rule{}) {
		err = errors.New("the rule is empty: say unknown, damaged, older=DAYS or most=GIB")
	}
	return rule, err
}

// Prune says which payloads the rule lets go: never what a host wants, or an unfinished round is going to apply.
func (h Supplies) Prune(ctx context.Context, rule Rule) (out []catalogue.Pruned, err error) {
	if err := h.refuses("what is needed can't be told"); err != nil {
		return nil, err
	}
	if rule.PruneRule != (catalogue.PruneRule{}) {
		if out, err = h.prune(ctx, rule.PruneRule); err != nil {
			return nil, err
		}
	}
	if !rule.Damaged {
		return out, nil
	}
	bad, err := h.payloads.Store.Verify(ctx, nil)
	for _, b := range bad {
		out = append(out, catalogue.Pruned{Stored: catalogue.Stored{SHA256: b.SHA256}, Why: b.Why})
	}
	return out, err
}

func (h *house) prune(ctx context.Context, rule catalogue.PruneRule) ([]catalogue.Pruned, error) {
	have, err := h.payloads.Store.List()
	if err != nil {
		return nil, err
	}
	verdicts, err := h.keptVerdicts(ctx)
	if err != nil {
		return nil, err
	}
	keep := map[string]bool{}
	for sum := range wanted(verdicts) {
		keep[sum] = true
	}
	for _, c := range h.Estate.Clusters { // what an unfinished round is going to apply stays too
		s, _, err := h.latest(ctx, c.Name)
		if err != nil {
			return nil, err
		}
		if s == nil || s.Status == course.Finished {
			continue
		}
		for _, v := range s.Plan.Visits {
			for _, ch := range v.Changes {
				keep[ch.SHA256] = true
			}
		}
	}
	return catalogue.Prune(have, keep, h.Catalogue().Payloads(), rule, time.Now()), nil
}

// Drop removes payloads from the store.
func (h Supplies) Drop(doomed []catalogue.Pruned) error {
	for _, d := range doomed {
		if err := h.payloads.Store.Remove(d.SHA256); err != nil {
			return err
		}
	}
	return nil
}

// Payloads lists the payload store.
func (h *house) Payloads(ctx context.Context) (view.Payloads, error) {
	var out view.Payloads
	all, err := h.payloads.Store.List()
	if err != nil {
		return out, err
	}
	verdicts, err := h.keptVerdicts(ctx)
	if err != nil {
		return out, err
	}
	wants := wanted(verdicts)
	for _, s := range all {
		p := view.Payload{Stored: s, Wanted: wants[s.SHA256] != nil}
		if r := h.Catalogue().ByPayload(s.SHA256); r != nil {
			p.Release = string(r.Component) + " " + r.Version
		}
		out.Payloads = append(out.Payloads, p)
		out.Size += s.Size
	}
	if out.Own, err = h.payloads.own(); err != nil {
		return out, err
	}
	out.Free, err = h.payloads.Store.Free()
	return out, err
}
