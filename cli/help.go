package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"yareharbour/tui/part"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"
)

// What help is as wide as: where it goes to no terminal, and at least and at most on one.
const (
	helpWidth  = 100
	helpNarrow = 40
)

// width is how many columns help takes that is written there.
func width(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok {
		return helpWidth
	}
	columns, _, err := term.GetSize(f.Fd())
	if err != nil {
		return helpWidth
	}
	return min(max(columns, helpNarrow), helpWidth)
}

// setHelp has the help of a command and all below it break its texts so that words stay whole.
func setHelp(root *cobra.Command, columns int) {
	plainly := root.HelpFunc()
	root.SetHelpFunc(func(c *cobra.Command, args []string) {
		c.Long = wrapped(c.Long, columns)
		plainly(c, args)
	})
	root.SetUsageTemplate(strings.ReplaceAll(root.UsageTemplate(), ".FlagUsages",
		fmt.Sprintf(".FlagUsagesWrapped %d", columns)))
}

// wrapped breaks paragraphs, which stand apart by empty lines, to that many columns. Lines that are set in stay as they
// are.
func wrapped(text string, columns int) string {
	var out []string
	for p := range strings.SplitSeq(text, "\n\n") {
		if !strings.HasPrefix(p, " ") {
			p = strings.Join(part.Wrap(p, columns), "\n")
		}
		out = append(out, p)
	}
	return strings.Join(out, "\n\n")
}
