package ssh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/skeema/knownhosts"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	xknownhosts "golang.org/x/crypto/ssh/knownhosts"
)

// hostKeys are the keys by which a host is known.
type hostKeys struct {
	files   []string
	known   *knownhosts.HostKeyDB
	revoked map[string]bool // keys, as they are sent
	notes   []string        // lines that could not be read
	shown   string          // the key, or the authority that vouched for it, that was accepted
	refused error           // why the last key shown was refused
}

func (r route) hostKeys() (*hostKeys, error) {
	k := &hostKeys{revoked: map[string]bool{}}
	for _, f := range r.known {
		if _, err := os.Stat(f); err == nil {
			k.files = append(k.files, f)
		}
	}
	if len(k.files) == 0 {
		return nil, fmt.Errorf("no host key is known: none of %s is there", strings.Join(r.known, ", "))
	}
	var err error
	if k.known, err = knownhosts.NewDB(k.files...); err != nil {
		err = k.readable()
	}
	if err == nil && r.revoked != "" {
		err = k.revoke(r.revoked)
	}
	if err != nil {
		return nil, fmt.Errorf("the known host keys: %w", err)
	}
	return k, nil
}

// readable reads the files without the lines that can't be read: one bad line costs the hosts that it is about, and no
// others.
func (k *hostKeys) readable() error {
	dir, err := os.MkdirTemp("", "known-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	var copies []string
	for i, f := range k.files {
		text, err := os.ReadFile(f)
		if err != nil {
			return err
		}
		var kept strings.Builder
		n := 0
		for line := range strings.Lines(string(text)) {
			n++
			if _, _, _, _, _, err := ssh.ParseKnownHosts([]byte(line)); err != nil && !errors.Is(err, io.EOF) {
				k.notes = append(k.notes, fmt.Sprintf("%s line %d can't be read and is left out: %v", f, n, err))
				line = "\n"
			}
			kept.WriteString(line)
		}
		copies = append(copies, filepath.Join(dir, fmt.Sprint(i)))
		if err := os.WriteFile(copies[i], []byte(kept.String()), 0o600); err != nil {
			return err
		}
	}
	k.known, err = knownhosts.NewDB(copies...)
	return err
}

// revoke reads a list of public keys, one to a line. OpenSSH's binary lists (KRL) are not understood, and then no key
// is trusted.
func (k *hostKeys) revoke(file string) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if bytes.HasPrefix(text, []byte("SSHKRL")) {
		return fmt.Errorf("RevokedHostKeys %s is a binary list, which is not understood: name a file of public keys",
			file)
	}
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimSpace(line); line == "" || line[0] == '#' {
			continue
		}
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if err != nil {
			return fmt.Errorf("RevokedHostKeys %s: %w", file, err)
		}
		k.revoked[string(key.Marshal())] = true
	}
	return nil
}

// check refuses every key but one that is known for the host.
func (k *hostKeys) check(host string, remote net.Addr, key ssh.PublicKey) error {
	err := k.known.HostKeyCallback()(host, remote, key)
	var other *xknownhosts.KeyError
	shown := key.Type() + " " + ssh.FingerprintSHA256(key)
	var revoked *xknownhosts.RevokedError
	if cert, ok := key.(*ssh.Certificate); ok {
		shown = "certificate " + cert.KeyId + " by " + ssh.FingerprintSHA256(cert.SignatureKey)
		if k.revoked[string(cert.Key.Marshal())] || k.revoked[string(cert.SignatureKey.Marshal())] {
			err = errRevoked
		}
	}
	if k.revoked[string(key.Marshal())] {
		err = errRevoked
	}
	switch {
	case errors.Is(err, errRevoked):
		k.refused = fmt.Errorf("it shows the host key %s, which RevokedHostKeys names", shown)
	case errors.As(err, &revoked):
		k.refused = fmt.Errorf("it shows the host key %s, which is revoked in %s", shown, revoked.Revoked.Filename)
	case errors.As(err, &other) && len(other.Want) == 0:
		k.refused = fmt.Errorf("its host key %s is in none of %s: compare it on the host itself (ssh-keygen -lf "+
			"/etc/ssh/ssh_host_*.pub) and add it there", shown, strings.Join(k.files, ", "))
	case errors.As(err, &other):
		w := other.Want[0]
		k.refused = fmt.Errorf("it shows the host key %s, and %s line %d has another: the host was reinstalled, or "+
			"another machine answers in its place", shown, w.Filename, w.Line)
	case err != nil:
		k.refused = fmt.Errorf("its host %s is not accepted: %w", shown, err)
	default:
		k.shown = shown
	}
	return err
}

var errRevoked = errors.New("the key is revoked")

// certified are the algorithms of host certificates; an authority of any kind may vouch for a key of any other.
var certified = []string{ssh.CertAlgoED25519v01, ssh.CertAlgoECDSA256v01, ssh.CertAlgoECDSA384v01,
	ssh.CertAlgoECDSA521v01, ssh.CertAlgoRSASHA512v01, ssh.CertAlgoRSASHA256v01}

// algorithms are those of the keys that are known, so that a host with several shows one of them; none known: any.
func (k *hostKeys) algorithms(r route) (out []string) {
	for _, a := range k.known.HostKeyAlgorithms(r.knownAs()) {
		add := []string{a}
		if strings.Contains(a, "-cert-") {
			add = certified
		}
		for _, a := range add {
			if !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	return out
}

// identity is what there is to log in with.
type identity struct {
	route route
	until time.Time // when the login has failed
	agent net.Conn
	found []string // where keys came from
	notes []string // what could not be used, and why
}

func (r route) identity(ctx context.Context) *identity {
	until, _ := ctx.Deadline()
	return &identity{route: r, until: until}
}

// Close lets go of the agent.
func (id *identity) Close() {
	if id.agent != nil {
		id.agent.Close()
	}
}

// signers are the keys that are named, then those that the agent holds; before them the certificates that there are for
// any of them.
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
	out = append(out, id.agents(public)...)
	return append(id.certified(out), out...), nil
}

// certified returns the certificates of users that are named, or stand beside a key, each with the key that it is for.
func (id *identity) certified(keys []ssh.Signer) (out []ssh.Signer) {
	files := slices.Clone(id.route.certificate)
	for _, f := range id.route.identities {
		files = append(files, f+"-cert.pub")
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			if slices.Contains(id.route.certificate, f) {
				id.notes = append(id.notes, "the certificate "+f+" can't be read: "+err.Error())
			}
			continue
		}
		key, _, _, _, err := ssh.ParseAuthorizedKey(text)
		cert, ok := key.(*ssh.Certificate)
		if err != nil || !ok {
			id.notes = append(id.notes, f+" is no certificate")
			continue
		}
		if end := time.Unix(int64(cert.ValidBefore), 0); cert.ValidBefore != ssh.CertTimeInfinity &&
			time.Now().After(end) {
			id.notes = append(id.notes,
				fmt.Sprintf("the certificate %s ended %s", f, end.Format("2006-01-02 15:04 MST")))
		}
		i := slices.IndexFunc(keys, func(s ssh.Signer) bool {
			return bytes.Equal(s.PublicKey().Marshal(), cert.Key.Marshal())
		})
		if i < 0 {
			id.notes = append(id.notes, "the key of the certificate "+f+" is not at hand")
			continue
		}
		if s, err := ssh.NewCertSigner(cert, keys[i]); err == nil {
			id.found = append(id.found, f)
			out = append(out, s)
		}
	}
	return out
}

// listing is how long an agent may take to say what it holds; signing may take longer, for it may ask a person.
const listing = 2 * time.Second

// agents returns the keys that an agent holds; where only named ones are to be used, those.
func (id *identity) agents(public [][]byte) []ssh.Signer {
	if id.route.agent == "" {
		id.notes = append(id.notes, "there is no agent (SSH_AUTH_SOCK)")
		return nil
	}
	conn, err := net.DialTimeout("unix", id.route.agent, listing)
	if err != nil {
		id.notes = append(id.notes, "the agent does not answer: "+err.Error())
		return nil
	}
	id.agent = conn
	_ = conn.SetDeadline(time.Now().Add(listing))
	held, err := agent.NewClient(conn).Signers()
	if errors.Is(err, os.ErrDeadlineExceeded) || err != nil && strings.Contains(err.Error(), "timeout") {
		err = fmt.Errorf("it is silent for %s", listing)
	}
	_ = conn.SetDeadline(id.until)
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
