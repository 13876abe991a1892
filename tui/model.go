package tui

import (
	"context"
	"fmt"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/survey"
	"yareharbour/store"
)

// Snapshot is all that the screens show, as it was at one moment.
type Snapshot struct {
	Survey   survey.Survey
	Readings map[string]*estate.Reading
	Verdicts map[string][]drift.Verdict
	Checker  *drift.Checker
	Siblings map[string][]drift.Siblings // by cluster
	Rounds   map[string]Round            // the newest of each cluster
	Speed    float64                     // of the estate's clock; 1 for real hosts
	Note     string                      // what stands in the way of seeing more
}

// Round is a round as a watcher knows it.
type Round struct {
	ID       string
	State    *plan.State
	Events   []plan.Event
	Progress store.Progress
	Runs     bool // somebody runs it now
}

// Export is something that a view writes to a file.
type Export struct {
	View    string     // "waterline", "drift", "host", "round", "plan"
	Subject string     // a cluster or host; empty for the estate
	Format  string     // "text", "csv", "json", "svg", "pdf"
	Plan    *plan.Plan // as it is shown, for "plan"
}

// WhatIf is what a person changed about a plan. Its zero value is the cluster's usual round.
type WhatIf struct {
	Without []string // hosts that are left out
	More    int      // hosts that may be out of service beyond one
}

// Backend does for the screens what takes time. Calls come from several goroutines.
type Backend interface {
	// Load returns what is known; it reads no host.
	Load(ctx context.Context) (*Snapshot, error)
	// Read reads the hosts and keeps what it found, calling progress after each.
	Read(ctx context.Context, hosts []string, progress func(host string, done int)) error
	// Plan plans a round over the cluster.
	Plan(ctx context.Context, cluster string, w WhatIf) (*plan.Plan, error)
	// Start has a round run by a process of its own, which outlives the screens; Resume goes on with the newest one.
	Start(ctx context.Context, cluster, reason string, w WhatIf) error
	Resume(ctx context.Context, cluster string) error
	// Ask asks the running round for something and says what will happen.
	Ask(ctx context.Context, cluster, what string) (string, error)
	// Life tells what changed on the host, the newest change first.
	Life(ctx context.Context, host string) ([]drift.Turn, error)
	// Write writes an export to the current directory and returns the file's name.
	Write(ctx context.Context, e Export) (string, error)
}

// screenName names a screen.
type screenName string

const (
	waterlineScreen screenName = "Waterline"
	hostScreen      screenName = "Host"
	driftScreen     screenName = "Drift"
	roundScreen     screenName = "Round"
)

// place is a screen and where one stands on it.
type place struct {
	screen  screenName
	cluster string
	host    string
	row     int // of the list that has the cursor
	scroll  int
	needs   bool // on the Waterline: the cursor is in the list of needs
	pinned  bool // on the Round screen: the host was chosen, and the cursor does not follow the round
}

// Model is the whole interface. It implements tea.Model.
type Model struct {
	ctx     context.Context
	backend Backend
	w, h    int
	theme   *theme
	forced  bool // the theme was chosen by hand
	snap    *Snapshot
	failed  error // the last load
	stack   []place
	filter  string
	input   textinput.Model
	mode    inputMode
	chosen  int // in the finder and the export chooser
	help    bool
	ask     *question
	toast   string
	toasted time.Time
	reading *progress
	readAt  time.Time // when the last reading ended
	plans   map[string]planned
	whatIf  map[string]WhatIf // by cluster
	canvas  *canvas
	made    matrixOf
	life    lifeOf
}

// lifeOf is the life of the host that is looked at, as it was when it was read.
type lifeOf struct {
	host  string
	at    time.Time // of the reading
	turns []drift.Turn
}

type inputMode int

const (
	noInput inputMode = iota
	filtering
	finding
	exporting
	reasoning // typing the reason of a round
)

// question is asked before something that is hard to take back.
type question struct {
	text []string
	yes  tea.Cmd
}

type progress struct {
	done, total int
	host        string
}

// planned is a plan that the Round screen shows before a round is begun.
type planned struct {
	asked bool // it is being made, or is here
	plan  *plan.Plan
	err   error
}

// Options of the screens.
type Options struct {
	Light bool // begin with the colours for a light background
	Fixed bool // and don't ask the terminal
}

// New returns the screens on the backend, standing on the Waterline.
func New(ctx context.Context, b Backend, o Options) *Model {
	m := &Model{ctx: ctx, backend: b, w: 80, h: 24, theme: newTheme(!o.Light), forced: o.Fixed, plans: map[string]planned{}, whatIf: map[string]WhatIf{}, input: textinput.New()}
	m.input.Prompt = ""
	m.stack = []place{{screen: waterlineScreen}}
	return m
}

// here is where one stands.
func (m *Model) here() *place { return &m.stack[len(m.stack)-1] }

// messages
type (
	loadedMsg struct {
		snap  *Snapshot
		err   error
		took  time.Duration
		ticks bool // the next is to follow by itself
	}
	tickMsg    struct{}
	readMsg    struct{ progress }
	readEnded  struct{ err error }
	plannedMsg struct {
		cluster string
		planned
	}
	saidMsg  struct{ text string }
	begunMsg struct{ cluster string } // its round was begun
	goMsg    place
	pickMsg  struct{ row int }
	hostMsg  struct{ host string }
	keyMsg   struct{ key string } // a press on a key that is shown
)

// Init begins loading, and asks the terminal what background it has.
func (m *Model) Init() tea.Cmd {
	cmds := []tea.Cmd{m.loading(true)}
	if !m.forced {
		cmds = append(cmds, tea.RequestBackgroundColor)
	}
	return tea.Batch(cmds...)
}

// load loads once; the loads that follow each other by themselves are begun by Init.
func (m *Model) load() tea.Cmd { return m.loading(false) }

func (m *Model) loading(ticks bool) tea.Cmd {
	return func() tea.Msg {
		start := time.Now()
		s, err := m.backend.Load(m.ctx)
		return loadedMsg{s, err, time.Since(start), ticks}
	}
}

// readAll begins to read every host; nothing waits for it.
func (m *Model) readAll() tea.Cmd {
	if m.reading != nil || m.snap == nil {
		return nil
	}
	var hosts []string
	for _, b := range m.snap.Survey.Bands {
		hosts = append(hosts, b.Cluster.Hosts...)
	}
	if len(hosts) == 0 {
		return nil
	}
	m.reading = &progress{total: len(hosts)}
	ch := make(chan tea.Msg, len(hosts)+1)
	go func() {
		err := m.backend.Read(m.ctx, hosts, func(h string, n int) { ch <- readMsg{progress{n, len(hosts), h}} })
		ch <- readEnded{err}
		close(ch)
	}()
	return listen(ch)
}

// streamMsg is a message of a stream, and the rest of the stream.
type streamMsg struct {
	msg tea.Msg
	ch  <-chan tea.Msg
}

func listen(ch <-chan tea.Msg) tea.Cmd {
	return func() tea.Msg {
		msg, ok := <-ch
		if !ok {
			return nil
		}
		return streamMsg{msg, ch}
	}
}

// Update takes in a message. It never waits.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = max(msg.Width, 20), max(msg.Height, 6)
	case tea.BackgroundColorMsg:
		if !m.forced {
			m.theme = newTheme(msg.IsDark())
		}
	case tea.KeyPressMsg:
		return m, m.key(msg)
	case tea.MouseClickMsg:
		if msg.Button == tea.MouseLeft && m.canvas != nil {
			return m, m.pressed(m.canvas.at(msg.X, msg.Y))
		}
	case tea.MouseWheelMsg:
		if msg.Button == tea.MouseWheelUp {
			return m, m.press("up")
		}
		return m, m.press("down")
	case streamMsg:
		_, cmd := m.Update(msg.msg)
		return m, tea.Batch(cmd, listen(msg.ch))
	default:
		return m, m.heard(msg)
	}
	return m, nil
}

// heard takes in the result of a command.
func (m *Model) heard(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case loadedMsg:
		return m.loaded(msg)
	case tickMsg:
		return m.loading(true)
	case readMsg:
		m.reading = &msg.progress
	case readEnded:
		m.reading, m.readAt = nil, time.Now()
		if msg.err != nil && m.ctx.Err() == nil {
			m.say("reading: " + msg.err.Error())
		}
		return m.load()
	case plannedMsg:
		m.plans[msg.cluster] = msg.planned
	case begunMsg:
		delete(m.plans, msg.cluster) // from now on its journal is shown
		delete(m.whatIf, msg.cluster)
		m.say("the round over " + msg.cluster + " has begun")
		return m.load()
	case saidMsg:
		m.say(msg.text)
	case goMsg:
		m.goTo(place(msg))
		if msg.screen == roundScreen {
			return m.wantPlan(msg.cluster)
		}
	case lifeOf:
		m.life = msg
	case hostMsg:
		if p := m.here(); p.pinned && p.host == msg.host {
			return m.enter()
		}
		m.here().host, m.here().pinned, m.here().scroll = msg.host, true, 0
	case pickMsg:
		m.here().row = msg.row
	case keyMsg:
		return m.press(msg.key)
	}
	return nil
}

// intervals between two readings of the estate: the screen tells the truth without anybody remembering to look again.
const (
	readEvery      = 20 * time.Second
	readDuringWork = 3 * time.Second
	refresh        = 500 * time.Millisecond
)

func (m *Model) loaded(msg loadedMsg) tea.Cmd {
	m.failed = msg.err
	first := m.snap == nil
	if msg.err == nil {
		first = first || ended(m.snap, msg.snap) // then all is read anew
		m.snap = msg.snap
	}
	var cmds []tea.Cmd
	if msg.ticks {
		wait := max(refresh, 4*msg.took) // a large estate is looked at less often
		cmds = append(cmds, tea.Tick(wait, func(time.Time) tea.Msg { return tickMsg{} }))
	}
	every := readEvery
	for _, r := range m.rounds() {
		if r.Runs {
			every = readDuringWork
		}
	}
	if m.snap != nil && (first || time.Since(m.readAt) > every) {
		cmds = append(cmds, m.readAll())
	}
	cmds = append(cmds, m.wantLife())
	return tea.Batch(cmds...)
}

// wantLife has the life of the host under the eyes told, where a newer reading of it is there.
func (m *Model) wantLife() tea.Cmd {
	p := m.here()
	if p.screen != hostScreen || m.snap == nil || m.snap.Readings[p.host] == nil {
		return nil
	}
	host, at := p.host, m.snap.Readings[p.host].Tried()
	if m.life.host == host && m.life.at.Equal(at) {
		return nil
	}
	return func() tea.Msg {
		turns, err := m.backend.Life(m.ctx, host)
		if err != nil {
			return saidMsg{"the life of " + host + ": " + err.Error()}
		}
		return lifeOf{host, at, turns}
	}
}

// ended tells whether a round that ran has ended: what was read before that says little now.
func ended(before, now *Snapshot) bool {
	for c, r := range before.Rounds {
		if r.Runs && !now.Rounds[c].Runs {
			return true
		}
	}
	return false
}

func (m *Model) rounds() map[string]Round {
	if m.snap == nil {
		return nil
	}
	return m.snap.Rounds
}

// wantPlan plans the cluster's next round, unless one is unfinished.
func (m *Model) wantPlan(cluster string) tea.Cmd {
	if m.liveRound(cluster) != nil {
		return nil
	}
	old := m.plans[cluster]
	m.plans[cluster] = planned{asked: true, plan: old.plan} // the old one is shown until the new one is there
	w := m.whatIf[cluster]
	return func() tea.Msg {
		p, err := m.backend.Plan(m.ctx, cluster, w)
		return plannedMsg{cluster, planned{true, p, err}}
	}
}

// shownPlan is the plan that the Round screen shows, and nil where it shows a journal.
func (m *Model) shownPlan(cluster string) *plan.Plan {
	if p := m.plans[cluster].plan; p != nil && len(p.Visits) > 0 && m.liveRound(cluster) == nil {
		return p
	}
	return nil
}

// liveRound is the cluster's newest round if it is not finished.
func (m *Model) liveRound(cluster string) *Round {
	r, ok := m.rounds()[cluster]
	if !ok || r.State == nil || r.State.Status == plan.Finished {
		return nil
	}
	return &r
}

func (m *Model) say(text string) { m.toast, m.toasted = text, time.Now() }

// do runs something of the backend's and says what came of it.
func (m *Model) do(doing func() (string, error)) tea.Cmd {
	return func() tea.Msg {
		text, err := doing()
		if err != nil {
			text = "failed: " + err.Error()
		}
		return saidMsg{text}
	}
}

// goTo goes in; going to where one stands changes nothing but the cursor.
func (m *Model) goTo(p place) {
	if h := m.here(); h.screen == p.screen && h.host == p.host && h.cluster == p.cluster {
		*h = p
		return
	}
	m.stack = append(m.stack, p)
	m.filter = ""
}

func (m *Model) back() {
	switch {
	case m.filter != "":
		m.filter = ""
	case len(m.stack) > 1:
		m.stack = m.stack[:len(m.stack)-1]
	}
}

// View paints the frame.
func (m *Model) View() tea.View {
	c := m.paint()
	m.canvas = c
	v := tea.NewView(c.render(m.theme))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = fmt.Sprintf("Yare Harbour – %s", m.here().screen)
	return v
}
