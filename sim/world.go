// Package sim is the simulated estate: hosts, guests and BMCs that behave as real ones do where it matters to a round.
// Migrations take memory over bandwidth, restarts take minutes during which the host is silent, a kernel that was
// installed does not run before the restart, and faults can be ordered.
//
// World is a value with its own time: it changes only by Advance and by calls, never by itself, so that a test owns it.
// The server wraps a World in a clock, a file and two protocols: the host interface in JSON over HTTP, and Redfish over
// HTTPS.
package sim

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
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

// World is a simulated estate at a moment. It is not safe for concurrent use.
type World struct {
	Estate   estate.Estate    `json:"estate"`
	Now      time.Time        `json:"now"`
	Hosts    map[string]*Host `json:"hosts"`
	Tasks    []*Task          `json:"tasks"`
	Faults   []Fault          `json:"faults,omitempty"`
	Serial   int              `json:"serial"`   // of the newest task
	Restarts map[string]int   `json:"restarts"` // how often each guest was started, by name: a lost guest shows
	Acts     []string         `json:"acts"`     // the newest changing calls that were accepted, for tests to count
	Acted    int              `json:"acted"`    // how many there were in all
	// Tell is what images that run have to tell whoever served them; whoever lets time pass tells it.
	Tell []Told `json:"-"`
}

// Host is a simulated host with its BMC.
type Host struct {
	Name     string                            `json:"name"`
	Reading  estate.Reading                    `json:"reading"` // what is true of it; sections are made when it is read
	Up       bool                              `json:"up"`
	Unread   map[estate.SectionName]string     `json:"unread,omitempty"` // sections that can't be read, and why
	Staged   map[string]Payload                `json:"staged,omitempty"`
	Orders   map[string]string                 `json:"orders,omitempty"`   // taken, by the act's id: their tasks
	Restart  time.Duration                     `json:"restart"`            // how long a restart takes
	BMCDown  time.Time                         `json:"bmc_down,omitzero"`  // silent until then
	BMCReset time.Time                         `json:"bmc_reset,omitzero"` // when the BMC last started
	Waiting  []string                          `json:"waiting,omitempty"`  // ids of forgotten tasks in the BMC's queue
	Since    map[string]time.Time              `json:"since,omitempty"`    // since when, by the id, of those that say so
	Reveals  map[estate.Key][]estate.Component `json:"reveals,omitempty"`  // what is listed only once that was changed
	Logs     map[string][]string               `json:"logs,omitempty"`     // the newest lines of what keeps a log
	Renewed  int                               `json:"renewed,omitempty"`  // how often its BMC has made itself another certificate
	Media    Media                             `json:"media,omitzero"`     // the virtual drive of its BMC
}

// Task is work under way in the world.
type Task struct {
	connector.Task
	Kind     string    `json:"kind"` // move, change, services, firmware, restart
	Host     string    `json:"host"`
	To       string    `json:"to,omitempty"`
	Payload  Payload   `json:"payload"`
	With     []Payload `json:"with,omitempty"` // that go in together with it
	Device   string    `json:"device,omitempty"`
	Services []string  `json:"services,omitempty"` // that restart
	From     time.Time `json:"from"`
	Ends     time.Time `json:"ends"`
	Fails    string    `json:"fails,omitempty"` // decided when it starts
}

// Payload is what a payload file of the simulated estate holds: which version of what it brings.
type Payload struct {
	Component estate.Key        `json:"component"`
	Version   string            `json:"version"`
	Restart   catalogue.Restart `json:"restart"`
	Hardware  []string          `json:"hardware,omitempty"`
	Filler    string            `json:"filler,omitempty"`
	// SHA256 and Size, in bytes, are filled in by whoever reads it.
	SHA256 string `json:"sha256,omitempty"`
	Size   int64  `json:"size,omitempty"`
}

// ParsePayload reads a payload file.
func ParsePayload(body []byte) (Payload, error) {
	var p Payload
	if err := json.Unmarshal(body, &p); err != nil {
		return p, fmt.Errorf("not a payload of the simulated estate: %w", err)
	}
	if _, err := estate.ParseKey(string(p.Component)); err != nil {
		return p, err
	}
	sum := sha256.Sum256(body)
	p.SHA256, p.Filler = hex.EncodeToString(sum[:]), ""
	return p, nil
}

// FaultKind is a fault that can be ordered.
type FaultKind string

// The faults.
const (
	NoReturn     FaultKind = "no-return"     // the host does not come back from its next restart
	MoveFails    FaultKind = "move-fails"    // a migration from the host fails
	InstallFails FaultKind = "install-fails" // an installation on the host fails
	BMCDrops     FaultKind = "bmc-drops"     // the BMC falls silent for ten minutes at its next update
	LeavesTask   FaultKind = "leaves-task"   // after the next update through it a task is left in the BMC's queue
	Crashes      FaultKind = "crashes"       // the host dies now, with its guests
	LosesAnswer  FaultKind = "loses-answer"  // the host carries the next order out, and its answer is lost on the way
	HookWaits    FaultKind = "hook-waits"    // the next hook on the host ends with 75
	HookFails    FaultKind = "hook-fails"    // the next hook on the host ends with 1
	Answers      FaultKind = "answers"       // the host answers again, as if only its network had been away
)

// FaultKinds lists them.
var FaultKinds = []FaultKind{NoReturn, MoveFails, InstallFails, BMCDrops, LeavesTask, Crashes, LosesAnswer, HookWaits, HookFails, Answers,
	MovePauses, GuestQuits, HalfInstalled, LosesTask, ForgetsImage, IgnoresRestart, StaysOff, IsReopened, SnapshotFails,
	MediaAway, DropsMedia, ForgetsBoot, BootsTwice, ImageFails, RenewsCert}

// Fault is an ordered fault; it strikes Times times.
type Fault struct {
	Host  string    `json:"host"`
	Kind  FaultKind `json:"kind"`
	Times int       `json:"times"`
}

// bandwidth of a migration, in MiB a second.
const bandwidth = 900

// Order orders a fault. A crash strikes at once.
func (w *World) Order(f Fault) error {
	h, ok := w.Hosts[f.Host]
	if !ok {
		return fmt.Errorf("there is no host %s", f.Host)
	}
	if !slices.Contains(FaultKinds, f.Kind) {
		return fmt.Errorf("there is no fault %q: there are %s", f.Kind, estate.Listed(FaultKinds))
	}
	if f.Kind == Answers {
		h.Up, h.Reading.BMC.Power = true, ""
		return nil
	}
	if f.Kind == Crashes {
		h.Up = false
		for _, t := range w.Tasks {
			if t.State == connector.TaskRuns && (t.Host == f.Host || t.To == f.Host) && t.Kind != "restart" {
				t.State, t.Error = connector.TaskFailed, f.Host+" died"
			}
		}
		return nil
	}
	w.Faults = append(w.Faults, Fault{f.Host, f.Kind, max(f.Times, 1)})
	return nil
}

// strikes tells whether an ordered fault strikes now, and uses it up.
func (w *World) strikes(host string, kind FaultKind) bool {
	i := slices.IndexFunc(w.Faults, func(f Fault) bool { return f.Host == host && f.Kind == kind && f.Times > 0 })
	if i < 0 {
		return false
	}
	w.Faults[i].Times--
	return true
}

// Advance lets time pass until now, and everything happen that ends by then, in order.
func (w *World) Advance(now time.Time) {
	for {
		var next *Task
		for _, t := range w.Tasks {
			if t.State == connector.TaskRuns && !t.Ends.After(now) && (next == nil || t.Ends.Before(next.Ends)) {
				next = t
			}
		}
		if next == nil {
			break
		}
		w.Now = next.Ends
		w.finish(next)
	}
	if now.After(w.Now) {
		w.Now = now
	}
}

func (w *World) begin(t Task, takes time.Duration) string {
	w.Serial++
	t.ID, t.State, t.From, t.Ends = fmt.Sprintf("%d", w.Serial), connector.TaskRuns, w.Now, w.Now.Add(takes)
	w.Tasks = append(w.Tasks, &t)
	const keep = 400
	if len(w.Tasks) > keep && w.Tasks[0].State != connector.TaskRuns {
		w.Tasks = slices.Delete(w.Tasks, 0, 1)
	}
	return t.ID
}

// keepers are what keeps the log of a kind of task.
var keepers = map[string]string{"move": act.LogGuests, "change": act.LogPackages, "services": act.LogPackages,
	"restart": act.LogHost, "hook": act.LogHost, "firmware": act.LogBMC}

// note adds a line to a log of the host's.
func (w *World) note(h *Host, of, format string, args ...any) {
	if h.Logs == nil {
		h.Logs = map[string][]string{}
	}
	all := append(h.Logs[of], w.Now.Format(time.RFC3339)+" "+fmt.Sprintf(format, args...))
	h.Logs[of] = slices.Clone(all[max(0, len(all)-act.LogLines):])
}

func (w *World) finish(t *Task) {
	t.State, t.Percent = connector.TaskDone, 100
	h := w.Hosts[t.Host]
	if t.Kind == "report" {
		if i := h.Media.Runs; i != nil && i.Report != "" {
			w.Tell = append(w.Tell, Told{i.Report, 50, t.Says})
		}
		return
	}
	of := string(t.Component)
	for _, g := range h.Reading.Guests {
		if g.UID() == t.Guest {
			of = g.Name
		}
	}
	if t.Fails != "" {
		t.State, t.Error = connector.TaskFailed, t.Fails
		w.note(h, keepers[t.Kind], "error: %s: %s", strings.TrimSpace(t.Kind+" "+of), t.Fails)
		return
	}
	if w.outcome(h, t) {
		return
	}
	w.note(h, keepers[t.Kind], "%s ended", strings.TrimSpace(t.Kind+" "+of))
	if t.Kind != "move" && t.Kind != "restart" && w.strikes(h.Name, LosesTask) {
		defer w.forget(t)
	}
	switch t.Kind {
	case "move":
		w.land(h, w.Hosts[t.To], t)
	case "change", "firmware":
		h.apply(t.Payload, t.Device)
		for _, p := range t.With {
			h.apply(p, "")
		}
		if t.Kind == "change" { // what was put in waits no more
			maps.DeleteFunc(h.Staged, func(_ string, p Payload) bool {
				return p.SHA256 == t.Payload.SHA256 || slices.ContainsFunc(t.With, func(o Payload) bool { return o.SHA256 == p.SHA256 })
			})
		}
		if t.Kind == "firmware" && t.Payload.Restart == catalogue.BMCRestart {
			h.BMCReset = w.Now
			if w.strikes(h.Name, RenewsCert) {
				h.Renewed++
			}
		}
		if t.Kind == "firmware" && w.strikes(h.Name, LeavesTask) {
			h.Waiting = append(slices.Clone(h.Waiting), "waiting-"+t.ID)
		}
	case "services":
		h.renew(t.Payload.Component, t.Device, t.Services)
	case "restart":
		w.comeUp(h, t)
	}
}

func (w *World) land(from, to *Host, t *Task) {
	i := slices.IndexFunc(from.Reading.Guests, func(g estate.Guest) bool { return g.UID() == t.Guest })
	if i < 0 || !to.Up {
		t.State, t.Error = connector.TaskFailed, "the target does not answer"
		return
	}
	to.Reading.Guests = append(to.Reading.Guests, from.Reading.Guests[i])
	from.Reading.Guests = slices.Delete(from.Reading.Guests, i, i+1)
	to.board(&to.Reading.Guests[len(to.Reading.Guests)-1])
	from.Reading.Sort()
	to.Reading.Sort()
}

// apply puts a payload in. What needs a restart is installed but does not run.
func (h *Host) apply(p Payload, device string) {
	r := &h.Reading
	if more := h.Reveals[p.Component]; len(more) > 0 {
		r.Components = append(slices.Clone(r.Components), more...)
		r.Sort()
		delete(h.Reveals, p.Component)
	}
	i := slices.IndexFunc(r.Components, func(c estate.Component) bool {
		return c.Key == p.Component && c.Device == device
	})
	if p.Version == "" {
		if i >= 0 {
			r.Components = slices.Delete(r.Components, i, i+1)
		}
		return
	}
	if i < 0 {
		r.Components = append(r.Components, estate.Component{Key: p.Component, Device: device, Version: p.Version})
		r.Sort()
		return
	}
	c := &r.Components[i]
	switch {
	case c.Version == p.Version:
		c.Running, c.Restarts, c.Holders = "", "", nil
	case p.Restart.EmptiesHost():
		c.Running, c.Restarts = cmp.Or(c.Running, c.Version), "host"
	case p.Restart == catalogue.ServiceRestart:
		c.Running, c.Restarts, c.Holders = "", "", nil
		for _, unit := range c.Units {
			c.Holders = append(c.Holders, estate.Holder{Service: unit})
		}
	default:
		c.Running, c.Restarts, c.Holders = "", "", nil
	}
	c.Version = p.Version
}

// renew lets services run what is installed, those named and no others; emulators of guests go on with what they have.
func (h *Host) renew(key estate.Key, device string, services []string) {
	for i := range h.Reading.Components {
		c := &h.Reading.Components[i]
		if c.Key != key || c.Device != device {
			continue
		}
		c.Holders = slices.DeleteFunc(slices.Clone(c.Holders), func(o estate.Holder) bool {
			return slices.Contains(services, o.Service)
		})
		if c.Restarts != "host" && slices.Contains(services, c.Restarts) {
			c.Running, c.Restarts = "", ""
		}
	}
}

func (w *World) comeUp(h *Host, t *Task) {
	if w.strikes(h.Name, NoReturn) {
		t.State, t.Error = connector.TaskFailed, "it did not come back"
		return
	}
	r := &h.Reading
	h.ran(w)
	h.Up, r.BMC.Power, r.BootedAt = true, "", w.Now
	r.BootID = bootID(h.Name, w.Serial)
	for i := range r.Components {
		r.Components[i].Running, r.Components[i].Restarts, r.Components[i].Holders = "", "", nil
	}
	for i := range r.Guests {
		if r.Guests[i].State == estate.Running {
			h.board(&r.Guests[i])
			r.Guests[i].Since = w.Now
			w.Restarts[r.Guests[i].Name]++
		}
	}
}

// bootID makes an id in the form that Linux gives its boots.
func bootID(host string, n int) string { return UUID(fmt.Sprintf("%s boot %d", host, n)) }

// UUID makes an id in the form of a UUID of what it is for; the same of the same.
func UUID(of string) string {
	sum := sha256.Sum256([]byte(of))
	x := hex.EncodeToString(sum[:16])
	return x[:8] + "-" + x[8:12] + "-" + x[12:16] + "-" + x[16:20] + "-" + x[20:32]
}
