package plans

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/brief"
	"yareharbour/core/catalogue"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
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
		Lines: []string{w.Says() + ".", "The plan is made again with it; nothing is touched yet. U takes it back."},
		Then:  taken{s.cluster, w}}
}

// complete says why there is nothing to fetch; "" where a payload is not here.
func (s *Screen) complete(planned string) string {
	if planned != "" || s.plan == nil {
		return cmp.Or(planned, "it can't be planned")
	}
	for i := range s.plan.Visits {
		for _, a := range s.plan.Visits[i].Answers {
			if a.Check == "payload" && a.Level == precheck.Blocker {
				return ""
			}
		}
	}
	return "every payload of the plan is here"
}

// fetch gets what the plan lacks, and plans again.
func (s *Screen) fetch() tea.Msg {
	p, cluster := s.plan, s.cluster
	return part.Job{Title: "fetching the payloads of " + cluster, Do: func(ctx context.Context, says func(string)) tea.Msg {
		text, err := s.app.FetchPlanned(ctx, p, says)
		if err != nil {
			return part.Several{fetched{cluster, text}, part.Failed{Err: err}}
		}
		return fetched{cluster, text}
	}}
}

// stageable says why no payload can be brought to the hosts ahead; "" where one can.
func (s *Screen) stageable(planned string) string {
	switch {
	case planned != "" || s.plan == nil:
		return cmp.Or(planned, "it can't be planned")
	case s.in != nil && !s.in.Cluster.Act:
		return s.cluster + " may only be looked at: the estate file has no \"act: true\" for it"
	}
	if n, _ := s.plan.ToBring(); n == 0 {
		return "nothing of the plan can be brought to its hosts ahead: it waits there, or goes to a BMC"
	}
	return ""
}

// askStage asks whether to bring payloads to the hosts now.
func (s *Screen) askStage() tea.Msg {
	n, size := s.plan.ToBring()
	p, cluster := s.plan, s.cluster
	return part.Confirm{Title: "Bring the payloads of this plan to the hosts of " + cluster + " now?", Yes: "bring them",
		Lines: []string{fmt.Sprintf("%s, %s in all. What is not here is fetched first.", catalogue.Some(n, "payload"), catalogue.Bytes(size)),
			"No host is drained or closed. They wait there for two weeks, and the round finds them.",
			"yare stage " + cluster + " --remove takes them away again."},
		Then: part.Job{Title: "fetching the payloads of " + cluster, Do: func(ctx context.Context, says func(string)) tea.Msg {
			_, _ = s.app.FetchPlanned(ctx, p, says) // what can't be had is named once the others are brought
			if err := s.app.LaunchStaging(s.ctx, p); err != nil {
				return part.Failed{Err: err}
			}
			return begun{cluster}
		}}}
}

// unready tells whether a visit is held up because hosts take no orders yet.
func unready(v *plan.Visit) bool {
	b := precheck.Blockers(v.Answers)
	return len(b) > 0 && b[0].Check == "orders"
}

// askEquip asks the hosts what they lack before they take orders, shows it, and puts it there if that is wanted.
func (s *Screen) askEquip() tea.Msg {
	hosts, lines, err := s.app.Missing(s.ctx, s.cluster)
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
				if err := s.app.Prepare(ctx, hosts, func(host string) { says(host + " takes orders") }); err != nil {
					return part.Failed{Err: err}
				}
				return equipped{cluster}
			}},
	}
}

// askSetting asks for one setting of the brief, in the words in which a command takes it.
func (s *Screen) askSetting(name string) tea.Msg {
	of := brief.Named(name)
	apart, hint := " ", of.Help+"; nothing for the usual"
	switch of.Kind {
	case brief.Names:
		apart, hint = ", ", hint+". Several apart by commas"
	case brief.Lines:
		apart, hint = "; ", hint+". Several apart by ;"
	case brief.Policies, brief.Windows, brief.Pairs:
		hint += ". Several apart by blanks"
	case brief.Yes:
		hint = of.Help + "; true or false"
	}
	return part.Ask{Label: name, Hint: hint, Value: strings.Join(of.Words(s.brief, s.usual), apart),
		Then: func(text string) tea.Msg {
			words := []string{text}
			if of.Kind.Many() {
				words = strings.Split(text, cmp.Or(strings.TrimSpace(apart), " "))
			}
			for i := range words {
				words[i] = strings.TrimSpace(words[i])
			}
			b := s.brief
			if words = slices.DeleteFunc(words, func(w string) bool { return w == "" }); len(words) == 0 {
				words = of.Words(s.usual, plan.Brief{}) // the usual ones
			}
			if _, err := of.Lay(&b, words, time.Local); err != nil {
				return part.Failed{Err: fmt.Errorf("%s: %w", name, err)}
			}
			return laid{s.cluster, b, s.file}
		}}
}

// askSave asks where the settings of the round are to be saved as a brief.
func (s *Screen) askSave() tea.Msg {
	b := s.brief
	return part.Ask{Label: "save the brief as", Hint: "a file; yare plan " + s.cluster + " --brief FILE takes it too", File: true,
		Value: cmp.Or(s.file, s.cluster+".yaml"),
		Then: func(file string) tea.Msg {
			text, err := s.app.WriteBrief(b)
			if err != nil {
				return part.Failed{Err: err}
			}
			return part.Write{File: file, Text: text, Says: "the round's settings are in " + file}
		}}
}

// askOpen asks for a brief that is to be planned.
func (s *Screen) askOpen() tea.Msg {
	return part.Ask{Label: "open the brief", Hint: "a file; U takes it back", Value: s.file, File: true,
		Then: func(file string) tea.Msg {
			return func() tea.Msg {
				b, _, err := s.app.ReadBrief(file, s.cluster)
				if err != nil {
					return part.Failed{Err: err}
				}
				return laid{s.cluster, b, file}
			}
		}}
}

// askWhich has a setting chosen that is then asked for.
func (s *Screen) askWhich() tea.Msg {
	c := part.Choose{Title: "Settings of the round"}
	for _, of := range brief.Settings {
		c.Options = append(c.Options, part.Option{Then: s.askSetting(of.Name),
			Says: fmt.Sprintf("%-15s %s", of.Name, cmp.Or(of.Says(s.brief), "–"))})
	}
	return c
}

// askReason asks for the reason of the round, and then whether to start what is planned once that was typed.
func (s *Screen) askReason() tea.Msg {
	return part.Ask{
		Label: "reason for the round",
		Value: cmp.Or(s.reason, s.brief.Reason),
		Hint:  "it goes into the journal and the hosts' own logs; Enter continues",
		Then: func(reason string) tea.Msg {
			if reason == "" {
				return part.Refuse("a round needs a reason")
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
					if err := s.app.LaunchRound(s.ctx, p, reason); err != nil {
						return part.Failed{Err: err}
					}
					return begun{s.cluster}
				}),
			}
		},
	}
}
