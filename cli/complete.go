package cli

import (
	"context"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	versions "yareharbour/core/version"
	"yareharbour/core/view"
	"yareharbour/harbour"
)

// completeLimit is how long completing may take: whoever presses Tab waits.
const completeLimit = 2 * time.Second

// known are the words that may stand where a command's use says name; args are those before.
func (a *app) known(name string, args []string) []string {
	switch name {
	case "CLUSTER":
		return a.places(true, false)
	case "HOST", "HOST[@TIME]":
		return a.places(false, true)
	case "CLUSTER[/HOST]":
		out := a.places(true, false)
		for _, c := range a.clusters() {
			for _, h := range c.Hosts {
				out = append(out, c.Name+"/"+h)
			}
		}
		return out
	case "HOST-OF":
		return a.hostsOf(args[0])
	}
	for _, b := range a.bring {
		if words := b.Words[name]; words != nil {
			return words
		}
	}
	find := map[string]func(*app) []string{"COMPONENT": (*app).components, "BASELINE": (*app).baselineNames,
		"FEED": (*app).feedNames, "BUNDLE": (*app).bundleNames, "FILTER": (*app).filterNames, "CHECK": (*app).checkNames}[name]
	switch {
	case find != nil:
		return find(a)
	case name == "DOCUMENT":
		return documentNames()
	case name == "CHANGE":
		return a.components()
	case name == "ROUND":
		return a.roundsOf(args[0])
	case name == "SCHEME":
		var out []string
		for _, s := range versions.Schemes {
			out = append(out, s.String())
		}
		return out
	}
	return nil
}

// clusters are those of the estate file, which alone is read; none where it can't be.
func (a *app) clusters() []estate.Cluster {
	if a.prepare() != nil {
		return nil
	}
	all, _ := harbour.Names(a.options()) // what can't be read is not offered
	return all
}

// places are the names of clusters and hosts.
func (a *app) places(clusters, hosts bool) (out []string) {
	for _, c := range a.clusters() {
		if clusters {
			out = append(out, c.Name)
		}
		if hosts {
			out = append(out, c.Hosts...)
		}
	}
	return out
}

func (a *app) hostsOf(cluster string) []string {
	for _, c := range a.clusters() {
		if c.Name == cluster {
			return c.Hosts
		}
	}
	return nil
}

// from looks names up in the estate as it is kept; nothing is brought up or read for it.
func (a *app) from(names func(ctx context.Context, h *harbour.Harbour) []string) []string {
	if a.prepare() != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), completeLimit)
	defer cancel()
	h, err := harbour.Open(ctx, a.options())
	if err != nil {
		return nil
	}
	defer h.Close()
	return names(ctx, h)
}

func (a *app) components() []string {
	return a.from(func(_ context.Context, h *harbour.Harbour) (out []string) {
		for _, k := range h.Catalogue().Components() {
			out = append(out, string(k))
		}
		return out
	})
}

// scopes are the words that say a part of what is out of line.
func (a *app) scopes() (out []string) {
	for _, l := range estate.Layers {
		out = append(out, "layer="+string(l))
	}
	for _, c := range estate.Classes {
		out = append(out, "class="+c)
	}
	for _, b := range a.baselineNames() {
		out = append(out, "baseline="+b)
	}
	return append(out, a.components()...)
}

func (a *app) baselineNames() []string {
	return a.from(func(_ context.Context, h *harbour.Harbour) []string {
		return called(h.Sources(), func(b view.Baseline) string { return b.Name })
	})
}

func (a *app) feedNames() []string {
	return a.from(func(_ context.Context, h *harbour.Harbour) []string {
		all, _ := h.Feeds() // what can't be read is not offered
		return called(all, func(f view.Feed) string { return f.Name })
	})
}

func (a *app) bundleNames() []string {
	return a.from(func(_ context.Context, h *harbour.Harbour) []string {
		all, _ := h.Bundles() // what can't be read is not offered
		return called(all, func(b catalogue.Bundle) string { return b.Name })
	})
}

// called are the names of things.
func called[T any](all []T, name func(T) string) (out []string) {
	for _, x := range all {
		out = append(out, name(x))
	}
	return out
}

func (a *app) filterNames() []string {
	return a.from(func(ctx context.Context, h *harbour.Harbour) (out []string) {
		var all []view.Filter
		all, _ = h.KeptFilters(ctx) // what can't be read is not offered
		for _, f := range all {
			out = append(out, f.Name, "@"+f.Name)
		}
		return out
	})
}

func (a *app) checkNames() []string {
	return a.from(func(_ context.Context, h *harbour.Harbour) []string { return h.Checks() })
}

func (a *app) roundsOf(cluster string) []string {
	return a.from(func(ctx context.Context, h *harbour.Harbour) []string {
		ids, _ := h.IDs(ctx, cluster) // what can't be read is not offered
		return ids
	})
}

// digests are those under which plans of a cluster were shown.
func (a *app) digests(cluster string) []string {
	return a.from(func(ctx context.Context, h *harbour.Harbour) []string {
		all, _ := h.Digests(ctx, cluster) // what can't be read is not offered
		return all
	})
}
