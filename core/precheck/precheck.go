// Package precheck asks the questions that are asked before a host is touched, as functions of readings. An answer is
// clear, a caution or a blocker, and always carries its evidence; what blocks carries a remedy too.
package precheck

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

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

// Blocks tells whether the answer holds a visit up.
func (a *Answer) Blocks() bool { return a.Level == Blocker && a.Waived == nil }

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
	// Own are what checks of one's own answered about the host asked about.
	Own []Answer
	// StagesMiB is how much is staged on the host, in MiB, and Kernel tells that a kernel is among it.
	StagesMiB int64
	Kernel    bool
	// Judged tells that Verdicts and Mismatches were worked out for this host. Where they were not, the checks that
	// need them can't be answered.
	Judged bool
	// Mismatches are the combinations on no compatibility list that the host would have after its changes.
	Mismatches []catalogue.Mismatch
	Round      string   // marks of this round are ours
	Adopts     string   // the lost round whose mark on the host is to become ours
	Visited    []string // hosts that the round has out of service itself
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
	unknown          bool
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
	{"orders", "Does it take orders?", "it would refuse them", []estate.SectionName{estate.Host}, orders},
	{"members", "Do all other hosts of the cluster answer?", "what does not answer counts as running its guests",
		nil, members},
	{"closed", "Is no host closed by somebody else?",
		"a host that somebody else closed is theirs to open, and no more hosts are out of service than the " +
			"brief allows", nil, closed},
	{"rules", "Do the rules about guests mean guests that there are, and agree?", "lift the rule for the round instead",
		[]estate.SectionName{estate.GuestList}, rules},
	{RoomCheck, "Is there room for its guests elsewhere, with the reserve kept?",
		"keep a smaller reserve instead, which says what is given up", []estate.SectionName{estate.GuestList}, room},
	{"guests", "Can every guest leave, or is it said what is done with it?", "",
		[]estate.SectionName{estate.GuestList}, guests},
	{"serves", "Does no guest serve the storage of the host that it leaves, or of another?", "",
		[]estate.SectionName{estate.ConditionItems}, condition("who serves its storage", serves)},
	{"controller", "Does this program not run on it?", "the round would end itself",
		[]estate.SectionName{estate.GuestList}, controller},
	{"bmc", "Does the BMC answer, with an empty task queue?",
		"what waits there runs at the restart, and a host whose power can't be told is not restarted",
		[]estate.SectionName{estate.BMCState}, bmc},
	{"health", "Do the host and its BMC report themselves well?", "", []estate.SectionName{estate.HealthItems}, health},
	{"restart", "Is no restart pending from before?", "",
		[]estate.SectionName{estate.Packages, estate.Drivers, estate.FirmwareItems}, pending},
	{"clock", "Does its clock agree with this one?", "", []estate.SectionName{estate.ConditionItems},
		condition("its clock", clock)},
	{"root", "Does its root outlive a restart?", "what is put in would be gone",
		[]estate.SectionName{estate.ConditionItems}, condition("whether its root outlives a restart", root)},
	{"space", "Is there room for what is put in?", "it would break off in the middle",
		[]estate.SectionName{estate.ConditionItems}, condition("its room", space)},
	{"storage", "Are its arrays whole and in sync?", "", []estate.SectionName{estate.ConditionItems},
		condition("whether its arrays are in sync", storage)},
	{"wear", "Have its disks life enough left?", "", []estate.SectionName{estate.ConditionItems},
		condition("how worn its disks are", wear)},
	{"bonds", "Are both links of its bonds up?", "", []estate.SectionName{estate.ConditionItems},
		condition("whether its bonded links are up", bonds)},
	{"certificates", "Are its certificates far from their end?", "", []estate.SectionName{estate.ConditionItems},
		condition("how long its certificates last", certificates)},
	{"packages", "Has the package system finished what it began?", "it installs nothing before that",
		[]estate.SectionName{estate.Packages}, packages},
	{"dispute", "Do the baselines agree on what is wanted?", "", nil, dispute},
	{"payload", "Is every payload here and verified?", "nothing unverified is applied", nil, payload},
	{"together", "Will devices, drivers, firmware and platform be a combination that is known to be good?",
		"", nil, together},
}

// Host asks every check about one host.
func Host(f Facts, host string) []Answer {
	out := make([]Answer, 0, len(Checks)+len(f.Own))
	for i := range Checks {
		out = append(out, Checks[i].answer(f, host))
	}
	return append(out, f.Own...)
}

// Room asks about one host whether there is room for its guests elsewhere, and nothing else.
func Room(f Facts, host string) Answer {
	i := slices.IndexFunc(Checks, func(c Check) bool { return c.Name == RoomCheck })
	return Checks[i].answer(f, host)
}

// RoomCheck is the id of the check that Room asks.
const RoomCheck = "fit"

func (c *Check) answer(f Facts, host string) Answer {
	r := f.Readings[host]
	if r == nil {
		r = &estate.Reading{Host: host}
	}
	x := c.ask(f, r)
	a := Answer{Check: c.Name, Host: host, Level: x.level, Evidence: x.evidence, Remedy: x.remedy, Unknown: x.unknown}
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

// OnlyHere is why what only one round asks must never be waived.
const OnlyHere = "it is about this round alone"

const moreOut = "or allow more hosts out at once"

// MoreOutHelps tells whether the answer would not block if one more host might be out of service at once.
func (a Answer) MoreOutHelps() bool {
	return a.Level == Blocker && strings.HasSuffix(a.Remedy, moreOut)
}

// Blockers returns the answers that block.
func Blockers(as []Answer) []Answer {
	return slices.DeleteFunc(slices.Clone(as), func(a Answer) bool { return !a.Blocks() })
}

func reachable(f Facts, r *estate.Reading) found {
	for _, s := range []estate.SectionName{estate.Host, estate.GuestList} {
		if why := r.Unread(s, f.Now, f.MaxAge); why != "" {
			return unknown(Blocker, fmt.Sprintf("its section %q is unread: %s", s, why),
				"see that the host answers, then read it again")
		}
	}
	return clear("read " + drift.Age(f.Now.Sub(r.At())) + " ago")
}

// orders holds every host of the cluster to taking orders: guests go to the others.
func orders(f Facts, r *estate.Reading) found {
	var out []string
	for _, h := range f.Hosts {
		if o := f.Readings[h]; o != nil && o.Unready != "" && (h == r.Host || f.Empties) {
			out = append(out, h+": "+o.Unready)
		}
	}
	if len(out) > 0 {
		return blocker(strings.Join(out, "; "), "yare host prepare shows what that is, and puts it there")
	}
	return clear("it takes them")
}

func members(f Facts, r *estate.Reading) found {
	var silent, off []string
	for _, h := range f.Hosts {
		o := f.Readings[h]
		switch {
		case h == r.Host:
		case o != nil && slices.Contains(f.Visited, h) && o.Closed != nil && f.ours(o.Closed) &&
			len(o.Holding()) == 0: // it may be restarting, and was empty
		case o == nil:
			silent = append(silent, h+" (never read)")
		case o.Off():
			off = append(off, h)
		case !o.Reached():
			silent = append(silent, h)
		case o.Unread(estate.GuestList, f.Now, f.MaxAge) != "":
			silent = append(silent, h+" (its guests: "+o.Unread(estate.GuestList, f.Now, f.MaxAge)+")")
		case o.Unread(estate.Host, f.Now, f.MaxAge) != "":
			silent = append(silent, h+" ("+o.Unread(estate.Host, f.Now, f.MaxAge)+")")
		}
	}
	switch {
	case len(silent) > 0:
	case len(off) == 0:
		return clear(fmt.Sprintf("all %d others answer", len(f.Hosts)-1))
	case f.Empties && len(off) >= f.Out:
		return blocker(fmt.Sprintf("off: %s, as the BMC says; at most %d may be out of service at once",
			strings.Join(off, ", "), f.Out), "bring it back, "+moreOut)
	default:
		return caution("off: "+strings.Join(off, ", ")+", as the BMC says: no guest runs there",
			"a host that is gone for good is taken out of the estate file")
	}
	return unknown(Blocker, strings.Join(silent, ", ")+
		" can't be read, and counts as running the guests last known of it",
		"bring it back, or prove that its power is off")
}

func closed(f Facts, r *estate.Reading) found {
	var out []string
	n := 0
	for _, h := range f.Hosts {
		o := f.Readings[h]
		if o == nil || o.Closed == nil || h == r.Host && f.ours(o.Closed) ||
			slices.Contains(f.Visited, h) && f.ours(o.Closed) {
			continue
		}
		n++
		out = append(out, fmt.Sprintf("%s, by %s %s ago (%s)", h, o.Closed.By, drift.Age(f.Now.Sub(o.Closed.At)),
			o.Closed.Reason))
	}
	if n == 0 {
		return clear("no host is closed")
	}
	if r.Closed != nil && slices.ContainsFunc(out, func(s string) bool { return strings.HasPrefix(s, r.Host+",") }) {
		return blocker("closed: "+strings.Join(out, "; "),
			"a host that somebody else closed is theirs to open; ask them")
	}
	if f.Empties && n >= f.Out {
		return blocker(fmt.Sprintf("closed: %s; at most %d may be out of service at once", strings.Join(out, "; "),
			f.Out), "ask who closed it to open it, "+moreOut)
	}
	return caution("closed: "+strings.Join(out, "; "), "ask who closed it")
}

// ours tells whether a mark is of this round, or of one that it adopts.
func (f *Facts) ours(m *estate.Mark) bool {
	return m.Round != "" && (m.Round == f.Round || m.Round == f.Adopts)
}

func room(f Facts, r *estate.Reading) found {
	if !f.Empties {
		return clear("no change here needs the host empty")
	}
	a := f.Placed
	if a == nil {
		out := append(slices.DeleteFunc(slices.Clone(f.Visited), func(h string) bool { return h == r.Host }), r.Host)
		found := fit.Drain(f.Problem(), out, nil, fit.Effort)
		a = &found
	}
	if a.Outcome == fit.Fits {
		return clear(fmt.Sprintf("its %d guests find a place, with the reserve of %d host kept", len(a.Moves),
			f.Reserve) + f.resting(r))
	}
	return blocker(a.Outcome.String()+": "+a.Obstacle.String(), a.Obstacle.WayOut)
}

// resting says how many guests of a host do not move but come to rest.
func (f *Facts) resting(r *estate.Reading) string {
	n := 0
	for i := range r.Guests {
		if g := &r.Guests[i]; g.Holds() && f.Rest[g.UID()] {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("; %d come to rest with it", n)
}

// Problem is the cluster as fit sees it.
func (f *Facts) Problem() fit.Problem {
	return fit.Problem{Hosts: FitHosts(f.Hosts, f.Readings), Terms: f.Terms}
}

// FitHosts tells fit of a cluster's hosts as they were read. A host that does not answer, or whose guests could not be
// read, takes nothing and counts as running what it last ran.
func FitHosts(names []string, readings map[string]*estate.Reading) []fit.Host {
	var out []fit.Host
	for _, n := range names {
		r := readings[n]
		if r == nil {
			continue
		}
		offers := r.Offers()
		h := fit.Host{Name: n, Capacity: r.Capacity, Counts: r.Counts, Networks: offers.Networks,
			Storages: offers.Storages, Features: offers.Features, Guests: r.Holding(), Open: r.Takes()}
		if c, ok := r.Component(r.Emulator, ""); ok && r.Read(r.Emulator.Section()) {
			h.Emulator = fit.Emulator{Key: r.Emulator, Version: c.Version}
		}
		out = append(out, h)
	}
	return out
}

// rules holds the rules about guests to the guests that there are, and against each other.
func rules(f Facts, _ *estate.Reading) found {
	if len(f.Rules) == 0 {
		return clear("no rule says where guests may be")
	}
	const remedy = "mend the rule in the estate file, or lift it for the round"
	means := make([][]*estate.Guest, len(f.Rules))
	for i := range f.Rules {
		rule := &f.Rules[i]
		for _, word := range rule.Guests {
			one, found := estate.Rule{Guests: []string{word}}, false
			for _, h := range f.Hosts {
				r := f.Readings[h]
				for j := range rOr(r).Guests {
					if g := &r.Guests[j]; one.Means(g) {
						found = true
						means[i] = append(means[i], g)
					}
				}
			}
			if !found {
				return blocker(fmt.Sprintf("the rule %q speaks of %q, and no host has such a guest", rule.Says(), word),
					remedy)
			}
		}
	}
	for i := range f.Rules {
		for j := range f.Rules[:i] {
			a, b := &f.Rules[j], &f.Rules[i]
			if a.Prefer || b.Prefer || a.Keep == b.Keep {
				continue
			}
			if a.Keep == estate.Together && b.Keep == estate.Apart ||
				a.Keep == estate.Apart && b.Keep == estate.Together {
				if x := common(means[i], means[j]); len(x) > 1 {
					return blocker(fmt.Sprintf("the rules %q and %q contradict each other about %s and %s", a.Says(),
						b.Says(), x[0], x[1]), remedy)
				}
			}
		}
	}
	return clear(fmt.Sprintf("each means guests that there are (%d)", len(f.Rules)))
}

func rOr(r *estate.Reading) *estate.Reading {
	if r == nil {
		return &estate.Reading{}
	}
	return r
}

func common(a, b []*estate.Guest) (names []string) {
	for _, g := range a {
		if slices.ContainsFunc(b, func(o *estate.Guest) bool {
			return o.UID() == g.UID()
		}) && !slices.Contains(names, g.Name) {
			names = append(names, g.Name)
		}
	}
	return names
}

func bmc(f Facts, r *estate.Reading) found {
	if r.BMC.None {
		return caution("no BMC is named for it: its power and its health can't be told, and if it does not come back "+
			"from a restart nobody can prove from here that it is off",
			"name its BMC in the estate file, or be ready to walk there")
	}
	if why := r.Unread(estate.BMCState, f.Now, f.MaxAge); why != "" {
		return unknown(Blocker, "the BMC is unread: "+why,
			"see that the BMC answers; a host whose power can't be told is not restarted")
	}
	if r.BMC.Queue > 0 {
		return blocker(fmt.Sprintf("%d task(s) wait in the BMC's queue, and would run at the next restart",
			r.BMC.Queue), "look at the queue, and clear what nobody wants any more")
	}
	return clear("it answers, power is " + r.BMC.Power + ", its queue is empty")
}

func health(f Facts, r *estate.Reading) found {
	if why := r.Unread(estate.HealthItems, f.Now, f.MaxAge); why != "" {
		return unknown(Caution, "health is unread: "+why, "read it again")
	}
	var bad []string
	for _, h := range r.Health {
		if !h.OK {
			bad = append(bad, h.Item+": "+h.Detail)
		}
	}
	if len(r.Health) == 0 {
		return unknown(Caution, "health is unread: not one item was told",
			"see on the host and its BMC whether all is well")
	}
	if why := r.Section(estate.HealthItems).Partial; why != "" {
		bad = append(bad, "not all health was read: "+why)
	}
	if len(bad) > 0 {
		return caution(strings.Join(bad, "; "), "mend it first, or go on knowing that it may not come back as it was")
	}
	return clear(fmt.Sprintf("%d items, all well", len(r.Health)))
}

func pending(f Facts, r *estate.Reading) found {
	for _, s := range []estate.SectionName{estate.Packages, estate.Drivers, estate.FirmwareItems} {
		if why := cmp.Or(r.Unread(s, f.Now, f.MaxAge), r.Section(s).Partial); why != "" {
			return unknown(Caution, fmt.Sprintf("whether what is installed runs is not known: %s is unread: %s",
				s, why), "read it again")
		}
	}
	for _, c := range r.Components {
		if c.Running != "" {
			return caution(fmt.Sprintf("%s %s is installed and %s runs", c.Key, c.Version, c.Running),
				"the round's restart will settle it")
		}
		if len(c.Holders) > 0 {
			return caution(fmt.Sprintf("%s %s is installed, and %s still run what it replaced", c.Key, c.Version,
				c.Awaits()), "a service restarts, a guest moves away and back")
		}
	}
	return clear("what is installed runs")
}

// packages looks for what is half installed: dpkg and rpm install nothing more until that is mended.
func packages(f Facts, r *estate.Reading) found {
	if why := cmp.Or(r.Unread(estate.Packages, f.Now, f.MaxAge), r.Section(estate.Packages).Partial); why != "" {
		return unknown(Blocker, "packages are unread: "+why, "see that the host answers, then read it again")
	}
	var half []string
	for i := range r.Components {
		if c := &r.Components[i]; c.State != "" && c.Key.Section() == estate.Packages {
			half = append(half, fmt.Sprintf("%s %s is %s", c.Key, c.Version, c.State))
		}
	}
	if len(half) > 0 {
		return blocker(strings.Join(half, "; ")+": nothing else can be installed",
			"on the host, see why and let its package system finish: dpkg --configure -a")
	}
	return clear("nothing is half installed")
}

// unjudged is the answer where what a check needs was not worked out: not knowing clears nothing.
func unjudged() found {
	return unknown(Blocker, "it could not be known: the host was not judged against its baselines and the catalogue",
		"see what keeps the catalogue from being read, then ask again")
}

func dispute(f Facts, r *estate.Reading) found {
	if !f.Judged {
		return unjudged()
	}
	for i := range f.Verdicts {
		if v := &f.Verdicts[i]; v.Host == r.Host && v.Clause != nil && len(v.Clause.Against) > 0 {
			return blocker(fmt.Sprintf("%s: %s wants %s, but %s", v.Component, v.Clause.Baseline, v.Clause.Says(),
				strings.Join(v.Clause.Against, " and ")),
				"give one of the baselines the lower rank, or take one clause away")
		}
	}
	return clear("they agree")
}

func payload(f Facts, _ *estate.Reading) found {
	var bad []string
	for file, why := range f.Payloads {
		if why != nil {
			bad = append(bad, file+": "+why.Error())
		}
	}
	if len(bad) > 0 {
		slices.Sort(bad)
		return blocker(strings.Join(bad, "; "), "fetch it again from its feed")
	}
	return clear(fmt.Sprintf("%d payload(s) verified", len(f.Payloads)))
}

func together(f Facts, _ *estate.Reading) found {
	if !f.Judged {
		return unjudged()
	}
	if len(f.Mismatches) == 0 {
		return clear("no compatibility list speaks against what it will have")
	}
	level := Caution
	var out []string
	for _, m := range f.Mismatches {
		if m.Blocks {
			level = Blocker
		}
		out = append(out, fmt.Sprintf("%s, by the list %s: %s", m.Hardware, m.List, m.Why))
	}
	return found{level: level, evidence: strings.Join(out, "; "),
		remedy: "let the baselines want a combination that is on the list, or ask its publisher for a newer list"}
}
