package ssh

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"
)

// hostKeys are the keys by which a host is known.
type hostKeys struct {
	files   []string
	known   ssh.HostKeyCallback
	refused error // why the last key shown was refused
}

func (r route) hostKeys() (*hostKeys, error) {
	k := &hostKeys{}
	for _, f := range r.known {
		if _, err := os.Stat(f); err == nil {
			k.files = append(k.files, f)
		}
	}
	if len(k.files) == 0 {
		return nil, fmt.Errorf("no host key is known: none of %s is there", strings.Join(r.known, ", "))
	}
	var err error
	if k.known, err = knownhosts.New(k.files...); err != nil {
		return nil, fmt.Errorf("the known host keys: %w", err)
	}
	return k, nil
}

// check refuses every key but one that is known for the host.
func (k *hostKeys) check(host string, remote net.Addr, key ssh.PublicKey) error {
	err := k.known(host, remote, key)
	var other *knownhosts.KeyError
	shown := key.Type() + " " + ssh.FingerprintSHA256(key)
	var revoked *knownhosts.RevokedError
	switch {
	case errors.As(err, &revoked):
		k.refused = fmt.Errorf("it shows the host key %s, which is revoked in %s", shown, revoked.Revoked.Filename)
	case errors.As(err, &other) && len(other.Want) == 0:
		k.refused = fmt.Errorf("its host key %s is in none of %s: compare it on the host itself (ssh-keygen -lf /etc/ssh/ssh_host_*.pub) and add it there", shown, strings.Join(k.files, ", "))
	case errors.As(err, &other):
		w := other.Want[0]
		k.refused = fmt.Errorf("it shows the host key %s, and %s line %d has another: the host was made anew, or another machine answers in its place", shown, w.Filename, w.Line)
	case err != nil:
		k.refused = err
	}
	return err
}

// algorithms are those of the keys that are known, so that a host with several shows one of them; none known: any.
func (k *hostKeys) algorithms(r route) (out []string) {
	var e *knownhosts.KeyError
	if !errors.As(k.known(r.knownAs(), &net.TCPAddr{IP: net.IPv4zero}, noKey{}), &e) {
		return nil
	}
	for _, w := range e.Want {
		names := []string{w.Key.Type()}
		if w.Key.Type() == ssh.KeyAlgoRSA {
			names = []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
		}
		for _, n := range names {
			if !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	return out
}

// noKey is a key that no host has.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }

// identity is what there is to log in with.
type identity struct {
	route route
	agent net.Conn
	found []string // where keys came from
	notes []string // what could not be used, and why
}

func (r route) identity() *identity { return &identity{route: r} }

// Close lets go of the agent.
func (id *identity) Close() {
	if id.agent != nil {
		id.agent.Close()
	}
}

// signers are the keys that are named, then those that the agent holds.
func (id *identity) signers() ([]ssh.Signer, error) {
	var out []ssh.Signer
	var public [][]byte // of the keys that are named
	for _, f := range id.route.identities {
		if text, err := os.ReadFile(f + ".pub"); err == nil {
			if key, _, _, _, err := ssh.ParseAuthorizedKey(text); err == nil {
				public = append(public, key.Marshal())
			}
		}
		text, err := os.ReadFile(f)
		if err != nil {
			continue
		}
		s, err := ssh.ParsePrivateKey(text)
		var locked *ssh.PassphraseMissingError
		switch {
		case errors.As(err, &locked):
			id.notes = append(id.notes, f+" is locked with a passphrase (give it to an agent with ssh-add)")
		case err != nil:
			id.notes = append(id.notes, f+" is no key: "+err.Error())
		default:
			id.found = append(id.found, f)
			out = append(out, s)
		}
	}
	return append(out, id.agents(public)...), nil
}

// agents returns the keys that an agent holds; where only named ones are to be used, those.
func (id *identity) agents(public [][]byte) []ssh.Signer {
	if id.route.agent == "" {
		id.notes = append(id.notes, "there is no agent (SSH_AUTH_SOCK)")
		return nil
	}
	conn, err := net.Dial("unix", id.route.agent)
	if err != nil {
		id.notes = append(id.notes, "the agent does not answer: "+err.Error())
		return nil
	}
	id.agent = conn
	held, err := agent.NewClient(conn).Signers()
	if err != nil {
		id.notes = append(id.notes, "the agent does not answer: "+err.Error())
		return nil
	}
	if id.route.chosen {
		held = slices.DeleteFunc(held, func(s ssh.Signer) bool {
			return !slices.ContainsFunc(public, func(p []byte) bool { return bytes.Equal(p, s.PublicKey().Marshal()) })
		})
	}
	if len(held) > 0 {
		id.found = append(id.found, fmt.Sprintf("%d of the agent's", len(held)))
	}
	return held
}

// tried says with what a login was tried.
func (id *identity) tried() string {
	s := "there is no key to log in with"
	if len(id.found) > 0 {
		s = "it accepts none of the keys " + strings.Join(id.found, ", ")
	}
	if len(id.notes) > 0 {
		s += "; " + strings.Join(id.notes, "; ")
	}
	return s
}
