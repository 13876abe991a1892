package demo

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2"

	"yareharbour/core/estate"
	"yareharbour/sim"
)

// MostHosts is how large a demo estate may be.
const MostHosts = 5000

// Fleet makes a demo estate of so many hosts: the demo's own, and further ones, each in the situation of one of those.
// Some are in clusters as the demo's, the others in clusters of up to 64 hosts. The demo itself is the least there is.
func Fleet(hosts int) *sim.World {
	const large = 64
	w, from := World(), World()
	small := from.Estate.Clusters
	whole := slices.Concat(small[0].Hosts, small[1].Hosts)
	for n := 2; len(w.Hosts) < hosts; n++ {
		if n <= 3 {
			for _, c := range small {
				name := fmt.Sprintf("%s-%d", c.Name, n)
				c.Rules = nil // its guests have other names
				c.Name, c.Hosts = name, copies(w, from, name, c.Hosts, n, min(len(c.Hosts), hosts-len(w.Hosts)))
				if len(c.Hosts) > 0 {
					w.Estate.Clusters = append(w.Estate.Clusters, c)
				}
			}
			continue
		}
		c := estate.Cluster{Name: fmt.Sprintf("reach-%d", n-3), Act: true, Reserve: 2}
		c.Hosts = copies(w, from, c.Name, whole, n, min(large, hosts-len(w.Hosts)))
		w.Estate.Clusters = append(w.Estate.Clusters, c)
	}
	return w
}

// copies adds so many hosts to a cluster of the world, each as one of the names is, again and again, and returns their
// names.
func copies(w, from *sim.World, cluster string, names []string, n, count int) (out []string) {
	for i := range count {
		name := fmt.Sprintf("%s-%d", names[i%len(names)], n)
		if again := i / len(names); again > 0 {
			name += string(rune('a' + again - 1))
		}
		h := *from.Hosts[names[i%len(names)]]
		h.Name, h.Reading.Host = name, name
		r := &h.Reading
		r.Networks = append([]string{cluster}, r.Networks[1:]...)
		r.BootID = sim.UUID("boot " + name)
		r.Components, r.Health = slices.Clone(r.Components), slices.Clone(r.Health)
		r.Guests = slices.Clone(r.Guests)
		for j := range r.Guests {
			g := &r.Guests[j]
			g.Name = strings.Replace(name, "-", "", 1) + "-" + g.Name
			g.ID, g.Networks = sim.UUID(g.Name), []string{cluster}
		}
		r.Sort()
		w.Hosts[name] = &h
		out = append(out, name)
	}
	return out
}

// WriteFleet writes the demo's files for an estate of so many hosts below dir. An estate that is there already is left
// as it is, whatever its size.
func WriteFleet(dir string, hosts int) error {
	world := filepath.Join(dir, SimDir, sim.WorldFile)
	if _, err := os.Stat(world); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := Write(dir); err != nil {
		return err
	}
	w := Fleet(hosts)
	var clusters strings.Builder
	var all, yards []string
	for _, c := range w.Estate.Clusters {
		fmt.Fprintf(&clusters, "  - name: %s\n    act: %v\n    reserve: %d\n    hosts: [%s]\n", c.Name, c.Act,
			c.Reserve, strings.Join(c.Hosts, ", "))
		for i, r := range c.Rules {
			if i == 0 {
				clusters.WriteString("    rules:\n")
			}
			fmt.Fprintf(&clusters, "      - {keep: %s, guests: [%s]}\n", r.Keep, strings.Join(r.Guests, ", "))
		}
		all = append(all, c.Name)
		if strings.HasPrefix(c.Name, "yard") {
			yards = append(yards, c.Name)
		}
	}
	change := func(file string, change func(text string) string) error {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		return renameio.WriteFile(file, []byte(change(string(text))), 0o600)
	}
	err := change(filepath.Join(dir, EstateFile), func(text string) string {
		begin, rest, _ := strings.Cut(text, "clusters:\n")
		_, end, _ := strings.Cut(rest, "releases:")
		return begin + "clusters:\n" + clusters.String() + "releases:" + end
	})
	lists, _ := filepath.Glob(filepath.Join(dir, "baselines", "*.yaml")) // the pattern is a good one
	for _, file := range lists {
		err = errors.Join(err, change(file,
			strings.NewReplacer("assign: [vts, tides, yard]", "assign: ["+strings.Join(all, ", ")+"]", "assign: [yard]",
				"assign: ["+strings.Join(yards, ", ")+"]").Replace))
	}
	if err != nil {
		return err
	}
	text, err := json.Marshal(w)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(world), 0o700)
	}
	if err != nil {
		return err
	}
	return renameio.WriteFile(world, text, 0o600)
}
