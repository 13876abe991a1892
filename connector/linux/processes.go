package linux

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"yareharbour/core/estate"
)

// process is what runs of the system's own: a service's process, or a guest's emulator.
type process struct {
	service string   // its unit, from its cgroup; empty: none of the system's own
	guest   string   // whose emulator it is, as libvirt has written down
	gone    []string // files that it runs or maps and that were replaced or removed on disk
}

// maxProcesses and maxGone are how many processes are looked into, and how many replaced files of one of them count.
// Where there are more the process counts as one that could not be looked into.
const (
	maxProcesses = 20_000
	maxGone      = 64
)

// runtime is where libvirt keeps the number of each guest's emulator, in a file of the guest's name.
const runtime = "run/libvirt/qemu"

// daemons are libvirt's programs that run guests.
var daemons = []string{"libvirtd", "virtqemud"}

// processes looks into the processes of services and of guests' emulators. Others are somebody's own, and may call
// themselves anything. hidden is how many could not be looked into: without root, those of other users.
func (m Machine) processes(ctx context.Context) (all []process, hidden int) {
	found := map[string]process{} // by number
	for _, at := range m.Glob("proc/[0-9]*/cgroup") {
		if ctx.Err() != nil {
			break
		}
		if unit := m.unit(at); unit != "" {
			found[path.Base(path.Dir(at))] = process{service: unit}
		}
	}
	for _, at := range m.Glob(runtime + "/*.pid") {
		pid, err := m.text(at)
		if _, wrong := strconv.ParseUint(pid, 10, 31); err == nil && wrong == nil {
			found[pid] = process{service: found[pid].service, guest: strings.TrimSuffix(path.Base(at), ".pid")}
		}
	}
	if _, err := m.ReadFile(runtime); errors.Is(err, fs.ErrPermission) {
		hidden++
	}
	more := m.replaced()
	for pid, p := range found {
		if len(all) == maxProcesses || ctx.Err() != nil {
			hidden++
			continue
		}
		exe, err := m.ReadLink("proc/" + pid + "/exe")
		if errors.Is(err, fs.ErrPermission) {
			hidden++
			continue
		}
		if len(more[pid]) > maxGone || slices.Contains(more[pid], "+") {
			hidden++
		}
		name, replaced := strings.CutSuffix(exe, " (deleted)")
		if replaced {
			p.gone = append(p.gone, name)
		}
		if slices.Contains(daemons, path.Base(name)) { // it has written itself down too
			p.guest = ""
		}
		for _, file := range more[pid][:min(len(more[pid]), maxGone)] {
			if file != "+" && !slices.Contains(p.gone, file) {
				p.gone = append(p.gone, file)
			}
		}
		if p.service != "" || p.guest != "" {
			all = append(all, p)
		}
	}
	hidden += len(more["0"])
	return all, hidden
}

// replaced are the files that processes map and that are gone from the disk, by the process's number.
func (m Machine) replaced() map[string][]string {
	if p, ok := m.Source.(prober); ok {
		return p.Replaced()
	}
	out := map[string][]string{}
	for _, at := range m.Glob("proc/[0-9]*/maps") {
		text, _ := m.ReadFile(at)
		pid := path.Base(path.Dir(at))
		for _, l := range lines(text) {
			if name := mapped(l); name != "" && !slices.Contains(out[pid], name) && len(out[pid]) <= maxGone {
				out[pid] = append(out[pid], name)
			}
		}
	}
	return out
}

// mapped is the replaced file that a line of proc(5)'s maps tells of as mapped to be run, where it is where packages
// keep such files.
func mapped(line string) string {
	line, ok := strings.CutSuffix(line, " (deleted)")
	f := strings.Fields(line) // address perms offset dev inode path
	at := strings.IndexByte(line, '/')
	if !ok || len(f) < 6 || at < 0 || len(f[1]) != 4 || f[1][2] != 'x' {
		return ""
	}
	top, _, inside := strings.Cut(line[at+1:], "/")
	if !inside || !slices.Contains([]string{"usr", "opt", "bin", "sbin"}, top) && !strings.HasPrefix(top, "lib") {
		return ""
	}
	return line[at:]
}

// unit is the service that a process's cgroup file names.
func (m Machine) unit(at string) string {
	text, _ := m.text(at)
	for line := range strings.Lines(text) {
		if unit := estate.UnitOf(strings.TrimSpace(line)); unit != "" {
			return unit
		}
	}
	return ""
}

// holders notes on packages which services and emulators still run what was replaced.
func (m Machine) holders(ctx context.Context, r *estate.Reading, all []process) {
	wanted := map[string]bool{}
	for _, p := range all {
		for _, g := range p.gone {
			wanted[g] = true
		}
	}
	if len(wanted) == 0 {
		return
	}
	owner := m.owners(wanted)
	at := map[estate.Key][]int{}
	for i := range r.Components {
		at[r.Components[i].Key] = append(at[r.Components[i].Key], i)
	}
	for _, p := range all {
		if ctx.Err() != nil {
			return
		}
		h := estate.Holder{Service: p.service, Guest: p.guest}
		if h.Guest != "" {
			h.Service = ""
		}
		for _, g := range p.gone {
			for _, i := range at[owner[g]] {
				if c := &r.Components[i]; !slices.Contains(c.Holders, h) {
					c.Holders = append(c.Holders, h)
				}
			}
		}
	}
	for i := range r.Components {
		slices.SortFunc(r.Components[i].Holders, func(a, b estate.Holder) int {
			return strings.Compare(a.String(), b.String())
		})
	}
}
