// Package lanes is the Round screen: hosts as lanes along time, with the load above them; before a round what would be
// done, while it runs what is done, and after it what it came to.
package lanes

import (
	"context"
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/course"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/export"
	"yareharbour/tui/part"
)

// Desk is what the screen asks for.
type Desk interface {
	PlanIf(ctx context.Context, cluster string, w view.WhatIf) (*plan.Plan, error)
	Begin(ctx context.Context, p *plan.Plan, reason string) error
	GoOn(ctx context.Context, cluster string) error
	Request(ctx context.Context, cluster, what, host string) (string, error)
}

// Screen is a cluster's round.
type Screen struct {
	ctx     context.Context
	desk    Desk
	cluster string
	host    string // of the cursor
	pinned  bool   // it was chosen, and does not follow the round
	scroll  int    // of the log, from its end
	whatIf  view.WhatIf
	plan    *plan.Plan
	wrong   error  // why it can't be planned
	asked   bool   // a plan is being made, or is here
	after   string // the cluster's newest round when it was asked for: once there is a newer one, it is no plan of what will be
	opened  bool   // it was shown once
	turn    int    // of asking: a plan that was asked for before is let go
}

// New opens the cluster of a place.
func New(ctx context.Context, d Desk, p part.Place) *Screen {
	return &Screen{ctx: ctx, desk: d, cluster: p.Cluster, host: p.Host, pinned: p.Host != ""}
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place {
	return part.Place{Screen: part.Round, Cluster: s.cluster, Host: s.host}
}

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"A lane for each host, time to the right, ┃ is now. Before a round begins it shows what would be done; nothing is touched.",
		"Above the lanes: the memory load of the hosts in service at each moment, and ┄ the limit up to which the reserve can be kept then. The tightest moment is named.",
		"╌ is a host that stands still and waits for a person. Left and right scroll the log.",
		"After a round: what changed on each host, what was planned beside what it took, what took longest, and what needs you.",
	}
}

// live is the cluster's newest round, if it is not finished.
func (s *Screen) live(f part.Frame) (view.Round, bool) {
	r := f.View.Rounds[s.cluster]
	return r, r.Unfinished()
}

// shown is the plan that is shown, and nil where a journal is.
func (s *Screen) shown(f part.Frame) *plan.Plan {
	if _, live := s.live(f); live || !s.asked {
		return nil
	}
	return s.plan
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) (string, export.Writer) {
	if p := s.shown(f); p != nil && len(p.Visits) > 0 {
		return export.FileName(f.View.At(), format, "plan", s.cluster), export.Plan(p)
	}
	if r := f.View.Rounds[s.cluster]; r.State != nil {
		return export.FileName(f.View.At(), format, "round", s.cluster), export.Round(r.ID, r.State)
	}
	return "", nil
}

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	r, live := s.live(f)
	plan := s.shown(f)
	running, paused, planned, fresh := "", "", "", ""
	if !r.Runs {
		running = "no round runs over " + s.cluster
	}
	if !live || r.Runs {
		paused = "there is no round over " + s.cluster + " that stands still"
	}
	if live {
		fresh = "the last round over " + s.cluster + " is not finished; g resumes it"
	}
	if planned = fresh; planned == "" && plan == nil {
		planned = "there is no plan yet; n makes one"
	}
	start := s.startable(planned)
	if planned == "" && len(plan.Visits)+len(s.whatIf.Without) == 0 {
		planned = "there is nothing to do on " + s.cluster
	}
	return []part.Key{
		part.NewKey("s", "start", "start the planned round", start, s.askReason),
		part.NewKey(
			"p",
			"pause",
			"pause after the host that is visited",
			running,
			func() tea.Msg { return s.request(course.AskPause, "") },
		),
		part.NewKey(
			"x",
			"stop",
			"stop at the next safe point",
			running,
			func() tea.Msg { return s.request(course.AskStop, "") },
		),
		part.NewKey(
			"o",
			"leave out",
			"leave the host under the cursor out of the running round",
			running,
			func() tea.Msg { return s.askSkip(s.cursor(s.lanes(f))) },
		),
		part.NewKey("g", "resume", "resume a round that paused, stopped, failed or was interrupted", paused, s.askGoOn),
		part.NewKey("n", "plan anew", "plan again from a fresh reading", fresh, func() tea.Msg { return s.want(f) }),
		part.NewKey(
			"v",
			"leave out",
			"leave the host under the cursor out of the plan, or take it in again",
			planned,
			func() tea.Msg { return s.leaveOut(f) },
		),
		part.NewKey(
			"+",
			"more at once",
			"let one more host be out of service at once",
			planned,
			func() tea.Msg { return s.allow(f, 1) },
		),
		part.NewKey(
			"-",
			"",
			"let one host less be out of service at once",
			planned,
			func() tea.Msg { return s.allow(f, -1) },
		),
	}
}

// startable says why the plan can't be started; "" where it can.
func (s *Screen) startable(planned string) string {
	switch p := s.plan; {
	case planned != "":
		return planned
	case len(p.Visits) == 0:
		return "there is nothing to do on " + s.cluster
	case len(p.Obstacles()) > 0:
		return "the plan has obstacles: v leaves a host out, + lets one more be out of service"
	}
	return ""
}

// messages of the screen
type (
	planned struct {
		cluster string
		turn    int
		plan    *plan.Plan
		err     error
	}
	begun      struct{ cluster string }
	lanePicked struct{ host string }
	laneTurned int
	logTurned  int
)

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	switch msg := msg.(type) {
	case part.Shown:
		r := f.View.Rounds[s.cluster]
		if s.asked && s.after != r.ID { // a round began since
			s.asked, s.plan, s.wrong = false, nil, nil
		}
		if _, live := s.live(f); !live && !s.opened {
			s.opened = true
			return s.want(f)
		}
		s.opened = true
	case planned:
		if msg.cluster == s.cluster && msg.turn == s.turn {
			s.plan, s.wrong = msg.plan, msg.err
			if msg.err != nil {
				s.plan = nil
			}
		}
	case begun:
		if msg.cluster == s.cluster {
			s.asked, s.plan, s.whatIf = false, nil, view.WhatIf{}
			return part.Reload{Say: part.Say{Text: "the round over " + s.cluster + " has begun"}}
		}
	case part.Step:
		s.scroll = max(0, s.scroll-msg.DX*5)
		s.move(f, msg.DY)
	case laneTurned:
		s.move(f, int(msg))
	case logTurned:
		s.scroll = max(0, s.scroll-int(msg))
	case lanePicked:
		if s.pinned && s.host == msg.host {
			return part.Go{Screen: part.Host, Cluster: s.cluster, Host: s.host}
		}
		s.host, s.pinned, s.scroll = msg.host, true, 0
	case part.Enter:
		if host := s.cursor(s.lanes(f)); host != "" {
			return part.Go{Screen: part.Host, Cluster: s.cluster, Host: host}
		}
	}
	return nil
}

// want plans the cluster's next round. The old plan is shown until the new one is there.
func (s *Screen) want(f part.Frame) tea.Msg {
	if _, live := s.live(f); live {
		return nil
	}
	s.asked, s.after, s.wrong = true, f.View.Rounds[s.cluster].ID, nil
	s.turn++
	cluster, turn, w := s.cluster, s.turn, s.whatIf
	return func() tea.Msg {
		p, err := s.desk.PlanIf(s.ctx, cluster, w)
		return planned{cluster, turn, p, err}
	}
}

// lanes are what is shown: the plan's, or the journal's.
func (s *Screen) lanes(f part.Frame) view.Lanes {
	limit := 0.0
	if b := f.View.Band(s.cluster); b != nil {
		limit = b.Limit
	}
	if p := s.shown(f); p != nil {
		return view.Planned(p, s.whatIf.Without, limit)
	}
	if r := f.View.Rounds[s.cluster]; r.State != nil && !(s.asked && s.plan == nil && !r.Unfinished()) {
		return view.Went(r.State, f.View.At(), r.Says, limit)
	}
	return view.Lanes{}
}

// cursor is the host under it: the one that was chosen, or else the one that the round is with.
func (s *Screen) cursor(l view.Lanes) string {
	if s.pinned && slices.ContainsFunc(l.Lanes, func(x view.Lane) bool { return x.Host == s.host }) {
		return s.host
	}
	return l.Follow()
}

func (s *Screen) move(f part.Frame, dy int) {
	l := s.lanes(f)
	if dy == 0 || len(l.Lanes) == 0 {
		return
	}
	at := slices.IndexFunc(l.Lanes, func(x view.Lane) bool { return x.Host == s.cursor(l) })
	s.host, s.scroll, s.pinned = l.Lanes[part.Clamp(at+dy, len(l.Lanes))].Host, 0, true
}

func (s *Screen) askReason() tea.Msg {
	p := s.plan
	return part.Ask{
		Label: "reason for the round",
		Hint:  "it goes into the journal and the hosts' own logs; Enter goes on",
		Then: func(reason string) tea.Msg {
			if reason == "" {
				return part.Tell("a round needs a reason: it goes into the journal and the hosts' own logs")
			}
			return part.Confirm{
				Title: "Start the round over " + s.cluster + "?",
				Yes:   "start it",
				Lines: []string{p.Summary(), "Reason: " + reason,
					"Just this plan is carried out (" + p.Digest()[:12] + "). Where a host or guest has moved since, it does not start, and says what has.",
					"It keeps running when the screens are closed."},
				Then: s.begin(func() error { return s.desk.Begin(s.ctx, p, reason) }),
			}

		},
	}

}

// begin begins a round and has its journal shown, or says why it could not.
func (s *Screen) begin(do func() error) tea.Msg {
	return func() tea.Msg {
		if err := do(); err != nil {
			return part.Failed{Err: err}
		}
		return begun{s.cluster}
	}
}

func (s *Screen) request(what, host string) tea.Msg {
	return part.Try(func() (string, error) { return s.desk.Request(s.ctx, s.cluster, what, host) })
}

func (s *Screen) askSkip(host string) tea.Msg {
	return part.Confirm{Title: "Leave " + host + " out of the round over " + s.cluster + "?", Yes: "leave it out",
		Lines: []string{
			"Guests that have moved away from it stay where they are. A host that is closed already is brought to its end all the same.",
		}, Then: s.request(course.AskSkip, host)}

}

func (s *Screen) askGoOn() tea.Msg {
	return part.Confirm{Title: "Resume the round over " + s.cluster + "?", Yes: "resume it",
		Lines: []string{
			"What was under way is looked up on the hosts first; nothing is done twice blindly.",
		}, Then: s.begin(func() error { return s.desk.GoOn(s.ctx, s.cluster) })}
}

// leaveOut leaves the host under the cursor out of the plan, or takes it in again, and plans at once.
func (s *Screen) leaveOut(f part.Frame) tea.Msg {
	host := s.cursor(s.lanes(f))
	if host == "" {
		return nil
	}
	w := slices.Clone(s.whatIf.Without)
	if i := slices.Index(w, host); i >= 0 {
		w = slices.Delete(w, i, i+1)
	} else {
		w = append(w, host)
	}
	s.whatIf.Without, s.host, s.pinned = w, host, true
	return s.want(f)
}

// allow changes how many hosts may be out of service at once, and plans at once.
func (s *Screen) allow(f part.Frame, by int) tea.Msg {
	s.whatIf.More = max(0, s.whatIf.More+by)
	return s.want(f)
}

func atOnce(n int) string { return fmt.Sprintf("what if %d hosts may be out of service at once", n+1) }
