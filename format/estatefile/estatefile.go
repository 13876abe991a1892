// Package estatefile reads the file that says what the estate is, how it is reached, and where it may be acted on.
// docs/formats.md describes it.
package estatefile

import (
	"fmt"
	"slices"

	"yareharbour/core/estate"
	"yareharbour/feed"
	"yareharbour/format/strictyaml"
)

// File is an estate file. Paths in it are relative to the file's own directory.
type File struct {
	Estate    string    `yaml:"estate"`
	Connector Connector `yaml:"connector"`
	Clusters  []Cluster `yaml:"clusters"`
	Releases  []string  `yaml:"releases"`  // release lists
	Indexes   []Indexes `yaml:"indexes"`   // Debian indices
	Feeds     []Feed    `yaml:"feeds"`     // where releases and advisories come from
	Baselines []string  `yaml:"baselines"` // baseline files
	Payloads  string    `yaml:"payloads"`  // the directory of payload files
}

// Indexes is a directory of Debian indices, laid out as apt keeps its lists.
type Indexes struct {
	Dir          string   `yaml:"dir"`
	Architecture string   `yaml:"architecture"` // of the hosts, as "amd64"
	Keyrings     []string `yaml:"keyrings"`     // whose signature is wanted; none: signatures are not verified
}

// Feed is where releases and advisories come from. Its path, where it is a directory, and those of its keyrings are relative to the estate file.
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
}

// Connector says how hosts are reached.
type Connector struct {
	Kind string `yaml:"kind"` // "sim"
	Dir  string `yaml:"dir"`  // of the simulated estate
}

// Cluster is a cluster and what may be done to it.
type Cluster struct {
	Name    string   `yaml:"name"`
	Act     bool     `yaml:"act"`
	Reserve *int     `yaml:"reserve"` // 1 where it is not given
	Hosts   []string `yaml:"hosts"`
}

// Parse reads an estate file. The error is a *strictyaml.Error with the place.
func Parse(name string, text []byte) (File, error) {
	var in File
	f, err := strictyaml.Decode(name, text, &in)
	if err != nil {
		return in, err
	}
	if in.Connector.Kind != "sim" {
		return in, f.Errorf("$.connector.kind", "no connector %q: this version reaches simulated estates (\"sim\") and, with --local, this machine", in.Connector.Kind)
	}
	for i, x := range in.Indexes {
		if x.Dir == "" || x.Architecture == "" {
			return in, f.Errorf(fmt.Sprintf("$.indexes[%d]", i), "indices need the directory they are in and the hosts' architecture")
		}
	}
	if err := checkFeeds(f, in.Feeds); err != nil {
		return in, err
	}
	where := map[string]string{}
	for i, c := range in.Clusters {
		at := fmt.Sprintf("$.clusters[%d]", i)
		if c.Name == "" || len(c.Hosts) == 0 {
			return in, f.Errorf(at, "a cluster needs a name and hosts")
		}
		if c.Reserve != nil && (*c.Reserve < 0 || *c.Reserve >= len(c.Hosts)) {
			return in, f.Errorf(at+".reserve", "a reserve of %d host(s) can't be kept by %d hosts", *c.Reserve, len(c.Hosts))
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
	return in, nil
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
	out := feed.Feed{Name: d.Name, Kind: feed.Kind(d.Kind), At: d.At, Suites: d.Suites, Components: d.Components, Architecture: d.Architecture,
		Keyrings: d.Keyrings, Proxy: d.Proxy, Names: map[string]estate.Key{}}
	var err error
	if out.Schedule, err = feed.ParseSchedule(d.Sync); err != nil {
		return out, err
	}
	for name, key := range d.Names {
		if out.Names[name], err = estate.ParseKey(key); err != nil {
			return out, err
		}
	}
	return out, nil
}
