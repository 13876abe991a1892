package precheck

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

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
	if f.LookOnly {
		return blocker("the estate file allows looking at its cluster only", `say "act: true" for the cluster there`)
	}
	var out []string
	for _, h := range f.Hosts {
		if o := f.Readings[h]; o != nil && o.Unready != "" && (h == r.Host || f.Empties) {
			out = append(out, h+": "+o.Unready)
		}
	}
	switch {
	case len(out) > 0:
		return blocker(strings.Join(out, "; "), "see what that is, and put it there").by("host", "prepare", r.Host)
	case !r.Reached():
		return unknown(Blocker, "it does not answer: whether it accepts orders can't be told", "see why it does not answer")
	}
	return clear("it accepts them")
}

// single looks for guests that run on two hosts at once, as they were last read. While a guest moves its target holds it
// suspended: one that runs on both was started twice, or moved between two looks, which reading both again tells.
func single(f Facts, r *estate.Reading) found {
	twice := Twice(f.Hosts, f.Readings)
	var out []string
	for _, t := range twice {
		if f.Moving[t.ID] {
			continue
		}
		if slices.Contains(t.Hosts, r.Host) || f.Empties { // any host may be the next target
			out = append(out, t.Guest+" runs on "+strings.Join(t.Hosts, " and "))
		}
	}
	if len(out) > 0 {
		return blocker(strings.Join(out, "; "), "read these hosts again; if it stays so, find out which of the two is the right "+
			"one, and turn the other off at once: both write to the same disks")
	}
	if blind := Blind(f.Hosts, f.Readings); len(blind) > 0 {
		return unknown(Caution, "the guests of "+strings.Join(blind, ", ")+" were never read", "see why they can't be read")
	}
	return clear("no guest runs on two hosts")
}

// Double is a guest that runs on several hosts at once.
type Double struct {
	Guest, ID string // its name and UUID
	Hosts     []string
}

// Twice are the guests that run on several of the hosts at once, by their UUIDs, as they were last read.
func Twice(hosts []string, readings map[string]*estate.Reading) (out []Double) {
	copies := Copies(hosts, readings)
	on, name := map[string][]string{}, map[string]string{}
	var order []string
	for _, h := range hosts {
		r := readings[h]
		if r == nil || r.Off() || copies[h] != "" {
			continue
		}
		for i := range r.Guests {
			g := &r.Guests[i]
			if g.State != estate.Running || g.ID == "" {
				continue
			}
			if len(on[g.ID]) == 0 {
				order = append(order, g.ID)
				name[g.ID] = g.Name
			}
			on[g.ID] = append(on[g.ID], h)
		}
	}
	for _, id := range order {
		if len(on[id]) > 1 {
			out = append(out, Double{name[id], id, on[id]})
		}
	}
	return out
}

// Again holds guests that run twice to a second look at all of their hosts: sure are those, by UUID, that each of their
// hosts was seen to run after they had been seen to run twice. before is what an earlier call returned as after; nil the
// first time.
func Again(twice []Double, readings map[string]*estate.Reading, before map[string]time.Time) (after map[string]time.Time,
	sure map[string]bool) {
	after, sure = map[string]time.Time{}, map[string]bool{}
	for _, d := range twice {
		var first, last time.Time
		for _, h := range d.Hosts {
			at, _ := readings[h].Section(estate.GuestList).Known()
			if first.IsZero() || at.Before(first) {
				first = at
			}
			if at.After(last) {
				last = at
			}
		}
		if seen, is := before[d.ID]; is {
			after[d.ID], sure[d.ID] = seen, first.After(seen)
		} else {
			after[d.ID] = last
		}
	}
	return after, sure
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
			strings.Join(off, ", "), f.Out), "bring it back").orMoreOut()
	default:
		return caution("off: "+strings.Join(off, ", ")+", as the BMC says: no guest runs there",
			"a host that is gone for good is taken out of the estate file")
	}
	return unknown(Blocker, strings.Join(silent, ", ")+
		" can't be read, and counts as running the guests last known of it",
		"bring it back, or prove that its power is off")
}

func closed(f Facts, r *estate.Reading) found {
	var out, lasting []string
	itself := false // the host asked about is among them
	for _, h := range f.Hosts {
		o := f.Readings[h]
		if o == nil || o.Closed == nil || h == r.Host && f.ours(o.Closed) ||
			slices.Contains(f.Visited, h) && f.ours(o.Closed) {
			continue
		}
		itself = itself || h == r.Host
		by, why := h+", by "+o.Closed.By, " ("+o.Closed.Reason+")"
		out = append(out, by+" "+drift.Age(f.Now.Sub(o.Closed.At))+" ago"+why)
		lasting = append(lasting, by+why)
	}
	says := "closed: " + strings.Join(out, "; ")
	switch {
	case len(out) == 0:
		return clear("no host is closed")
	case itself:
		return blocker(says, "a host that somebody else closed is theirs to open; ask them")
	case f.Empties && len(out) >= f.Out:
		return blocker(fmt.Sprintf("%s; at most %d may be out of service at once", says, f.Out),
			"ask who closed it to open it").orMoreOut()
	}
	x := caution(says, "ask who closed it")
	x.lasting = "closed: " + strings.Join(lasting, "; ")
	return x
}

// ours tells whether a mark is of this round, or of one that it adopts.
func (f *Facts) ours(m *estate.Mark) bool {
	return m.Round != "" && m.Round == f.Round || f.Adopts != "" && m.Identity() == f.Adopts
}

// rules holds the rules about guests to the guests that there are, and against each other.
// rules names every rule that means nobody, that contradicts another, or that is broken already.
func rules(f Facts, _ *estate.Reading) found {
	if len(f.Rules) == 0 {
		return clear("no rule says where guests may be")
	}
	const remedy = "fix the rule in the estate file, or lift it for the round"
	var unread []string
	for _, h := range f.Hosts {
		if !orEmpty(f.Readings[h]).Read(estate.GuestList) {
			unread = append(unread, h)
		}
	}
	var wrong, open, broken []string
	means := make([][]placed, len(f.Rules))
	for i := range f.Rules {
		rule := &f.Rules[i]
		for _, word := range rule.Guests {
			of := f.meant(estate.Rule{Guests: []string{word}})
			switch {
			case len(of) > 0:
			case len(unread) > 0:
				open = append(open, fmt.Sprintf("the rule %q names %q, and no host that could be read has such a guest; "+
					"the guests of %s could not be", rule.Says(), word, strings.Join(unread, ", ")))
			default:
				wrong = append(wrong, fmt.Sprintf("the rule %q names %q, and no host has such a guest", rule.Says(), word))
			}
			means[i] = append(means[i], of...)
		}
		if len(rule.Of) > 0 && len(f.meant(*rule.Others())) == 0 && len(unread) == 0 {
			wrong = append(wrong, fmt.Sprintf("the rule %q names %q, and no host has such a guest", rule.Says(), strings.Join(rule.Of, ", ")))
		}
		if why := breaks(rule, means[i]); why != "" && !rule.Prefer {
			broken = append(broken, fmt.Sprintf("the rule %q is broken already: %s", rule.Says(), why))
		}
		for j := range f.Rules[:i] {
			a, b := &f.Rules[j], rule
			if a.Prefer || b.Prefer || !(a.Keep == estate.Together && b.Keep == estate.Apart ||
				a.Keep == estate.Apart && b.Keep == estate.Together) {
				continue
			}
			if x := common(means[i], means[j]); len(x) > 1 {
				wrong = append(wrong, fmt.Sprintf("the rules %q and %q contradict each other about %s and %s", a.Says(),
					b.Says(), x[0], x[1]))
			}
		}
	}
	if name := f.circle(); name != "" {
		wrong = append(wrong, "by the rules about who is started after whom "+name+" would be started after itself")
	}
	all := strings.Join(slices.Concat(wrong, open, broken), "; ")
	switch {
	case len(open) > 0:
		return unknown(Blocker, all, remedy)
	case len(wrong) > 0:
		return blocker(all, remedy)
	case len(broken) > 0:
		return caution(all, "a visit breaks none that holds, and puts this one right where it can: move these guests, or lift the rule")
	}
	return clear(fmt.Sprintf("all rules name guests that exist and are kept (%d)", len(f.Rules)))
}

// circle is a guest that the rules have start after itself; "" where there is none.
func (f *Facts) circle() string {
	after := map[string][]placed{} // those after which a guest comes, by its UID
	for i := range f.Rules {
		if rule := &f.Rules[i]; rule.Keep == estate.After {
			of := f.meant(*rule.Others())
			for _, g := range f.meant(*rule) {
				after[g.UID()] = append(after[g.UID()], slices.DeleteFunc(slices.Clone(of), func(o placed) bool { return o.UID() == g.UID() })...)
			}
		}
	}
	for _, from := range slices.Sorted(maps.Keys(after)) {
		seen, todo := map[string]bool{}, slices.Clone(after[from])
		for len(todo) > 0 {
			g := todo[0]
			if todo = todo[1:]; g.UID() == from {
				return g.Name
			}
			if !seen[g.UID()] {
				seen[g.UID()] = true
				todo = append(todo, after[g.UID()]...)
			}
		}
	}
	return ""
}

// placed is a guest and its host.
type placed struct {
	*estate.Guest
	host string
}

// meant are the guests that a rule means, on all hosts that were read.
func (f *Facts) meant(rule estate.Rule) (out []placed) {
	for _, h := range f.Hosts {
		r := orEmpty(f.Readings[h])
		for j := range r.Guests {
			if g := &r.Guests[j]; rule.Means(g) {
				out = append(out, placed{g, h})
			}
		}
	}
	return out
}

// breaks says how the guests that hold memory break a rule as they are; "" where they keep it.
func breaks(rule *estate.Rule, guests []placed) string {
	for i, g := range guests {
		if !g.Holds() {
			continue
		}
		if rule.Keep == estate.KeptIn && !slices.Contains(rule.Hosts, g.host) ||
			rule.Keep == estate.KeptOut && slices.Contains(rule.Hosts, g.host) {
			return g.Name + " is on " + g.host
		}
		for _, o := range guests[:i] {
			if !o.Holds() || o.UID() == g.UID() {
				continue
			}
			if same := o.host == g.host; rule.Keep == estate.Apart && same {
				return fmt.Sprintf("%s and %s are both on %s", o.Name, g.Name, g.host)
			} else if rule.Keep == estate.Together && !same {
				return fmt.Sprintf("%s is on %s and %s on %s", o.Name, o.host, g.Name, g.host)
			}
		}
	}
	return ""
}

func orEmpty(r *estate.Reading) *estate.Reading {
	if r == nil {
		return &estate.Reading{}
	}
	return r
}

func common(a, b []placed) (names []string) {
	for _, g := range a {
		if slices.ContainsFunc(b, func(o placed) bool { return o.UID() == g.UID() }) && !slices.Contains(names, g.Name) {
			names = append(names, g.Name)
		}
	}
	return names
}
