package selfsigned

import (
	"crypto/x509"
	"os"
	"path/filepath"
	"testing"
)

// A certificate is made once, for its host; what is no certificate is not written over.
func TestKept(t *testing.T) {
	for _, host := range []string{"127.0.0.1", "images.example"} {
		file := filepath.Join(t.TempDir(), "x", "c.pem")
		one, err := Kept(file, host)
		if err != nil {
			t.Fatal(err)
		}
		two, err := Kept(file, host)
		if err != nil || string(one.Certificate[0]) != string(two.Certificate[0]) {
			t.Errorf("it is made anew: %v", err)
		}
		c, err := x509.ParseCertificate(one.Certificate[0])
		if err != nil || c.VerifyHostname(host) != nil || c.VerifyHostname("other.example") == nil {
			t.Errorf("%s: %v", host, err)
		}
		if is, err := os.Stat(file); err != nil || is.Mode().Perm() != 0o600 {
			t.Errorf("%v, %v", is, err)
		}
		if err := os.WriteFile(file, []byte("what is this"), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Kept(file, host); err == nil {
			t.Error("what is no certificate is taken for one")
		}
	}
}
