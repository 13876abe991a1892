package linux

import (
	"cmp"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/core/estate"
	"yareharbour/format/bounds"
)

// condition reads what has no version: the clock, room, the root, bonded links, arrays and certificates.
func (m Machine) condition(r *estate.Reading) error {
	mounts, err := m.text("proc/mounts")
	if err != nil {
		return err
	}
	c := estate.Condition{}
	c.Root, c.Volatile = rootOf(mounts)
	out, err := m.Output("date", "+%s")
	if err != nil {
		return fmt.Errorf("its clock: %w", err)
	}
	says, err := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
	if err != nil {
		return fmt.Errorf("its clock: date says %q", out)
	}
	c.Ahead = time.Unix(says, 0).Sub(m.Now()).Truncate(estate.ClockGrain)
	out, err = m.Output("df", "-Plm")
	if err != nil && !missing(err) {
		return fmt.Errorf("its room: %w", err)
	}
	c.Space = spaces(lines(out), mounts)
	for _, f := range m.Glob("proc/net/bonding/*") {
		text, err := m.text(f)
		if missing(err) {
			continue // it has gone since
		}
		if err != nil {
			return fmt.Errorf("its bonded links: %w", err)
		}
		c.Bonds = append(c.Bonds, bond(path.Base(f), text))
	}
	text, err := m.text("proc/mdstat")
	if err != nil && !missing(err) {
		return fmt.Errorf("its arrays: %w", err)
	}
	c.Arrays = arrays(text)
	for _, pattern := range certificates {
		for _, f := range m.Glob(pattern) {
			if strings.Contains(path.Base(f), "key") { // that is nobody's to read
				continue
			}
			text, err := m.ReadFile(f)
			if err != nil {
				c.Certificates = append(c.Certificates, estate.Certificate{Name: "/" + f, Unread: why(err)})
			}
			c.Certificates = append(c.Certificates, certificate("/"+f, text)...)
		}
	}
	c.Wear = m.wear()
	if out, err := m.Output("ip", "neigh"); err == nil {
		c.Servers = servers(mounts, lines(out))
	} else {
		c.Servers = servers(mounts, nil)
	}
	r.Condition = c
	return nil
}

// wear is how worn the disks are that tell it: eMMC by the kernel (sysfs, "life_time": two figures from 1 to 11, tenths
// of its life), others by smartctl's JSON, where that is there and may look.
func (m Machine) wear() (out []estate.Wear) {
	for _, f := range m.Glob("sys/block/mmcblk*/device/life_time") {
		text, _ := m.text(f)
		most := 0
		for _, word := range strings.Fields(text) {
			if n, err := strconv.ParseInt(word, 0, 8); err == nil {
				most = max(most, int(n))
			}
		}
		w := estate.Wear{Name: path.Base(path.Dir(path.Dir(f)))}
		if w.Used = 10 * (most - 1); most == 0 {
			w.Used, w.Unread = 0, "it does not tell"
		}
		out = append(out, w)
	}
	for _, f := range append(m.Glob("sys/block/nvme*n1"), m.Glob("sys/block/sd*")...) {
		name := path.Base(f)
		// of a disk that ails its exit status is not 0
		text, err := m.Output("sh", "-c", `smartctl -jA "$1" || :`, "sh", "/dev/"+name)
		w := worn(text, err)
		w.Name = name
		if spins, _ := m.text(f + "/queue/rotational"); w.Unread != "" && spins == "1" {
			continue // it does not wear so
		}
		out = append(out, w)
	}
	return out
}

// worn reads smartctl's answer about a disk.
func worn(text []byte, err error) (w estate.Wear) {
	var said struct {
		Endurance struct {
			Used *int `json:"current_percent"`
		} `json:"endurance_used"`
		Log struct {
			Used *int `json:"percentage_used"`
		} `json:"nvme_smart_health_information_log"`
		Tool struct {
			Messages []struct {
				Text string `json:"string"`
			} `json:"messages"`
		} `json:"smartctl"`
	}
	switch wrong := bounds.Unmarshal(text, &said, bounds.Usual); {
	case err != nil:
		w.Unread = why(err)
	case wrong != nil:
		w.Unread = "smartctl is not there"
	case said.Endurance.Used != nil || said.Log.Used != nil:
		w.Used = *cmp.Or(said.Endurance.Used, said.Log.Used)
	case len(said.Tool.Messages) > 0:
		w.Unread = said.Tool.Messages[0].Text
	default:
		w.Unread = "it does not tell"
	}
	return w
}

// why is what an error comes to, without the name of the file.
func why(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// servers are those of file systems mounted over the network, by the address in their options, and their MAC addresses
// as far as they are neighbours.
func servers(mounts string, neighbours []string) (out []estate.Server) {
	macs := map[string]string{}
	for _, line := range neighbours { // "10.0.0.1 dev br0 lladdr 52:54:00:00:00:01 REACHABLE"
		f := strings.Fields(line)
		if i := slices.Index(f, "lladdr"); i > 0 && i+1 < len(f) {
			macs[f[0]] = strings.ToLower(f[i+1])
		}
	}
	for line := range strings.Lines(mounts) {
		f := strings.Fields(line)
		if len(f) < 4 {
			continue
		}
		for o := range strings.SplitSeq(f[3], ",") {
			if address, ok := strings.CutPrefix(o, "addr="); ok {
				out = append(out, estate.Server{At: f[1], Address: address, MAC: macs[address]})
			}
		}
	}
	return out
}

// certificates are where libvirt and QEMU keep theirs (libvirt's "TLS certificates" and QEMU's x509 directories).
var certificates = []string{"etc/pki/CA/cacert.pem", "etc/pki/libvirt/*.pem", "etc/pki/qemu/*.pem"}

// certificate finds the certificates in a PEM file; keys are passed over.
func certificate(name string, text []byte) (out []estate.Certificate) {
	for {
		var block *pem.Block
		if block, text = pem.Decode(text); block == nil {
			return out
		}
		if block.Type != "CERTIFICATE" {
			continue
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			out = append(out, estate.Certificate{Name: name, Unread: err.Error()})
			continue
		}
		out = append(out, estate.Certificate{Name: name, Until: c.NotAfter})
	}
}

// volatile are file systems that hold nothing beyond a restart, or can't be written.
var volatile = []string{"tmpfs", "ramfs", "rootfs", "squashfs", "iso9660"}

// rootOf is the type of what is mounted at / last, and whether what is written there is gone after a restart. What is
// written to an overlay is where its upper directory is.
func rootOf(mounts string) (kind string, gone bool) {
	options := ""
	types := map[string]string{}
	for line := range strings.Lines(mounts) {
		f := strings.Fields(line)
		if len(f) < 4 {
			continue
		}
		types[f[1]] = f[2]
		if f[1] == "/" {
			kind, options = f[2], f[3]
		}
	}
	if kind != "overlay" {
		return kind, slices.Contains(volatile, kind)
	}
	for o := range strings.SplitSeq(options, ",") {
		if dir, ok := strings.CutPrefix(o, "upperdir="); ok {
			for d := dir; d != "/" && d != "."; d = path.Dir(d) {
				if t := types[d]; t != "" {
					return kind, slices.Contains(volatile, t)
				}
			}
			return kind, false
		}
	}
	return kind, true // it has nothing that could be written to
}

// spaces reads POSIX df's table in MiB. What is kept in memory, and what can't be written, is left out.
func spaces(table []string, mounts string) (out []estate.Space) {
	kind := map[string]string{}
	for line := range strings.Lines(mounts) {
		if f := strings.Fields(line); len(f) > 2 {
			kind[f[1]] = f[2]
		}
	}
	for _, line := range table {
		f := strings.Fields(line)
		if len(f) < 6 || !strings.HasPrefix(f[5], "/") || slices.Contains(volatile, kind[f[5]]) ||
			kind[f[5]] == "devtmpfs" {
			continue
		}
		size, err := strconv.ParseInt(f[1], 10, 64)
		free, wrong := strconv.ParseInt(f[3], 10, 64)
		if err != nil || wrong != nil {
			continue
		}
		grain := int64(64)
		if free > 4096 {
			grain = 1024
		}
		out = append(out, estate.Space{Path: f[5], FreeMiB: free / grain * grain, SizeMiB: size})
	}
	return out
}

// bond reads a file of /proc/net/bonding.
func bond(name, text string) estate.Bond {
	b := estate.Bond{Name: name}
	for line := range strings.Lines(text) {
		switch k, v, _ := strings.Cut(strings.TrimSpace(line), ": "); {
		case k == "Slave Interface":
			b.Links = append(b.Links, estate.Link{Name: v})
		case k == "MII Status" && len(b.Links) > 0:
			b.Links[len(b.Links)-1].Up = v == "up"
		}
	}
	return b
}

// arrays reads /proc/mdstat: an array's line, the one behind it with how many of its devices are there, and perhaps one
// that tells of a recovery.
func arrays(text string) (out []estate.Array) {
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		switch {
		case len(f) > 2 && f[1] == ":" && strings.HasPrefix(f[0], "md"):
			out = append(out, estate.Array{Name: f[0], Whole: f[2] == "active",
				Detail: map[bool]string{false: f[2]}[f[2] == "active"]})
			if strings.Contains(line, "(F)") {
				out[len(out)-1].Whole, out[len(out)-1].Detail = false, "a device of it failed"
			}
		case len(out) == 0 || len(f) == 0:
		case strings.Contains(f[len(f)-1], "_") && strings.HasPrefix(f[len(f)-1], "["):
			a := &out[len(out)-1]
			a.Whole, a.Detail = false, "devices that are there: "+f[len(f)-1]
		default:
			for _, word := range []string{"resync", "recovery", "reshape"} {
				if slices.Contains(f, word) {
					a := &out[len(out)-1]
					a.Whole = false
					a.Detail = strings.TrimPrefix(a.Detail+"; "+strings.Join(f, " "), "; ")
				}
			}
		}
	}
	return out
}
