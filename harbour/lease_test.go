package harbour

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"
	"time"

	"yareharbour/store"
)

// slow is a lease whose store does not answer.
type slow struct {
	store.Lease
	lost   atomic.Bool
	renews atomic.Int64
}

func (*slow) Every() time.Duration { return time.Millisecond }

func (l *slow) Stands() error {
	if l.lost.Load() {
		return store.ErrLost
	}
	return nil
}

func (l *slow) Renew(ctx context.Context) error {
	l.renews.Add(1)
	<-ctx.Done()
	return ctx.Err()
}

// A lease that is lost ends what is under way though the store does not answer.
func TestALostLeaseEndsTheRoundAtOnce(t *testing.T) {
	ctx, cancel := context.WithCancelCause(t.Context())
	l := &slow{}
	go hold(ctx, l, cancel)
	for l.renews.Load() == 0 {
		time.Sleep(time.Millisecond)
	}
	if ctx.Err() != nil {
		t.Fatal("it ends while the lease stands:", context.Cause(ctx))
	}
	l.lost.Store(true)
	select {
	case <-ctx.Done():
	case <-time.After(10 * time.Second):
		t.Fatal("it goes on without a lease, as long as the store does not answer")
	}
	if err := context.Cause(ctx); !errors.Is(err, store.ErrLost) {
		t.Error(err)
	}
}
