package harbour

import (
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/view"
	"yareharbour/format/baselinefile"
)

// Amend fulfils a wish in the text of a baseline: nothing is saved. It returns the text, in which all else stands as it
// stood, and the line, from 1, on which what is new begins. An exception is by whoever asks, and from now on.
func (h Baselines) Amend(b view.Baseline, w baseline.Wish) (text string, line int, err error) {
	if w.Exception != nil {
		e := *w.Exception
		now := h.Now()
		day := now.Add(w.For).In(time.Local)
		e.By, e.Until = h.By, time.Date(day.Year(), day.Month(), day.Day()+1, 0, 0, 0, 0, time.Local)
		w.Exception = &e
	}
	out, line, err := baselinefile.Amend(b.Name+".yaml", []byte(b.Text), w)
	return string(out), line, err
}
