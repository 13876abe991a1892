package tui

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
)

// messages of work under way
type (
	jobMsg   string
	jobEnded struct {
		says string
		err  error
		load bool
	}
	openedMsg struct{ *Opened }
)

// ago says how long ago something of this machine was: feeds and bundles are no matter of a simulated estate's clock.
func (m *Model) ago(t time.Time) string { return drift.Age(time.Since(t)) + " ago" }

func (m *Model) toCatalogue() {
	if m.here().screen != catalogueScreen {
		m.goTo(place{screen: catalogueScreen, cluster: m.here().cluster})
	}
}

// begins begins work that takes its time. Only one is under way at once; it can be ended with a key, and the screens stay usable meanwhile.
func (m *Model) begins(title string, do func(ctx context.Context, says func(string)) tea.Msg) tea.Cmd {
	if m.job != nil {
		m.say(m.job.title + " is under way; X ends it")
		return nil
	}
	ctx, cancel := context.WithCancel(m.ctx)
	m.job = &job{title: title, says: "begins", cancel: cancel}
	ch := make(chan tea.Msg, 64)
	go func() {
		defer close(ch)
		defer cancel()
		last := time.Time{}
		msg := do(ctx, func(s string) {
			if time.Since(last) < 60*time.Millisecond || ctx.Err() != nil {
				return
			}
			last = time.Now()
			select {
			case ch <- jobMsg(s):
			default: // the screens are behind; they need not see all of it
			}
		})
		ch <- msg
	}()
	return listen(ch)
}

func (m *Model) endJob() tea.Cmd {
	if m.job == nil {
		m.say("nothing is under way")
		return nil
	}
	m.job.cancel()
	return nil
}

// ended says what came of the work.
func (m *Model) ended(msg jobEnded) tea.Cmd {
	title := ""
	if m.job != nil {
		title = m.job.title
	}
	m.job = nil
	switch {
	case errors.Is(msg.err, context.Canceled):
		m.say(title + " was ended; what there was before stays")
	case msg.err != nil:
		m.say("failed: " + msg.err.Error())
	default:
		m.say(msg.says)
	}
	if msg.load {
		m.listed = listOf{all: m.listed.all}
		return m.load()
	}
	return nil
}

// chosenFeed is the feed under the cursor; "" where the cursor is on none.
func (m *Model) chosenFeed() string {
	p := m.here()
	rows := m.shelfRows()
	i := p.row
	if p.pane == 0 {
		i = p.second
	}
	return rows[clamp(i, len(rows))].feed
}

func (m *Model) chosenBundle() string {
	p := m.here()
	rows := m.shelfRows()
	if p.pane == 0 {
		return ""
	}
	return rows[clamp(p.row, len(rows))].bundle
}

func (m *Model) syncOne() tea.Cmd {
	f := m.chosenFeed()
	if m.here().pane == 0 || f == "" {
		m.say("Tab goes to the feeds; s syncs the one under the cursor, S all of them")
		return nil
	}
	return m.syncFeeds([]string{f})
}

func (m *Model) syncAll() tea.Cmd {
	var names []string
	for _, f := range m.snap.Feeds {
		if !f.Schedule.Off {
			names = append(names, f.Name)
		}
	}
	if len(names) == 0 {
		m.say("there is no feed that is not switched off")
		return nil
	}
	return m.syncFeeds(names)
}

func (m *Model) syncFeeds(names []string) tea.Cmd {
	return m.begins("syncing", func(ctx context.Context, says func(string)) tea.Msg {
		text, err := m.backend.Sync(ctx, names, says)
		return jobEnded{text, err, true}
	})
}

// wantDue syncs feeds whose time has come, a minute after the last look at most.
func (m *Model) wantDue() tea.Cmd {
	if m.snap == nil || m.job != nil || time.Since(m.due) < time.Minute {
		return nil
	}
	m.due = time.Now()
	for _, f := range m.snap.Feeds {
		if f.Schedule.Due(f.Synced, m.due) && m.due.Sub(f.Tried) > 10*time.Minute {
			return m.syncFeeds(nil)
		}
	}
	return nil
}

func (m *Model) showAll() tea.Cmd {
	m.listed = listOf{all: !m.listed.all}
	m.here().row = 0
	if m.listed.all {
		m.say("what no host has, or no feed, is shown too")
	}
	return nil
}

func (m *Model) askSchedule() tea.Cmd {
	f := m.chosenFeed()
	if m.here().pane == 0 || f == "" {
		m.say("Tab goes to the feeds; o says when the one under the cursor is synced")
		return nil
	}
	for _, s := range m.snap.Feeds {
		if s.Name == f {
			return m.begin(scheduling, s.Schedule.String())
		}
	}
	return nil
}

func (m *Model) schedule(text string) tea.Cmd {
	f := m.chosenFeed()
	return m.doAndLoad(func() (string, error) {
		return f + " is synced " + text + " from now on", m.backend.Schedule(m.ctx, f, text)
	})
}

// doAndLoad does something and looks at the estate anew.
func (m *Model) doAndLoad(doing func() (string, error)) tea.Cmd {
	return func() tea.Msg {
		text, err := doing()
		return jobEnded{text, err, true}
	}
}

func (m *Model) askBundle() tea.Cmd { return m.begin(opening, "") }

func (m *Model) openBundle(file string) tea.Cmd {
	if file == "" {
		return nil
	}
	file, keyring, _ := strings.Cut(file, " keyring=")
	return m.begins("opening "+file, func(ctx context.Context, says func(string)) tea.Msg {
		o, err := m.backend.OpenBundle(ctx, strings.TrimSpace(file), strings.TrimSpace(keyring), says)
		if err != nil {
			return jobEnded{err: err}
		}
		return openedMsg{o}
	})
}

func (m *Model) acceptBundle() tea.Cmd {
	o := m.opened
	if o == nil {
		return nil
	}
	return m.begins("taking in "+o.Name, func(ctx context.Context, says func(string)) tea.Msg {
		if err := m.backend.Accept(ctx, o, says); err != nil {
			return jobEnded{err: err}
		}
		return takenMsg{o.Name}
	})
}

// takenMsg says that a bundle was taken in.
type takenMsg struct{ name string }

func (m *Model) taken(msg takenMsg) tea.Cmd {
	m.opened = nil
	if m.here().screen == bundleScreen {
		m.pop()
	}
	return m.ended(jobEnded{says: msg.name + " was taken in", load: true})
}

// leaveBundle lets go of what was unpacked.
func (m *Model) leaveBundle() {
	if m.opened != nil {
		if err := m.opened.Close(); err != nil {
			m.say(err.Error())
		} else {
			m.say("nothing of it was taken in")
		}
		m.opened = nil
	}
	m.pop()
}

func (m *Model) askRemove() tea.Cmd {
	id := m.chosenBundle()
	for _, b := range m.snap.Bundles {
		if b.ID == id && id != "" {
			m.ask = &question{text: []string{"Take " + b.Name + " out of the catalogue again?", fmt.Sprintf("It brought %s and %s.", catalogue.Some(b.Releases, "release"), catalogue.Some(b.Advises, "advisory")),
				"Its payloads stay until they are pruned."},
				yes: m.doAndLoad(func() (string, error) {
					return b.Name + " is no longer in the catalogue", m.backend.RemoveBundle(m.ctx, id)
				})}
			return nil
		}
	}
	m.say("Tab goes to the bundles; u takes out the one under the cursor")
	return nil
}

func (m *Model) fetchPayloads() tea.Cmd {
	return m.begins("fetching payloads", func(ctx context.Context, says func(string)) tea.Msg {
		text, err := m.backend.Fetch(ctx, says)
		return jobEnded{text, err, true}
	})
}

func (m *Model) verifyPayloads() tea.Cmd {
	return m.begins("verifying payloads", func(ctx context.Context, says func(string)) tea.Msg {
		text, err := m.backend.Verify(ctx, says)
		return jobEnded{text, err, true}
	})
}

// doomedMsg are the payloads that would go by a rule.
type doomedMsg struct {
	rule   string
	doomed []catalogue.Doomed
}

func (m *Model) prunePayloads(rule string) tea.Cmd {
	return func() tea.Msg {
		d, err := m.backend.Prune(m.ctx, rule, false)
		if err != nil {
			return jobEnded{err: err}
		}
		return doomedMsg{rule, d}
	}
}

func (m *Model) listPayloads() tea.Cmd {
	return func() tea.Msg {
		lines, err := m.backend.Kept(m.ctx)
		if err != nil {
			return jobEnded{err: err}
		}
		if len(lines) == 0 {
			lines = []string{"there are none; f fetches what hosts want, and bundles bring theirs"}
		}
		return sheet{"Payloads", lines}
	}
}

func (m *Model) askPrune(msg doomedMsg) {
	d := msg.doomed
	if len(d) == 0 {
		m.say("there is nothing to prune by this rule")
		return
	}
	var size int64
	lines := []string{fmt.Sprintf("Remove %s that nobody wants?", catalogue.Some(len(d), "payload"))}
	for i, x := range d {
		size += x.Size
		if i < 6 {
			lines = append(lines, fmt.Sprintf("%.12s  %s  %s", x.SHA256, catalogue.Bytes(x.Size), x.Why))
		}
	}
	m.ask = &question{text: append(lines, catalogue.Bytes(size)+" in all"), yes: m.doAndLoad(func() (string, error) {
		gone, err := m.backend.Prune(m.ctx, msg.rule, true)
		return catalogue.Some(len(gone), "payload") + " removed", err
	})}
}

// pasted puts what was pasted where text is typed.
func (m *Model) pasted(msg tea.PasteMsg) tea.Cmd {
	if m.mode != noInput && m.mode != exporting {
		text := strings.ReplaceAll(msg.Content, "\n", " ")
		m.input.SetValue(m.input.Value() + text)
		m.input.CursorEnd()
		if m.mode == filtering {
			m.setFilter(m.input.Value())
		}
		return nil
	}
	if m.editor != nil && m.here().screen == editScreen {
		m.editor.text.InsertString(msg.Content)
		return m.typedInEditor()
	}
	return nil
}
