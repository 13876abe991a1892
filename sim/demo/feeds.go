package demo

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// mirrored are the packages of the demo's Debian repository: what no release list has.
var mirrored = []struct{ name, version, source string }{
	{"brae-paths", "2.3-brae2", ""}, {"lldpd", "1.1-brae1", ""}, {"lldpd", "1.2-brae1", ""},
	{"libbrae-tls2", "1.9-brae1", "brae-tls"},
}

// writeMirror writes a signed Debian repository below dir, with the keyring that its signature is held against. One
// that is there stays.
func writeMirror(dir string) error {
	if _, err := os.Stat(filepath.Join(dir, "brae.gpg")); err == nil {
		return nil
	}
	var packages strings.Builder
	for _, p := range mirrored {
		fmt.Fprintf(&packages, "Package: %s\nVersion: %s\nArchitecture: amd64\n", p.name, p.version)
		if p.source != "" {
			fmt.Fprintf(&packages, "Source: %s\n", p.source)
		}
		_, body, err := Payload(catalogue.Release{Component: estate.Key("deb:" + p.name), Version: p.version})
		if err != nil {
			return err
		}
		file := fmt.Sprintf("pool/%s_%s_amd64.deb", p.name, p.version)
		if err := writeAt(filepath.Join(dir, file), body); err != nil {
			return err
		}
		fmt.Fprintf(&packages, "Filename: %s\nSize: %d\nSHA256: %s\n\n", file, len(body), sum(body))
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	if _, err := z.Write([]byte(packages.String())); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	const index = "main/binary-amd64/Packages"
	root := filepath.Join(dir, "dists", "brae-4")
	release := fmt.Sprintf("Origin: Brae\nSuite: brae-4\nCodename: brae-4\nDate: %s\nAcquire-By-Hash: yes\nSHA256:\n"+
		" %s %d %s\n %s %d %s.gz\n", Start.AddDate(0, 0, -1).Format(time.RFC1123),
		sum([]byte(packages.String())), packages.Len(), index, sum(packed.Bytes()), packed.Len(), index)
	signed, key, err := sign([]byte(release))
	if err != nil {
		return err
	}
	for name, body := range map[string][]byte{
		filepath.Join(root, "InRelease"): signed, filepath.Join(root, index+".gz"): packed.Bytes(),
		filepath.Join(dir, "brae.gpg"): key,
		filepath.Join(root, filepath.Dir(index), "by-hash", "SHA256", sum(packed.Bytes())): packed.Bytes(),
	} {
		if err := writeAt(name, body); err != nil {
			return err
		}
	}
	return nil
}

// sign signs a text in the clear with a key made for it, and returns the public key too.
func sign(text []byte) (signed, key []byte, err error) {
	config := &packet.Config{Algorithm: packet.PubKeyAlgoEdDSA, Time: func() time.Time {
		return Start.AddDate(-1, 0, 0)
	}}
	e, err := openpgp.NewEntity("Brae archive", "demo", "archive@brae.invalid", config)
	if err != nil {
		return nil, nil, err
	}
	var out, pub bytes.Buffer
	w, err := clearsign.Encode(&out, e.PrivateKey, config)
	if err != nil {
		return nil, nil, err
	}
	if _, err := w.Write(text); err != nil {
		return nil, nil, err
	}
	if err := w.Close(); err != nil {
		return nil, nil, err
	}
	err = e.Serialize(&pub)
	return out.Bytes(), pub.Bytes(), err
}

func sum(b []byte) string {
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:])
}

func writeAt(name string, body []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	return writeNew(name, body)
}

// BundleFile is the vendor's archive that the demo leaves to be taken in, below the directory given to Write.
const BundleFile = "bundles/ulva-2026q4.zip"

// writeBundle writes an archive with checksums and, in an archive inside it, a release list and its payload.
func writeBundle(name string) error {
	if _, err := os.Stat(name); err == nil {
		return nil
	}
	file, payload, err := Payload(catalogue.Release{Component: "fw:ulva-w31", Version: "1.10",
		Restart: catalogue.NoRestart, Hardware: []string{"Ulva W31"}})
	if err != nil {
		return err
	}
	list := fmt.Sprintf(`feed: ulva-2026q4
made: 2026-11-18
vendor: Ulva
components:
  - component: fw:ulva-w31
    hardware: [Ulva W31]
    releases:
      - version: 1.10
        date: 2026-11-18
        severity: high
        restart: none
        notes: Wear is counted rightly after a sudden loss of power.
        file: %s
        size: %d
        sha256: %s
`, file, len(payload), sum(payload))
	inner, err := tarball(map[string][]byte{"releases.yaml": []byte(list), "payloads/" + file: payload})
	if err != nil {
		return err
	}
	notes := []byte("Ulva W31 firmware, fourth quarter of 2026. Everything in it is made up.\n")
	sums := fmt.Sprintf("%s  firmware.tar.gz\n%s  README.txt\n", sum(inner), sum(notes))
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, f := range []struct {
		name string
		body []byte
	}{{"README.txt", notes}, {"SHA256SUMS", []byte(sums)}, {"firmware.tar.gz", inner}} {
		w, err := z.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: Start})
		if err != nil {
			return err
		}
		if _, err := w.Write(f.body); err != nil {
			return err
		}
	}
	if err := z.Close(); err != nil {
		return err
	}
	return writeAt(name, out.Bytes())
}

func tarball(files map[string][]byte) ([]byte, error) {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	t := tar.NewWriter(z)
	for _, name := range []string{"releases.yaml"} {
		if err := addTar(t, name, files[name]); err != nil {
			return nil, err
		}
		delete(files, name)
	}
	for name, body := range files {
		if err := addTar(t, name, body); err != nil {
			return nil, err
		}
	}
	if err := t.Close(); err != nil {
		return nil, err
	}
	err := z.Close()
	return out.Bytes(), err
}

func addTar(t *tar.Writer, name string, body []byte) error {
	if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(body)), ModTime: Start}); err != nil {
		return err
	}
	_, err := t.Write(body)
	return err
}
