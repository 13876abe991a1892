package connector

import (
	"os/exec"
	"syscall"
	"time"
)

// Grouped makes a command and all that it starts end together when its context does: none of them outlives the one who
// asked.
func Grouped(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
}
