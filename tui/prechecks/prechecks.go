// Package prechecks is the Prechecks screen: what was asked of the hosts that a round would visit, what was found, and
// what to do about it, in the order in which a person would act.
package prechecks

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/drift"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/span"
	"yareharbour/core/view"
	"yareharbour/tui/part"
)

// App is what the screen asks for.
type App interface {
	// Usual is the brief of the cluster's usual round.
	Usual(cluster string) (plan.Brief, error)
	// Gather reads the cluster and brings together what plans are made from; Make makes one of it.
	Gather(ctx context.Context, b plan.Brief) (*plan.Input, error)
	Make(in plan.Input) (*plan.Plan, error)
	// WaiveFor puts pardons of answers on the record, for so long.
	Waive(ctx context.Context, cluster string, of []precheck.Answer, reason string, lasts time.Duration) ([]precheck.Waiver, error)
	// TakeBack ends waivers before their time.
	TakeBack(ctx context.Context, cluster string, of []precheck.Waiver) error
}

// Screen is the prechecks of a cluster.
type Screen struct {
	ctx     context.Context
	app     App
	cluster string
	brief   *plan.Brief // what is planned; nil: the usual round
	rows    []row
	at      int
	read    time.Time
	asked   bool
	inLine  bool // every host of the cluster is, and so none would be visited
	busy    bool
	wrong   error
	turn    int
}

// row is one thing that was found, on all the hosts on which it was.
type row struct {
	of []precheck.Answer
}

func (r *row) first() *precheck.Answer { return &r.of[0] }

func (r *row) hosts() (out []string) {
	for i := range r.of {
		out = append(out, r.of[i].Host)
	}
	return out
}

// byEvidence divides the row into those that found the same, each in the row's order.
func (r *row) byEvidence() (out []row) {
	for _, a := range r.of {
		i := slices.IndexFunc(out, func(o row) bool { return o.first().Evidence == a.Evidence })
		if i < 0 {
			out = append(out, row{[]precheck.Answer{a}})
		} else {
			out[i].of = append(out[i].of, a)
		}
	}
	return out
}

// New opens the cluster of a place, for the brief that it carries.
func New(ctx context.Context, d App, p part.Place) *Screen {
	s := &Screen{ctx: ctx, app: d, cluster: p.Cluster}
	if b, ok := p.What.(plan.Brief); ok {
		s.brief = &b
	}
	return s
}

// Place implements part.Screen.
func (s *Screen) Place() part.Place { return part.Place{Screen: part.Prechecks, Cluster: s.cluster} }

// Help implements part.Screen.
func (s *Screen) Help() []string {
	return []string{
		"What was asked of every host that the round would visit, in the order in which you would act: ✗ blocks its " +
			"visit, ? could not be known, ! is a caution, ~ was waived, ✓ is clear.",
		"The same finding on several hosts is one line. Beside it: the question, what was found where, what to do, " +
			"and how long the answer holds.",
		"A waiver accepts just what was found, until its end, and goes on the record. Where the check finds " +
			"something else, it says nothing. What must never be waived says why.",
	}
}

// Keys implements part.Screen.
func (s *Screen) Keys(part.Frame) []part.Key {
	r := s.row()
	waive, back := "", ""
	switch {
	case r == nil:
		waive, back = "nothing is shown", "nothing is shown"
	case r.first().Waived != nil:
		waive = "it is waived already"
	case r.first().Level == precheck.Clear:
		waive = "it is clear: there is nothing to waive"
	default:
		if why := r.first().Never; why != "" {
			waive = "it must never be waived: " + why
		}
	}
	if back == "" && r.first().Waived == nil {
		back = "it is not waived"
	}
	again := ""
	if s.busy {
		again = "it is being asked"
	}
	return []part.Key{
		part.NewKey("W", "waive", "waive what the cursor is on, for a reason and for a time", waive, s.askWaive),
		part.NewKey("U", "take back", "take back the waiver under the cursor", back, s.askBack),
		part.NewKey("n", "ask again", "read the cluster and ask every check again", again, s.again),
	}
}

func (s *Screen) row() *row {
	if s.at >= len(s.rows) {
		return nil
	}
	return &s.rows[s.at]
}

// Export implements part.Screen.
func (s *Screen) Export(f part.Frame, format string) *view.Document {
	if len(s.rows) == 0 {
		return nil
	}
	var all []precheck.Answer
	for i := range s.rows {
		all = append(all, s.rows[i].of...)
	}
	d := view.OfPrechecks(all)
	d.Subjects = []string{s.cluster}
	return &d
}

// messages of the screen
type (
	answered struct {
		cluster string
		turn    int
		answers []precheck.Answer
		inLine  bool
		at      time.Time
		err     error
	}
	waived struct {
		cluster, says string
	}
	rowPicked int
	turned    int
)

// Update implements part.Screen.
func (s *Screen) Update(_ part.Frame, msg tea.Msg) tea.Msg {
	switch msg := msg.(type) {
	case part.Shown:
		if !s.asked {
			return s.again()
		}
	case answered:
		if msg.cluster == s.cluster && msg.turn == s.turn {
			s.busy, s.wrong = false, msg.err
			if msg.err == nil {
				s.rows, s.read, s.inLine = arrange(msg.answers), msg.at, msg.inLine
				s.at = part.Clamp(s.at, max(len(s.rows), 1))
			}
		}
	case waived:
		if msg.cluster == s.cluster {
			return part.Several{part.Tell("%s", msg.says), s.again()}
		}
	case part.Step:
		s.at = part.Clamp(s.at+msg.DY, max(len(s.rows), 1))
	case turned:
		s.at = part.Clamp(s.at+int(msg), max(len(s.rows), 1))
	case rowPicked:
		s.at = int(msg)
	case part.Enter:
		if r := s.row(); r != nil {
			return part.Go{Screen: part.Host, Cluster: s.cluster, Host: r.first().Host}
		}
	}
	return nil
}

// again reads the cluster and asks every check.
func (s *Screen) again() tea.Msg {
	s.asked, s.busy = true, true
	s.turn++
	turn, cluster, brief := s.turn, s.cluster, s.brief
	return func() tea.Msg {
		if brief == nil {
			b, err := s.app.Usual(cluster)
			if err != nil {
				return answered{cluster: cluster, turn: turn, err: err}
			}
			brief = &b
		}
		in, err := s.app.Gather(s.ctx, *brief)
		if err != nil {
			return answered{cluster: cluster, turn: turn, err: err}
		}
		p, err := s.app.Make(*in)
		if err != nil {
			return answered{cluster: cluster, turn: turn, err: err}
		}
		var all []precheck.Answer
		for i := range p.Visits {
			all = append(all, p.Visits[i].Answers...)
		}
		return answered{cluster, turn, all, p.InLine(), in.Now, nil}
	}
}

// rank is the place of an answer in the order in which a person would act.
func rank(a *precheck.Answer) int {
	switch {
	case a.Waived != nil:
		return 4
	case a.Level == precheck.Blocker && !a.Unknown:
		return 0
	case a.Unknown && a.Level == precheck.Blocker:
		return 1
	case a.Unknown:
		return 2
	case a.Level == precheck.Caution:
		return 3
	}
	return 5
}

// arrange puts what was found into rows: the same finding of several hosts in one, what blocks first. Clear answers of
// a check are one row, whatever they say.
func arrange(answers []precheck.Answer) (rows []row) {
	for _, a := range answers {
		i := slices.IndexFunc(rows, func(r row) bool {
			f := r.first()
			return f.Check == a.Check && rank(f) == rank(&a) && (f.Evidence == a.Evidence || a.Level == precheck.Clear)
		})
		if i < 0 {
			rows = append(rows, row{[]precheck.Answer{a}})
		} else {
			rows[i].of = append(rows[i].of, a)
		}
	}
	slices.SortStableFunc(rows, func(a, b row) int { return cmp.Compare(rank(a.first()), rank(b.first())) })
	return rows
}

func (s *Screen) askWaive() tea.Msg {
	r := s.row()
	of := slices.Clone(r.of)
	return part.Ask{Label: "waive for so long, and why", Value: "7d ",
		Hint: "a time as 12h or 7d, and then the reason: both go on the record", Then: func(text string) tea.Msg {
			word, reason, _ := strings.Cut(strings.TrimSpace(text), " ")
			lasts, err := span.Parse(word)
			if err == nil && lasts == 0 {
				err = errors.New("a waiver lasts longer than no time")
			}
			if err != nil {
				return part.Failed{Err: err}
			}
			reason = strings.TrimSpace(reason)
			if reason == "" {
				return part.Refuse("a waiver needs a reason: it goes on the record")
			}
			return part.Confirm{Title: "Waive " + r.first().Check + " of " + strings.Join(r.hosts(), ", ") + "?",
				Yes: "waive it", Lines: []string{"What was found: " + r.first().Evidence, "Reason: " + reason,
					"It pardons just this, for " + drift.Age(lasts) + ". It stays on the record."},
				Then: tea.Cmd(func() tea.Msg {
					if _, err := s.app.Waive(s.ctx, s.cluster, of, reason, lasts); err != nil {
						return part.Failed{Err: err}
					}
					return waived{s.cluster, "it is waived, and on the record"}
				})}
		}}
}

func (s *Screen) askBack() tea.Msg {
	var of []precheck.Waiver
	for _, a := range s.row().of {
		of = append(of, *a.Waived)
	}
	return part.Confirm{Title: "Take this waiver back?", Yes: "take it back",
		Lines: []string{of[0].Says(), "What it pardons holds a visit up again. The waiver stays on the record."},
		Then: tea.Cmd(func() tea.Msg {
			if err := s.app.TakeBack(s.ctx, s.cluster, of); err != nil {
				return part.Failed{Err: err}
			}
			return waived{s.cluster, "the waiver is taken back"}
		})}
}
