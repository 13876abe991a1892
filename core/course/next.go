package course

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// Facts is the world as it was last seen, as values.
type Facts struct {
	Now   time.Time
	Lease bool     // it stands
	Hosts []string // of the cluster
	// Readings are the newest of each host; what a look could not read is as it was last known, its section unread.
	Readings map[string]*estate.Reading
	// Read tells which sections of a host were read since the round last woke, and when that look began.
	Read map[string]map[estate.SectionName]Sight
	// Traces are what the outside was found to know of open acts, by their ids, since the round last woke.
	Traces map[string]Traced
	// Calls are the acts whose call has not come back yet, by their ids.
	Calls map[string]bool
	// Today is what payload store, catalogue and baselines say of each host's visit as things stand now.
	Today map[string]Today
	// Contradiction is why the journal can't be all that was written; nil where nothing speaks against it.
	Contradiction error
}

// Sight orders what was seen: Seq is how long the journal was when the look began; Tick counts the looks that had come
// back then, and for a trace those that had when it came.
type Sight struct{ Seq, Tick int64 }

// Traced is a trace, with when it was asked for and came.
type Traced struct {
	act.Trace
	Sight
}

// Today is what payload store, catalogue and baselines say of one visit as things stand now. In its zero value nothing
// was worked out, which clears nothing.
type Today struct {
	Judged     bool
	Verdicts   []drift.Verdict
	Mismatches []catalogue.Mismatch
	// Waivers are those that are on the record today: one that was taken back since the round was planned is over.
	Waivers []precheck.Waiver
	// Own are what checks of one's own answered of the host as it was read for this turn.
	Own []precheck.Answer
	// Payloads says by file why it can't be used; nil where it is here and verified. A file that is not among them
	// can't be used.
	Payloads map[string]error
	// URLs are the addresses at which images are served to the host's BMC, by their files, and Unserved says why there are
	// none.
	URLs     map[string]string
	Unserved string
	// Unkept is why no configuration of a host can be kept here; "" where it can.
	Unkept string
	// Answers tells by the address whether something answers there, of those that guests wait for.
	Answers map[string]bool
	// Programs says by its path why a program of this machine may not be run.
	Programs map[string]error
	// More are changes that apply to the host beside those of its visit, Along what would come in with them, and Left
	// what applies and is not made: looked for once all that was planned is made.
	More  []act.Change
	Along []act.Along
	Left  []string
	// Withdrawn says by the change's number why what it would put in was taken back.
	Withdrawn map[int]string
}

// Look is what is to be looked at: sections of a host, and the traces of acts on it.
type Look struct {
	Host     string
	Sections []estate.SectionName
	Traces   []string // ids of open acts
}

// Said is what is to be told of a host or an act under way, to those who watch.
type Said struct {
	Host    string        `json:"host"`
	Act     string        `json:"act,omitempty"` // its id
	Says    string        `json:"says,omitempty"`
	Percent int           `json:"percent,omitempty"`
	Left    time.Duration `json:"left,omitempty"`
}

// Decision is what is to be done now. Events are recorded first, then acts begun, each behind its intent; then hosts
// looked at.
type Decision struct {
	Record []Event
	Begin  []act.Act
	Look   []Look
	// ask again after so long, with nothing of what was seen relied on any more; 0: when something comes in
	Wake time.Duration
	Logs []Culprit // whose logs are to be fetched
	Says []Said
	End  *Event // the round ends with it
}

// Culprit is the host at which a visit failed, and the kind of act that did.
type Culprit struct {
	Visit, Host string
	Kind        act.Name // "" where it was none
}

// Poll is how long a round waits at most between two looks at what is under way, and Glance at least: what has just
// begun is looked at again soon, for much of it is soon over.
const (
	Poll   = 3 * time.Second
	Glance = Poll / 6
)

// pause is how long to wait for the next look: half as long as what began last has been under way.
func (t *turn) pause() time.Duration {
	out := Poll
	soon := func(since time.Time) {
		if !since.IsZero() {
			out = min(out, max(t.f.Now.Sub(since)/2, Glance))
		}
	}
	for i := range t.s.Open {
		if p := &t.s.Open[i]; !p.Ordered {
			soon(p.At)
		}
	}
	for i := range t.s.Visits {
		if v := &t.s.Visits[i]; v.Under() {
			soon(v.Proving)
		}
	}
	return out
}

// turn is one decision in the making.
type turn struct {
	s     *State
	f     *Facts
	d     Decision
	waits bool // for something that time may bring
}

// Next decides what is to be done now.
func Next(s *State, f Facts) Decision {
	t := &turn{s: s, f: &f}
	for i := range s.Open {
		t.settle(&s.Open[i])
	}
	for i := range s.Visits {
		t.visit(&s.Visits[i])
	}
	if len(t.d.Record) == 0 && len(t.d.Begin) == 0 && len(t.d.Look) == 0 && !t.waits {
		t.end()
	}
	if t.d.End != nil && t.d.End.Status == Finished && t.afterRound() {
		t.d.End = nil
	}
	if t.waits {
		t.d.Wake = t.pause()
	}
	return t.d
}

func (t *turn) record(e Event) {
	switch e.Kind {
	case Blocked, Unproven, Stuck, Overdue, Failed: // what waits at the BMC may be why
		if r := t.f.Readings[e.About()]; r != nil {
			e.Tasks = r.BMC.Waits()
		}
	}
	t.d.Record = append(t.d.Record, e)
}

func (t *turn) say(host, says string) { t.d.Says = append(t.d.Says, Said{Host: host, Says: says}) }

// wait tells what a host waits for that time may bring.
func (t *turn) wait(host, says string) {
	t.waits = true
	t.say(host, says)
}

// fresh tells whether the sections of a host were looked at since the last act on it, and asks for a look where not. A
// section that could not be read counts as looked at: the reading says so.
func (t *turn) fresh(host string, sections ...estate.SectionName) bool {
	return t.after(Sight{}, host, sections...)
}

// after is fresh, for looks that began no earlier than then.
func (t *turn) after(then Sight, host string, sections ...estate.SectionName) bool {
	var missing []estate.SectionName
	for _, s := range sections {
		if at, ok := t.f.Read[host][s]; !ok || at.Seq < max(t.s.touched[host], then.Seq) || at.Tick < then.Tick ||
			t.f.Readings[host] == nil {
			missing = append(missing, s)
		}
	}
	if len(missing) > 0 {
		t.look(Look{Host: host, Sections: missing})
	}
	return len(missing) == 0
}

// proof is after, and asks the BMC of a host that does not answer: only its power is proof of what that means.
func (t *turn) proof(then Sight, host string, sections ...estate.SectionName) bool {
	return t.after(then, host, sections...) && (t.f.Readings[host].Reached() || t.after(then, host, estate.BMCState))
}

// look asks for a look, together with what is asked of the host already.
func (t *turn) look(l Look) {
	i := slices.IndexFunc(t.d.Look, func(o Look) bool { return o.Host == l.Host })
	if i < 0 {
		t.d.Look = append(t.d.Look, l)
		return
	}
	o := &t.d.Look[i]
	for _, s := range l.Sections {
		if !slices.Contains(o.Sections, s) {
			o.Sections = append(o.Sections, s)
		}
	}
	o.Traces = append(o.Traces, l.Traces...)
}

// busy counts what is under way on the host, what this turn begins included.
func (t *turn) busy(host string) (n int) {
	return t.count(func(a *act.Act) bool { return a.Concerns(host) })
}

func (t *turn) count(is func(*act.Act) bool) (n int) {
	for i := range t.s.Open {
		if is(&t.s.Open[i].Act) {
			n++
		}
	}
	for i := range t.d.Begin {
		if is(&t.d.Begin[i]) {
			n++
		}
	}
	return n
}

// start begins an act on a visit's host, if all that it needs is seen at this moment. What would settle it must be
// readable before it is begun: else nobody could tell afterwards how it came out.
func (t *turn) start(v *Visit, a act.Act) {
	r := a.Kind.Of().Rules()
	if a.Kind != act.RunHook && !r.Aside && a.Kind != act.Clear && t.hooks(v, placeOf(&a)) {
		return
	}
	if r.Needs.Alone && t.busy(v.Host) > 0 {
		return // what is under way is spoken of where it is settled
	}
	a.Unslowed = a.To != "" && t.s.Plan.Brief.Converge == plan.AsItIs
	if a.Host = cmp.Or(a.Host, v.Host); a.Host != v.Host {
		a.For = v.Host
	}
	b := &t.s.Plan.Brief
	a.Round, a.Epoch, a.By, a.Reason = t.s.Round, t.s.Epoch, cmp.Or(a.By, b.By), cmp.Or(a.Reason, b.Reason)
	asks := a.Kind.Of().Asks(a)
	sections := slices.Clone(asks.Host)
	if !r.ByBMC {
		sections = append([]estate.SectionName{estate.Host}, sections...)
	}
	if r.Needs.Empty {
		sections = append(sections, estate.GuestList)
	}
	looked := t.fresh(a.Host, sections...)
	if r.Needs.Powered {
		looked = t.fresh(a.Host, estate.HealthItems) && looked
	}
	if !looked {
		return
	}
	seen := t.f.Readings[a.Host]
	for _, s := range sections {
		if why := seen.Section(s).Err; why != "" {
			t.unreadable(v, fmt.Sprintf("before it can %s: %s can't be read: %s", a.Says(), sectionSays(a.Host, s), why),
				"see why it does not answer, then resume the round")
			return
		}
	}
	no := unmet(r.Needs, seen, t.s.Round)
	if r.Needs.Powered && no == nil {
		no = unpowered(v, seen)
	}
	if no != nil {
		t.record(Event{Kind: Blocked, Host: v.Host, Detail: no.why, Remedy: no.remedy, Command: no.command})
		return
	}
	before := act.Remember(seen)
	before.Version = a.Before.Version
	a.Before = before
	t.intend(a)
}

// intend begins an act under an id of its own: no two intents of one thing stand behind the same entry.
func (t *turn) intend(a act.Act) {
	a.ID = fmt.Sprintf("%s/%s#%d", t.s.Round, a.Key(), t.s.Seq)
	t.d.Begin = append(t.d.Begin, a)
}

func sectionSays(host string, s estate.SectionName) string {
	switch s {
	case estate.Host:
		return host + " does not answer, and counts as running its guests: it"
	case estate.GuestList:
		return "which guests are on " + host
	case estate.BMCState:
		return "the BMC of " + host
	}
	return fmt.Sprintf("%q of %s", s, host)
}

// lack is what an act needs and has not, with what helps.
type lack struct {
	why, remedy string
	command     []string // that helps, where one does
}

// unpowered returns what of the host's power or temperature is not well that was when its visit began; nil where nothing
// is, or where nobody tells.
func unpowered(v *Visit, seen *estate.Reading) *lack {
	var before []string
	if v.Before != nil {
		before = precheck.Unpowered(v.Before.Health)
	}
	for _, x := range precheck.Unpowered(seen.Health) {
		if !slices.Contains(before, x) && seen.Read(estate.HealthItems) {
			return &lack{"no image is sent while its power or temperature is not well: " + x,
				"see to it on the host, then resume the round", nil}
		}
	}
	return nil
}

// unmet returns what of an act's needs is not there; nil where all is.
func unmet(n act.Needs, seen *estate.Reading, round string) *lack {
	if n.Empty {
		if h := len(seen.Holding()); h > 0 {
			return &lack{fmt.Sprintf("%d guests are on it that run or hold their memory", h),
				"move them away, then resume", nil}
		}
	}
	if n.Closed {
		switch m := seen.Closed; {
		case m == nil:
			return &lack{"its mark is gone: it may take guests again",
				"see who opened it, then resume: it is closed again", nil}
		case m.Round != round:
			return &lack{fmt.Sprintf("it is closed by %s (%s), and no more by this round", m.By, m.Reason),
				"a host that somebody else closed is theirs to open; ask them", nil}
		case m.Loose != "":
			return &lack{"it is closed, and guests could come all the same: " + m.Loose,
				"fix it, then resume the round", []string{"host", "prepare", seen.Host}}
		}
	}
	return nil
}

// unreadable puts up with what can't be read for as long as the brief's patience lasts: a service that restarts is soon
// back. Until then nothing is done for which it matters. What was borne once is not borne again.
func (t *turn) unreadable(v *Visit, why, remedy string) {
	patience := t.s.Plan.Brief.Patience
	switch {
	case v.Waits.IsZero() && !v.Waited:
		t.record(Event{Kind: Waits, Host: v.Host, Detail: why})
	case v.Waited, t.f.Now.Sub(v.Waits) >= patience:
		t.record(Event{Kind: Blocked, Host: v.Host, Detail: why, Remedy: remedy})
	default:
		t.wait(v.Host, fmt.Sprintf("waits since %s: %s", v.Waits.Format("15:04:05"), why))
	}
}

// end says how the round ends: nothing is under way, and no time will bring anything.
func (t *turn) end() {
	s := t.s
	var left, waiting, handed []string
	for i := range s.Visits {
		v := &s.Visits[i]
		switch {
		case v.Failure != nil && !v.Over():
			t.ended(Failing, v.Host+": "+v.Failure.Says())
			return
		case v.Phase == LeftOut:
			left = append(left, v.Host)
		case v.Phase == HandedOver:
			handed = append(handed, v.Host)
		case !v.Over():
			waiting = append(waiting, v.Host)
		}
	}
	over := ""
	if len(handed) > 0 {
		over = "; handed over: " + strings.Join(handed, ", ")
	}
	if without := s.unkept(); len(without) > 0 {
		over += "; no snapshot was made of " + strings.Join(without, ", ")
	}
	switch {
	case len(waiting) == 0 && s.End != nil:
		t.ended(Finished, fmt.Sprintf("%s ended it: %s; not visited: %s%s", s.End.By, s.End.Reason,
			cmp.Or(strings.Join(left, ", "), "none"), over))
	case len(waiting) == 0 && len(left) > 0:
		t.ended(Finished, fmt.Sprintf("every host has been visited but those that were left out: %s%s", strings.Join(left, ", "), over))
	case len(waiting) == 0:
		t.ended(Finished, "every host has been visited"+over)
	case s.Stop:
		t.ended(Stopped, "stopped at a safe point: no host is closed")
	case s.Pause:
		t.ended(Paused, "paused between two hosts")
	default: // a gate holds the next visit, and nothing is under way that would open it
		v := s.Visit(waiting[0])
		g, why, _ := t.held(v)
		if len(handed) > 0 { // that is nothing to see to on the next host
			t.ended(Stopped, fmt.Sprintf("%s waits: %s%s", v.Host, cmp.Or(why, "nothing lets it begin"), over))
			return
		}
		t.record(Event{Kind: Blocked, Host: v.Host, Detail: cmp.Or(why, "nothing lets it begin"), Remedy: g.Remedy,
			Command: g.helps(s.Plan.Brief.Cluster)})
	}
}

func (t *turn) ended(st Status, detail string) {
	t.d.End = &Event{Kind: Ended, Status: st, Detail: detail}
}
