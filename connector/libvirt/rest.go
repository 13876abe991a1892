package libvirt

import (
	"cmp"
	"encoding/xml"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"

	"github.com/digitalocean/go-libvirt"
)

// ShutDown asks a guest to shut itself down, and does not wait until it has.
func (h *Host) ShutDown(id string) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	return h.l.DomainShutdown(d)
}

// Save suspends a guest to disk, and returns when that has ended. One that was paused is paused again when it comes
// back.
func (h *Host) Save(id string) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	return h.l.DomainManagedSave(d, 0)
}

// Start starts a guest, with what is in its memory where that is on disk.
func (h *Host) Start(id string) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	return h.l.DomainCreate(d)
}

// Eject takes media out of the guest's drives, and out of its definition where it has one that lasts.
func (h *Host) Eject(id string, media []estate.Disk) error {
	return h.drives(id, media, func(estate.Disk) source { return source{} })
}

// Insert puts media into the guest's drives that are empty, and into its definition likewise.
func (h *Host) Insert(id string, media []estate.Disk) error {
	return h.drives(id, media, func(d estate.Disk) source {
		if strings.HasPrefix(d.Source, "/dev/") {
			return source{Dev: d.Source}
		}
		return source{File: d.Source}
	})
}

// drives lets each of the guest's drives hold what it is to. One that holds something else than the medium is left alone.
func (h *Host) drives(id string, media []estate.Disk, holds func(estate.Disk) source) error {
	d, x, err := h.described(id)
	if err != nil {
		return err
	}
	how := libvirt.DomainDeviceModifyLive
	if active, err := h.l.DomainIsActive(d); err != nil {
		return err
	} else if active == 0 {
		how = 0
	}
	if lasts, err := h.l.DomainIsPersistent(d); err != nil {
		return err
	} else if lasts != 0 {
		how |= libvirt.DomainDeviceModifyConfig
	}
	for _, o := range x.Devices.Disks {
		i := slices.IndexFunc(media, func(m estate.Disk) bool { return m.Target == o.Target.Dev })
		if i < 0 || !o.drive() {
			continue
		}
		to := drive{Device: o.Device, Kind: "file", Target: o.Target}
		if s := holds(media[i]); s != (source{}) {
			to.Source = &s
			if s.Dev != "" {
				to.Kind = "block"
			}
		}
		if now := cmp.Or(o.Source.File, o.Source.Dev); now != "" && now != media[i].Source {
			return fmt.Errorf("its drive %s holds %s, and not %s", o.Target.Dev, now, media[i].Source)
		}
		text, err := xml.Marshal(to)
		if err != nil {
			return err
		}
		if err := h.l.DomainUpdateDeviceFlags(d, string(text), how); err != nil {
			return fmt.Errorf("its drive %s: %w", o.Target.Dev, err)
		}
	}
	return nil
}

// described is a guest with its description.
func (h *Host) described(id string) (libvirt.Domain, *domain, error) {
	d, err := h.domain(id)
	if err != nil {
		return d, nil, err
	}
	text, err := h.l.DomainGetXMLDesc(d, 0)
	if err != nil {
		return d, nil, err
	}
	x, err := describe(text)
	return d, x, err
}

// drive is a drive, as libvirt is told of it.
type drive struct {
	XMLName xml.Name `xml:"disk"`
	Kind    string   `xml:"type,attr"`
	Device  string   `xml:"device,attr"`
	Source  *source  `xml:"source"` // nil: it is empty
	Target  target   `xml:"target"`
}

// saved tells whether what was in the guest's memory is on disk.
func (h *Host) saved(d libvirt.Domain) (bool, error) {
	n, err := h.l.DomainHasManagedSaveImage(d, 0)
	return n != 0, err
}

// pins are what keeps a guest from being migrated beside what its description says and its snapshots: libvirt moves none
// of which a backup is under way.
func (h *Host) pins(d libvirt.Domain) (out []string, err error) {
	switch _, err := h.l.DomainBackupGetXMLDesc(d, 0); {
	case err == nil:
		out = append(out, "a backup of it is under way")
	case !says(err, libvirt.ErrNoSupport, libvirt.ErrRPC, libvirt.ErrNoDomainBackup, libvirt.ErrOperationInvalid):
		return nil, err
	}
	return out, nil
}

// says tells whether libvirt's error is one of these. ErrNoSupport and ErrRPC are those of a driver, or an older
// libvirt, that does not know a call.
func says(err error, numbers ...libvirt.ErrorNumber) bool {
	var said libvirt.Error
	return errors.As(err, &said) && slices.Contains(numbers, libvirt.ErrorNumber(said.Code))
}

// doneURI is the namespace of what stands in a guest's metadata about what was done to it last.
const doneURI = "urn:yareharbour:done"

// Note writes into the guest's definition what is done to it, for which round, by whom and why. A guest without a lasting
// definition has no place for it.
func (h *Host) Note(id, what, round, by, reason string, at time.Time) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	if lasts, err := h.l.DomainIsPersistent(d); err != nil || lasts == 0 {
		return err
	}
	text, err := xml.Marshal(struct {
		XMLName struct{} `xml:"done"`
		What    string   `xml:"what,attr"`
		Round   string   `xml:"round,attr"`
		By      string   `xml:"by,attr"`
		At      string   `xml:"at,attr"`
		Reason  string   `xml:",chardata"`
	}{What: what, Round: round, By: by, At: at.UTC().Format(time.RFC3339), Reason: reason})
	if err != nil {
		return err
	}
	return h.l.DomainSetMetadata(d, int32(libvirt.DomainMetadataElement), libvirt.OptString{string(text)}, libvirt.OptString{"yare-done"},
		libvirt.OptString{doneURI}, libvirt.DomainAffectConfig)
}
