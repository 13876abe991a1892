package libvirt

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"
)

// Migration says how guests move to other hosts: from the source's libvirt to the target's, which the source reaches by
// itself.
type Migration struct {
	// URI is the target's libvirt as its peers reach it, with %h for the target's name; empty: PeerURI.
	URI string
	// Bandwidth limits one migration, in MiB a second; 0: no limit.
	Bandwidth uint64
	// Tunnelled sends the guest's memory through the connection between the two libvirts, where no port from 49152 on
	// is open between hosts.
	Tunnelled bool
}

// PeerURI is where a host's peers reach its libvirt, if nothing else is said: over SSH, by a program on the source that
// uses a key of its own, which may do nothing on the target but speak to libvirt there. "yare host prepare" makes both.
const PeerURI = "qemu+ssh://root@%h/system?command=/var/lib/yare/hop"

// At returns the target's URI.
func (m Migration) At(host string) string {
	if m.URI == "" {
		m.URI = PeerURI
	}
	return strings.ReplaceAll(m.URI, "%h", host)
}

// ByKey tells whether guests move by keys that are made for that alone.
func (m Migration) ByKey() bool { return m.URI == "" || m.URI == PeerURI }

// domain finds a guest by its UUID; its name may be another's.
func (h *Host) domain(id string) (libvirt.Domain, error) {
	var u libvirt.UUID
	b, err := hex.DecodeString(strings.ReplaceAll(id, "-", ""))
	if err != nil || copy(u[:], b) != len(u) || len(b) != len(u) {
		return libvirt.Domain{}, fmt.Errorf("%q is no guest's UUID", id)
	}
	d, err := h.l.DomainLookupByUUID(u)
	if libvirt.IsNotFound(err) {
		return d, ErrNoGuest
	}
	return d, err
}

// ErrNoGuest is what a guest gives that is not there.
var ErrNoGuest = errors.New("there is no such guest")

// Migrate moves a running guest to the host, and returns when that has ended. The source's libvirt does it: it goes on
// where this call breaks off. slows lets it slow the guest down until its memory changes no faster than it is copied. An
// error tells what libvirt said, and not where the guest is.
func (h *Host) Migrate(id, to string, slows bool, m Migration) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	var params []libvirt.TypedParam
	if m.Bandwidth > 0 {
		params = append(params, libvirt.TypedParam{Field: "bandwidth",
			Value: *libvirt.NewTypedParamValueUllong(m.Bandwidth)})
	}
	flags := libvirt.MigrateLive | libvirt.MigratePeer2peer | libvirt.MigratePersistDest |
		libvirt.MigrateUndefineSource | libvirt.MigrateAbortOnError
	if slows {
		flags |= libvirt.MigrateAutoConverge
	}
	if m.Tunnelled {
		flags |= libvirt.MigrateTunnelled
	}
	_, err = h.l.DomainMigratePerform3Params(d, libvirt.OptString{m.At(to)}, params, nil, flags)
	return err
}

// Carry moves a guest that is off to the host, and returns when that has ended.
func (h *Host) Carry(id, to string, m Migration) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	_, err = h.l.DomainMigratePerform3Params(d, libvirt.OptString{m.At(to)}, nil, nil,
		libvirt.MigrateOffline|libvirt.MigratePeer2peer|libvirt.MigratePersistDest|libvirt.MigrateUndefineSource)
	return err
}

// Job is what a guest's libvirt does with it at the moment.
type Job struct {
	Leaves    bool // it migrates away from here
	Elapsed   time.Duration
	Total     uint64 // of its memory, in bytes; 0 in the first second or two
	Remaining uint64
	Iteration uint64 // how often its memory was gone through
}

// Percent is how much of the memory that there is stands at the target. It falls back where the guest writes; whoever
// shows it keeps the best.
func (j Job) Percent() int {
	if j.Total == 0 || j.Remaining > j.Total {
		return 0
	}
	return int(100 - j.Remaining*100/j.Total)
}

// The kinds of jobs and operations that libvirt tells (virDomainJobType, virDomainJobOperation).
const (
	jobBounded   = 1
	jobUnbounded = 2
	outgoing     = 5
)

// Job returns what is done with the guest. ErrNoGuest says that it is not there any more.
func (h *Host) Job(id string) (Job, error) {
	d, err := h.domain(id)
	if err != nil {
		return Job{}, err
	}
	kind, params, err := h.l.DomainGetJobStats(d, 0)
	var said libvirt.Error
	// it is not running here, or its migration comes in
	if errors.As(err, &said) && libvirt.ErrorNumber(said.Code) == libvirt.ErrOperationInvalid {
		return Job{}, nil
	}
	if libvirt.IsNotFound(err) {
		return Job{}, ErrNoGuest
	}
	if err != nil || kind != jobBounded && kind != jobUnbounded {
		return Job{}, err
	}
	j := Job{}
	for _, p := range params {
		n, _ := p.Value.I.(uint64)
		switch p.Field {
		case "operation":
			op, _ := p.Value.I.(int32)
			j.Leaves = op == outgoing
		case "time_elapsed":
			j.Elapsed = time.Duration(n) * time.Millisecond
		case "memory_total":
			j.Total = n
		case "memory_remaining":
			j.Remaining = n
		case "memory_iteration":
			j.Iteration = n
		}
	}
	return j, nil
}

// Abort gives a guest's migration up: it runs on where it was.
func (h *Host) Abort(id string) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	return h.l.DomainAbortJob(d)
}

// Unbound takes the limit from a migration that is under way.
func (h *Host) Unbound(id string) error {
	d, err := h.domain(id)
	if err != nil {
		return err
	}
	const most = 1 << 42 >> 20 // in MiB/s: more than any network carries
	return h.l.DomainMigrateSetMaxSpeed(d, most, 0)
}

// ProofGuest is the name of the guest that is only tried, so that it may be seen whether libvirt asks the host's hook;
// the hook always refuses it.
const ProofGuest = "yare-proof"

// HookSays is what the hook says of that guest: libvirt passes on what a hook prints, in an error that other scripts' own
// refusals look like too.
const HookSays = "yare: the hook is in force"

// Proven tells, by an error, why it is not proven that libvirt asks the hook before it starts a guest: the hook's own
// refusal of a guest that there is not is the proof.
func (h *Host) Proven(ctx context.Context) error {
	var err error
	for _, kind := range []string{"kvm", "qemu"} {
		var d libvirt.Domain
		d, err = h.l.DomainCreateXML(
			fmt.Sprintf("<domain type='%s'><name>%s</name><memory "+
				"unit='MiB'>1</memory><os><type>hvm</type></os></domain>", kind, ProofGuest),
			libvirt.DomainStartPaused|libvirt.DomainStartAutodestroy)
		if err == nil {
			return errors.Join(errors.New("libvirt does not ask the hook that keeps guests away from a closed host: "+
				"it was not restarted since that was put there"), h.l.DomainDestroy(d))
		}
		if strings.Contains(err.Error(), HookSays) {
			return ctx.Err()
		}
	}
	return fmt.Errorf("whether libvirt asks the hook that keeps guests away from a closed host can't be seen: %w", err)
}
