// Package estatefile reads the file that says what the estate is, how it is reached, and where it may be acted on.
// docs/formats.md describes it.
package estatefile

import (
	"fmt"
	"slices"

	"yareharbour/format/strictyaml"
)

// File is an estate file. Paths in it are relative to the file's own directory.
type File struct {
	Estate    string    `yaml:"estate"`
	Connector Connector `yaml:"connector"`
	Clusters  []Cluster `yaml:"clusters"`
	Releases  []string  `yaml:"releases"`  // release lists
	Indexes   []Indexes `yaml:"indexes"`   // Debian indices
	Baselines []string  `yaml:"baselines"` // baseline files
	Payloads  string    `yaml:"payloads"`  // the directory of payload files
}

// Indexes is a directory of Debian indices, laid out as apt keeps its lists.
type Indexes struct {
	Dir          string   `yaml:"dir"`
	Architecture string   `yaml:"architecture"` // of the hosts, as "amd64"
	Keyrings     []string `yaml:"keyrings"`     // whose signature is wanted; none: signatures are not verified
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
