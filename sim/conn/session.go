package conn

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"

	"yareharbour/connector"
	"yareharbour/connector/redfish"
	"yareharbour/core/act"
	"yareharbour/sim"
)

// session is a conversation with one simulated host and its BMC. The connections are the connector's and are kept by
// it.
type session struct {
	c    *Connector
	host string
}

// Open begins a session with a host.
func (c *Connector) Open(_ context.Context, host string) (connector.Session, error) {
	return &session{c, host}, nil
}

// Close has nothing of its own to let go of.
func (*session) Close() error { return nil }

// Resolve finds that nothing else changes: packages of a simulated estate do not need each other.
func (s *session) Resolve(context.Context, []connector.Wanted) act.Resolution {
	return act.Resolution{}
}

// Do gives the host the order. An image is for its BMC, and is given to that once the host has taken the order: so a
// host refuses what is stale for its BMC as well.
func (s *session) Do(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	payload, size := o.Payload, o.Size
	if o.Kind == act.Flash {
		payload, size = nil, 0
	}
	text, err := json.Marshal(map[string]any{"Act": o.Act, "Entry": o.Entry, "Sum": o.Sum})
	if err != nil {
		return connector.Receipt{}, err
	}
	if payload == nil {
		payload = http.NoBody
	}
	if err := o.Still(); err != nil {
		return connector.Receipt{}, err
	}
	reply, err := s.c.post(ctx, "do", s.host, http.Header{sim.OrderHeader: {base64.StdEncoding.EncodeToString(text)}},
		payload, size)
	if o.Kind.Of().Rules().ByBMC && errors.Is(err, connector.ErrUnreachable) {
		err = nil // its BMC is told all the same
	}
	if err != nil {
		return connector.Receipt{}, err
	}
	switch o.Kind {
	case act.Unmount:
		return connector.Receipt{}, s.tell(ctx, o, (*redfish.Client).Unmount)
	case act.Flash:
		return s.flash(ctx, o)
	case act.Clear:
		return connector.Receipt{}, s.tell(ctx, o, (*redfish.Client).Clear)
	case act.Mount:
		return connector.Receipt{}, s.tell(ctx, o, (*redfish.Client).Mount)
	}
	if o.Keep != nil {
		sum := sha256.Sum256(reply.Body)
		if got := hex.EncodeToString(sum[:]); got != reply.SHA256 {
			return connector.Receipt{}, fmt.Errorf("what %s gave arrived with the SHA-256 %s, and it says %s",
				s.host, got, reply.SHA256)
		}
		if _, err := o.Keep.Write(reply.Body); err != nil {
			return connector.Receipt{}, fmt.Errorf("keeping what %s gave: %w", s.host, err)
		}
	}
	return connector.Receipt{Task: reply.Task, SHA256: reply.SHA256}, nil
}

// tell gives the host's BMC an order.
func (s *session) tell(ctx context.Context, o connector.Order, do func(*redfish.Client, context.Context, connector.Order) error) error {
	b, err := s.c.bmc(s.host)
	if err != nil {
		return err
	}
	return do(b, ctx, o)
}

func (s *session) flash(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	b, err := s.c.bmc(s.host)
	if err != nil {
		return connector.Receipt{}, err
	}
	return b.Flash(ctx, o)
}

// Certificate asks the BMC for the certificate that it shows, and the host how it knows it.
func (s *session) Certificate(ctx context.Context) (c connector.Certificate, err error) {
	at, ok := s.c.address.BMC[s.host]
	if !ok {
		return c, fmt.Errorf("%s has no BMC", s.host)
	}
	if c.Shown, err = redfish.Shown(ctx, at, (&net.Dialer{}).DialContext); err != nil {
		return c, err
	}
	c.Pinned = s.c.address.Fingerprint
	c.Known = s.c.target(s.host, at).Knows(ctx) == nil
	reply, err := s.c.call(ctx, "certificate", sim.Call{Host: s.host})
	if c.Inside = reply.SHA256; err != nil {
		c.Unseen = err.Error()
	}
	return c, nil
}

// Differs asks the host.
func (s *session) Differs(ctx context.Context, archive io.Reader, _ int64) ([]string, error) {
	body, err := io.ReadAll(archive)
	if err != nil {
		return nil, err
	}
	reply, err := s.c.call(ctx, "differs", sim.Call{Host: s.host, Body: body})
	return reply.Lines, err
}

// Logs are the ends of the logs of the host and of its BMC.
func (s *session) Logs(ctx context.Context) []act.Log {
	reply, err := s.c.call(ctx, "logs", sim.Call{Host: s.host})
	out := reply.Logs
	if err != nil {
		out = []act.Log{{Of: act.LogHost, Err: err.Error()}}
	}
	b, err := s.c.bmc(s.host)
	if err != nil {
		return append(out, act.Log{Of: act.LogBMC, Err: err.Error()})
	}
	return append(out, b.Log(ctx))
}

// Trace asks the host, and the BMC about an image.
func (s *session) Trace(ctx context.Context, a act.Act, task string) (act.Trace, error) {
	if a.Kind == act.Flash {
		return s.flashed(ctx, a, task)
	}
	reply, err := s.c.call(ctx, "trace", sim.Call{Host: s.host, Act: &a})
	if err != nil {
		return act.Trace{Unasked: err.Error()}, ctx.Err()
	}
	return reply.Trace, nil
}

// flashed looks for the task of an image: by its id, or as the one that the BMC did not list before.
func (s *session) flashed(ctx context.Context, a act.Act, task string) (act.Trace, error) {
	b, err := s.c.bmc(s.host)
	if err != nil {
		return act.Trace{Unasked: err.Error()}, nil
	}
	return b.Trace(ctx, task, a.Before.Tasks), ctx.Err()
}

var (
	_ connector.Doer   = (*session)(nil)
	_ connector.Tester = (*session)(nil)
)
