package plans

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/brief"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

// app plans the same three visits whatever the brief says, and keeps the brief.
type app struct {
	brief plan.Brief
	plans int
	began []string
	make  func(*plan.Plan) // what else is about the plan
	wrong error
	// failed is what fetching comes to
	failed error
	staged string // the digest of the plan whose payloads are brought
}

var cluster = estate.Cluster{Name: "c", Hosts: []string{"a", "b", "d", "e"}, Act: true,
	Rules: []estate.Rule{{Keep: estate.Apart, Guests: []string{"g*"}}}}

func (d *app) Usual(string) (plan.Brief, error) { return plan.DefaultBrief(cluster), nil }
func (d *app) ReadBrief(file, of string) (b, usual plan.Brief, err error) {
	b = plan.DefaultBrief(cluster)
	usual = b
	_, err = fmt.Sscanf(readAll(file), of+" %d", &b.Reserve)
	return b, usual, err
}
func (d *app) WriteBrief(b plan.Brief) ([]byte, error) {
	return fmt.Appendf(nil, "%s %d", b.Cluster, b.Reserve), nil
}
func readAll(file string) string {
	text, _ := os.ReadFile(file)
	return string(text)
}
func (d *app) FetchPlanned(_ context.Context, p *plan.Plan, _ func(string)) (string, error) {
	d.began = append(d.began, fmt.Sprintf("fetch for %d visits", len(p.Visits)))
	return "1 payload fetched", d.failed
}
func (d *app) Gather(_ context.Context, b plan.Brief) (*plan.Input, error) {
	return &plan.Input{Brief: b, Now: parttest.Now, Cluster: cluster}, nil
}
func (d *app) Make(in plan.Input) (*plan.Plan, error) {
	d.plans++
	d.brief = in.Brief
	if d.wrong != nil {
		return nil, d.wrong
	}
	p := &plan.Plan{Brief: in.Brief, Made: parttest.Now, Width: 1,
		Aside: []plan.Aside{{Host: "e", Why: "in line", InLine: true}}}
	for _, h := range []string{"a", "b", "d"} {
		v := plan.Visit{Host: h, Empties: h != "d", Moves: []fit.Move{{Guest: "g-" + h, From: h, To: "e"}},
			Steps: []plan.Stretch{{Step: act.DrainStep, Middle: time.Minute},
				{Step: act.RestartStep, Middle: time.Minute}}}
		if h == "d" {
			v.Moves = nil
		}
		if len(in.Brief.Hosts) > 0 && !strings.Contains(strings.Join(in.Brief.Hosts, " "), h) {
			continue
		}
		p.Visits = append(p.Visits, v)
	}
	if d.make != nil {
		d.make(p)
	}
	return p, nil
}
func (d *app) LaunchStaging(_ context.Context, p *plan.Plan) error {
	d.staged = p.Digest()
	return nil
}

func (d *app) LaunchRound(_ context.Context, p *plan.Plan, reason string) error {
	d.began = append(d.began, fmt.Sprintf("%s: %d visits", reason, len(p.Visits)))
	return nil
}
func (d *app) Missing(context.Context, string) (hosts, lines []string, err error) {
	return nil, nil, nil
}
func (d *app) Prepare(context.Context, []string, func(string)) error { return nil }

// bench is the screen at a desk.
type bench struct {
	*parttest.Bench
	s *Screen
	d *app
}

func open(t *testing.T) *bench {
	d := &app{}
	s := New(t.Context(), d, part.Place{Cluster: "c"})
	return &bench{parttest.Open(t, s, parttest.Frame()), s, d}
}

// press uses the keys, "at:HOST" among them to put the cursor there. It returns why the last could not be used.
func (b *bench) press(keys ...string) (not string) {
	b.T.Helper()
	for _, k := range keys {
		if host, ok := strings.CutPrefix(k, "at:"); ok {
			b.s.host, b.s.pinned = host, true
			continue
		}
		not = b.Press(k)
	}
	return not
}

// The settings are written as a file, and had back from it; that can be taken back.
func TestABriefIsSavedAndOpened(t *testing.T) {
	b := open(t)
	b.Typed = filepath.Join(t.TempDir(), "c.yaml")
	b.press("]", "]", "S")
	if w := b.Wrote; string(w.Text) != "c 2" || w.File != b.Typed || !strings.HasSuffix(w.Says, b.Typed) {
		t.Errorf("%+v", w)
	}
	if err := os.WriteFile(b.Typed, b.Wrote.Text, 0o600); err != nil {
		t.Fatal(err)
	}
	b.press("U", "U", "B")
	if b.d.brief.Reserve != 2 {
		t.Errorf("%+v", b.d.brief)
	}
	if b.press("U"); b.d.brief.Reserve != 0 {
		t.Errorf("%+v", b.d.brief)
	}
	b.Typed += ".none"
	if b.press("B"); b.d.brief.Reserve != 0 || b.Said == "" {
		t.Errorf("%+v %q", b.d.brief, b.Said)
	}
}

// A plan that was opened on a part is of that part; taking that back, or planning anew, is of all.
func TestAPlanOfAPart(t *testing.T) {
	d := &app{}
	s := New(t.Context(), d, part.Place{Cluster: "c", What: part.Just{Hosts: []string{"a"}, Only: []estate.Key{"deb:k"}}})
	b := &bench{parttest.Open(t, s, parttest.Frame()), s, d}
	for _, c := range []struct{ key, want string }{{"", "--hosts a --only deb:k"}, {"U", ""}, {"n", ""}} {
		if c.key != "" {
			b.press(c.key)
		}
		if got := strings.Join(brief.Words(b.d.brief, plan.DefaultBrief(cluster)), " "); got != c.want {
			t.Errorf("after %q: %q, want %q", c.key, got, c.want)
		}
	}
}

// What each key makes of the brief: the words are those of the command that would do the same.
func TestWhatTheKeysChange(t *testing.T) {
	for _, c := range []struct {
		keys string
		want string
	}{
		{"", ""},
		{"+", "--out-of-service 2"},
		{"+ + -", "--out-of-service 2"},
		{"-", ""},
		{"]", "--reserve 1"},
		{"] ] [", "--reserve 1"},
		{"[", ""},
		{"o", "--order lightest-first"},
		{"o o o", ""},
		{"%", "--limit 90"},
		{"% % % %", ""},
		{"m", "--home"},
		{"m m", ""},
		{"at:a y", "--trial a"},
		{"at:a y y", ""},
		{"at:a y at:b y", "--trial b"},
		{"at:b <", "--sequence b,a"},
		{"at:b < at:a y", "--sequence a,b --trial a"},
		{"at:b < o", "--order lightest-first"},
		{"at:b v", "--hosts a,d,e"},
		{"at:b v v", ""},
		{"at:b y v", "--hosts a,d,e"},
		{"u", "--lift 'keep g* apart'"},
		{"u u", ""},
		{"+ ] m U U", "--out-of-service 2"},
		{"+ n", ""},
	} {
		b := open(t)
		b.press(strings.Fields(c.keys)...)
		if got := strings.Join(brief.Words(b.d.brief, plan.DefaultBrief(cluster)), " "); got != c.want {
			t.Errorf("%q: %q, want %q", c.keys, got, c.want)
		}
	}
}

// A key that means nothing here says why, and plans nothing.
func TestWhyAKeyCantBeUsed(t *testing.T) {
	for _, c := range []struct{ keys, why, says string }{
		{"U", "nothing was changed about this plan", ""},
		{"at:a f", "nothing keeps a from being visited", ""},
		{"at:e f", "e is not visited", ""},
		{"at:e y", "e is not visited: nothing could be tried on it", ""},
		{"at:a <", "", "a goes first already"},
		{"at:b >", "", "b goes last already"},
		{"at:d <", "", "d is not drained: its turn matters to nobody"},
		{"at:a v at:b v at:d v at:e v", "", "e is the last host of the plan"},
	} {
		b := open(t)
		keys := strings.Fields(c.keys)
		b.press(keys[:len(keys)-1]...)
		before := b.d.plans
		if not := b.press(keys[len(keys)-1]); not != c.why || b.Said != c.says || b.d.plans != before {
			t.Errorf("%q: %q, says %q, %d plans more", c.keys, not, b.Said, b.d.plans-before)
		}
	}
}

// A change that can't be planned is told, and can be taken back.
func TestAChangeThatCantBePlanned(t *testing.T) {
	b := open(t)
	b.d.wrong = errors.New("the brief keeps 9 hosts in reserve")
	b.press("]")
	b.Shows(100, 20, "keeps 9 hosts in reserve", "U takes back")
	if not := b.press("s"); not != "it can't be planned" {
		t.Errorf("it can be started: %q", not)
	}
	b.d.wrong = nil
	b.press("U")
	if b.s.wrong != nil || b.d.brief.Reserve != 0 {
		t.Errorf("%v, %+v", b.s.wrong, b.d.brief)
	}
}

// Who types the reason before the plan is there types into the question, not into the screen; what is started is the
// plan that is there once the reason was typed, and only where there is one.
func TestStartingWhileItIsPlanned(t *testing.T) {
	b := open(t)
	b.Typed = "November"
	b.s.busy = true
	if not := b.press("s"); not != "" || b.Said != "another plan is being made; s asks again once it is there" {
		t.Errorf("%q, says %q", not, b.Said)
	}
	b.s.busy = false
	b.s.plan = &plan.Plan{Brief: b.s.brief, Visits: []plan.Visit{{Host: "a", Obstacle: "no room"}}}
	if not := b.press("s"); not != "the plan has obstacles: f takes a way out, v leaves a host out" {
		t.Errorf("%q", not)
	}
	ask, _ := b.s.askReason().(part.Ask)
	if ask.Value != "November" {
		t.Errorf("what was typed is lost: %q", ask.Value)
	}
	b.Take(ask.Then("November"))
	if b.Said != "the plan has obstacles: f takes a way out, v leaves a host out" || len(b.d.began) > 0 {
		t.Errorf("%q, %v", b.Said, b.d.began)
	}
	b.s.plan = &plan.Plan{Brief: b.s.brief, Visits: []plan.Visit{{Host: "a"}}}
	b.press("s")
	if b.Asked.Title != "Start the round over c?" || strings.Join(b.d.began, ";") != "November: 1 visits" {
		t.Errorf("%q, %v", b.Asked.Title, b.d.began)
	}
}

// An answer to a question that was asked before is let go, and so is one about another cluster.
func TestALateAnswerIsLetGo(t *testing.T) {
	b := open(t)
	shown := b.s.plan
	b.Take(replanned{"c", b.s.turn - 1, &plan.Plan{}, nil})
	b.Take(replanned{"other", b.s.turn, &plan.Plan{}, nil})
	b.Take(gathered{"c", b.s.turn - 1, nil, nil, errors.New("late")})
	if b.s.plan != shown || b.s.wrong != nil {
		t.Error("it is taken")
	}
}

// What is typed about windows and guests becomes part of the brief, as the command line has it; what can't be meant is
// told, and nothing changes.
func TestWhatIsTyped(t *testing.T) {
	for _, c := range []struct{ key, typed, words, says string }{
		{"g", "x,y-*=suspend z=cold", "--guest 'x,y-*=suspend' --guest z=cold", ""},
		{"g", "", "", ""},
		{"g", "x=kill", "", `"x=kill" is not guest=shut-down, guest=suspend, guest=eject, guest=eject-for-good, guest=cold or guest=leave`},
		{"T", "2026-11-22T22:00Z/2026-11-23T04:00Z", "", `"2026-11-22T22:00Z" is no time`},
		{"T", "2026-11-22T22:00:00Z/2026-11-23T04:00:00Z", "--window 2026-11-22T22:00:00Z/2026-11-23T04:00:00Z", ""},
		{"i", "deb:a,fw:b", "--only deb:a,fw:b", ""},
		{"i", "nonsense", "", "nonsense"},
	} {
		b := open(t)
		b.Typed = c.typed
		b.press(c.key)
		if got := strings.Join(brief.Words(b.d.brief, plan.DefaultBrief(cluster)), " "); got != c.words ||
			!strings.Contains(b.Said, c.says) || (c.says == "") != (b.Said == "") {
			t.Errorf("%s %q: %q, says %q", c.key, c.typed, got, b.Said)
		}
		if c.words != "" {
			b.Typed = ""
			if b.press(c.key); len(brief.Words(b.d.brief, plan.DefaultBrief(cluster))) > 0 {
				t.Errorf("%s: nothing typed leaves it as it was", c.key)
			}
		}
	}
}

// Every setting can be chosen, shows what it is, and is asked for in the words of its option.
func TestAnySettingCanBeChanged(t *testing.T) {
	for name, words := range map[string]string{"leave-failed": "2", "soak": "30m", "moves": "4", "bandwidth": "400",
		"patience": "1h", "release": "deb:a=2 deb:b=3", "lift": "keep a b apart; keep c", "home": "true", "hosts": "a, b"} {
		b := open(t)
		of := brief.Named(name)
		b.Pick, b.Typed = slices.Index(brief.Settings, of), words
		if b.press(","); len(b.Chose.Options) != len(brief.Settings) {
			t.Fatalf("%d of %d settings can be chosen", len(b.Chose.Options), len(brief.Settings))
		}
		if !strings.HasPrefix(b.Chose.Options[b.Pick].Says, name+" ") || b.Said != "" {
			t.Errorf("%s: %q is chosen, and says %q", name, b.Chose.Options[b.Pick].Says, b.Said)
		}
		if got := strings.Join(of.Words(b.d.brief, plan.DefaultBrief(cluster)), " "); got != strings.NewReplacer(";", "", ",",
			"").Replace(words) {
			t.Errorf("%s: %q, want %q", name, got, words)
		}
	}
}

// The way out under the cursor is taken after a yes, and goes into the brief; what only a person can do is told, and a
// host that takes no orders yet is asked what it lacks.
func TestTheWayOutIsTaken(t *testing.T) {
	for _, c := range []struct {
		what  string
		visit func(*plan.Visit)
		no    bool
		words string
		says  string
		not   string
	}{
		{"one more out", func(v *plan.Visit) { v.Ways = []plan.Way{{MoreOut: true}} }, false,
			"--out-of-service 2", "Take this way out for the round over c?", ""},
		{"without a yes", func(v *plan.Visit) { v.Ways = []plan.Way{{MoreOut: true}} }, true, "",
			"Take this way out for the round over c?", ""},
		{"the first that can be", func(v *plan.Visit) {
			v.Ways = []plan.Way{{Way: fit.Way{Off: []string{"x"}, Guests: []string{"x"}}}, {Way: fit.Way{Lift: []int{0},
				Rules: []string{"keep g* apart"}}}}
		}, false, "--lift 'keep g* apart'", "Take this way out for the round over c?", ""},
		{"a person's", func(v *plan.Visit) {
			v.Ways = []plan.Way{{Way: fit.Way{Off: []string{"x"}, Guests: []string{"x"}}}}
		}, false, "", "", "a person must see to it: shut down x for the visit"},
		{"none", func(v *plan.Visit) { v.WayOut = "wait for parts" }, false, "", "",
			"a person must see to it: wait for parts"},
		{"it takes no orders", func(v *plan.Visit) {
			v.Answers = []precheck.Answer{{Check: "orders", Level: precheck.Blocker}}
		}, false, "", "the hosts of c take orders", ""},
	} {
		d := &app{make: func(p *plan.Plan) {
			if len(brief.Words(p.Brief, plan.DefaultBrief(cluster))) == 0 {
				p.Visits[0].Obstacle = "it is in the way"
				c.visit(&p.Visits[0])
			}
		}}
		s := New(t.Context(), d, part.Place{Cluster: "c"})
		b := &bench{parttest.Open(t, s, parttest.Frame()), s, d}
		b.No = c.no
		not := b.press("at:a", "f")
		if got := strings.Join(brief.Words(d.brief, plan.DefaultBrief(cluster)), " "); got != c.words ||
			!strings.HasPrefix(not, c.not) || (not == "") != (c.not == "") || c.says != "" && b.Said != c.says {
			t.Errorf("%s: %q, %q, says %q", c.what, got, not, b.Said)
		}
	}
}

// That nothing is to be done is good only where every host is in line.
func TestWhereNothingIsToBeDone(t *testing.T) {
	for says, aside := range map[string][]plan.Aside{
		"✓ Nothing to do on c: every host is in line.": {{Host: "a", InLine: true}},
		"! A round over c would visit no host, and not all of them are in line": {{Host: "a", InLine: true},
			{Host: "b", Why: "unread: 2"}},
	} {
		d := &app{make: func(p *plan.Plan) { p.Visits, p.Aside, p.Brief.Cluster = nil, aside, "c" }}
		b := parttest.Open(t, New(t.Context(), d, part.Place{Cluster: "c"}), parttest.Frame())
		b.Shows(100, 20, says)
		if not := b.Press("s"); not != "there is nothing to do on c" {
			t.Errorf("%q", not)
		}
	}
}

// A plan of more than what is narrowed to says so.
func TestAPlanOfMoreThanIsShown(t *testing.T) {
	b := open(t)
	b.Frame.View = parttest.Estate(1, 3)
	for text, says := range map[string]bool{"": false, "host=nobody": true} {
		f, err := narrow.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		b.Frame.Filter, b.Frame.Typed = f, text
		if got := strings.Contains(b.Text(160, 40), "this plan is of more than that"); got != says {
			t.Errorf("%q: %v\n%s", text, got, b.Text(160, 40))
		}
	}
}

// Of prechecks that no row is left for it is said how many there are, and how bad the worst of them is.
func TestWhatIsCutIsCounted(t *testing.T) {
	d := &app{make: func(p *plan.Plan) {
		p.Visits[0].Answers = nil
		for i := range 40 {
			level := precheck.Clear
			if i%2 == 1 {
				level = precheck.Caution
			}
			p.Visits[0].Answers = append(p.Visits[0].Answers,
				precheck.Answer{Check: fmt.Sprintf("c%02d", i), Level: level, Evidence: "so it is"})
		}
	}}
	b := &bench{parttest.Open(t, New(t.Context(), d, part.Place{Cluster: "c"}), parttest.Frame()), nil, d}
	for rows, says := range map[int]string{60: "", 44: "more, clear at worst; a shows them", 30: "more, caution at worst"} {
		got := b.Text(160, rows)
		shown := strings.Count(got, "so it is")
		if says != "" {
			says = fmt.Sprintf("… %d %s", 40-shown, says)
		}
		if !strings.Contains(got, says) || (says == "") != (shown == 40) {
			t.Errorf("%d rows show %d, and not %q:\n%s", rows, shown, says, got)
		}
	}
}

// What changes require and the plan leaves out is told at the top, and taken along by a key, also where nothing else is
// planned.
func TestWhatIsRequiredIsTakenAlong(t *testing.T) {
	for _, visits := range []bool{true, false} {
		d := &app{make: func(p *plan.Plan) {
			if !visits {
				p.Visits, p.Aside = nil, []plan.Aside{{Host: "a", Why: "left"}}
			}
			if len(p.Brief.Only) == 1 {
				p.Companions = []plan.Companion{{Requirement: catalogue.Requirement{Component: "drv:d", AtLeast: "2"},
					For: []string{"fw:x"}, Hosts: []string{"a"}, Wanted: true}}
			}
		}}
		s := New(t.Context(), d, part.Place{Cluster: "c", What: part.Just{Only: []estate.Key{"fw:x"}}})
		b := &bench{parttest.Open(t, s, parttest.Frame()), s, d}
		b.Shows(160, 45, "! fw:x is not done on a: it requires drv:d 2, which this plan leaves out; A takes it along")
		b.press("A")
		if got := strings.Join(brief.Words(d.brief, plan.DefaultBrief(cluster)), " "); got != "--only fw:x,drv:d" {
			t.Errorf("%q", got)
		}
		b.Hides(160, 45, "A takes it along")
		if not := b.press("A"); not != "nothing is left out that a change requires" {
			t.Errorf("%q", not)
		}
		if b.press("U"); len(d.brief.Only) != 1 {
			t.Errorf("%v", d.brief.Only)
		}
	}
}

// What the plan lacks is fetched by a key, and then it is planned again; where that fails it is told, and planned again too.
func TestWhatIsMissingIsFetched(t *testing.T) {
	b := open(t)
	if not := b.press("F"); not != "every payload of the plan is here" {
		t.Errorf("%q", not)
	}
	b.d.make = func(p *plan.Plan) {
		p.Visits[0].Answers = []precheck.Answer{{Check: "payload", Level: precheck.Blocker, Evidence: "x is not here"}}
	}
	for says, failed := range map[string]error{"the mirror is away": errors.New("the mirror is away"), "1 payload fetched": nil} {
		b.d.failed, b.d.began = failed, nil
		b.press("n")
		n := b.d.plans
		b.press("F")
		if b.d.plans != n+1 || len(b.d.began) != 1 || b.d.began[0] != "fetch for 3 visits" || b.Said != says {
			t.Errorf("%d plans more, %v, %q", b.d.plans-n, b.d.began, b.Said)
		}
	}
}

// The payloads of the plan that is shown are brought to its hosts by a key, after a yes; where none can be, it says why.
func TestPayloadsAreBroughtAhead(t *testing.T) {
	b := open(t)
	const none = "nothing of the plan can be brought to its hosts ahead: it waits there, or goes to a BMC"
	for _, c := range []struct {
		key    estate.Key
		waits  string
		why    string
		staged bool
	}{{"fw:x", "", none, false}, {"deb:k", "sum", none, false}, {"deb:k", "", "", true}} {
		b.d.staged = ""
		var made *plan.Plan
		b.d.make = func(p *plan.Plan) {
			made = p
			p.Visits[0].Changes = []act.Change{{Component: c.key, From: "1", To: "2", File: "f", SHA256: "sum", Size: 5 << 20}}
			p.Visits[0].Staged = []string{c.waits}
		}
		b.press("n")
		if not := b.press("H"); not != c.why {
			t.Errorf("%+v: %q", c, not)
		}
		if c.staged != (b.d.staged == made.Digest()) {
			t.Errorf("%+v: staged %q", c, b.d.staged)
		}
	}
	if q := strings.Join(b.Asked.Lines, " "); !strings.Contains(q, "1 payload, 5.0 MiB in all") {
		t.Error(q)
	}
}
