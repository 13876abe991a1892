package demo

import (
	"fmt"
	"math/rand"

	"yareharbour/core/estate"
	"yareharbour/sim"
)

// Generate makes an estate of any size. The same seed makes the same estate. Every host has the demo's components at
// versions that are mostly in line, packages more packages, and guests that fill it a little over half.
func Generate(seed int64, clusters, hostsEach, packages int) *sim.World {
	r := rand.New(rand.NewSource(seed))
	w := &sim.World{Now: Start, Hosts: map[string]*sim.Host{}, Restarts: map[string]int{},
		Estate: estate.Estate{Name: "generated estate"}}
	older := []struct {
		key estate.Key
		ver string
	}{{"deb:linux-image-brae", "30.4-brae1"}, {"deb:brae-tls", "1.8-brae1"}, {"fw:lorne-l25", "7.3.1"},
		{"fw:corran-bmc", "14.2"}, {"fw:corran-bios", "2.4.1"}}
	for c := range clusters {
		cluster := estate.Cluster{Name: fmt.Sprintf("c%02d", c+1), Act: true, Reserve: 1}
		for n := range hostsEach {
			name := fmt.Sprintf("c%02dh%03d", c+1, n+1)
			h := host(name, cluster.Name, n%10)
			w.Hosts[name] = h
			for _, o := range older {
				if r.Intn(5) == 0 {
					set(w, name, o.key, o.ver)
				}
			}
			for p := range packages {
				h.Reading.Components = append(h.Reading.Components,
					estate.Component{Key: packageName(p), Version: packageVersion(p, r.Intn(20) > 0)})
			}
			fill(r, h, cluster.Name)
			h.Reading.Sort()
			cluster.Hosts = append(cluster.Hosts, name)
		}
		w.Estate.Clusters = append(w.Estate.Clusters, cluster)
	}
	return w
}

// packageName is the name of the nth generated package.
func packageName(n int) estate.Key { return estate.Key(fmt.Sprintf("deb:lib%04d-common", n)) }

// packageVersion is its version, the newest or the one before.
func packageVersion(n int, newest bool) string {
	if newest {
		return fmt.Sprintf("%d.%d.2-brae2", n%9, n%17)
	}
	return fmt.Sprintf("%d.%d.2-brae1", n%9, n%17)
}

func fill(r *rand.Rand, h *sim.Host, network string) {
	for n := 0; h.Reading.Used().MemoryMiB < 240<<10; n++ {
		h.Reading.Guests = append(h.Reading.Guests,
			estate.Guest{ID: sim.UUID(fmt.Sprintf("guest %s %d", h.Name, n)), Name: fmt.Sprintf("%s-g%02d", h.Name, n),
				State: estate.Running, Since: Start,
				Load:     estate.Resources{MemoryMiB: int64(4+r.Intn(28)) << 10, CPU: int64(500 + r.Intn(2500))},
				Networks: []string{network}})
	}
}
