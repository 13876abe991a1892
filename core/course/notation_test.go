package course

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// The notation in which cases of Next are written. A case is a title in a line of its own that begins with "#", and
// then lines that begin with a word:
//
//	hosts    a:g1,g2 b c      the cluster: each host with its guests, each guest of 10 MiB on a host of 100. Without
//	                          this line: a:g1 b c
//	brief    out=2 reserve=1  settings; without: out=1 reserve=0 moves=2 patience=20m
//	plan     a k/host f/bmc   a host with its changes (f/bmc/2 in the second pass; usual:8m is how long its restart
//	                          usually takes), each of a component from 1 to 2 with what it restarts: k, l are packages
//	                          with a payload, f is firmware, d a package that goes, s a service that must restart, r a
//	                          kernel that only awaits the host's restart, i is firmware by an image. One line a host
//	                          (ahead and old are of staging ahead; keeps, takes, reboots and owes:g1 are of work by hand; back:g1<b says which guests come back from where; home in the brief that all do; hook=before-visit/host+wait+again is a program)
//	journal  a: began …       what happened, as words (below). "a:" says of which host the words after it speak
//	seen     b.silent …       what is otherwise than the journal would have it, as words (below). All is seen fresh
//	                          unless it says "stale"
//	⇒        begin move g1 a>b; record quiet a move g1
//	                          what is decided: these, and no other begin, record or end. "look", "say" and "wake in"
//	                          are held to where they are named
//
// Words of the journal: began checked (checked:queue: a task waited at its BMC, checked:agents: the agents of its guests answered, checked:psu) stage:k move:g1>b close backup put:k put:k+l serve:k restart:1 proving proven
// open return:g1<b stays:g1 remark claim adopt waits blocked unproven left unstage hook:0 lend:x putback:x insert:g1 copy:g1@b uncopy:g1 mount:i unmount boot:i +5m -5m leapt:1h taken goon pause stop
// skip:b drop:k queued:1,2 word:ACT=done|undone extend:l give end handed hand. An act's word alone is all of it, to its end, and what it brings about is seen. "/intent", "/accepted",
// "/unanswered", "/failed", "/vain", "/quiet", "/heard", "/overdue", "/stuck", "/undone" behind it say how far it came
// instead: each behind those that must come before it.
//
// Words of seen: HOST.silent HOST.off HOST.bmc-silent HOST.unread:SECTION HOST.partial:SECTION HOST.stale HOST+guest
// HOST-guest HOST+guest:suspended HOST.k=VERSION HOST.k:running=VERSION HOST.k:state=WORD HOST.k:held=SERVICE
// HOST.k:guests=GUEST HOST.boot=ID HOST.mark=none|theirs HOST.reason=WORD HOST.ill HOST.netless HOST.board=VALUE HOST.queue HOST.task=ID
// HOST.memory=MIB HOST.cpu=MILLICORES HOST.fan2 HOST.loose HOST.reset HOST.staged=SUM HOST.agents=GUEST HOST.x=STATE HOST.media=URL HOST.psu HOST.guard=EPOCH trace:ACT=taken|running|done|failed|lost|vain|unasked|exit75|exit3|SUM calls:ACT bad:k withdrawn:k
// more:l (what applies too) unjudged lost contradicted stale unlogged (first: what failed was not asked for its logs yet).

// scene is a case under way.
type scene struct {
	t     *testing.T
	s     *State
	f     Facts
	plan  plan.Plan
	host  string // of which the journal speaks
	now   time.Time
	ids   map[string]string // of acts, by host and word
	acts  map[string]act.Act
	tasks int
}

// imageURL is the address of the image of the notation's firmware i.
const imageURL = "https://c/t/i.file"

// isos is a drive with a medium that only its host has, and oldSnapshot is one whose time is over.
var (
	isos        = []estate.Disk{{Target: "sda", Source: "/x.iso", Media: true, Local: true}}
	oldSnapshot = estate.Snapshot{Name: "yare-old", Round: "old", Until: noon.Add(-time.Hour)}
)

var noon = time.Date(2026, 11, 21, 12, 0, 0, 0, time.UTC)

func newScene(t *testing.T) *scene {
	sc := &scene{t: t, s: &State{}, now: noon, ids: map[string]string{}, acts: map[string]act.Act{}}
	sc.plan.Brief = plan.Brief{Cluster: "c", Out: 1, Moves: 2, Patience: 20 * time.Minute}
	sc.f = Facts{Lease: true, Readings: map[string]*estate.Reading{}, Read: map[string]map[estate.SectionName]Sight{},
		Traces: map[string]Traced{}, Calls: map[string]bool{}, Today: map[string]Today{}}
	return sc
}

// components of the notation, by their letters.
var components = map[string]estate.Key{"k": "deb:k", "l": "deb:l", "f": "fw:f", "d": "deb:d",
	"s": "deb:s", "r": "deb:r", "i": "fw:i"}

func (sc *scene) hosts(words []string) {
	for _, w := range words {
		name, guests, _ := strings.Cut(w, ":")
		r := &estate.Reading{Host: name, BootID: "boot-" + name, Capacity: estate.Resources{MemoryMiB: 100, CPU: 100},
			Networks: []string{"n"}, Board: map[string]string{"mode": "1"}, Health: []estate.Health{{Item: "fans", OK: true}},
			BMC: estate.BMC{Power: "On", Drives: 1, Tasks: []string{"old"}, Reset: noon.Add(-time.Hour)}}
		for l, k := range components {
			c := estate.Component{Key: k, Version: "1"}
			if l == "s" {
				c.Holders = []estate.Holder{{Service: "s.service"}}
			}
			if l == "r" {
				c.Running, c.Restarts = "0", "host"
			}
			r.Components = append(r.Components, c)
		}
		r.Components = append(r.Components, estate.Component{Key: "set:service/x", Version: "enabled, running"},
			estate.Component{Key: act.KernelSetting("vm.swappiness"), Version: "60"})
		for _, g := range strings.Split(guests, ",") {
			if name, ok := strings.CutSuffix(g, "/off"); ok {
				r.Guests = append(r.Guests,
					estate.Guest{ID: name, Name: name, State: estate.Off,
						Load: estate.Resources{MemoryMiB: 10, CPU: 1}})
			} else if name, ok := strings.CutSuffix(g, "/iso"); ok {
				r.Guests = append(r.Guests,
					estate.Guest{ID: name, Name: name, State: estate.Running,
						Load:  estate.Resources{MemoryMiB: 10, CPU: 1},
						Disks: isos})
			} else if name, old := strings.CutSuffix(strings.TrimSuffix(g, "/disk"), "/old"); old || name != g {
				x := estate.Guest{ID: name, Name: name, State: estate.Running, Load: estate.Resources{MemoryMiB: 10, CPU: 1},
					Disks: []estate.Disk{{Target: "vda", Source: "/g.img", Format: "qcow2"}}}
				if old {
					x.Snapshots = []estate.Snapshot{oldSnapshot}
				}
				r.Guests = append(r.Guests, x)
			} else if g != "" {
				r.Guests = append(r.Guests,
					estate.Guest{ID: g, Name: g, State: estate.Running, Load: estate.Resources{MemoryMiB: 10, CPU: 1}})
			}
		}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: noon, Source: "test"})
		}
		r.Sort()
		sc.f.Hosts, sc.f.Readings[name] = append(sc.f.Hosts, name), r
	}
}

func (sc *scene) brief(words []string) {
	for _, w := range words {
		k, v, _ := strings.Cut(w, "=")
		n, _ := strconv.Atoi(v)
		switch k {
		case "out":
			sc.plan.Brief.Out = n
		case "leaves":
			sc.plan.Brief.Leaves = n
		case "reserve":
			sc.plan.Brief.Reserve = n
		case "moves":
			sc.plan.Brief.Moves = n
		case "trial":
			sc.plan.Brief.Trial = v
		case "soak":
			sc.plan.Brief.Soak, _ = time.ParseDuration(v)
		case "home":
			sc.plan.Brief.Home = true
		case "hook": // hook=before-visit or hook=after-drain/host+wait+again
			point, how, _ := strings.Cut(v, "/")
			when, of, _ := strings.Cut(point, "-")
			h := act.Hook{Before: when == "before", Of: of, Program: "/x", Within: time.Minute, GoOn: []int{0},
				OnHost: strings.Contains(how, "host"), Repeats: strings.Contains(how, "again")}
			if strings.Contains(how, "wait") {
				h.Wait = []int{75}
			}
			sc.plan.Brief.Hooks = append(sc.plan.Brief.Hooks, h)
		case "temporary": // temporary=x is stopped, temporary==1 sets vm.swappiness
			sc.plan.Brief.Temporary = append(sc.plan.Brief.Temporary, lentOf(v))
		case "snapshot": // snapshot=g1 is kept for a day
			sc.plan.Brief.Snapshots = append(sc.plan.Brief.Snapshots, plan.Safety{Guests: []string{v}, For: 24 * time.Hour})
		case "converge":
			sc.plan.Brief.Converge = plan.Converge(v)
		case "staging":
			sc.plan.Brief.Staging = plan.Staging(v)
		case "hand":
			sc.plan.Brief.Hand = &plan.Hand{Does: plan.Does(v)}
			sc.plan.Brief.By, sc.plan.Brief.Reason = "op", "a fan"
		case "window": // from-to, as times after noon
			from, to, _ := strings.Cut(v, "-")
			a, _ := time.ParseDuration(from)
			b, _ := time.ParseDuration(to)
			sc.plan.Brief.Windows = append(sc.plan.Brief.Windows, plan.Window{From: noon.Add(a), To: noon.Add(b)})
		case "patience":
			sc.plan.Brief.Patience, _ = time.ParseDuration(v)
		default:
			sc.t.Fatalf("brief: %q", w)
		}
	}
}

func (sc *scene) visit(words []string) {
	v := plan.Visit{Host: words[0], Passes: 1}
	for _, w := range words[1:] {
		letter, restart, _ := strings.Cut(w, "/")
		restart, second := strings.CutSuffix(restart, "/2")
		if usual, ok := strings.CutPrefix(letter, "usual:"); ok {
			middle, _ := time.ParseDuration(usual)
			v.Steps = []plan.Stretch{{Step: act.DrainStep, Middle: time.Second},
				{Step: act.RestartStep, Middle: middle, Pessimistic: 5 * middle}}
			continue
		}
		if letter == "adopt" {
			v.Adopts = "lost"
			continue
		}
		if list, ok := strings.CutPrefix(w, "moves:"); ok {
			v.Moves = moves(v.Host, list)
			continue
		}
		if list, ok := strings.CutPrefix(w, "colds:"); ok { // guest runs; guest>host is off
			for _, x := range strings.Split(list, ",") {
				g, to, off := strings.Cut(x, ">")
				v.Colds = append(v.Colds, plan.Cold{ID: g, Guest: g, To: to, Runs: !off})
			}
			continue
		}
		if g, ok := strings.CutPrefix(w, "ejects:"); ok { // ejects:g1/out for good
			g, out := strings.CutSuffix(g, "/out")
			v.Ejects = append(v.Ejects, plan.Eject{ID: g, Guest: g, Media: isos, Out: out})
			continue
		}
		if g, ok := strings.CutPrefix(w, "uncopies:"); ok {
			v.Uncopies = append(v.Uncopies, plan.Uncopy{ID: g, Guest: g, Copy: oldSnapshot})
			continue
		}
		if list, ok := strings.CutPrefix(w, "back:"); ok { // guest<host
			for _, x := range strings.Split(list, ",") {
				g, from, _ := strings.Cut(x, "<")
				v.Back = append(v.Back, fit.Move{ID: g, Guest: g, From: from, To: v.Host})
			}
			continue
		}
		if list, ok := strings.CutPrefix(w, "rests:"); ok { // shut down, or suspended where a + stands before it
			for _, g := range strings.Split(list, ",") {
				name, saves := strings.CutPrefix(g, "+")
				name, port, _ := strings.Cut(name, "!")  // g2~g1!db:1 once db:1 answers too
				name, after, _ := strings.Cut(name, "~") // g2~g1 is started half a minute after g1
				v.Rests = append(v.Rests, plan.Rest{ID: name, Guest: name, After: after, Wait: 30 * time.Second, Answers: port,
					How: map[bool]act.Name{false: act.Down, true: act.Save}[saves]})
			}
			continue
		}
		if list, ok := strings.CutPrefix(w, "after:"); ok {
			v.After = strings.Split(list, ",")
			continue
		}
		if letter == "rehearse" {
			v.Rehearses, v.Restarts = true, append([]int{1}, v.Restarts...)
			continue
		}
		if letter == "backup" {
			v.Backup = true
			continue
		}
		if w == "keeps" { // it is emptied, and stays closed
			v.Keeps, v.Empties = true, true
			continue
		}
		if w == "ahead" {
			v.Ahead = true
			continue
		}
		if w == "old" { // a payload waits there that nobody wants
			v.Unstages = []estate.Staged{{SHA256: "old"}}
			continue
		}
		if w == "restores" { // files of its kept configuration, on a host that stays closed
			v.Keeps, v.Backup, v.Adopts, v.Restores = true, true, "lost", &act.Files{File: "x", Paths: []string{"etc/x"}}
			continue
		}
		if w == "takes" { // it stays closed
			v.Keeps = true
			continue
		}
		if w == "reboots" {
			v.Empties, v.Restarts = true, []int{1}
			continue
		}
		if g, ok := strings.CutPrefix(w, "owes:"); ok {
			v.Owes = append(v.Owes, act.Act{Kind: act.Down, Host: v.Host, Guest: g, GuestID: g})
			continue
		}
		c := act.Change{Component: components[strings.Trim(letter, "2")], From: "1", To: "2",
			Restart: catalogue.Restart(restart), Pass: 1, File: letter + ".file", SHA256: "sum-" + letter}
		switch letter {
		case "d":
			c.To, c.File = "", ""
		case "s":
			c.To, c.File, c.Services = "1", "", []string{"s.service"}
		case "r":
			c.To, c.File = "1", ""
		case "i":
			c.Image, c.Restart = true, catalogue.HostRestart
		}
		if c.Component == "" {
			sc.t.Fatalf("plan: %q", w)
		}
		if c.Restart == catalogue.ServiceRestart {
			c.Services = []string{c.Component.Name() + ".service"}
		}
		if second {
			c.Pass, v.Passes = 2, 2
		}
		v.Changes = append(v.Changes, c)
		if c.Restart.EmptiesHost() {
			v.Empties = true
			if !slices.Contains(v.Restarts, c.Pass) {
				v.Restarts = append(v.Restarts, c.Pass)
			}
		}
	}
	if v.Ahead {
		v.Empties, v.Restarts = false, nil
	}
	sc.plan.Visits = append(sc.plan.Visits, v)
}

func (sc *scene) begin() {
	if len(sc.f.Hosts) == 0 {
		sc.hosts([]string{"a:g1", "b", "c"})
	}
	sc.sendGuests()
	p := sc.plan
	sc.apply(Event{Kind: Started, Round: "R", Plan: &p, Epoch: 1, By: p.Brief.By, Detail: p.Brief.Reason})
}

// moves reads "guest>host,guest>host".
func moves(from, list string) (out []fit.Move) {
	for _, w := range strings.Split(list, ",") {
		g, to, _ := strings.Cut(w, ">")
		out = append(out, fit.Move{ID: g, Guest: g, From: from, To: to})
	}
	return out
}

// sendGuests fills in where the guests of the visits go, as the planner would, where the case does not say.
func (sc *scene) sendGuests() {
	var todo []string
	for i := range sc.plan.Visits {
		if v := &sc.plan.Visits[i]; v.Empties {
			todo = append(todo, v.Host)
		}
	}
	tour := fit.Plan(fit.Problem{Hosts: precheck.FitHosts(sc.f.Hosts, sc.f.Readings),
		Terms: fit.Terms{Reserve: sc.plan.Brief.Reserve, Rest: sc.plan.Terms().Rest}}, todo,
		fit.Order{Fixed: todo, Width: sc.plan.Brief.Out})
	for _, stop := range tour.Stops {
		v := &sc.plan.Visits[slices.IndexFunc(sc.plan.Visits, func(v plan.Visit) bool { return v.Host == stop.Host })]
		if v.Moves == nil && v.After == nil {
			v.Moves = stop.Moves
		}
	}
}

func (sc *scene) apply(e Event) {
	sc.t.Helper()
	e.V, e.Seq, e.At, e.Epoch = Schema, sc.s.Seq+1, sc.now, max(e.Epoch, sc.s.Epoch)
	if err := sc.s.Apply(e); err != nil {
		sc.t.Fatalf("the case's own journal: %v", err)
	}
}

// extra is a change of a letter's component that was not planned, with a restart of the host.
func (sc *scene) extra(letter string) act.Change {
	return act.Change{Component: components[letter], From: "1", To: "2", File: letter + ".deb", SHA256: letter,
		Pass: sc.s.Visit(sc.host).Passes + 1, Restart: catalogue.HostRestart}
}

// logged has the logs fetched of what failed, as they were before anything else is decided.
func (sc *scene) logged() {
	for i := range sc.s.Visits {
		if v := &sc.s.Visits[i]; v.Failure != nil && !v.Failure.Logged {
			sc.apply(Event{Kind: Logged, Host: v.Host})
		}
	}
}

// far says how far an act's word goes: the events that must come before one.
var far = map[string][]EventKind{
	"":           {Intent, Accepted, Done},
	"intent":     {Intent},
	"accepted":   {Intent, Accepted},
	"unanswered": {Intent, Unanswered},
	"failed":     {Intent, Failed},
	"vain":       {Intent, Failed},
	"quiet":      {Intent, Accepted, Quiet},
	"unheard":    {Intent, Unanswered, Quiet},
	"heard":      {Intent, Accepted, Quiet, Heard},
	"overdue":    {Intent, Accepted, Quiet, Overdue},
	"stuck":      {Intent, Accepted, Stuck},
	"undone":     {Intent, Undone},
	"again":      {Intent, Accepted, Undone}, // of a hook that says wait
}

var actKinds = map[string]act.Name{"stage": act.Stage, "move": act.Move, "close": act.Close, "backup": act.Backup,
	"restart": act.Restart, "open": act.Open, "remark": act.Remark, "claim": act.Claim, "adopt": act.Adopt,
	"unstage": act.Unstage, "hook": act.RunHook, "lend": act.Lend, "putback": act.PutBack, "down": act.Down, "save": act.Save, "start": act.Start, "return": act.Return,
	"eject": act.Eject, "insert": act.Insert, "restore": act.Restore, "mount": act.Mount, "unmount": act.Unmount, "boot": act.Boot, "copy": act.Snapshot, "uncopy": act.Unsnapshot, "carry": act.Carry, "hand": act.Hand, "clear": act.Clear}

// Every kind of act can be said in the notation: by a word of its own, or as a change.
func TestEveryKindHasAWord(t *testing.T) {
	for _, n := range act.Names() {
		said := slices.Contains([]act.Name{act.Install, act.Flash, act.Service}, n)
		for _, k := range actKinds {
			said = said || k == n
		}
		if !said {
			t.Errorf("%s has none", n)
		}
	}
}

func (sc *scene) journal(words []string) {
	for _, w := range words {
		switch {
		case strings.HasSuffix(w, ":") && len(w) == 2:
			sc.host = w[:1]
			continue
		case strings.HasPrefix(w, "+"), strings.HasPrefix(w, "-"):
			d, err := time.ParseDuration(w)
			if err != nil {
				sc.t.Fatal(err)
			}
			sc.now = sc.now.Add(d)
			continue
		}
		word, until, _ := strings.Cut(w, "/")
		kind, arg, _ := strings.Cut(word, ":")
		switch kind {
		case "rerouted":
			sc.apply(Event{Kind: Rerouted, Host: sc.host, Moves: moves(sc.host, arg)})
		case "stays":
			sc.apply(Event{Kind: Stays, Host: sc.host, Moves: []fit.Move{{ID: arg, Guest: arg}}})
		case "began", "proving", "proven", "left":
			sc.apply(Event{Kind: EventKind(kind), Host: sc.host})
		case "waits", "blocked", "unproven":
			sc.apply(Event{Kind: EventKind(kind), Host: sc.host, Detail: "for a reason"})
		case "checked":
			before := *sc.f.Readings[sc.host]
			before.Sections = slices.Clone(before.Sections)
			if arg == "agents" {
				before.Guests = slices.Clone(before.Guests)
				for i := range before.Guests {
					before.Guests[i].Agent.Name = "agent"
				}
			}
			if arg == "psu" {
				before.Health = append(slices.Clone(before.Health), estate.Health{Item: "power supply 2", Detail: "it is dead"})
			}
			if arg == "queue" {
				before.BMC.Waiting = []estate.BMCTask{{ID: "1"}}
			}
			sc.apply(Event{Kind: Checked, Host: sc.host, Before: &before})
		case "taken":
			sc.apply(Event{Kind: Taken, Epoch: sc.s.Epoch + 1})
		case "leapt":
			d, err := time.ParseDuration(arg)
			if err != nil {
				sc.t.Fatal(err)
			}
			sc.now = sc.now.Add(d)
			sc.apply(Event{Kind: Leapt, Leap: d})
		case "goon":
			sc.apply(Event{Kind: Asked, Detail: AskGoOn})
		case "pause", "stop":
			sc.apply(Event{Kind: Asked, Detail: kind})
		case "skip":
			sc.apply(Event{Kind: Asked, Detail: AskSkip, Host: arg})
		case "drop":
			c := estate.Component{Key: components[arg]}
			sc.apply(Event{Kind: Asked, Detail: AskDrop, Host: sc.host, Of: c.Title(), By: "op", Reason: "a reason"})
		case "word": // word:ACT=done
			of, says, _ := strings.Cut(arg, "=")
			sc.apply(Event{Kind: Asked, Detail: map[string]string{"done": AskDone, "undone": AskUndone}[says], Host: sc.host,
				Of: sc.id(of), By: "op", Reason: "a reason"})
		case "queued": // queued:TASK,TASK are to be cleared
			sc.apply(Event{Kind: Asked, Detail: AskClear, Host: sc.host, Tasks: strings.Split(arg, ","), By: "op",
				Reason: "a reason"})
		case "extend": // extend:l, in a pass of its own
			sc.apply(Event{Kind: Extended, Host: sc.host, More: []act.Change{sc.extra(arg)}})
		case "give":
			sc.apply(Event{Kind: Asked, Detail: AskHand, Host: sc.host, By: "op", Reason: "a reason"})
		case "end":
			sc.apply(Event{Kind: Asked, Detail: AskEnd, By: "op", Reason: "a reason"})
		case "handed":
			sc.apply(Event{Kind: Handed, Host: sc.host, Detail: "it is op's", By: "op", Reason: "a fan"})
		default:
			sc.act(kind, arg, until)
		}
	}
}

// act plays an act as far as the word says, and what it brings about where it is done.
func (sc *scene) act(kind, arg, until string) {
	a := act.Act{Kind: actKinds[kind], Host: sc.host, Round: "R", Epoch: sc.s.Epoch,
		Before: act.Remember(sc.f.Readings[sc.host])}
	v := sc.s.Visit(sc.host)
	switch kind {
	case "move", "carry":
		g, to, _ := strings.Cut(arg, ">")
		a.Guest, a.GuestID, a.To, a.MemoryMiB = g, g, to, 10
	case "return":
		g, from, _ := strings.Cut(arg, "<")
		a.Guest, a.GuestID, a.Host, a.For, a.To, a.MemoryMiB = g, g, from, sc.host, sc.host, 10
	case "down", "save", "start", "eject", "insert":
		g, at, elsewhere := strings.Cut(arg, "@") // start:g1@b is started where it was carried
		a.Guest, a.GuestID, a.MemoryMiB = g, g, 10
		if elsewhere {
			a.Host, a.For = at, sc.host
		}
		if kind == "eject" || kind == "insert" {
			a.Media = isos
			n := slices.IndexFunc(v.Ejects, func(e plan.Eject) bool { return e.UID() == g })
			a.Unowed = n >= 0 && v.Ejects[n].Out
		}
	case "copy", "uncopy": // copy:g1@b
		g, at, _ := strings.Cut(arg, "@")
		a.Guest, a.GuestID, a.Copy = g, g, &oldSnapshot
		if kind == "copy" {
			a.Host, a.For, a.Copy = at, sc.host, &estate.Snapshot{Name: SnapshotOf("R"), Round: "R", Until: sc.now.Add(24 * time.Hour)}
		}
	case "restart":
		a.Pass, _ = strconv.Atoi(arg)
	case "restore":
		a.Files = v.Restores
	case "unmount":
		a.Image, a.URL, arg = "i.file", imageURL, ""
	case "stage", "put", "serve", "mount", "boot":
		for i, letter := range strings.Split(arg, "+") {
			at := slices.IndexFunc(v.Changes, func(c act.Change) bool {
				return c.Component == components[strings.Trim(letter, "2")]
			})
			switch {
			case at < 0:
				sc.t.Fatalf("%s:%s: there is no such change", kind, arg)
			case i == 0:
				a.Index, a.Change = at, &v.Changes[at]
			default:
				a.With = append(a.With, act.Placed{Index: at, Change: v.Changes[at]})
			}
		}
		if kind == "mount" || kind == "boot" {
			a.Pass, a.Image, a.URL, a.Before.Version = a.Change.Pass, a.Change.File, imageURL, a.Change.From
		}
		if kind == "put" {
			a.Kind, a.Pass, a.Before.Version = a.Change.Kind(), a.Change.Pass, a.Change.From
		}
		if kind == "serve" {
			a.Kind, a.Pass, a.Services, a.Before.Version = act.Service, a.Change.Pass,
				[]string{arg + ".service"}, a.Change.To
		}
	case "hook": // hook:0, or hook:0.2 in the second pass
		n, pass, _ := strings.Cut(arg, ".")
		a.Index, _ = strconv.Atoi(n)
		a.Pass, _ = strconv.Atoi(pass)
		a.Hook = &sc.s.Plan.Brief.Hooks[a.Index]
	case "lend", "putback":
		l := lentOf(arg)
		if l.Setting != "" {
			l.From = "60"
		}
		a.Lent = &l
	case "unstage":
		a.Staged = v.Unstages
	case "adopt":
		a.Before.Mark = &estate.Mark{Round: "lost"}
	case "remark":
		a.Reason = v.Failure.Says()
	case "hand":
		a.By, a.Reason = "op", "a reason"
		if b := &sc.s.Plan.Brief; b.Hand != nil {
			a.Reason = b.Reason
		} else if v.Failure != nil && b.Leaves > 0 {
			a.Reason = "the round left it, after: " + v.Failure.Says()
		}
	}
	if !a.Kind.Known() {
		sc.t.Fatalf("journal: %q", kind)
	}
	steps, ok := far[until]
	if !ok {
		sc.t.Fatalf("journal: %s/%s", kind, until)
	}
	a.ID = fmt.Sprintf("%s/%s#%d", sc.host, kind, sc.s.Seq+1)
	name := kind
	arg, _, _ = strings.Cut(arg, "<")
	if arg, _, _ = strings.Cut(arg, ">"); arg != "" {
		name += ":" + arg
	}
	sc.ids[sc.host+" "+name], sc.acts[a.ID] = a.ID, a
	for _, k := range steps {
		e := Event{Kind: k, Act: &a, Detail: "for a reason", Final: until == "vain", Again: until == "again" && k == Undone}
		if k == Accepted {
			sc.tasks++
			e.Task = fmt.Sprint("t", sc.tasks)
			if kind == "backup" {
				e.SHA256 = "kept"
			}
		}
		if k == Failed {
			e.Again = sc.s.Again(&e)
		}
		sc.apply(e)
	}
	if steps[len(steps)-1] == Done {
		sc.brings(a)
	}
}

// brings is what an act that is done brings about.
func (sc *scene) brings(a act.Act) {
	r := sc.f.Readings[a.Host]
	switch a.Kind {
	case act.Move, act.Return, act.Carry:
		i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == a.UID() })
		sc.f.Readings[a.To].Guests = append(sc.f.Readings[a.To].Guests, r.Guests[i])
		r.Guests = slices.Delete(slices.Clone(r.Guests), i, i+1)
	case act.Down, act.Save, act.Start:
		for i := range r.Guests {
			if g := &r.Guests[i]; g.UID() == a.UID() {
				g.State, g.Saved = map[bool]estate.GuestState{false: estate.Off,
					true: estate.Running}[a.Kind == act.Start], a.Kind == act.Save
			}
		}
	case act.Eject, act.Insert, act.Snapshot, act.Unsnapshot:
		for i := range r.Guests {
			if g := &r.Guests[i]; g.UID() == a.UID() {
				switch a.Kind {
				case act.Eject:
					g.Disks = nil
				case act.Insert:
					g.Disks = a.Media
				case act.Snapshot:
					g.Snapshots = append(g.Snapshots, *a.Copy)
				case act.Unsnapshot:
					g.Snapshots = nil
				}
			}
		}
	case act.Close, act.Adopt, act.Remark:
		r.Closed = &estate.Mark{Round: "R", By: "op", Reason: a.Reason}
	case act.Open:
		r.Closed = nil
	case act.Hand:
		r.Closed = &estate.Mark{By: "op"}
	case act.Lend, act.PutBack:
		sc.component(a.Host, a.Lent.Component(), func(c *estate.Component) {
			c.Version = a.Lent.Wants(a.Kind == act.PutBack)
		})
	case act.Clear:
		r.BMC.Waiting = nil
	case act.Mount:
		r.BMC.Media, r.BMC.BootOnce = []string{imageURL}, "Cd"
	case act.Unmount:
		r.BMC.Media, r.BMC.BootOnce = nil, ""
	case act.Boot:
		r.BootID += "'"
		r.BMC.BootOnce = ""
		for _, ch := range a.Changes() {
			sc.component(a.Host, ch.Component, func(c *estate.Component) { c.Version = ch.To })
		}
	case act.Install, act.Flash, act.Service:
		for _, ch := range a.Changes() {
			sc.component(a.Host, ch.Component, func(c *estate.Component) { c.Version, c.Holders = ch.To, nil })
		}
		r.Components = slices.DeleteFunc(r.Components, func(c estate.Component) bool { return c.Version == "" })
	case act.Restart:
		r.BootID += "'"
		for i := range r.Components {
			r.Components[i].Running, r.Components[i].Restarts = "", ""
		}
	case act.Claim:
		r.Guard.Epoch = a.Epoch
	}
}

func (sc *scene) component(host string, key estate.Key, do func(*estate.Component)) {
	r := sc.f.Readings[host]
	r.Components = slices.Clone(r.Components)
	for i := range r.Components {
		if r.Components[i].Key == key {
			do(&r.Components[i])
		}
	}
}

// know makes everything seen, all of it fresh, before the words of "seen" take any of it away.
func (sc *scene) know() {
	sc.f.Now = sc.now
	for _, h := range sc.f.Hosts {
		sc.f.Read[h] = map[estate.SectionName]Sight{}
		for _, s := range estate.SectionNames {
			sc.f.Read[h][s] = Sight{Seq: sc.s.Seq, Tick: 9}
		}
		sc.f.Today[h] = Today{Judged: true, URLs: map[string]string{"i.file": imageURL}, Payloads: map[string]error{}, Withdrawn: map[int]string{}}
		if v := sc.s.Visit(h); v != nil {
			for _, c := range v.Changes {
				if c.File != "" {
					sc.f.Today[h].Payloads[c.File] = nil
				}
			}
		}
	}
	for i := range sc.s.Open {
		sc.f.Traces[sc.s.Open[i].Act.ID] = Traced{Sight: Sight{Seq: sc.s.Seq, Tick: 9}}
	}
}

func (sc *scene) id(word string) string {
	for _, h := range sc.f.Hosts {
		if id, ok := sc.ids[h+" "+word]; ok {
			return id
		}
	}
	sc.t.Fatalf("seen: there is no act %q in %v", word, sc.ids)
	return ""
}

func (sc *scene) seen(words []string) {
	for _, w := range words {
		name, arg, _ := strings.Cut(w, ":")
		switch name {
		case "stale":
			sc.f.Read, sc.f.Traces = map[string]map[estate.SectionName]Sight{}, map[string]Traced{}
		case "lost":
			sc.f.Lease = false
		case "answers": // answers:db:1
			for h, today := range sc.f.Today {
				today.Answers = map[string]bool{arg: true}
				sc.f.Today[h] = today
			}
		case "unserved":
			for h, today := range sc.f.Today {
				today.URLs, today.Unserved = nil, "the address is taken"
				sc.f.Today[h] = today
			}
		case "contradicted":
			sc.f.Contradiction = &Contradiction{Host: "a", Why: "a has taken the order of entry 99"}
		case "unlogged": // what failed is not asked for its logs
		case "unjudged":
			for _, h := range sc.f.Hosts {
				sc.f.Today[h] = Today{Payloads: sc.f.Today[h].Payloads}
			}
		case "bad", "withdrawn":
			for i := range sc.s.Visits {
				v := &sc.s.Visits[i]
				for n, c := range v.Changes {
					if c.Component == components[arg] && name == "withdrawn" {
						sc.f.Today[v.Host].Withdrawn[n] = "it is bad"
					} else if c.Component == components[arg] {
						sc.f.Today[v.Host].Payloads[c.File] = fmt.Errorf("damaged")
					}
				}
			}
		case "more": // of the last host in the journal: more:l applies too
			today := sc.f.Today[sc.host]
			today.More = []act.Change{sc.extra(arg)}
			sc.f.Today[sc.host] = today
		case "calls":
			sc.f.Calls[sc.id(arg)] = true
		case "trace":
			act, is, _ := strings.Cut(arg, "=")
			sc.trace(sc.id(act), is)
		default:
			sc.seenOn(w)
		}
	}
}

func (sc *scene) trace(id, is string) {
	tr := Traced{Sight: Sight{Seq: sc.s.Seq, Tick: 9}}
	switch is {
	case "running":
		tr.State, tr.Percent = act.Runs, 40
	case "done":
		tr.State = act.Ended
	case "failed":
		tr.State, tr.Error = act.Broke, "it broke"
	case "taken":
		tr.State = act.Taken
	case "lost":
		tr.State, tr.Error = act.Lost, "the host restarted"
	case "vain":
		tr.State, tr.Error, tr.Final = act.Broke, "it never converges", true
	case "unasked":
		tr.Unasked = "no answer"
	case "exit75", "exit3":
		tr.State, tr.Said = act.Broke, "it is busy"
		tr.Exit, _ = strconv.Atoi(is[4:])
	case "early":
		tr.State, tr.Tick = act.Ended, 20 // later than the hosts were looked at
	default:
		tr.SHA256 = is
	}
	sc.f.Traces[id] = tr
}

// seenOn takes one word about a host.
func (sc *scene) seenOn(w string) {
	r, ok := sc.f.Readings[w[:1]]
	if !ok {
		sc.t.Fatalf("seen: %q", w)
	}
	host, rest := w[:1], w[1:]
	fail := func(sections ...estate.SectionName) {
		for _, s := range sections {
			held, from := r.Section(s).Known() // what was last known stands, as in Reading.Over
			r.SetSection(estate.Section{Name: s, At: noon, Err: "no answer", Held: held, HeldFrom: from})
		}
	}
	switch word, arg, _ := strings.Cut(strings.TrimPrefix(rest, "."), "="); {
	case rest[0] == '+':
		g, state, _ := strings.Cut(rest[1:], ":")
		x := estate.Guest{ID: g, Name: g, State: estate.Running, Load: estate.Resources{MemoryMiB: 10, CPU: 1}}
		switch state {
		case "suspended":
			x.State = estate.Suspended
		case "big":
			x.Load.MemoryMiB = 90
		}
		r.Guests = append(slices.Clone(r.Guests), x)
	case rest[0] == '-':
		r.Guests = slices.DeleteFunc(slices.Clone(r.Guests), func(g estate.Guest) bool { return g.Name == rest[1:] })
	case word == "silent":
		fail(estate.Host, estate.Packages, estate.Drivers, estate.GuestList, estate.SettingItems)
	case word == "off":
		fail(estate.Host, estate.Packages, estate.Drivers, estate.GuestList, estate.SettingItems)
		r.BMC.Power = "Off"
	case word == "bmc-silent":
		fail(estate.FirmwareItems, estate.HealthItems, estate.BMCState)
	case strings.HasPrefix(word, "unread:"):
		fail(estate.SectionName(word[7:]))
	case strings.HasPrefix(word, "partial:"):
		r.SetSection(estate.Section{Name: estate.SectionName(word[8:]), At: noon, Partial: "half of it"})
	case word == "stale":
		delete(sc.f.Read, host)
	case word == "psu":
		r.Health = append(slices.Clone(r.Health), estate.Health{Item: "power supply 2", Detail: "it is dead"})
	case word == "x": // the service x
		if strings.HasPrefix(arg, "=") {
			sc.component(host, act.KernelSetting("vm.swappiness"), func(c *estate.Component) { c.Version = arg[1:] })
			break
		}
		sc.component(host, "set:service/x", func(c *estate.Component) { c.Version = arg })
	case word == "agents": // those of these guests answer, and no others
		r.Guests = slices.Clone(r.Guests)
		for i := range r.Guests {
			if g := &r.Guests[i]; strings.Contains(arg, g.Name) {
				g.Agent.Name = "agent"
			}
		}
	case word == "staged":
		r.Staged = []estate.Staged{{SHA256: arg}}
	case word == "boot":
		r.BootID = arg
	case word == "mark":
		r.Closed = nil
		if arg == "theirs" {
			r.Closed = &estate.Mark{By: "night shift", Reason: "theirs"}
		}
		if arg == "lost" {
			r.Closed = &estate.Mark{By: "op", Round: "lost", Reason: "patches"}
		}
	case word == "reason":
		r.Closed = &estate.Mark{Round: "R", Reason: arg}
	case word == "ill":
		r.Health = []estate.Health{{Item: "fans", Detail: "slow"}}
	case word == "memory":
		n, _ := strconv.Atoi(arg)
		r.Capacity.MemoryMiB = int64(n)
	case word == "cpu":
		n, _ := strconv.Atoi(arg)
		r.Capacity.CPU = int64(n)
	case word == "fan2":
		r.Health = append(slices.Clone(r.Health), estate.Health{Item: "fan 2", Detail: "it stands"})
	case word == "loose":
		r.Closed.Loose = "its hook is gone"
	case word == "board": // board=2, and nothing where none is told
		r.Board = map[string]string{"mode": arg, "new": "1"}
		if arg == "" {
			r.Board = nil
		}
	case word == "netless":
		r.Networks = nil
	case word == "media": // media=URL once
		r.BMC.Media, r.BMC.BootOnce = []string{arg}, "Cd"
	case word == "queue":
		r.BMC.Waiting = []estate.BMCTask{{ID: "1"}}
	case word == "task":
		r.BMC.Tasks = append(slices.Clone(r.BMC.Tasks), arg)
	case word == "reset":
		r.BMC.Reset = sc.now
	case word == "guard":
		n, _ := strconv.Atoi(arg)
		r.Guard.Epoch = int64(n)
	default:
		letter, of, _ := strings.Cut(word, ":")
		if components[letter] == "" {
			sc.t.Fatalf("seen: %q", w)
		}
		sc.component(host, components[letter], func(c *estate.Component) {
			switch of {
			case "running":
				c.Running, c.Restarts = arg, "host"
			case "held":
				c.Holders = []estate.Holder{{Service: arg}}
			case "guests":
				c.Holders = []estate.Holder{{Guest: arg}}
			case "state":
				c.State = arg
			case "runs":
				c.Running, c.Holders = "", nil
			default:
				c.Version, c.Holders, c.Running = arg, nil, ""
			}
		})
	}
}

// lentOf is what "x" stands for, a service that is stopped, or "=1", the kernel's swappiness.
func lentOf(word string) act.Lent {
	if to, ok := strings.CutPrefix(word, "="); ok {
		return act.Lent{Setting: "vm.swappiness", To: to}
	}
	return act.Lent{Unit: word + ".service"}
}

// says writes a decision as the notation has it.
func (sc *scene) says(d Decision) (out []string) {
	word := func(a *act.Act) string {
		name := string(a.Kind)
		switch {
		case a.Lent != nil:
			return string(a.Kind) + " " + a.Lent.Title() + " " + a.Host
		case a.Hook != nil:
			return fmt.Sprintf("hook %s %s", strings.ReplaceAll(a.Hook.Point(), " ", "-"), a.Host)
		case a.Guest != "" && a.To == "":
			return string(a.Kind) + " " + a.Guest + " " + a.Host
		case a.To != "":
			name += fmt.Sprintf(" %s %s>%s", a.Guest, a.Host, a.To)
		case a.Change != nil:
			name += " " + a.Change.Component.Name()
			for _, c := range a.With {
				name += "+" + c.Component.Name()
			}
			name += " " + a.Host
		default:
			name += " " + a.Host
		}
		return name
	}
	for i := range d.Record {
		e := &d.Record[i]
		if e.Act != nil {
			vain := map[bool]string{true: " (vain)"}[e.Final]
			out = append(out, fmt.Sprintf("record %s %s: %s%s", e.Kind, word(e.Act), e.Detail, vain))
		} else {
			out = append(out, fmt.Sprintf("record %s %s: %s", e.Kind, e.Host, e.Detail))
		}
	}
	for i := range d.Begin {
		out = append(out, "begin "+word(&d.Begin[i]))
	}
	if d.End != nil {
		out = append(out, fmt.Sprintf("end %s: %s", d.End.Status, d.End.Detail))
	}
	for _, l := range d.Look {
		var names []string
		for _, s := range l.Sections {
			names = append(names, string(s))
		}
		slices.Sort(names)
		if len(l.Traces) > 0 {
			names = append(names, "trace")
		}
		out = append(out, fmt.Sprintf("look %s %s", l.Host, strings.Join(names, ",")))
	}
	for _, c := range d.Logs {
		out = append(out, fmt.Sprintf("logs %s of %s", c.Visit, c.Host))
	}
	for _, s := range d.Says {
		out = append(out, fmt.Sprintf("say %s: %s", s.Host, s.Says))
	}
	if d.Wake > 0 {
		out = append(out, "wake in "+d.Wake.String())
	}
	return out
}

// holds compares: each wanted item begins some item that was said, or is that with "…" for what is left out.
func matches(said, want string) bool {
	for i, part := range strings.Split(want, "…") {
		_, after, found := strings.Cut(said, strings.TrimSpace(part))
		if !found || i == 0 && !strings.HasPrefix(said, strings.TrimSpace(part)) {
			return false
		}
		said = after
	}
	return true
}

func (sc *scene) decides(wanted []string) {
	sc.t.Helper()
	got := sc.says(Next(sc.s, sc.f))
	looked := map[string]bool{}
	for _, s := range got {
		if f := strings.Fields(s); f[0] == "look" && looked[f[1]] {
			sc.t.Errorf("it looks at %s twice at once:\n  %s", f[1], strings.Join(got, "\n  "))
		} else if f[0] == "look" {
			looked[f[1]] = true
		}
	}
	left := slices.Clone(got)
	for _, w := range wanted {
		w = strings.TrimSpace(w)
		if w == "nothing" {
			continue
		}
		i := slices.IndexFunc(left, func(s string) bool { return matches(s, w) })
		if i < 0 {
			sc.t.Errorf("it lacks %q\nit decided:\n  %s", w, strings.Join(got, "\n  "))
			return
		}
		left = slices.Delete(left, i, i+1)
	}
	for _, s := range left {
		if !strings.HasPrefix(s, "say ") && !strings.HasPrefix(s, "look ") && !strings.HasPrefix(s, "wake ") {
			sc.t.Errorf("it was not to %s\nit decided:\n  %s", s, strings.Join(got, "\n  "))
		}
	}
}

// play plays one case.
func play(t *testing.T, lines []string) {
	sc := newScene(t)
	began := false
	ready := func() {
		if !began {
			sc.begin()
			began = true
		}
	}
	known := false
	for _, line := range lines {
		f := strings.Fields(line)
		switch f[0] {
		case "hosts":
			sc.hosts(f[1:])
		case "brief":
			sc.brief(f[1:])
		case "plan":
			sc.visit(f[1:])
		case "journal":
			ready()
			sc.journal(f[1:])
		case "seen", "⇒":
			ready()
			if !known {
				if !slices.Contains(f, "unlogged") {
					sc.logged()
				}
				sc.know()
				known = true
			}
			if f[0] == "seen" {
				sc.seen(f[1:])
			} else {
				sc.decides(strings.Split(strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(line), "⇒")), ";"))
			}
		default:
			t.Fatalf("no line begins with %q", f[0])
		}
	}
}

func TestNext(t *testing.T) {
	n := 0
	for _, text := range strings.Split(cases, "\n#")[1:] {
		title, body, _ := strings.Cut(text, "\n")
		var lines []string
		for _, l := range strings.Split(body, "\n") {
			if strings.TrimSpace(l) != "" {
				lines = append(lines, l)
			}
		}
		n++
		t.Run(strings.TrimSpace(title), func(t *testing.T) { play(t, lines) })
	}
	if n < 80 {
		t.Errorf("there are %d cases", n)
	}
}
