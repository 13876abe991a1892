// Package lab holds tests on real hosts: three machines with libvirt, sshd, dpkg and guests that migrate, built by
// lab.sh in namespaces of this one. "make lab" runs them, as root; where that can't be they say what is missing and are
// left out.
package lab

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/host"
	"yareharbour/connector/libvirt"
	"yareharbour/connector/redfish"
	"yareharbour/connector/ssh"
	"yareharbour/core/estate"
	"yareharbour/e2e/drive"
	"yareharbour/sim"
)

// inside tells the tests that they run in the operator's network namespace, from which the hosts are reached.
const inside = "YARE_LAB_INSIDE"

// wanted asks for the lab; without it the tests are left out, since it takes minutes.
const wanted = "YARE_LAB"

func TestMain(m *testing.M) {
	if os.Getenv(inside) != "" {
		dir, err := build()
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		drive.Patience = 8 * time.Minute // a whole round
		code := m.Run()
		os.RemoveAll(dir)
		os.Exit(code)
	}
	if os.Getenv(wanted) == "" {
		fmt.Println("the lab is left out: \"make lab\" runs it")
		return
	}
	if why := lacking(); why != "" {
		fmt.Println("the lab is left out:", why)
		return
	}
	os.Exit(enter())
}

// lacking is why there can be no lab here; "" where there can.
func lacking() string {
	if os.Getuid() != 0 {
		return "it takes root"
	}
	for _, tool := range []string{"ip", "unshare", "ssh", "ssh-keygen", "as", "ld", "dpkg-deb", "dpkg-scanpackages"} {
		if _, err := exec.LookPath(tool); err != nil {
			return "it takes " + tool + ", which is not installed here"
		}
	}
	if out, err := exec.Command("unshare", "--mount", "--uts", "--ipc", "--pid", "--net", "--time", "--fork", "true").
		CombinedOutput(); err != nil {
		return "no namespaces can be made here: " + strings.TrimSpace(string(out))
	}
	return ""
}

// enter builds the hosts anew, runs the tests among them, and takes the hosts down.
func enter() int {
	ctx := context.Background()
	clean := func() {
		for n := range atOnce {
			_ = script(ctx, n+1, "clean").Run() // there may be nothing to clean
		}
	}
	clean()
	defer clean()
	if out, err := script(ctx, 1, "build").CombinedOutput(); err != nil {
		fmt.Printf("the lab is left out: lab.sh build: %v\n%s", err, tail(string(out)))
		return 0
	}
	c := script(ctx, 1, "base")
	c.Env = append(c.Env, newer()...)
	if out, err := c.CombinedOutput(); err != nil {
		fmt.Printf("the newer release can't be built, and its test is left out: %v\n%s", err, tail(string(out)))
	}
	self, err := os.Executable()
	if err != nil {
		fmt.Println(err)
		return 1
	}
	cmd := script(ctx, 1, append([]string{"exec", self}, os.Args[1:]...)...)
	cmd.Env = append(os.Environ(), inside+"=yes")
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		fmt.Println(err)
		return 1
	}
	return 0
}

// newer are the variables that make hosts of a newer release.
func newer() []string {
	return []string{"LAB_BASE=" + filepath.Join(home(), "base-newer", "root"), "LAB_SUITE=trixie"}
}

func tail(s string) string { return s[max(0, len(s)-2000):] }

// home is where lab.sh keeps what it made.
func home() string {
	if dir := os.Getenv("LAB_HOME"); dir != "" {
		return dir
	}
	return "/var/tmp/yare-lab"
}

// atOnce is how many labs there are side by side: mostly they wait.
const atOnce = 3

// trial is a test with a lab of its own.
type trial struct {
	testing.TB
	n int // of its lab
}

// free are the labs that no test has.
var free = func() chan int {
	c := make(chan int, atOnce)
	for n := range atOnce {
		c <- n + 1
	}
	return c
}()

// enlist waits until a lab is free, and gives it to the test for as long as that lasts.
func enlist(tt *testing.T) *trial {
	tt.Helper()
	tt.Parallel()
	t := &trial{tt, <-free}
	tt.Cleanup(func() { free <- t.n })
	return t
}

// variables tell lab.sh which lab is meant.
func variables(n int) []string {
	return append(os.Environ(), fmt.Sprintf("LAB_DIR=%s", labDir(n)), fmt.Sprintf("LAB_PREFIX=yare%d", n),
		fmt.Sprintf("LAB_NET=10.77.%d", n))
}

func labDir(n int) string { return filepath.Join(home(), fmt.Sprintf("lab%d", n)) }

// lab is a file of the test's lab.
func (t *trial) lab(file string) string { return filepath.Join(labDir(t.n), file) }

// script is lab.sh with words.
func script(ctx context.Context, n int, words ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, "./lab.sh", words...)
	c.Env = variables(n)
	return c
}

// run runs lab.sh, from anywhere: from inside the namespace too.
func run(t *trial, words ...string) string {
	t.Helper()
	out, err := script(t.Context(), t.n, words...).CombinedOutput()
	if err != nil {
		t.Fatalf("lab.sh %s: %v\n%s", strings.Join(words, " "), err, tail(string(out)))
	}
	return string(out)
}

// on runs a command on a host, by OpenSSH.
func on(t *trial, host, command string) string {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "ssh", "-F", t.lab("ssh_config"), host, command).CombinedOutput()
	if err != nil {
		t.Fatalf("%s: %s: %v\n%s", host, command, err, tail(string(out)))
	}
	return strings.TrimSpace(string(out))
}

// waitUntil waits for something that a host does by itself.
func waitUntil(t *trial, what string, is func() bool) {
	t.Helper()
	for start := time.Now(); !is(); time.Sleep(100 * time.Millisecond) {
		if time.Since(start) > 2*time.Minute {
			t.Fatalf("in vain: %s", what)
		}
	}
}

// fresh brings the hosts to where they were made: three guests on each, no mark, nothing of the lab's packages but
// keel, fender and tide-gauge at 1.0. The guests are of the kind that lab.sh calls so; of the plainest where none is
// named.
func fresh(t *trial, kind ...string) {
	t.Helper()
	run(t, "reset")
	run(t, "up", "3")
	var wait sync.WaitGroup
	defer wait.Wait()
	for _, h := range hosts {
		wait.Go(func() { furnish(t, h, kind...) })
	}
}

// furnish puts packages and guests on a host.
func furnish(t *trial, h string, kind ...string) {
	t.Helper()
	on(t, h, "apt-get -q update && apt-get -q -y install keel=1.0 fender=1.0 tide-gauge=1.0 && "+
		"service tide-gauge start")
	run(t, append([]string{"guests", h, "3"}, kind...)...)
}

var hosts = []string{"h1", "h2", "h3"}

// world reaches the lab's hosts.
type world struct{ *host.Connector }

func (world) Now() time.Time { return time.Now() }

// watching is when the tests began.
var watching = time.Now()

func (world) Lasted() time.Duration { return time.Since(watching) }

func (world) Speed() float64 { return 1 }

// reach returns the hosts' connector. Guests move over TCP, as the hosts' own libvirt lets them.
func (t *trial) reach() world {
	return world{&host.Connector{SSH: &ssh.Dialer{Config: []string{t.lab("ssh_config")},
		KnownHosts: []string{t.lab("known_hosts")}}, Limit: 20 * time.Second,
		Migration: libvirt.Migration{URI: "qemu+tcp://%h/system"}}}
}

// board is the firmware that a host's BMC has; there is no machine below it but the stand-in.
const board = estate.Key("fw:corran-bmc")

// bmcs starts a BMC for each host: the simulated ones, whose power switches are wired to the real hosts. Firmware is
// flashed sixty times as fast as on a simulated estate.
func bmcs(t *trial) sim.Address {
	t.Helper()
	made := func() *sim.World {
		w := &sim.World{Now: time.Now(), Hosts: map[string]*sim.Host{}, Restarts: map[string]int{}}
		for _, h := range hosts {
			w.Hosts[h] = &sim.Host{Name: h, Up: true, Restart: time.Second,
				Reading: estate.Reading{Host: h,
					Hardware: estate.Hardware{Maker: "Corran", Model: "Quay 1", Serial: "LAB-" + h},
					BMC:      estate.BMC{Power: "On"}, Health: []estate.Health{{Item: "power supply 1", OK: true}},
					Components: []estate.Component{{Key: board, Version: "14.0", Class: "bmc", Model: "Corran BMC"}}}}
		}
		return w
	}
	ctx, end := context.WithCancel(context.Background())
	dir := t.TempDir()
	wait, err := sim.Start(ctx, sim.Options{Dir: dir, Speed: 60, New: made, Power: t.power})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		end()
		if err := wait(); err != nil {
			t.Error(err)
		}
	})
	a, err := sim.ReadAddress(dir)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// power switches a host's power.
func (t *trial) power(host string, on bool) error {
	word := map[bool]string{true: "on", false: "off"}[on]
	if out, err := script(context.Background(), t.n, word, host).CombinedOutput(); err != nil {
		return fmt.Errorf("lab.sh %s %s: %w: %s", word, host, err, tail(string(out)))
	}
	return nil
}

// with gives the hosts' connector their BMCs.
func (w world) with(a sim.Address) world {
	w.BMCs = map[string]host.BMC{}
	for h, at := range a.BMC {
		w.BMCs[h] = host.BMC{Target: redfish.Target{At: at, User: sim.User, Fingerprint: a.Fingerprint},
			Password: func(context.Context) (string, error) { return a.Secret, nil }}
	}
	return w
}

// prepared prepares all hosts for orders.
func prepared(t *trial, w world) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	for _, h := range hosts {
		s, err := w.Open(ctx, h)
		if err == nil {
			_, err = s.(connector.Preparer).Prepare(ctx, nil)
			err = errors.Join(err, s.Close())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// deb returns a package of the lab's, with its SHA-256.
func deb(t *trial, name string) (body []byte, sum string) {
	t.Helper()
	body, err := os.ReadFile(filepath.Join(home(), "repo", name))
	if err != nil {
		t.Fatal(err)
	}
	h := sha256.Sum256(body)
	return body, hex.EncodeToString(h[:])
}

// life is what a guest says of itself: a nonce that it made when it started, and a counter that rises by the second.
// Both are nowhere but in its memory.
func life(t *trial, guest string) (nonce, count string) {
	t.Helper()
	waitUntil(t, guest+" says who it is", func() bool {
		text, _ := os.ReadFile(t.lab("shared/log/" + guest + ".log")) // it is not there before the guest first speaks
		lines := strings.Split(string(text), "\n")
		for _, l := range slices.Backward(lines[:len(lines)-1]) { // the last may be in the middle of being written
			if f := strings.Fields(l); len(f) == 2 && len(f[0]) == 8 && len(f[1]) == 8 {
				nonce, count = f[0], f[1]
				return true
			}
		}
		return false
	})
	return nonce, count
}

var _ connector.World = world{}

// link changes a link in a host's network from outside, and tells whether it could: the host need not answer.
func link(t *trial, host string, words ...string) bool {
	t.Helper()
	return exec.CommandContext(t.Context(), "ip",
		append([]string{"-n", fmt.Sprintf("yare%d-%s", t.n, host), "link"}, words...)...).Run() == nil
}

// supervised is what the host's supervisor wrote: how each of its lives ended, with rc=42 where it restarted.
func supervised(t *trial, host string) string {
	t.Helper()
	text, err := os.ReadFile(t.lab("hosts/" + host + "/supervise.log"))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// withDisk defines and starts a guest with a disk that keeps snapshots, where all hosts reach it.
func withDisk(t *trial, host, name string) {
	t.Helper()
	if err := os.WriteFile(t.lab("shared/"+name+".img"), qcow2(), 0o666); err != nil {
		t.Fatal(err)
	}
	xml := strings.Replace(run(t, "xml", name), "</devices>", "<disk type='file' device='disk'><driver name='qemu' type='qcow2'/><source file='/shared/"+
		name+".img'/><target dev='hda' bus='ide'/></disk></devices>", 1)
	if err := os.WriteFile(t.lab("shared/"+name+".xml"), []byte(xml), 0o644); err != nil {
		t.Fatal(err)
	}
	on(t, host, "virsh -q define /shared/"+name+".xml; virsh -q start "+name)
}

// qcow2 is an empty disk of 1 MiB in QEMU's own form (docs/interop/qcow2.rst of its sources), in clusters of 64 KiB:
// header, table of the counts, one block of them, and the table of the first level.
func qcow2() []byte {
	const cluster = 1 << 16
	out := make([]byte, 4*cluster)
	b := binary.BigEndian
	copy(out, "QFI\xfb\x00\x00\x00\x02")
	b.PutUint32(out[20:], 16) // bits of a cluster
	b.PutUint64(out[24:], 1<<20)
	b.PutUint32(out[36:], 1) // entries of the first level
	b.PutUint64(out[40:], 3*cluster)
	b.PutUint64(out[48:], cluster)
	b.PutUint32(out[56:], 1) // clusters of the counts' table
	b.PutUint64(out[cluster:], 2*cluster)
	for n := range 4 {
		b.PutUint16(out[2*cluster+2*n:], 1)
	}
	return out
}
