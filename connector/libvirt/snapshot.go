package libvirt

import (
	"encoding/xml"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/digitalocean/go-libvirt"

	"yareharbour/core/estate"
)

// snapshotURI is the namespace of what stands in a guest's metadata about the snapshot that a round made of it.
const snapshotURI = "urn:yareharbour:snapshot"

// kept is that note.
type kept struct {
	Name  string `xml:"name,attr"`
	Round string `xml:"round,attr"`
	Until string `xml:"until,attr"` // RFC 3339
}

// Snapshot makes a snapshot of a guest: its disks, and what is in its memory where it runs, inside of its disks. It is
// noted in the guest's definition first, so that whose it is, and until when, is known however this ends.
func (h *Host) Snapshot(id string, s estate.Snapshot) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	text, err := xml.Marshal(struct {
		XMLName struct{} `xml:"domainsnapshot"`
		Name    string   `xml:"name"`
		About   string   `xml:"description"`
	}{Name: s.Name, About: fmt.Sprintf("made by round %s, kept until %s", s.Round, s.Until.UTC().Format(time.RFC3339))})
	if err != nil {
		return err
	}
	if err := h.remember(d, &kept{s.Name, s.Round, s.Until.UTC().Format(time.RFC3339)}); err != nil {
		return fmt.Errorf("noting it in the guest's definition: %w", err)
	}
	if _, err = h.l.DomainSnapshotCreateXML(d, string(text), uint32(libvirt.DomainSnapshotCreateAtomic)); err != nil {
		return errors.Join(err, h.forget(d, s.Name))
	}
	return nil
}

// Unsnapshot removes a snapshot of a guest; one that is gone already is no failure.
func (h *Host) Unsnapshot(id, name string) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	s, err := h.l.DomainSnapshotLookupByName(d, name, 0)
	if err == nil {
		err = h.l.DomainSnapshotDelete(s, 0)
	}
	if err != nil && !says(err, libvirt.ErrNoDomainSnapshot) {
		return err
	}
	return h.forget(d, name)
}

// remember writes the note of a snapshot into a guest's definition, and into the guest that runs; nil takes it away.
func (h *Host) remember(d libvirt.Domain, k *kept) error {
	active, err := h.l.DomainIsActive(d)
	if err != nil {
		return err
	}
	how := libvirt.DomainAffectConfig
	if active != 0 {
		how |= libvirt.DomainAffectLive
	}
	var text libvirt.OptString
	if k != nil {
		body, err := xml.Marshal(struct {
			XMLName struct{} `xml:"snapshot"`
			kept
		}{kept: *k})
		if err != nil {
			return err
		}
		text = libvirt.OptString{string(body)}
	}
	return h.l.DomainSetMetadata(d, int32(libvirt.DomainMetadataElement), text, libvirt.OptString{"yare-snapshot"},
		libvirt.OptString{snapshotURI}, how)
}

// forget takes the note away, if it is of that snapshot and there is none of the name.
func (h *Host) forget(d libvirt.Domain, name string) error {
	if _, err := h.l.DomainSnapshotLookupByName(d, name, 0); err == nil {
		return nil // it is there all the same
	}
	text, err := h.l.DomainGetXMLDesc(d, 0)
	if err != nil {
		return err
	}
	x, err := describe(text)
	if err != nil || x.Notes.Snapshot == nil || x.Notes.Snapshot.Name != name {
		return err
	}
	return h.remember(d, nil)
}

// snapshots are those of a guest: what libvirt lists, and one that its definition speaks of and libvirt does not list.
func (h *Host) snapshots(d libvirt.Domain, x *domain) (out []estate.Snapshot, err error) {
	n, err := h.l.DomainSnapshotNum(d, 0)
	if says(err, libvirt.ErrNoSupport, libvirt.ErrRPC) {
		return nil, nil
	}
	var names []string
	if err == nil && n > 0 {
		names, err = h.l.DomainSnapshotListNames(d, n, 0)
	}
	if err != nil {
		return nil, err
	}
	note := estate.Snapshot{}
	if k := x.Notes.Snapshot; k != nil && k.Name != "" {
		note.Name, note.Round = k.Name, k.Round
		note.Until, _ = time.Parse(time.RFC3339, k.Until) // else nobody says until when, and it is never due
	}
	for _, name := range names {
		s := estate.Snapshot{Name: name}
		if name == note.Name {
			s = note
		}
		out = append(out, s)
	}
	if note.Name != "" && !slices.Contains(names, note.Name) {
		note.Claimed = true
		out = append(out, note)
	}
	return out, nil
}
