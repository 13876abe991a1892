// Package act holds what a round does to the outside, one act at a time, as values. A kind of act stands in a file of
// its own and says everything that there is to say about it: its words, its step, what must hold before it, whether it
// may be done again, what is owed after it, how long it takes, and what a look at the host says of one whose outcome is
// not known. Whoever runs, shows, plans or reports acts asks the kind; there is no second list of kinds.
//
// The package does nothing: it decides. How an act is carried out is a connector's business.
package act

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"yareharbour/core/estate"
)

// Act is one thing to be done to the outside.
type Act struct {
	// ID is its own: no two acts have one, so that a host can refuse to begin one twice.
	ID    string `json:"id"`
	Kind  Name   `json:"kind"`
	Round string `json:"round"`
	Host  string `json:"host"`
	// For is the host whose visit it belongs to, where it is done on another one.
	For string `json:"for,omitempty"`
	// Epoch is that of the lease under which it was intended. A host refuses an act of a lower epoch than it has seen.
	Epoch int64 `json:"epoch"`
	Pass  int   `json:"pass,omitempty"`
	// Guest is the guest's name and GuestID its UUID, by which it is known at both ends; To is the host that it goes
	// to, MemoryMiB what is copied.
	Guest     string `json:"guest,omitempty"`
	GuestID   string `json:"guest_id,omitempty"`
	To        string `json:"to,omitempty"`
	MemoryMiB int64  `json:"memory_mib,omitempty"`
	Bandwidth int64  `json:"bandwidth,omitempty"` // that it may take, in MiB a second; 0: all that there is
	// Unslowed tells that the guest is not slowed down for its migration to come to an end.
	Unslowed bool `json:"unslowed,omitempty"`
	// Change is what is put in, and Index its place among the visit's changes; With is what goes in together with it,
	// all or nothing.
	Change *Change  `json:"change,omitempty"`
	Index  int      `json:"index,omitempty"`
	With   []Placed `json:"with,omitempty"`
	// Along is what comes in because of that, and was planned.
	Along    []Along         `json:"along,omitempty"`
	Services []string        `json:"services,omitempty"` // that restart
	Media    []estate.Disk   `json:"media,omitempty"`    // that are taken out of the guest's drives, or put in
	Staged   []estate.Staged `json:"staged,omitempty"`   // that are taken away
	Tasks    []string        `json:"tasks,omitempty"`    // that are cleared from the BMC's queue
	// Files are those that are put back.
	Files *Files `json:"files,omitempty"`
	// Image is the file that the host starts from, and URL where its BMC fetches it.
	Image string `json:"image,omitempty"`
	URL   string `json:"url,omitempty"`
	// Copy is the snapshot of the guest that is made or removed.
	Copy *estate.Snapshot `json:"copy,omitempty"`
	// Unowed tells that what it does is not undone again.
	Unowed bool `json:"unowed,omitempty"`
	// Lent is the service or setting that is changed for the time of the visit, as it is then.
	Lent *Lent `json:"lent,omitempty"`
	// Hook is the program that is run, as the Index-th of the round's hooks, and Facts what it finds on its input.
	Hook   *Hook           `json:"hook,omitempty"`
	Facts  json.RawMessage `json:"facts,omitempty"`
	Reason string          `json:"reason,omitempty"`
	By     string          `json:"by,omitempty"`
	Before Before          `json:"before"`
}

// Placed is a change with its place among the visit's changes.
type Placed struct {
	Index  int `json:"index"`
	Change     // its own names beside index
}

// Carried is the payload that goes with the order of an act whose kind carries one, by its file and SHA-256.
func (a Act) Carried() (file, sha256 string, size int64) {
	if f := a.Files; f != nil {
		return f.File, f.SHA256, f.Size
	}
	return a.Change.File, a.Change.SHA256, a.Change.Size
}

// Changes are all the changes that the act makes.
func (a Act) Changes() []Placed {
	if a.Change == nil {
		return nil
	}
	return append([]Placed{{a.Index, *a.Change}}, a.With...)
}

// Makes tells whether the visit's change with that number is among the act's.
func (a Act) Makes(i int) bool {
	return slices.ContainsFunc(a.Changes(), func(p Placed) bool { return p.Index == i })
}

// Visit is the host whose visit the act belongs to.
func (a Act) Visit() string { return cmp.Or(a.For, a.Host) }

// Concerns tells whether the act is done on the host, or for its visit.
func (a Act) Concerns(host string) bool { return a.Host == host || a.For == host }

// UID is by what the act's guest is known: its UUID, or its name where that was not read.
func (a Act) UID() string { return cmp.Or(a.GuestID, a.Guest) }

// Of is what of its host the act is about, where something is owed of that: its guest, or a service; "" for the host.
func (a Act) Of() string {
	if a.Lent != nil {
		return a.Lent.Title()
	}
	return a.UID()
}

// Says returns the act in words.
func (a Act) Says() string { return a.Kind.Of().Says(a) }

// Key tells attempts at the same thing from others: all acts with one key try to bring about the same.
func (a Act) Key() string {
	switch {
	case a.Hook != nil:
		return fmt.Sprintf("%s/%s/%d/%d", a.Host, a.Kind, a.Index, a.Pass)
	case a.Of() != "":
		return fmt.Sprintf("%s/%s/%s", a.Host, a.Kind, a.Of())
	case a.Change != nil:
		return fmt.Sprintf("%s/%s/%d", a.Host, a.Kind, a.Index)
	case a.Pass > 0:
		return fmt.Sprintf("%s/%s/%d", a.Host, a.Kind, a.Pass)
	}
	return a.Host + "/" + string(a.Kind)
}

// Before is what was true when the act was intended; later it tells done from not done.
type Before struct {
	BootID  string       `json:"boot_id,omitempty"`
	Version string       `json:"version,omitempty"`
	Mark    *estate.Mark `json:"mark,omitempty"`
	// Tasks are the ids of the tasks that the host's BMC listed: one that is not among them came later. BMCReset is
	// when the BMC itself had last started.
	Tasks    []string  `json:"tasks,omitempty"`
	BMCReset time.Time `json:"bmc_reset,omitzero"`
}

// Remember returns what a reading says of the time before an act on its host.
func Remember(r *estate.Reading) Before {
	if r == nil {
		return Before{}
	}
	return Before{BootID: r.BootID, Mark: r.Closed, Tasks: r.BMC.Tasks, BMCReset: r.BMC.Reset}
}

// Trace is what the outside still knows of an act, apart from what it brought about.
type Trace struct {
	State   TraceState    `json:"state"`
	Task    string        `json:"task,omitempty"` // by which it can be followed from now on
	Percent int           `json:"percent,omitempty"`
	Left    time.Duration `json:"left,omitempty"` // 0 where it can't be told
	Error   string        `json:"error,omitempty"`
	Final   bool          `json:"final,omitempty"` // it was given up, and would be again
	// Exit is the exit status of a program that ended, and Said the end of what it printed.
	Exit int    `json:"exit,omitempty"`
	Said string `json:"said,omitempty"`
	// SHA256 is the hash, in hex, of what the host holds of it, as the host computed it; empty where it holds nothing.
	SHA256 string `json:"sha256,omitempty"`
	// Unasked says why the outside could not be asked; then the rest says nothing.
	Unasked string `json:"unasked,omitempty"`
}

// TraceState is how far an act is known to be.
type TraceState string

// The states of a trace. The zero value is that nothing is known: no such act was ever heard of, or what was known of
// it is gone.
const (
	Nothing TraceState = ""
	Taken   TraceState = "taken" // the order was taken on; what came of it is to be seen
	Runs    TraceState = "running"
	Ended   TraceState = "done"   // it ended and calls itself done, which is no proof
	Broke   TraceState = "failed" // it ended and calls itself failed
	Lost    TraceState = "lost"   // it ended without a word of its own: the host restarted, or somebody ended it
)

// Asks is what must be looked at to settle an act: sections of its host and of the host it goes to, and whether for its
// trace as well.
type Asks struct {
	Host, To []estate.SectionName
	// Back is what is looked at of its host too, once that answers.
	Back  []estate.SectionName
	Trace bool
}

// Seen is what a look found, for one act. Readings are those taken for this look; where one was not asked for it may be
// nil.
type Seen struct {
	Now      time.Time
	Since    time.Time // when the act was intended
	Accepted bool      // the outside had taken it on
	SHA256   string    // what the outside said it had taken or given, in hex, when it took the act on
	Host, To *estate.Reading
	Trace    Trace
}

// Outcome is what a look says of an act.
type Outcome uint8

// The outcomes. The zero value decides nothing: the outside could not be asked.
const (
	Untold Outcome = iota
	Done
	NotDone
	UnderWay
	NeedsPerson // neither the test for done nor the test for not done holds
)

// String returns the outcome in words.
func (o Outcome) String() string {
	return [...]string{"can't be told", "done", "not done", "under way", "needs a person"}[o]
}

// Finding is an outcome with what speaks for it.
type Finding struct {
	Outcome Outcome
	Detail  string
	Percent int           // of what is under way
	Left    time.Duration // 0 where it can't be told
	Final   bool          // of what is not done: it would fail again as it is
	Again   bool          // of what is not done: it is no failure, and is done again a little later
}

// Needs is what must be true of the act's host when it begins, seen at that moment.
type Needs struct {
	Empty  bool // no guest holds memory of it
	Closed bool // it carries the round's mark
	Alone  bool // nothing else of the round is under way on it
	// Powered: nothing about its power and temperature has become worse since the visit began
	Powered bool
}

// Rules are what holds of every act of a kind.
type Rules struct {
	Step  Step
	Needs Needs
	// Tries is how often it is tried where it certainly failed, before that is the visit's failure.
	Tries int
	// Repeats tells that doing it twice does no harm: where a look can't settle it, it is done again.
	Repeats bool
	// Quiet tells that its host or BMC is expected to be silent meanwhile.
	Quiet bool
	// Aside tells that the visit goes on where it can't be done.
	Aside bool
	// ByBMC tells that the host need not answer: its BMC does it, and a host that can be told is told before.
	ByBMC bool
	// Carries tells that the change's payload goes with the order, and Gives that what the host gives back is kept.
	Carries, Gives bool
	// Owes says what stays to be undone after it, and Pays which kind undoes it. Later tells that this is done on a day of
	// its own, and not in the visit; Early that it is owed from the intent on, since a part of it may be done.
	Owes         string
	Pays         Name
	Later, Early bool
	// Remedy says what a person does where it failed, and Unclear where nobody knows how it came out; an empty one is
	// the usual.
	Remedy, Unclear string
}

// Advice is what a person does about an act that did not come out well; certain tells whether it is known how it came
// out.
func (r Rules) Advice(host string, certain bool) string {
	if certain {
		return r.Remedy
	}
	return cmp.Or(r.Unclear, "look at "+host+" yourself, then resume the round")
}

// short is the beginning of a hash, as people compare it.
func short(sum string) string { return sum[:min(len(sum), 12)] }

// Kind is everything there is to know of one kind of act.
type Kind interface {
	Rules() Rules
	// Says returns the act in words, as "move tide-gate-1 to curlew".
	Says(a Act) string
	// Takes returns how long it takes where the estate has no history of it: in the middle case and at worst.
	Takes(a Act) (middle, worst time.Duration)
	// Asks says what must be looked at to settle it.
	Asks(a Act) Asks
	// Find says what a look makes of it. It is given what Asks asked for.
	Find(a Act, s Seen) Finding
}

// Name names a kind.
type Name string

var kinds = map[Name]Kind{}

// define takes a kind in under its name.
func define(n Name, k Kind) Name {
	kinds[n] = k
	return n
}

// Of returns the kind of that name; the kind of nothing where there is none.
func (n Name) Of() Kind {
	if k, ok := kinds[n]; ok {
		return k
	}
	return stranger{n}
}

// Known tells whether there is a kind of that name.
func (n Name) Known() bool {
	_, ok := kinds[n]
	return ok
}

// Step is the step of a visit that acts of the kind belong to.
func (n Name) Step() Step { return n.Of().Rules().Step }

// Names returns all kinds, in the order of their steps.
func Names() []Name {
	var out []Name
	for _, s := range Steps {
		for _, n := range sorted(kinds) {
			if n.Step() == s {
				out = append(out, n)
			}
		}
	}
	return out
}

// UnmarshalJSON refuses a kind that there is not: a journal that names one was written by another version.
func (n *Name) UnmarshalJSON(text []byte) error {
	var s string
	if err := json.Unmarshal(text, &s); err != nil {
		return err
	}
	if *n = Name(s); !n.Known() {
		return fmt.Errorf("there is no kind of act called %q", s)
	}
	return nil
}

// stranger is a kind that nobody knows: nothing can be done with it, and a person must look.
type stranger struct{ name Name }

func (k stranger) Rules() Rules { return Rules{Remedy: "a newer version of yare knows what this is"} }

func (k stranger) Says(Act) string { return string(k.name) }

func (k stranger) Takes(Act) (middle, worst time.Duration) { return 0, 0 }

func (k stranger) Asks(Act) Asks { return Asks{} }

func (k stranger) Find(Act, Seen) Finding {
	return Finding{Outcome: NeedsPerson, Detail: fmt.Sprintf("nobody here knows what %q is", k.name)}
}
