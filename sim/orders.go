package sim

import (
	"archive/tar"
	"bytes"
	"cmp"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// Answer is what a host gives back for an order.
type Answer struct {
	connector.Receipt
	Body []byte // what was asked to be kept
}

// effects are what orders bring about on a host, by the kind of the act. An image for the BMC is only shown to the
// host, which refuses what is stale; the BMC is given it.
var effects = map[act.Name]func(*World, *Host, act.Act, []byte) (Answer, error){
	act.Claim:   func(*World, *Host, act.Act, []byte) (Answer, error) { return Answer{}, nil },
	act.Flash:   taken,
	act.Mount:   taken,
	act.Unmount: taken,
	act.Boot:    (*World).restart,
	act.Clear:   taken,
	act.Stage:   (*World).stage,
	act.Unstage: (*World).unstage,
	act.RunHook: (*World).hook,
	act.Lend:    (*World).lend,
	act.PutBack: (*World).lend,
	act.Move:    (*World).move,
	act.Return:  (*World).move,
	act.Close:   (*World).mark,
	act.Remark:  (*World).mark,
	act.Adopt:   (*World).adopt,
	act.Hand:    (*World).hand,
	act.Open:    (*World).open,
	act.Backup:  (*World).backup,
	act.Restore: (*World).restore,
	act.Install: (*World).install,
	act.Service: (*World).restartServices,
	act.Restart: (*World).restart,
	act.Down:    (*World).rest,
	act.Save:    (*World).rest,
	act.Start:   (*World).startGuest,
	act.Eject:   (*World).eject,
	act.Insert:  (*World).insert,

	act.Snapshot:   (*World).snapshot,
	act.Unsnapshot: (*World).unsnapshot,
	act.Carry:      (*World).carry,
}

// taken is for what the host's BMC is told once the host has taken the order.
func taken(*World, *Host, act.Act, []byte) (Answer, error) { return Answer{}, nil }

// remembered is how many orders a host knows again.
const remembered = 500

// Do carries an order out, unless the host has taken one of a higher epoch, or this very one.
func (w *World) Do(o connector.Order, payload []byte) (Answer, error) {
	h, err := w.up(o.Host)
	if err != nil {
		return Answer{}, err
	}
	g := &h.Reading.Guard
	if g.Refuses(o.Round, o.Epoch) {
		return Answer{}, fmt.Errorf("%s %w (epoch %d of round %s, and it knows of %d of %s)", o.Host,
			connector.ErrStale, o.Epoch, o.Round, g.Epoch, g.Round)
	}
	if _, known := h.Orders[o.ID]; known {
		return Answer{}, fmt.Errorf("%s %w: %s", o.Host, connector.ErrKnown, o.ID)
	}
	do, ok := effects[o.Kind]
	if !ok {
		return Answer{}, fmt.Errorf("%s can't %s", o.Host, o.Says())
	}
	if o.Epoch > 0 { // even where it is refused: the lease is newer
		*g = o.Guard()
	}
	a, err := do(w, h, o.Act, payload)
	if h.Orders == nil || len(h.Orders) > remembered {
		h.Orders = map[string]string{}
	}
	h.Orders[o.ID] = a.Task
	w.Acted++ // the host keeps what it was told
	return a, err
}

// Trace returns what the host knows of an act.
func (w *World) Trace(a act.Act) (act.Trace, error) {
	h, err := w.up(a.Host)
	if err != nil {
		return act.Trace{}, err
	}
	if a.Kind == act.Stage {
		return act.Trace{SHA256: h.Staged[a.Change.File].SHA256}, nil
	}
	t, err := w.Task(h.Orders[a.ID])
	if err != nil {
		return act.Trace{}, nil
	}
	return t.Trace(), nil
}

// stage takes a payload onto the host.
func (w *World) stage(h *Host, a act.Act, body []byte) (Answer, error) {
	p, err := ParsePayload(body)
	if err != nil {
		return Answer{}, err
	}
	if h.Staged == nil {
		h.Staged = map[string]Payload{}
	}
	p.Size = int64(len(body))
	h.Staged[a.Change.File] = p
	w.act("stage %s on %s", a.Change.File, h.Name)
	return Answer{Receipt: connector.Receipt{SHA256: p.SHA256}}, nil
}

// unstage takes away what waits on the host.
func (w *World) unstage(h *Host, a act.Act, _ []byte) (Answer, error) {
	for file, p := range h.Staged {
		if slices.ContainsFunc(a.Staged, func(s estate.Staged) bool { return s.SHA256 == p.SHA256 }) {
			delete(h.Staged, file)
			w.act("take away %s on %s", file, h.Name)
		}
	}
	return Answer{}, nil
}

// Programs is the directory of the programs that simulated hosts have: every one in it is there, and ends well.
const Programs = "/usr/local/lib/merrow/"

// hook runs a program on the host.
func (w *World) hook(h *Host, a act.Act, _ []byte) (Answer, error) {
	if !a.Hook.OnHost {
		return Answer{}, nil
	}
	if !strings.HasPrefix(a.Hook.Program, Programs) {
		return Answer{}, fmt.Errorf("%s refuses: there is no program %s", h.Name, a.Hook.Program)
	}
	t := Task{Kind: "hook", Host: h.Name}
	switch {
	case w.strikes(h.Name, HookWaits):
		t.Exit, t.Fails = 75, "not yet"
	case w.strikes(h.Name, HookFails):
		t.Exit, t.Fails = 1, "the balancer does not answer"
	}
	w.act("hook %s on %s", a.Hook.Program, h.Name)
	return Answer{Receipt: connector.Receipt{Task: w.begin(t, 2*time.Second)}}, nil
}

func (w *World) move(h *Host, a act.Act, _ []byte) (Answer, error) {
	task, err := w.Move(h.Name, a.UID(), a.To)
	return Answer{Receipt: connector.Receipt{Task: task}}, err
}

// rest brings a guest to rest: shut down, or with its memory on disk.
func (w *World) rest(h *Host, a act.Act, _ []byte) (Answer, error) {
	g, err := h.guest(a)
	if err != nil {
		return Answer{}, err
	}
	if !g.Holds() || w.busy(a.UID()) || a.Kind == act.Down && g.State != estate.Running {
		return Answer{}, fmt.Errorf("%s can't %s: it is %s, or is being migrated", h.Name, a.Says(), g.State)
	}
	if a.Kind == act.Save && len(g.Devices)+len(g.Pins) > 0 {
		return Answer{}, fmt.Errorf("%s can't %s: it holds what is not on disk", h.Name, a.Says())
	}
	h.Reading.Owed = append(paid(h.Reading.Owed, a.UID()),
		estate.Owed{Kind: string(a.Kind), Round: a.Round, Guest: a.Guest, GuestID: a.UID()})
	g.State, g.Saved = estate.Off, a.Kind == act.Save
	w.act("%s on %s", a.Says(), h.Name)
	return Answer{}, nil
}

// paid is a ledger without a guest.
func paid(ledger []estate.Owed, uid string) []estate.Owed {
	return slices.DeleteFunc(slices.Clone(ledger), func(o estate.Owed) bool { return o.GuestID == uid })
}

// carry moves a guest that is off.
func (w *World) carry(h *Host, a act.Act, _ []byte) (Answer, error) {
	g, err := h.guest(a)
	if err != nil {
		return Answer{}, err
	}
	to, err := w.up(a.To)
	switch {
	case err != nil:
		return Answer{}, err
	case g.Holds() || g.Saved:
		return Answer{}, fmt.Errorf("%s can't %s: it is %s, or what was in its memory is on disk",
			h.Name, a.Says(), g.State)
	case len(g.Ties(estate.Loosed{})) > 0:
		return Answer{}, fmt.Errorf("%s can't %s: %s", h.Name, a.Says(), g.Ties(estate.Loosed{})[0])
	case to.Reading.Closed != nil:
		return Answer{}, fmt.Errorf("%s is closed and takes no guests", to.Name)
	case slices.ContainsFunc(to.Reading.Guests, func(o estate.Guest) bool { return o.Name == g.Name }):
		return Answer{}, fmt.Errorf("%s has a guest named %s already", to.Name, g.Name)
	}
	to.Reading.Guests = append(slices.Clone(to.Reading.Guests), *g)
	h.Reading.Guests = slices.DeleteFunc(slices.Clone(h.Reading.Guests), func(o estate.Guest) bool {
		return o.UID() == a.UID()
	})
	w.act("carry %s from %s to %s", a.Guest, h.Name, to.Name)
	return Answer{}, nil
}

// eject takes what only its host has out of a guest's drives.
func (w *World) eject(h *Host, a act.Act, _ []byte) (Answer, error) {
	g, err := h.guest(a)
	if err != nil {
		return Answer{}, err
	}
	for _, d := range act.Inserted(g) {
		w.act("eject %s from %s on %s", d.Source, g.Name, h.Name)
	}
	g.Disks = slices.DeleteFunc(slices.Clone(g.Disks), func(d estate.Disk) bool { return d.Media && d.Local })
	return Answer{}, nil
}

// insert puts media into a guest's drives.
func (w *World) insert(h *Host, a act.Act, _ []byte) (Answer, error) {
	g, err := h.guest(a)
	if err != nil {
		return Answer{}, err
	}
	for _, d := range a.Media {
		if slices.ContainsFunc(g.Disks, func(o estate.Disk) bool { return o.Target == d.Target && o.Source != d.Source }) {
			return Answer{}, fmt.Errorf("%s: the drive %s of %s holds something else", h.Name, d.Target, g.Name)
		}
		g.Disks = slices.DeleteFunc(slices.Clone(g.Disks), func(o estate.Disk) bool { return o.Target == d.Target })
		g.Disks = append(g.Disks, d)
		w.act("insert %s into %s on %s", d.Source, g.Name, h.Name)
	}
	return Answer{}, nil
}

// snapshot makes one of a guest, which stands still meanwhile.
func (w *World) snapshot(h *Host, a act.Act, _ []byte) (Answer, error) {
	g, err := h.guest(a)
	switch {
	case err != nil:
		return Answer{}, err
	case w.busy(a.UID()):
		return Answer{}, fmt.Errorf("%s can't %s: it is being migrated", h.Name, a.Says())
	case len(g.Uncopied()) > 0:
		return Answer{}, fmt.Errorf("%s can't %s: %s", h.Name, a.Says(), g.Uncopied()[0])
	case slices.ContainsFunc(g.Snapshots, func(s estate.Snapshot) bool { return s.Name == a.Copy.Name }):
		return Answer{}, fmt.Errorf("%s has a snapshot %s of %s already", h.Name, a.Copy.Name, g.Name)
	case w.strikes(h.Name, SnapshotFails):
		return Answer{}, fmt.Errorf("%s can't %s: there is no room on its storage", h.Name, a.Says())
	}
	g.Snapshots = append(slices.Clone(g.Snapshots), *a.Copy)
	w.act("snapshot %s on %s", g.Name, h.Name)
	return Answer{}, nil
}

// unsnapshot removes one.
func (w *World) unsnapshot(h *Host, a act.Act, _ []byte) (Answer, error) {
	g, err := h.guest(a)
	if err != nil {
		return Answer{}, err
	}
	g.Snapshots = slices.DeleteFunc(slices.Clone(g.Snapshots), func(s estate.Snapshot) bool { return s.Name == a.Copy.Name })
	w.act("remove snapshot of %s on %s", g.Name, h.Name)
	return Answer{}, nil
}

// startGuest starts a guest that is off.
func (w *World) startGuest(h *Host, a act.Act, _ []byte) (Answer, error) {
	g, err := h.guest(a)
	switch {
	case err != nil:
		return Answer{}, err
	case h.Reading.Closed != nil:
		return Answer{}, fmt.Errorf("%s is closed and starts no guests", h.Name)
	case g.Holds():
		return Answer{}, fmt.Errorf("%s: %s is %s already", h.Name, g.Name, g.State)
	case !g.Load.Within(h.Reading.Capacity.Sub(h.Reading.Used())):
		return Answer{}, fmt.Errorf("%s has no room to start %s", h.Name, g.Name)
	}
	if !g.Saved {
		g.Since = w.Now
	}
	g.State, g.Saved = estate.Running, false
	h.Reading.Owed = paid(h.Reading.Owed, a.UID())
	h.board(g)
	w.act("start %s on %s", g.Name, h.Name)
	return Answer{}, nil
}

func (h *Host) guest(a act.Act) (*estate.Guest, error) {
	for i := range h.Reading.Guests {
		if g := &h.Reading.Guests[i]; g.UID() == a.UID() {
			return g, nil
		}
	}
	return nil, fmt.Errorf("%s has no guest %s", h.Name, a.Guest)
}

func (w *World) mark(h *Host, a act.Act, _ []byte) (Answer, error) {
	return Answer{}, w.Close(h.Name, estate.Mark{By: a.By, Round: a.Round, Reason: a.Reason})
}

// adopt replaces the mark that the act names by its round's own.
func (w *World) adopt(h *Host, a act.Act, _ []byte) (Answer, error) {
	m := h.Reading.Closed
	if m == nil || a.Before.Mark == nil || m.Identity() != a.Before.Mark.Identity() {
		return Answer{}, fmt.Errorf("%s does not carry the mark that is to be adopted", h.Name)
	}
	h.Reading.Closed = &estate.Mark{By: a.By, Round: a.Round, Reason: a.Reason, At: w.Now}
	w.act("adopt %s", h.Name)
	return Answer{}, nil
}

// hand makes the round's mark the person's.
func (w *World) hand(h *Host, a act.Act, _ []byte) (Answer, error) {
	m := h.Reading.Closed
	if m == nil || m.Round != a.Round {
		return Answer{}, fmt.Errorf("%s does not carry this round's mark", h.Name)
	}
	h.Reading.Closed = &estate.Mark{By: a.By, Reason: a.Reason, At: w.Now}
	w.act("hand %s over", h.Name)
	return Answer{}, nil
}

func (w *World) open(h *Host, a act.Act, _ []byte) (Answer, error) {
	return Answer{}, w.Open(h.Name, a.Round)
}

// backup gives the host's configuration: its settings, which packages it has, and how its guests are defined.
func (w *World) backup(h *Host, _ act.Act, _ []byte) (Answer, error) {
	kept := struct {
		Host       string             `json:"host"`
		Taken      time.Time          `json:"taken"`
		Release    string             `json:"release"`
		Networks   []string           `json:"networks"`
		Components []estate.Component `json:"components"`
		Guests     []estate.Guest     `json:"guests"`
	}{h.Name, w.Now, h.Reading.Release, h.Reading.Networks, nil, h.Reading.Guests}
	for _, c := range h.Reading.Components {
		if s := c.Key.Section(); s == estate.SettingItems || s == estate.Packages {
			kept.Components = append(kept.Components, c)
		}
	}
	body, err := json.MarshalIndent(kept, "", " ")
	if err != nil {
		return Answer{}, err
	}
	sum := sha256.Sum256(body)
	w.act("keep the configuration of %s", h.Name)
	return Answer{Receipt: connector.Receipt{SHA256: hex.EncodeToString(sum[:])}, Body: body}, nil
}

// configuration is that of an archive with the file that backup gave.
func configuration(archive []byte) (components []estate.Component, err error) {
	z, err := gzip.NewReader(bytes.NewReader(archive))
	if err != nil {
		return nil, err
	}
	t := tar.NewReader(z)
	if _, err := t.Next(); err != nil {
		return nil, err
	}
	var kept struct{ Components []estate.Component }
	err = json.NewDecoder(t).Decode(&kept)
	return kept.Components, err
}

// restore puts the host's settings back as they were when its configuration was kept.
func (w *World) restore(h *Host, a act.Act, body []byte) (Answer, error) {
	kept, err := configuration(body)
	if err != nil {
		return Answer{}, fmt.Errorf("%s can't %s: %w", h.Name, a.Says(), err)
	}
	for _, c := range kept {
		if c.Key.Section() == estate.SettingItems {
			h.apply(Payload{Component: c.Key, Version: c.Version}, c.Device)
		}
	}
	w.act("%s on %s", a.Says(), h.Name)
	return Answer{Receipt: connector.Receipt{Task: w.begin(Task{Kind: "files", Host: h.Name}, time.Second)}}, nil
}

// Differs says in what the host's settings are others than those of an archive.
func (w *World) Differs(host string, archive []byte) (out []string, err error) {
	h, err := w.up(host)
	if err != nil {
		return nil, err
	}
	kept, err := configuration(archive)
	for _, c := range kept {
		if now, _ := h.Reading.Component(c.Key, c.Device); c.Key.Section() == estate.SettingItems && now.Version != c.Version {
			out = append(out, fmt.Sprintf("%s: it is %q, and was %q", c.Key, now.Version, c.Version))
		}
	}
	return out, err
}

// install begins to put staged payloads in, or to remove packages: all of the order's, or nothing.
func (w *World) install(h *Host, a act.Act, _ []byte) (Answer, error) {
	var all []Payload
	for _, c := range a.Changes() {
		p := Payload{Component: c.Component, Version: c.To, Restart: c.Restart}
		if c.File != "" {
			var ok bool
			if p, ok = h.Staged[c.File]; !ok {
				return Answer{}, fmt.Errorf("%s is not staged on %s", c.File, h.Name)
			}
		}
		all = append(all, p)
	}
	t := Task{Kind: "change", Host: h.Name, Payload: all[0], With: all[1:], Device: a.Change.Device,
		Task: connector.Task{Component: a.Change.Component}}
	if w.strikes(h.Name, InstallFails) {
		t.Fails = "the package's own script failed with status 1"
	}
	for _, p := range all {
		w.act("change %s on %s", p.Component, h.Name)
	}
	return Answer{Receipt: connector.Receipt{
		Task: w.begin(t, 20*time.Second+time.Duration(len(t.With))*5*time.Second)}}, nil
}

// restartServices lets the services that run what the component replaced run what is installed.
func (w *World) restartServices(h *Host, a act.Act, _ []byte) (Answer, error) {
	t := Task{Kind: "services", Host: h.Name, Payload: Payload{Component: a.Change.Component}, Device: a.Change.Device,
		Services: a.Services}
	if w.strikes(h.Name, InstallFails) {
		t.Fails = "a service did not come up again"
	}
	w.act("service restart for %s on %s", a.Change.Component, h.Name)
	return Answer{Receipt: connector.Receipt{Task: w.begin(t, 5*time.Second)}}, nil
}

// lend stops or starts a service, or changes a setting of the kernel.
func (w *World) lend(h *Host, a act.Act, _ []byte) (Answer, error) {
	h.Reading.Components = slices.Clone(h.Reading.Components)
	for i := range h.Reading.Components {
		c := &h.Reading.Components[i]
		if c.Key != a.Lent.Component() {
			continue
		}
		is := a.Lent.Wants(a.Kind == act.PutBack)
		words := strings.Split(c.Version, ", ")
		words = slices.DeleteFunc(words, func(w string) bool { return w == "running" || w == "" })
		if is == act.ServiceRuns {
			words = append(words, is)
		}
		switch was := c.Version; {
		case a.Lent.Setting == "":
			c.Version = cmp.Or(strings.Join(words, ", "), is)
		case a.Kind == act.Lend || !a.Lent.Back(was): // else it is somebody else's by now
			c.Version = is
		}
		w.act("%s on %s", a.Says(), h.Name)
		return Answer{}, nil
	}
	return Answer{}, fmt.Errorf("%s has no %s", h.Name, a.Lent.Title())
}

func (w *World) restart(h *Host, a act.Act, _ []byte) (Answer, error) {
	task, err := w.Reboot(h.Name, fmt.Sprintf("%s, round %s by %s", a.Reason, a.Round, a.By))
	return Answer{Receipt: connector.Receipt{Task: task}}, err
}

// order reads an order from the header of a call.
func order(text []byte) (connector.Order, error) {
	var o struct {
		Act   act.Act
		Entry int64
		Sum   string
	}
	err := json.Unmarshal(text, &o)
	return connector.Order{Act: o.Act, Entry: o.Entry, Sum: o.Sum}, err
}

// OrderHeader is the header of a call that carries an order, in base64; its body is the payload.
const OrderHeader = "Yare-Order"
