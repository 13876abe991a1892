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
	"yareharbour/connector/libvirt"
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

// tlsURI is how libvirts reach each other that have certificates.
const tlsURI = "qemu+tls://%h/system"

// Peers says how the hosts' libvirts are to reach each other: by their own certificates, where each reaches the next so,
// and else by keys that are made when the hosts are prepared, with why. Neither lets whoever owns one host log in to
// another; what reaches further is left to whoever writes it into the estate file.
func (s *Scout) Peers(ctx context.Context, hosts []string) (uri, why string) {
	var mu sync.Mutex
	var g errgroup.Group
	for i, from := range hosts {
		to := hosts[(i+1)%len(hosts)]
		g.Go(func() error {
			if err := s.way.Reaches(ctx, from, to, tlsURI); err != nil {
				mu.Lock()
				defer mu.Unlock()
				why = fmt.Sprintf("from %s to %s: %s", from, to, plain.Line(err.Error()))
			}
			return nil
		})
	}
	_ = g.Wait() // what failed is in why
	if why == "" {
		return tlsURI, ""
	}
	return libvirt.PeerURI, why
}

// Certificate returns the SHA-256 of the certificate that a BMC shows, in hex, and whom it names.
func (s *Scout) Certificate(ctx context.Context, at string) (sum, subject string, err error) {
	sum, subject, err = redfish.Certificate(ctx, at)
	return sum, plain.Line(subject), err
}
