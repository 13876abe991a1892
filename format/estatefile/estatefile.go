// Package estatefile reads the file that says what the estate is, how it is reached, and where it may be acted on.
// docs/formats.md describes it.
package estatefile

import (
	"fmt"
	"net"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/core/estate"
	"yareharbour/core/precheck"
	"yareharbour/core/span"
	"yareharbour/feed"
	"yareharbour/format/expression"
	"yareharbour/format/strictyaml"
	"yareharbour/images"
	"yareharbour/secret"
)

// File is an estate file. Paths in it are relative to the file's own directory.
type File struct {
	Estate    string    `yaml:"estate"`
	Connector Connector `yaml:"connector"`
	// Connectors are other ways, each for the hosts and clusters that it names.
	Connectors []Way     `yaml:"connectors"`
	Clusters   []Cluster `yaml:"clusters"`
	Releases   []string  `yaml:"releases"`  // release lists
	Indexes    []Indexes `yaml:"indexes"`   // Debian indices
	Feeds      []Feed    `yaml:"feeds"`     // where releases and advisories come from
	Baselines  []string  `yaml:"baselines"` // baseline files
	Payloads   string    `yaml:"payloads"`  // the directory of payload files
	BMCs       []BMC     `yaml:"bmcs"`      // of hosts that are reached over SSH
	AtOnce     int       `yaml:"at_once"`   // how many hosts are read at the same time; 0: eight
	Checks     []Check   `yaml:"checks"`    // of one\'s own
	// the guest, by name or UUID, that this program runs in; empty: it is found by this machine's UUID
	Controller string `yaml:"controller"`
	// where images are served to BMCs from which hosts start once; nothing: nowhere
	Images images.Settings `yaml:"images"`
	// how long the lease of a cluster holds without being renewed, as "60s"; empty: a minute
	Lease string `yaml:"lease"`
}

// LeaseTerm is how long the lease of a cluster holds without being renewed; 0 where the file does not say.
func (f File) LeaseTerm() (time.Duration, error) {
	if f.Lease == "" {
		return 0, nil
	}
	d, err := span.Parse(f.Lease)
	if err != nil || d < 2*time.Second || d > time.Hour {
		return 0, fmt.Errorf("a lease of %q: a time as \"60s\" is wanted, from 2s to 1h", f.Lease)
	}
	return d, nil
}

// Indexes is a directory of Debian indices, laid out as apt keeps its lists.
type Indexes struct {
	Dir          string   `yaml:"dir"`
	Architecture string   `yaml:"architecture"` // of the hosts, as "amd64"
	Keyrings     []string `yaml:"keyrings"`     // whose signature is wanted; none: signatures are not verified
}

// Feed is where releases and advisories come from. Its path, where it is a directory, and those of its keyrings are
// relative to the estate file.
type Feed struct {
	Name         string            `yaml:"name"`
	Kind         string            `yaml:"kind"` // debian, rpm, firmware, files
	At           string            `yaml:"at"`   // URL or directory
	Suites       []string          `yaml:"suites"`
	Components   []string          `yaml:"components"`
	Architecture string            `yaml:"architecture"`
	Keyrings     []string          `yaml:"keyrings"`
	Sync         string            `yaml:"sync"` // "on demand", "off", "every 6h", "daily 03:30"
	Proxy        string            `yaml:"proxy"`
	Names        map[string]string `yaml:"names"` // AppStream id, GUID or PCI id → component
	// how old what it said may be before nobody can tell by it what is wanted, as "45d" or "12h"; empty: 30 days
	MaxAge string `yaml:"max_age"`
	// what is refused otherwise: older, other-suite, weak-signatures, plain-redirects
	Allow []feed.Permission `yaml:"allow"`
}

// The kinds of connectors.
const (
	Sim = "sim" // a simulated estate
	SSH = "ssh" // hosts over SSH, with libvirt and BMCs beside
)

// Connector says how hosts are reached.
type Connector struct {
	Kind string `yaml:"kind"`
	Dir  string `yaml:"dir"` // of the simulated estate

	User       string   `yaml:"user"`        // who logs in; empty: whom ssh_config names
	Sudo       bool     `yaml:"sudo"`        // look as root
	Config     []string `yaml:"ssh_config"`  // empty: the user's and the machine's own
	KnownHosts []string `yaml:"known_hosts"` // empty: those that ssh_config names
	Limit      string   `yaml:"limit"`       // of one look at a host, as "30s"; empty: 10 s
	// Migration says how guests move between the hosts.
	Migration Migration `yaml:"migration"`
}

// Migration says how guests move between hosts that are reached over SSH.
type Migration struct {
	// of a target's libvirt as its peers reach it, with %h for its name; empty: over SSH as root
	URI       string `yaml:"uri"`
	Bandwidth uint64 `yaml:"bandwidth"` // of one migration at most, in MiB a second; 0: no limit
	Tunnelled bool   `yaml:"tunnelled"` // through libvirt's own connection
}

// Way is a connector for some hosts.
type Way struct {
	Hosts     []string `yaml:"hosts"` // hosts, or clusters for all of theirs
	Connector `yaml:",inline"`
}

// ConnectorOf is how the host is reached, and the place of that in Connectors; -1 where it is the estate's own.
func (f *File) ConnectorOf(host string) (Connector, int) {
	for i, w := range f.Connectors {
		for _, name := range w.Hosts {
			j := slices.IndexFunc(f.Clusters, func(c Cluster) bool { return c.Name == name })
			if name == host || j >= 0 && slices.Contains(f.Clusters[j].Hosts, host) {
				return w.Connector, i
			}
		}
	}
	return f.Connector, -1
}

// maxLimit is the longest that one look may take.
const maxLimit = 10 * time.Minute

// LookLimit is how long one look at a host may take; 0 where the file does not say.
func (c Connector) LookLimit() (time.Duration, error) {
	if c.Limit == "" {
		return 0, nil
	}
	d, err := span.Parse(c.Limit)
	if err != nil || d < time.Second || d > maxLimit {
		return 0, fmt.Errorf("a limit of %q: a time as \"30s\" is wanted, from 1s to %s", c.Limit, maxLimit)
	}
	return d, nil
}

// BMC says how a host's BMC is reached.
type BMC struct {
	Host     string       `yaml:"host"`
	At       string       `yaml:"at"` // name, or name:port
	User     string       `yaml:"user"`
	Password secret.Place `yaml:"password"` // where it is: never the secret itself
	// SHA-256 of its certificate, in hex, with or without colons; empty: verified by roots
	Fingerprint string `yaml:"fingerprint"`
	// a PEM file of certificates that vouch for it; empty: the machine's own
	Roots string            `yaml:"roots"`
	Names map[string]string `yaml:"names"` // inventory id or name → component, and device in parentheses
}

// Cluster is a cluster and what may be done to it.
type Cluster struct {
	Name    string   `yaml:"name"`
	Act     bool     `yaml:"act"`
	Reserve *int     `yaml:"reserve"` // 1 where it is not given
	Hosts   []string `yaml:"hosts"`
	// Moves is how many migrations a round makes at once; 0: two. Patience is how long it waits for a host beyond the
	// usual before it stops, as "20m", which is the default.
	Moves    int    `yaml:"moves"`
	Patience string `yaml:"patience"`
	// Rules say which guests may be where, and with whom.
	Rules []Rule `yaml:"rules"`
}

// Check is a check of one's own: docs/prechecks/own.md.
type Check struct {
	Name   string `yaml:"name"`
	Holds  string `yaml:"holds"`       // the expression: it is clear where that is true
	Level  string `yaml:"level"`       // where it does not hold: caution, which is the default, or blocker
	Says   string `yaml:"says"`        // what is told then
	Remedy string `yaml:"remedy"`      // what to do then
	Never  string `yaml:"never_waive"` // why it must never be waived; empty: it may be
}

// checkOwn holds checks of one's own to what they must say, at the place where they do not.
func checkOwn(f *strictyaml.File, checks []Check) error {
	for i, c := range checks {
		at := fmt.Sprintf("$.checks[%d]", i)
		switch {
		case !checkName.MatchString(c.Name):
			return f.Errorf(at, "a check needs a name of small letters, digits and hyphens, and this one has %q",
				c.Name)
		case slices.ContainsFunc(precheck.Checks, func(o precheck.Check) bool {
			return o.Name == c.Name
		}):
			return f.Errorf(at+".name", "%s is the name of a check that there is already", c.Name)
		case slices.ContainsFunc(checks[:i], func(o Check) bool { return o.Name == c.Name }):
			return f.Errorf(at+".name", "there are two checks named %s", c.Name)
		case c.Level != "" && c.Level != string(precheck.Caution) && c.Level != string(precheck.Blocker):
			return f.Errorf(at+".level", "where it does not hold a check is a caution or a blocker, not %q", c.Level)
		case c.Says == "" || c.Remedy == "":
			return f.Errorf(at, "the check %s needs says, what is told where it does not hold, and remedy, "+
				"what to do then", c.Name)
		}
		if _, err := expression.CompileCheck(c.Holds); err != nil {
			return f.Errorf(at+".holds", "the check %s: %v", c.Name, err)
		}
	}
	return nil
}

var checkName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)

// Rule says where guests may be: estate.Rule has what its fields mean.
type Rule struct {
	Keep   estate.Keep `yaml:"keep"`
	Guests []string    `yaml:"guests"`
	Hosts  []string    `yaml:"hosts"`
	Prefer bool        `yaml:"prefer"`
	Of     []string    `yaml:"of"`
	Wait   string      `yaml:"wait"`
	// an address, host:port, at which something must answer before
	Answers string `yaml:"answers"`
}

// rule is the rule that it says. It was looked at when the file was read.
func (r Rule) rule() estate.Rule {
	wait, _ := span.Parse(r.Wait)
	return estate.Rule{Keep: r.Keep, Guests: r.Guests, Hosts: r.Hosts, Prefer: r.Prefer, Of: r.Of, Wait: wait, Answers: r.Answers}
}

// checkRules holds the rules of a cluster to what they may say.
func checkRules(f *strictyaml.File, at string, c *Cluster) error {
	for i, r := range c.Rules {
		at := fmt.Sprintf("%s.rules[%d]", at, i)
		bound := r.Keep == estate.KeptIn || r.Keep == estate.KeptOut
		switch {
		case !slices.Contains(estate.Keeps, r.Keep):
			return f.Errorf(at, "a rule keeps guests apart, together, inside hosts, outside hosts or after others; not %q", r.Keep)
		case len(r.Guests) == 0:
			return f.Errorf(at, "a rule needs guests that it speaks of")
		case bound && len(r.Hosts) == 0:
			return f.Errorf(at, "a rule that keeps guests %s hosts needs hosts", r.Keep)
		case !bound && len(r.Hosts) > 0:
			return f.Errorf(at+".hosts", "a rule that keeps guests %s speaks of no hosts", r.Keep)
		case r.Keep == estate.After && len(r.Of) == 0:
			return f.Errorf(at, "a rule that keeps guests after others needs \"of\", the guests that are started first")
		case r.Keep != estate.After && len(r.Of) > 0:
			return f.Errorf(at+".of", "a rule that keeps guests %s speaks of no others", r.Keep)
		case r.Keep != estate.After && r.Answers != "":
			return f.Errorf(at+".answers", "a rule that keeps guests %s waits for nothing", r.Keep)
		case r.Keep != estate.After && r.Wait != "":
			return f.Errorf(at+".wait", "a rule that keeps guests %s waits for nothing", r.Keep)
		}
		if host, port, err := net.SplitHostPort(r.Answers); r.Answers != "" && (err != nil || host == "" || port == "") {
			return f.Errorf(at+".answers", "%q is no address: one as db-1.example:5432 is wanted", r.Answers)
		}
		if r.Wait != "" {
			if d, err := span.Parse(r.Wait); err != nil || d > time.Hour {
				return f.Errorf(at+".wait", "a wait of %q: a time as \"30s\" is wanted, up to 1h", r.Wait)
			}
		}
		for j, h := range r.Hosts {
			if !slices.Contains(c.Hosts, h) {
				return f.Errorf(fmt.Sprintf("%s.hosts[%d]", at, j), "%s has no host %q", c.Name, h)
			}
		}
		for j, g := range slices.Concat(r.Guests, r.Of) {
			if _, err := path.Match(g, ""); err != nil || g == "" {
				return f.Errorf(fmt.Sprintf("%s.guests[%d]", at, j), "%q is no name of a guest, nor a pattern", g)
			}
		}
	}
	return nil
}

// patience is how long a round over the cluster waits for a host beyond the usual; 0 where the file does not say.
func (c Cluster) patience() (time.Duration, error) {
	if c.Patience == "" {
		return 0, nil
	}
	d, err := span.Parse(c.Patience)
	if err != nil || d < time.Second || d > 24*time.Hour {
		return 0, fmt.Errorf("a patience of %q: a time as \"20m\" is wanted, from 1s to 24h", c.Patience)
	}
	return d, nil
}

// Describe is the estate that the file describes.
func (f File) Describe() estate.Estate {
	e := estate.Estate{Name: f.Estate}
	for _, c := range f.Clusters {
		reserve := 1
		if c.Reserve != nil {
			reserve = *c.Reserve
		}
		patience, _ := c.patience() // looked at when the file was read
		own := estate.Cluster{Name: c.Name, Hosts: c.Hosts, Act: c.Act, Reserve: reserve,
			Moves: c.Moves, Patience: patience}
		for _, r := range c.Rules {
			own.Rules = append(own.Rules, r.rule())
		}
		for _, h := range c.Hosts { // the slowest counts
			way, _ := f.ConnectorOf(h)
			if b := int64(way.Migration.Bandwidth); b > 0 && (own.Bandwidth == 0 || b < own.Bandwidth) {
				own.Bandwidth = b
			}
		}
		e.Clusters = append(e.Clusters, own)
	}
	return e
}

// Parse reads an estate file. The error is a *strictyaml.Error with the place.
func Parse(name string, text []byte) (File, error) {
	var in File
	f, err := strictyaml.Decode(name, text, &in)
	if err != nil {
		return in, err
	}
	if in.AtOnce < 0 || in.AtOnce > 256 {
		return in, f.Errorf("$.at_once", "%d hosts at the same time: 1 to 256 are wanted", in.AtOnce)
	}
	if _, err := in.LeaseTerm(); err != nil {
		return in, f.Errorf("$.lease", "%v", err)
	}
	if in.Images != (images.Settings{}) {
		if err := in.Images.Check(); err != nil {
			return in, f.Errorf("$.images", "%v", err)
		}
	}
	for i, x := range in.Indexes {
		if x.Dir == "" || x.Architecture == "" {
			return in, f.Errorf(fmt.Sprintf("$.indexes[%d]", i),
				"indices need the directory they are in and the hosts' architecture")
		}
	}
	if err := checkFeeds(f, in.Feeds); err != nil {
		return in, err
	}
	if err := checkOwn(f, in.Checks); err != nil {
		return in, err
	}
	where := map[string]string{}
	for i, c := range in.Clusters {
		at := fmt.Sprintf("$.clusters[%d]", i)
		if c.Name == "" || len(c.Hosts) == 0 {
			return in, f.Errorf(at, "a cluster needs a name and hosts")
		}
		if c.Reserve != nil && (*c.Reserve < 0 || *c.Reserve >= len(c.Hosts)) {
			return in, f.Errorf(at+".reserve", "a reserve of %d host(s) can't be kept by %d hosts",
				*c.Reserve, len(c.Hosts))
		}
		if c.Moves < 0 || c.Moves > 64 {
			return in, f.Errorf(at+".moves", "%d migrations at once: 1 to 64 are wanted", c.Moves)
		}
		if _, err := c.patience(); err != nil {
			return in, f.Errorf(at+".patience", "%v", err)
		}
		if err := checkRules(f, at, &in.Clusters[i]); err != nil {
			return in, err
		}
		for j, h := range c.Hosts {
			if other, ok := where[h]; ok {
				return in, f.Errorf(fmt.Sprintf("%s.hosts[%d]", at, j), "%s is in the cluster %s already", h, other)
			}
			where[h] = c.Name
		}
		if slices.ContainsFunc(in.Clusters[:i], func(o Cluster) bool { return o.Name == c.Name }) {
			return in, f.Errorf(at+".name", "there are two clusters named %s", c.Name)
		}
	}
	return in, checkConnectors(f, &in)
}

// checkConnectors holds what is said of the ways to hosts to what connectors know, and to the hosts that there are.
func checkConnectors(f *strictyaml.File, in *File) error {
	if err := checkConnector(f, "$.connector", in.Connector); err != nil {
		return err
	}
	named := map[string]bool{}
	for i, w := range in.Connectors {
		at := fmt.Sprintf("$.connectors[%d]", i)
		if err := checkConnector(f, at, w.Connector); err != nil {
			return err
		}
		if len(w.Hosts) == 0 {
			return f.Errorf(at, "a connector beside the estate's own needs hosts: those that it reaches")
		}
		for j, name := range w.Hosts {
			var hosts []string
			for _, c := range in.Clusters {
				if c.Name == name {
					hosts = c.Hosts
				} else if slices.Contains(c.Hosts, name) {
					hosts = []string{name}
				}
			}
			if hosts == nil {
				return f.Errorf(fmt.Sprintf("%s.hosts[%d]", at, j), "there is no cluster or host %q", name)
			}
			for _, h := range hosts {
				if named[h] {
					return f.Errorf(fmt.Sprintf("%s.hosts[%d]", at, j), "two connectors name %s", h)
				}
				named[h] = true
			}
		}
	}
	for i := range in.BMCs {
		if c, _ := in.ConnectorOf(in.BMCs[i].Host); c.Kind == Sim {
			return f.Errorf("$.bmcs", "a simulated estate knows its BMCs itself")
		}
		if why := checkBMC(in, &in.BMCs[i]); why != "" {
			return f.Errorf(fmt.Sprintf("$.bmcs[%d]", i), "%s", why)
		}
	}
	return nil
}

// checkConnector holds what is said of one way to what its kind knows.
func checkConnector(f *strictyaml.File, at string, c Connector) error {
	switch {
	case c.Kind != Sim && c.Kind != SSH:
		return f.Errorf(at+".kind", "no connector %q: hosts are reached over SSH (\"ssh\"), or simulated (\"sim\")",
			c.Kind)
	case c.Kind == Sim && (c.User != "" || c.Sudo || c.Limit != "" || len(c.Config)+len(c.KnownHosts) > 0):
		return f.Errorf(at, "a simulated estate has a dir, and no user, sudo, ssh_config, known_hosts or limit")
	case c.Kind == Sim && c.Migration != (Migration{}):
		return f.Errorf(at+".migration", "a simulated estate moves its guests by itself")
	case c.Migration.URI != "" && !strings.Contains(c.Migration.URI, "%h"):
		return f.Errorf(at+".migration.uri", "%q leads to one host only: %%h stands for the target's name",
			c.Migration.URI)
	case c.Kind == SSH && c.Dir != "":
		return f.Errorf(at+".dir", "a dir is for a simulated estate; hosts reached over SSH have none")
	}
	if _, err := c.LookLimit(); err != nil {
		return f.Errorf(at+".limit", "%v", err)
	}
	return nil
}

var fingerprint = regexp.MustCompile(`^[0-9a-f]{64}$`)

// checkBMC brings what is said of a BMC into its one form, and says what is wrong with it.
func checkBMC(in *File, b *BMC) string {
	if _, _, err := net.SplitHostPort(b.At); err != nil && b.At != "" {
		b.At = net.JoinHostPort(strings.Trim(b.At, "[]"), "443")
	}
	b.Fingerprint = strings.ToLower(strings.ReplaceAll(b.Fingerprint, ":", ""))
	switch {
	case !slices.ContainsFunc(in.Clusters, func(c Cluster) bool { return slices.Contains(c.Hosts, b.Host) }):
		return fmt.Sprintf("no cluster has a host %q", b.Host)
	case b.At == "" || b.User == "":
		return "a BMC needs at, where it is, and user, who logs in"
	case b.Password.Check() != "":
		return "a BMC: " + b.Password.Check()
	case b.Fingerprint != "" && !fingerprint.MatchString(b.Fingerprint):
		return "the fingerprint of a certificate is its SHA-256 in hex (openssl s_client -connect NAME:443 " +
			"</dev/null | openssl x509 -noout -fingerprint -sha256)"
	case b.Fingerprint != "" && b.Roots != "":
		return "a BMC's certificate is pinned by its fingerprint or verified by roots, not both"
	case slices.ContainsFunc(in.BMCs, func(o BMC) bool { return o.Host == b.Host && !reflect.DeepEqual(o, *b) }):
		return fmt.Sprintf("%s has two BMCs", b.Host)
	}
	for name, to := range b.Names {
		key, _, _ := strings.Cut(to, " (")
		if k, err := estate.ParseKey(key); err != nil || k.Layer() != estate.Firmware || name == "" {
			return fmt.Sprintf("names: %q is no firmware, as \"fw:NAME\" or \"fw:NAME (device)\"", to)
		}
	}
	return ""
}

// checkFeeds holds every feed to what a feed must say, at the place where it does not.
func checkFeeds(f *strictyaml.File, feeds []Feed) error {
	for i, d := range feeds {
		at := fmt.Sprintf("$.feeds[%d]", i)
		out, err := d.Described()
		if err == nil {
			err = out.Check()
		}
		if err != nil {
			return f.Errorf(at, "the feed %q: %v", d.Name, err)
		}
		if slices.ContainsFunc(feeds[:i], func(o Feed) bool { return o.Name == d.Name }) {
			return f.Errorf(at+".name", "there are two feeds named %s", d.Name)
		}
	}
	return nil
}

// Described returns the feed as it is to be synced; its paths are as the file has them.
func (d Feed) Described() (feed.Feed, error) {
	out := feed.Feed{Name: d.Name, Kind: feed.Kind(d.Kind), At: d.At, Suites: d.Suites, Components: d.Components,
		Architecture: d.Architecture, Keyrings: d.Keyrings, Proxy: d.Proxy, Allow: d.Allow,
		Names: map[string]estate.Key{}}
	var err error
	if out.Schedule, err = feed.ParseSchedule(d.Sync); err != nil {
		return out, err
	}
	if out.MaxAge, err = maxAge(d.MaxAge); err != nil {
		return out, err
	}
	for name, key := range d.Names {
		if out.Names[name], err = estate.ParseKey(key); err != nil {
			return out, err
		}
	}
	return out, nil
}

// maxAge reads how old a feed may be: a number of days with "d", or a duration as Go writes it.
func maxAge(text string) (time.Duration, error) {
	if text == "" {
		return feed.MaxAge, nil
	}
	d, err := span.Parse(text)
	if days, ok := strings.CutSuffix(text, "d"); ok {
		var n int
		n, err = strconv.Atoi(days)
		d = time.Duration(n) * 24 * time.Hour
	}
	if err != nil || d <= 0 || d > 10*365*24*time.Hour {
		return 0, fmt.Errorf("max_age is %q: an age is wanted, as 45d or 12h", text)
	}
	return d, nil
}
