package harbour

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"yareharbour/connector"
	"yareharbour/connector/host"
	"yareharbour/connector/libvirt"
	"yareharbour/connector/redfish"
	"yareharbour/connector/ssh"
	"yareharbour/core/estate"
	"yareharbour/core/view"
	"yareharbour/format/baselinefile"
	"yareharbour/format/brieffile"
	"yareharbour/format/estatefile"
	"yareharbour/format/releaselist"
	"yareharbour/plain"
	"yareharbour/secret"
)

// Scout looks at hosts that no estate file names yet. It changes nothing.
type Scout struct {
	way *host.Connector
}

// Draft is an estate file that is to be written.
type Draft = estatefile.Draft

// BMC is one of a draft.
type BMC = estatefile.BMC

// PasswordForms says in which words a password's place is said.
const PasswordForms = secret.Forms

// SetPassword says where the BMC's password is; the error is why that is no place.
func SetPassword(b *BMC, place string) error {
	b.Password = secret.Place(place)
	if wrong := b.Password.Check(); wrong != "" {
		return errors.New(wrong)
	}
	return nil
}

// Aliases are the hosts that ssh_config files name.
func Aliases(config []string) []string { return ssh.Aliases(config) }

// Environ is the environment for a process of this program: with the secrets that no other child gets.
func Environ() []string { return secret.Environ() }

// Schemas are JSON Schemas (draft 2020-12) of files that people write.
func Schemas(of string) []byte {
	return map[string][]byte{"baseline": baselinefile.Schema, "brief": brieffile.Schema(), "release list": releaselist.Schema}[of]
}

// NewScout looks through the connector. Its paths are relative to dir.
func NewScout(d *Draft, dir string) (*Scout, error) {
	d.Connector.Kind = estatefile.SSH
	way, err := hostsOver(d.Connector, func(p string) string {
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
	Failed *view.Stage // the first stage that does not hold; nil where the host was read
	Says   string      // what it is, in words
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
			st := view.Stage(stage)
			f.Failed = &st
			return f
		}
	}
	r, err := connector.Read(ctx, border{World: opened{s.way, machineClock{}, func() {}}}, name, estate.Host, estate.GuestList)
	if err != nil {
		f.Failed = &view.Stage{Way: "SSH", Name: "answer", Found: err.Error()}
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
