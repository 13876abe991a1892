// Package linux reads what a Linux machine tells of itself: packages from dpkg's or rpm's database, the kernel that
// runs and the newest one installed, drivers with the devices bound to them, firmware from DMI and from adapters and
// disks, settings, and which services and emulators still run what was replaced under them. It reads this machine's own
// files, or what a probe brought from another machine; it changes nothing, and what can't be read is unread with the
// reason.
package linux

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/version"
)

// Source is where a machine is looked at. Names are as in io/fs: slashes between, none before. What is not there gives
// fs.ErrNotExist, and what may not be read fs.ErrPermission.
type Source interface {
	ReadFile(name string) ([]byte, error)
	ReadLink(name string) (string, error)
	// Glob returns the names that match, sorted; a directory that can't be looked into has none.
	Glob(pattern string) []string
	// Output returns what a command prints. A command that the machine does not have gives fs.ErrNotExist; one that
	// fails, an error with its words.
	Output(command ...string) ([]byte, error)
}

// Machine is a machine to be read.
type Machine struct {
	Source
	Name string // as the estate names the host
	// From names the way to it in the sources of sections, as "SSH"; empty for this machine.
	From string
	Now  func() time.Time
}

// Sections are those that a machine can tell of. Its guests and its BMC are asked elsewhere.
var Sections = []estate.SectionName{estate.Host, estate.Packages, estate.Drivers, estate.FirmwareItems,
	estate.SettingItems, estate.ConditionItems}

// maxComponents is how many components a section of one machine may have: some ten times what there is.
const maxComponents = 50_000

// Read reads the machine into a reading with those of the sections that are asked for, or with all. What was not come
// to when the context ended is unread.
func (m Machine) Read(ctx context.Context, sections ...estate.SectionName) *estate.Reading {
	if len(sections) == 0 {
		sections = Sections
	}
	r := &estate.Reading{Host: m.Name}
	wants := func(names ...estate.SectionName) bool {
		return slices.ContainsFunc(names, func(n estate.SectionName) bool { return slices.Contains(sections, n) })
	}
	var all []process
	hidden := 0
	if wants(estate.Packages, estate.SettingItems) {
		all, hidden = m.processes(ctx)
	}
	for _, name := range Sections {
		if !wants(name) {
			continue
		}
		had := len(r.Components)
		source, err := m.section(name, r, all)
		var some partly
		p, far := m.Source.(prober)
		switch whole := err == nil || errors.As(err, &some); {
		case !whole:
		case ctx.Err() != nil:
			err = fmt.Errorf("there was no time to read all of it: %w", ctx.Err())
		case far && p.Late(name) != "":
			err = errors.New(p.Late(name))
		case len(r.Components)-had > maxComponents:
			err = fmt.Errorf("it has %d components, and no more than %d are taken", len(r.Components)-had, maxComponents)
			r.Components = r.Components[:had]
		}
		if m.From != "" {
			source = m.From + ", " + source
		}
		s := estate.Section{Name: name, At: m.Now(), Source: source}
		if name == estate.Packages {
			s.Hidden = hidden
		}
		switch {
		case errors.As(err, &some):
			s.Partial = some.Error()
		case err != nil:
			s.Err = err.Error()
		}
		r.SetSection(s)
	}
	if wants(estate.Packages) {
		m.kernelPackage(r)
		m.holders(ctx, r, all)
		m.units(r)
	}
	r.Sort()
	return r
}

// kernel is the kernel that runs and the newest one installed. Every section may ask.
func (m Machine) kernel() (estate.Kernel, error) {
	running, err := m.text("proc/sys/kernel/osrelease")
	return estate.Kernel{Running: running, Installed: m.newestKernel()}, err
}

func (m Machine) section(name estate.SectionName, r *estate.Reading, all []process) (source string, err error) {
	switch name {
	case estate.Packages:
		return m.packages(r)
	case estate.Drivers:
		return "/sys/bus", m.drivers(r)
	case estate.FirmwareItems:
		return "/sys", m.firmware(r)
	case estate.SettingItems:
		return "/proc, /etc", m.settings(r, all)
	case estate.ConditionItems:
		return "/proc, date, df", m.condition(r)
	}
	return "/proc", m.host(r)
}

// text is a small file's content without the white space around it.
func (m Machine) text(name string) (string, error) {
	b, err := m.ReadFile(name)
	return strings.TrimSpace(string(b)), err
}

// host reads what proc(5) tells: the kernel, the boot, memory and processors.
func (m Machine) host(r *estate.Reading) error {
	var err error
	if r.Kernel, err = m.kernel(); err != nil {
		return err
	}
	if r.BootID, err = m.text("proc/sys/kernel/random/boot_id"); err != nil {
		return err
	}
	r.Machine = m.machine()
	if up, err := m.text("proc/uptime"); err == nil {
		if s, err := strconv.ParseFloat(strings.Fields(up + " 0")[0], 64); err == nil {
			r.BootedAt = m.Now().Add(-time.Duration(s * float64(time.Second))).Truncate(time.Second)
		}
	}
	r.Release, r.System, r.Build = m.osRelease()
	r.Capacity = estate.Resources{MemoryMiB: m.memory(), CPU: 1000 * m.processors()}
	for _, b := range m.Glob("sys/class/net/*/bridge/bridge_id") {
		r.Networks = append(r.Networks, path.Base(path.Dir(path.Dir(b))))
	}
	return m.orders(r)
}

// machine is a hash of the installation's own id (machine-id(5), which is not to be shown); "" where it has none.
func (m Machine) machine() string {
	id, err := m.text("etc/machine-id")
	if err != nil || !machineID.MatchString(id) {
		return ""
	}
	sum := sha256.Sum256([]byte("yare/" + id))
	return hex.EncodeToString(sum[:16])
}

var machineID = regexp.MustCompile(`^[0-9a-f]{32}$`)

// orders reads what the wrapper keeps on the host: its mark, if it is closed, the highest order that it took, and
// whether it takes orders at all. What only root may see is left out for others, who give no orders either.
func (m Machine) orders(r *estate.Reading) error {
	hook, noHook := m.text(strings.TrimPrefix(HookPath, "/"))
	hooked := noHook == nil && hook == strings.TrimSpace(Hook)
	sums, _ := m.Output(append([]string{"sha256sum"}, ProgramPaths...)...)
	if strings.TrimSpace(string(sums)) != programSums() || !hooked {
		r.Unready = "it takes no orders: what yare needs for that is not on it, or of another version"
	}
	guard, err := m.text(strings.TrimPrefix(Home, "/") + "/private/guard")
	_, closed := m.ReadFile(strings.TrimPrefix(Home, "/") + "/private")
	switch {
	case err == nil:
		if r.Guard, err = parseGuard(guard); err != nil {
			r.Unready = "it takes no orders: " + err.Error()
		}
	case errors.Is(err, fs.ErrPermission) || errors.Is(closed, fs.ErrPermission):
		r.Unready = cmp.Or(r.Unready, "it takes no orders from this login, which is not root's and has no sudo")
	case !missing(err):
		return err
	}
	if owed, err := m.text(strings.TrimPrefix(Home, "/") + "/private/owed"); err == nil {
		if r.Owed, err = parseOwed(owed); err != nil {
			r.Unready = cmp.Or(r.Unready, "it takes no orders: "+err.Error())
		}
	}
	var some partly
	if r.Staged = nil; r.Unready == "" {
		list, err := m.Output("find", Home+"/private/staged", "-maxdepth", "1", "-type", "f", "-printf", `%f %s\n`)
		some.note("what waits there to be put in", err)
		r.Staged = parseStaged(lines(list))
	}
	mark, err := m.text(strings.TrimPrefix(Home, "/") + "/mark")
	if missing(err) {
		return some.or(nil)
	} else if err != nil {
		return err
	}
	f := fields(mark)
	r.Closed = &estate.Mark{Round: f["round"], By: f["by"], Reason: f["reason"]}
	if r.Closed.At, err = time.Parse(time.RFC3339, f["at"]); err != nil {
		r.Closed.Reason = fmt.Sprintf("its mark is damaged: %.200q", mark)
	}
	if !hooked {
		r.Closed.Loose = HookPath + " is gone or was changed: libvirt takes guests there all the same"
	}
	return some.or(nil)
}

// ledger are the words by which the wrapper's ledger knows what was done to a guest.
var ledger = map[string]act.Name{"down": act.Down, "save": act.Save}

// LedgerWord is the word for a kind of act in the host's ledger; "" where it owes nothing there.
func LedgerWord(kind act.Name) string {
	for word, k := range ledger {
		if k == kind {
			return word
		}
	}
	return ""
}

// parseOwed reads the wrapper's ledger: a line of kind, round, UUID, owed or paid, and name each.
func parseOwed(text string) (out []estate.Owed, err error) {
	for line := range strings.Lines(text) {
		f := strings.SplitN(strings.TrimSpace(line), " ", 5)
		if len(f) != 5 || ledger[f[0]] == "" || f[3] != "owed" && f[3] != "paid" {
			return out, fmt.Errorf("its ledger, %s/private/owed, is damaged: it holds %.80q", Home, line)
		}
		if f[3] == "owed" {
			out = append(out, estate.Owed{Kind: string(ledger[f[0]]), Round: f[1], GuestID: f[2], Guest: f[4]})
		}
	}
	return out, nil
}

// parseStaged reads what waits on the host: names that the wrapper gave, and sizes. What has another name is none of it,
// such as what arrived in part.
func parseStaged(list []string) (out []estate.Staged) {
	for _, line := range list {
		name, size, _ := strings.Cut(line, " ")
		sum, kind, _ := strings.Cut(name, ".")
		n, err := strconv.ParseInt(size, 10, 64)
		if raw, bad := hex.DecodeString(sum); bad == nil && len(raw) == sha256.Size && err == nil && n >= 0 &&
			(kind == "deb" || kind == "rpm") && len(out) < maxStaged {
			out = append(out, estate.Staged{SHA256: sum, Kind: kind, Size: n})
		}
	}
	return out
}

// maxStaged is how many files that wait on a host are told of.
const maxStaged = 5000

// parseGuard reads what the wrapper keeps: epoch and round of the lease, entry and sum of the journal.
func parseGuard(text string) (g estate.Guard, err error) {
	f := strings.Fields(text)
	if len(f) != 4 {
		return g, fmt.Errorf("its record of orders, %s/private/guard, is damaged: it holds %.80q", Home, text)
	}
	epoch, wrong := strconv.ParseUint(f[0], 10, 50)
	entry, bad := strconv.ParseUint(f[2], 10, 50)
	if wrong != nil || bad != nil {
		return g, fmt.Errorf("its record of orders, %s/private/guard, is damaged: it holds %.80q", Home, text)
	}
	if epoch == 0 {
		return g, nil // it was prepared, and has taken none
	}
	return estate.Guard{Epoch: int64(epoch), Round: f[1], Entry: int64(entry), Sum: f[3]}, nil
}

// osRelease is PRETTY_NAME of os-release(5), the distribution with its release by ID and VERSION_ID, and the build or the
// image that the machine is of: IMAGE_ID with IMAGE_VERSION, or BUILD_ID.
func (m Machine) osRelease() (release, system, build string) {
	for _, name := range []string{"etc/os-release", "usr/lib/os-release"} {
		text, _ := m.text(name)
		said := map[string]string{}
		for line := range strings.Lines(text) {
			if k, v, ok := strings.Cut(strings.TrimSpace(line), "="); ok {
				said[k] = strings.Trim(v, `"'`)
			}
		}
		if release = said["PRETTY_NAME"]; release != "" {
			return release, strings.TrimSpace(said["ID"] + " " + said["VERSION_ID"]), cmp.Or(strings.TrimSpace(said["IMAGE_ID"]+" "+said["IMAGE_VERSION"]), said["BUILD_ID"])
		}
	}
	return "", "", ""
}

func (m Machine) memory() int64 {
	text, _ := m.text("proc/meminfo")
	f := strings.Fields(text)
	if len(f) > 1 && f[0] == "MemTotal:" {
		kib, _ := strconv.ParseInt(f[1], 10, 64)
		return kib / 1024
	}
	return 0
}

func (m Machine) processors() int64 {
	text, _ := m.text("proc/cpuinfo")
	return int64(strings.Count("\n"+text, "\nprocessor"))
}

// newestKernel is the newest kernel image below /boot, and "" where there is none: a container, or a machine started
// from elsewhere.
func (m Machine) newestKernel() string {
	newest := ""
	for _, n := range m.Glob("boot/vmlinuz-*") {
		v := strings.TrimPrefix(path.Base(n), "vmlinuz-")
		if !strings.Contains(v, "rescue") && (newest == "" || version.Dotted.Compare(v, newest) > 0) {
			newest = v
		}
	}
	return newest
}

// lines are the lines of a command's output or a file, without empty ones.
func lines(b []byte) (out []string) {
	for l := range strings.Lines(string(b)) {
		if l = strings.TrimRight(l, "\r\n"); l != "" {
			out = append(out, l)
		}
	}
	return out
}

// partly is in what a section could not be read, where the rest of it was.
type partly []string

func (p partly) Error() string { return strings.Join(p, "; ") }

// note adds what could not be read, and why, unless it is just not there.
func (p *partly) note(what string, err error) {
	if err != nil && !missing(err) {
		*p = append(*p, what+": "+err.Error())
	}
}

// or is err where there is one, and else what could not be read; nil where all was.
func (p partly) or(err error) error {
	if err == nil && len(p) > 0 {
		return p
	}
	return err
}

// missing tells whether a source failed since the thing is not there, as against not being allowed to look at it.
func missing(err error) bool { return errors.Is(err, fs.ErrNotExist) }
