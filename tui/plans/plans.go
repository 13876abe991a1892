// Package plans is the Plan screen: everything that a round would do, before anything is touched. Hosts are lanes along
// time, with the load above them; whatever is changed about the round is planned again at once, on the same reading.
package plans

import (
	"cmp"
	"context"
	"slices"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/act"
	"yareharbour/core/brief"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/tui/part"
	"yareharbour/tui/rounds"
)

// App is what the screen asks for.
type App interface {
	// Usual is the brief of the cluster's usual round.
	Usual(cluster string) (plan.Brief, error)
	// ReadBrief reads a brief file for a cluster, and returns what is usual there too; WriteBrief is the file of a brief.
	ReadBrief(file, cluster string) (b, usual plan.Brief, err error)
	WriteBrief(b plan.Brief) ([]byte, error)
	// Gather reads the cluster and brings together what plans are made from.
	Gather(ctx context.Context, b plan.Brief) (*plan.Input, error)
	// Make makes a plan of what was brought together, or says what of its brief means nothing. It reads nothing.
	Make(in plan.Input) (*plan.Plan, error)
	LaunchRound(ctx context.Context, p *plan.Plan, reason string) error
	// LaunchStaging brings the payloads of a plan to its hosts, ahead of its round.
	LaunchStaging(ctx context.Context, p *plan.Plan) error
	// FetchPlanned gets the payloads that a plan puts in and that are not here, and says how many.
	FetchPlanned(ctx context.Context, p *plan.Plan, progress func(string)) (says string, err error)
	// Missing tells which hosts of a cluster lack something before they take orders, and what that is; Prepare puts it
	// there.
	Missing(ctx context.Context, cluster string) (hosts, lines []string, err error)
	Prepare(ctx context.Context, hosts []string, done func(host string)) error
}

// Screen is the plan of a cluster's next round.
type Screen struct {
	ctx     context.Context
	app     App
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
	reason string     // that was typed for the round
	file   string     // the brief that was opened last
	just   part.Just  // what it was opened on, until the usual round is planned
	// the cluster's newest round when it was read: once there is a newer one, it is no plan of what will be
	after string
	turn  int // of asking: a plan that was asked for before is let go
}

// New opens the cluster of a place.
func New(ctx context.Context, d App, p part.Place) *Screen {
	just, _ := p.What.(part.Just)
	return &Screen{ctx: ctx, app: d, cluster: p.Cluster, host: p.Host, pinned: p.Host != "", just: just}
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
			"reserve can be kept then, lower than the Waterline's, for fewer are left to take over while a host is out. The " +
			"tightest moment is named.",
		"◂ in a lane: guests that come to that host from the one under the cursor, when they come. ▸ below: which " +
			"guests go where; \"again\" is a guest that moves a second time.",
		"The floor is the fewest moves that any round could make; the plan says what costs more. Whatever you change " +
			"is planned again at once on the same reading; n reads the hosts again.",
		"Where something is narrowed when you come here, the plan is of just that; so it is with . on the Waterline, Drift " +
			"and Host. What it is narrowed to is shown at the top, and U takes it back.",
		"A host that can't be visited says why, and the smallest way out. The round does not start while there is " +
			"one: take the way out, or leave the host out.",
	}
}

// beyond says that the plan is of more than what is narrowed to; "" where it is not.
func (s *Screen) beyond(f part.Frame) string {
	if f.Filter.Empty() || s.plan == nil {
		return ""
	}
	hosts, only := f.View.Concerned(s.cluster, f.Filter)
	more := slices.ContainsFunc(s.plan.Visits, func(v plan.Visit) bool {
		return !slices.Contains(hosts, v.Host) || len(only) > 0 && slices.ContainsFunc(v.Changes, func(c act.Change) bool {
			return !slices.Contains(only, c.Component)
		})
	})
	if !more {
		return ""
	}
	return "narrowed to “" + f.Typed + "”, and this plan is of more than that; p plans just what is narrowed to"
}

// live is the cluster's newest round, if it is not finished.
func (s *Screen) live(f part.Frame) (view.Round, bool) {
	r := f.View.Rounds[s.cluster]
	return r, r.Unfinished()
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	if s.plan == nil {
		return nil
	}
	d := view.OfPlan(s.plan, brief.Words(s.brief, s.usual))
	return &d
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
	one, none, alone := "", "", planned
	if b := s.brief; alone == "" && (s.plan == nil || !s.plan.TakeAlong(&b)) {
		alone = "nothing is left out that a change requires"
	}
	if s.brief.Out <= 1 {
		one = "one host is the least"
	}
	if s.brief.Reserve == 0 {
		none = "no host is kept in reserve"
	}
	do := func(change func(*plan.Brief)) func() tea.Msg { return func() tea.Msg { return s.change(f, change) } }
	return []part.Key{
		part.NewKey("s", "start", "start the planned round", start, s.askReason),
		part.NewKey("F", "fetch", "fetch the payloads that the plan lacks", s.complete(planned), s.fetch),
		part.NewKey("H", "stage", "bring the payloads of the plan to its hosts now, ahead of the round", s.stageable(planned), s.askStage),
		part.NewKey("A", "take along", "take along what changes require and the plan leaves out", alone, func() tea.Msg {
			return s.change(f, func(b *plan.Brief) { s.plan.TakeAlong(b) })
		}),
		part.NewKey("f", "way out", "take the way out of what keeps the host under the cursor from being visited", way,
			func() tea.Msg { return s.takeWay(f, at) }),
		part.NewKey("v", "leave out", "leave the host under the cursor out of the plan, or take it in again", host,
			func() tea.Msg { return s.leaveOut(f, at) }),
		part.NewKey("+", "at once", "let one more host be out of service at once", planned,
			do(func(b *plan.Brief) { b.Out++ })),
		part.NewKey("-", "", "let one host less be out of service at once", cmp.Or(planned, one), do(func(b *plan.Brief) { b.Out-- })),
		part.NewKey("]", "reserve", "keep one more host in reserve", planned, do(func(b *plan.Brief) { b.Reserve++ })),
		part.NewKey("[", "", "keep one host less in reserve", cmp.Or(planned, none), do(func(b *plan.Brief) { b.Reserve-- })),
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
		part.NewKey("%", "", "change how full hosts may be made: all, 90, 80, 70 percent", planned, do(turnLimit)),
		part.NewKey(",", "settings", "choose any setting of the round, and change it", planned, s.askWhich),
		part.NewKey("S", "", "save the settings of the round as a brief file", planned, s.askSave),
		part.NewKey("B", "", "open a brief file, and plan what it says", planned, s.askOpen),
		part.NewKey("i", "", "change only some components", planned, func() tea.Msg { return s.askSetting("only") }),
		part.NewKey("T", "", "say in which windows of time visits may be under way", planned,
			func() tea.Msg { return s.askSetting("window") }),
		part.NewKey("g", "", "say what is done with guests that do not move of themselves", planned,
			func() tea.Msg { return s.askSetting("guest") }),
		part.NewKey("u", "", "lift the rules about guests, or keep them again", s.ruled(planned),
			do(func(b *plan.Brief) { s.turnRules(b) })),
		part.NewKey("a", "checks", "see every precheck, what it found and what to do", planned, func() tea.Msg {
			return part.Go{Screen: part.Prechecks, Cluster: s.cluster, What: s.brief}
		}),
		part.NewKey("U", "take back", "take back the last change of the plan", back, func() tea.Msg {
			return s.takeBack(f)
		}),
		part.NewKey("n", "again", "plan the usual round again from a fresh reading", fresh, func() tea.Msg {
			return s.anew(f, part.Just{})
		}),
	}
}

// startable says why the plan can't be started; "" where it can.
func (s *Screen) startable(planned string) string {
	switch p := s.plan; {
	case planned != "":
		return planned
	case s.busy: // its reason can be typed meanwhile
		return ""
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
	laid struct {
		cluster string
		brief   plan.Brief
		file    string // that it was read from
	}
	begun      struct{ cluster string }
	fetched    struct{ cluster, says string }
	equipped   struct{ cluster string }
	lanePicked struct{ host string }
	laneTurned int
)

// picks are what the mouse does to the lanes.
var picks = rounds.Picks{
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
			return s.anew(f, s.just)
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
			return part.Several{part.Tell("the hosts of %s take orders", s.cluster),
				s.anew(f, s.just)}
		}
	case fetched:
		if msg.cluster == s.cluster && s.in != nil {
			return part.Several{part.Say{Text: msg.says}, s.again(s.brief)}
		}
	case taken:
		if msg.cluster == s.cluster {
			return s.change(f, msg.way.Take)
		}
	case laid:
		if msg.cluster == s.cluster {
			s.file = msg.file
			return s.change(f, func(b *plan.Brief) { *b = msg.brief })
		}
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

// anew reads the cluster and plans its usual round, or just a part of it. The old plan is shown until the new one is
// there.
func (s *Screen) anew(f part.Frame, just part.Just) tea.Msg {
	usual, err := s.app.Usual(s.cluster)
	if err != nil {
		s.wrong = err
		return nil
	}
	b := usual
	s.usual, s.past, s.wrong, s.busy, s.after = usual, nil, nil, true, f.View.Rounds[s.cluster].ID
	if s.just = just; len(just.Hosts)+len(just.Only) > 0 {
		b.Hosts, b.Only = just.Hosts, nil
		for _, k := range just.Only {
			b.Only = append(b.Only, plan.Scope(k))
		}
		s.past = []plan.Brief{usual} // that it is a part can be taken back
	}
	s.brief = b
	s.turn++
	cluster, turn := s.cluster, s.turn
	return func() tea.Msg {
		in, err := s.app.Gather(s.ctx, b)
		if err != nil {
			return gathered{cluster: cluster, turn: turn, err: err}
		}
		p, err := s.app.Make(*in)
		return gathered{cluster, turn, in, p, err}
	}
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
