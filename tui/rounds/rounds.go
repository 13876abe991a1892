// Package rounds is the Round screen: hosts as lanes along time, with the load above them; while a round runs what is
// done, and after it what it came to. The Plan screen draws its lanes with it too.
package rounds

import (
	"context"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/course"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// App is what the screen asks for.
type App interface {
	LaunchResume(ctx context.Context, cluster string) error
	Request(ctx context.Context, cluster, what, host string) (string, error)
	LaunchDecision(ctx context.Context, cluster string, w course.Way, reason string) error
}

// Screen is a cluster's round.
type Screen struct {
	ctx     context.Context
	app     App
	cluster string
	host    string      // of the cursor
	pinned  bool        // it was chosen, and does not follow the round
	scroll  int         // of the log, from its end
	past    *view.Round // an older round; nil: the newest
}

// New opens the cluster of a place.
func New(ctx context.Context, d App, p part.Place) *Screen {
	s := &Screen{ctx: ctx, app: d, cluster: p.Cluster, host: p.Host, pinned: p.Host != ""}
	if r, ok := p.What.(view.Round); ok {
		s.past = &r
	}
	return s
}

// round is the one that is shown.
func (s *Screen) round(f part.Frame) view.Round {
	if s.past != nil {
		return *s.past
	}
	return f.View.Rounds[s.cluster]
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place {
	return part.Place{Screen: part.Round, Cluster: s.cluster, Host: s.host}
}

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"A lane for each host, time to the right, ┃ is now. What is to come is drawn pale, as long as the past has it.",
		"Above the lanes: the memory load of the hosts in service at each moment, and ┄ the limit up to which the " +
			"reserve can be kept then. The tightest moment is named.",
		"╌ is a host that has stopped and waits for a person. Left and right scroll the log.",
		"After a round: what changed on each host, what was planned beside what it took, what took " +
			"longest, and what needs you.",
	}
}

// live is the cluster's newest round, if it is not finished.
func (s *Screen) live(f part.Frame) (view.Round, bool) {
	r := s.round(f)
	return r, r.Unfinished() && s.past == nil
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	if r := s.round(f); r.State != nil {
		d := view.OfRound(r)
		return &d
	}
	return nil
}

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	r, live := s.live(f)
	running, paused := "", ""
	if !r.Runs {
		running = "no round runs over " + s.cluster
	}
	if !live || r.Runs {
		paused = "no round over " + s.cluster + " waits for a decision"
	}
	return []part.Key{
		part.NewKey("P", "pause", "pause after the host that is visited", running, func() tea.Msg {
			return s.request(course.AskPause, "")
		}),
		part.NewKey("x", "stop", "stop at the next safe point", running, func() tea.Msg {
			return s.request(course.AskStop, "")
		}),
		part.NewKey("v", "leave out", "leave the host under the cursor out of the running round", running,
			func() tea.Msg { return s.askSkip(s.cursor(s.lanes(f))) }),
		part.NewKey("f", "ways out", "choose the way out where the round has stopped", s.stuck(f),
			func() tea.Msg { return s.askWay(f) }),
		part.NewKey("g", "resume", "resume a round that paused, stopped, failed or was interrupted", paused, s.askGoOn),
	}
}

// messages of the screen
type (
	begun      struct{ cluster string }
	lanePicked struct{ host string }
	laneTurned int
	logTurned  int
)

// picks are what the mouse does to the lanes.
var picks = Picks{
	Host: func(host string) any { return lanePicked{host} },
	Turn: func(dy int) any { return laneTurned(dy) },
}

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	switch msg := msg.(type) {
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
		return part.NothingHere()
	}
	return nil
}

// lanes are the newest round's.
func (s *Screen) lanes(f part.Frame) view.Lanes {
	limit := 0.0
	if b := f.View.Band(s.cluster); b != nil {
		limit = b.Limit
	}
	if r := s.round(f); r.State != nil {
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
	return part.Try(func() (string, error) { return s.app.Request(s.ctx, s.cluster, what, host) })
}

func (s *Screen) askSkip(host string) tea.Msg {
	return part.Confirm{Title: "Leave " + host + " out of the round over " + s.cluster + "?", Yes: "leave it out",
		Lines: []string{"Guests that have moved away from it stay where they are. A host that is closed already is " +
			"brought to its end all the same."},
		Then: s.request(course.AskSkip, host)}
}

// stuck says why there is nothing to choose from; "" where there is.
func (s *Screen) stuck(f part.Frame) string {
	if r := s.round(f); r.State == nil || s.past != nil || len(r.State.Ways()) == 0 {
		return "no round over " + s.cluster + " waits for a decision"
	}
	return ""
}

// askWay has one of the ways out chosen, and what it needs said.
func (s *Screen) askWay(f part.Frame) tea.Msg {
	st := s.round(f).State
	c := part.Choose{Title: "The ways out", Lines: []string{st.Detail}}
	for _, w := range st.Ways() {
		then := s.askGoOn()
		if w.Asks != course.AskGoOn {
			hint := "it is in the journal; " + strings.Join(w.Command, " ")
			then = part.AskReason("why, and what you saw", hint, func(reason string) tea.Msg {
				return part.Confirm{Title: w.Says + "?", Yes: "do it", Lines: []string{"Reason: " + reason},
					Then: s.begin(func() error { return s.app.LaunchDecision(s.ctx, s.cluster, w, reason) })}
			})
		}
		c.Options = append(c.Options, part.Option{Says: w.Says, Then: then})
	}
	return c
}

func (s *Screen) askGoOn() tea.Msg {
	return part.Confirm{Title: "Resume the round over " + s.cluster + "?", Yes: "resume it",
		Lines: []string{"What was under way is looked up on the hosts first; nothing is done twice blindly."},
		Then:  s.begin(func() error { return s.app.LaunchResume(s.ctx, s.cluster) })}
}
