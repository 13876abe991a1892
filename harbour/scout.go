package harbour

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"yareharbour/connector"
	"yareharbour/connector/host"
	"yareharbour/connector/redfish"
	"yareharbour/core/estate"
	"yareharbour/format/estatefile"
	"yareharbour/format/plain"
)

// Scout looks at hosts that no estate file names yet. It changes nothing.
type Scout struct {
	way *host.Connector
}

// NewScout looks through the connector. Its paths are relative to dir.
func NewScout(c estatefile.Connector, dir string) (*Scout, error) {
	way, err := hostsOver(c, func(p string) string {
		if filepath.IsAbs(p) {
			return p
		}
		return filepath.Join(dir, p)
	})
	return &Scout{way}, err
}

// Found is what a first look at a host found.
type Found struct {
	Host   string
	Failed *connector.Stage // the first stage that does not hold; nil where the host was read
	Says   string           // what it is, in words
}

// Look looks at hosts, some at a time, and tells in their order what it found.
func (s *Scout) Look(ctx context.Context, hosts []string) []Found {
	out := make([]Found, len(hosts))
	var g errgroup.Group
	g.SetLimit(atOnce)
	for i, name := range hosts {
		g.Go(func() error {
			out[i] = s.look(ctx, name)
			return nil
		})
	}
	_ = g.Wait() // what failed is in what was found
	return out
}

func (s *Scout) look(ctx context.Context, name string) Found {
	f := Found{Host: name}
	for _, stage := range s.way.Connect(ctx, name) {
		plain.Strings(&stage)
		if !stage.OK && stage.Way != "BMC" {
			f.Failed = &stage
			return f
		}
	}
	r, err := connector.Read(ctx, border{opened{s.way, machineClock{}, func() {}}}, name, estate.Host, estate.GuestList)
	if err != nil {
		f.Failed = &connector.Stage{Way: "SSH", Name: "answer", Found: err.Error()}
		return f
	}
	f.Says = fmt.Sprintf("%s, %d GiB, %d guests", r.Release, (r.Capacity.MemoryMiB+1023)/1024, len(r.RunningGuests()))
	if nets := r.Offers().Networks; len(nets) > 0 {
		f.Says += ", networks " + strings.Join(nets, " ")
	}
	return f
}

// MigrationURIs are the forms in which one libvirt may reach another, in the order in which they are tried: those that
// prove who is there come first.
var MigrationURIs = []string{"qemu+ssh://root@%h/system", "qemu+tls://%h/system", "qemu+tcp://%h/system"}

// Peers finds the first form in which the hosts' libvirts reach each other, each the next; empty where there is none,
// with what was tried.
func (s *Scout) Peers(ctx context.Context, hosts []string) (uri string, tried []string) {
	for _, uri := range MigrationURIs {
		var mu sync.Mutex
		var wrong string
		var g errgroup.Group
		for i, from := range hosts {
			to := hosts[(i+1)%len(hosts)]
			g.Go(func() error {
				if err := s.way.Reaches(ctx, from, to, uri); err != nil {
					mu.Lock()
					defer mu.Unlock()
					wrong = fmt.Sprintf("%s: from %s to %s: %s", uri, from, to, plain.Line(err.Error()))
				}
				return nil
			})
		}
		_ = g.Wait() // what failed is in wrong
		if wrong == "" {
			return uri, tried
		}
		tried = append(tried, wrong)
	}
	return "", tried
}

// Certificate returns the SHA-256 of the certificate that a BMC shows, in hex, and whom it names.
func (s *Scout) Certificate(ctx context.Context, at string) (sum, subject string, err error) {
	sum, subject, err = redfish.Certificate(ctx, at)
	return sum, plain.Line(subject), err
}
