package linux

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// process is what runs, as proc(5) tells.
type process struct {
	service string   // its unit, from its cgroup
	guest   string   // whose emulator it is
	gone    []string // files that it runs or maps and that were replaced or removed on disk
}

// processes looks into every process. hidden is how many could not be looked into: without root, those of other users.
func (m Machine) processes() (all []process, hidden int) {
	for _, at := range m.Glob("proc/[0-9]*") {
		p, err := m.process(at)
		switch {
		case errors.Is(err, fs.ErrPermission):
			hidden++
		case err == nil:
			all = append(all, p)
		}
	}
	return all, hidden
}

// process looks into one; kernel threads have no executable and are no error.
func (m Machine) process(at string) (process, error) {
	var p process
	p.service = m.unit(at)
	exe, err := m.ReadLink(path.Join(at, "exe"))
	if missing(err) {
		return p, nil
	}
	if err != nil {
		return p, err
	}
	if b := path.Base(exe); strings.HasPrefix(b, "qemu-system-") || strings.HasPrefix(b, "qemu-kvm") {
		p.guest = m.guestOf(at)
	}
	if name, replaced := strings.CutSuffix(exe, " (deleted)"); replaced {
		p.gone = append(p.gone, name)
	}
	maps, _ := m.ReadFile(path.Join(at, "maps"))
	for _, l := range lines(maps) {
		if !strings.HasSuffix(l, " (deleted)") {
			continue
		}
		fields := strings.Fields(l) // address perms offset dev inode path [(deleted)]
		if len(fields) == 7 && strings.Contains(fields[1], "x") && !slices.Contains(p.gone, fields[5]) {
			p.gone = append(p.gone, fields[5])
		}
	}
	return p, nil
}

// unit is the innermost service or scope in the process's cgroup.
func (m Machine) unit(at string) string {
	text, _ := m.text(path.Join(at, "cgroup"))
	for line := range strings.Lines(text) {
		base := path.Base(strings.TrimSpace(line))
		if strings.HasSuffix(base, ".service") {
			return base
		}
	}
	return ""
}

// guestOf is the guest's name on an emulator's command line: -name guest=NAME,… or -name NAME.
func (m Machine) guestOf(at string) string {
	text, _ := m.ReadFile(path.Join(at, "cmdline"))
	args := strings.FieldsFunc(string(text), func(c rune) bool { return c == 0 || c == '\n' }) // a probe brings lines
	for i, a := range args {
		if a != "-name" || i+1 >= len(args) {
			continue
		}
		name, _, _ := strings.Cut(args[i+1], ",")
		return strings.TrimPrefix(name, "guest=")
	}
	return ""
}

// holders notes on packages which services and emulators still run what was replaced.
func (m Machine) holders(r *estate.Reading, all []process) {
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
	for _, p := range all {
		if p.service == "" && p.guest == "" {
			continue // a person's own program; it ends when they do
		}
		for _, g := range p.gone {
			for i := range r.Components {
				c := &r.Components[i]
				if h := (estate.Holder{Service: p.service, Guest: p.guest}); c.Key == owner[g] &&
					!slices.Contains(c.Holders, h) {
					c.Holders = append(c.Holders, h)
				}
			}
		}
	}
}
