// Package tide is the Plan screen: everything that a round would do, before anything is touched. Hosts are lanes along
// time, with the load above them; whatever is changed about the round is planned anew at once, on the same reading.
package tide

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/view"
	"yareharbour/export"
	"yareharbour/format/brieffile"
	"yareharbour/tui/lanes"
	"yareharbour/tui/part"
)

// Desk is what the screen asks for.
type Desk interface {
	// Usual is the brief of the cluster's usual round.
	Usual(cluster string) (plan.Brief, error)
	// Gather reads the cluster and brings together what plans are made from.
	Gather(ctx context.Context, b plan.Brief) (*plan.Input, error)
	// Make makes a plan of what was brought together, or says what of its brief means nothing. It reads nothing.
	Make(in plan.Input) (*plan.Plan, error)
	Begin(ctx context.Context, p *plan.Plan, reason string) error
	// Missing tells which hosts of a cluster lack something before they take orders, and what that is; Prepare puts it
	// there.
	Missing(ctx context.Context, cluster string) (hosts, lines []string, err error)
	Prepare(ctx context.Context, hosts []string, done func(host string)) error
}

// Screen is the plan of a cluster's next round.
type Screen struct {
	ctx     context.Context
	desk    Desk
	cluster string
	host    string // of the cursor
	pinned  bool   // it was chosen

	usual  plan.Brief
	brief  plan.Brief   // what is planned
	past   []plan.Brief // the ones before it
	in     *plan.Input  // what was read
	plan   *plan.Plan
	before *plan.Plan // the one before the last change
	wrong  error      // why it can't be planned
	busy   bool       // another plan is being made
	// the cluster's newest round when it was read: once there is a newer one, it is no plan of what will be
	after string
	turn  int // of asking: a plan that was asked for before is let go
}

// New opens the cluster of a place.
func New(ctx context.Context, d Desk, p part.Place) *Screen {
	return &Screen{ctx: ctx, desk: d, cluster: p.Cluster, host: p.Host, pinned: p.Host != ""}
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place {
	return part.Place{Screen: part.Plan, Cluster: s.cluster, Host: s.host}
}

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"Everything a round would do, before anything is touched: a lane for each host, time to the right.",
		"Above the lanes: the memory load of the hosts in service at each moment, and ┄ the limit up to which the " +
			"reserve can be kept then. The tightest moment is named.",
		"◂ in a lane: guests that come to that host from the one under the cursor, when they come. ▸ below: which " +
			"guests go where; \"again\" is a guest that moves a second time.",
		"The floor is the fewest moves that any round could make; the plan says what costs more. Whatever you change " +
			"is planned anew at once on the same reading; n reads anew.",
		"A host that can't be visited says why, and the smallest way out. The round does not start while there is " +
			"one: take the way out, or leave the host out.",
	}
}

// live is the cluster's newest round, if it is not finished.
func (s *Screen) live(f part.Frame) (view.Round, bool) {
	r := f.View.Rounds[s.cluster]
	return r, r.Unfinished()
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) (string, export.Writer) {
	if s.plan == nil {
		return "", nil
	}
	return export.FileName(f.View.At(), format, "plan", s.cluster),
		export.Plan(s.plan, brieffile.Words(s.brief, s.usual))
}

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	fresh, planned, back, start, way, host := "", "", "", "", "", ""
	if _, live := s.live(f); live {
		fresh = "the last round over " + s.cluster + " is not finished; r shows it"
	}
	if planned = fresh; planned == "" && s.in == nil {
		planned = "there is no plan yet; n makes one"
	}
	if back = planned; back == "" && len(s.past) == 0 {
		back = "nothing was changed about this plan"
	}
	l := s.lanes()
	at := s.cursor(l)
	if host = planned; host == "" && at == "" {
		host = "there is no host here"
	}
	start = s.startable(planned)
	if way = host; way == "" {
		way = s.noWay(at)
	}
	do := func(change func(*plan.Brief)) func() tea.Msg { return func() tea.Msg { return s.change(f, change) } }
	return []part.Key{
		part.NewKey("s", "start", "start the planned round", start, s.askReason),
		part.NewKey("f", "way out", "take the way out of what keeps the host under the cursor from being visited", way,
			func() tea.Msg { return s.takeWay(f, at) }),
		part.NewKey("v", "leave out", "leave the host under the cursor out of the plan, or take it in again", host,
			func() tea.Msg { return s.leaveOut(f, at) }),
		part.NewKey("+", "at once", "let one more host be out of service at once", planned,
			do(func(b *plan.Brief) { b.Out++ })),
		part.NewKey("-", "", "let one host less be out of service at once", planned, do(func(b *plan.Brief) {
			b.Out = max(1, b.Out-1)
		})),
		part.NewKey("]", "reserve", "keep one more host in reserve", planned, do(func(b *plan.Brief) { b.Reserve++ })),
		part.NewKey("[", "", "keep one host less in reserve", planned, do(func(b *plan.Brief) {
			b.Reserve = max(0, b.Reserve-1)
		})),
		part.NewKey("o", "order", "change between fewest moves and lightest host first", planned, do(turnOrder)),
		part.NewKey("<", "sooner", "let the host under the cursor go one turn sooner", host, func() tea.Msg {
			return s.shift(f, at, -1)
		}),
		part.NewKey(">", "", "let the host under the cursor go one turn later", host, func() tea.Msg {
			return s.shift(f, at, 1)
		}),
		part.NewKey("y", "trial", "put the host under the cursor on trial before all others, or no more",
			s.untried(host, at), do(func(b *plan.Brief) { tryFirst(b, at) })),
		part.NewKey("m", "home", "have guests go home when their host's visit is over, or stay where they went",
			planned, do(func(b *plan.Brief) { b.Home = !b.Home })),
		part.NewKey("l", "", "change how full hosts may be made: all, 90, 80, 70 percent", planned, do(turnLimit)),
		part.NewKey("i", "", "change only some components", planned, func() tea.Msg { return s.askOnly(f) }),
		part.NewKey("T", "", "say in which windows of time visits may be under way", planned, s.askWindows),
		part.NewKey("g", "", "say what is done with guests that do not move of themselves", planned, s.askGuests),
		part.NewKey("u", "", "lift the rules about guests, or keep them again", s.ruled(planned),
			do(func(b *plan.Brief) { s.turnRules(b) })),
		part.NewKey("a", "checks", "see every precheck, what it found and what to do", planned, func() tea.Msg {
			return part.Go{Screen: part.Prechecks, Cluster: s.cluster, What: s.brief}
		}),
		part.NewKey("z", "take back", "take back the last change of the plan", back, func() tea.Msg {
			return s.takeBack(f)
		}),
		part.NewKey("n", "anew", "plan the usual round again from a fresh reading", fresh, func() tea.Msg {
			return s.anew(f)
		}),
	}
}

// startable says why the plan can't be started; "" where it can.
func (s *Screen) startable(planned string) string {
	switch p := s.plan; {
	case planned != "":
		return planned
	case s.busy:
		return "another plan is being made"
	case p == nil || s.wrong != nil:
		return "it can't be planned"
	case len(p.Visits) == 0:
		return "there is nothing to do on " + s.cluster
	case len(p.Obstacles()) > 0:
		return "the plan has obstacles: f takes a way out, v leaves a host out"
	case s.in != nil && !s.in.Cluster.Act:
		return s.cluster + " may only be looked at: the estate file has no \"act: true\" for it"
	}
	return ""
}

// untried says why a host can't be put on trial; "" where it can, or is.
func (s *Screen) untried(host, at string) string {
	if host != "" || s.brief.Trial == at || s.plan == nil ||
		slices.ContainsFunc(s.plan.Visits, func(v plan.Visit) bool { return v.Host == at }) {
		return host
	}
	return at + " is not visited: nothing could be tried on it"
}

func (s *Screen) ruled(planned string) string {
	if planned == "" && len(s.in.Cluster.Rules) == 0 {
		return "no rule says where guests of " + s.cluster + " may be"
	}
	return planned
}

func turnOrder(b *plan.Brief) {
	b.Sequence = nil
	if b.Order == plan.FewestMoves {
		b.Order = plan.LightestFirst
	} else {
		b.Order = plan.FewestMoves
	}
}

func turnLimit(b *plan.Brief) {
	limits := []float64{0, 0.9, 0.8, 0.7}
	b.Limit = limits[(slices.Index(limits, b.Limit)+1)%len(limits)]
}

func tryFirst(b *plan.Brief, host string) {
	if b.Trial == host {
		b.Trial, b.Soak = "", 0
		return
	}
	b.Trial = host
	if i := slices.Index(b.Sequence, host); i >= 0 {
		b.Sequence = slices.Delete(slices.Clone(b.Sequence), i, i+1)
	}
	if len(b.Sequence) > 0 {
		b.Sequence = append([]string{host}, b.Sequence...)
	}
}

func (s *Screen) turnRules(b *plan.Brief) {
	if len(b.Lift) > 0 {
		b.Lift = nil
		return
	}
	for _, r := range s.in.Cluster.Rules {
		b.Lift = append(b.Lift, r.Says())
	}
}

// messages of the screen
type (
	gathered struct {
		cluster string
		turn    int
		in      *plan.Input
		plan    *plan.Plan
		err     error
	}
	replanned struct {
		cluster string
		turn    int
		plan    *plan.Plan
		err     error
	}
	taken struct {
		cluster string
		way     plan.Way
	}
	narrowed struct {
		cluster string
		only    []estate.Key
	}
	framed struct {
		cluster string
		windows []plan.Window
	}
	treated struct {
		cluster string
		guests  []plan.Policy
	}
	begun      struct{ cluster string }
	equipped   struct{ cluster string }
	lanePicked struct{ host string }
	laneTurned int
)

// picks are what the mouse does to the lanes.
var picks = lanes.Picks{
	Host: func(host string) any { return lanePicked{host} },
	Turn: func(dy int) any { return laneTurned(dy) },
}

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	switch msg := msg.(type) {
	case part.Shown:
		_, live := s.live(f)
		if newest := f.View.Rounds[s.cluster].ID; !live &&
			(s.in == nil && !s.busy && s.wrong == nil || s.after != newest) {
			return s.anew(f)
		}
	case gathered:
		if msg.cluster == s.cluster && msg.turn == s.turn {
			s.in, s.plan, s.wrong, s.busy, s.before = msg.in, msg.plan, msg.err, false, nil
		}
	case replanned:
		if msg.cluster == s.cluster && msg.turn == s.turn {
			s.busy, s.wrong = false, msg.err
			if msg.err == nil {
				s.before, s.plan = s.plan, msg.plan
			}
		}
	case begun:
		if msg.cluster == s.cluster {
			s.in, s.plan, s.past = nil, nil, nil
			return part.Several{part.Go{Screen: part.Round, Cluster: s.cluster},
				part.Reload{Say: part.Say{Text: "the round over " + s.cluster + " has begun"}}}
		}
	case equipped:
		if msg.cluster == s.cluster {
			return part.Several{part.Tell("the hosts of %s take orders", s.cluster), s.anew(f)}
		}
	case taken:
		return s.change(f, msg.way.Take)
	case narrowed:
		return s.change(f, func(b *plan.Brief) { b.Only = msg.only })
	case framed:
		return s.change(f, func(b *plan.Brief) { b.Windows = msg.windows })
	case treated:
		return s.change(f, func(b *plan.Brief) { b.Guests = msg.guests })
	case part.Step:
		s.move(msg.DY)
	case laneTurned:
		s.move(int(msg))
	case lanePicked:
		if s.pinned && s.host == msg.host {
			return part.Go{Screen: part.Host, Cluster: s.cluster, Host: s.host}
		}
		s.host, s.pinned = msg.host, true
	case part.Enter:
		if host := s.cursor(s.lanes()); host != "" {
			return part.Go{Screen: part.Host, Cluster: s.cluster, Host: host}
		}
	}
	return nil
}

// anew reads the cluster and plans its usual round. The old plan is shown until the new one is there.
func (s *Screen) anew(f part.Frame) tea.Msg {
	usual, err := s.desk.Usual(s.cluster)
	if err != nil {
		s.wrong = err
		return nil
	}
	s.usual, s.brief, s.past, s.wrong, s.busy, s.after = usual, usual, nil, nil, true, f.View.Rounds[s.cluster].ID
	s.turn++
	cluster, turn := s.cluster, s.turn
	return func() tea.Msg {
		in, err := s.desk.Gather(s.ctx, usual)
		if err != nil {
			return gathered{cluster: cluster, turn: turn, err: err}
		}
		p, err := s.desk.Make(*in)
		return gathered{cluster, turn, in, p, err}
	}
}

// change plans again with something changed about the brief, on the same reading.
func (s *Screen) change(f part.Frame, change func(*plan.Brief)) tea.Msg {
	was := s.brief
	b := was
	change(&b)
	if same(b, was, s.usual) {
		return nil
	}
	s.past = append(s.past, was)
	return s.again(b)
}

func same(a, b, usual plan.Brief) bool {
	return slices.Equal(brieffile.Words(a, usual), brieffile.Words(b, usual))
}

func (s *Screen) again(b plan.Brief) tea.Msg {
	s.brief, s.busy = b, true
	s.turn++
	cluster, turn, in := s.cluster, s.turn, *s.in
	in.Brief = b
	return func() tea.Msg {
		p, err := s.desk.Make(in)
		return replanned{cluster, turn, p, err}
	}
}

func (s *Screen) takeBack(part.Frame) tea.Msg {
	b := s.past[len(s.past)-1]
	s.past = s.past[:len(s.past)-1]
	return s.again(b)
}

// without are the hosts that a person left out.
func (s *Screen) without() (out []string) {
	if len(s.brief.Hosts) == 0 || s.in == nil {
		return nil
	}
	for _, h := range s.in.Cluster.Hosts {
		if !slices.Contains(s.brief.Hosts, h) {
			out = append(out, h)
		}
	}
	return out
}

// lanes are the plan's.
func (s *Screen) lanes() view.Lanes {
	if s.plan == nil {
		return view.Lanes{}
	}
	return view.Planned(s.plan, s.without(), s.plan.Limit)
}

// cursor is the host under it: the one that was chosen, or else the first.
func (s *Screen) cursor(l view.Lanes) string {
	if s.pinned && slices.ContainsFunc(l.Lanes, func(x view.Lane) bool { return x.Host == s.host }) {
		return s.host
	}
	return l.Follow()
}

func (s *Screen) move(dy int) {
	l := s.lanes()
	if dy == 0 || len(l.Lanes) == 0 {
		return
	}
	at := slices.IndexFunc(l.Lanes, func(x view.Lane) bool { return x.Host == s.cursor(l) })
	s.host, s.pinned = l.Lanes[part.Clamp(at+dy, len(l.Lanes))].Host, true
}

// leaveOut leaves a host out of the plan, or takes it in again.
func (s *Screen) leaveOut(f part.Frame, host string) tea.Msg {
	s.host, s.pinned = host, true
	out := s.without()
	if !slices.Contains(out, host) && len(out)+1 == len(s.in.Cluster.Hosts) {
		return part.Tell("%s is the last host of the plan", host)
	}
	return s.change(f, func(b *plan.Brief) {
		if i := slices.Index(out, host); i >= 0 {
			out = slices.Delete(out, i, i+1)
		} else {
			out = append(out, host)
		}
		b.Hosts, b.Sequence = nil, slices.DeleteFunc(slices.Clone(b.Sequence), func(h string) bool {
			return slices.Contains(out, h)
		})
		if slices.Contains(out, b.Trial) {
			b.Trial, b.Soak = "", 0
		}
		for _, h := range s.in.Cluster.Hosts {
			if len(out) > 0 && !slices.Contains(out, h) {
				b.Hosts = append(b.Hosts, h)
			}
		}
	})
}

// shift lets a host go sooner or later: from then on the order is by hand.
func (s *Screen) shift(f part.Frame, host string, by int) tea.Msg {
	var order []string
	for i := range s.plan.Visits {
		if v := &s.plan.Visits[i]; v.Empties {
			order = append(order, v.Host)
		}
	}
	i := slices.Index(order, host)
	if i < 0 {
		return part.Tell("%s is not drained: its turn matters to nobody", host)
	}
	if i+by < 0 || i+by >= len(order) {
		return part.Tell("%s goes %s already", host, map[int]string{-1: "first", 1: "last"}[by])
	}
	s.host, s.pinned = host, true
	return s.change(f, func(b *plan.Brief) {
		order[i], order[i+by] = order[i+by], order[i]
		b.Sequence = order
		if b.Trial != "" && b.Trial != order[0] {
			b.Trial, b.Soak = "", 0
		}
	})
}

// noWay says why there is no way out to be taken for a host; "" where there is one.
func (s *Screen) noWay(host string) string {
	for i := range s.plan.Visits {
		v := &s.plan.Visits[i]
		switch {
		case v.Host != host:
		case v.Obstacle == "":
			return "nothing keeps " + host + " from being visited"
		case unready(v):
			return ""
		case len(v.Ways) == 0:
			return "a person must see to it: " + v.WayOut
		case !slices.ContainsFunc(v.Ways, func(w plan.Way) bool { return w.Takeable() }):
			return "a person must see to it: " + v.Ways[0].Says()
		default:
			return ""
		}
	}
	return host + " is not visited"
}

func (s *Screen) takeWay(f part.Frame, host string) tea.Msg {
	for i := range s.plan.Visits {
		v := &s.plan.Visits[i]
		if v.Host != host {
			continue
		}
		if unready(v) {
			return s.askEquip
		}
		for _, w := range v.Ways {
			if w.Takeable() {
				return part.Confirm{Title: "Take this way out for the round over " + s.cluster + "?", Yes: "take it",
					Lines: []string{w.Says() + ".",
						"The plan is made anew with it; nothing is touched yet. z takes it back."},
					Then: taken{s.cluster, w}}
			}
		}
	}
	return nil
}

// unready tells whether a visit is held up because hosts take no orders yet.
func unready(v *plan.Visit) bool {
	b := precheck.Blockers(v.Answers)
	return len(b) > 0 && b[0].Check == "orders"
}

// askEquip asks the hosts what they lack before they take orders, shows it, and puts it there if that is wanted.
func (s *Screen) askEquip() tea.Msg {
	hosts, lines, err := s.desk.Missing(s.ctx, s.cluster)
	if err != nil {
		return part.Failed{Err: err}
	}
	cluster := s.cluster
	return part.Confirm{
		Title: "Put this on " + strings.Join(hosts, ", ") + "?",
		Yes:   "put it there",
		Lines: append(lines, "Running guests are not touched. yare host remove takes all of it away again, and yare "+
			"host prepare --print shows the programs."),
		Then: part.Job{Title: "preparing the hosts of " + cluster,
			Do: func(ctx context.Context, says func(string)) tea.Msg {
				if err := s.desk.Prepare(ctx, hosts, func(host string) { says(host + " takes orders") }); err != nil {
					return part.Failed{Err: err}
				}
				return equipped{cluster}
			}},
	}
}

// askOnly asks which components are to be changed.
func (s *Screen) askOnly(f part.Frame) tea.Msg {
	known := map[string]bool{}
	for i := range s.plan.Visits {
		for _, c := range s.plan.Visits[i].Changes {
			known[string(c.Component)] = true
		}
	}
	return askWords(words[estate.Key]{
		label: "only these components",
		hint:  "planned now: " + strings.Join(slices.Sorted(maps.Keys(known)), " ") + "; none for all",
		apart: ",",
		now:   s.brief.Only,
		says:  func(k estate.Key) string { return string(k) },
		reads: estate.ParseKey,
		then:  func(only []estate.Key) tea.Msg { return narrowed{s.cluster, only} },
	})
}

// askWindows asks when visits may be under way.
func (s *Screen) askWindows() tea.Msg {
	return askWords(words[plan.Window]{
		label: "visits only within",
		hint:  "as 2026-11-22T22:00/2026-11-23T04:00, several apart by blanks; none for any time",
		now:   s.brief.Windows,
		says:  brieffile.Interval,
		reads: func(word string) (plan.Window, error) { return brieffile.Window(word, time.Local) },
		then:  func(windows []plan.Window) tea.Msg { return framed{s.cluster, windows} },
	})
}

// askGuests asks what is done with guests that do not move of themselves.
func (s *Screen) askGuests() tea.Msg {
	return askWords(words[plan.Policy]{
		label: "guests",
		hint:  "as gauge-1=shut-down, suspend, eject, cold or leave; several apart by blanks; none for no exception",
		now:   s.brief.Guests,
		says:  brieffile.Policy,
		reads: brieffile.ParsePolicy,
		then:  func(guests []plan.Policy) tea.Msg { return treated{s.cluster, guests} },
	})
}

// words are values that are asked for in one line, apart by blanks and by what else is named.
type words[T any] struct {
	label, hint string
	apart       string
	now         []T
	says        func(T) string
	reads       func(string) (T, error)
	then        func([]T) tea.Msg
}

func askWords[T any](w words[T]) tea.Msg {
	var now []string
	for _, v := range w.now {
		now = append(now, w.says(v))
	}
	return part.Ask{Label: w.label, Value: strings.Join(now, " "), Hint: w.hint, Then: func(text string) tea.Msg {
		var values []T
		for _, word := range strings.FieldsFunc(text, func(r rune) bool {
			return strings.ContainsRune(" "+w.apart, r)
		}) {
			v, err := w.reads(word)
			if err != nil {
				return part.Failed{Err: err}
			}
			values = append(values, v)
		}
		return w.then(values)
	}}
}

func (s *Screen) askReason() tea.Msg {
	p := s.plan
	return part.Ask{
		Label: "reason for the round",
		Value: s.brief.Reason,
		Hint:  "it goes into the journal and the hosts' own logs; Enter goes on",
		Then: func(reason string) tea.Msg {
			if reason == "" {
				return part.Tell("a round needs a reason: it goes into the journal and the hosts' own logs")
			}
			return part.Confirm{
				Title: "Start the round over " + s.cluster + "?",
				Yes:   "start it",
				Lines: []string{p.Summary(), "Reason: " + reason,
					fmt.Sprintf("Just this plan is carried out (%s). Where a host or guest has moved since, it does "+
						"not start, and says what has.", p.Digest()[:12]),
					"It keeps running when the screens are closed."},
				Then: tea.Cmd(func() tea.Msg {
					if err := s.desk.Begin(s.ctx, p, reason); err != nil {
						return part.Failed{Err: err}
					}
					return begun{s.cluster}
				}),
			}
		},
	}
}
