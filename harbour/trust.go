package harbour

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"yareharbour/connector"
	"yareharbour/core/logbook"
)

// Trust is a certificate of a BMC that is trusted since it has taken the place of another: for as long as the estate file
// pins the one that it replaced.
type Trust struct {
	Fingerprint string    `json:"fingerprint"` // SHA-256, in hex
	Replaces    string    `json:"replaces"`    // what was pinned; "" where roots vouched
	By          string    `json:"by"`
	Reason      string    `json:"reason,omitempty"`
	At          time.Time `json:"at"`
	Evidence    string    `json:"evidence"`
}

// trustFile is where they are kept, by host, below what is kept.
const trustFile = "certificates.json"

func (h *house) trusts() (out map[string]Trust, err error) {
	text, err := os.ReadFile(filepath.Join(h.keptDir(), trustFile))
	if errors.Is(err, fs.ErrNotExist) {
		return map[string]Trust{}, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	return out, err
}

// trusted is the fingerprint that takes the place of a pinned one; "" where none does, or that can't be read.
func (h *house) trusted(host, pinned string) string {
	all, err := h.trusts()
	t, ok := all[host]
	if err != nil || !ok || t.Replaces != pinned {
		return ""
	}
	return t.Fingerprint
}

// Trust looks at the certificate that a host's BMC shows, and trusts it from now on where the host itself sees the very same
// by its own way to its BMC, or where sure says that a person vouches for it. It says what was found and done.
func (h Preparing) Trust(ctx context.Context, name, reason string, sure bool) (says []string, trusted bool, err error) {
	host, _, err := h.Host(name)
	if err != nil {
		return nil, false, err
	}
	s, err := h.world.Open(ctx, host)
	if err != nil {
		return nil, false, err
	}
	defer s.Close()
	c, err := connector.Identify(ctx, s)
	if err != nil {
		return nil, false, err
	}
	says = append(says, "the BMC of "+host+" shows the certificate "+c.Shown)
	if c.Known {
		return append(says, "it is trusted already"), true, nil
	}
	t := Trust{Fingerprint: c.Shown, Replaces: c.Pinned, By: h.By, Reason: strings.TrimSpace(reason), At: h.Now()}
	if c.Inside == "" {
		says = append(says, "the host itself could not be asked: "+c.Unseen)
	}
	if t.Evidence, err = vouches(c, host, t.Reason, sure); err != nil {
		return says, false, err
	}
	if t.Evidence == "" {
		return append(says, "compare it with what the BMC shows on its own console; --yes then trusts it"), false, nil
	}
	says = append(says, t.Evidence)
	all, err := h.trusts()
	if err != nil {
		return says, false, fmt.Errorf("what is trusted can't be read: %w", err)
	}
	all[host] = t
	text, err := json.MarshalIndent(all, "", " ")
	if err == nil {
		err = os.MkdirAll(h.keptDir(), 0o700)
	}
	if err == nil {
		err = renameio.WriteFile(filepath.Join(h.keptDir(), trustFile), append(text, '\n'), 0o600)
	}
	if err != nil {
		return says, false, err
	}
	if err := h.enter(ctx, logbook.Entry{Kind: logbook.Trusted, Host: host, Why: t.Reason,
		Says: fmt.Sprintf("the BMC of %s, in the place of %s: %s", host, t.Replaces, t.Evidence),
		Of:   &logbook.Thing{Shelf: "certificate", ID: host, Sum: t.Fingerprint}}); err != nil {
		return says, false, err
	}
	return append(says, "it is trusted from now on, for as long as the estate file pins the one before it"), true, nil
}

// vouches says what speaks for a certificate that is not known; "" where nothing does yet. What the host itself sees goes
// before anybody's word.
func vouches(c connector.Certificate, host, reason string, sure bool) (evidence string, err error) {
	switch {
	case c.Inside == c.Shown:
		return "the host itself sees the same by its own way to its BMC", nil
	case c.Inside != "":
		return "", fmt.Errorf("%s itself sees another one, %s: somebody stands between this machine and the BMC, or the address is of "+
			"another; it is not trusted, whoever says so", host, c.Inside)
	case !sure:
		return "", nil
	case reason == "":
		return "", errors.New("whoever vouches for a certificate says why: --reason")
	}
	return "a person's word", nil
}
