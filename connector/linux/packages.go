package linux

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"yareharbour/core/estate"
	"yareharbour/core/version"
	"yareharbour/format/debindex"
	"yareharbour/format/rpmrepo"
)

const dpkgStatus = "var/lib/dpkg/status"

// rpmAll asks rpm for every package that is installed.
var rpmAll = []string{"rpm", "-qa", "--qf", `%{NAME}\t%{EPOCHNUM}\t%{VERSION}\t%{RELEASE}\t%{ARCH}\n`}

// packages reads the database of the package system that the machine is made of: dpkg's where packages are installed by
// it, and else rpm's.
func (m Machine) packages(r *estate.Reading) (source string, err error) {
	status, noDpkg := m.ReadFile(dpkgStatus)
	if noDpkg == nil {
		installed, native, err := debindex.ReadStatus(bytes.NewReader(status))
		if err != nil {
			return "/" + dpkgStatus, err
		}
		for _, p := range installed {
			r.Components = append(r.Components,
				estate.Component{Key: debindex.Key(p.Name, p.Arch, native), Version: p.Version, State: p.State})
		}
		if len(installed) > 0 {
			return "/" + dpkgStatus, nil
		}
	}
	out, noRPM := m.Output(rpmAll...)
	switch {
	case noRPM == nil && len(bytes.TrimSpace(out)) > 0:
		return "rpm -qa", m.rpms(r, out)
	case noRPM != nil && !missing(noRPM):
		return "rpm -qa", noRPM
	case noDpkg != nil && !missing(noDpkg):
		return "/" + dpkgStatus, noDpkg
	}
	return "/" + dpkgStatus, errors.New("neither dpkg nor rpm has a package installed there")
}

// rpms reads what rpm printed. Of a package that is installed in several versions at once, as kernels are, the newest
// counts.
func (m Machine) rpms(r *estate.Reading, out []byte) error {
	type pkg struct{ name, evr, arch string }
	var all []pkg
	arches := map[string]int{}
	for _, l := range lines(out) {
		f := strings.Split(l, "\t")
		if len(f) != 5 {
			return fmt.Errorf("rpm prints %q, and five fields were asked for", l)
		}
		if f[0] == "gpg-pubkey" { // a key that was imported, kept as if it were a package
			continue
		}
		all = append(all, pkg{f[0], rpmrepo.EVR(f[1], f[2], f[3]), f[4]})
		arches[f[4]]++
	}
	native := ""
	for arch, n := range arches {
		if arch != "noarch" && (native == "" || n > arches[native] || n == arches[native] && arch < native) {
			native = arch
		}
	}
	newest := map[estate.Key]int{}
	kernel, _ := m.kernel() // where it is not told, no package waits for it
	for _, p := range all {
		key := rpmrepo.Key(p.name, p.arch, native)
		i, twice := newest[key]
		switch {
		case !twice:
			newest[key] = len(r.Components)
			r.Components = append(r.Components, estate.Component{Key: key, Version: p.evr})
		case version.RPM.Compare(p.evr, r.Components[i].Version) > 0:
			r.Components[i].Version = p.evr
		}
		c := &r.Components[newest[key]]
		if kernelOf(p.name) && strings.HasSuffix(p.evr+"."+p.arch, kernel.Running) && kernel.Running != "" {
			c.Running, c.Restarts = p.evr, "host"
		}
	}
	for _, i := range newest {
		if c := &r.Components[i]; c.Running == c.Version {
			c.Running, c.Restarts = "", ""
		}
	}
	return nil
}

// kernelOf tells whether an rpm package of that name brings the kernel that runs.
func kernelOf(name string) bool {
	return slices.Contains([]string{"kernel", "kernel-core", "kernel-default", "kernel-rt-core", "kernel-uek-core"},
		name)
}

// kernelPackage notes on the Debian package of the newest installed kernel that another one runs, as long as both are
// of this distribution.
func (m Machine) kernelPackage(r *estate.Reading) {
	k, _ := m.kernel()
	if k.Installed == "" || k.Installed == k.Running ||
		!slices.ContainsFunc(r.Components, func(c estate.Component) bool {
			return c.Key == estate.Key("deb:linux-image-"+k.Running)
		}) {
		return
	}
	for i := range r.Components {
		if c := &r.Components[i]; c.Key == estate.Key("deb:linux-image-"+k.Installed) {
			c.Running, c.Restarts = k.Running, "host"
		}
	}
}

// rpmFiles asks rpm for the names of all packages' files. No file's name is given to rpm: it may be anything.
var rpmFiles = []string{"rpm", "-q", "-a", "--qf", `[%{=NAME} %{FILENAMES}\n]`}

// owners finds the packages that files belong to. The files may be gone from the disk: the databases remember them.
func (m Machine) owners(files map[string]bool) map[string]estate.Key {
	out := m.dpkgOwners(files)
	if len(out) == len(files) {
		return out
	}
	all, err := m.Output(rpmFiles...)
	if err != nil {
		return out
	}
	for l := range bytes.Lines(all) {
		name, file, _ := strings.Cut(strings.TrimRight(string(l), "\n"), " ")
		for _, f := range alike(file) {
			if files[f] && out[f] == "" {
				out[f] = estate.Key("rpm:" + name)
			}
		}
	}
	return out
}

// alike are the names that a file may have where /bin and the like are links to what is below /usr: databases have
// either.
func alike(file string) []string {
	return []string{file, "/usr" + file, strings.TrimPrefix(file, "/usr")}
}

// unitDirs are where packages put the units that they bring; of a script in the last systemd makes a unit itself
// (systemd-sysv-generator(8)).
var unitDirs = []string{"/lib/systemd/system/", "/usr/lib/systemd/system/", "/etc/init.d/"}

// rpmUnits asks rpm for the files of those packages that bring units.
func (m Machine) rpmUnits() ([]byte, error) {
	return m.Output(append([]string{"rpm", "-q", "-f", "--qf", `[%{=NAME} %{FILENAMES}\n]`, "--"},
		rooted(m.Glob("usr/lib/systemd/system/*.service"))...)...)
}

func rooted(names []string) (out []string) {
	for _, n := range names {
		out = append(out, "/"+n)
	}
	return out
}

// units notes on packages which services they bring.
func (m Machine) units(r *estate.Reading) {
	of := map[string][]string{}
	note := func(pkg, file string) {
		dir, unit := path.Split(file)
		if dir == "/etc/init.d/" {
			unit += ".service"
		}
		if slices.Contains(unitDirs, dir) && strings.HasSuffix(unit, ".service") && !slices.Contains(of[pkg], unit) {
			of[pkg] = append(of[pkg], unit)
		}
	}
	for _, name := range m.Glob("var/lib/dpkg/info/*.list") {
		text, _ := m.ReadFile(name)
		for l := range bytes.Lines(text) {
			if bytes.HasSuffix(l, []byte(".service\n")) || bytes.HasPrefix(l, []byte("/etc/init.d/")) {
				note("deb:"+dpkgName(name), strings.TrimRight(string(l), "\n"))
			}
		}
	}
	if slices.ContainsFunc(r.Components, func(c estate.Component) bool { return c.Key.Kind() == "rpm" }) {
		files, _ := m.rpmUnits()
		for l := range bytes.Lines(files) {
			name, file, _ := strings.Cut(strings.TrimRight(string(l), "\n"), " ")
			note("rpm:"+name, file)
		}
	}
	for i := range r.Components {
		if c := &r.Components[i]; len(of[string(c.Key)]) > 0 {
			c.Units = of[string(c.Key)]
			slices.Sort(c.Units)
		}
	}
}

// dpkgName is the package that one of dpkg's lists is of.
func dpkgName(list string) string {
	pkg, _, _ := strings.Cut(strings.TrimSuffix(path.Base(list), ".list"), ":")
	return pkg
}

// dpkgOwners looks into dpkg's lists. A file below /usr may be listed without it, as from before the two were merged.
func (m Machine) dpkgOwners(files map[string]bool) map[string]estate.Key {
	out := map[string]estate.Key{}
	for _, name := range m.Glob("var/lib/dpkg/info/*.list") {
		text, err := m.ReadFile(name)
		if err != nil {
			continue
		}
		for _, line := range lines(text) {
			for _, f := range alike(line) {
				if files[f] {
					out[f] = estate.Key("deb:" + dpkgName(name))
				}
			}
		}
	}
	return out
}
