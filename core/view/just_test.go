package view

import (
	"fmt"
	"testing"
)

// What is narrowed to is what is planned: the hosts, and the components where others of these hosts are out of line too.
func TestConcerned(t *testing.T) {
	for text, want := range map[string]string{
		"":             "[x y] []",
		"host=x":       "[x] []",
		"deb:a":        "[x y] [deb:a]",
		"host=y deb:b": "[] []",
		"host=y deb:a": "[y] []",
		"deb:c":        "[] []",
		"host=x deb:b": "[x] [deb:b]",
	} {
		e := anEstate(map[string][]string{"x": {"deb:a:behind", "deb:b:absent"}, "y": {"deb:a:behind", "deb:b:fine"},
			"z": {"deb:a:unread", "deb:c:excepted"}})
		hosts, only := e.Concerned("c", filter(t, text))
		if got := fmt.Sprint(hosts, only); got != want {
			t.Errorf("%q: %s, want %s", text, got, want)
		}
	}
}
