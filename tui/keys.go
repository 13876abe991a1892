package tui

import (
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/sahilm/fuzzy"

	"yareharbour/core/plan"
)

// command is something that can be done on a screen: by its key, by its name in the finder, or with the mouse.
type command struct {
	key  string
	name string // in words, as the finder and the help show it
	hint string // short, for the bottom line; empty: not shown there
	on   screenName
	do   func(*Model) tea.Cmd
}

// commands are all commands. One with no screen is there everywhere.
var commands []command

func init() {
	commands = []command{
		{"enter", "go in", "in", "", (*Model).enter},
		{"esc", "come out", "out", "", (*Model).back},
		{"?", "help for where you stand", "help", "", func(m *Model) tea.Cmd { m.help = !m.help; return nil }},
		{"q", "close the screens; rounds go on", "quit", "", func(*Model) tea.Cmd { return tea.Quit }},
		{"d", "see the drift of this cluster", "drift", "", func(m *Model) tea.Cmd { m.toDrift(); return nil }},
		{"r", "see the round over this cluster, or plan one", "round", "", func(m *Model) tea.Cmd { return m.toRound() }},
		{"w", "go to the Waterline", "", "", func(m *Model) tea.Cmd { m.stack = m.stack[:1]; return nil }},
		{"c", "see what can be had: the Catalogue", "catalogue", "", func(m *Model) tea.Cmd { m.toCatalogue(); return nil }},
		{"b", "see how things should be: the Baselines", "baselines", "", (*Model).toBaselines},
		{"tab", "go between what disagrees now and drift over time", "over time", driftScreen, (*Model).otherPane},
		{"m", "mark this cluster's drift as seen; what comes after is new", "seen", driftScreen, (*Model).markSeen},
		{"=", "compare this host with another one, or with its past", "compare", hostScreen, func(m *Model) tea.Cmd { return m.begin(comparing, m.here().host+"@7d") }},
		{"=", "compare this host with another one, or with its past", "compare", compareScreen, func(m *Model) tea.Cmd { return m.begin(comparing, m.here().host+"@7d") }},
		{"D", "make a baseline of this host", "", hostScreen, (*Model).deriveHere},
		{"tab", "go between components, feeds and bundles", "feeds", catalogueScreen, (*Model).otherPane},
		{"a", "show what no host has, or no feed, too", "all", catalogueScreen, (*Model).showAll},
		{"s", "sync the feed under the cursor", "sync", catalogueScreen, (*Model).syncOne},
		{"S", "sync every feed that is not switched off", "", catalogueScreen, (*Model).syncAll},
		{"o", "say when the feed under the cursor is synced", "", catalogueScreen, (*Model).askSchedule},
		{"i", "open a bundle, to take it in", "import", catalogueScreen, (*Model).askBundle},
		{"u", "take the bundle under the cursor out of the catalogue again", "", catalogueScreen, (*Model).askRemove},
		{"f", "fetch the payloads that hosts want", "", catalogueScreen, (*Model).fetchPayloads},
		{"v", "verify every payload", "", catalogueScreen, (*Model).verifyPayloads},
		{"p", "prune payloads that nobody wants, by a rule", "", catalogueScreen, func(m *Model) tea.Cmd { return m.begin(pruning, "unknown older=90") }},
		{"l", "list the payloads", "", catalogueScreen, (*Model).listPayloads},
		{"X", "end the work under way", "", "", (*Model).endJob},
		{"a", "take this bundle in", "take it in", bundleScreen, (*Model).acceptBundle},
		{"tab", "go between baselines and versions", "versions", baselineScreen, (*Model).otherPane},
		{"E", "edit the baseline in $EDITOR", "$EDITOR", baselineScreen, (*Model).editOutside},
		{"u", "let the baseline say again what the version under the cursor said", "revert", baselineScreen, (*Model).revert},
		{"=", "compare the version under the cursor with another one", "", baselineScreen, (*Model).askVersion},
		{"x", "take away the baseline under the cursor, if it was made here", "", baselineScreen, (*Model).askRemoveBaseline},
		{"D", "make a new baseline of a known good host", "derive", baselineScreen, func(m *Model) tea.Cmd { return m.begin(deriving, "") }},
		{"tab", "go between the picture and what needs a person", "needs", waterlineScreen, (*Model).toNeeds},
		{"s", "start the planned round", "start", roundScreen, (*Model).askReason},
		{"p", "pause after the host that is visited", "pause", roundScreen, func(m *Model) tea.Cmd { return m.request(plan.AskPause) }},
		{"x", "stop at the next safe point", "stop", roundScreen, func(m *Model) tea.Cmd { return m.request(plan.AskStop) }},
		{"g", "go on with a round that paused, stopped, failed or was interrupted", "go on", roundScreen, (*Model).goOn},
		{"n", "plan again from a fresh reading", "plan anew", roundScreen, (*Model).planAgain},
		{"v", "leave the host under the cursor out of the plan, or take it in again", "leave out", roundScreen, (*Model).leaveOut},
		{"+", "let one more host be out of service at once", "", roundScreen, func(m *Model) tea.Cmd { return m.allowOut(1) }},
		{"-", "let one host less be out of service at once", "", roundScreen, func(m *Model) tea.Cmd { return m.allowOut(-1) }},
		{"R", "read every host now", "read", "", (*Model).readAll},
		{"/", "narrow what is shown", "narrow", "", func(m *Model) tea.Cmd { return m.begin(filtering, m.filter) }},
		{"K", "keep what is narrowed to under a name", "", "", (*Model).askFilterName},
		{":", "find a command by name", "find", "", func(m *Model) tea.Cmd { return m.begin(finding, "") }},
		{"e", "export what this view shows", "export", "", func(m *Model) tea.Cmd { return m.begin(exporting, "") }},
		{"t", "change between colours for dark and light backgrounds", "", "", func(m *Model) tea.Cmd { m.forced = true; m.theme = newTheme(!m.theme.dark); return nil }},
	}
}

// available are the commands of the screen one stands on, its own first.
func (m *Model) available() []command {
	var own, all []command
	for _, c := range commands {
		switch c.on {
		case m.here().screen:
			own = append(own, c)
		case "":
			all = append(all, c)
		}
	}
	return append(own, all...)
}

func (m *Model) key(msg tea.KeyPressMsg) tea.Cmd {
	name := msg.String()
	if name == "ctrl+c" {
		return tea.Quit
	}
	switch {
	case m.sheet != nil:
		m.sheet = nil
		return nil
	case m.ask != nil:
		return m.answer(name)
	case m.here().screen == editScreen && m.mode == noInput:
		return m.editKey(msg)
	case m.help:
		m.help = false
		return nil
	case m.mode == exporting:
		return m.chooseExport(name)
	case m.mode != noInput:
		return m.typeKey(msg)
	}
	return m.press(name)
}

// press does what a key does where no text is typed.
func (m *Model) press(name string) tea.Cmd {
	m.toast = ""
	switch name {
	case "up", "k":
		m.step(0, -1)
	case "down", "j":
		m.step(0, 1)
	case "left", "h":
		m.step(-1, 0)
	case "right", "l":
		m.step(1, 0)
	case "pgup":
		m.step(0, -10)
	case "pgdown":
		m.step(0, 10)
	case "home":
		m.step(0, -1<<20)
	case "end":
		m.step(0, 1<<20)
	}
	if m.here().screen == baselineScreen && m.here().pane == 0 {
		switch name {
		case "up", "k":
			return m.stepBaseline(-1)
		case "down", "j":
			return m.stepBaseline(1)
		}
	}
	for _, c := range m.available() {
		if c.key == name {
			return c.do(m)
		}
	}
	return nil
}

func (m *Model) pressed(does any) tea.Cmd {
	if does == nil {
		return nil
	}
	if m.help {
		m.help = false
		return nil
	}
	return m.heard(does)
}

// begin opens a line to type in.
func (m *Model) begin(mode inputMode, text string) tea.Cmd {
	m.mode, m.chosen = mode, 0
	m.input = textinput.New()
	m.input.Prompt = ""
	m.input.SetValue(text)
	m.input.CursorEnd()
	m.input.Focus() // its command only makes a cursor blink, and ours does not
	return nil
}

// typeKey takes a key while text is typed.
func (m *Model) typeKey(msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "esc":
		if m.mode == filtering {
			m.setFilter("")
		}
		m.mode = noInput
		return nil
	case "enter":
		return m.typed()
	case "up":
		m.chosen = max(0, m.chosen-1)
		return nil
	case "down":
		m.chosen++
		return nil
	}
	m.input, _ = m.input.Update(msg)
	if m.mode == filtering {
		m.setFilter(m.input.Value())
		m.here().row = 0
	}
	return nil
}

func (m *Model) typed() tea.Cmd {
	mode, text := m.mode, strings.TrimSpace(m.input.Value())
	m.mode = noInput
	switch mode {
	case filtering:
		if m.wrong != "" { // it stays until it can be understood, or Esc lets it go
			m.mode = filtering
		}
	case finding:
		if found := m.found(text); len(found) > 0 {
			return found[min(m.chosen, len(found)-1)].do(m)
		}
		m.say("no command is called " + text)
	case reasoning:
		if text == "" {
			m.say("a round needs a reason: it goes into the journal and the hosts' own logs")
			return nil
		}
		return m.confirmStart(text)
	case naming:
		return m.keepFilter(text)
	case opening:
		return m.openBundle(text)
	case scheduling:
		return m.schedule(text)
	case comparing:
		return m.compareWith(text)
	case saving:
		return m.save(text)
	case deriving:
		return m.derive(text)
	case pruning:
		return m.prunePayloads(text)
	case versioning:
		return m.compareVersions(text)
	}
	return nil
}

// found are the commands that match the text, and the places that do.
func (m *Model) found(text string) []command {
	all := m.available()
	if m.snap != nil {
		for _, b := range m.snap.Survey.Bands {
			all = append(all, command{name: "drift of " + b.Cluster.Name, do: goCommand(place{screen: driftScreen, cluster: b.Cluster.Name})},
				command{name: "round over " + b.Cluster.Name, do: goCommand(place{screen: roundScreen, cluster: b.Cluster.Name})})
			for _, h := range b.Cluster.Hosts {
				all = append(all, command{name: "host " + h, do: goCommand(place{screen: hostScreen, cluster: b.Cluster.Name, host: h})})
			}
		}
	}
	for _, b := range m.baselines() {
		all = append(all, command{name: "baseline " + b.Name, do: goCommand(place{screen: baselineScreen, subject: b.Name})})
	}
	for _, name := range m.keptFilters() {
		all = append(all, command{name: "narrow to @" + name + ": " + m.snap.Filters[name], do: func(m *Model) tea.Cmd { m.setFilter("@" + name); return nil }})
	}
	if text == "" {
		return all
	}
	names := make([]string, len(all))
	for i := range all {
		names[i] = all[i].name
	}
	var out []command
	for _, match := range fuzzy.Find(text, names) {
		out = append(out, all[match.Index])
	}
	return out
}

func goCommand(p place) func(*Model) tea.Cmd {
	return func(m *Model) tea.Cmd {
		m.goTo(p)
		if p.screen == roundScreen {
			return m.wantPlan(p.cluster)
		}
		return m.wantVersions()
	}
}

func (m *Model) answer(key string) tea.Cmd {
	q := m.ask
	m.ask = nil
	if key == "y" {
		return q.yes
	}
	m.say("nothing was done")
	return nil
}

// exportFormats are what the chooser offers; drawings come first.
var exportFormats = []struct{ key, format, name string }{
	{"s", "svg", "SVG drawing"}, {"p", "pdf", "PDF drawing"}, {"c", "csv", "CSV table"}, {"j", "json", "JSON"}, {"t", "text", "text"},
}

// canExport tells which formats the screen has: what is a list and not a picture has no drawing of its own.
func (m *Model) canExport(format string) bool {
	s := m.here().screen
	return s != editScreen
}

func (m *Model) chooseExport(key string) tea.Cmd {
	m.mode = noInput
	for _, f := range exportFormats {
		if f.key != key || !m.canExport(f.format) {
			continue
		}
		p := m.here()
		e := Export{View: strings.ToLower(string(p.screen)), Subject: p.cluster, Format: f.format, Filter: m.narrow.String(), All: m.listed.all}
		switch {
		case p.screen == hostScreen:
			e.Subject = p.host
		case p.screen == waterlineScreen:
			e.Subject = ""
		case p.screen == driftScreen && p.pane == 1:
			e.View = "trend"
		case p.screen == catalogueScreen:
			e.Subject = ""
			if f.key == "s" || f.key == "p" {
				e.View, e.Subject = "ladder", string(m.chosenComponent())
			}
		case p.screen == baselineScreen:
			e.Subject = m.chosenBaseline().Name
		case p.screen == bundleScreen && m.opened != nil:
			e.Subject, e.Bundle = m.opened.Name, m.opened
		case p.screen == compareScreen && m.compare != nil:
			e.Subject, e.Other = m.compare.From, m.compare.To
		}
		if pl := m.shownPlan(p.cluster); p.screen == roundScreen && pl != nil {
			e.View, e.Plan = "plan", pl
		}
		return m.do(func() (string, error) {
			file, err := m.backend.Write(m.ctx, e)
			return "written: " + file, err
		})
	}
	if key != "esc" {
		m.say("nothing was exported")
	}
	return nil
}

func (m *Model) askReason() tea.Cmd {
	c := m.here().cluster
	p := m.plans[c]
	switch {
	case m.liveRound(c) != nil:
		m.say("the last round over " + c + " is not finished; g goes on with it")
		return nil
	case p.plan == nil:
		return m.planAgain()
	case len(p.plan.Visits) == 0:
		m.say("there is nothing to do on " + c)
		return nil
	case len(p.plan.Obstacles()) > 0:
		m.say("the plan has obstacles: v leaves a host out, + lets one more be out of service")
		return nil
	}
	return m.begin(reasoning, "")
}

func (m *Model) confirmStart(reason string) tea.Cmd {
	c := m.here().cluster
	p, w := m.plans[c].plan, m.whatIf[c]
	m.ask = &question{
		text: []string{"Start the round over " + c + "?", p.Summary(), "Reason: " + reason,
			"It runs by itself when the screens are closed."},
		yes: m.begun(c, func() error { return m.backend.Start(m.ctx, c, reason, w) }),
	}
	return nil
}

func (m *Model) request(what string) tea.Cmd {
	c := m.here().cluster
	return m.do(func() (string, error) { return m.backend.Ask(m.ctx, c, what) })
}

func (m *Model) goOn() tea.Cmd {
	c := m.here().cluster
	r := m.liveRound(c)
	if r == nil || r.Runs {
		m.say("there is no round to go on with")
		return nil
	}
	m.ask = &question{
		text: []string{"Go on with the round over " + c + "?", "What was under way is looked up on the hosts first; nothing is done twice blindly."},
		yes:  m.begun(c, func() error { return m.backend.Resume(m.ctx, c) }),
	}
	return nil
}

// begun begins a round and has its journal shown, or says why it could not.
func (m *Model) begun(cluster string, begin func() error) tea.Cmd {
	return func() tea.Msg {
		if err := begin(); err != nil {
			return saidMsg{"failed: " + err.Error()}
		}
		return begunMsg{cluster}
	}
}

// leaveOut leaves the host under the cursor out of the plan, or takes it in again, and plans at once.
func (m *Model) leaveOut() tea.Cmd {
	p := m.here()
	if p.host == "" || m.liveRound(p.cluster) != nil {
		return nil
	}
	w := m.whatIf[p.cluster]
	if i := slices.Index(w.Without, p.host); i >= 0 {
		w.Without = slices.Delete(slices.Clone(w.Without), i, i+1)
	} else {
		w.Without = append(slices.Clone(w.Without), p.host)
	}
	m.whatIf[p.cluster] = w
	p.pinned = true
	return m.wantPlan(p.cluster)
}

// allowOut changes how many hosts may be out of service at once, and plans at once.
func (m *Model) allowOut(by int) tea.Cmd {
	c := m.here().cluster
	if m.liveRound(c) != nil {
		return nil
	}
	w := m.whatIf[c]
	w.More = max(0, w.More+by)
	m.whatIf[c] = w
	return m.wantPlan(c)
}

func (m *Model) planAgain() tea.Cmd {
	c := m.here().cluster
	if m.liveRound(c) != nil {
		m.say("the last round over " + c + " is not finished; g goes on with it")
		return nil
	}
	return m.wantPlan(c)
}

// toastFor is how long something that was said stays.
const toastFor = 6 * time.Second
