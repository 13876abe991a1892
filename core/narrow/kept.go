package narrow

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// ParseWith reads a filter's text, in which a word @NAME stands for the filter that is kept under that name. One that
// is not kept is an error.
func ParseWith(text string, kept map[string]string) (Filter, error) {
	var words []string
	for _, w := range strings.Fields(text) {
		name, ok := strings.CutPrefix(w, "@")
		if !ok {
			words = append(words, w)
			continue
		}
		is, found := kept[name]
		if !found {
			return Filter{}, fmt.Errorf("no filter is kept as @%s; there are %s", name, estate.Listed(slices.Sorted(maps.Keys(kept))))
		}
		words = append(words, is)
	}
	return Parse(strings.Join(words, " "))
}
