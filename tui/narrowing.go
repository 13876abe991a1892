package tui

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/drift"
	"yareharbour/core/narrow"
	"yareharbour/core/survey"
)

// narrowBy understands a filter's text; @NAME stands for a kept one.
func narrowBy(text string, kept map[string]string) (narrow.Filter, error) {
	var words []string
	for _, w := range strings.Fields(text) {
		if name, ok := strings.CutPrefix(w, "@"); ok {
			is, found := kept[name]
			if !found {
				return narrow.Filter{}, fmt.Errorf("no filter is kept as @%s", name)
			}
			w = is
		}
		words = append(words, w)
	}
	return narrow.Parse(strings.Join(words, " "))
}

func (m *Model) keptFilters() []string {
	if m.snap == nil {
		return nil
	}
	return slices.Sorted(maps.Keys(m.snap.Filters))
}

// lets tells whether the filter lets a verdict through.
func (m *Model) lets(v *drift.Verdict) bool {
	return m.narrow.Empty() || m.narrow.Lets(v.Subject(m.snap.Survey.At))
}

// idleOf are the words of a filter that nothing answers to, and what that was found on.
type idleOf struct {
	snap   *Snapshot
	filter string
	words  []string
}

// idleWords says which words of the filter nothing that is judged answers to: a misspelt one hides everything. The catalogue and the baselines hold more than hosts do, and are not spoken of.
func (m *Model) idleWords() string {
	if s := m.here().screen; m.narrow.Empty() || s != waterlineScreen && s != hostScreen && s != driftScreen {
		return ""
	}
	if k := &m.idle; k.snap != m.snap || k.filter != m.narrow.String() {
		var all []narrow.Subject
		for _, b := range m.snap.Survey.Bands {
			for _, h := range b.Cluster.Hosts {
				all = append(all, narrow.Subject{Hosts: []string{h}, Age: -1, Words: []string{b.Cluster.Name}})
				for _, v := range m.snap.Verdicts[h] {
					all = append(all, v.Subject(m.snap.Survey.At))
				}
			}
		}
		m.idle = idleOf{m.snap, m.narrow.String(), m.narrow.Idle(all)}
	}
	if len(m.idle.words) == 0 {
		return ""
	}
	return ", nothing answers to " + strings.Join(m.idle.words, ", ")
}

// letsHost tells whether the filter lets a host through: by its own name or cluster, or by anything out of line on it.
func (m *Model) letsHost(cluster string, b survey.Berth) bool {
	if m.narrow.Empty() || m.narrow.Lets(narrow.Subject{Hosts: []string{b.Host}, Age: -1, Words: []string{cluster, string(b.Service)}}) {
		return true
	}
	vs := m.snap.Verdicts[b.Host]
	return slices.ContainsFunc(vs, func(v drift.Verdict) bool {
		return (v.Outcome.Drifts() || v.Outcome == drift.Unread) && m.lets(&v)
	})
}

func (m *Model) askFilterName() tea.Cmd {
	if m.filter == "" && len(m.keptFilters()) == 0 {
		m.say("nothing is narrowed; / narrows first")
		return nil
	}
	return m.begin(naming, "")
}

// keepFilter keeps the filter under a name; from then on @NAME means it. A minus before the name forgets it.
func (m *Model) keepFilter(name string) tea.Cmd {
	text := m.narrow.String()
	if gone, ok := strings.CutPrefix(name, "-"); ok {
		if !slices.Contains(m.keptFilters(), gone) {
			m.say("no filter is kept as @" + gone)
			return nil
		}
		return m.doAndLoad(func() (string, error) { return "@" + gone + " is forgotten", m.backend.KeepFilter(m.ctx, gone, "") })
	}
	if name == "" || text == "" {
		m.say("nothing was kept: the name is empty, or nothing is narrowed")
		return nil
	}
	return m.do(func() (string, error) {
		return "kept as @" + name + ": " + text, m.backend.KeepFilter(m.ctx, name, text)
	})
}

// otherPane goes to the next of the panes of a screen.
func (m *Model) otherPane() tea.Cmd {
	p := m.here()
	p.row, p.second = p.second, p.row
	p.pane = 1 - p.pane
	return nil
}

func (m *Model) baselines() []Baseline {
	if m.snap == nil {
		return nil
	}
	return m.snap.Baselines
}

// setFilter narrows every view to what the text says. One that can't be understood leaves the narrowing as it was, and says what is wrong.
func (m *Model) setFilter(text string) {
	m.filter, m.wrong = text, ""
	var kept map[string]string
	if m.snap != nil {
		kept = m.snap.Filters
	}
	f, err := narrowBy(text, kept)
	if err != nil {
		m.wrong = err.Error()
		return
	}
	m.narrow = f
}
