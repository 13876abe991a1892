package cli

import (
	"bufio"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	versions "yareharbour/core/version"
	"yareharbour/plain"
)

func (a *app) versionCommand() *cobra.Command {
	c := &cobra.Command{
		Use:     "version",
		Short:   "Print the version of this program, or compare versions",
		Example: "  yare version\n  echo '1.0~rc1 1.0' | yare version compare debian",
		RunE: func(*cobra.Command, []string) error {
			a.says("yare %s", version())
			return nil
		},
	}
	c.AddCommand(a.versionCompare())
	return c
}

func (a *app) versionCompare() *cobra.Command {
	var names []string
	for _, s := range versions.Schemes {
		names = append(names, s.String())
	}
	return &cobra.Command{
		Use:   "compare SCHEME",
		Short: "Compare pairs of versions from standard input",
		Long: "Reads pairs of versions, a pair a line, and prints <, = or > for each. The schemes: " +
			strings.Join(names, ", ") + ".",
		Example: "  printf '1.0~rc1 1.0\\n1.0^git1 1.0\\n' | yare version compare rpm",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := versions.ParseScheme(args[0])
			if err != nil {
				return err
			}
			return comparePairs(s, c.InOrStdin(), a.out)
		},
	}
}

// comparePairs answers as it reads, and stops at the first line that is no pair of versions of the scheme.
func comparePairs(s versions.Scheme, in io.Reader, out io.Writer) error {
	w := bufio.NewWriter(out)
	defer w.Flush()
	lines := bufio.NewScanner(in)
	for n := 1; lines.Scan(); n++ {
		f := strings.Fields(lines.Text())
		if len(f) == 0 {
			continue
		}
		if len(f) != 2 {
			return fmt.Errorf("line %d holds %d versions, and a pair is wanted", n, len(f))
		}
		for _, v := range f {
			if err := s.Valid(v); err != nil {
				return fmt.Errorf("line %d: %w", n, err)
			}
		}
		plain.Fprintln(w, string("<=>"[s.Compare(f[0], f[1])+1]))
	}
	return lines.Err()
}
