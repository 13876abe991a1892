// Package precheck asks the questions that are asked before a host is touched, as functions of readings. An answer is
// clear, a caution or a blocker, and always carries its evidence; what blocks carries a remedy too.
package precheck

import (
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
)

// Level is how an answer bears on going ahead.
type Level string

// The levels, rising.
const (
	Clear   Level = "clear"
	Caution Level = "caution"
	Blocker Level = "blocker"
)

// Answer is the outcome of one check on one host.
type Answer struct {
	Check    string `json:"check"`
	Host     string `json:"host"`
	Level    Level  `json:"level"`
	Evidence string `json:"evidence"`
	Remedy   string `json:"remedy,omitempty"`
	// Command is what helps, where one command of this program does: its arguments.
	Command []string `json:"command,omitempty"`
	// Lasting is the evidence without what changes with time alone, where that is not the evidence itself.
	Lasting string `json:"lasting,omitempty"`
	// MoreOut tells that it would not block if one more host might be out of service at once.
	MoreOut bool `json:"more_out,omitempty"`
	// Unknown tells that it could not be known, and so is not clear.
	Unknown bool `json:"unknown,omitempty"`
	// At is the time of the oldest reading that it rests on, and Until when it is too old to be relied on; zero where
	// it rests on none, or any age will do.
	At    time.Time `json:"at,omitzero"`
	Until time.Time `json:"until,omitzero"`
	// Never says why it must never be waived; "" where it may.
	Never string `json:"never,omitempty"`
	// Waived is the pardon that holds for it; nil where there is none.
	Waived *Waiver `json:"waived,omitempty"`
}

// Advice is what to do about it: the remedy, with the command that helps.
func (a *Answer) Advice() string { return act.Advised(a.Remedy, a.Command) }

// Blocks tells whether the answer holds a visit up.
func (a *Answer) Blocks() bool { return a.Level == Blocker && a.Waived == nil }

// Sum is what answers come to.
type Sum int

// The sums, from better to worse.
const (
	AllClear Sum = iota // nothing blocks; there may be cautions
	Blocked
	NotKnown // something could not be known, whether something blocks or not
)

// SumOf is what the answers about the hosts that would be visited come to; what is pardoned counts for nothing.
func SumOf(answers []Answer) Sum {
	out := AllClear
	for i := range answers {
		switch a := &answers[i]; {
		case a.Waived != nil:
		case a.Unknown:
			return NotKnown
		case a.Blocks():
			out = Blocked
		}
	}
	return out
}

// Facts is what the checks look at.
type Facts struct {
	Now    time.Time
	MaxAge time.Duration // a reading older than this answers nothing
	fit.Terms
	Out   int      // how many hosts may be out of service at once
	Hosts []string // of the cluster
	// Controller is the guest, by name or UUID, that this program runs in; empty where it runs in none.
	Controller string
	Drops      []string // features that the host will have no more after its visit
	Readings   map[string]*estate.Reading
	Verdicts   []drift.Verdict  // of the host asked about
	Payloads   map[string]error // file → why it can't be used; nil where it is here and verified
	Empties    bool             // the host must be drained
	LookOnly   bool             // the estate file allows no orders to the cluster
	// Own are what checks of one's own answered about the host asked about.
	Own []Answer
	// Programs are those that the round runs on this machine, each with why it may not be run, nil where it may; OnHost is
	// how many it runs on the host.
	Programs map[string]error
	OnHost   int
	// Snapshots mean the guests of which the round makes snapshots.
	Snapshots []estate.Rule
	// Clears are tasks that the visit takes out of the BMC's queue first, and Flashes tells that it sends the BMC images.
	Clears  []string
	Flashes bool
	// Restarts tells that the host restarts in its visit, and Boots that it starts from an image once; Unserved is why images
	// can't be served to its BMC, "" where they can.
	Restarts, Boots bool
	Unserved        string
	// Keeps tells that the host's configuration is kept first, and Unkept why it can't be here; "" where it can.
	Keeps  bool
	Unkept string
	// StagesMiB is how much is staged on the host, in MiB, and Kernel tells that a kernel is among it.
	StagesMiB int64
	Kernel    bool
	// Judged tells that Verdicts and Mismatches were worked out for this host. Where they were not, the checks that
	// need them can't be answered.
	Judged bool
	// Mismatches are the combinations on no compatibility list that the host would have after its changes.
	Mismatches []catalogue.Mismatch
	// Moving are guests, by UID, that the round moves at this moment: two looks may find one on both hosts.
	Moving  map[string]bool
	Round   string   // marks of this round are ours
	Adopts  string   // the closing, by its identity, that is to become ours
	Visited []string // hosts that the round has out of service itself
	Asked   []string // the checks that are asked; nil: all, with those of one's own
	Visit
	// Placed is the answer of fit for the host, where it was asked already; nil where not.
	Placed *fit.Answer
}

// Check is one question.
type Check struct {
	Name string
	Asks string // the question in words
	// Never says why a blocker of it must never be waived; "" where it may.
	Never string
	// looks are the sections of the host's reading that it rests on.
	looks []estate.SectionName
	ask   func(Facts, *estate.Reading) found
}

// found is what a check finds.
type found struct {
	level            Level
	evidence, remedy string
	lasting          string // the evidence without what changes with time alone; "" where that is the evidence itself
	unknown, moreOut bool
	command          []string
}

// by adds the command that helps.
func (x found) by(command ...string) found {
	x.command = command
	return x
}

// orMoreOut adds the remedy that one more host may be out of service at once.
func (x found) orMoreOut() found {
	x.remedy, x.moreOut = x.remedy+", or allow more hosts out at once", true
	return x
}

func clear(evidence string) found { return found{level: Clear, evidence: evidence} }
func caution(evidence, remedy string) found {
	return found{level: Caution, evidence: evidence, remedy: remedy}
}
func blocker(evidence, remedy string) found {
	return found{level: Blocker, evidence: evidence, remedy: remedy}
}
func unknown(level Level, evidence, remedy string) found {
	return found{level: level, evidence: evidence, remedy: remedy, unknown: true}
}

// Checks is the set, in the order in which they are asked.
var Checks = []Check{
	{"reachable", "Does the host answer, and is what is known of it fresh?",
		"a host that nothing is known of may run anything", []estate.SectionName{estate.Host, estate.GuestList},
		reachable},
	{"orders", "Does it accept orders?", "it would refuse them", []estate.SectionName{estate.Host}, orders},
	{"machine", "Is it a separate machine?", "capacity that is counted twice is not there when a host fails",
		[]estate.SectionName{estate.Host}, machine},
	{"members", "Do all other hosts of the cluster answer?", "what does not answer counts as running its guests",
		nil, members},
	{"closed", "Is no host closed by somebody else?",
		"a host that somebody else closed is theirs to open, and no more hosts are out of service than the " +
			"brief allows", nil, closed},
	{"rules", "Do the rules about guests name guests that exist, and agree?", "lift the rule for the round instead",
		[]estate.SectionName{estate.GuestList}, rules},
	{RoomCheck, "Is there room for its guests elsewhere, with the reserve kept?",
		"keep a smaller reserve instead, which says what is given up", []estate.SectionName{estate.GuestList}, room},
	{"single", "Does each guest run on one host only?", "a guest that runs twice destroys what is on its disks",
		[]estate.SectionName{estate.GuestList}, single},
	{"guests", "Can every guest leave, or is it decided what happens to it?", "",
		[]estate.SectionName{estate.GuestList}, guests},
	{"snapshots", "Can a snapshot be made of every guest that is to have one?", "the round would stop there",
		[]estate.SectionName{estate.GuestList}, snapshots},
	{"serves", "Does no guest serve the storage of the host that it leaves, or of another?", "",
		[]estate.SectionName{estate.ConditionItems}, condition("who serves its storage", serves)},
	{"controller", "Does this program not run on it?", "the round would end itself",
		[]estate.SectionName{estate.GuestList}, controller},
	{"bmc", "Does the BMC answer, with an empty task queue?",
		"what waits there runs at the restart, and a host whose power can't be told is not restarted",
		[]estate.SectionName{estate.BMCState}, bmc},
	{"boot", "Will the host start from what it is to start from?", "it would not come back as it is to",
		[]estate.SectionName{estate.BMCState}, boots},
	{"health", "Do the host and its BMC report good health?", "", []estate.SectionName{estate.HealthItems}, health},
	{"restart", "Is no restart pending from before?", "",
		[]estate.SectionName{estate.Packages, estate.Drivers, estate.FirmwareItems}, pending},
	{"clock", "Does its clock agree with this one?", "", []estate.SectionName{estate.ConditionItems},
		condition("its clock", clock)},
	{"root", "Does its root file system survive a restart?", "what is installed would be gone",
		[]estate.SectionName{estate.ConditionItems}, condition("whether its root file system survives a restart", root)},
	{"space", "Is there enough disk space?", "it would fail half-way",
		[]estate.SectionName{estate.ConditionItems}, condition("its disk space", space)},
	{"backup", "Can its configuration be kept before it is changed?", "there would be no way back to it",
		[]estate.SectionName{estate.ConditionItems}, backup},
	{"storage", "Are its arrays whole and in sync?", "", []estate.SectionName{estate.ConditionItems},
		condition("whether its arrays are in sync", storage)},
	{"wear", "Do its disks have enough life left?", "", []estate.SectionName{estate.ConditionItems},
		condition("how worn its disks are", wear)},
	{"bonds", "Are both links of its bonds up?", "", []estate.SectionName{estate.ConditionItems},
		condition("whether its bonded links are up", bonds)},
	{"certificates", "Are its certificates valid for long enough?", "", []estate.SectionName{estate.ConditionItems},
		condition("how long its certificates last", certificates)},
	{"packages", "Has the package system finished what it began?", "it installs nothing before that",
		[]estate.SectionName{estate.Packages}, packages},
	{"dispute", "Is it known what is wanted, and do the baselines agree?", "", nil, dispute},
	{"payload", "Is every payload here and verified?", "nothing unverified is applied", nil, payload},
	{"programs", "May the programs be run that the round's hooks name?", "the round would stop there", nil, programs},
	{"together", "Will devices, drivers, firmware and platform be a combination that is known to be good?",
		"", nil, together},
	{"along", "What else changes with its packages?", onlyHere, nil, along},
	{"planned", "Is the host as it was when the round was planned?", onlyHere, nil, planned},
	{"withdrawn", "Does all that is to be installed still stand, or was it withdrawn since?", onlyHere, nil, withdrawn},
}

// Host asks every check about one host, or those that the facts name.
func Host(f Facts, host string) []Answer {
	out := make([]Answer, 0, len(Checks)+len(f.Own))
	for i := range Checks {
		if c := &Checks[i]; f.Asked == nil || slices.Contains(f.Asked, c.Name) {
			if a := c.answer(f, host); a.Level != "" {
				out = append(out, a)
			}
		}
	}
	if f.Asked != nil {
		return out
	}
	return append(out, f.Own...)
}

// Named asks one check about one host.
func Named(name string, f Facts, host string) Answer {
	i := slices.IndexFunc(Checks, func(c Check) bool { return c.Name == name })
	return Checks[i].answer(f, host)
}

// Room asks about one host whether there is room for its guests elsewhere, and nothing else.
func Room(f Facts, host string) Answer {
	return Named(RoomCheck, f, host)
}

// RoomCheck is the id of the check that Room asks.
const RoomCheck = "fit"

func (c *Check) answer(f Facts, host string) Answer {
	r := f.Readings[host]
	if r == nil {
		r = &estate.Reading{Host: host}
	}
	x := c.ask(f, r)
	a := Answer{Check: c.Name, Host: host, Level: x.level, Evidence: x.evidence, Remedy: x.remedy, Unknown: x.unknown,
		Lasting: x.lasting, MoreOut: x.moreOut, Command: x.command}
	if a.Level == Blocker {
		a.Never = c.Never
	}
	for _, name := range c.looks {
		if at := r.Section(name).At; a.At.IsZero() || at.Before(a.At) {
			a.At = at
		}
	}
	if f.MaxAge > 0 && !a.At.IsZero() {
		a.Until = a.At.Add(f.MaxAge)
	}
	return a
}

// Blockers returns the answers that block.
func Blockers(as []Answer) []Answer {
	return slices.DeleteFunc(slices.Clone(as), func(a Answer) bool { return !a.Blocks() })
}
