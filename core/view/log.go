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
		return "failed: it needs you; f shows what leads on", Alarm
	}
	return string(r.State.Status) + "; g resumes it", Caution
}
