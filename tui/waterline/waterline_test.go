package waterline

import (
	"fmt"
	"strings"
	"testing"

	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/survey"
	"yareharbour/core/view"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

func open(t *testing.T, e *view.Estate) (*parttest.Bench, *Screen) {
	s := New(part.Place{})
	f := parttest.Frame()
	f.View = e
	return parttest.Open(t, s, f), s
}

// Each need leads to the screen on which it can be mended; one that is fixed outside is told in full.
func TestWhereNeedsLead(t *testing.T) {
	f := parttest.Frame()
	f.View = parttest.Estate(2, 3)
	for _, c := range []struct {
		need   survey.Need
		screen string
		about  string
	}{
		{survey.Need{See: survey.AtHost, Host: "c1h001"}, part.Host, "c1 c1h001"},
		{survey.Need{See: survey.AtDrift, Cluster: "c0"}, part.Drift, "c0 "},
		{survey.Need{See: survey.AtDrift, Cluster: "c0", Host: "c0h000"}, part.Host, "c0 c0h000"},
		{survey.Need{See: survey.AtRound, Cluster: "c1"}, part.Round, "c1 "},
		{survey.Need{See: survey.AtPlan, Cluster: "c1"}, part.Plan, "c1 "},
		{survey.Need{See: survey.AtBaselines, Baseline: "b"}, part.Baselines, " "},
		{survey.Need{See: survey.AtCatalogue, Component: "fw:nic"}, part.Catalogue, " "},
	} {
		to, ok := see(f, c.need).(part.Go)
		if about := to.Cluster + " " + to.Host; !ok || to.Screen != c.screen || about != c.about {
			t.Errorf("%+v: %+v", c.need, to)
		}
		if to.Component != c.need.Component || to.Subject != c.need.Baseline {
			t.Errorf("%+v: %+v", c.need, to)
		}
	}
	sheet, ok := see(f, survey.Need{Text: strings.Repeat("the file is unreadable ", 9)}).(part.Sheet)
	if !ok || len(sheet.Lines) < 4 || !strings.Contains(sheet.Lines[len(sheet.Lines)-1], "fixed outside") {
		t.Errorf("%+v", sheet)
	}
}

// That nothing needs anybody is good only where all was judged and all is shown.
func TestWhyNothingNeedsYou(t *testing.T) {
	for _, c := range []struct {
		change func(*part.Frame)
		says   string
		role   part.Style
	}{
		{func(*part.Frame) {}, "nothing: all is in line", part.Good},
		{func(f *part.Frame) { f.View.Survey.Bands[0].InLine = 0 }, "no baseline binds any host", part.Caution},
		{func(f *part.Frame) { f.View.Survey.Bands[0].Unasked = 2 }, "no baseline covers 2 of the hosts", part.Caution},
		{func(f *part.Frame) {
			f.View.Survey.Needs, f.Typed = []survey.Need{{}}, "fan"
		}, "1 without the narrowing to “fan”", part.Caution},
	} {
		f := parttest.Frame()
		f.View.Survey.Bands = []survey.Band{{InLine: 3}}
		c.change(&f)
		if says, role := nothing(f); !strings.Contains(says, c.says) || role != c.role {
			t.Errorf("%q, want %q", says, c.says)
		}
	}
}

func TestWhatTheLimitMeans(t *testing.T) {
	band := func(change func(*survey.Band)) survey.Band {
		b := survey.Band{Cluster: estate.Cluster{Name: "c", Reserve: 1}, Limit: 0.75}
		b.Reserve.Outcome = fit.Fits
		change(&b)
		return b
	}
	for _, c := range []struct{ got, want string }{
		{limitWords(band(func(b *survey.Band) { b.Cluster.Reserve = 0 })), "c keeps no host in reserve: "},
		{limitWords(band(func(b *survey.Band) {
			b.Reserve.Outcome, b.Reserve.Obstacle = fit.DoesNotFit, &fit.Obstacle{Constraint: "3 GiB are missing"}
		})), "not all guests of c find room when a host fails: 3 GiB are missing"},
		{limitWords(band(func(*survey.Band) {})), "up to 75% of its memory the cluster survives the loss of 1 host"},
		{limitWords(band(func(b *survey.Band) {
			b.Spare.Lost, b.Spare.Room.MemoryMiB = []string{"a", "b"}, 6<<10
		})), "worst case a, b: 6 GiB spare"},
	} {
		if !strings.Contains(c.got, c.want) {
			t.Errorf("%q, want %q", c.got, c.want)
		}
	}
}

// How deep a host lies is told by shape: what is unread before what drifts, and a blank only where nothing covers it.
func TestHowDepthLooks(t *testing.T) {
	for _, c := range []struct {
		depth survey.Depth
		want  string
	}{
		{survey.Depth{}, ""},
		{survey.Depth{InLine: 4}, "·"},
		{survey.Depth{Aside: 1}, "~"},
		{survey.Depth{InLine: 4, Aside: 1}, "·"},
		{survey.Depth{Drift: 3, InLine: 2}, "▿▿▿"},
		{survey.Depth{Drift: 12}, "▿▿12"},
		{survey.Depth{Drift: 2, Unread: true}, "?"},
		{survey.Depth{InLine: 9, Unread: true}, "?"},
	} {
		cv := part.NewCanvas(9, 1)
		paintDepth(cv, c.depth, 0, 0, 9)
		if got := strings.TrimSpace(parttest.Plain(cv)); got != c.want {
			t.Errorf("%+v: %q, want %q", c.depth, got, c.want)
		}
	}
	low := strataFor(8)
	joined := low[len(low)-1].depth(survey.Berth{Depth: map[estate.Layer]survey.Depth{
		estate.Inside: {Drift: 1, InLine: 2}, estate.Settings: {Unread: true, Aside: 3}}})
	if joined != (survey.Depth{Drift: 1, InLine: 2, Unread: true, Aside: 3}) {
		t.Errorf("%+v", joined)
	}
}

// The host with the cursor is always among those that are shown, and no berth is narrower than its name needs.
func TestWhichBerthsAreShown(t *testing.T) {
	var b survey.Band
	for i := range 40 {
		b.Berths = append(b.Berths, survey.Berth{Host: fmt.Sprintf("host-%02d", i)})
	}
	for _, w := range []int{20, 60, 100, 150, 600} {
		for _, at := range []int{0, 1, 20, 38, 39} {
			width, first, n := window(b, w, b.Berths[at].Host)
			if at < first || at >= first+n || first+n > 40 || n*width > w || width < 9 {
				t.Errorf("%d cells, on %d: %d of %d cells from %d", w, at, n, width, first)
			}
		}
	}
}

// The cursor goes from band to band and from host to host, and between the picture and the needs.
func TestTheCursor(t *testing.T) {
	b, s := open(t, parttest.Estate(2, 3))
	if s.host != "c0h000" {
		t.Errorf("it begins on %s", s.host)
	}
	b.Step(2, 1)
	b.Step(9, 9)
	if s.host != "c1h002" || s.cluster != "c1" {
		t.Errorf("on %s of %s", s.host, s.cluster)
	}
	b.Enter()
	b.Take(berthPressed{"c0", "c0h001"})
	b.Take(berthPressed{"c0", "c0h001"})
	if len(b.Went) != 2 || b.Went[0].Host != "c1h002" || b.Went[1].Host != "c0h001" {
		t.Errorf("%+v", b.Went)
	}
	b.Press("tab")
	b.Step(0, 1)
	if !s.needs || s.row != 1 {
		t.Errorf("needs %v, row %d", s.needs, s.row)
	}
	b.Step(-1, 0)
	if s.needs {
		t.Error("left does not lead back into the picture")
	}
	b.Frame.View = parttest.Estate(1, 1)
	b.Frame.View.Survey.Needs = nil
	b.Take(part.Shown{})
	if not := b.Press("tab"); not != "nothing needs you" || s.host != "c0h000" {
		t.Errorf("%q, on %s", not, s.host)
	}
	b.Shows(160, 40, "needs you", "rounds", "c0: none yet", "▼ critical")
	b.Frame.View = parttest.Estate(0, 0)
	b.Take(part.Shown{})
	b.Step(1, 1)
	b.Enter()
}

// Of a large estate every cluster is seen at a glance: a line each, the worst first, and the one with the cursor unfolds.
func TestALargeEstateAtAGlance(t *testing.T) {
	e := parttest.Estate(24, 3)
	e.Survey.Bands[17].Reserve.Outcome = fit.DoesNotFit
	e.Survey.Bands[5].Out = 2
	b, s := open(t, e)
	shown := b.Text(160, 45)
	for i := range 24 {
		if !strings.Contains(shown, fmt.Sprintf("c%d ", i)) {
			t.Errorf("c%d is not shown:\n%s", i, shown)
		}
	}
	if s.cluster != "c17" || strings.Index(shown, "c17") > strings.Index(shown, "c5 ") || strings.Index(shown, "c5 ") > strings.Index(shown, "c0 ") {
		t.Errorf("at %s: the worst does not come first:\n%s", s.cluster, shown)
	}
	if !strings.Contains(shown, "c17h001") || strings.Contains(shown, "c5h001") {
		t.Errorf("the one with the cursor, and no other, is unfolded:\n%s", shown)
	}
	b.Step(0, 1)
	if shown := b.Text(160, 45); s.cluster != "c5" || !strings.Contains(shown, "c5h001") || strings.Contains(shown, "c17h001") ||
		!strings.Contains(shown, "reserve NOT KEPT") {
		t.Errorf("at %s:\n%s", s.cluster, shown)
	}
	for range 22 {
		b.Step(0, 1)
	}
	if shown := b.Text(80, 24); !strings.Contains(shown, s.host) {
		t.Errorf("the cursor on %s is out of sight:\n%s", s.host, shown)
	}
}
