package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"yareharbour/docs"
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

// helpCommand tells of commands, and of whatever the manual has a page, a part or a line about.
func (a *app) helpCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND… | TOPIC]",
		Short: "Help about a command, or what the manual says of a topic",
		Long: `Tells how a command is used, or what the manual says of a topic: a page (rounds, plans, verdicts, baselines …), a check
(bmc, health, fit …), a verdict (behind, withdrawn …), or a heading of a page ("boot media"). "yare help topics" lists the pages.`,
		Example: "  yare help round start\n  yare help bmc\n  yare help \"awaiting restart\"\n  yare help topics",
		Args:    cobra.ArbitraryArgs,
		ValidArgsFunction: func(c *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
			at, _, err := c.Root().Find(args)
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			for _, sub := range at.Commands() {
				if sub.IsAvailableCommand() {
					out = append(out, sub.Name())
				}
			}
			if len(args) == 0 {
				out = append(out, docs.Topics()...)
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			of := strings.Join(args, " ")
			if of == "topics" {
				return a.text(&output{}, []byte(strings.Join(part.Wrap(strings.Join(docs.Topics(), ", "), width(a.err)), "\n")+"\n"))
			}
			if at, rest, err := c.Root().Find(args); err == nil && len(rest) == 0 {
				at.InitDefaultHelpFlag()
				return at.Help()
			}
			found := docs.Find(of)
			if len(found) == 0 {
				return usage("there is no command and no topic %q; \"yare help topics\" lists the pages of the manual", of)
			}
			var out []string
			for _, f := range found {
				text := rendered(f.Text, width(a.err))
				if !strings.HasPrefix(f.Text, "# ") {
					text += "\n\n(of the page " + f.Page + ": yare help " + f.Page + ")"
				}
				out = append(out, text)
			}
			return a.text(&output{}, []byte(strings.Join(out, "\n\n")+"\n"))
		},
	}
}

// rendered is a page as it is read on a terminal: paragraphs and items are broken to the columns, tables are told row by
// row, and code stays as it is.
func rendered(text string, columns int) string {
	var out []string
	code := false
	var heads []string
	for line := range strings.Lines(strings.TrimRight(text, "\n")) {
		line = strings.TrimRight(line, "\n")
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), " | ")
		table := strings.HasPrefix(line, "|")
		if !table {
			heads = nil
		}
		switch {
		case strings.HasPrefix(line, "```"):
			code = !code
		case code:
			out = append(out, "    "+line)
		case strings.HasPrefix(line, "    "):
			out = append(out, line)
		case table && strings.Trim(line, "|-: ") == "":
		case table && heads == nil:
			heads = cells
		case table:
			if len(cells) > 1 && len([]rune(strings.TrimSpace(cells[0]))) <= 1 { // a sign
				cells, heads = append([]string{strings.TrimSpace(cells[0]) + " " + strings.TrimSpace(cells[1])}, cells[2:]...), append([]string{""}, heads[max(0, len(heads)-len(cells)+2):]...)
			}
			for i, c := range cells {
				head := ""
				if i < len(heads) {
					head = strings.TrimSpace(heads[i])
				}
				says := strings.TrimSpace(c)
				if i > 0 && head != "" {
					says = head + ": " + says
				}
				for j, l := range part.Wrap(says, columns-4) {
					out = append(out, map[bool]string{true: "  ", false: "    "}[i == 0 && j == 0]+l)
				}
			}
		default:
			out = append(out, part.Hang(line, columns)...)
		}
	}
	return strings.Join(out, "\n")
}
