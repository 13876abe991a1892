package harbour

import (
	"context"
	"fmt"
	"strings"

	"yareharbour/core/narrow"
)

// Narrow understands a filter's text; a word @NAME stands for the filter that was kept under that name.
func (h *Harbour) Narrow(ctx context.Context, text string) (narrow.Filter, error) {
	kept, err := h.Filters.Filters(ctx)
	if err != nil {
		return narrow.Filter{}, err
	}
	return narrow.ParseWith(text, kept)
}

// KeepFilter keeps a filter's text under a name, and forgets it where the text is empty. A text that can't be
// understood is refused.
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
	return h.Filters.KeepFilter(ctx, name, text)
}
