package cli

import (
	"bytes"
	"io"
	"strings"
	"testing"
)

// A reason is asked for until there is one; whoever gives none has nothing done.
func TestAReasonIsAskedFor(t *testing.T) {
	for in, want := range map[string]string{"patches\n": "patches", "\n \nlate\n": "late", "\n\n\nlate\n": "", "": ""} {
		var errs bytes.Buffer
		a := &app{in: strings.NewReader(in), err: &errs, out: &errs}
		if got, err := a.reason(); got != want || (err == nil) != (want != "") {
			t.Errorf("%q: %q, %v", in, got, err)
		}
		if got, err := a.why(""); got != "" || err != nil {
			t.Errorf("where nobody answers: %q, %v", got, err)
		}
	}
}

// An interrupt ends the program at a question, and is no answer.
func TestAnInterruptIsNoAnswer(t *testing.T) {
	r, w := io.Pipe()
	defer w.Close()
	interrupted := make(chan struct{})
	close(interrupted)
	var errs bytes.Buffer
	code := -1
	a := &app{in: r, err: &errs, out: &errs, interrupted: interrupted, leave: func(c int) { code = c }}
	if a.confirm("Do it?") || code != exitFailure || !strings.Contains(errs.String(), "interrupted: the question is not answered") {
		t.Errorf("%d %q", code, errs.String())
	}
}

// A question is answered with a yes or not at all; at the end of the input it is a no.
func TestQuestions(t *testing.T) {
	for in, want := range map[string]bool{"y\n": true, "yes\n": true, "Y\n": true, "n\n": false, "\n": false,
		"": false, "yep\n": false} {
		var errs bytes.Buffer
		a := &app{in: strings.NewReader(in), err: &errs, out: &errs}
		if got := a.confirm("Do it?"); got != want {
			t.Errorf("%q is taken for %v", in, got)
		}
		if !strings.Contains(errs.String(), "Do it?") {
			t.Errorf("%q: nothing was asked: %s", in, errs.String())
		}
	}
}
