package linux

import (
	"bytes"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"yareharbour/core/act"
)

// A probe tells the ends of logs, and which of them may not be read; what stands in them is text and no more.
func TestLogs(t *testing.T) {
	answer := strings.ReplaceAll(`=probe|
/proc/sys/kernel/osrelease|6.1
$log /var/log/dpkg.log|2026-11-21 20:00:01 upgrade keel 1 2
+$log /var/log/dpkg.log|
$log /var/log/libvirt/qemu/pump.log|  shutting down, reason=migrated
$log journal|$(reboot)
!/var/log/apt/term.log|
=end|
`, "|", "\x00")
	p, err := ParseProbe(t.Context(), strings.NewReader(answer))
	if err != nil {
		t.Fatal(err)
	}
	logs := p.Logs()
	if len(logs) != 2 || logs[0].Of != act.LogPackages || logs[0].Err != "/var/log/apt/term.log may not be read" ||
		!slices.Equal(logs[0].Lines, []string{"2026-11-21 20:00:01 upgrade keel 1 2"}) ||
		!slices.Equal(logs[1].Lines, []string{"shutting down, reason=migrated", "$(reboot)"}) || logs[1].Err != "" {
		t.Errorf("%+v", logs)
	}
}

// The script itself, asked for logs, gives a whole answer that tells nothing else.
func TestTheProbeIsAskedForLogsAlone(t *testing.T) {
	cmd := exec.CommandContext(t.Context(), "sh", "-s", "5", LogWord)
	cmd.Stdin = strings.NewReader(Probe)
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	p, err := ParseProbe(t.Context(), bytes.NewReader(out))
	if err != nil {
		t.Fatal(err)
	}
	for name := range p.outputs {
		if !strings.HasPrefix(name, "log ") {
			t.Errorf("it tells of %q too", name)
		}
	}
	if len(p.Glob("proc/meminfo")) > 0 {
		t.Error("it reads the host")
	}
}
