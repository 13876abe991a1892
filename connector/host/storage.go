package host

import (
	"path"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// shared are file systems that several hosts can have mounted at once.
var shared = []string{"nfs", "nfs4", "cifs", "smb3", "ceph", "fuse.ceph", "glusterfs", "fuse.glusterfs", "gfs2",
	"ocfs2", "lustre", "beegfs", "9p", "virtiofs"}

// mount is a line of /proc/mounts.
type mount struct{ source, at, kind string }

func parseMounts(table string) (out []mount) {
	for line := range strings.Lines(table) {
		if f := strings.Fields(line); len(f) > 2 {
			out = append(out, mount{spelled(f[0]), spelled(f[1]), f[2]})
		}
	}
	return out
}

// spelled undoes how the kernel writes blanks (getmntent(3)).
func spelled(s string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\134`, `\`).Replace(s)
}

// says names a storage so that two hosts that have it at the same place name it alike.
func (m mount) says() string {
	if m.kind == "gfs2" || m.kind == "ocfs2" {
		return m.kind + " at " + m.at
	}
	return m.source + " at " + m.at
}

// under is the mount that a path is on: the last one mounted at the nearest place above it.
func under(all []mount, name string) (best mount, ok bool) {
	name = path.Clean(name)
	for _, m := range all {
		if (m.at == "/" || name == m.at || strings.HasPrefix(name, m.at+"/")) && len(m.at) >= len(best.at) {
			best, ok = m, true
		}
	}
	return best, ok
}

// settle tells which of the guests' files other hosts can have too, by what is mounted where: those make the host's
// storages, which the guests need; any other file is the host's alone. Of disks that are no files it can't be told from
// here.
func settle(r *estate.Reading, table string) {
	all := parseMounts(table)
	for _, m := range all {
		if slices.Contains(shared, m.kind) && !slices.Contains(r.Offer.Storages, m.says()) {
			r.Offer.Storages = append(r.Offer.Storages, m.says())
		}
	}
	slices.Sort(r.Offer.Storages)
	for i := range r.Guests {
		g := &r.Guests[i]
		for j := range g.Disks {
			d := &g.Disks[j]
			m, ok := under(all, d.Source)
			switch {
			case !ok || !strings.HasPrefix(d.Source, "/") || strings.HasPrefix(d.Source, "/dev/"):
			case !slices.Contains(shared, m.kind):
				d.Local = true
			case !slices.Contains(g.Storages, m.says()):
				g.Storages = append(g.Storages, m.says())
			}
		}
		slices.Sort(g.Storages)
	}
}
