package tui

import (
	"context"
	"fmt"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"yareharbour/core/narrow"
	"yareharbour/core/plan"
)

// screenName names a screen.
type screenName string

const (
	waterlineScreen screenName = "Waterline"
	hostScreen      screenName = "Host"
	driftScreen     screenName = "Drift"
	roundScreen     screenName = "Round"
	catalogueScreen screenName = "Catalogue"
	bundleScreen    screenName = "Bundle"
	baselineScreen  screenName = "Baselines"
	editScreen      screenName = "Edit"
	compareScreen   screenName = "Compare"
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
	pane    int  // of the panes that Tab goes between
	second  int  // the row in the other pane
	subject string
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
	filter  string // as it was typed
	narrow  narrow.Filter
	wrong   string // what is wrong with the filter as it was typed
	input   textinput.Model
	mode    inputMode
	chosen  int // in the finder and the export chooser
	help    bool
	ask     *question
	sheet   *sheet
	toast   string
	toasted time.Time
	reading *progress
	readAt  time.Time // when the last reading ended
	plans   map[string]planned
	whatIf  map[string]WhatIf // by cluster
	canvas  *canvas
	made    matrixOf
	idle    idleOf
	listed  listOf
	life    lifeOf
	job     *job
	opened  *Opened
	editor  *editor
	kept    versionsOf
	compare *Comparison
	due     time.Time // when scheduled feeds were last looked at
}

// lifeOf is the past of the host that is looked at, as it was when it was read.
type lifeOf struct {
	host string
	at   time.Time // of the reading
	Past
}

// job is work under way that the screens begun and can end.
type job struct {
	title  string
	says   string
	cancel context.CancelFunc
}

type inputMode int

const (
	noInput inputMode = iota
	filtering
	finding
	exporting
	reasoning  // typing the reason of a round
	naming     // typing the name under which a filter is kept
	opening    // typing the path of a bundle
	scheduling // typing when a feed is synced
	comparing  // typing what a host is compared with
	saving     // typing why a baseline is saved
	deriving   // typing the host of which a baseline is made
	pruning    // typing the rule by which payloads are pruned
	versioning // typing the version with which one is compared
)

// sheet is a list that lies over the screen until any key is pressed.
type sheet struct {
	title string
	lines []string
}

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
	case tea.PasteMsg:
		return m, m.pasted(msg)
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
		return m.wantVersions()
	case lifeOf:
		m.life = msg
	case jobMsg:
		if m.job != nil {
			m.job.says = string(msg)
		}
	case jobEnded:
		return m.ended(msg)
	case openedMsg:
		m.job, m.opened = nil, msg.Opened
		m.goTo(place{screen: bundleScreen})
	case effectMsg:
		m.effect(msg)
	case editedMsg:
		return m.edited(msg)
	case savedMsg:
		return m.saved(msg)
	case editMsg:
		m.begunEditor(msg)
		return m.typedInEditor()
	case leaveMsg:
		m.editor = nil
		if m.here().screen == editScreen {
			m.pop()
		}
	case takenMsg:
		return m.taken(msg)
	case doomedMsg:
		m.askPrune(msg)
	case sheet:
		m.sheet = &msg
	case versionsOf:
		m.kept = msg
	case comparedMsg:
		m.compare = &msg.Comparison
		m.goTo(place{screen: compareScreen, cluster: m.here().cluster, host: m.here().host})
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
		first = first || roundEnded(m.snap, msg.snap) // then all is read anew
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
	cmds = append(cmds, m.wantLife(), m.wantVersions(), m.wantDue())
	return tea.Batch(cmds...)
}

// roundEnded tells whether a round that ran has ended: what was read before that says little now.
func roundEnded(before, now *Snapshot) bool {
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
}

func (m *Model) back() tea.Cmd {
	switch {
	case m.here().screen == editScreen:
		return m.leaveEditor()
	case m.here().screen == bundleScreen:
		m.leaveBundle()
	case m.filter != "":
		m.setFilter("")
	case len(m.stack) > 1:
		m.pop()
	}
	return nil
}

func (m *Model) pop() { m.stack = m.stack[:max(1, len(m.stack)-1)] }

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
