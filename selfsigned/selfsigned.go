// Package selfsigned keeps certificates that a server signs for itself, for those who pin them.
package selfsigned

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/google/renameio/v2"
)

// Kept is the certificate, with its key, that a file holds; where there is no such file, or it is empty, one is made for the
// server's host, a name or an address, and kept there. A file that holds anything else is an error.
func Kept(file, host string) (tls.Certificate, error) {
	b, err := os.ReadFile(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return tls.Certificate{}, err
	}
	if len(b) == 0 {
		if b, err = made(host); err != nil {
			return tls.Certificate{}, err
		}
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			return tls.Certificate{}, err
		}
		if err := renameio.WriteFile(file, b, 0o600); err != nil {
			return tls.Certificate{}, err
		}
	}
	return tls.X509KeyPair(b, b)
}

func made(host string) ([]byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: host},
		NotBefore: time.Now().Add(-24 * time.Hour), NotAfter: time.Now().AddDate(10, 0, 0)}
	if ip := net.ParseIP(host); ip != nil {
		t.IPAddresses = []net.IP{ip}
	} else {
		t.DNSNames = []string{host}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	k, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: k})...), nil
}
