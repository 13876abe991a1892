package round

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"

	"yareharbour/core/course"
	"yareharbour/sim/demo"
)

// A call that never ends does not hang the round: a look is given up, told as silence, and made anew; of an order it is
// looked up what became of it.
func TestACallThatHangs(t *testing.T) {
	for _, order := range []bool{false, true} {
		inBubble(t, demo.World(), func(t *testing.T, h *harness) {
			var hung atomic.Int32
			over := make(chan struct{})
			defer close(over)
			h.hangs = func(is bool) {
				h.mu.Lock()
				closed := h.isClosed("heron")
				h.mu.Unlock()
				if closed && is == order && hung.CompareAndSwap(0, 1) {
					<-over
				}
			}
			if s := h.over("heron"); hung.Load() != 1 || s.Status != course.Finished {
				t.Errorf("order %v: it hung %d times, and the round is %s: %s", order, hung.Load(), s.Status, s.Detail)
			}
		})
	}
}

// Interrupted while a call hangs, the runner ends.
func TestInterruptedWhileACallHangs(t *testing.T) {
	inBubble(t, demo.World(), func(t *testing.T, h *harness) {
		p := h.plan("vts", "heron")
		h.epoch++
		h.write(course.Event{Kind: course.Started, Round: "R1", Plan: &p, By: "tester", Detail: "a test"})
		s, err := course.Fold(h.journal)
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		over := make(chan struct{})
		defer close(over)
		h.hangs = func(bool) {
			cancel()
			<-over
		}
		if err := h.runner("vts").Run(ctx, s); !errors.Is(err, context.Canceled) {
			t.Errorf("it is not interrupted: %v", err)
		}
	})
}
