package debindex

import (
	"bytes"
	"crypto"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"yareharbour/format/compressed"
)

// Keyring is a set of OpenPGP public keys whose signature on a Release is believed. The zero value believes nobody, and
// nothing is verified with it.
type Keyring struct {
	keys openpgp.EntityList
	weak bool
}

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
	return Keyring{append(k.keys[:len(k.keys):len(k.keys)], keys...), k.weak}, nil
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

// ReadSigned reads an InRelease file whose signature by one of the keys was good at the time now, and refuses any
// other.
func (k Keyring) ReadSigned(r io.Reader, now time.Time) (Release, error) {
	text, err := compressed.All(r, 0, maxRelease)
	if err != nil {
		return Release{}, err
	}
	block, _ := clearsign.Decode(text)
	if block == nil {
		return Release{}, ErrUnsigned
	}
	sig, _, err := openpgp.VerifyDetachedSignature(k.keys, bytes.NewReader(block.Bytes),
		block.ArmoredSignature.Body, at(now))
	if err := k.believe(sig, err); err != nil {
		return Release{}, err
	}
	return ReadRelease(bytes.NewReader(block.Plaintext)) // only what was signed is read
}

// Verify tells whether a detached signature, armored or not, over the text by one of the keys was good at the time now.
func (k Keyring) Verify(text, signature []byte, now time.Time) error {
	var body io.Reader = bytes.NewReader(signature)
	if bytes.HasPrefix(bytes.TrimSpace(signature), []byte("-----BEGIN PGP")) {
		block, err := armor.Decode(body)
		if err != nil || block.Type != openpgp.SignatureType {
			return errors.New("its signature is not good: it is no OpenPGP signature")
		}
		body = block.Body
	}
	sig, _, err := openpgp.VerifyDetachedSignature(k.keys, bytes.NewReader(text), body, at(now))
	return k.believe(sig, err)
}

// at judges signatures at that time.
func at(now time.Time) *packet.Config { return &packet.Config{Time: func() time.Time { return now }} }

// believe says why a signature that was verified, or was not, is not believed. One over SHA-1 or weaker is not, unless
// the keyring was told to: anybody with some money makes two texts with one such hash.
func (k Keyring) believe(sig *packet.Signature, err error) error {
	if err != nil {
		return fmt.Errorf("its signature is not good: %w", err)
	}
	if weak := []crypto.Hash{crypto.SHA1, crypto.MD5, crypto.RIPEMD160}; slices.Contains(weak, sig.Hash) && !k.weak {
		return fmt.Errorf("its signature is over %s, which can be forged: it is not believed", sig.Hash)
	}
	return nil
}

// Weak returns the keyring believing signatures over SHA-1 too.
func (k Keyring) Weak() Keyring {
	k.weak = true
	return k
}

// ReadDetached reads a Release file whose signature stands beside it, in Release.gpg.
func (k Keyring) ReadDetached(text, signature []byte, now time.Time) (Release, error) {
	if err := k.Verify(text, signature, now); err != nil {
		return Release{}, err
	}
	return ReadRelease(bytes.NewReader(text))
}
