package harbour

import (
	"context"
	"errors"
	"time"

	"yareharbour/core/estate"
	"yareharbour/core/precheck"
	"yareharbour/format/estatefile"
	"yareharbour/format/expression"
)

// own is a check of one's own, compiled.
type own struct {
	estatefile.Check
	holds *expression.Expression
}

// compileOwn compiles the estate file's checks.
func compileOwn(checks []estatefile.Check) (out []own, err error) {
	for _, c := range checks {
		x, err := expression.CompileCheck(c.Holds)
		if err != nil {
			return nil, err
		}
		out = append(out, own{c, x})
	}
	return out, nil
}

// askOwn asks every check of one's own about a host. What could not be known, or not be worked out, is never clear.
func (h *house) askOwn(ctx context.Context, r *estate.Reading, maxAge time.Duration) (out []precheck.Answer) {
	now := h.Now()
	for _, c := range h.own {
		level := precheck.Level(c.Level)
		if level == "" {
			level = precheck.Caution
		}
		a := precheck.Answer{Check: c.Name, Host: r.Host, Level: level, Evidence: c.Says, Remedy: c.Remedy}
		for _, s := range c.holds.Needs {
			if at := r.Section(s).At; a.At.IsZero() || at.Before(a.At) {
				a.At = at
			}
		}
		if maxAge > 0 && !a.At.IsZero() {
			a.Until = a.At.Add(maxAge)
		}
		yes, err := c.holds.Holds(ctx, r, now, maxAge)
		var unread *expression.UnreadError
		switch {
		case errors.As(err, &unread):
			a.Unknown, a.Evidence, a.Remedy = true, "it could not be known: "+unread.Error(),
				"see that the host answers, then read it again"
		case err != nil:
			a.Unknown, a.Evidence, a.Remedy = true, "it could not be worked out: "+err.Error(),
				"fix its expression in the estate file: yare precheck try "+r.Host+" tries one"
		case yes:
			a.Level, a.Evidence, a.Remedy = precheck.Clear, "it holds", ""
		}
		if a.Level == precheck.Blocker {
			a.Never = c.Never
		}
		out = append(out, a)
	}
	return out
}

// Try evaluates an expression on a host, and says what it cost.
func (h Planning) Try(ctx context.Context, host, text string) (value any, cost uint64, err error) {
	x, err := expression.Compile(text)
	if err != nil {
		return nil, 0, err
	}
	readings, err := h.read(ctx, []string{host}, nil)
	if err != nil {
		return nil, 0, err
	}
	return x.Evaluate(ctx, readings[host], h.Now(), MaxAge)
}
