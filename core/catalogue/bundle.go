package catalogue

import "time"

// NotRecognised is the kind of a file that nobody can read.
const NotRecognised = "not recognised"

// BundleFile is a file of a bundle, and what it is.
type BundleFile struct {
	Path       string `json:"path"`
	Kind       string `json:"kind"`
	Size       int64  `json:"size"` // bytes
	SHA256     string `json:"sha256"`
	Releases   int    `json:"releases,omitempty"`
	Advisories int    `json:"advisories,omitempty"`
	Says       string `json:"says,omitempty"` // for people: what it brings
}

// Bundle is what is in an archive of releases.
type Bundle struct {
	ID         string       `json:"id"` // the archive's SHA-256
	Name       string       `json:"name"`
	Size       int64        `json:"size"` // bytes, packed
	Files      []BundleFile `json:"files"`
	Summed     int          `json:"summed"`              // files whose hash was held against a list of checksums
	SignedBy   string       `json:"signed_by,omitempty"` // the list whose signature was good
	Releases   int          `json:"releases"`
	Advisories int          `json:"advisories"`
	Payloads   int          `json:"payloads"`
	Left       []string     `json:"left,omitempty"`    // files that nobody vouches for, and that were left out
	Missing    []string     `json:"missing,omitempty"` // payloads that releases in it name and that are not in it
	Taken      time.Time    `json:"taken,omitzero"`    // when it was taken in; zero: it is not
	By         string       `json:"by,omitempty"`
}
