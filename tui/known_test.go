package tui

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// Everything that was read of a host can be looked at, whether a clause speaks of it or not, and what is only last known says so.
func TestTheHostScreenShowsAllThatWasRead(t *testing.T) {
	s := snapshot(1, 3)
	r := s.Readings["c0h001"]
	r.Build = "image 41"
	r.Components = append(r.Components, estate.Component{Key: "deb:lone", Version: "7.7"}, estate.Component{Key: "fw:odd", Unread: "it is silent", Last: "3.1", Class: "disk"})
	r.Health = []estate.Health{{Item: "fan 1", OK: true}, {Item: "disk 2", Detail: "few spare blocks"}}
	r.SetSection(estate.Section{Name: estate.FirmwareItems, At: now, Source: "SSH", Partial: "the BMC: no answer"})
	r.SetSection(estate.Section{Name: estate.GuestList, At: now, Source: "SSH", Err: "libvirt hangs", Held: now.Add(-2 * time.Hour), HeldFrom: "SSH, libvirt"})
	m := model(t, &fake{snap: s}, 160, 48)
	m.goTo(place{screen: hostScreen, host: "c0h001"})
	shows(t, m, "image 41", "no baseline speaks of", "deb:lone", "7.7", "fw:odd", "last 3.1", "firmware is not all read: the BMC: no answer", "guests is unread: libvirt hangs; last known 2 h ago from SSH,", "guests, as last known", "last known: 1 guests",
		"! disk 2: few spare blocks", "1 of 2 items are well: fan 1")
	for i, row := range m.hostRows("c0h001") {
		if row.Component == "fw:odd" {
			m.here().row = i
		}
	}
	shows(t, m, "fw:odd: nothing is wanted of it", "unread: it is silent; last known 3.1", "clause of any baseline speaks of it.")
	m.narrow = mustNarrow(t, "class=disk")
	if rows := m.hostRows("c0h001"); len(rows) != 1 || rows[0].Component != "fw:odd" {
		t.Errorf("%+v", rows)
	}
	m.narrow = mustNarrow(t, "verdict=behind")
	for _, row := range m.hostRows("c0h001") {
		if row.unbound {
			t.Errorf("what has no verdict is let through by one: %s", row.Title())
		}
	}
}

func mustNarrow(t *testing.T, text string) narrow.Filter {
	t.Helper()
	f, err := narrow.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// An empty matrix says why it is empty: only where something was judged and all of it is in line is that good.
func TestAnEmptyMatrixSaysWhy(t *testing.T) {
	empty := func(change func(*Snapshot), filter string) string {
		s := snapshot(1, 3)
		change(s)
		m := model(t, &fake{snap: s}, 120, 40)
		m.goTo(place{screen: driftScreen, cluster: "c0"})
		if filter != "" {
			m.filter, m.narrow = filter, mustNarrow(t, filter)
		}
		return m.View().Content
	}
	for _, c := range []struct {
		change func(*Snapshot)
		filter string
		says   string
	}{
		{func(s *Snapshot) { clear(s.Verdicts) }, "", "nothing is known to be in line"},
		{func(*Snapshot) {}, "nowhere-at-all", "verdicts that are not in line are hidden"},
		{func(s *Snapshot) {
			for h, vs := range s.Verdicts {
				for i := range vs {
					s.Verdicts[h][i].Outcome = 0
				}
			}
		}, "", ""},
	} {
		got := empty(c.change, c.filter)
		if c.says != "" && (!strings.Contains(got, c.says) || strings.Contains(got, "nothing disagrees")) {
			t.Errorf("want %q:\n%s", c.says, got)
		}
	}
}

// Names in a baseline that are not there are told while it is written.
func TestTheEditorTellsNamesThatAreNotThere(t *testing.T) {
	m := model(t, &fake{snap: snapshot(1, 3)}, 160, 45)
	press(m, "b")
	press(m, "enter")
	type1(m, "misspelt")
	shows(t, m, "line 3: there is no host misspelt", "not saved as long as this stands")
	m.editor.amiss = []baseline.Problem{{Text: "fw:new is in no feed"}}
	shows(t, m, "note: fw:new is in no feed")
}

// A word of a filter that nothing answers to is told, and so is what of a feed could not be read.
func TestWordsAndEntriesThatAreLeftOutAreTold(t *testing.T) {
	s := snapshot(1, 3)
	s.Feeds[0].Aside = []string{"osv/7.json: it has no id", "osv/8.json: it is cut short"}
	m := model(t, &fake{snap: s}, 160, 45)
	m.filter, m.narrow = "nic hardware=nowhere", mustNarrow(t, "nic hardware=nowhere")
	shows(t, m, "nothing answers to hardware=nowhere")
	m.filter, m.narrow = "nic", mustNarrow(t, "nic")
	if strings.Contains(m.View().Content, "nothing answers") {
		t.Error("a word that is answered to is told as one that is not")
	}
	press(m, "esc")
	press(m, "c")
	shows(t, m, "2 set aside, osv/7.json: it has no id")
}
