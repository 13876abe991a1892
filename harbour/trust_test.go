package harbour

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/connector"
)

// What the host itself sees of its BMC goes before anybody's word, and nobody's word is one without a reason.
func TestWhoVouchesForACertificate(t *testing.T) {
	for _, x := range []struct {
		inside, reason string
		sure           bool
		evidence, err  string
	}{
		{"a", "", false, "the host itself sees the same", ""},
		{"b", "I compared it", true, "", "itself sees another one, b"},
		{"", "", false, "", ""},
		{"", "", true, "", "says why"},
		{"", "I compared it", true, "a person's word", ""},
	} {
		got, err := vouches(connector.Certificate{Shown: "a", Inside: x.inside}, "heron", x.reason, x.sure)
		if !strings.HasPrefix(got, x.evidence) || (got == "") != (x.evidence == "") || (err == nil) != (x.err == "") ||
			err != nil && !strings.Contains(err.Error(), x.err) {
			t.Errorf("%+v: %q, %v", x, got, err)
		}
	}
}

// What is trusted instead of a pinned certificate holds only while that one is pinned; what can't be read trusts nothing.
func TestTrustEndsWithWhatWasPinned(t *testing.T) {
	h := &house{Options: Options{State: t.TempDir()}}
	if err := os.MkdirAll(h.keptDir(), 0o700); err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{
		"": "",
		`{"heron":{"fingerprint":"new","replaces":"old"}}`:   "new",
		`{"heron":{"fingerprint":"new","replaces":"older"}}`: "",
		`{"ibis":{"fingerprint":"new","replaces":"old"}}`:    "",
		`{"heron":`: "",
	} {
		if text != "" {
			if err := os.WriteFile(filepath.Join(h.keptDir(), trustFile), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if got := h.trusted("heron", "old"); got != want {
			t.Errorf("%s: %q", text, got)
		}
	}
}
