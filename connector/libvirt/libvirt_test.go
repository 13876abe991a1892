package libvirt

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/digitalocean/go-libvirt"

	"yareharbour/core/estate"
)

const window = `<domain type='kvm'><name>gauge-1</name><uuid>0B3E7AE4-1111-4222-8333-444455556666</uuid>
<memory unit='KiB'>8388608</memory><currentMemory unit='KiB'>4194304</currentMemory>
<metadata><y:labels xmlns:y='urn:yareharbour:guest'>batch night</y:labels><labels xmlns='urn:other'>no</labels>
</metadata><os><type arch='x86_64' machine='pc-q35-9.2'>hvm</type></os><cpu mode='custom' match='exact'>
<model fallback='forbid'>Skerry-v2</model></cpu><devices>
<interface type='network'><source network='quay' bridge='br7'/></interface><interface type='bridge'>
<source bridge='br0'/></interface>
<interface type='bridge'><source bridge='br0'/></interface>
<disk type='file' device='disk'><source file='/srv/a.img'/><target dev='vda'/></disk>
<disk type='volume' device='disk'><source pool='pool' volume='b'/><mirror type='file' job='active-commit'/>
<target dev='vdb'/></disk>
<disk type='file' device='cdrom'><source file='/srv/x.iso'/><target dev='sda'/></disk>
<disk type='block' device='cdrom'><source dev='/dev/sr0'/><target dev='sdb'/></disk>
<hostdev type='pci'><source><address domain='0x0000' bus='0x3b' slot='0x00' function='0x1'/></source></hostdev>
<channel type='unix'><target type='virtio' name='org.qemu.guest_agent.0' state='connected'/></channel></devices>
</domain>`

func TestADescriptionOfADomain(t *testing.T) {
	d, err := describe(window)
	if err != nil {
		t.Fatal(err)
	}
	g := d.guest()
	if g.ID != "0b3e7ae4-1111-4222-8333-444455556666" || g.Name != "gauge-1" || g.Load.MemoryMiB != 4096 ||
		strings.Join(g.Networks, " ") != "quay br0" || strings.Join(g.Devices, " ") != "0000:3b:00.1" ||
		strings.Join(g.Labels, " ") != "batch night" ||
		strings.Join(g.Pins, ";") != "its disk vdb is being copied (active-commit)" ||
		g.Machine != (estate.Inner{Name: "q35", Version: "9.2"}) || d.agent() != "connected" {
		t.Errorf("%+v", g)
	}
	if got := fmt.Sprintf("%+v", g.Disks); got != "[{Target:vda Source:/srv/a.img Media:false Local:false Format:} "+
		"{Target:vdb Source:pool/b Media:false Local:false Format:} {Target:sda Source:/srv/x.iso Media:true Local:false Format:} "+
		"{Target:sdb Source:/dev/sr0 Media:true Local:true Format:}]" {
		t.Error(got)
	}
	if got := strings.Join(d.needs(), "; "); got != "pc-q35-9.2; CPU Skerry-v2 (kvm)" {
		t.Error(got)
	}
	d, err = describe(`<domain><uuid>u</uuid><cpu mode='host-passthrough'/><devices><filesystem type='mount'>
<source dir='/srv'/><target dir='share'/></filesystem><disk device='cdrom'><target dev='sda'/></disk></devices>
</domain>`)
	if err != nil || len(d.needs()) > 0 || len(d.guest().Disks) > 0 ||
		strings.Join(d.guest().Pins, "") != "it shares a directory of its host (share)" {
		t.Errorf("%+v %v", d, err)
	}
	for name, want := range map[string]estate.Inner{
		"pc-q35-brae9.4.0": {Name: "q35-brae", Version: "9.4.0"},
		"pc-i440fx-8.0":    {Name: "i440fx", Version: "8.0"},
		"q35":              {Name: "q35", Unread: "the machine type q35 names no version"},
		"":                 {},
	} {
		if got := machine(name); got != want {
			t.Errorf("%s is %+v, want %+v", name, got, want)
		}
	}
	for _, bad := range []string{"", "<domain>", "<domain><name>x</name></domain>", "no XML"} {
		if _, err := describe(bad); err == nil {
			t.Errorf("%q is taken for a description", bad)
		}
	}
	for text, want := range map[amount]int64{{"KiB", 2048}: 2, {"GiB", 1}: 1024, {"", 1024}: 1, {"bytes", 1 << 20}: 1,
		{"TiB", 1 << 62}: 1 << 40} {
		if got := text.mib(); got != want {
			t.Errorf("%+v is %d MiB, want %d", text, got, want)
		}
	}
}

// Memory counts as long as a guest holds it, whatever it does.
// What a host offers is read of what libvirt says that it can run.
func TestWhatAHostOffers(t *testing.T) {
	got, err := machines(`<capabilities><guest><arch name='x86_64'>
<machine maxCpus='288' canonical='pc-q35-9.2'>q35</machine><machine>pc-q35-8.0</machine><domain type='kvm'>
<machine>microvm</machine></domain></arch></guest></capabilities>`)
	if err != nil || strings.Join(got, " ") != "q35 pc-q35-9.2 pc-q35-8.0 microvm" {
		t.Errorf("%v %v", got, err)
	}
	got, err = models("kvm",
		`<domainCapabilities><cpu><mode name='host-model'><model>Quay-v9</model></mode><mode name='custom'>
<model usable='yes'>Skerry-v1</model><model usable='no'>Skerry-v2</model><model usable='unknown'>Skerry-v3</model>
</mode></cpu></domainCapabilities>`)
	if err != nil || strings.Join(got, " ") != "CPU Skerry-v1 (kvm)" {
		t.Errorf("%v %v", got, err)
	}
	for _, text := range []string{"", "<", "<capabilities>"} {
		if _, err := machines(text); err == nil {
			t.Errorf("%q offers machines", text)
		}
		if _, err := models("kvm", text); err == nil {
			t.Errorf("%q offers models", text)
		}
	}
}

func TestStatesOfGuests(t *testing.T) {
	for s, want := range map[libvirt.DomainState]estate.GuestState{
		libvirt.DomainRunning: estate.Running, libvirt.DomainBlocked: estate.Running,
		libvirt.DomainShutdown: estate.Running, libvirt.DomainNostate: estate.Running,
		libvirt.DomainPaused: estate.Suspended, libvirt.DomainPmsuspended: estate.Suspended,
		libvirt.DomainCrashed: estate.Crashed, libvirt.DomainShutoff: estate.Off,
	} {
		if got := stateOf(s); got != want {
			t.Errorf("%d is %s, want %s", s, got, want)
		}
	}
}

// daemon runs libvirt's own daemon as an ordinary user would, with everything below the test's directory, and returns
// its socket.
func daemon(t *testing.T) string {
	t.Helper()
	program, err := exec.LookPath("/usr/sbin/libvirtd")
	if err != nil {
		t.Skip("libvirt's daemon is not installed here")
	}
	dir, err := os.MkdirTemp("", "lv") // the path of a socket is short
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	cmd := exec.Command(program)
	cmd.Env = []string{"HOME=" + dir, "XDG_RUNTIME_DIR=" + dir, "XDG_CONFIG_HOME=" + dir, "XDG_CACHE_HOME=" + dir,
		"PATH=" + os.Getenv("PATH")}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if os.Getuid() == 0 { // root's daemon is the machine's own
		const nobody = 65534
		if err := os.Chown(dir, nobody, nobody); err != nil {
			t.Fatal(err)
		}
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: nobody, Gid: nobody}
	}
	if err := cmd.Start(); err != nil {
		t.Skip("libvirt's daemon can't run here: " + err.Error())
	}
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait()
	})
	socket := filepath.Join(dir, "libvirt", "libvirt-sock")
	for start := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		if conn, err := net.Dial("unix", socket); err == nil {
			conn.Close()
			return socket
		}
		if time.Since(start) > 10*time.Second {
			t.Skip("libvirt's daemon does not begin to listen here")
		}
	}
}

func dial(t *testing.T, socket string) net.Conn {
	t.Helper()
	conn, err := net.Dial("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	return conn
}

// Libvirt's own test driver, behind its own daemon: what is read is what it has.
func TestGuestsOfARealLibvirt(t *testing.T) {
	socket := daemon(t)
	h, err := Connect(t.Context(), dial(t, socket), "test:///default")
	if err != nil {
		t.Fatal(err)
	}
	defer h.Close()
	look := func() estate.Guest {
		t.Helper()
		guests, err := h.Guests(t.Context(), &Meter{})
		if err != nil || len(guests) != 1 {
			t.Fatalf("%+v %v", guests, err)
		}
		return guests[0]
	}
	g := look()
	if g.Name != "test" || len(g.ID) != 36 || g.State != estate.Running || g.Load.MemoryMiB != 2048 {
		t.Errorf("%+v", g)
	}
	d, err := h.l.DomainLookupByName("test")
	if err != nil {
		t.Fatal(err)
	}
	if err := h.l.DomainSuspend(d); err != nil {
		t.Fatal(err)
	}
	if g := look(); g.State != estate.Suspended || !g.Holds() {
		t.Errorf("a suspended guest is %+v", g)
	}
	if err := h.l.DomainDestroy(d); err != nil {
		t.Fatal(err)
	}
	if g := look(); g.State != estate.Off || g.Load.CPU != 0 {
		t.Errorf("a guest that is off is %+v", g)
	}
	guests := []estate.Guest{{Features: []string{"pc-no-such-machine"}}}
	if o, err := h.Offer(guests); err != nil || strings.Join(o.Networks, " ") != "default" ||
		len(guests[0].Features) > 0 {
		t.Errorf("%+v %v %v", o, err, guests)
	}
}

// A daemon that stops answering costs its limit, at the first word and at any later one.
func TestALibvirtThatHangs(t *testing.T) {
	near, far := net.Pipe()
	defer far.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	start := time.Now()
	go func() { _, _ = far.Read(make([]byte, 64)) }()
	if _, err := Connect(ctx, near, URI); err == nil || time.Since(start) > 3*time.Second {
		t.Errorf("%v after %s", err, time.Since(start))
	}
	h, err := Connect(t.Context(), dial(t, daemon(t)), "test:///default")
	if err != nil {
		t.Fatal(err)
	}
	h.Drop()
	if _, err := h.Guests(t.Context(), &Meter{}); err == nil {
		t.Error("a dropped connection answers")
	}
}

// An answer without an end is not taken.
func TestALibvirtThatNeverStops(t *testing.T) {
	near, far := net.Pipe()
	defer near.Close()
	m := &measured{near, 10}
	go func() { _, _ = far.Write(make([]byte, 20)) }()
	n := 0
	for {
		k, err := m.Read(make([]byte, 8))
		if n += k; err != nil {
			break
		}
	}
	far.Close()
	if n != 10 {
		t.Error("taken: " + strconv.Itoa(n))
	}
}
