package cli

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

func TestHelpIsBrokenToTheWidth(t *testing.T) {
	const columns = 60
	var all func(c *cobra.Command, do func(*cobra.Command))
	all = func(c *cobra.Command, do func(*cobra.Command)) {
		do(c)
		for _, sub := range c.Commands() {
			all(sub, do)
		}
	}
	root := newRoot(nil, io.Discard, io.Discard, nil)
	setHelp(root, columns)
	all(root, func(c *cobra.Command) {
		words := strings.Fields(c.Long)
		var out bytes.Buffer
		c.SetOut(&out)
		c.HelpFunc()(c, nil)
		about, rest, _ := strings.Cut(out.String(), "Usage:")
		for line := range strings.Lines(about) {
			if len([]rune(strings.TrimRight(line, "\n"))) > columns && c.Long != "" {
				t.Errorf("%s: wider than %d: %q", c.CommandPath(), columns, line)
			}
		}
		if got := strings.Fields(about); c.Long != "" && strings.Join(got, " ") != strings.Join(words, " ") {
			t.Errorf("%s: other words: %q", c.CommandPath(), about)
		}
		c.LocalFlags().VisitAll(func(f *pflag.Flag) {
			if !strings.Contains(strings.Join(strings.Fields(rest), " "), strings.Fields(f.Usage)[0]) {
				t.Errorf("%s: --%s is not told of", c.CommandPath(), f.Name)
			}
		})
	})
}

func TestWrapped(t *testing.T) {
	const text = "One two\nthree four.\n\n  set in, as it is\n\nFive six."
	if got, want := wrapped(text, 9), "One two\nthree\nfour.\n\n  set in, as it is\n\nFive six."; got != want {
		t.Errorf("%q, want %q", got, want)
	}
	if width(io.Discard) != helpWidth {
		t.Error("what is no terminal has a width of its own")
	}
}
