package conform

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"slices"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

func migrates(kind act.Name) bool { return kind == act.Move || kind == act.Return }

func (t *trial) staging() {
	c := t.Change
	o := t.order(act.Stage, act.Act{Change: &c})
	o.Payload, o.Size = bytes.NewReader(t.Payload), int64(len(t.Payload))
	t.done(o)
	sum := sha256.Sum256(t.Payload)
	trace, err := t.open(t.Host).(connector.Doer).Trace(t.Context(), o.Act, "")
	if err != nil || trace.SHA256 != hex.EncodeToString(sum[:]) {
		t.Errorf("the host computed %q: %v", trace.SHA256, err)
	}
	waits := func() []estate.Staged { return t.read(t.Host, estate.Host).Staged }
	there := waits()
	if len(there) != 1 || there[0] != (estate.Staged{SHA256: trace.SHA256, Kind: c.Component.Kind(), Size: o.Size}) {
		t.Fatalf("there wait %+v", there)
	}
	t.done(t.order(act.Unstage, act.Act{Staged: there}))
	t.done(t.order(act.Unstage, act.Act{Staged: there})) // what is gone already is no failure
	if left := waits(); len(left) > 0 {
		t.Errorf("what was taken away waits there: %+v", left)
	}
	for range 2 { // what waits there already is not sent again
		o = t.order(act.Stage, act.Act{Change: &c})
		o.Payload, o.Size = bytes.NewReader(t.Payload), int64(len(t.Payload))
		t.done(o)
	}
}

func (t *trial) keeping() {
	var kept bytes.Buffer
	o := t.order(act.Backup, act.Act{})
	o.Keep = &kept
	r, err := t.do(o)
	if err != nil {
		t.Fatal(err)
	}
	if sum := sha256.Sum256(kept.Bytes()); kept.Len() == 0 || hex.EncodeToString(sum[:]) != r.SHA256 {
		t.Errorf("%d bytes came, and the host says they have %q", kept.Len(), r.SHA256)
	}
}

func (t *trial) closing() {
	t.done(t.order(act.Close, act.Act{Reason: "patches"}))
	m := t.read(t.Host, estate.Host).Closed
	if m == nil || m.Round != "conform" || m.Reason != "patches" || m.By == "" || m.At.IsZero() {
		t.Errorf("its mark is %+v", m)
	}
	if t.Guest != "" {
		back := act.Act{Host: t.To, To: t.Host, Guest: t.Guest, GuestID: t.anyOn(t.To)}
		if back.GuestID != "" {
			o := t.order(act.Move, back)
			if _, err := t.do(o); err == nil && t.find(o, connector.Receipt{}).Outcome == act.Done {
				t.Error("a closed host took a guest")
			}
		}
	}
	t.done(t.order(act.Remark, act.Act{Reason: "it failed"}))
	if m := t.read(t.Host, estate.Host).Closed; m == nil || m.Reason != "it failed" {
		t.Errorf("its mark is %+v", m)
	}
	t.round = "another" // under a lease of its own
	t.epoch++
	t.refused(t.order(act.Open, act.Act{}), "its mark is another round's")
	t.refused(t.order(act.Close, act.Act{Reason: "theirs"}), "somebody else has closed it")
	t.done(t.order(act.Adopt, act.Act{Reason: "adopted"}))
	t.round = "conform"
	t.epoch++
	t.refused(t.order(act.Open, act.Act{}), "it was adopted by another round")
	t.round = "another"
	t.epoch++
	t.done(t.order(act.Hand, act.Act{By: "op", Reason: "for the electrician"}))
	if m := t.read(t.Host, estate.Host).Closed; m == nil || m.Round != "" || m.By != "op" || m.Reason != "for the electrician" {
		t.Errorf("its mark is %+v", m)
	}
	t.refused(t.order(act.Open, act.Act{}), "it is a person's")
	t.refused(t.order(act.Hand, act.Act{By: "op", Reason: "again"}), "it does not carry this round's mark")
	t.done(t.order(act.Adopt, act.Act{Reason: "it is well"}))
	t.done(t.order(act.Open, act.Act{}))
	t.round = "conform"
	t.epoch++
	if m := t.read(t.Host, estate.Host).Closed; m != nil {
		t.Errorf("it is open and has the mark %+v", m)
	}
}

// resting brings the guest to rest in every way that there is here, and starts it again. It stays where it is, and what
// was in its memory is on disk only where that was meant.
func (t *trial) resting() {
	who := act.Act{Guest: t.Guest, GuestID: t.uid(t.Host)}
	for _, kind := range t.Rests {
		who.MemoryMiB = 4096
		t.done(t.order(kind, who))
		g := t.guest()
		if g.Holds() || g.Saved != (kind == act.Save) {
			t.Errorf("after %s it is %+v", kind, g)
		}
		if kind == act.Save {
			t.refused(t.order(act.Down, who), "it is off")
		}
		if got := t.read(t.Host, estate.Host).Owed; len(got) != 1 || got[0].Guest != t.Guest || got[0].GuestID != who.GuestID ||
			got[0].Round != t.round || act.Name(got[0].Kind) != kind && kind != act.Save {
			t.Errorf("after %s its ledger is %+v", kind, got)
		}
		t.done(t.order(act.Close, act.Act{Reason: "patches"}))
		if _, err := t.do(t.order(act.Start, who)); err == nil && t.guest().Holds() {
			t.Error("a closed host started a guest")
		}
		t.done(t.order(act.Open, act.Act{}))
		t.done(t.order(act.Start, who))
		if g := t.guest(); g.State != estate.Running || g.Saved {
			t.Errorf("after its start it is %+v", g)
		}
		if got := t.read(t.Host, estate.Host).Owed; len(got) > 0 {
			t.Errorf("after its start its ledger is %+v", got)
		}
	}
	gone := act.Act{Guest: "nobody", GuestID: "00000000-0000-4000-8000-000000000000"}
	t.refused(t.order(act.Start, gone), "there is no such guest")
}

// mounting puts an image into the drive of the host's BMC and takes it out again, also while the host is silent.
func (t *trial) mounting() {
	bmc := func() estate.BMC { return t.read(t.Host, estate.BMCState).BMC }
	if b := bmc(); b.Drives == 0 || len(b.Media) > 0 || b.BootOnce != "" {
		t.Fatalf("%d drives, and in them %v; it starts from %q", b.Drives, b.Media, b.BootOnce)
	}
	t.done(t.order(act.Close, act.Act{Reason: "conform"}))
	in := act.Act{Image: "x.iso", URL: t.Boots}
	away := act.Act{Image: "x.iso", URL: "https://127.0.0.1:1/x/none.iso"}
	t.refused(t.order(act.Mount, away), "nothing is served there")
	for range 2 {
		t.done(t.order(act.Mount, in)) // also where it is there already
	}
	if b := bmc(); !slices.Equal(b.Media, []string{t.Boots}) || b.BootOnce == "" {
		t.Errorf("in its drives are %v, and it starts from %q", b.Media, b.BootOnce)
	}
	t.refused(t.order(act.Mount, away), "its drive holds another image")
	if t.Cut != nil {
		t.Cut(t.Host)
	}
	t.done(t.order(act.Unmount, in))
	if t.Mend != nil {
		t.Mend(t.Host)
	}
	t.done(t.order(act.Unmount, in)) // what is gone already is no failure
	if b := bmc(); len(b.Media) > 0 || b.BootOnce != "" {
		t.Errorf("in its drives are %v, and it starts from %q", b.Media, b.BootOnce)
	}
	t.done(t.order(act.Open, act.Act{}))
}

// copying makes a snapshot of a guest, which ties it to its host, and removes it.
func (t *trial) copying() {
	t.Guest = t.Copies
	who := act.Act{Guest: t.Guest, GuestID: t.uid(t.Host), MemoryMiB: 64,
		Copy: &estate.Snapshot{Name: "yare-conform", Round: t.round, Until: time.Now().Add(time.Hour).Truncate(time.Second)}}
	before := len(t.guest().Ties(estate.Loosed{}))
	for range 2 {
		t.done(t.order(act.Snapshot, who))
		g := t.guest()
		if len(g.Snapshots) != 1 || g.Snapshots[0].Round != t.round || !g.Snapshots[0].Until.Equal(who.Copy.Until) || g.Snapshots[0].Claimed ||
			g.State != estate.Running {
			t.Fatalf("it is %s, and has the snapshots %+v", g.State, g.Snapshots)
		}
		if a, b := len(g.Ties(estate.Loosed{})), len(g.Ties(estate.Loosed{Snapshots: true})); a != before+1 || b != before {
			t.Errorf("it is tied by %v", g.Ties(estate.Loosed{}))
		}
		t.refused(t.order(act.Snapshot, who), "it has one of that name")
		t.claimed(t.To)
		o := t.moves(t.Host, t.To)
		if _, err := t.do(o); err == nil && t.find(o, connector.Receipt{}).Outcome == act.Done {
			t.Fatal("a guest with a snapshot was migrated")
		}
		t.done(t.order(act.Unsnapshot, who))
		if g := t.guest(); len(g.Snapshots) > 0 || g.State != estate.Running {
			t.Errorf("it is %s, and has the snapshots %+v still", g.State, g.Snapshots)
		}
	}
	t.done(t.order(act.Unsnapshot, who)) // what is gone already is no failure
}

// guest is the bench's guest as it is on its host.
func (t *trial) guest() *estate.Guest {
	r := t.read(t.Host, estate.Host, estate.GuestList)
	i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.Name == t.Guest })
	if i < 0 {
		t.Fatal("its guest is gone")
	}
	return &r.Guests[i]
}

// anyOn is a guest that runs on the host.
func (t *trial) anyOn(host string) string {
	for _, g := range t.read(host, estate.Host, estate.GuestList).RunningGuests() {
		return g.UID()
	}
	return ""
}

// moves is the order to move the suite's guest.
func (t *trial) moves(from, to string) connector.Order {
	return t.order(act.Move, act.Act{Host: from, Guest: t.Guest, GuestID: t.uid(from), To: to})
}

// aborted gives a migration up: the guest runs on where it was, is not at the target, and can be moved anew.
func (t *trial) aborted() {
	t.claimed(t.To)
	t.Abort(t.Host)
	o := t.moves(t.Host, t.To)
	r, err := t.do(o) // which may tell it at once
	if errors.Is(err, connector.ErrUnreachable) {
		t.Fatal(err)
	}
	if err == nil {
		if f := t.find(o, r); f.Outcome != act.NotDone || f.Detail == "" {
			t.Fatalf("a migration that was given up is found %s: %q", f.Outcome, f.Detail)
		}
	}
	on := func(host string) bool {
		return slices.ContainsFunc(t.read(host, estate.GuestList).RunningGuests(), func(g estate.Guest) bool {
			return g.UID() == o.UID()
		})
	}
	if !on(t.Host) || on(t.To) {
		t.Errorf("%s was to stay on %s: there %v, on %s %v", t.Guest, t.Host, on(t.Host), t.To, on(t.To))
	}
	t.done(t.moves(t.Host, t.To))
	t.done(t.moves(t.To, t.Host))
}

func (t *trial) moving() {
	t.claimed(t.To)
	o := t.moves(t.Host, t.To)
	r, err := t.do(o)
	if err != nil {
		t.Fatal(err)
	}
	best := 0
	for start := time.Now(); ; time.Sleep(t.Settle / 1000) { // its progress never falls
		trace, err := t.open(t.Host).(connector.Doer).Trace(t.Context(), o.Act, r.Task)
		if err != nil {
			t.Fatal(err)
		}
		if trace.State != act.Runs || time.Since(start) > t.Settle {
			break
		}
		if trace.Percent < best || trace.Percent > 100 {
			t.Errorf("its progress went from %d to %d", best, trace.Percent)
		}
		best = max(best, trace.Percent)
	}
	if f := t.find(o, r); f.Outcome != act.Done {
		t.Fatalf("%s: %s", f.Outcome, f.Detail)
	}
	t.done(t.moves(t.To, t.Host))
}

// claimed tells another host the suite's epoch, so that it takes its orders.
func (t *trial) claimed(host string) {
	t.epoch = max(t.epoch, t.read(host, estate.Host).Guard.Epoch)
	t.done(t.order(act.Claim, act.Act{Host: host}))
	t.done(t.order(act.Claim, act.Act{}))
}

func (t *trial) changing() {
	c := t.Change
	o := t.order(act.Install, act.Act{Change: &c})
	t.done(o)
	if got, _ := t.read(t.Host).Component(c.Component, c.Device); got.Version != c.To {
		t.Errorf("%s is at %q", c.Title(), got.Version)
	}
	if left := t.read(t.Host, estate.Host).Staged; len(left) > 0 {
		t.Errorf("what was put in waits there still: %+v", left)
	}
}

func (t *trial) failing() {
	c := t.Refused
	if f := t.settled(t.order(act.Install, act.Act{Change: &c})); f.Outcome != act.NotDone &&
		f.Outcome != act.NeedsPerson || f.Detail == "" {
		t.Errorf("%s: %s", f.Outcome, f.Detail)
	}
	for _, l := range connector.Logs(t.Context(), t.open(t.Host)) {
		if l.Of == act.LogPackages && len(l.Lines) > 0 && l.Err == "" {
			return
		}
	}
	t.Error("the package manager has written nothing about it")
}

func (t *trial) services() {
	c := t.Service
	t.done(t.order(act.Service, act.Act{Change: &c, Services: c.Services}))
}

func (t *trial) flashing() {
	c := t.Flash
	o := t.order(act.Flash, act.Act{Change: &c})
	o.Payload, o.Size = bytes.NewReader(t.Image), int64(len(t.Image))
	r, err := t.do(o)
	if err != nil {
		t.Fatal(err)
	}
	// Found without its id too: as a task that the BMC did not list before.
	if f := t.look(o, connector.Receipt{}, time.Now()); f.Outcome != act.UnderWay && f.Outcome != act.Done &&
		f.Outcome != act.Untold {
		t.Errorf("without its id it is %s: %s", f.Outcome, f.Detail)
	}
	if f := t.find(o, r); f.Outcome != act.Done {
		t.Errorf("%s: %s", f.Outcome, f.Detail)
	}
}

func (t *trial) clearing() {
	waits := t.read(t.Host, estate.BMCState).BMC.Waits()
	if len(waits) < 2 {
		t.Fatalf("there wait %v", waits)
	}
	t.done(t.order(act.Clear, act.Act{Tasks: waits[:1]}))
	if got := t.read(t.Host, estate.BMCState).BMC.Waits(); !slices.Equal(got, waits[1:]) {
		t.Errorf("after %s was cleared there wait %v", waits[0], got)
	}
	t.done(t.order(act.Clear, act.Act{Tasks: waits})) // what is gone already is no failure
}

// restarting comes last: whoever is still on the host may not survive it.
func (t *trial) restarting() {
	if t.Guest != "" {
		t.claimed(t.To)
		for _, g := range t.read(t.Host).RunningGuests() {
			if len(g.Ties(estate.Loosed{})) > 0 {
				t.done(t.order(act.Save, act.Act{Guest: g.Name, GuestID: g.UID(), MemoryMiB: 64}))
				continue
			}
			t.done(t.order(act.Move, act.Act{Guest: g.Name, GuestID: g.UID(), To: t.To}))
		}
	}
	before := t.read(t.Host).BootID
	t.done(t.order(act.Close, act.Act{Reason: "conform"}))
	o := t.order(act.Restart, act.Act{Pass: 1, Reason: "conform"})
	r, err := t.do(o)
	if err != nil {
		t.Fatal(err)
	}
	// Whoever does not know that it was taken on finds that too, at any moment: it is not told twice.
	if f := t.looked(o, act.Seen{Since: time.Now()}); f.Outcome == act.NotDone {
		t.Errorf("it was told to restart, and is found not to: %s", f.Detail)
	}
	if f := t.find(o, r); f.Outcome != act.Done {
		t.Fatalf("%s: %s", f.Outcome, f.Detail)
	}
	after := t.read(t.Host)
	if after.BootID == before || after.BootID == "" {
		t.Errorf("its boot id was %q and is %q", before, after.BootID)
	}
	if after.Closed == nil || after.Closed.Loose != "" || after.Guard.Epoch != t.epoch {
		t.Errorf("after its restart its mark is %+v, and its guard %+v", after.Closed, after.Guard)
	}
	t.done(t.order(act.Open, act.Act{}))
}

// hooks runs programs on the host, and here.
func (t *trial) hooks() {
	h := t.sample(act.RunHook)
	h.Facts = []byte(`{"v":1}`)
	t.done(t.order(act.RunHook, h))
	wrong := h
	wrong.Hook = &act.Hook{OnHost: true, Program: "/no/such/program", Within: time.Minute}
	t.refused(t.order(act.RunHook, wrong), "there is no such program")
	other := h
	other.Hook = &act.Hook{Program: "/no/such/program", Within: time.Minute}
	if _, err := t.do(t.order(act.RunHook, other)); err != nil { // it runs elsewhere, and the host only knows of it
		t.Error(err)
	}
}

// lending stops a service of the host and changes a setting of its kernel for a time, as far as it tells of them.
func (t *trial) lending() {
	tried := map[bool]bool{} // whether it is a setting; one of the host's own network comes first
	for _, text := range []string{"stop chrony.service", "set net.core.somaxconn=1234", "set vm.swappiness=1"} {
		l, err := act.ParseLent(text)
		if err != nil {
			t.Fatal(err)
		}
		is := func() string {
			is, _ := l.Is(t.read(t.Host, estate.SettingItems))
			return is
		}
		l.From = is()
		if l.From == "" || !l.Back(l.From) || tried[l.Setting != ""] {
			continue
		}
		for _, k := range []act.Name{act.Lend, act.Lend, act.PutBack, act.PutBack} {
			if t.done(t.order(k, act.Act{Lent: &l})); is() != l.Wants(k == act.PutBack) {
				t.Errorf("after %s, %s: it is %s", k, text, is())
			}
		}
		tried[l.Setting != ""] = true
	}
	if len(tried) == 0 {
		t.Skip("it tells of none of them")
	}
}
