package ssh

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/kevinburke/ssh_config"
)

// plain are the options that are read where OpenSSH is not installed.
var plain = []string{"HostName", "Port", "User", "HostKeyAlias", "IdentitiesOnly", "IdentityAgent", "ProxyCommand",
	"ProxyJump", "RevokedHostKeys", "BindAddress", "AddressFamily", "KnownHostsCommand",
	"PKCS11Provider", "VerifyHostKeyDNS"}

// listed are those that may be given several times.
var listed = []string{"IdentityFile", "CertificateFile", "UserKnownHostsFile", "GlobalKnownHostsFile"}

// read reads ssh_config files without OpenSSH's help. A Match block can't be judged then: it is left out, and told.
func (d *Dialer) read(r route) (options, []string, error) {
	home, _ := os.UserHomeDir()
	names := d.Config
	if len(names) == 0 {
		names = []string{filepath.Join(home, ".ssh", "config"), "/etc/ssh/ssh_config"}
	}
	o, notes := options{}, []string(nil)
	for _, name := range names {
		text, err := os.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) && len(d.Config) == 0 {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		kept, left := withoutMatch(string(text))
		for _, line := range left {
			notes = append(notes, fmt.Sprintf(
				"%s line %d: a Match block is not understood without OpenSSH's ssh on this machine, and left out",
				name, line))
		}
		f, err := ssh_config.Decode(strings.NewReader(kept))
		if err != nil {
			notes = append(notes, fmt.Sprintf(
				"%s is not understood without OpenSSH's ssh on this machine, and left out: %v", name, err))
			continue
		}
		for _, key := range plain {
			if v, err := f.Get(r.host, key); err == nil && v != "" && len(o[strings.ToLower(key)]) == 0 {
				o[strings.ToLower(key)] = []string{strings.Trim(v, `"`)}
			}
		}
		for _, key := range listed {
			vs, _ := f.GetAll(r.host, key)
			o[strings.ToLower(key)] = append(o[strings.ToLower(key)], vs...)
		}
	}
	return o, notes, nil
}

// withoutMatch takes the Match blocks out of a configuration, each of which goes to the next Host or Match, and returns
// their lines.
func withoutMatch(text string) (kept string, left []int) {
	var out strings.Builder
	within, n := false, 0
	for line := range strings.Lines(text) {
		n++
		word, _, _ := strings.Cut(strings.Replace(strings.TrimSpace(line), "=", " ", 1), " ")
		switch strings.ToLower(word) {
		case "match":
			within, left = true, append(left, n)
		case "host":
			within = false
		}
		if within {
			line = "\n"
		}
		out.WriteString(line)
	}
	return out.String(), left
}

// Aliases are the hosts that ssh_config files name one by one, in their order: those that are patterns are left out.
// Without files it is the user's own.
func Aliases(files []string) (out []string) {
	if len(files) == 0 {
		home, err := os.UserHomeDir()
		if err != nil {
			return nil
		}
		files = []string{filepath.Join(home, ".ssh", "config")}
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			continue // it need not be there
		}
		for line := range strings.Lines(string(text)) {
			f := strings.FieldsFunc(line, func(c rune) bool {
				return c == ' ' || c == '\t' || c == '=' || c == '\n' || c == '\r'
			})
			if len(f) < 2 || !strings.EqualFold(f[0], "Host") {
				continue
			}
			for _, name := range f[1:] {
				if !strings.ContainsAny(name, "*?!\"") && !slices.Contains(out, name) {
					out = append(out, name)
				}
			}
		}
	}
	return out
}
