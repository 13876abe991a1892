// Package releases is the Catalogue screen: components, their tracks as ladders of releases with the hosts on their
// rungs, and the feeds, bundles and payloads that they come from.
package releases

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/ladder"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part"
)

// App is what the screen asks for. Progress is told in words.
type App interface {
	Sync(ctx context.Context, w harbour.Which, progress func(string)) ([]harbour.Synced, error)
	Schedule(ctx context.Context, feed, schedule string) (says string, err error)
	Open(ctx context.Context, file string, by harbour.Signed, progress func(string)) (*harbour.Opened, error)
	TakeOut(ctx context.Context, id string) (catalogue.Bundle, error)
	Fetch(ctx context.Context, hosts []string, progress func(string)) (says string, err error)
	VerifyPayloads(ctx context.Context, progress func(string)) (says string, damaged []string, err error)
	Payloads(ctx context.Context) (view.Payloads, error)
	Prune(ctx context.Context, rule harbour.Rule) ([]catalogue.Pruned, error)
	Drop(doomed []catalogue.Pruned) error
}

// Screen is the Catalogue.
type Screen struct {
	ctx     context.Context
	app     App
	want    estate.Key // to put the cursor on, once the list is there
	feedAt  string     // the feed to put it on
	all     bool       // what no host has, or no feed, too
	shelves bool       // keys go to the feeds and bundles
	table   part.Table
	shelf   part.Table
	listed  listed
	ladder  laddered
	turn    int // of asking for the list
}

// listed is a list that was made, as the table has it sorted.
type listed struct {
	turn  int
	rows  []ladder.Row
	order []int
}

// laddered is a ladder that was made, and of what.
type laddered struct {
	view   *view.Estate
	key    estate.Key
	ladder ladder.Ladder
}

// New opens it.
func New(ctx context.Context, d App, p part.Place) *Screen {
	return &Screen{ctx: ctx, app: d, want: p.Component, feedAt: p.Subject,
		table: part.Table{
			ID: "components",
			Columns: []part.TableColumn{
				{Title: "component", Width: 16, Grow: 3},
				{Title: "newest (track)", Width: 14, Grow: 3},
				{Title: "severity", Width: 11},
				{Title: "hosts", Width: 8, Right: true},
				{Title: "drift", Width: 8, Right: true},
			},
		},
		shelf: part.Table{
			ID: "shelves",
			Columns: []part.TableColumn{
				{Title: "feeds, bundles, lists, payloads", Width: 26, Grow: 1},
				{Title: "kind", Width: 15},
				{Title: "when", Width: 13},
				{Title: "brought", Width: 20, Grow: 4},
			},
		}}
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place {
	return part.Place{Screen: part.Catalogue, Component: s.chosen()}
}

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"Left the components, with what hosts have of them and what is out of line; right the tracks of the one " +
			"under the cursor as ladders, the newest rung on top. A click on a heading sorts.",
		"▴ is the newest that may be proposed on its track, ◂ what a baseline wants, ✗ withdrawn. Hosts stand beside " +
			"their rung. Another track is another ladder: nothing leads across.",
		"Tab goes to the feeds, bundles and payloads below.",
	}
}

// chosen is the component under the cursor; "" where there is none.
func (s *Screen) chosen() estate.Key {
	if len(s.listed.rows) == 0 {
		return s.want
	}
	return s.row(s.table.At(len(s.listed.rows))).Component
}

// row is the i-th of the list as it is sorted.
func (s *Screen) row(i int) *ladder.Row { return &s.listed.rows[s.listed.order[i]] }

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	var d view.Document
	if format == "svg" || format == "pdf" {
		d = view.OfLadder(f.View.Ladder(s.chosen()))
		return &d
	}
	rows := make([]ladder.Row, len(s.listed.rows))
	for i := range rows {
		rows[i] = *s.row(i)
	}
	d = view.OfComponents(rows)
	return &d
}

// Keys implements part.Screen.
func (s *Screen) Keys(f part.Frame) []part.Key {
	feed, bundle := s.feed(f), s.bundle(f)
	noFeed, noBundle, busy := "", "", ""
	if !s.shelves || feed == nil {
		noFeed = "Tab goes to the feeds; this is about the one under the cursor"
	}
	if !s.shelves || bundle == nil {
		noBundle = "Tab goes to the bundles; u takes out the one under the cursor"
	}
	if f.Job != "" {
		busy = f.Job + " is under way; X ends it"
	}
	first := func(whys ...string) string {
		for _, w := range whys {
			if w != "" {
				return w
			}
		}
		return ""
	}
	hint, more := "feeds", "all"
	if s.shelves {
		hint = "components"
	}
	if s.all {
		more = "fewer"
	}
	return []part.Key{
		part.NewKey("tab", hint, "go between components, feeds and bundles", "", part.Flip(&s.shelves)),
		part.NewKey("a", more, "show what no host has, or no feed, too", "", func() tea.Msg {
			s.all = !s.all
			return s.list(f)
		}),
		part.NewKey("s", "sync", "sync the feed under the cursor", first(noFeed, busy), func() tea.Msg {
			return s.sync([]string{feed.Name})
		}),
		part.NewKey("S", "sync all", "sync every feed that is not switched off", busy, func() tea.Msg {
			return s.syncAll(f)
		}),
		part.NewKey("o", "when", "say when the feed under the cursor is synced", noFeed, func() tea.Msg {
			return s.askSchedule(feed)
		}),
		part.NewKey("i", "import", "open a bundle, to take it in", busy, s.askBundle),
		part.NewKey("u", "take out", "take the bundle under the cursor out of the catalogue again", noBundle,
			func() tea.Msg { return s.askTakeOut(bundle) }),
		part.NewKey("f", "", "fetch the payloads that hosts want", busy, func() tea.Msg {
			return s.job("fetching payloads", func(ctx context.Context, says func(string)) (string, error) {
				return s.app.Fetch(ctx, nil, says)
			})
		}),
		part.NewKey("v", "", "verify every payload", busy, func() tea.Msg {
			return s.job("verifying payloads", s.verify)
		}),
		part.NewKey("L", "", "list the payloads", "", s.listPayloads),
		part.NewKey("P", "", "prune payloads that nobody wants, by a rule", "", s.askPrune),
	}
}

// Update implements part.Screen.
func (s *Screen) Update(f part.Frame, msg tea.Msg) tea.Msg {
	n := len(s.listed.rows)
	if mine, in := s.table.Take(msg, n); mine {
		s.shelves = false
		if _, sorts := msg.(part.SortBy); sorts {
			s.sort()
		}
		if in {
			return s.enter(f)
		}
		return s.wantLadder(f)
	}
	if mine, _ := s.shelf.Take(msg, len(shelfRows(f))); mine {
		s.shelves = true
		return nil
	}
	switch msg := msg.(type) {
	case part.Shown:
		if i := slices.IndexFunc(f.View.Feeds, func(x view.Feed) bool { return x.Name == s.feedAt }); i >= 0 {
			s.shelves, s.shelf.Cursor, s.feedAt = true, i, ""
		}
		return s.list(f)
	case listed:
		if msg.turn == s.turn {
			return s.take(f, msg)
		}
	case laddered:
		if msg.key == s.chosen() {
			s.ladder = msg
		}
	case part.Step:
		if s.shelves {
			s.shelf.Step(msg.DY, len(shelfRows(f)))
			return nil
		}
		s.table.Step(msg.DY, n)
		return s.wantLadder(f)
	case part.Enter:
		return s.enter(f)
	}
	return nil
}

// enter goes to the drift of the cluster of the first host that is out of line in the component.
func (s *Screen) enter(f part.Frame) tea.Msg {
	k := s.chosen()
	for _, h := range f.View.Hosts("") {
		for i := range f.View.Verdicts[h] {
			if v := &f.View.Verdicts[h][i]; !s.shelves && v.Component == k && v.Outcome.Drifts() {
				return part.Go{Screen: part.Drift, Cluster: f.View.ClusterOf(h), Host: h,
					Component: k, Device: v.Device}
			}
		}
	}
	if s.shelves {
		return part.NothingHere()
	}
	return part.Tell("no host is out of line in %s", k)
}

// list makes the list, beside whatever else goes on: on a large estate it takes its time.
func (s *Screen) list(f part.Frame) tea.Msg {
	s.turn++
	turn, all := s.turn, s.all
	return func() tea.Msg { return listed{turn: turn, rows: f.View.Components(f.Filter, all)} }
}

// take shows a list, with the cursor on what it stood on.
func (s *Screen) take(f part.Frame, l listed) tea.Msg {
	k := s.chosen()
	if s.want != "" {
		if !s.all &&
			!slices.ContainsFunc(l.rows, func(r ladder.Row) bool {
				return r.Component == s.want
			}) { // it is in no feed, or no baseline speaks of it
			s.all = true
			return s.list(f)
		}
		k, s.want = s.want, ""
	}
	s.listed = l
	s.sort()
	for i := range s.listed.order {
		if s.row(i).Component == k {
			s.table.Cursor = i
		}
	}
	s.table.Cursor = s.table.At(len(l.rows))
	return s.wantLadder(f)
}

func (s *Screen) sort() {
	s.listed.order = s.table.Order(len(s.listed.rows), func(i, column int) any {
		r := &s.listed.rows[i]
		switch column {
		case 1:
			return strings.Join(r.Newest, ", ")
		case 2:
			return -int(r.Severity)
		case 3:
			return -r.Hosts
		case 4:
			return -r.Drift
		}
		return string(r.Component)
	})
}

// wantLadder makes the ladder of the component under the cursor, where another is shown.
func (s *Screen) wantLadder(f part.Frame) tea.Msg {
	k := s.chosen()
	if k == "" || s.ladder.key == k && s.ladder.view == f.View {
		return nil
	}
	return func() tea.Msg { return laddered{f.View, k, f.View.Ladder(k)} }
}

func (s *Screen) feed(f part.Frame) *view.Feed {
	if i := s.shelf.At(len(shelfRows(f))); i < len(f.View.Feeds) {
		return &f.View.Feeds[i]
	}
	return nil
}

func (s *Screen) bundle(f part.Frame) *catalogue.Bundle {
	if i := s.shelf.At(len(shelfRows(f))) - len(f.View.Feeds); i >= 0 && i < len(f.View.Bundles) {
		return &f.View.Bundles[i]
	}
	return nil
}

// verify checks every payload; one that is damaged is a failure.
func (s *Screen) verify(ctx context.Context, says func(string)) (string, error) {
	text, damaged, err := s.app.VerifyPayloads(ctx, says)
	if err == nil && len(damaged) > 0 {
		err = errors.New(text)
	}
	return text, err
}

// job begins work that takes its time.
func (s *Screen) job(title string, do func(context.Context, func(string)) (string, error)) tea.Msg {
	return part.Job{Title: title, Do: func(ctx context.Context, says func(string)) tea.Msg {
		text, err := do(ctx, says)
		if err != nil {
			return part.Failed{Err: err}
		}
		return part.Reload{Say: part.Say{Text: text}}
	}}
}

func (s *Screen) sync(names []string) tea.Msg {
	return s.job("syncing", func(ctx context.Context, says func(string)) (string, error) {
		all, err := s.app.Sync(ctx, harbour.Which{Names: names}, says)
		return harbour.Says(all), err
	})
}

func (s *Screen) syncAll(f part.Frame) tea.Msg {
	if !slices.ContainsFunc(f.View.Feeds, func(x view.Feed) bool { return !x.Off }) {
		return part.Tell("there is no feed that is not switched off")
	}
	return s.sync(nil)
}

func (s *Screen) askSchedule(feed *view.Feed) tea.Msg {
	name, was := feed.Name, feed.Schedule
	return part.Ask{
		Label: "sync " + name,
		Hint:  "on demand, off, every 6h, daily 03:30",
		Value: was,
		Then: func(text string) tea.Msg {
			return func() tea.Msg {
				says, err := s.app.Schedule(s.ctx, name, text)
				if err != nil {
					return part.Failed{Err: err}
				}
				return part.Reload{Say: part.Say{Text: says,
					Undo: part.Try(func() (string, error) { return s.app.Schedule(s.ctx, name, was) })}}
			}
		},
	}
}

func (s *Screen) askBundle() tea.Msg {
	return part.Ask{
		Label: "bundle's path",
		Hint:  "keyring=FILE behind it wants a signature; nothing is taken in yet",
		File:  true,
		Then: func(text string) tea.Msg {
			file, keyring, _ := strings.Cut(text, " keyring=")
			if file = strings.TrimSpace(file); file == "" {
				return nil
			}
			return part.Job{Title: "opening " + file, Do: func(ctx context.Context, says func(string)) tea.Msg {
				by := harbour.Signed{}
				if k := strings.TrimSpace(keyring); k != "" {
					by.Keyrings = []string{k}
				}
				o, err := s.app.Open(ctx, file, by, says)
				if err != nil {
					return part.Failed{Err: err}
				}
				return part.Go{Screen: part.Bundle, Subject: o.Name, What: o}
			}}
		},
	}
}

func (s *Screen) askTakeOut(b *catalogue.Bundle) tea.Msg {
	id, name := b.ID, b.Name
	return part.Confirm{Title: "Take " + name + " out of the catalogue?", Yes: "take it out",
		Lines: []string{fmt.Sprintf("It brought %s and %s. Its payloads stay until they are pruned.",
			catalogue.Some(b.Releases, "release"), catalogue.Some(b.Advisories, "advisory"))},
		Then: part.Try(func() (string, error) {
			_, err := s.app.TakeOut(s.ctx, id)
			return name + " is no longer in the catalogue", err
		})}
}

func (s *Screen) listPayloads() tea.Msg {
	return func() tea.Msg {
		p, err := s.app.Payloads(s.ctx)
		if err != nil {
			return part.Failed{Err: err}
		}
		var lines []string
		for _, x := range p.Payloads {
			line := fmt.Sprintf("%.12s  %9s  %s", x.SHA256, catalogue.Bytes(x.Size), cmp.Or(x.Release, "no release names it"))
			if x.Wanted {
				line += ", wanted"
			}
			lines = append(lines, line)
		}
		if len(lines) == 0 {
			lines = []string{"there are none; f fetches what hosts want, and bundles bring theirs"}
		}
		lines = append(lines, "besides "+p.Own.Says())
		return part.Sheet{Title: "Payloads", Lines: lines}
	}
}

func (s *Screen) askPrune() tea.Msg {
	return part.Ask{
		Label: "prune by",
		Hint:  "unknown, older=DAYS, most=GIB, damaged; what would go is shown first",
		Value: "unknown older=90",
		Then: func(rule string) tea.Msg {
			return func() tea.Msg {
				is, err := harbour.ParseRule(rule)
				if err != nil {
					return part.Failed{Err: err}
				}
				doomed, err := s.app.Prune(s.ctx, is)
				if err != nil {
					return part.Failed{Err: err}
				}
				return s.confirmPrune(doomed)
			}
		},
	}
}

func (s *Screen) confirmPrune(doomed []catalogue.Pruned) tea.Msg {
	if len(doomed) == 0 {
		return part.Say{Text: "there is nothing to prune by this rule"}
	}
	var size int64
	var lines []string
	for i, x := range doomed {
		size += x.Size
		if i < 6 {
			lines = append(lines, fmt.Sprintf("%.12s  %s  %s", x.SHA256, catalogue.Bytes(x.Size), x.Why))
		}
	}
	return part.Confirm{
		Title: fmt.Sprintf("Remove %s that nobody wants?", catalogue.Some(len(doomed), "payload")),
		Yes:   "remove them",
		Lines: append(lines, catalogue.Bytes(size)+" in all"),
		Then: part.Try(func() (string, error) {
			return catalogue.Some(len(doomed), "payload") + " removed", s.app.Drop(doomed)
		}),
	}
}
