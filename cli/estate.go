package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yareharbour/harbour"
	"yareharbour/plain"
)

func (a *app) estateCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "estate",
		Short: "Write a first estate file",
		Long: "An estate file says which hosts there are, how they are reached, and what may be done to them. " +
			"docs/formats.md has all that it can say.",
		Example: "  yare estate init",
	}
	c.AddCommand(a.estateInit())
	return c
}

// draft is what the flags of estate init say.
type draft struct {
	harbour.Draft
	force bool
	sudo  bool // was said, either way
}

func (a *app) estateInit() *cobra.Command {
	var d draft
	c := &cobra.Command{
		Use:   "init",
		Short: "Ask for hosts, look at them, and write an estate file",
		Long: `Asks which hosts there are and who logs in, looks at them over SSH and through their libvirt,
finds how their libvirts reach each other, asks for their BMCs, and writes an estate file in which they are
looked at only. Nothing on the hosts is changed. What a flag says is not asked for.`,
		Example: "  yare estate init\n" +
			"  yare estate init --hosts heron,ibis,jacana --cluster vts --name \"Merrow Sound\"",
		RunE: func(c *cobra.Command, _ []string) error {
			d.sudo = c.Flags().Changed("sudo")
			return a.initEstate(c.Context(), &d)
		},
	}
	c.Flags().StringVar(&d.Estate, "name", "", "name of the estate")
	c.Flags().StringVar(&d.Cluster, "cluster", "", "name of the cluster that the hosts make up")
	c.Flags().StringSliceVar(&d.Hosts, "hosts", nil, "the hosts, as ssh knows them")
	c.Flags().StringVar(&d.Connector.User, "user", "", "who logs in to hosts (default: as ssh_config says)")
	c.Flags().BoolVar(&d.Connector.Sudo, "sudo", false, "commands run as root there, by sudo")
	c.Flags().StringSliceVar(&d.Connector.Config, "ssh-config", nil,
		"ssh_config files (default: your own and the machine's)")
	c.Flags().StringSliceVar(&d.Connector.KnownHosts, "known-hosts", nil,
		"files of host keys (default: those that ssh_config names)")
	c.Flags().BoolVar(&d.force, "replace", false, "replace an estate file that is there")
	return c
}

func (a *app) initEstate(ctx context.Context, d *draft) error {
	file := a.estate
	if file == "" {
		config, err := os.UserConfigDir()
		if err != nil {
			return fmt.Errorf("there is no configuration directory to write to (%w): say --estate FILE", err)
		}
		file = filepath.Join(config, "yare", harbour.EstateFile)
	}
	if _, err := os.Stat(file); err == nil && !d.force {
		return fmt.Errorf("%s is there already: --replace replaces it, --estate FILE writes another", file)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, list := range []*[]string{&d.Connector.Config, &d.Connector.KnownHosts} {
		for i, f := range *list {
			full, err := filepath.Abs(f)
			if err != nil {
				return err
			}
			(*list)[i] = full
		}
	}
	if err := a.askHosts(d); err != nil {
		return err
	}
	scout, err := harbour.NewScout(&d.Draft, filepath.Dir(file))
	if err != nil {
		return err
	}
	if err := a.lookAround(ctx, scout, d); err != nil {
		return err
	}
	text, err := d.Text()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return err
	}
	_, err = plain.Fprintf(
		a.out,
		"written: %s\nNext: yare connect tests every way to the hosts, yare read reads them, and yare baseline "+
			"start --as HOST makes a baseline from a good one.\n",
		file,
	)
	return err
}

// askHosts asks for what the flags do not say.
func (a *app) askHosts(d *draft) error {
	if d.Estate == "" {
		d.Estate = a.ask("Name of the estate", "my hosts")
	}
	if len(d.Hosts) == 0 {
		known := harbour.Aliases(d.Connector.Config)
		answer := a.ask("Hosts, as ssh knows them", strings.Join(known[:min(len(known), 12)], " "))
		d.Hosts = strings.FieldsFunc(answer, func(c rune) bool { return c == ' ' || c == ',' })
	}
	var out []string
	for _, h := range d.Hosts {
		if !slices.Contains(out, h) {
			out = append(out, h)
		}
	}
	if d.Hosts = out; len(out) == 0 {
		return errors.New("an estate has hosts: none was named")
	}
	if d.Cluster == "" {
		d.Cluster = a.ask("Name of the cluster that they make up", "main")
	}
	if !d.sudo && d.Connector.User != "root" {
		d.Connector.Sudo = a.confirm("Are commands to run as root there, by sudo? (not needed where root logs in)")
	}
	return nil
}

// lookAround looks at the hosts, at how they reach each other, and asks for their BMCs.
func (a *app) lookAround(ctx context.Context, scout *harbour.Scout, d *draft) error {
	plain.Fprintf(a.out, "looking at %s …\n", strings.Join(d.Hosts, ", "))
	failed := 0
	for _, f := range scout.Look(ctx, d.Hosts) {
		if f.Failed == nil {
			plain.Fprintf(a.out, "  %s  %s\n", f.Host, f.Says)
			continue
		}
		failed++
		plain.Fprintf(a.out, "  %s  FAILS: %s, %s: %s\n", f.Host, f.Failed.Way, f.Failed.Name, f.Failed.Found)
		if f.Failed.Do != "" {
			plain.Fprintf(a.out, "      → %s\n", f.Failed.Do)
		}
	}
	if failed > 0 &&
		!a.confirm(fmt.Sprintf("%d of %d hosts can't be read yet. Write the estate file all the same?",
			failed, len(d.Hosts))) {
		return errors.New("nothing was written")
	}
	if failed == 0 && len(d.Hosts) > 1 {
		uri, why := scout.Peers(ctx, d.Hosts)
		if d.Connector.Migration.URI = uri; why == "" {
			plain.Fprintf(a.out, "  their libvirts reach each other by %s\n", uri)
		} else {
			plain.Fprintf(a.out, "  their libvirts do not reach each other by TLS: %s\n", why)
			plain.Fprintln(a.out, "  guests will move over SSH by keys that may do nothing but speak to libvirt, which is as "+
				"much as root there;\n  \"yare host prepare\" makes them (docs/security.md)")
		}
	}
	for _, host := range d.Hosts {
		b, err := a.askBMC(ctx, scout, host)
		if err != nil {
			return err
		}
		if b != nil {
			d.BMCs = append(d.BMCs, *b)
		}
	}
	return nil
}

// askBMC asks how a host's BMC is reached; nil where it has none, or it is to be named later.
func (a *app) askBMC(ctx context.Context, scout *harbour.Scout, host string) (*harbour.BMC, error) {
	at := a.ask("BMC of "+host+", as name or name:port (empty: none)", "")
	if at == "" {
		return nil, nil
	}
	b := &harbour.BMC{Host: host, At: at}
	if _, _, err := net.SplitHostPort(at); err != nil {
		at = net.JoinHostPort(at, "443")
	}
	sum, subject, err := scout.Certificate(ctx, at)
	if err != nil {
		plain.Fprintf(a.out, "  it does not answer (%v): left out\n", err)
		return nil, nil
	}
	plain.Fprintf(a.out, "  it shows a certificate of %q with the SHA-256 %s\n", subject, sum)
	if !a.confirm("  Is that the fingerprint that the BMC itself shows?") {
		plain.Fprintln(a.out, "  left out: name it in the estate file when you know")
		return nil, nil
	}
	b.Fingerprint = sum
	b.User = a.ask("  user", "admin")
	return b, harbour.SetPassword(b, a.ask("  where its password is ("+harbour.PasswordForms+")",
		"env:"+strings.ToUpper(strings.Map(inName, host))+"_BMC"))
}

// inName keeps what the name of an environment variable may have.
func inName(c rune) rune {
	if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' {
		return c
	}
	return '_'
}
