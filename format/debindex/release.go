package debindex

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/format/compressed"
)

// Release is what a repository's Release file says.
type Release struct {
	Suite, Codename      string
	Origin               string // who publishes it
	ByHash               bool   // its indices lie under their hashes too (Acquire-By-Hash)
	Date                 time.Time
	ValidUntil           time.Time         // after it the file is out of date; the zero time: never
	NotAutomatic         bool              // its packages are no candidates by themselves
	ButAutomaticUpgrades bool              // but a package that came from it is kept current from it
	SHA256               map[string]string // path below the Release file → hash, in hex
	Sizes                map[string]int64  // path → bytes
}

// maxRelease is how large a Release file may be, in bytes.
const maxRelease = 16 << 20

// ReadRelease reads a Release file, or the text inside a clearsigned InRelease file. The signature is not verified
// here.
func ReadRelease(r io.Reader) (Release, error) {
	out := Release{SHA256: map[string]string{}, Sizes: map[string]int64{}}
	text, err := compressed.All(r, 0, maxRelease)
	if err != nil {
		return out, err
	}
	if text, err = unwrap(text); err != nil {
		return out, err
	}
	field := ""
	sc := bufio.NewScanner(bytes.NewReader(text))
	sc.Buffer(nil, 1<<20)
	for sc.Scan() {
		line := sc.Text()
		if strings.HasPrefix(line, " ") {
			if f := strings.Fields(line); field == "SHA256" && len(f) == 3 {
				out.SHA256[f[2]] = strings.ToLower(f[0])
				if out.Sizes[f[2]], err = strconv.ParseInt(f[1], 10, 64); err != nil {
					return out, fmt.Errorf("the size of %s in the Release file is %q", f[2], f[1])
				}
			}
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if !ok && strings.TrimSpace(line) != "" {
			return out, fmt.Errorf("not a Release file: %.40q", line)
		}
		field, value = name, strings.TrimSpace(value)
		switch name {
		case "Suite":
			out.Suite = value
		case "Codename":
			out.Codename = value
		case "Origin":
			out.Origin = value
		case "Acquire-By-Hash":
			out.ByHash = value == "yes"
		case "NotAutomatic":
			out.NotAutomatic = value == "yes"
		case "ButAutomaticUpgrades":
			out.ButAutomaticUpgrades = value == "yes"
		case "Date":
			if out.Date, err = time.Parse(time.RFC1123, value); err != nil {
				return out, fmt.Errorf("the Date of the Release file: %w", err)
			}
		case "Valid-Until":
			if out.ValidUntil, err = time.Parse(time.RFC1123, value); err != nil {
				return out, fmt.Errorf("the Valid-Until of the Release file: %w", err)
			}
		}
	}
	if err := sc.Err(); err != nil {
		return out, err
	}
	if out.Suite == "" && out.Codename == "" && len(out.SHA256) == 0 {
		return out, errors.New("not a Release file: it names no suite and no files")
	}
	return out, nil
}

// unwrap returns the text of a cleartext-signed message (RFC 9580, section 7), and any other text as it is.
func unwrap(text []byte) ([]byte, error) {
	const begin, sig = "-----BEGIN PGP SIGNED MESSAGE-----", "\n-----BEGIN PGP SIGNATURE-----"
	if !bytes.HasPrefix(text, []byte(begin)) {
		return text, nil
	}
	_, text, ok := bytes.Cut(text, []byte("\n\n"))
	if !ok {
		return nil, errors.New("the signed message breaks off before its text")
	}
	text, _, ok = bytes.Cut(text, []byte(sig))
	if !ok {
		return nil, errors.New("the signed message breaks off before its signature")
	}
	return bytes.ReplaceAll(text, []byte("\n- "), []byte("\n")), nil
}

// Indexes lists the Packages files that the Release file vouches for, for that architecture and for all, by their names
// without a compression, sorted. An empty architecture means every one.
func (r Release) Indexes(arch string) (out []string) {
	for name := range r.SHA256 {
		name = strings.TrimSuffix(name, compressed.Extension(name))
		if path.Base(name) != "Packages" {
			continue
		}
		dir := path.Base(path.Dir(name))
		if arch == "" && strings.HasPrefix(dir, "binary-") || dir == "binary-"+arch ||
			dir == "binary-all" || dir == "." {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
