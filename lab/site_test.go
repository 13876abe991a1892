package lab

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"yareharbour/sim"
)

// yare is the program, built once.
var yare string

// build builds the program, and returns the directory that it is in.
func build() (dir string, err error) {
	if dir, err = os.MkdirTemp("", "yare-lab-"); err != nil {
		return dir, err
	}
	yare = filepath.Join(dir, "yare")
	out, err := exec.Command("go", "build", "-o", yare, "yareharbour/cmd/yare").CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return dir, err
}

// bmcSecret is the environment variable that has the BMCs' password.
const bmcSecret = "YARE_LAB_BMC"

// site is an administrator's side of the lab: a state directory with an estate file, a catalogue and a baseline.
type site struct {
	dir    string
	secret string
}

// emulator is the lab's other version of the emulator, with the version that it brings.
const emulator = "qemu-system-x86_lab2.deb"

// wants are the packages that the lab's baseline wants, with the files they come in. What is left out is as it is.
type wants []struct{ component, version, file, restart string }

// all that there is to put in: one that restarts a service, one that replaces the emulator, and one that needs a
// restart of the host.
func rolling(t *trial) wants {
	t.Helper()
	version, err := exec.CommandContext(t.Context(), "dpkg-deb", "-f", filepath.Join(home(), "repo", emulator),
		"Version").Output()
	if err != nil {
		t.Fatal(err)
	}
	return wants{{"deb:tide-gauge", "2.0", "tide-gauge_2.0_all.deb", "service"},
		{"deb:qemu-system-x86", strings.TrimSpace(string(version)), emulator, "host"},
		{"deb:keel", "2.0", "keel_2.0_all.deb", "host"}}
}

// settle makes the site. limit is what one migration may take, in MiB a second, and 0 where it may take what there is.
func settle(t *trial, w wants, a sim.Address, limit int) *site {
	t.Helper()
	s := &site{t.TempDir(), a.Secret}
	var file, releases, clauses strings.Builder
	fmt.Fprintf(&file, "estate: Merrow Sound\nconnector:\n  kind: ssh\n  ssh_config: [%s]\n  known_hosts: [%s]\n"+
		"  limit: 20s\n  migration: {uri: \"qemu+tcp://%%h/system\", bandwidth: %d}\n", t.lab("ssh_config"),
		t.lab("known_hosts"), limit)
	fmt.Fprintf(&file, "clusters:\n  - {name: piers, act: true, reserve: 1, patience: 25s, hosts: [%s]}\n"+
		"baselines: [baseline.yaml]\nreleases: [releases.yaml]\npayloads: %s\n", strings.Join(hosts, ", "),
		filepath.Join(home(), "repo"))
	if len(a.BMC) > 0 {
		file.WriteString("bmcs:\n")
		for _, h := range hosts {
			fmt.Fprintf(&file, "  - {host: %s, at: \"%s\", user: %s, password: \"env:%s\", fingerprint: %s}\n", h,
				a.BMC[h], sim.User, bmcSecret, a.Fingerprint)
		}
	}
	releases.WriteString("feed: lab-1\nmade: 2026-11-20\nvendor: Brae\ncomponents:\n")
	clauses.WriteString("baseline: lab\nrank: 10\nassign: [piers]\nclauses:\n")
	for _, p := range w {
		body, sum := deb(t, p.file)
		fmt.Fprintf(&releases, "  - component: %s\n    releases:\n"+
			"      - {version: \"%s\", date: 2026-11-19, restart: %s, file: %s, size: %d, sha256: %s}\n", p.component,
			p.version, p.restart, p.file, len(body), sum)
		fmt.Fprintf(&clauses, "  - {component: \"%s\", posture: at least, version: \"%s\"}\n", p.component, p.version)
	}
	for name, text := range map[string]string{"estate.yaml": file.String(), "releases.yaml": releases.String(),
		"baseline.yaml": clauses.String()} {
		if err := os.WriteFile(filepath.Join(s.dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// command is the program with the site's state directory.
func (s *site) command(t *trial, args ...string) *exec.Cmd {
	c := exec.CommandContext(t.Context(), yare, append(args, "--state", s.dir)...)
	c.Env = append(os.Environ(), bmcSecret+"="+s.secret)
	return c
}

// run runs the program and returns what it wrote and its exit status.
func (s *site) run(t *trial, args ...string) (string, int) {
	t.Helper()
	var out bytes.Buffer
	c := s.command(t, args...)
	c.Stdout, c.Stderr = &out, &out
	err := c.Run()
	if failed := (*exec.ExitError)(nil); err != nil && !errors.As(err, &failed) {
		t.Fatal(err)
	}
	t.Logf("$ yare %s\n%s(exit status %d)", strings.Join(args, " "), out.String(), c.ProcessState.ExitCode())
	return out.String(), c.ProcessState.ExitCode()
}

// must runs the program, which has to end with the status.
func (s *site) must(t *trial, status int, args ...string) string {
	t.Helper()
	out, code := s.run(t, args...)
	if code != status {
		t.Fatalf("yare %s: exit status %d, want %d", strings.Join(args, " "), code, status)
	}
	return out
}

// lives are the nonces of all guests that run, by name.
func lives(t *trial) map[string]string {
	t.Helper()
	out := map[string]string{}
	for _, h := range hosts {
		for _, g := range running(t, h) {
			out[g], _ = life(t, g)
		}
	}
	return out
}

// running are the guests that run on a host.
func running(t *trial, host string) []string {
	return strings.Fields(on(t, host, "virsh -q list --state-running --name"))
}
