package local

import (
	"bufio"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strconv"
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
func (l *Reader) processes() (all []process, hidden int) {
	entries, _ := fs.ReadDir(l.Root, "proc")
	for _, e := range entries {
		if _, err := strconv.Atoi(e.Name()); err != nil {
			continue
		}
		p, err := l.process(path.Join("proc", e.Name()))
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
func (l *Reader) process(at string) (process, error) {
	var p process
	p.service = l.unit(at)
	exe, err := fs.ReadLink(l.Root, path.Join(at, "exe"))
	if errors.Is(err, fs.ErrNotExist) {
		return p, nil
	}
	if err != nil {
		return p, err
	}
	if strings.HasPrefix(path.Base(exe), "qemu-system-") {
		p.guest = l.guestOf(at)
	}
	if name, replaced := strings.CutSuffix(exe, " (deleted)"); replaced {
		p.gone = append(p.gone, name)
	}
	f, err := l.Root.Open(path.Join(at, "maps"))
	if err != nil {
		return p, nil
	}
	defer f.Close()
	for sc := bufio.NewScanner(f); sc.Scan(); {
		fields := strings.Fields(sc.Text()) // address perms offset dev inode path [(deleted)]
		if len(fields) == 7 && fields[6] == "(deleted)" && strings.Contains(fields[1], "x") && !slices.Contains(p.gone, fields[5]) {
			p.gone = append(p.gone, fields[5])
		}
	}
	return p, nil
}

// unit is the innermost service or scope in the process's cgroup.
func (l *Reader) unit(at string) string {
	text, _ := l.text(path.Join(at, "cgroup"))
	for line := range strings.Lines(text) {
		base := path.Base(strings.TrimSpace(line))
		if strings.HasSuffix(base, ".service") {
			return base
		}
	}
	return ""
}

// guestOf is the guest's name on an emulator's command line: -name guest=NAME,… or -name NAME.
func (l *Reader) guestOf(at string) string {
	text, _ := fs.ReadFile(l.Root, path.Join(at, "cmdline"))
	args := strings.Split(string(text), "\x00")
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
func (l *Reader) holders(r *estate.Reading, all []process) {
	wanted := map[string]bool{}
	for _, p := range all {
		for _, g := range p.gone {
			wanted[g] = true
		}
	}
	if len(wanted) == 0 {
		return
	}
	owner := l.owners(wanted)
	for _, p := range all {
		if p.service == "" && p.guest == "" {
			continue // a person's own program; it ends when they do
		}
		for _, g := range p.gone {
			for i := range r.Components {
				c := &r.Components[i]
				if h := (estate.Holder{Service: p.service, Guest: p.guest}); c.Key == estate.Key("deb:"+owner[g]) && owner[g] != "" && !slices.Contains(c.Holders, h) {
					c.Holders = append(c.Holders, h)
				}
			}
		}
	}
}

// owners finds the packages that files belong to in dpkg's lists. A file below /usr may be listed without it, as from before the two were merged.
func (l *Reader) owners(files map[string]bool) map[string]string {
	out := map[string]string{}
	lists, _ := fs.Glob(l.Root, "var/lib/dpkg/info/*.list")
	for _, name := range lists {
		text, err := fs.ReadFile(l.Root, name)
		if err != nil {
			continue
		}
		pkg, _, _ := strings.Cut(strings.TrimSuffix(path.Base(name), ".list"), ":")
		for line := range strings.Lines(string(text)) {
			line = strings.TrimSpace(line)
			for _, f := range []string{line, "/usr" + line, strings.TrimPrefix(line, "/usr")} {
				if files[f] {
					out[f] = pkg
				}
			}
		}
	}
	return out
}

// settings reads kernel arguments, name servers, and which services are enabled and run.
func (l *Reader) settings(r *estate.Reading, all []process) error {
	line, err := l.text("proc/cmdline")
	if err != nil {
		return err
	}
	set := func(name, value string) {
		r.Components = append(r.Components, estate.Component{Key: estate.Key("set:" + name), Version: value})
	}
	seen := map[string]bool{}
	for _, arg := range strings.Fields(line) {
		name, value, ok := strings.Cut(arg, "=")
		if !ok {
			value = "set"
		}
		if name = "kernel-argument/" + name; !seen[name] { // one that is given twice, as console=, is told once
			seen[name] = true
			set(name, value)
		}
	}
	text, _ := l.text("etc/resolv.conf")
	n := 0
	for line := range strings.Lines(text) {
		if f := strings.Fields(line); len(f) >= 2 && f[0] == "nameserver" {
			n++
			set("name-server/"+strconv.Itoa(n), f[1])
		}
	}
	state := map[string][]string{}
	links, _ := fs.Glob(l.Root, "etc/systemd/system/*.wants/*.service")
	for _, s := range links {
		state[path.Base(s)] = []string{"enabled"}
	}
	for _, p := range all {
		if p.service != "" && !slices.Contains(state[p.service], "running") {
			state[p.service] = append(state[p.service], "running")
		}
	}
	for name, words := range state {
		set("service/"+strings.TrimSuffix(name, ".service"), strings.Join(words, ", "))
	}
	return nil
}
