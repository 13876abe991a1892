package cli

import (
	"os"
	"strings"
	"testing"
)

// Who does something is told with his machine, the address that SSH came from, and who he was before sudo.
func TestWhereSomebodyIs(t *testing.T) {
	host, err := os.Hostname()
	if err != nil {
		t.Skip(err)
	}
	t.Setenv("SSH_CONNECTION", "")
	t.Setenv("SUDO_USER", "")
	if got := whence(); got != host {
		t.Errorf("%q", got)
	}
	t.Setenv("SSH_CONNECTION", "192.0.2.7 51022 192.0.2.1 22")
	t.Setenv("SUDO_USER", "ana")
	if got := whence(); got != host+", by SSH from 192.0.2.7, by sudo of ana" {
		t.Errorf("%q", got)
	}
}

// A head of a logbook is read as it was written, or as N:SUM, and nothing else is taken for one.
func TestAHeadIsRead(t *testing.T) {
	sum := strings.Repeat("5b", 32)
	file := t.TempDir() + "/head"
	if err := os.WriteFile(file, []byte("12 "+sum+" 2026-11-21T20:00:00Z Merrow Sound\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, s := range []string{file, "12:" + sum} {
		if h, err := readHead(s); err != nil || h.Seq != 12 || h.Sum != sum {
			t.Errorf("%q: %+v %v", s, h, err)
		}
	}
	if h, err := readHead(""); h != nil || err != nil {
		t.Error(h, err)
	}
	for _, s := range []string{"12", "x:" + sum, "12:feed", "-1:" + sum, t.TempDir() + "/none"} {
		if h, err := readHead(s); err == nil {
			t.Errorf("%q is taken for %+v", s, h)
		}
	}
}
