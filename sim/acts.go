package sim

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// errNoHost is what a call about a host that is not there gets.
var errNoHost = errors.New("there is no such host")

// up returns the host if it answers.
func (w *World) up(name string) (*Host, error) {
	h, ok := w.Hosts[name]
	switch {
	case !ok:
		return nil, fmt.Errorf("%s: %w", name, errNoHost)
	case !h.Up:
		return nil, fmt.Errorf("%s %w", name, connector.ErrUnreachable)
	}
	return h, nil
}

// Controller returns the host as its BMC knows it, if the BMC answers.
func (w *World) Controller(name string) (*Host, error) {
	h, ok := w.Hosts[name]
	switch {
	case !ok:
		return nil, fmt.Errorf("%s: %w", name, errNoHost)
	case w.Now.Before(h.BMCDown):
		return nil, fmt.Errorf("the BMC of %s %w", name, connector.ErrUnreachable)
	}
	return h, nil
}

// own are the sections that the host itself tells.
var own = []estate.SectionName{estate.Host, estate.Packages, estate.Drivers, estate.GuestList, estate.SettingItems,
	estate.ConditionItems}

// Read returns those of the sections that the host itself tells, all of them where none is named: everything but what
// its BMC knows.
func (w *World) Read(name string, sections ...estate.SectionName) (*estate.Reading, error) {
	h, err := w.up(name)
	if err != nil {
		return nil, err
	}
	r := h.Reading
	r.Sections = nil
	r.Kernel, r.Staged = kernel(r.Components), nil
	for _, file := range slices.Sorted(maps.Keys(h.Staged)) {
		p := h.Staged[file]
		r.Staged = append(r.Staged, estate.Staged{SHA256: p.SHA256, Kind: p.Component.Kind(), Size: p.Size})
	}
	wanted := func(s estate.SectionName) bool { return len(sections) == 0 || slices.Contains(sections, s) }
	for _, s := range own {
		if !wanted(s) {
			continue
		}
		r.SetSection(estate.Section{Name: s, At: w.Now, Source: "simulated host", Err: h.Unread[s]})
	}
	r.Components = slices.DeleteFunc(slices.Clone(r.Components), func(c estate.Component) bool {
		return c.Key.Layer() == estate.Firmware || h.Unread[c.Key.Section()] != "" || !wanted(c.Key.Section())
	})
	if h.Unread[estate.GuestList] == "" && wanted(estate.GuestList) {
		for i := range r.Guests {
			r.Components = append(r.Components, r.Guests[i].Components()...)
		}
		r.Emulated(emulator)
	}
	if h.Unread[estate.GuestList] != "" || !wanted(estate.GuestList) {
		r.Guests = nil
	}
	r.Health, r.BMC, r.Board, r.Hardware.Serial = nil, estate.BMC{}, nil, ""
	return &r, nil
}

// emulator is the component whose process every guest is.
const emulator estate.Key = "deb:qemu-system-x86"

// board lets a guest run on the emulator that the host has installed now.
func (h *Host) board(g *estate.Guest) {
	if g.Emulator == "" {
		return
	}
	for _, c := range h.Reading.Components {
		if c.Key == emulator {
			g.Emulator = c.Version
		}
	}
}

// kernel tells the kernel by its package: the installed one, and the one that runs where that is another.
func kernel(components []estate.Component) (k estate.Kernel) {
	for _, c := range components {
		if strings.HasPrefix(string(c.Key), "deb:linux-image-") {
			k.Installed, k.Running = c.Version, cmp.Or(c.Running, c.Version)
		}
	}
	return k
}

// Logs are the ends of the logs that the host itself keeps.
func (w *World) Logs(name string) (out []act.Log, err error) {
	h, err := w.up(name)
	if err != nil {
		return nil, err
	}
	for _, of := range []string{act.LogPackages, act.LogGuests, act.LogHost} {
		out = append(out, act.Log{Of: of, Lines: h.Logs[of]})
	}
	return out, nil
}

func (w *World) act(format string, args ...any) {
	const keep = 5000
	if len(w.Acts) > 2*keep {
		w.Acts = slices.Clone(w.Acts[keep:])
	}
	w.Acts = append(w.Acts, fmt.Sprintf(format, args...))
	w.Acted++
}

// Move begins a live migration.
func (w *World) Move(host, guest, to string) (string, error) {
	h, err := w.up(host)
	if err != nil {
		return "", err
	}
	dest, err := w.up(to)
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(h.Reading.Guests, func(g estate.Guest) bool { return g.UID() == guest })
	if i < 0 {
		return "", fmt.Errorf("no guest %s on %s", guest, host)
	}
	g := h.Reading.Guests[i]
	if err := w.admits(dest, g); err != nil {
		return "", err
	}
	if w.busy(guest) {
		return "", fmt.Errorf("%s is being migrated already", g.Name)
	}
	t := Task{Kind: "move", Host: host, To: to, Task: connector.Task{Guest: guest}}
	if w.strikes(host, MoveFails) {
		t.Fails = "the migration of " + g.Name + " did not converge and was given up"
	}
	takes := time.Duration(g.Load.MemoryMiB)*time.Second/bandwidth + 3*time.Second
	w.act("move %s from %s to %s", g.Name, host, to)
	return w.begin(t, takes), nil
}

func (w *World) busy(guest string) bool {
	return slices.ContainsFunc(w.Tasks, func(t *Task) bool {
		return t.State == connector.TaskRuns && t.Kind == "move" && t.Guest == guest
	})
}

// admits refuses a guest that the host could not run.
func (w *World) admits(h *Host, g estate.Guest) error {
	if slices.ContainsFunc(h.Reading.Guests, func(o estate.Guest) bool { return o.Name == g.Name }) {
		return fmt.Errorf("%s has a guest named %s already", h.Name, g.Name)
	}
	if g.State != estate.Running {
		return fmt.Errorf("%s does not run", g.Name)
	}
	if ties := g.Ties(estate.Loosed{}); len(ties) > 0 {
		return fmt.Errorf("%s can't be migrated: %s", g.Name, ties[0])
	}
	if h.Reading.Closed != nil {
		return fmt.Errorf("%s is closed and takes no guests", h.Name)
	}
	free := h.Reading.Capacity.Sub(h.Reading.Used())
	for _, t := range w.Tasks {
		if t.Kind == "move" && t.State == connector.TaskRuns && t.To == h.Name {
			for _, o := range w.Hosts[t.Host].Reading.Guests {
				if o.UID() == t.Guest {
					free = free.Sub(o.Load)
				}
			}
		}
	}
	if g.Load.MemoryMiB > free.MemoryMiB {
		return fmt.Errorf("%s has only %d MiB of memory free, %s needs %d", h.Name, free.MemoryMiB,
			g.Name, g.Load.MemoryMiB)
	}
	for _, n := range g.Networks {
		if !slices.Contains(h.Reading.Networks, n) {
			return fmt.Errorf("%s has no network %s", h.Name, n)
		}
	}
	return nil
}

// Close marks a host as closed; a mark of the same round is replaced.
func (w *World) Close(host string, m estate.Mark) error {
	h, err := w.up(host)
	if err != nil {
		return err
	}
	if c := h.Reading.Closed; c != nil && (c.Round != m.Round || m.Round == "") {
		return fmt.Errorf("%s was closed by %s (%s) and is not ours to close", host, c.By, c.Reason)
	}
	m.At = w.Now
	h.Reading.Closed = &m
	w.note(h, act.LogHost, "closed by %s, round %s: %s",
		m.By, m.Round, m.Reason)
	w.act("close %s", host)
	w.reopens(host)
	return nil
}

// Open takes a round's mark away.
func (w *World) Open(host, round string) error {
	h, err := w.up(host)
	if err != nil {
		return err
	}
	switch c := h.Reading.Closed; {
	case c == nil:
		return nil
	case c.Round != round:
		return fmt.Errorf("%s was closed by %s (%s) and is not ours to open", host, c.By, c.Reason)
	}
	h.Reading.Closed = nil
	w.act("open %s", host)
	return nil
}

// Flash begins a firmware update through the BMC. One that restarts the BMC ends with its silence.
func (w *World) Flash(host, device string, p Payload) (string, error) {
	h, err := w.Controller(host)
	if err != nil {
		return "", err
	}
	has := slices.ContainsFunc(h.Reading.Components, func(c estate.Component) bool {
		return c.Key == p.Component && c.Device == device &&
			(len(p.Hardware) == 0 || estate.HasModel(p.Hardware, c.Model))
	})
	if !has {
		return "", fmt.Errorf("the image is for %s %v, which is not in %s", p.Component, p.Hardware, host)
	}
	t := Task{Kind: "firmware", Host: host, Payload: p, Device: device, Task: connector.Task{Component: p.Component}}
	takes := 2 * time.Minute
	if w.strikes(host, InstallFails) {
		t.Fails = "the image was refused: its signature is not known to the device"
	}
	if p.Restart == catalogue.BMCRestart {
		h.BMCDown = w.Now.Add(takes)
	}
	if w.strikes(host, BMCDrops) {
		h.BMCDown = w.Now.Add(10 * time.Minute)
	}
	w.act("flash %s on %s", p.Component, host)
	return w.begin(t, takes), nil
}

// Reboot begins a restart. Guests that still run on the host die with it and are started again.
func (w *World) Reboot(host, reason string) (string, error) {
	h, ok := w.Hosts[host]
	if !ok {
		return "", errNoHost
	}
	h.Up = false
	w.note(h, act.LogHost, "restart: %s", reason)
	w.act("restart %s", host)
	return w.begin(Task{Kind: "restart", Host: host}, h.Restart+h.starts(w)), nil
}

// Task returns a task as it stands now.
func (w *World) Task(id string) (Task, error) {
	for _, t := range w.Tasks {
		if t.ID == id {
			return w.view(t), nil
		}
	}
	return Task{}, connector.ErrNoTask
}

func (w *World) view(t *Task) Task {
	v := *t
	if v.State == connector.TaskRuns {
		whole := t.Ends.Sub(t.From)
		v.Percent = int(100 * w.Now.Sub(t.From) / max(whole, 1))
		v.Left = t.Ends.Sub(w.Now)
	}
	return v
}

// Firmware returns the tasks of the host's BMC, those that ended too.
func (w *World) Firmware(host string) []Task {
	var out []Task
	for _, t := range w.Tasks {
		if t.Host == host && t.Kind == "firmware" {
			out = append(out, w.view(t))
		}
	}
	return out
}
