package tui

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/mattn/go-runewidth"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/view"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

// ways are keys that lead to every screen, pane and overlay.
var ways = [][]string{
	{},
	{"tab"},
	{"enter"},
	{"d"},
	{"r"},
	{"?"},
	{":"},
	{"e"},
	{"/", "h", "enter"},
	{"c"},
	{"c", "tab"},
	{"c", "a"},
	{"c", "i", "x", "enter"},
	{"b"},
	{"b", "tab"},
	{"b", "enter"},
	{"d", "tab"},
	{"enter", "=", "enter"},
	{"c", "?"},
	{"b", "?"},
	{"enter", "down", "space"},
	{"p", "s"},
	{"p", "down", "+", "o", "y"},
	{"x"},
}

// answers are what checks found on a host: one of each kind.
func answers(host string) []precheck.Answer {
	at := now.Add(-time.Minute)
	w := precheck.Waiver{ID: "W1", By: "op", Reason: "ordered", Until: now.Add(time.Hour)}
	return []precheck.Answer{
		{Check: "reachable", Host: host, Level: precheck.Clear, Evidence: "read 1 min ago", At: at,
			Until: at.Add(time.Hour)},
		{Check: "bmc", Host: host, Level: precheck.Blocker, Evidence: "the BMC is unread: no route",
			Remedy: "see that the BMC answers", Unknown: true, At: at,
			Never: "what waits there runs at the restart, and a host whose power can't be told is not restarted"},
		{Check: "together", Host: host, Level: precheck.Blocker, Evidence: "L25 is on no line",
			Remedy: "ask its publisher for a newer list"},
		{Check: "restart", Host: host, Level: precheck.Caution, Evidence: "deb:k 2 is installed and 1 runs",
			Remedy: "the round's restart will settle it"},
		{Check: "health", Host: host, Level: precheck.Caution, Evidence: "a fan of " + host,
			Remedy: "mend it first", Waived: &w},
	}
}

// aPlan is one with all that a plan can hold.
func aPlan() *plan.Plan {
	return &plan.Plan{
		Brief: plan.Brief{Cluster: "c0"},
		Made:  now,
		Load:  0.3,
		Visits: []plan.Visit{{Host: "c0h000", Obstacle: strings.Repeat("in the way ", 30), WayOut: "leave it out",
			Answers: answers("c0h000")},
			{
				Host:    "c0h003",
				Answers: answers("c0h003"),
				Empties: true,
				Load:    0.4,
				Limit:   0.6,
				Steps: []plan.Stretch{{Step: act.DrainStep, Middle: time.Hour},
					{Step: act.RestartStep, Middle: time.Hour}},
			}},
		Aside: []plan.Aside{{Host: "c0h001", Why: "in line", InLine: true}},
	}
}

func TestEveryScreenFitsEverySize(t *testing.T) {
	for _, size := range [][2]int{{20, 6}, {40, 12}, {80, 24}, {120, 30}, {160, 45}, {250, 80}} {
		for _, keys := range ways {
			m := model(t, &fake{snap: parttest.Estate(3, 9), plan: aPlan()}, size[0], size[1])
			press(m, keys...)
			rows := strings.Split(text(m), "\n")
			if len(rows) != size[1] {
				t.Errorf("%v %v: %d rows", size, keys, len(rows))
			}
			for _, r := range rows {
				if n := runewidth.StringWidth(r); n > size[0] {
					t.Errorf("%v %v: a row of %d cells: %q", size, keys, n, r)
				}
			}
		}
	}
}

// Painting has no effect: whatever is shown, it is shown the same again, and what is shown next is what it would have
// been.
func TestPaintingChangesNothing(t *testing.T) {
	for _, keys := range ways {
		seen := model(t, &fake{snap: parttest.Estate(2, 7), plan: aPlan()}, 120, 40)
		unseen := model(t, &fake{snap: parttest.Estate(2, 7), plan: aPlan()}, 120, 40)
		for _, k := range append(append([]string{}, keys...), "down", "right") {
			before := text(seen)
			if again := text(seen); again != before {
				t.Fatalf("%v: painted twice, it is not the same:\n%s\n%s", keys, before, again)
			}
			press(seen, k)
			press(unseen, k)
		}
		if a, b := text(seen), text(unseen); a != b {
			t.Errorf("%v: to have been painted makes a difference:\n%s\n%s", keys, a, b)
		}
	}
}

// Without any colour every state must still be told: by its shape or its word.
func TestStatesAreToldWithoutColour(t *testing.T) {
	seen := map[string]drift.Outcome{}
	for _, o := range drift.Outcomes {
		g := part.Signs[o].Glyph
		if other, twice := seen[g]; twice {
			t.Errorf("%v and %v have one sign, %q", o, other, g)
		}
		if runewidth.StringWidth(g) != 1 {
			t.Errorf("the sign of %v is %d cells wide", o, runewidth.StringWidth(g))
		}
		seen[g] = o
	}
	steps := map[string]bool{}
	for _, s := range []act.Step{act.DrainStep, act.ChangeStep, act.RestartStep, act.ProveStep} {
		if steps[part.Steps[s].Glyph] {
			t.Errorf("%s looks like another step", s)
		}
		steps[part.Steps[s].Glyph] = true
	}
}

func TestEveryKeyIsExplained(t *testing.T) {
	for _, way := range ways {
		m := model(t, &fake{snap: parttest.Estate(1, 3), plan: aPlan()}, 120, 72)
		press(m, way...)
		if m.over != nil {
			continue
		}
		m.over = &help{}
		got := strings.Join(strings.Fields(strings.ReplaceAll(text(m), "\n", " ")), " ")
		for _, k := range m.keys() {
			if !strings.Contains(got, strings.Join(strings.Fields(k.Name), " ")) {
				t.Errorf("the help of %s does not explain %q (%s):\n%s", on(m), k.Key, k.Name, got)
			}
		}
		keys := map[string]string{}
		for _, k := range m.keys() {
			if other, twice := keys[k.Key]; twice {
				t.Errorf("on %s the key %s is for %q and for %q", on(m), k.Key, other, k.Name)
			}
			keys[k.Key] = k.Name
		}
	}
}

// The bottom line offers what can be done now, and nothing else; a newcomer finds Enter, ? and : first.
func TestTheBottomLineOffersWhatCanBeDoneNow(t *testing.T) {
	f := &fake{
		snap: parttest.Estate(1, 3),
		plan: &plan.Plan{Brief: plan.Brief{Cluster: "c0"}, Visits: []plan.Visit{{Host: "c0h000"}}},
	}
	m := model(t, f, 160, 45)
	bottom := func() string { rows := strings.Split(text(m), "\n"); return rows[len(rows)-1] }
	if got := bottom(); !strings.HasPrefix(got, " ⏎ go in  ? help  : find") {
		t.Errorf("%q", got)
	}
	press(m, "p")
	if got := bottom(); !strings.Contains(got, "s start") || strings.Contains(got, "pause") ||
		strings.Contains(got, "resume") {
		t.Errorf("with a plan: %q", got)
	}
	press(m, "U")
	shows(t, m, "nothing was changed about this plan")
	if !strings.Contains(bottom(), "s start") {
		t.Errorf("what was said takes the keys away: %q", bottom())
	}
	f.snap = parttest.Estate(1, 3)
	f.snap.Rounds["c0"] = view.Round{
		ID:    "01",
		Runs:  true,
		State: &course.State{Status: course.Running, Visits: []course.Visit{{Visit: plan.Visit{Host: "c0h000"}}}},
	}
	settle(m, m.load(false))
	press(m, "r")
	if got := bottom(); strings.Contains(got, "start") || !strings.Contains(got, "P pause") ||
		!strings.Contains(got, "x stop") {
		t.Errorf("while it runs: %q", got)
	}
	f.snap = parttest.Estate(1, 3)
	f.snap.Rounds["c0"] = view.Round{
		ID:    "01",
		State: &course.State{Status: course.Finished, Visits: []course.Visit{{Visit: plan.Visit{Host: "c0h000"}}}},
	}
	settle(m, m.load(false))
	if got := bottom(); strings.Contains(got, "start") || strings.Contains(got, "pause") ||
		!strings.Contains(got, "p plan") {
		t.Errorf("after its end: %q", got)
	}
}

func TestErrorsAreShownAndNothingIsLost(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(1, 3)}, 100, 30)
	settle(m, m.heard(loadedMsg{err: errors.New("the disk is full")}))
	shows(t, m, "the disk is full", "c0h001")
	m = model(t, &fake{err: errors.New("no such file")}, 80, 24)
	shows(t, m, "The estate can't be opened.", "no such file")
	empty := parttest.Estate(0, 0)
	m = model(t, &fake{snap: empty}, 80, 24)
	shows(t, m, "There is no cluster in this estate yet.")
	for _, way := range ways { // no key falls over where there is nothing
		press(model(t, &fake{snap: empty, err: nil}, 80, 24), way...)
	}
}

// What is shown of a host under a hostile name is that name made harmless, on every screen.
func TestHostileNamesOnEveryScreen(t *testing.T) {
	const evil = "av\x1b[2J\u202eo\x00cet\n<b>"
	for _, keys := range ways {
		s := parttest.Estate(1, 3)
		b := &s.Survey.Bands[0]
		b.Cluster.Hosts[0], b.Berths[0].Host = evil, evil
		s.Readings[evil] = s.Readings["c0h000"]
		s.Readings[evil].Host = evil
		s.Readings[evil].Guests[0].Name = strings.Repeat("long", 80)
		vs := s.Verdicts["c0h000"]
		for i := range vs {
			vs[i].Host, vs[i].Device = evil, evil
		}
		s.Verdicts[evil] = vs
		m := model(t, &fake{snap: s, plan: aPlan()}, 120, 40)
		press(m, keys...)
		raw := m.View().Content
		for _, bad := range []string{"\x1b[2J", "\u202e", "\x00"} {
			if strings.Contains(raw, bad) {
				t.Errorf("%v: %q reaches the terminal", keys, bad)
			}
		}
		for _, r := range strings.Split(text(m), "\n") {
			if n := runewidth.StringWidth(r); n > 120 {
				t.Errorf("%v: a row of %d cells", keys, n)
			}
		}
	}
}

// The mouse: what can be chosen answers to a click, and a click on what is chosen goes in; the wheel scrolls what is
// under it; headings sort; keys that are shown can be pressed.
func TestTheMouse(t *testing.T) {
	f := &fake{snap: parttest.Estate(1, 4)}
	m := model(t, f, 160, 45)
	click(t, m, "c0h002")
	if on(m) != part.Waterline || m.top().Place().Host != "c0h002" {
		t.Errorf("on %+v", m.top().Place())
	}
	click(t, m, "c0h002")
	if on(m) != part.Host {
		t.Errorf("a click on what is chosen does not go in: on %s", on(m))
	}
	click(t, m, "c catalogue")
	if on(m) != part.Catalogue {
		t.Fatalf("a key that is shown can't be pressed: on %s", on(m))
	}
	first := func() string { return strings.Fields(strings.TrimLeft(strings.Split(text(m), "\n")[2], " ▸✗"))[0] }
	before := first()
	click(t, m, "component")
	click(t, m, "component")
	if first() == before {
		t.Errorf("a click on a heading does not sort: %s is still first", before)
	}
	at := m.top().Place().Component
	for y, row := range strings.Split(text(m), "\n") {
		if strings.Contains(row, "fw:nic") {
			_, cmd := m.Update(tea.MouseWheelMsg{X: 4, Y: y, Button: tea.MouseWheelDown})
			settle(m, cmd)
			break
		}
	}
	if m.top().Place().Component == at {
		t.Error("the wheel does not scroll what is under it")
	}
	press(m, ":")
	enter(m, "baselines")
	click(t, m, "Baselines")
	if on(m) != part.Baselines {
		t.Errorf("a click in the finder does not go there: on %s", on(m))
	}
	click(t, m, "Yare Harbour")
	if on(m) != part.Waterline || len(m.stack) != 1 {
		t.Errorf("on %s", on(m))
	}
}

// Of several things one is chosen by its number, with the cursor, or with the mouse; any other key leaves it.
func TestOneOfSeveralIsChosen(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(1, 3)}, 120, 40)
	ask := func() {
		settle(m, m.heard(part.Choose{Title: "Which?", Lines: []string{"it stands still"}, Options: []part.Option{
			{Says: "the first", Then: part.Say{Text: "first it is"}}, {Says: "the second", Then: part.Say{Text: "second it is"}}}}))
	}
	for _, c := range []struct {
		keys []string
		want string
	}{{[]string{"2"}, "second it is"}, {[]string{"enter"}, "first it is"}, {[]string{"down", "enter"}, "second it is"},
		{[]string{"down", "up", "enter"}, "first it is"}, {[]string{"3"}, "nothing was done"}, {[]string{"esc"}, "nothing was done"}} {
		ask()
		if got := text(m); !strings.Contains(got, "it stands still") || !strings.Contains(got, "2  the second") {
			t.Fatalf("it is not shown:\n%s", got)
		}
		press(m, c.keys...)
		if got := text(m); m.over != nil || !strings.Contains(got, c.want) {
			t.Errorf("%v: not %q:\n%s", c.keys, c.want, got)
		}
	}
	ask()
	click(t, m, "the second")
	if got := text(m); !strings.Contains(got, "second it is") {
		t.Errorf("clicked:\n%s", got)
	}
}

// A plan is of the host or the component under the cursor, or of what is narrowed to, where that is asked for.
func TestAPlanOfWhatTheCursorIsOn(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(1, 3)}, 120, 40)
	at := func(p part.Place) part.Place { settle(m, m.goTo(p)); return m.top().Place() }
	drift := at(part.Place{Screen: part.Drift, Cluster: "c0"})
	if drift.Host == "" || drift.Component == "" {
		t.Fatalf("the cursor is on nothing: %+v", drift)
	}
	press(m, ".")
	c, is := m.over.(*choice)
	if !is || len(c.Options) != 3 {
		t.Fatalf("nothing is to be chosen: %T", m.over)
	}
	for i, want := range []part.Just{{Hosts: []string{drift.Host}},
		{Hosts: []string{drift.Host}, Only: []estate.Key{drift.Component}}, {Only: []estate.Key{drift.Component}}} {
		if got := c.Options[i].Then.(part.Go).What.(part.Just); !reflect.DeepEqual(got, want) {
			t.Errorf("%q: %+v, want %+v", c.Options[i].Says, got, want)
		}
	}
	press(m, "esc")
	if p := m.planOf("c0", ""); p.What != nil {
		t.Errorf("nothing is narrowed: %+v", p.What)
	}
	settle(m, m.setFilter("host="+drift.Host))
	if p := m.planOf("c0", ""); !reflect.DeepEqual(p.What, part.Just{Hosts: []string{drift.Host}}) {
		t.Errorf("narrowed to a host: %+v", p.What)
	}
	press(m, "p")
	if on(m) != part.Plan {
		t.Errorf("on %s", on(m))
	}
	if k := m.keys(); !slices.ContainsFunc(k, func(k part.Key) bool { return k.Key == "." && k.Not != "" }) {
		t.Error("on the Plan there is nothing to plan just of")
	}
}

func TestNothingElseIsReachedBelowAQuestion(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(1, 3)}, 120, 40)
	m.over = &question{part.Confirm{Title: "Sure?", Yes: "do it", Then: func() tea.Msg {
		t.Error("done without a yes")
		return nil
	}}}
	for _, k := range []string{"enter", "esc", "n", "d"} {
		m.over = &question{m.over.(*question).Confirm}
		q := m.over
		press(m, k)
		if m.over != nil || on(m) != part.Waterline {
			t.Errorf("%s: on %s", k, on(m))
		}
		m.over = q
	}
	m.Update(tea.MouseClickMsg{X: 30, Y: 38, Button: tea.MouseLeft})
	if on(m) != part.Waterline {
		t.Errorf("on %s", on(m))
	}
}

// Who types on at once types into what the key opened: what a key does is there before the next key comes, however slow
// the machine is. Only work runs beside the screens, and what comes of it never takes the keys of what is open.
func TestKeysTypedAheadReachWhatTheyAreMeantFor(t *testing.T) {
	asked := 0
	for _, way := range ways {
		m := model(t, &fake{snap: parttest.Estate(1, 3), plan: aPlan()}, 160, 45)
		press(m, way...)
		for _, k := range m.keys() {
			m := model(t, &fake{snap: parttest.Estate(1, 3), plan: aPlan()}, 160, 45)
			press(m, way...)
			if m.over != nil || k.Not != "" {
				continue
			}
			_, cmd := m.Update(tea.KeyPressMsg{Text: k.Key, Code: []rune(k.Key)[0]})
			if m.over != nil {
				asked++
			}
			if m.over == nil {
				for _, msg := range outcomes(cmd) {
					switch msg.(type) {
					case part.Ask, part.Confirm, part.Job, part.Left, part.Back, part.Say:
						t.Errorf("%v %s (%s): %T comes late, and the next key would be before it",
							way, k.Key, k.Name, msg)
					}
				}
			}
		}
	}
	if asked < 40 {
		t.Errorf("only %d keys opened something: this test sees little", asked)
	}
	f := &fake{snap: parttest.Estate(2, 4)}
	m := model(t, f, 160, 45)
	press(m, "/")
	enter(m, "kind=fw")
	press(m, "enter")
	for _, r := range "Kdrs" { // no command is carried out in between
		m.Update(tea.KeyPressMsg{Text: string(r), Code: r})
	}
	if on(m) != part.Waterline {
		t.Fatalf("the name went to the screens: on %s", on(m))
	}
	settle(m, m.heard(part.Confirm{Title: "Sure?", Yes: "do it", Then: part.Say{Text: "it was done"}}))
	settle(m, m.heard(part.Sheet{Title: "a list"}))
	enter(m, "y")
	shows(t, m, "keep as @: drsy")
	hides(t, m, "Sure?")
	press(m, "enter")
	if last(f) != "keep @drsy kind=fw" {
		t.Errorf("%v", f.calls)
	}
	shows(t, m, "Sure?")
	press(m, "y")
	shows(t, m, "it was done", "a list")
	press(m, "x")
	hides(t, m, "a list")
}

// outcomes are what a command comes back with.
func outcomes(cmd tea.Cmd) (out []tea.Msg) {
	if cmd == nil {
		return nil
	}
	msg := cmd()
	if b, ok := msg.(tea.BatchMsg); ok {
		for _, c := range b {
			out = append(out, outcomes(c)...)
		}
		return out
	}
	return append(out, msg)
}

// A message of one screen does not disturb another of its kind that is on the way.
func TestScreensAreLeftAsTheyWere(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(2, 5)}, 160, 45)
	press(m, "right", "down", "d", "down", "enter")
	was := m.stack[1]
	before := fmt.Sprintf("%+v", was.Place())
	press(m, "down", "down", "right")
	if got := fmt.Sprintf("%+v", was.Place()); got != before {
		t.Errorf("the screen below moved from %s to %s", before, got)
	}
	press(m, "esc")
	if !reflect.DeepEqual(m.top().Place(), was.Place()) {
		t.Errorf("back on %+v", m.top().Place())
	}
}

func benchmark(b *testing.B, clusters, hosts int, keys ...string) {
	m := model(b, &fake{snap: parttest.Estate(clusters, hosts), plan: aPlan()}, 160, 45)
	press(m, keys...)
	b.Run("frame", func(b *testing.B) {
		for b.Loop() {
			if len(m.View().Content) < 500 {
				b.Fatal("nothing was painted")
			}
		}
	})
	b.Run("key", func(b *testing.B) {
		for b.Loop() {
			press(m, "down", "up")
		}
	})
}

// A frame of a large estate must cost no more than one of a small one, and so must a key.
func BenchmarkWaterline1000Hosts(b *testing.B) { benchmark(b, 10, 100) }
func BenchmarkWaterline16Hosts(b *testing.B)   { benchmark(b, 3, 5) }
func BenchmarkDrift500Hosts(b *testing.B)      { benchmark(b, 1, 500, "d") }
func BenchmarkHost1000Hosts(b *testing.B)      { benchmark(b, 10, 100, "enter") }
func BenchmarkCatalogue1000Hosts(b *testing.B) { benchmark(b, 10, 100, "c") }
func BenchmarkBaselines1000Hosts(b *testing.B) { benchmark(b, 10, 100, "b") }
