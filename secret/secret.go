// Package secret fetches secrets from where an estate file says that they are. The file itself never holds one.
package secret

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"filippo.io/age/armor"
	"github.com/zalando/go-keyring"
)

// Place is where a secret is: "env:NAME", "keyring:SERVICE/USER" or "age:FILE", "age:FILE#NAME".
type Place string

// Forms says how places are written.
const Forms = `"env:NAME" takes it from the environment, "keyring:SERVICE/USER" from the system keyring, ` +
	`"age:FILE" or "age:FILE#NAME" from a file that is encrypted with age`

// split returns the kind of place and the rest.
func (p Place) split() (kind, at string) {
	kind, at, _ = strings.Cut(string(p), ":")
	return kind, at
}

// Check says what is wrong with how the place is written, and "" where nothing is.
func (p Place) Check() string {
	kind, at := p.split()
	service, user, _ := strings.Cut(at, "/")
	file, _, _ := strings.Cut(at, "#")
	switch {
	case kind == "env" && at != "", kind == "keyring" && service != "" && user != "", kind == "age" && file != "":
		return ""
	}
	return "a password is named, not written here: " + Forms
}

// The variables that say how to open files encrypted with age.
const (
	// the file of the identity; not set: age-identity.txt in the user's yare configuration
	identityVariable = "YARE_AGE_IDENTITY"
	identityFile     = "age-identity.txt"
)

// patience is how long a keyring may take to answer; one that asks a person to unlock it takes longer, and is unlocked
// before.
const patience = 5 * time.Second

// taken are the secrets that were in the environment. They are kept here so that no child process inherits them.
var taken = struct {
	sync.Mutex
	of map[string]string
}{of: map[string]string{}}

// Take takes the secret out of the environment, if that is where it is: from then on ssh, its ProxyCommand and every
// other child of this process does not see it, and Get still does. It may be called again.
func (p Place) Take() {
	kind, name := p.split()
	if kind != "env" {
		return
	}
	taken.Lock()
	defer taken.Unlock()
	if s, ok := os.LookupEnv(name); ok && s != "" {
		taken.of[name] = s
		_ = os.Unsetenv(name) // it was there
	}
}

// Environ is the environment with the secrets that were taken out of it, for a process of this program's own.
func Environ() []string {
	taken.Lock()
	defer taken.Unlock()
	out := os.Environ()
	for _, name := range slices.Sorted(maps.Keys(taken.of)) {
		out = append(out, name+"="+taken.of[name])
	}
	return out
}

// Get fetches the secret. Files are relative to dir. The error says what to do, and holds nothing of the secret.
func (p Place) Get(ctx context.Context, dir string) (string, error) {
	switch kind, at := p.split(); kind {
	case "env":
		p.Take()
		taken.Lock()
		s := taken.of[at]
		taken.Unlock()
		if s == "" {
			return "", fmt.Errorf("it should be in the environment as %s, and is not", at)
		}
		return s, nil
	case "keyring":
		return fromKeyring(ctx, at)
	case "age":
		file, name, _ := strings.Cut(at, "#")
		if !filepath.IsAbs(file) {
			file = filepath.Join(dir, file)
		}
		return fromAge(file, name)
	}
	return "", errors.New(p.Check())
}

func fromKeyring(ctx context.Context, at string) (string, error) {
	service, user, _ := strings.Cut(at, "/")
	type result struct {
		secret string
		err    error
	}
	got := make(chan result, 1)
	go func() { // the keyring's service can't be told to stop
		s, err := keyring.Get(service, user)
		got <- result{s, err}
	}()
	select {
	case <-ctx.Done():
		return "", ctx.Err()
	case <-time.After(patience):
		return "", fmt.Errorf("the system keyring does not answer within %s: is it locked?", patience)
	case r := <-got:
		if errors.Is(r.err, keyring.ErrNotFound) {
			return "", fmt.Errorf("the system keyring holds none for the service %s and the user %s", service, user)
		}
		if r.err != nil {
			return "", fmt.Errorf("the system keyring can't be asked: %w", r.err)
		}
		return r.secret, nil
	}
}

// maxFile is the largest file of secrets that is read, in bytes.
const maxFile = 1 << 20

// fromAge opens a file that is encrypted with age, armored or not. Without a name its first line is the secret; with
// one, the line "NAME: secret" or "NAME=secret".
func fromAge(file, name string) (string, error) {
	identities, err := identities()
	if err != nil {
		return "", err
	}
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	in := bufio.NewReader(f)
	var sealed io.Reader = in
	if head, _ := in.Peek(len(armor.Header)); string(head) == armor.Header {
		sealed = armor.NewReader(in)
	}
	open, err := age.Decrypt(sealed, identities...)
	if err != nil {
		return "", fmt.Errorf("%s: %w", file, err)
	}
	text, err := io.ReadAll(io.LimitReader(open, maxFile))
	if err != nil {
		return "", fmt.Errorf("%s: %w", file, err)
	}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\r\n")
		if name == "" && line != "" {
			return line, nil
		}
		if rest, ok := strings.CutPrefix(line, name); ok && name != "" && rest != "" &&
			(rest[0] == ':' || rest[0] == '=') {
			return strings.TrimSpace(rest[1:]), nil
		}
	}
	if name == "" {
		return "", fmt.Errorf("%s is empty", file)
	}
	return "", fmt.Errorf("%s has no line for %s, as \"%s: SECRET\"", file, name, name)
}

// identities are those that files are opened with.
func identities() ([]age.Identity, error) {
	name := os.Getenv(identityVariable)
	if name == "" {
		config, err := os.UserConfigDir()
		if err != nil {
			return nil, err
		}
		name = filepath.Join(config, "yare", identityFile)
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("the identity to open secrets with, which %s may name: %w", identityVariable, err)
	}
	defer f.Close()
	ids, err := age.ParseIdentities(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return ids, nil
}
