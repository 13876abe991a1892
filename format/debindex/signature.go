package debindex

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// Keyring is a set of OpenPGP public keys whose signature on a Release is believed. The zero value believes nobody, and nothing is
// verified with it.
type Keyring struct{ keys openpgp.EntityList }

// Empty tells whether there is no key in it.
func (k Keyring) Empty() bool { return len(k.keys) == 0 }

// ReadKeyring reads a keyring file, binary or armored, and adds its keys to those of k.
func (k Keyring) ReadKeyring(r io.Reader) (Keyring, error) {
	text, err := io.ReadAll(io.LimitReader(r, 16<<20))
	if err != nil {
		return k, err
	}
	read := openpgp.ReadKeyRing
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("-----BEGIN PGP")) {
		read = openpgp.ReadArmoredKeyRing
	}
	keys, err := read(bytes.NewReader(text))
	if err != nil {
		return k, fmt.Errorf("not an OpenPGP keyring: %w", err)
	}
	return Keyring{append(k.keys[:len(k.keys):len(k.keys)], keys...)}, nil
}

// OpenKeyrings reads keyring files; of none, the keyring is empty.
func OpenKeyrings(files []string) (keys Keyring, err error) {
	for _, name := range files {
		f, err := os.Open(name)
		if err != nil {
			return keys, fmt.Errorf("the keyring: %w", err)
		}
		keys, err = keys.ReadKeyring(f)
		f.Close()
		if err != nil {
			return keys, fmt.Errorf("the keyring %s: %w", name, err)
		}
	}
	return keys, nil
}

// ErrUnsigned is what a Release without a signature inside it gives where one is wanted.
var ErrUnsigned = errors.New("it carries no signature; an InRelease file is wanted")

// ReadSigned reads an InRelease file whose signature by one of the keys was good at the time now, and refuses any other.
func (k Keyring) ReadSigned(r io.Reader, now time.Time) (Release, error) {
	text, err := io.ReadAll(io.LimitReader(r, 64<<20))
	if err != nil {
		return Release{}, err
	}
	block, _ := clearsign.Decode(text)
	if block == nil {
		return Release{}, ErrUnsigned
	}
	config := &packet.Config{Time: func() time.Time { return now }}
	if _, err := openpgp.CheckDetachedSignature(k.keys, bytes.NewReader(block.Bytes), block.ArmoredSignature.Body, config); err != nil {
		return Release{}, fmt.Errorf("its signature is not good: %w", err)
	}
	return ReadRelease(bytes.NewReader(block.Plaintext)) // only what was signed is read
}

// Verify tells whether a detached signature, armored or not, over the text by one of the keys was good at the time now.
func (k Keyring) Verify(text, signature []byte, now time.Time) error {
	config := &packet.Config{Time: func() time.Time { return now }}
	check := openpgp.CheckDetachedSignature
	if bytes.HasPrefix(bytes.TrimSpace(signature), []byte("-----BEGIN PGP")) {
		check = openpgp.CheckArmoredDetachedSignature
	}
	if _, err := check(k.keys, bytes.NewReader(text), bytes.NewReader(signature), config); err != nil {
		return fmt.Errorf("its signature is not good: %w", err)
	}
	return nil
}
