package store

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Clock is what leases are timed by: it runs on while the machine sleeps, and nobody can set it.
type Clock interface {
	// Now returns which boot of which machine this is, and how long that has lasted.
	Now() (boot string, up time.Duration)
}

// bootClock is Linux's CLOCK_BOOTTIME (clock_gettime(2)).
type bootClock struct{ boot string }

// thisBoot tells this boot of this machine from all others, by the kernel's own id of it.
func thisBoot() bootClock {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return bootClock{"unknown"}
	}
	return bootClock{strings.TrimSpace(string(b))}
}

func (c bootClock) Now() (string, time.Duration) {
	var t unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &t); err != nil {
		panic(fmt.Sprintf("the machine has no clock that nobody can set: %v", err))
	}
	return c.boot, time.Duration(t.Nano())
}

// place is where a process runs: its machine by name, and the namespace in which its number means something.
type place struct{ machine, id, space string }

func here() (place, error) {
	name, err := os.Hostname()
	if err != nil {
		return place{}, err
	}
	id, _ := os.ReadFile("/etc/machine-id") // where there is none, no other boot counts as this machine's
	space, _ := os.Readlink("/proc/self/ns/pid")
	return place{name, strings.TrimSpace(string(id)), space}, nil
}

// processStart tells one process from a later one with the same number: the start time in /proc/PID/stat. It is empty
// for a process that is gone.
func processStart(pid int) string {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		if errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) {
			return ""
		}
		return "unknown" // no /proc here: a process that is there counts as the one meant
	}
	_, rest, _ := strings.Cut(string(b), ") ")
	f := strings.Fields(rest)
	if len(f) < 20 || f[0] == "Z" {
		return ""
	}
	return f[19]
}
