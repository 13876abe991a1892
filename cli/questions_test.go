package cli

import (
	"bytes"
	"strings"
	"testing"
)

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
