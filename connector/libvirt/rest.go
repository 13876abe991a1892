package libvirt

import "github.com/digitalocean/go-libvirt"

// ShutDown asks a guest to shut itself down, and does not wait until it has.
func (h *Host) ShutDown(id string) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	return h.l.DomainShutdown(d)
}

// Save suspends a guest to disk, and returns when that has ended. One that was paused is paused again when it comes back.
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

// saved tells whether what was in the guest's memory is on disk.
func (h *Host) saved(d libvirt.Domain) (bool, error) {
	n, err := h.l.DomainHasManagedSaveImage(d, 0)
	return n != 0, err
}
