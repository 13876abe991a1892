package tui

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/feed"
)

// ctrl presses a key with Ctrl held.
func ctrl(m *Model, k rune) {
	_, cmd := m.Update(tea.KeyPressMsg{Code: k, Mod: tea.ModCtrl})
	settle(m, cmd)
}

func type1(m *Model, text string) {
	for _, r := range text {
		_, cmd := m.Update(tea.KeyPressMsg{Text: string(r), Code: r})
		settle(m, cmd)
	}
}

func shows(t *testing.T, m *Model, what ...string) {
	t.Helper()
	got := text(m)
	for _, w := range what {
		if !strings.Contains(got, w) {
			t.Errorf("%q is not shown:\n%s", w, got)
		}
	}
}

func last(f *fake) string {
	if len(f.calls) == 0 {
		return ""
	}
	return f.calls[len(f.calls)-1]
}

func TestTheCatalogueShowsLaddersWithWhoStandsThere(t *testing.T) {
	m := model(t, &fake{snap: snapshot(1, 4)}, 160, 45)
	press(m, "c", "down")
	shows(t, m, "fw:nic", "▴", "◂", "c0h001, c0h002", "in no feed", "critical", "mirror", "never synced", "q4.zip", "payload store")
	if m.chosenComponent() != "fw:nic" {
		t.Errorf("the cursor is on %s", m.chosenComponent())
	}
}

func TestFeedsAreSyncedAndScheduledFromTheCatalogue(t *testing.T) {
	f := &fake{snap: snapshot(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "c", "s")
	if last(f) != "" {
		t.Errorf("synced without a feed under the cursor: %v", f.calls)
	}
	press(m, "tab", "s")
	if last(f) != "sync mirror" || m.job != nil {
		t.Errorf("%v, job %v", f.calls, m.job)
	}
	shows(t, m, "synced")
	press(m, "S")
	if last(f) != "sync mirror" { // the other is switched off
		t.Errorf("%v", f.calls)
	}
	press(m, "o")
	shows(t, m, "sync mirror: on demand")
	for range "on demand" {
		press(m, "backspace")
	}
	type1(m, "every 6h")
	press(m, "enter")
	if last(f) != "schedule mirror every 6h" {
		t.Errorf("%v", f.calls)
	}
	f.err = errors.New("nobody listens there")
	press(m, "s")
	shows(t, m, "failed: nobody listens there")
}

func TestScheduledFeedsAreSyncedByThemselves(t *testing.T) {
	f := &fake{snap: snapshot(1, 4)}
	f.snap.Feeds = append(f.snap.Feeds, feed.State{Feed: feed.Feed{Name: "hourly"}, Schedule: feed.Schedule{Every: time.Hour}})
	m := model(t, f, 160, 45)
	m.due = time.Time{}
	settle(m, m.wantDue())
	if !slices.Contains(f.calls, "sync ") {
		t.Errorf("%v", f.calls)
	}
	n := len(f.calls)
	settle(m, m.wantDue())
	if len(f.calls) != n {
		t.Error("looked at again at once")
	}
}

func TestABundleIsShownBeforeItIsTakenIn(t *testing.T) {
	f := &fake{snap: snapshot(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "c", "i")
	type1(m, "q4.zip")
	press(m, "enter")
	press(m, "e", "c")
	if last(f) != "write bundle q4.zip csv" {
		t.Errorf("%v", f.calls)
	}
	shows(t, m, "Bundle", "a/releases.yaml", "release list", "fw:nic 3", "1 new here", "no checksums of its own")
	press(m, "esc")
	if slices.Contains(f.calls, "accept q4.zip") || m.opened != nil || m.here().screen != catalogueScreen {
		t.Errorf("left, and yet %v", f.calls)
	}
	press(m, "i")
	type1(m, "q4.zip keyring=ulva.gpg")
	press(m, "enter")
	if last(f) != "open q4.zip ulva.gpg" {
		t.Errorf("%v", f.calls)
	}
	press(m, "a")
	if last(f) != "accept q4.zip" || m.here().screen != catalogueScreen {
		t.Errorf("%v on %s", f.calls, m.here().screen)
	}
	shows(t, m, "was taken in")
	press(m, "tab", "down", "down", "u")
	shows(t, m, "Take q4.zip out of the catalogue again?")
	press(m, "n")
	if slices.Contains(f.calls, "remove feedbeef") {
		t.Error("removed without a yes")
	}
	press(m, "u", "y")
	if last(f) != "remove feedbeef" {
		t.Errorf("%v", f.calls)
	}
}

func TestPayloadsArePrunedOnlyAfterAYes(t *testing.T) {
	f := &fake{snap: snapshot(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "c", "f", "v", "p")
	shows(t, m, "prune by: unknown older=90")
	press(m, "enter")
	shows(t, m, "no release names it")
	press(m, "x", "p")
	type1(m, " damaged")
	press(m, "enter", "y", "l")
	if got := strings.Join(f.calls, ";"); got != "fetch;verify;prune unknown older=90 false;prune unknown older=90 damaged false;prune unknown older=90 damaged true;kept" {
		t.Error(got)
	}
	shows(t, m, "Payloads", "ab  5 B  fw:nic 2")
	press(m, "x")
	if strings.Contains(text(m), "ab  5 B") {
		t.Error("the list does not go away")
	}
}

func TestABaselineIsEditedWithItsEffectTold(t *testing.T) {
	f := &fake{snap: snapshot(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "b")
	shows(t, m, "fw:nic", "if present the newest", "out of line by it", "versions", "first")
	press(m, "enter")
	shows(t, m, "baseline: b", "unchanged", "hosts would fall out of line")
	type1(m, "# x")
	shows(t, m, "# xbaseline: b", "changed, not saved")
	press(m, "esc")
	shows(t, m, "Leave without saving?")
	press(m, "n")
	type1(m, "broken")
	shows(t, m, "it can't be read yet", "b.yaml:1:1: it is broken")
	ctrl(m, 's')
	if m.mode == saving {
		t.Error("a text that can't be read may be saved")
	}
	for range "broken" {
		press(m, "backspace")
	}
	ctrl(m, 's')
	press(m, "enter")
	if last(f) == "save b after 2: " || m.editor == nil {
		t.Errorf("saved without a reason: %v", f.calls)
	}
	ctrl(m, 's')
	type1(m, "why not")
	f.err = errors.New("somebody else has changed it meanwhile")
	press(m, "enter")
	shows(t, m, "not saved: somebody else")
	if m.editor == nil {
		t.Fatal("what was typed is lost")
	}
	f.err = nil
	ctrl(m, 's')
	type1(m, "why not")
	press(m, "enter")
	if last(f) != "save b after 2: why not" || m.here().screen != baselineScreen || m.editor != nil {
		t.Errorf("%v on %s", f.calls, m.here().screen)
	}
}

func TestRevertAndDeriveOpenTheEditorFirst(t *testing.T) {
	f := &fake{snap: snapshot(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "b", "tab")
	shows(t, m, "~ deb:k: 1 → 2")
	press(m, "down", "=")
	shows(t, m, "compare version 1 with: 2")
	press(m, "enter")
	shows(t, m, "b, version 1 to 2", "~ deb:k: 1 → 2")
	press(m, "x", "u")
	shows(t, m, "old", "changed, not saved")
	ctrl(m, 's')
	shows(t, m, "back to version 1")
	press(m, "enter")
	if last(f) != "save b after 2: back to version 1" {
		t.Errorf("%v", f.calls)
	}
	press(m, "x", "n", "x", "y")
	if last(f) != "remove baseline b" {
		t.Errorf("%v", f.calls)
	}
	press(m, "D")
	type1(m, "c0h000")
	press(m, "enter")
	shows(t, m, "baseline: like-c0h000", "from version 0")
	press(m, "esc", "y")
	if m.here().screen != baselineScreen {
		t.Errorf("on %s", m.here().screen)
	}
}

func TestDriftOverTimeAndWhatIsNew(t *testing.T) {
	f := &fake{snap: snapshot(2, 4)}
	m := model(t, f, 160, 45)
	press(m, "d")
	shows(t, m, "• 2 new since op looked", "• ")
	press(m, "tab")
	shows(t, m, "out of line, by layer", "firmware 4", "2 of 3 hosts adrift", "new since")
	press(m, "m")
	if last(f) != "looked c0" {
		t.Errorf("%v", f.calls)
	}
	press(m, "e", "p")
	if last(f) != "write trend c0 pdf" {
		t.Errorf("%v", f.calls)
	}
}

func TestComparingReadings(t *testing.T) {
	f := &fake{snap: snapshot(1, 4)}
	m := model(t, f, 160, 45)
	press(m, "enter", "=")
	shows(t, m, "compare with: c0h000@7d")
	press(m, "enter")
	shows(t, m, "fw:nic", "not compared, since one of the two lacks it: health")
	if last(f) != "compare c0h000@7d c0h000" {
		t.Errorf("%v", f.calls)
	}
}

// One filter narrows every view alike, is understood the same, and can be kept.
func TestNarrowingIsTheSameEverywhere(t *testing.T) {
	f := &fake{snap: snapshot(2, 4)}
	m := model(t, f, 160, 45)
	press(m, "/")
	type1(m, "kind=fw")
	press(m, "enter", "d")
	if got := text(m); strings.Contains(got, "deb:k") || !strings.Contains(got, "fw:nic") {
		t.Errorf("Drift:\n%s", got)
	}
	press(m, "enter")
	if rows := m.hostRows("c0h000"); len(rows) == 0 || rows[0].Component != "fw:nic" || slices.ContainsFunc(rows, func(r hostRow) bool { return r.Component != "fw:nic" }) {
		t.Errorf("Host: %v", rows)
	}
	press(m, "c")
	if rows := m.components(); len(rows) != 1 || rows[0].Component != "fw:nic" {
		t.Errorf("Catalogue: %v", rows)
	}
	press(m, "b")
	shows(t, m, "the filter keeps back 1 clause")
	press(m, "K")
	type1(m, "adapters")
	press(m, "enter")
	if last(f) != "keep @adapters kind=fw" {
		t.Errorf("%v", f.calls)
	}
	press(m, "K")
	type1(m, "-urgent")
	press(m, "enter")
	if last(f) != "keep @urgent" && last(f) != "keep @urgent " {
		t.Errorf("%v", f.calls)
	}
	press(m, "/")
	for range "kind=fw" {
		press(m, "backspace")
	}
	type1(m, "@urgent")
	press(m, "enter")
	if m.narrow.String() != "severity=critical" {
		t.Errorf("@urgent means %q", m.narrow.String())
	}
	press(m, "/")
	type1(m, " colour=red")
	shows(t, m, `no field "colour"`)
	press(m, "enter")
	if m.mode != filtering {
		t.Error("a filter that can't be understood was kept")
	}
	press(m, "esc", "e", "c")
	if last(f) != "write baselines b csv" {
		t.Errorf("%v", f.calls)
	}
}

// BenchmarkCatalogueFrame is a frame of the Catalogue of a large estate.
func BenchmarkCatalogueFrame1000Hosts(b *testing.B) {
	m := model(b, &fake{snap: snapshot(10, 100)}, 160, 45)
	m.stack = []place{{screen: catalogueScreen}}
	for b.Loop() {
		m.View()
	}
}
