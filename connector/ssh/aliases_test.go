package ssh

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
)

// Hosts that a configuration names one by one are proposed, in their order; patterns, and files that are not there, are
// not.
func TestAliases(t *testing.T) {
	dir := t.TempDir()
	a, b := filepath.Join(dir, "a"), filepath.Join(dir, "b")
	for file, text := range map[string]string{
		a: "Host *\n User x\nhost heron ibis\n HostName 10.0.0.1\n# Host knot\n" +
			"Host jacana-? !lapwing\nMatch host ruff\n",
		b: "Host=\tstint\r\nHost heron\nHostName no\n",
	} {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if got := Aliases([]string{a, filepath.Join(dir, "none"), b}); !slices.Equal(got,
		[]string{"heron", "ibis", "stint"}) {
		t.Errorf("%q", got)
	}
	t.Setenv("HOME", dir)
	if got := Aliases(nil); got != nil {
		t.Errorf("without a configuration: %q", got)
	}
}
