package e2e

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A step is a command, the exit code it must end with, and what it must say.
type step struct {
	args string
	code int
	says []string
}

func walk(t *testing.T, dir string, steps []step) {
	t.Helper()
	for _, s := range steps {
		r := run(t, append(strings.Fields(s.args), "--state", dir)...)
		if r.code != s.code {
			t.Fatalf("yare %s: exit %d, want %d\n%s%s", s.args, r.code, s.code, r.out, r.err)
		}
		for _, w := range s.says {
			if !strings.Contains(r.out, w) {
				t.Errorf("yare %s: %q is missing:\n%s%s", s.args, w, r.out, r.err)
			}
		}
	}
}

// "Here is a mirror, a vendor's zip and twelve hosts": what an administrator does who has never seen the tool, on the
// command line.
func TestFromAMirrorAndAZipToWhatIsBehindAndWhy(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 1)
	walk(t, dir, []step{
		{"feed list", 0, []string{"brae-mirror", "every 6h", "never", "corran-beta", "off"}},
		{"feed sync", 0, []string{"brae-mirror: 4 releases", "brae-advisories: 0 releases, 3 advisories",
			"brae-rpm: 2 releases, 1 advisory", "skerry-firmware: 2 releases"}},
		{"feed sync", 0, []string{"brae-mirror: nothing has changed"}},
		{"feed sync --due", 0, []string{"there is nothing to sync"}},
		{"feed set brae-rpm daily", 1, nil},
		{"bundle show bundles/ulva-2026q4.zip", 1, nil}, // not here
		{"bundle import --yes " + filepath.Join(dir, "bundles", "ulva-2026q4.zip"), 0,
			[]string{"1 release (1 not known yet)", "taken in as"}},
		{"bundle import --yes " + filepath.Join(dir, "bundles", "ulva-2026q4.zip"), 0, []string{"nothing has changed"}},
		{"bundle import --yes " + filepath.Join(dir, "bundles", "skerry-firmware.tar.gz"), 0,
			[]string{"firmware cabinet", "PLDM package", "fw:skerry-nx 2.2"}},
		{"bundle list", 0, []string{"ulva-2026q4.zip", "skerry-firmware.tar.gz"}},
		{"check vts --narrow vendor=ulva", 3, []string{"heron    fw:ulva-w31 (bay 1)  behind   1.9  1.10   high"}},
		{"explain heron deb:brae-tls", 0,
			[]string{"1.8-brae1 is affected by BRAE-2026-0111 (critical): A crafted certificate",
				"fixes BRAE-2026-0111"}},
		{"explain turnstone deb:qemu-system-x86", 0,
			[]string{"the emulator of guest badge-office, the emulator of guest yard-plan still run on what it " +
				"replaced (9.2.3-brae1)", "as a part of host:brae-stack 2026.11"}},
		{"explain stint deb:libvirt-daemon", 0,
			[]string{"the program that virtqemud.service runs was replaced on disk under it"}},
		{"catalogue list --narrow kind=fw", 0, []string{"fw:tarbet-s9", "4.19.0 (4), 5.2.0 (5)"}},
		{"catalogue show fw:tarbet-s9", 0, []string{"fw:tarbet-s9, track 5, for Tarbet S9", "4.19.0", "heron"}},
		{"payload list", 0, []string{"fw:ulva-w31 1.10", "yes", "GiB free"}},
		{"payload verify", 0, []string{"34 payloads, all as their hashes say"}},
		{"payload prune --unknown --yes", 0, []string{"nothing to prune"}},
		{"news vts --seen", 0, []string{"nobody has looked yet"}},
		{"filter keep severe severity=critical", 0, nil},
		{"filter list", 0, []string{"@severe  severity=critical"}},
		{"check vts --narrow @severe", 3, []string{"deb:brae-tls"}},
		{"filter forget severe", 0, nil},
		{"trend vts", 0, []string{"PLATFORM", "of 5"}},
	})
}

// What the demo's own mirror offers is wanted by a baseline, fetched, and put in by a round.
func TestWhatAMirrorOffersIsPutIn(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 2000)
	file := filepath.Join(t.TempDir(), "neighbours.yaml")
	text := "baseline: neighbours\nassign: [vts/lapwing]\nclauses:\n  - component: deb:lldpd\n    posture: at least\n    follow: newest\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	walk(t, dir, []step{
		{"feed sync brae-mirror", 0, []string{"brae-mirror: 4 releases"}},
		{"baseline save --why trial " + file, 0, nil},
		{"check lapwing", 3, []string{"deb:lldpd", "behind", "1.1-brae1", "1.2-brae1"}},
		{"plan vts/lapwing", 0, []string{"can't be made", "lldpd"}}, // its payload is not here yet
		{"stage vts/lapwing", 0, []string{"1 payload fetched", "stage pool/lldpd", "1 payload waits there"}},
		{"stage vts/lapwing", 0, []string{"lapwing: 1 payload: all that the plan brings waits there already"}},
		{"plan vts/lapwing", 0, []string{"1 payload waits", "its payload waits there"}},
		{"stage vts --remove", 0, []string{"take away a payload"}},
		{"stage vts/lapwing", 0, []string{"0 payloads fetched, 1 were here"}},
		{"report round vts", 0, []string{"deb:lldpd", "waits there"}},
		{"check lapwing", 3, nil}, // nothing was put in
		{"round start vts/lapwing --reason trial", 0, []string{"change deb:lldpd 1.1-brae1 → 1.2-brae1"}},
		{"check lapwing", 0, nil},
		{"stage vts/lapwing --remove", 0, []string{"lapwing: no payload waits there"}}, // it went when it was put in
	})
}

// A baseline's life: shown, tried, saved, compared, reverted; each version with its reason.
func TestABaselinesLife(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 1)
	walk(t, dir, []step{{"read", 0, nil}, {"news --seen", 4, []string{"not known"}},
		{"baseline list", 0, []string{"platform-november", "20", "yard-stack"}}})
	text := run(t, "baseline", "show", "settings", "--state", dir).out
	file := filepath.Join(t.TempDir(), "s.yaml")
	if err := os.WriteFile(file, []byte(strings.Replace(text, "value: drop", "value: reject", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	r := run(t, "baseline", "save", file, "--why", "refuse, so that people see it", "--state", dir)
	if r.code != 0 || !strings.Contains(r.out, "settings is at version 2 now: 15 hosts would fall out of line") {
		t.Fatalf("%+v", r)
	}
	walk(t, dir, []step{
		{"baseline save " + file + " --why again", 0, []string{"says the same as version 2; nothing was kept"}},
		{"baseline log settings", 0, []string{"2  ", "refuse, so that people see it", "first read from settings.yaml"}},
		{"baseline compare settings", 0, []string{"~ set:firewall/default: exactly drop → exactly reject"}},
		{"news vts", 3, []string{"5 new since", "set:firewall/default"}},
		{"check heron --narrow layer=settings", 3, []string{"unwanted  drop  reject"}},
		{"baseline revert settings 1", 0, []string{"settings is at version 3 now"}},
		{"baseline log settings", 0, []string{"back to version 1"}},
		{"news vts", 0, []string{"0 new since"}},
		{"compare heron lapwing", 0, []string{"deb:brae-tls", "1.8-brae1", "→ 1.9-brae1"}},
	})
}

// Every view is exported in every form, and each form is what it says it is.
func TestExportsAreWhatTheySay(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 1)
	if r := run(t, "read", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	for _, view := range []string{"report drift tides", "trend tides", "catalogue show fw:tarbet-s9", "catalogue list",
		"compare heron ibis", "plan vts"} {
		for _, format := range []string{"json", "csv", "svg", "pdf"} {
			drawing := format == "svg" || format == "pdf"
			if drawing && (view == "catalogue list" || strings.HasPrefix(view, "compare")) {
				continue // these are drawn from the screens
			}
			r := run(t, append(strings.Fields(view), "--format", format, "--state", dir)...)
			if err := wellFormed(format, r.out); r.code != 0 || err != nil {
				t.Errorf("%s as %s: exit %d, %v %s", view, format, r.code, err, r.err)
			}
		}
	}
}

func wellFormed(format, text string) error {
	switch format {
	case "json":
		var v any
		return json.Unmarshal([]byte(text), &v)
	case "pdf":
		if !strings.HasPrefix(text, "%PDF-") || !strings.Contains(text, "%%EOF") {
			return errors.New("no PDF")
		}
	case "svg":
		for d := xml.NewDecoder(strings.NewReader(text)); ; {
			if _, err := d.Token(); errors.Is(err, io.EOF) {
				return nil
			} else if err != nil {
				return err
			}
		}
	case "csv":
		if head, _, _ := strings.Cut(text, "\n"); strings.Count(head, ",") < 3 {
			return errors.New("no header line")
		}
	}
	return nil
}
