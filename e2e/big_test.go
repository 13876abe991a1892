package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"
	"testing"
	"time"

	"yareharbour/core/estate"
	"yareharbour/e2e/drive"
	"yareharbour/sim"
	"yareharbour/sim/demo"
)

// bigState is a state directory with a generated estate: hosts of 700 packages with guests of 8 GiB.
func bigState(b *testing.B, clusters, hosts, guests int) string {
	b.Helper()
	dir := b.TempDir()
	if err := demo.Write(dir); err != nil {
		b.Fatal(err)
	}
	w := demo.Generate(1, clusters, hosts, 700)
	var file strings.Builder
	file.WriteString("estate: generated\nconnector:\n  kind: sim\n  dir: sim\n" +
		"releases: [releases/brae.yaml, releases/corran.yaml]\nbaselines: [big.yaml]\npayloads: payloads\nclusters:\n")
	var names []string
	for _, c := range w.Estate.Clusters {
		fmt.Fprintf(&file, "  - {name: %s, act: true, reserve: 1, hosts: [%s]}\n", c.Name, strings.Join(c.Hosts, ", "))
		names = append(names, c.Name)
	}
	for name, h := range w.Hosts {
		h.Reading.Guests = nil
		for n := range guests {
			h.Reading.Guests = append(h.Reading.Guests,
				estate.Guest{ID: sim.UUID(fmt.Sprint(name, n)), Name: fmt.Sprintf("%s-g%02d", name, n),
					State: estate.Running, Since: demo.Start, Load: estate.Resources{MemoryMiB: 8 << 10, CPU: 500},
					Networks: h.Reading.Networks[:1]})
		}
	}
	world, err := json.Marshal(w)
	if err != nil {
		b.Fatal(err)
	}
	baseline := fmt.Sprintf("baseline: big\nrank: 1\nassign: [%s]\nclauses:\n", strings.Join(names, ", "))
	for _, c := range []string{"deb:linux-image-brae", "deb:brae-tls", "deb:brae-guard", "fw:corran-bmc",
		"fw:lorne-l25", "fw:corran-bios"} {
		baseline += "  - {component: \"" + c + "\", posture: at least, follow: newest}\n"
	}
	for name, text := range map[string][]byte{"estate.yaml": []byte(file.String()), "big.yaml": []byte(baseline),
		"sim/world.json": world} {
		to := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(to, text, 0o600); err != nil {
			b.Fatal(err)
		}
	}
	return dir
}

// bigSim simulates it, and returns the process.
func bigSim(b *testing.B, dir string, speed int) *exec.Cmd {
	b.Helper()
	cmd := exec.Command(yare, "sim", "--state", dir, "--speed", fmt.Sprint(speed), "--idle", "10m")
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	})
	for start := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		if _, err := sim.ReadAddress(filepath.Join(dir, "sim")); err == nil {
			return cmd
		}
		if time.Since(start) > drive.Patience {
			b.Fatal("the simulation did not come up")
		}
	}
}

// cpuOf is the processor time that a process has taken so far, from /proc.
func cpuOf(pid int) time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(text), ") ")
	f := strings.Fields(rest)
	var user, system int64
	fmt.Sscan(f[11], &user)
	fmt.Sscan(f[12], &system)
	return time.Duration(user+system) * 10 * time.Millisecond
}

// command runs the program and reports what it took: processor seconds, the most memory, and beside it the simulation's
// own processor seconds.
func command(b *testing.B, simulation *exec.Cmd, args ...string) {
	b.Helper()
	debug.FreeOSMemory() // what this process once took would count as the command's, which begins as a copy of it
	_ = os.WriteFile("/proc/self/clear_refs", []byte("5"), 0)
	before := cpuOf(simulation.Process.Pid)
	var cpu time.Duration
	var most int64
	for b.Loop() {
		cmd := exec.Command(yare, args...)
		if err := cmd.Run(); err != nil && cmd.ProcessState.ExitCode() != 3 {
			text, _ := exec.Command(yare, args...).CombinedOutput()
			b.Fatalf("%v: %.2000s", err, text)
		}
		cpu += cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
		most = max(most, cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)
	}
	b.ReportMetric(cpu.Seconds()/float64(b.N), "cpu-s/op")
	b.ReportMetric((cpuOf(simulation.Process.Pid)-before).Seconds()/float64(b.N), "sim-cpu-s/op")
	b.ReportMetric(float64(most)/1024, "MB")
}

// BenchmarkCheck1000Hosts reads and checks 1,000 hosts with 30,000 guests, the whole command.
func BenchmarkCheck1000Hosts(b *testing.B) {
	dir := bigState(b, 20, 50, 30)
	command(b, bigSim(b, dir, 50), "check", "--state", dir)
}

// BenchmarkPlan50Hosts reads a cluster of 50 hosts with 1,500 guests and plans a round over it, the whole command; the
// estate has 1,000 hosts.
func BenchmarkPlan50Hosts(b *testing.B) {
	dir := bigState(b, 20, 50, 30)
	command(b, bigSim(b, dir, 50), "plan", "c01", "--state", dir)
}
