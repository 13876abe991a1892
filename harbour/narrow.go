package harbour

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yareharbour/core/drift"
	"yareharbour/core/ladder"
	"yareharbour/core/narrow"
)

// Narrow understands a filter's text; a word @NAME stands for the filter that was kept under that name.
func (h *Harbour) Narrow(ctx context.Context, text string) (narrow.Filter, error) {
	kept, err := h.Store.Filters(ctx)
	if err != nil {
		return narrow.Filter{}, err
	}
	return NarrowBy(text, kept)
}

// NarrowBy does so with the kept filters given.
func NarrowBy(text string, kept map[string]string) (narrow.Filter, error) {
	var words []string
	for _, w := range strings.Fields(text) {
		name, ok := strings.CutPrefix(w, "@")
		if !ok {
			words = append(words, w)
			continue
		}
		is, found := kept[name]
		if !found {
			return narrow.Filter{}, fmt.Errorf("no filter is kept as @%s; there are %v", name, slices.Sorted(maps.Keys(kept)))
		}
		words = append(words, is)
	}
	f, err := narrow.Parse(strings.Join(words, " "))
	return f, err
}

// KeepFilter keeps a filter's text under a name, and forgets it where the text is empty. A text that can't be understood is refused.
func (h *Harbour) KeepFilter(ctx context.Context, name, text string) error {
	if name == "" || strings.ContainsAny(name, " @=") {
		return fmt.Errorf("%q can't be a filter's name: one word, without @ and =", name)
	}
	if _, err := h.Narrow(ctx, text); err != nil {
		return err
	}
	if strings.Contains(text, "@") {
		return fmt.Errorf("a kept filter can't stand on another one: write %q out", text)
	}
	return h.Store.KeepFilter(ctx, name, text)
}

// Components lists what the catalogue has, as the hosts that were read stand to it.
func (h *Harbour) Components(ctx context.Context, f narrow.Filter, all bool) ([]ladder.Row, error) {
	held, verdicts, err := h.holdings(ctx)
	if err != nil {
		return nil, err
	}
	return ladder.List(h.Catalogue(), held, verdicts, f, h.World.Now(), all), nil
}

func (h *Harbour) holdings(ctx context.Context) (*drift.Holdings, map[string][]drift.Verdict, error) {
	hosts, err := h.Hosts()
	if err != nil {
		return nil, nil, err
	}
	kept, err := h.Store.Newest(ctx, hosts)
	if err != nil {
		return nil, nil, err
	}
	c := h.Checker()
	return drift.Hold(h.Estate.Clusters, kept, c.Now, c.MaxAge), h.Check(c, kept), nil
}

// Ladder lays a component's releases out.
func (h *Harbour) Ladder(ctx context.Context, key estateKey) (ladder.Ladder, error) {
	held, verdicts, err := h.holdings(ctx)
	if err != nil {
		return ladder.Ladder{}, err
	}
	l := ladder.Make(h.Catalogue(), held, verdicts, key)
	if len(l.Tracks) == 0 {
		return l, fmt.Errorf("no feed has a release of %s, and no host has it", key)
	}
	return l, nil
}
