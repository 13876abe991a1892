package harbour

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"yareharbour/connector"
	"yareharbour/connector/host"
	"yareharbour/connector/linux"
	"yareharbour/core/logbook"
	"yareharbour/core/view"
)

// prepareLimit is how long it may take to prepare a host: libvirt's daemon is restarted there.
const prepareLimit = time.Minute

// Needs asks the hosts what they need before they take orders, in their order. Nothing is touched.
func (h Preparing) Needs(ctx context.Context, hosts []string) ([]view.Lacks, error) {
	out := make([]view.Lacks, len(hosts))
	err := h.preparing(ctx, hosts, func(ctx context.Context, i int, p connector.Preparer) error {
		items, err := p.Preparation(ctx, h.together(hosts[i], hosts))
		out[i].Host = hosts[i]
		for _, x := range items {
			out[i].Items = append(out[i].Items, view.Item(x))
		}
		if err != nil {
			out[i].Wrong = err.Error()
		}
		return nil
	})
	return out, err
}

// together are those of the hosts that are of one cluster with a host.
func (h *house) together(host string, hosts []string) (out []string) {
	c, _ := h.Estate.ClusterOf(host)
	for _, o := range hosts {
		if o != host && slices.Contains(c.Hosts, o) {
			out = append(out, o)
		}
	}
	return out
}

// Prepare puts on the hosts what they need before they take orders. It goes on with the others where one fails. Where
// guests move by keys, those of one cluster get to know each other, and each is seen to reach the next.
func (h Preparing) Prepare(ctx context.Context, hosts []string, done func(host string)) error {
	told := make([]connector.Peer, len(hosts))
	err := h.preparing(ctx, hosts, func(ctx context.Context, i int, p connector.Preparer) (err error) {
		told[i], err = p.Prepare(ctx, nil)
		if err == nil {
			err = h.enter(ctx, logbook.Entry{Kind: logbook.Prepared, Host: hosts[i], Says: hosts[i] + ": what hosts need before they take orders"})
		}
		if err == nil && told[i].Key == "" {
			done(hosts[i])
		}
		return err
	})
	if err != nil || !slices.ContainsFunc(told, func(p connector.Peer) bool { return p.Key != "" }) {
		return err
	}
	known := func(host string) (out []connector.Peer) {
		for _, p := range told {
			if p.Key != "" && slices.Contains(h.together(host, hosts), p.Host) {
				out = append(out, p)
			}
		}
		return out
	}
	err = h.preparing(ctx, hosts, func(ctx context.Context, i int, p connector.Preparer) error {
		_, err := p.Prepare(ctx, known(hosts[i]))
		return err
	})
	if err != nil {
		return err
	}
	return h.preparing(ctx, hosts, func(ctx context.Context, i int, p connector.Preparer) error {
		for _, peer := range known(hosts[i]) {
			if err := p.Reaches(ctx, peer.Host); err != nil {
				return fmt.Errorf("%s is prepared, and its libvirt does not reach that of %s: %w", hosts[i], peer.Host, err)
			}
		}
		done(hosts[i])
		return nil
	})
}

// Unprepare takes away from the hosts what Prepare put there, and everything that was kept there.
func (h Preparing) Unprepare(ctx context.Context, hosts []string, done func(host string)) error {
	for _, host := range hosts {
		if c, ok := h.Estate.ClusterOf(host); ok {
			if err := h.vacant(ctx, c.Name, false); err != nil {
				return err
			}
		}
	}
	return h.preparing(ctx, hosts, func(ctx context.Context, i int, p connector.Preparer) error {
		err := p.Remove(ctx)
		if err == nil {
			err = h.enter(ctx, logbook.Entry{Kind: logbook.Removed, Host: hosts[i], Says: hosts[i] + ": everything that was put there"})
		}
		if err == nil {
			done(hosts[i])
		}
		return err
	})
}

// Unprepared are the hosts of a cluster that take no orders as they are, by fresh readings.
func (h Preparing) Unprepared(ctx context.Context, cluster string) (out []string, err error) {
	c, err := h.Cluster(cluster)
	if err != nil {
		return nil, err
	}
	seen, err := h.glance(ctx, c.Hosts)
	for _, host := range c.Hosts {
		if r := seen[host]; r != nil && r.Unready != "" {
			out = append(out, host)
		}
	}
	return out, err
}

// Missing tells which hosts of a cluster lack something before they take orders, and what that is, once for all that
// lack the same.
func (h Preparing) Missing(ctx context.Context, cluster string) (hosts, lines []string, err error) {
	c, err := h.Cluster(cluster)
	if err != nil {
		return nil, nil, err
	}
	needs, err := h.Needs(ctx, c.Hosts)
	if err != nil {
		return nil, nil, err
	}
	told := map[string][]string{}
	var order []string
	for i := range needs {
		n := &needs[i]
		if n.Wrong != "" {
			return nil, nil, fmt.Errorf("%s can't be prepared: %s", n.Host, n.Wrong)
		}
		if n.Ready() {
			continue
		}
		hosts = append(hosts, n.Host)
		for _, item := range n.Items {
			says := item.What + ": " + item.Why
			if !item.There && told[says] == nil {
				order = append(order, says)
			}
			if !item.There {
				told[says] = append(told[says], n.Host)
			}
		}
	}
	for _, says := range order {
		lines = append(lines, strings.Join(told[says], ", ")+": "+says)
	}
	return hosts, lines, nil
}

// preparing does something with hosts, some at a time, each with its limit, and returns what failed, in the hosts'
// order.
func (h *house) preparing(ctx context.Context, hosts []string,
	do func(ctx context.Context, i int, p connector.Preparer) error) error {
	failed := make([]error, len(hosts))
	var g errgroup.Group
	g.SetLimit(h.atOnce())
	for i, name := range hosts {
		g.Go(func() error {
			ctx, cancel := context.WithTimeout(ctx, prepareLimit)
			defer cancel()
			s, err := h.world.Open(ctx, name)
			if err != nil {
				failed[i] = err
				return nil
			}
			// a session at the border refuses where only looking is allowed, and does nothing where nothing is needed
			if p, ok := s.(connector.Preparer); ok {
				failed[i] = do(ctx, i, p)
			}
			failed[i] = errors.Join(failed[i], s.Close())
			return nil
		})
	}
	_ = g.Wait() // every error is in failed
	return errors.Join(failed...)
}

// Program is a file that is put on hosts.
type Program struct{ Path, SHA256, Text string }

// Programs are the files that are put on hosts, for whoever owns those to read.
func Programs() (out []Program) {
	for _, p := range host.Programs() {
		out = append(out, Program{p.Path, p.SHA256, p.Text})
	}
	return out
}

// Places are where on a host things are put.
func Places() []string { return []string{linux.Home, linux.HookPath} }
