package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"yareharbour/bundle"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/feed"
	"yareharbour/format/baselinefile"
	"yareharbour/tui"
)

func (b *backend) Compare(ctx context.Context, from, to string) (tui.Comparison, error) {
	x, err := b.h.ReadingAt(ctx, from)
	if err != nil {
		return tui.Comparison{}, err
	}
	y, err := b.h.ReadingAt(ctx, to)
	if err != nil {
		return tui.Comparison{}, err
	}
	return tui.Comparison{From: from, To: to, FromAt: x.Tried(), ToAt: y.Tried(), Comparison: drift.Compare(x, y)}, nil
}

func (b *backend) Looked(ctx context.Context, cluster string) error {
	return b.h.Looked(ctx, cluster, operator())
}

func (b *backend) KeepFilter(ctx context.Context, name, text string) error {
	return b.h.KeepFilter(ctx, name, text)
}

func (b *backend) Sync(ctx context.Context, names []string, progress func(string)) (string, error) {
	feeds := b.h.Due(time.Now())
	if len(names) > 0 {
		feeds = nil
	}
	for _, n := range names {
		f, err := b.h.Feed(n)
		if err != nil {
			return "", err
		}
		feeds = append(feeds, f)
	}
	results, err := b.h.Sync(ctx, feeds, func(p feed.Progress) { progress(feedProgress(p)) })
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

func (b *backend) Schedule(_ context.Context, name, schedule string) error {
	f, err := b.h.Feed(name)
	if err != nil {
		return err
	}
	s, err := feed.ParseSchedule(schedule)
	if err != nil {
		return err
	}
	return b.h.Shelf.Set(f.Name, s)
}

func (b *backend) OpenBundle(ctx context.Context, file, keyring string, progress func(string)) (*tui.Opened, error) {
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
	o, err := b.h.OpenBundle(ctx, file, keyrings, operator(), func(p bundle.Progress) {
		progress(fmt.Sprintf("%s %s, %s, %s", p.Stage, filepath.Base(p.File), catalogue.Some(p.Entries, "file"), catalogue.Bytes(p.Bytes)))
	})
	if err != nil {
		return nil, err
	}
	releases, advisories := b.h.News(o)
	return &tui.Opened{Bundle: o, NewReleases: releases, NewAdvisories: advisories}, nil
}

func (b *backend) Accept(ctx context.Context, o *tui.Opened, progress func(string)) error {
	o.Tell(func(p bundle.Progress) { progress(fmt.Sprintf("%s %s", p.Stage, filepath.Base(p.File))) })
	return b.h.Accept(ctx, o.Bundle)
}

func (b *backend) RemoveBundle(_ context.Context, id string) error {
	if _, err := b.h.Bundles.Remove(id); err != nil {
		return err
	}
	return b.h.Reload()
}

func (b *backend) Fetch(ctx context.Context, progress func(string)) (string, error) {
	verdicts, err := b.h.KeptVerdicts(ctx)
	if err != nil {
		return "", err
	}
	var errs []error
	got, here := 0, 0
	for _, r := range b.h.Wanted(verdicts) {
		if _, err := b.h.Payloads.Open(r.File, r.SHA256); err == nil {
			here++
		} else if err := b.h.Fetch(ctx, r, func(p feed.Progress) { progress(feedProgress(p)) }); err != nil {
			errs = append(errs, err)
		} else {
			got++
		}
	}
	return fmt.Sprintf("%s fetched, %d were here", catalogue.Some(got, "payload"), here), errors.Join(errs...)
}

func (b *backend) Verify(ctx context.Context, progress func(string)) (string, error) {
	n := 0
	bad, err := b.h.Payloads.Store.Verify(ctx, func(i, of int) { n = of; progress(fmt.Sprintf("%d of %d", i, of)) })
	if err == nil && len(bad) > 0 {
		err = fmt.Errorf("%d of %d payloads are damaged; \"yare payload prune --damaged\" removes them", len(bad), n)
	}
	return catalogue.Some(n, "payload") + ", all as their hashes say", err
}

func (b *backend) Kept(ctx context.Context) ([]string, error) {
	p, err := b.h.KeptPayloads(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, x := range p.Payloads {
		line := fmt.Sprintf("%.12s  %9s  %s", x.SHA256, catalogue.Bytes(x.Size), orNone(x.Release, "no release names it"))
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
			return rule, false, fmt.Errorf("%q is no part of a rule: there are unknown, damaged, older=DAYS and most=GIB", w)
		}
	}
	if rule == (catalogue.PruneRule{}) && !damaged {
		err = errors.New("the rule is empty: say unknown, damaged, older=DAYS or most=GIB")
	}
	return rule, damaged, err
}

func (b *backend) Prune(ctx context.Context, text string, really bool) ([]catalogue.Doomed, error) {
	rule, damaged, err := parseRule(text)
	if err != nil {
		return nil, err
	}
	doomed, err := b.h.Doomed(ctx, rule, damaged)
	if err != nil || !really {
		return doomed, err
	}
	for _, d := range doomed {
		if err := b.h.Payloads.Store.Remove(d.SHA256); err != nil {
			return nil, err
		}
	}
	return doomed, nil
}

func (b *backend) CompareVersions(ctx context.Context, name string, from, to int) ([]baseline.Change, error) {
	return b.h.CompareVersions(ctx, name, from, to)
}

func (b *backend) Effect(ctx context.Context, s *tui.Snapshot, name, text string) (drift.Effect, []baseline.Problem, error) {
	after, err := baselinefile.Parse(name+".yaml", []byte(text))
	if err != nil {
		return drift.Effect{}, nil, err
	}
	if after.Name != name {
		return drift.Effect{}, nil, fmt.Errorf("the text is of the baseline %q; a baseline keeps its name, %q", after.Name, name)
	}
	c := b.h.Checker()
	held := s.Held
	if held == nil {
		held = drift.Hold(b.h.Estate.Clusters, s.Readings, c.Now, c.MaxAge)
	}
	var before *baseline.Baseline
	if src, err := b.h.Source(name); err == nil {
		before = &src.Baseline
	}
	amiss, err := b.h.Problems(ctx, []baseline.Baseline{after})
	return c.Edit(held, before, &after), amiss, err
}

func (b *backend) Save(ctx context.Context, name, text string, after int, why string) error {
	_, err := b.h.SaveBaseline(ctx, name, text, after, operator(), why)
	return err
}

func (b *backend) Remove(ctx context.Context, name string) error {
	return b.h.RemoveBaseline(ctx, name)
}

func (b *backend) Versions(ctx context.Context, name string) ([]tui.Version, error) {
	list, err := b.h.Store.Versions(ctx, name)
	if err != nil {
		return nil, err
	}
	var out []tui.Version
	for _, v := range list {
		full, err := b.h.Store.Version(ctx, name, v.N)
		if err != nil {
			return nil, err
		}
		one := tui.Version{Version: full}
		if v.N > 1 {
			if one.Changes, err = b.h.CompareVersions(ctx, name, v.N-1, v.N); err != nil {
				return nil, err
			}
		}
		out = append(out, one)
	}
	return out, nil
}

func (b *backend) Derive(ctx context.Context, host string) (name, text string, err error) {
	if _, ok := b.h.Estate.ClusterOf(host); !ok {
		return "", "", fmt.Errorf("there is no host %q in %s", host, b.h.Estate.Name)
	}
	kept, err := b.h.Store.Newest(ctx, []string{host})
	if err != nil {
		return "", "", err
	}
	if kept[host] == nil {
		return "", "", fmt.Errorf("%s was never read", host)
	}
	name = "like-" + host
	d, err := baseline.Derive(kept[host], name, []estate.Layer{estate.Platform, estate.Driver, estate.Firmware})
	if err != nil {
		return "", "", err
	}
	body, err := baselinefile.Write(d)
	return name, string(body), err
}
