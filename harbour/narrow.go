package harbour

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yareharbour/core/narrow"
)

// Narrow understands a filter's text; a word @NAME stands for the filter that was kept under that name.
func (h Looking) Narrow(ctx context.Context, text string) (narrow.Filter, error) {
	kept, err := h.filters.Filters(ctx)
	if err != nil {
		return narrow.Filter{}, err
	}
	return narrow.ParseWith(text, kept)
}

// KeepFilter keeps a filter's text under a name, and forgets it where the text is empty. A text that can't be
// understood is refused.
func (h Looking) KeepFilter(ctx context.Context, name, text string) error {
	if name == "" || strings.ContainsAny(name, " @=") {
		return fmt.Errorf("%q can't be a filter's name: one word, without @ and =", name)
	}
	if _, err := h.Narrow(ctx, text); err != nil {
		return err
	}
	if strings.Contains(text, "@") {
		return fmt.Errorf("a kept filter can't stand on another one: write %q out", text)
	}
	return h.filters.KeepFilter(ctx, name, text)
}

// ForgetFilter forgets a filter that was kept.
func (h Looking) ForgetFilter(ctx context.Context, name string) error {
	kept, err := h.filters.Filters(ctx)
	if err != nil {
		return err
	}
	name = strings.TrimPrefix(name, "@")
	if _, ok := kept[name]; !ok {
		return fmt.Errorf("no filter is kept as @%s%s", name, Near(name, slices.Collect(maps.Keys(kept))))
	}
	return h.filters.KeepFilter(ctx, name, "")
}
