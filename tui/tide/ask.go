package tide

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/format/brieffile"
	"yareharbour/tui/part"
)

// noWay says why there is no way out to be taken for a host; "" where there is one.
func (s *Screen) noWay(host string) string {
	if s.toEquip(host) {
		return ""
	}
	if _, err := s.plan.WayFor(host); err != nil {
		return err.Error()
	}
	return ""
}

// toEquip tells whether what keeps a host from being visited is that hosts take no orders yet.
func (s *Screen) toEquip(host string) bool {
	i := slices.IndexFunc(s.plan.Visits, func(v plan.Visit) bool { return v.Host == host })
	return i >= 0 && unready(&s.plan.Visits[i])
}

func (s *Screen) takeWay(f part.Frame, host string) tea.Msg {
	if s.toEquip(host) {
		return s.askEquip
	}
	w, err := s.plan.WayFor(host)
	if err != nil {
		return nil
	}
	return part.Confirm{Title: "Take this way out for the round over " + s.cluster + "?", Yes: "take it",
		Lines: []string{w.Says() + ".", "The plan is made anew with it; nothing is touched yet. z takes it back."},
		Then:  taken{s.cluster, w}}
}

// unready tells whether a visit is held up because hosts take no orders yet.
func unready(v *plan.Visit) bool {
	b := precheck.Blockers(v.Answers)
	return len(b) > 0 && b[0].Check == "orders"
}

// askEquip asks the hosts what they lack before they take orders, shows it, and puts it there if that is wanted.
func (s *Screen) askEquip() tea.Msg {
	hosts, lines, err := s.desk.Missing(s.ctx, s.cluster)
	if err != nil {
		return part.Failed{Err: err}
	}
	cluster := s.cluster
	return part.Confirm{
		Title: "Put this on " + strings.Join(hosts, ", ") + "?",
		Yes:   "put it there",
		Lines: append(lines, "Running guests are not touched. yare host remove takes all of it away again, and yare "+
			"host prepare --print shows the programs."),
		Then: part.Job{Title: "preparing the hosts of " + cluster,
			Do: func(ctx context.Context, says func(string)) tea.Msg {
				if err := s.desk.Prepare(ctx, hosts, func(host string) { says(host + " takes orders") }); err != nil {
					return part.Failed{Err: err}
				}
				return equipped{cluster}
			}},
	}
}

// askOnly asks which components are to be changed.
func (s *Screen) askOnly(f part.Frame) tea.Msg {
	known := map[string]bool{}
	for i := range s.plan.Visits {
		for _, c := range s.plan.Visits[i].Changes {
			known[string(c.Component)] = true
		}
	}
	return askWords(words[estate.Key]{
		label: "only these components",
		hint:  "planned now: " + strings.Join(slices.Sorted(maps.Keys(known)), " ") + "; none for all",
		apart: ",",
		now:   s.brief.Only,
		says:  func(k estate.Key) string { return string(k) },
		reads: estate.ParseKey,
		then:  func(only []estate.Key) tea.Msg { return narrowed{s.cluster, only} },
	})
}

// askWindows asks when visits may be under way.
func (s *Screen) askWindows() tea.Msg {
	return askWords(words[plan.Window]{
		label: "visits only within",
		hint:  "as 2026-11-22T22:00/2026-11-23T04:00, several apart by blanks; none for any time",
		now:   s.brief.Windows,
		says:  brieffile.Interval,
		reads: func(word string) (plan.Window, error) { return brieffile.Window(word, time.Local) },
		then:  func(windows []plan.Window) tea.Msg { return framed{s.cluster, windows} },
	})
}

// askGuests asks what is done with guests that do not move of themselves.
func (s *Screen) askGuests() tea.Msg {
	return askWords(words[plan.Policy]{
		label: "guests",
		hint:  "as gauge-1=shut-down, suspend, eject, cold or leave; several apart by blanks; none for no exception",
		now:   s.brief.Guests,
		says:  brieffile.Policy,
		reads: brieffile.ParsePolicy,
		then:  func(guests []plan.Policy) tea.Msg { return treated{s.cluster, guests} },
	})
}

// words are values that are asked for in one line, apart by blanks and by what else is named.
type words[T any] struct {
	label, hint string
	apart       string
	now         []T
	says        func(T) string
	reads       func(string) (T, error)
	then        func([]T) tea.Msg
}

func askWords[T any](w words[T]) tea.Msg {
	var now []string
	for _, v := range w.now {
		now = append(now, w.says(v))
	}
	return part.Ask{Label: w.label, Value: strings.Join(now, " "), Hint: w.hint, Then: func(text string) tea.Msg {
		var values []T
		for _, word := range strings.FieldsFunc(text, func(r rune) bool {
			return strings.ContainsRune(" "+w.apart, r)
		}) {
			v, err := w.reads(word)
			if err != nil {
				return part.Failed{Err: err}
			}
			values = append(values, v)
		}
		return w.then(values)
	}}
}

// askReason asks for the reason of the round, and then whether to start what is planned once that was typed.
func (s *Screen) askReason() tea.Msg {
	return part.Ask{
		Label: "reason for the round",
		Value: cmp.Or(s.reason, s.brief.Reason),
		Hint:  "it goes into the journal and the hosts' own logs; Enter goes on",
		Then: func(reason string) tea.Msg {
			if reason == "" {
				return part.Tell("a round needs a reason: it goes into the journal and the hosts' own logs")
			}
			s.reason = reason
			p, why := s.plan, s.startable("")
			if s.busy {
				why = "another plan is being made; s asks again once it is there"
			}
			if why != "" {
				return part.Tell("%s", why)
			}
			return part.Confirm{
				Title: "Start the round over " + s.cluster + "?",
				Yes:   "start it",
				Lines: []string{p.Summary(), "Reason: " + reason,
					fmt.Sprintf("Just this plan is carried out (%s). Where a host or guest has moved since, it does "+
						"not start, and says what has.", p.Digest()[:12]),
					"It keeps running when the screens are closed."},
				Then: tea.Cmd(func() tea.Msg {
					if err := s.desk.Begin(s.ctx, p, reason); err != nil {
						return part.Failed{Err: err}
					}
					return begun{s.cluster}
				}),
			}
		},
	}
}
