package payload

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func sumOf(s string) string {
	h := sha256.Sum256([]byte(s))
	return hex.EncodeToString(h[:])
}

func TestVerifiedOnTheWayInAndOut(t *testing.T) {
	s := Store{Dir: t.TempDir()}
	sum := sumOf("body")
	if err := s.Put(strings.NewReader("another"), sum); !errors.Is(err, ErrWrong) {
		t.Errorf("a body with another hash was taken in: %v", err)
	}
	if all, err := s.List(); err != nil || len(all) != 0 {
		t.Errorf("and left behind: %v %v", all, err)
	}
	if left, _ := filepath.Glob(filepath.Join(s.Dir, ".in-*")); len(left) > 0 {
		t.Errorf("half a payload is left: %v", left)
	}
	for range 2 { // twice is once
		if err := s.Put(strings.NewReader("body"), sum); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.check(sum); err != nil {
		t.Error(err)
	}
	if _, err := s.Path(sumOf("nothing")); !errors.Is(err, ErrNone) {
		t.Errorf("what is not there: %v", err)
	}
	name := filepath.Join(s.Dir, sum[:2], sum)
	if err := os.Chmod(name, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte("rotten"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := s.check(sum); !errors.Is(err, ErrWrong) {
		t.Errorf("a damaged payload was taken for whole: %v", err)
	}
	if bad, err := s.Verify(t.Context(), nil); err != nil || len(bad) != 1 || bad[0].SHA256 != sum {
		t.Errorf("%v %v", bad, err)
	}
	if err := s.Put(strings.NewReader("body"), sum); err != nil {
		t.Errorf("a damaged one is replaced by a good one: %v", err)
	}
	if err := s.check(sum); err != nil {
		t.Error(err)
	}
	if err := s.Remove(sum); err != nil || s.Has(sum) {
		t.Error("it is not removed")
	}
}

func TestNamesThatAreNoHashesReachNoFile(t *testing.T) {
	s := Store{Dir: t.TempDir()}
	for _, bad := range []string{"", "../../etc/passwd", strings.Repeat("A", 64), strings.Repeat("a", 63)} {
		if err := s.Put(strings.NewReader(""), bad); err == nil || s.Has(bad) {
			t.Errorf("%q was taken for a hash", bad)
		}
	}
	if free, err := s.Free(); err != nil || free <= 0 {
		t.Errorf("%d %v", free, err)
	}
	if free, err := (Store{Dir: filepath.Join(s.Dir, "not", "there", "yet")}).Free(); err != nil || free <= 0 {
		t.Errorf("of a directory that is not there yet: %d %v", free, err)
	}
}
