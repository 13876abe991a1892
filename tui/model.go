package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/narrow"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part"
)

// Model is the whole interface. It implements tea.Model.
type Model struct {
	ctx    context.Context
	app    App
	now    time.Time // of the last message: nothing that is shown asks for another
	w, h   int
	shown  *part.Canvas // what is on the terminal: the mouse asks it what lies where
	theme  *part.Theme
	forced bool // the theme was chosen by hand
	view   *view.Estate
	failed error // the last look
	stack  []part.Screen

	filter string // as it was typed
	narrow narrow.Filter
	idle   []string // words of it that nothing answers to

	over    overlay             // what lies over the screen, or is typed below it; nil: nothing
	typed   map[string][]string // what was typed, by what was asked
	next    []overlay           // what came while something lay there: it must not take that one's keys
	toast   toast
	reading *progress
	readAt  time.Time // when the last reading ended
	job     *job
	due     time.Time // when scheduled feeds were last looked at
}

// toast is what was said last.
type toast struct {
	part.Say
	at time.Time
}

// job is work under way that can be ended.
type job struct {
	title, says string
	cancel      context.CancelFunc
}

type progress struct {
	done, total int
	host        string
}

// Options of the screens.
type Options struct {
	Light bool // begin with the colours for a light background
	Fixed bool // and don't ask the terminal
}

// New returns the screens at the desk, standing on the Waterline.
func New(ctx context.Context, d App, o Options) *Model {
	m := &Model{ctx: ctx, app: d, now: time.Now(), w: 80, h: 24, theme: part.NewTheme(!o.Light), forced: o.Fixed,
		typed: map[string][]string{}}
	m.stack = []part.Screen{screens[part.Waterline](m, part.Place{Screen: part.Waterline})}
	return m
}

// top is the screen that is shown.
func (m *Model) top() part.Screen { return m.stack[len(m.stack)-1] }

// frame is what screens are shown with. There is a view in it even before there is one.
func (m *Model) frame() part.Frame {
	f := part.Frame{View: m.view, Filter: m.narrow, Typed: m.filter, Now: m.now}
	if f.View == nil {
		f.View = &view.Estate{}
	}
	if m.job != nil {
		f.Job = m.job.title
	}
	return f
}

// messages of its own
type (
	loadedMsg struct {
		view  *view.Estate
		err   error
		took  time.Duration
		ticks bool // the next is to follow by itself
	}
	tickMsg   struct{}
	readMsg   struct{ progress }
	readEnded struct{ err error }
	jobSays   string
	jobEnded  struct {
		then tea.Msg
	}
	idleMsg struct {
		filter string
		words  []string
	}
	pressKey string // a click on a key that is shown
)

// Init begins looking, and asks the terminal what background it has.
func (m *Model) Init() tea.Cmd {
	cmds := []tea.Cmd{m.load(true)}
	if !m.forced {
		cmds = append(cmds, tea.RequestBackgroundColor)
	}
	return tea.Batch(cmds...)
}

// load looks at the estate; those looks that follow each other by themselves are begun by Init. All but the first, which
// somebody waits for, also find out what rounds would do now.
func (m *Model) load(ticks bool) tea.Cmd {
	first := m.view == nil
	return func() tea.Msg {
		start := time.Now()
		e, err := m.app.View(m.ctx)
		if err == nil && !first {
			var news bool
			if news, err = m.app.Foresee(m.ctx, e); news && err == nil {
				e, err = m.app.View(m.ctx)
			}
		}
		return loadedMsg{e, err, time.Since(start), ticks}
	}
}

// Update takes in a message. It never waits.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	m.now = time.Now()
	cmd := m.update(msg)
	if m.over == nil && len(m.next) > 0 {
		m.over, m.next = m.next[0], m.next[1:]
	}
	return m, cmd
}

// lay lays something over the screen, after what lies there.
func (m *Model) lay(o overlay) {
	if m.over != nil {
		m.next = append(m.next, o)
		return
	}
	m.over = o
}

func (m *Model) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = max(msg.Width, 20), max(msg.Height, 6)
	case tea.BackgroundColorMsg:
		if !m.forced {
			m.theme = part.NewTheme(msg.IsDark())
		}
	case tea.KeyPressMsg:
		return m.key(msg)
	case tea.PasteMsg:
		return m.paste(msg.Content)
	case tea.MouseClickMsg:
		if msg.Button == tea.MouseLeft {
			return m.pressed(m.onTerminal().Clicked(msg.X, msg.Y))
		}
	case tea.MouseWheelMsg:
		const rows = 3
		by := rows
		if msg.Button == tea.MouseWheelUp {
			by = -rows
		}
		return m.pressed(m.onTerminal().Turned(msg.X, msg.Y, by))
	case streamMsg:
		return tea.Batch(m.heard(msg.msg), listen(msg.ch))
	default:
		return m.heard(msg)
	}
	return nil
}

// pressed does what the mouse was pressed or turned on, nil where that is nothing. What is a screen's own goes to the one
// that is shown.
func (m *Model) pressed(msg any) tea.Cmd {
	if msg == nil {
		return nil
	}
	if line, ok := msg.(picked); ok {
		return m.heard(m.over.key(m, "enter", int(line)))
	}
	switch m.over.(type) {
	case nil:
	case *narrowing:
		m.leave() // whoever narrows picks from what is left
	case *prompt:
		return nil // only keys answer it: what was typed is for what was shown
	default:
		m.leave()
		return nil
	}
	switch msg := msg.(type) {
	case pressKey:
		return m.press(string(msg))
	case part.Go, part.Back:
		return m.heard(msg)
	}
	return m.heard(m.top().Update(m.frame(), msg))
}

// heard takes in a message: from a screen, or the result of a command. One that is a command is returned, to be run
// beside the screens. What is none of its own goes to every screen on the way here.
func (m *Model) heard(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case nil:
	case tea.Cmd:
		return msg
	case func() tea.Msg:
		return msg
	case loadedMsg:
		return m.loaded(msg)
	case tickMsg:
		return m.load(true)
	case readMsg:
		m.reading = &msg.progress
	case readEnded:
		m.reading, m.readAt = nil, m.now
		if msg.err != nil && m.ctx.Err() == nil {
			m.say(part.Say{Text: "reading: " + msg.err.Error()})
		}
		return m.load(false)
	case idleMsg:
		if msg.filter == m.narrow.String() {
			m.idle = msg.words
		}
	case jobSays:
		if m.job != nil {
			m.job.says = string(msg)
		}
	case jobEnded:
		return m.jobOver(msg.then)
	case answered:
		return m.heard(msg.of.came(m, msg.msg))
	case completed:
		msg.of.completed(msg)
	case part.Several:
		var cmds []tea.Cmd
		for _, x := range msg {
			cmds = append(cmds, m.heard(x))
		}
		return tea.Batch(cmds...)
	case part.Go:
		return m.goTo(part.Place(msg))
	case part.Back:
		return m.back()
	case part.Left:
		return m.pop()
	case part.Say:
		m.say(msg)
	case part.Failed:
		m.say(part.Say{Text: "failed: " + msg.Err.Error()})
	case part.Reload:
		m.say(msg.Say)
		return m.load(false)
	case part.Ask:
		m.lay(m.newPrompt(msg))
	case part.Confirm:
		m.lay(&question{msg})
	case part.Choose:
		m.lay(&choice{Choose: msg})
	case part.Sheet:
		m.lay(&sheet{msg})
	case part.Write:
		return write(msg)
	case part.Job:
		return m.begin(msg)
	default:
		var cmds []tea.Cmd
		for _, s := range slices.Clone(m.stack) { // one may leave meanwhile
			cmds = append(cmds, m.heard(s.Update(m.frame(), msg)))
		}
		return tea.Batch(cmds...)
	}
	return nil
}

// intervals between two readings of the estate: the screen tells the truth without anybody remembering to look again.
const (
	readEvery      = 20 * time.Second
	readDuringWork = 3 * time.Second
	refresh        = 500 * time.Millisecond
)

func (m *Model) loaded(msg loadedMsg) (cmd tea.Cmd) {
	m.failed = msg.err
	first := m.view == nil
	var cmds []tea.Cmd
	if msg.err == nil && first {
		defer func() { cmd = tea.Batch(cmd, m.load(false)) }()
	}
	if msg.err == nil {
		first = first || roundEnded(m.view, msg.view) // then all is read anew
		m.view = msg.view
		cmds = append(cmds, m.show(), m.wantIdle())
	}
	if msg.ticks {
		wait := max(refresh, 4*msg.took) // a large estate is looked at less often
		cmds = append(cmds, tea.Tick(wait, func(time.Time) tea.Msg { return tickMsg{} }))
	}
	if m.view == nil {
		return tea.Batch(cmds...)
	}
	every := readEvery
	for _, r := range m.view.Rounds {
		if r.Runs {
			every = readDuringWork
		}
	}
	if first || m.now.Sub(m.readAt) > every {
		cmds = append(cmds, m.readAll())
	}
	return tea.Batch(append(cmds, m.wantDue())...)
}

// roundEnded tells whether a round that ran has ended: what was read before that says little now.
func roundEnded(before, now *view.Estate) bool {
	for c, r := range before.Rounds {
		if r.Runs && !now.Rounds[c].Runs {
			return true
		}
	}
	return false
}

// show has the screen on top take in what it is shown with.
func (m *Model) show() tea.Cmd { return m.heard(m.top().Update(m.frame(), part.Shown{})) }

// readAll begins to read every host; nothing waits for it.
func (m *Model) readAll() tea.Cmd {
	if m.reading != nil || m.view == nil {
		return nil
	}
	hosts := m.view.Hosts("")
	if len(hosts) == 0 {
		return nil
	}
	m.reading = &progress{total: len(hosts)}
	return stream(len(hosts)+1, func(ch chan<- tea.Msg) {
		err := m.app.Look(m.ctx, hosts, func(h string, n int) { ch <- readMsg{progress{n, len(hosts), h}} })
		ch <- readEnded{err}
	})
}

// stream is a command whose work sends messages while it goes on; at most that many wait to be taken in.
func stream(most int, work func(ch chan<- tea.Msg)) tea.Cmd {
	return func() tea.Msg {
		ch := make(chan tea.Msg, most)
		go func() {
			defer close(ch)
			work(ch)
		}()
		return listen(ch)()
	}
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

// begin begins work that takes its time.
func (m *Model) begin(j part.Job) tea.Cmd {
	if m.job != nil {
		m.say(part.Say{Text: m.job.title + " is under way; X ends it"})
		return nil
	}
	ctx, cancel := context.WithCancel(m.ctx)
	m.job = &job{title: j.Title, says: "begins", cancel: cancel}
	return stream(64, func(ch chan<- tea.Msg) {
		defer cancel()
		last := time.Time{}
		msg := j.Do(ctx, func(s string) {
			if time.Since(last) < 60*time.Millisecond || ctx.Err() != nil {
				return
			}
			last = time.Now()
			select {
			case ch <- jobSays(s):
			default: // the screens are behind; they need not see all of it
			}
		})
		ch <- jobEnded{msg}
	})
}

// jobOver says what came of the work.
func (m *Model) jobOver(then tea.Msg) tea.Cmd {
	title := ""
	if m.job != nil {
		title = m.job.title
	}
	m.job = nil
	if f, ok := then.(part.Failed); ok && errors.Is(f.Err, context.Canceled) {
		m.say(part.Say{Text: title + " was ended; what there was before stays"})
		return m.load(false)
	}
	return tea.Batch(m.heard(then), m.load(false))
}

// wantDue syncs feeds whose time has come, a minute after the last look at most.
func (m *Model) wantDue() tea.Cmd {
	if m.job != nil || m.now.Sub(m.due) < time.Minute {
		return nil
	}
	m.due = m.now
	for _, f := range m.view.Feeds {
		if f.Due {
			return m.begin(part.Job{Title: "syncing", Do: func(ctx context.Context, says func(string)) tea.Msg {
				all, err := m.app.Sync(ctx, harbour.Which{Due: true}, says)
				if err != nil {
					return part.Failed{Err: err}
				}
				return part.Say{Text: harbour.Says(all)}
			}})
		}
	}
	return nil
}

func (m *Model) say(s part.Say) { m.toast = toast{s, m.now} }

// goTo goes in. Going to where one stands changes nothing but the cursor.
func (m *Model) goTo(p part.Place) tea.Cmd {
	open := screens[p.Screen]
	if open == nil {
		return nil
	}
	h := m.top().Place()
	s := open(m, p)
	if h.Screen == p.Screen && p.What == nil &&
		(p.Screen == part.Waterline || h.Cluster == p.Cluster && (h.Host == p.Host || p.Screen != part.Host)) {
		m.stack[len(m.stack)-1] = s
	} else {
		m.stack = append(m.stack, s)
	}
	return m.show()
}

// back leaves the screen, or lets go of the narrowing first.
func (m *Model) back() tea.Cmd {
	if l, ok := m.top().(part.Leaving); ok {
		return m.heard(l.Leave(m.frame()))
	}
	if m.filter != "" {
		return m.setFilter("")
	}
	return m.pop()
}

func (m *Model) pop() tea.Cmd {
	m.stack = m.stack[:max(1, len(m.stack)-1)]
	return m.show()
}

// setFilter narrows every view to what the text says. One that can't be understood leaves the narrowing as it was.
func (m *Model) setFilter(text string) tea.Cmd {
	m.filter = text
	f, err := m.understand(text)
	if err != nil {
		return nil
	}
	m.narrow, m.idle = f, nil
	return tea.Batch(m.show(), m.wantIdle())
}

// wantIdle finds out which words of the filter nothing answers to.
func (m *Model) wantIdle() tea.Cmd {
	if m.narrow.Empty() || m.view == nil {
		return nil
	}
	f, e := m.narrow, m.view
	return func() tea.Msg { return idleMsg{f.String(), e.Idle(f)} }
}

// onTerminal is what was painted last.
func (m *Model) onTerminal() *part.Canvas {
	if m.shown == nil {
		m.shown = m.paint()
	}
	return m.shown
}

// View paints the frame.
func (m *Model) View() tea.View {
	m.shown = m.paint()
	v := tea.NewView(m.shown.Render(m.theme))
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = fmt.Sprintf("Yare Harbour – %s", m.top().Place().Screen)
	return v
}
