package view

import (
	"time"

	"yareharbour/core/course"
)

// Entry is a line of a round's log.
type Entry struct {
	At   time.Time
	Host string // "" where it is about the round
	Tone Tone
	Text string
	More []string // what was written at that moment, where that was fetched: the ends of logs
}

// Log tells a round's journal to a reader; what only announces is left out. A remedy is a line of its own behind what
// it is for.
func Log(events []course.Event) (out []Entry) {
	for i := range events {
		e := &events[i]
		if e.Announces() {
			continue
		}
		l := entry(e)
		out = append(out, l)
		if e.Kind == course.Started && e.Plan != nil {
			out = append(out, Entry{At: e.At, Tone: Quiet, Text: e.Plan.Summary()})
		}
		if e.Remedy != "" && !e.Again {
			out = append(out, Entry{At: e.At, Host: l.Host, Tone: Strong, Text: "→ " + e.Advice()})
		}
	}
	return out
}

func entry(e *course.Event) Entry {
	l := Entry{At: e.At, Host: e.About()}
	if e.Again {
		l.Tone, l.Text = Caution, e.Says()
		return l
	}
	switch e.Kind {
	case course.Started:
		l.Text = "round by " + e.By
		if e.Plan != nil {
			l.Text = "round over " + e.Plan.Brief.Cluster + " by " + e.By
		}
		if e.Detail != "" {
			l.Text += ": " + e.Detail
		}
	case course.Taken:
		l.Text = "taken on by " + e.By
	case course.Leapt:
		l.Tone, l.Text = Caution, e.Says()
	case course.Asked:
		l.Tone, l.Text = Caution, e.By+" asks: "+e.Says()
	case course.Ended:
		l.Tone, l.Text = Strong, string(e.Status)+": "+e.Detail
	case course.Failed, course.Stuck, course.Overdue, course.Blocked, course.Unproven:
		l.Tone, l.Text = Alarm, "✗ "+e.Says()+": "+e.Detail
	case course.Quiet:
		if l.Tone, l.Text = Caution, e.Says(); e.Act.Kind.Of().Rules().Quiet {
			l.Tone = Quiet
		}
	case course.Undone, course.Unanswered, course.Waits, course.Left, course.Handed, course.Refuted:
		l.Tone, l.Text = Caution, e.Says()
	case course.Logged:
		l.Tone, l.Text = Quiet, e.Says()
		for i := range e.Logs {
			if of := &e.Logs[i]; len(of.Last(1)) > 0 {
				l.More = append(l.More, "log of "+of.Title()+" at that moment:")
				for _, line := range of.Last(5) {
					l.More = append(l.More, "  "+line)
				}
			}
		}
	default:
		l.Text = e.Says()
		if e.Detail != "" {
			l.Text += " – " + e.Detail
		}
	}
	return l
}

// Ends is when a round that runs ends, as things stand: about, and at worst, by the estimates of what its visits have
// before them. Hosts that the brief lets be out at once are visited beside each other; a soak that is to come is waited
// for.
func (r *Round) Ends(now time.Time) (about, worst time.Time) {
	var middle, most time.Duration
	ahead := 0
	for i := range r.State.Visits {
		v := &r.State.Visits[i]
		if v.Over() || v.Failure != nil || v.Obstacle != "" {
			continue
		}
		ahead++
		for n := max(0, len(v.Spans)-1); n < len(v.Steps); n++ {
			step := v.Steps[n]
			if n < len(v.Spans) {
				gone := now.Sub(v.Spans[n].From)
				if !v.Spans[n].To.IsZero() {
					continue
				}
				step.Middle, step.Pessimistic = max(0, step.Middle-gone), max(0, step.Pessimistic-gone)
			}
			middle, most = middle+step.Middle, most+step.Pessimistic
		}
		if v.Host == r.State.Plan.Brief.Trial {
			middle, most = middle+r.State.Plan.Brief.Soak, most+r.State.Plan.Brief.Soak
		}
	}
	beside := time.Duration(max(1, min(ahead, r.State.Plan.Brief.Out)))
	return now.Add(middle / beside), now.Add(most / beside)
}

// Standing of a round, in words: with what to do where a person must.
func (r *Round) Standing() (string, Tone) {
	switch s := r.State; s.Status {
	case course.Running:
		switch {
		case !r.Runs:
			return "interrupted: nobody runs it; g resumes it", Alarm
		case s.Stop:
			return "stopping at the next safe point", Caution
		case s.Pause:
			return "pausing after this host", Caution
		}
		return "running", Good
	case course.Finished:
		return "finished", Good
	case course.Failing:
		return "failed: it needs you; f shows the ways out", Alarm
	}
	return string(r.State.Status) + "; g resumes it", Caution
}
