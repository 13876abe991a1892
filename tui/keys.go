package tui

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/sahilm/fuzzy"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/export"
	"yareharbour/tui/part"
)

// first are the keys that a newcomer needs, everywhere.
func (m *Model) first() []part.Key {
	return []part.Key{
		part.NewKey("enter", "go in", "go in", "", func() tea.Msg { return m.top().Update(m.frame(), part.Enter{}) }),
		part.NewKey("?", "help", "help for where you stand", "", func() tea.Msg { m.over = &help{}; return nil }),
		part.NewKey(":", "find", "find a command or a place by name", "", func() tea.Msg {
			m.over = newFinder()
			return nil
		}),
	}
}

// everywhere are the keys that are the same on every screen.
func (m *Model) everywhere() []part.Key {
	at := m.top().Place()
	cluster := m.cluster()
	none, job, undo, out := "", "", "", ""
	if cluster == "" {
		none = "there is no cluster yet"
	}
	if m.job == nil {
		job = "nothing is under way"
	}
	if m.toast.Undo == nil {
		undo = "there is nothing to take back"
	}
	if len(m.stack) == 1 && m.filter == "" {
		out = "this is the outermost screen; q closes it"
	}
	plans, home := "plan", ""
	if at.Screen == part.Plan {
		plans = ""
	}
	if len(m.stack) == 1 {
		home = "this is the Waterline screen"
	}
	just, alone := "just this", ""
	switch {
	case at.Screen != part.Waterline && at.Screen != part.Drift && at.Screen != part.Host:
		just, alone = "", "on the Waterline, Drift and Host it plans what the cursor is on"
	case at.Screen == part.Waterline:
		just = ""
	case at.Host == "":
		alone = "there is no host here"
	}
	to := func(p part.Place) func() tea.Msg { return func() tea.Msg { return m.goTo(p) } }
	screen := func(key, hint, name, not string, p part.Place) part.Key {
		if at.Screen == p.Screen {
			hint, not = "", "this is the "+p.Screen+" screen"
		}
		return part.NewKey(key, hint, name, not, to(p))
	}
	return []part.Key{
		part.NewKey("esc", "out", "come out, or show all where something is narrowed", out, func() tea.Msg {
			return m.back()
		}),
		screen("d", "drift", "see the drift of this cluster", none,
			part.Place{Screen: part.Drift, Cluster: cluster, Host: at.Host}),
		part.NewKey("p", plans, "plan a round over this cluster; nothing is touched",
			none, func() tea.Msg { return m.goTo(m.planOf(cluster, at.Host)) }),
		part.NewKey(".", just, "plan just this host, or just this component", alone, func() tea.Msg { return m.askJust(at) }),
		screen("r", "round", "see the round over this cluster", none, part.Place{Screen: part.Round, Cluster: cluster}),
		screen("c", "catalogue", "see what can be had: the Catalogue", "", part.Place{Screen: part.Catalogue}),
		screen("b", "baselines", "see how things should be: the Baselines", "", part.Place{Screen: part.Baselines}),
		screen("J", "logbook", "see what was done and decided: the Logbook, history of rounds", "", part.Place{Screen: part.Logbook}),
		part.NewKey("/", "narrow", "narrow what is shown", "", func() tea.Msg { m.over = newNarrowing(m); return nil }),
		part.NewKey("R", "read", "read every host now", "", func() tea.Msg { return m.readAll() }),
		part.NewKey("e", "export", "export what this view shows", "", func() tea.Msg {
			m.over = &chooser{}
			return nil
		}),
		part.NewKey("w", "", "go to the Waterline", home, func() tea.Msg { m.stack = m.stack[:1]; return m.show() }),
		part.NewKey("K", "", "keep what is narrowed to under a name", "", m.askFilterName),
		part.NewKey("U", "", "take back what was just done, where that can be", undo, m.undo),
		part.NewKey("X", "", "end the work under way", job, func() tea.Msg { m.job.cancel(); return nil }),
		part.NewKey("t", "", "change between colours for dark and light backgrounds", "", func() tea.Msg {
			m.forced, m.theme = true, part.NewTheme(!m.theme.Dark())
			return nil
		}),
		part.NewKey("q", "quit", "close the screens; rounds go on", "", func() tea.Msg { return tea.Cmd(tea.Quit) }),
	}
}

// planOf is the plan of a cluster, or just of what is narrowed to where something of that is out of line.
func (m *Model) planOf(cluster, host string) part.Place {
	p := part.Place{Screen: part.Plan, Cluster: cluster, Host: host}
	if m.filter == "" || m.view == nil {
		return p
	}
	if hosts, only := m.view.Concerned(cluster, m.narrow); len(hosts) > 0 {
		p.What = part.Just{Hosts: hosts, Only: only}
	}
	return p
}

// askJust has it chosen of what under the cursor there is to be a plan.
func (m *Model) askJust(at part.Place) tea.Msg {
	plan := func(just part.Just) part.Go {
		return part.Go{Screen: part.Plan, Cluster: cmp.Or(at.Cluster, m.cluster()), Host: at.Host, What: just}
	}
	host, only := []string{at.Host}, []estate.Key{at.Component}
	c := part.Choose{Title: "Plan just", Lines: []string{"Nothing is touched yet."},
		Options: []part.Option{{Says: at.Host, Then: plan(part.Just{Hosts: host})}}}
	drifts := func(host string) bool {
		return m.view != nil && slices.ContainsFunc(m.view.Verdicts[host], func(v drift.Verdict) bool {
			return v.Component == at.Component && v.Outcome.Drifts()
		})
	}
	if drifts(at.Host) {
		c.Options = append(c.Options, part.Option{Says: string(at.Component) + " on " + at.Host,
			Then: plan(part.Just{Hosts: host, Only: only})})
	}
	if m.view != nil && slices.ContainsFunc(m.view.Hosts(at.Cluster), drifts) {
		c.Options = append(c.Options, part.Option{Says: string(at.Component) + " on every host of the cluster",
			Then: plan(part.Just{Only: only})})
	}
	if len(c.Options) == 1 {
		return c.Options[0].Then
	}
	return c
}

// keys are all that can be done here: what a newcomer needs, what the screen has, and what is the same everywhere.
func (m *Model) keys() []part.Key {
	own := m.top().Keys(m.frame())
	if _, types := m.top().(part.Typing); types {
		return append(own, part.Key{Key: "esc", Name: "leave", Hint: "leave", Do: func() tea.Msg { return m.back() }})
	}
	rest := m.everywhere()
	takesBack := func(k part.Key) bool { return k.Key == "U" }
	if m.toast.Undo != nil { // what was just done comes first
		own = slices.DeleteFunc(own, takesBack)
	} else if slices.ContainsFunc(own, takesBack) {
		rest = slices.DeleteFunc(rest, takesBack)
	}
	return slices.Concat(m.first(), own, rest)
}

// cluster is the one that commands about a cluster mean.
func (m *Model) cluster() string {
	for _, s := range slices.Backward(m.stack) {
		if c := s.Place().Cluster; c != "" {
			return c
		}
	}
	if m.view != nil && len(m.view.Survey.Bands) > 0 {
		return m.view.Survey.Bands[0].Cluster.Name
	}
	return ""
}

// steps are the keys that move the cursor.
var steps = map[string]part.Step{
	"up":     {DY: -1},
	"k":      {DY: -1},
	"down":   {DY: 1},
	"j":      {DY: 1},
	"left":   {DX: -1},
	"h":      {DX: -1},
	"right":  {DX: 1},
	"l":      {DX: 1},
	"pgup":   {DY: -10},
	"pgdown": {DY: 10},
	"home":   {DY: -1 << 20},
	"end":    {DY: 1 << 20},
}

func (m *Model) key(msg tea.KeyPressMsg) tea.Cmd {
	name := msg.String()
	if name == "ctrl+c" {
		return tea.Quit
	}
	if m.over != nil {
		if in, ok := m.over.(typing); ok {
			return m.heard(in.take(m, msg))
		}
		return m.heard(m.over.key(m, name, -1))
	}
	if t, ok := m.top().(part.Typing); ok {
		for _, k := range m.keys() {
			if k.Key == name {
				return m.perform(k)
			}
		}
		return m.heard(t.Type(m.frame(), msg))
	}
	return m.press(name)
}

// press does what a key does where no text is typed. A key of the screen goes before one that moves.
func (m *Model) press(name string) tea.Cmd {
	for _, k := range m.keys() {
		if k.Key == name {
			return m.perform(k)
		}
	}
	if step, ok := steps[name]; ok && m.view != nil {
		return m.heard(m.top().Update(m.frame(), step))
	}
	return nil
}

// perform does what a key is for, or says why that can't be now.
func (m *Model) perform(k part.Key) tea.Cmd {
	if k.Not != "" {
		m.say(part.Say{Text: k.Not})
		return nil
	}
	if k.Key != "U" {
		m.toast = toast{}
	}
	return m.heard(k.Do())
}

func (m *Model) paste(text string) tea.Cmd {
	text = strings.ReplaceAll(text, "\r\n", "\n")
	if in, ok := m.over.(typing); ok {
		return m.heard(in.paste(m, strings.ReplaceAll(text, "\n", " ")))
	}
	if t, ok := m.top().(part.Typing); ok && m.over == nil {
		return m.heard(t.Paste(m.frame(), text))
	}
	return nil
}

func (m *Model) undo() tea.Msg {
	undo := m.toast.Undo
	m.toast = toast{}
	return undo
}

// found are the commands that match the text, and the places that do.
func (m *Model) found(text string) []part.Key {
	all := slices.DeleteFunc(m.keys(), func(k part.Key) bool { return k.Key == ":" })
	place := func(name string, p part.Place) {
		all = append(all, part.Key{Name: name, Do: func() tea.Msg { return m.goTo(p) }})
	}
	e := m.frame().View
	for _, b := range e.Survey.Bands {
		c := b.Cluster.Name
		place("drift of "+c, part.Place{Screen: part.Drift, Cluster: c})
		place("round over "+c, part.Place{Screen: part.Round, Cluster: c})
		place("prechecks of "+c, part.Place{Screen: part.Prechecks, Cluster: c})
		for _, h := range b.Cluster.Hosts {
			place("host "+h, part.Place{Screen: part.Host, Cluster: c, Host: h})
		}
	}
	for _, b := range e.Baselines {
		place("baseline "+b.Name, part.Place{Screen: part.Baselines, Subject: b.Name})
	}
	for _, x := range e.Feeds {
		place("feed "+x.Name, part.Place{Screen: part.Catalogue, Subject: x.Name})
	}
	for _, name := range slices.Sorted(maps.Keys(e.Filters)) {
		all = append(
			all,
			part.Key{
				Name: "narrow to @" + name + ": " + e.Filters[name],
				Do:   func() tea.Msg { return m.setFilter("@" + name) },
			},
		)
	}
	if len(text) > 2 { // there are many: they are looked for by name alone
		m.byName(text, place)
	}
	if text == "" {
		return all
	}
	names := make([]string, len(all))
	for i := range all {
		names[i] = all[i].Name
		if words := also[all[i].Key]; words != "" {
			names[i] += " (" + words + ")"
		}
	}
	var out []part.Key
	for _, match := range fuzzy.Find(text, names) {
		out = append(out, all[match.Index])
	}
	return out
}

// also are other words by which people look for what a key does.
var also = map[string]string{
	"d": "report, differences, status, compliance", "p": "schedule, update, upgrade, patch, maintenance", "r": "history, progress, journal, log",
	"c": "releases, updates, firmware, drivers, packages, feeds", "b": "policy, desired state, rules", "a": "prechecks, health, readiness",
	"m": "maintenance, drain, evacuate, reboot, close, open", "e": "report, save, print", "/": "filter, search", "R": "refresh, scan, rescan",
	"D": "derive, golden host", "W": "exception, accept, ignore", "T": "schedule, maintenance window", "s": "run, execute, begin",
	"x": "cancel, abort", "g": "continue", "i": "upload, bundle", "y": "canary, pilot", "t": "theme, dark, light", "=": "difference, history",
}

// byName finds components and guests whose names hold the text.
func (m *Model) byName(text string, place func(string, part.Place)) {
	e := m.frame().View
	text = strings.ToLower(text)
	seen := map[estate.Key]bool{}
	for _, h := range e.Hosts("") {
		r := e.Readings[h]
		if r == nil {
			continue
		}
		for _, c := range r.Components {
			if !seen[c.Key] && strings.Contains(strings.ToLower(string(c.Key)), text) {
				seen[c.Key] = true
				place("component "+string(c.Key), part.Place{Screen: part.Catalogue, Component: c.Key})
			}
		}
		for _, g := range r.Guests {
			if strings.Contains(strings.ToLower(g.Name), text) {
				place("guest "+g.Name+" on "+h, part.Place{Screen: part.Host, Cluster: e.ClusterOf(h), Host: h})
			}
		}
	}
}

// understand reads a filter's text, with the kept ones.
func (m *Model) understand(text string) (narrow.Filter, error) {
	return narrow.ParseWith(text, m.frame().View.Filters)
}

func (m *Model) askFilterName() tea.Msg {
	kept := m.frame().View.Filters
	if m.filter == "" && len(kept) == 0 {
		return part.Tell("nothing is narrowed; / narrows first")
	}
	return part.Ask{Label: "keep as @", Hint: "Enter keeps it, -NAME forgets one, Esc leaves", Then: m.keepFilter}
}

// keepFilter keeps the filter under a name; from then on @NAME means it. A minus before the name forgets it. Both can
// be taken back.
func (m *Model) keepFilter(name string) tea.Msg {
	text, kept := m.narrow.String(), m.frame().View.Filters
	set := func(name, text, says string) (string, error) { return says, m.app.KeepFilter(m.ctx, name, text) }
	done := func(name, to, says string) tea.Msg {
		was := kept[name]
		return func() tea.Msg {
			if _, err := set(name, to, ""); err != nil {
				return part.Failed{Err: err}
			}
			return part.Reload{
				Say: part.Say{
					Text: says,
					Undo: part.Try(func() (string, error) { return set(name, was, "@"+name+" is as it was before") }),
				},
			}
		}
	}
	if gone, ok := strings.CutPrefix(name, "-"); ok {
		if _, is := kept[gone]; !is {
			return part.Refuse("no filter is kept as @%s", gone)
		}
		return done(gone, "", "@"+gone+" is forgotten")
	}
	if name == "" || text == "" {
		return part.Refuse("nothing was kept: the name is empty, or nothing is narrowed")
	}
	return done(name, text, "kept as @"+name+": "+text)
}

// exportFormats are what the chooser offers; drawings come first.
var exportFormats = []struct{ key, format, name string }{
	{"s", "svg", "SVG drawing"}, {"p", "pdf", "PDF document"}, {"h", "html", "HTML document"}, {"c", "csv", "CSV table"}, {"j", "json", "JSON"},
	{"t", "text", "text"},
}

// export writes what the screen shows to a file in the working directory.
func (m *Model) export(format string) tea.Msg {
	if faults := m.frame().View.Faults; len(faults) > 0 && m.top().Place().Screen != part.Round {
		return part.Tell("nothing is exported while this can't be read: %s", faults[0])
	}
	d := m.top().Export(m.frame(), format)
	if d == nil {
		return part.Tell("there is nothing to export here")
	}
	d.Estate, d.At = m.frame().View.Survey.Name, m.frame().View.At()
	name := export.FileName(*d, d.At, format)
	return func() tea.Msg {
		var b bytes.Buffer
		err := export.Write(&b, *d, format)
		if err == nil {
			err = export.WriteFile(name, b.Bytes())
		}
		if err != nil {
			return part.Failed{Err: fmt.Errorf("exporting: %w", err)}
		}
		return part.Say{Text: "written: " + name}
	}
}
