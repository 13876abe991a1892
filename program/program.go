// Package program runs programs of a site's own on this machine for a round, so that how they end is known whatever
// becomes of the process that began them: each goes on by itself, in a process group of its own, and leaves its exit status
// and what it printed in a directory of its own.
package program

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"yareharbour/core/act"
)

// Programs runs programs, and keeps what came of them below Dir.
type Programs struct{ Dir string }

// Check says why a program may not be run: it must be a file that can be executed, and neither it nor a directory above it
// may be written by anybody but root and whoever runs this.
func Check(path string) error {
	if !filepath.IsAbs(path) {
		return fmt.Errorf("%s: it is not named by its absolute path", path)
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	for at, file := real, true; ; at, file = filepath.Dir(at), false {
		info, err := os.Stat(at)
		if err != nil {
			return err
		}
		own, ok := info.Sys().(*syscall.Stat_t)
		sticky := !file && info.Mode()&os.ModeSticky != 0 // what is in it is its owner's alone to replace
		switch {
		case file && !info.Mode().IsRegular():
			return fmt.Errorf("%s: it is no file", path)
		case file && info.Mode().Perm()&0o111 == 0:
			return fmt.Errorf("%s: it may not be executed", path)
		case info.Mode().Perm()&0o022 != 0 && !sticky:
			return fmt.Errorf("%s: others may write to %s (mode %04o): chmod go-w %s", path, at, info.Mode().Perm(), act.Quoted(at))
		case ok && own.Uid != 0 && int(own.Uid) != os.Geteuid():
			return fmt.Errorf("%s: %s belongs to another user (%d)", path, at, own.Uid)
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

// kept is how long what came of a program is kept; its end is in the round's journal.
const kept = 90 * 24 * time.Hour

func (p Programs) prune() {
	all, _ := os.ReadDir(p.Dir)
	for _, d := range all {
		if info, err := d.Info(); err == nil && time.Since(info.ModTime()) > kept {
			_ = os.RemoveAll(filepath.Join(p.Dir, d.Name()))
		}
	}
}

// supervisor runs a program and keeps how it ended. Its words: the directory, the seconds, the program and its arguments.
const supervisor = `a=$1 within=$2; shift 2
cut -d" " -f22 /proc/$$/stat >"$a/start"; echo $$ >"$a/pid.new"; mv "$a/pid.new" "$a/pid"
timeout -k 5 "$within" "$@" <"$a/facts" >"$a/log" 2>&1
echo $? >"$a/rc.new"; sync "$a/rc.new"; mv "$a/rc.new" "$a/rc"`

func (p Programs) dir(id string) string {
	sum := sha256.Sum256([]byte(id))
	return filepath.Join(p.Dir, hex.EncodeToString(sum[:12]))
}

// Begin begins the program of an act, unless that was begun before. It goes on by itself.
func (p Programs) Begin(ctx context.Context, a act.Act) error {
	if err := Check(a.Hook.Program); err != nil {
		return err
	}
	dir := p.dir(a.ID)
	if err := os.MkdirAll(p.Dir, 0o700); err != nil {
		return err
	}
	p.prune()
	if err := os.Mkdir(dir, 0o700); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return nil // it is begun once, whoever asks
		}
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "facts"), append(bytes.Clone(a.Facts), '\n'), 0o600); err != nil {
		return err
	}
	boot, err := os.ReadFile(bootID)
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "boot"), boot, 0o600)
	}
	if err != nil {
		return err
	}
	within := strconv.FormatFloat(max(a.Hook.Within.Seconds(), 1), 'f', 0, 64)
	c := exec.Command("/bin/sh", append([]string{"-c", supervisor, "hook", dir, within, a.Hook.Program}, a.Hook.Args...)...)
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	c.Dir = "/"
	c.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C", "HOME=" + os.Getenv("HOME")}
	if err := c.Start(); err != nil {
		return err
	}
	go func() { _ = c.Wait() }() // how it ended is in its directory
	for range 100 {              // until it can be seen
		if _, err := os.Stat(filepath.Join(dir, "pid")); err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(10 * time.Millisecond):
		}
	}
	return nil
}

const bootID = "/proc/sys/kernel/random/boot_id"

// Trace tells what became of the program of an act.
func (p Programs) Trace(a act.Act) act.Trace {
	dir := p.dir(a.ID)
	text := func(name string) string {
		b, _ := os.ReadFile(filepath.Join(dir, name))
		return strings.TrimSpace(string(b))
	}
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		return act.Trace{}
	} else if err != nil {
		return act.Trace{Unasked: err.Error()}
	}
	ended := func() (t act.Trace, is bool) {
		code, err := strconv.Atoi(text("rc"))
		t = act.Trace{State: act.Ended, Exit: code, Said: act.Tail(text("log"))}
		if code != 0 {
			t.State = act.Broke
		}
		return t, err == nil
	}
	if t, is := ended(); is {
		return t
	}
	t := act.Trace{Said: act.Tail(text("log"))}
	boot, _ := os.ReadFile(bootID)
	pid := text("pid")
	switch stat, err := os.ReadFile("/proc/" + pid + "/stat"); {
	case text("boot") != strings.TrimSpace(string(boot)):
		t.State, t.Error = act.Lost, "this machine restarted while it ran"
	case pid == "":
		t.State, t.Error = act.Lost, "it was being begun when that broke off"
		if info, err := os.Stat(dir); err == nil && time.Since(info.ModTime()) < 10*time.Second {
			t.State, t.Error = act.Taken, ""
		}
	case err == nil && startOf(string(stat)) == text("start"):
		t.State = act.Runs
	default:
		if t, is := ended(); is { // just now
			return t
		}
		t.State, t.Error = act.Lost, "it was ended from outside"
	}
	return t
}

// startOf is the field starttime of proc(5).
func startOf(stat string) string {
	_, after, _ := strings.Cut(stat[strings.LastIndexByte(stat, ')')+1:], " ")
	if f := strings.Fields(after); len(f) > 19 {
		return f[19]
	}
	return ""
}
