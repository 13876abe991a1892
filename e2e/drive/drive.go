// Package drive drives the screens as a person does: the program runs in tmux, keys go in, and what it shows is waited
// for.
package drive

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// Patience is how long a test waits for something that should happen soon. Machines that run tests can be very slow.
var Patience = 90 * time.Second

// pause lies between two looks at the screen: each starts a process.
const pause = 40 * time.Millisecond

// Screen is the program in a terminal of its own.
type Screen struct {
	t      *testing.T
	Socket string // of tmux
	status string // the file that gets the exit status
}

// Open starts the program in tmux, in a directory of its own for what it exports.
func Open(t *testing.T, program string, cols, rows int, env []string, args ...string) *Screen {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("no tmux on this machine to drive the screens with")
	}
	dir, err := os.MkdirTemp("", "yt") // a short path: a Unix socket's has 107 bytes at most
	if err != nil {
		t.Fatal(err)
	}
	s := &Screen{t: t, Socket: filepath.Join(dir, "s"), status: filepath.Join(dir, "status")}
	conf := filepath.Join(dir, "conf")
	text := "set -g default-terminal xterm-256color\nset -sg escape-time 0\nset -g status off\n" +
		"set -g remain-on-exit on\n"
	if err := os.WriteFile(conf, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := []string{"-S", s.Socket, "-f", conf, "new-session", "-d", "-x", fmt.Sprint(cols), "-y",
		fmt.Sprint(rows), "-c", dir}
	for _, e := range env {
		cmd = append(cmd, "-e", e)
	}
	cmd = append(cmd, "sh", "-c", `"$@"; echo $? >`+s.status, "sh", program)
	if out, err := exec.Command("tmux", append(cmd, args...)...).CombinedOutput(); err != nil {
		t.Fatalf("tmux: %v\n%s", err, out)
	}
	t.Cleanup(func() {
		_ = exec.Command("tmux", "-S", s.Socket, "kill-server").Run()
		os.RemoveAll(dir)
	})
	return s
}

// Tmux runs tmux on the screen, and returns what it printed.
func (s *Screen) Tmux(args ...string) string {
	s.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", s.Socket}, args...)...).CombinedOutput()
	if err != nil {
		s.t.Fatalf("tmux %v: %v\n%s", args, err, out)
	}
	return string(out)
}

// Text is what the screen shows.
func (s *Screen) Text() string { return s.Tmux("capture-pane", "-p") }

// Keys sends keys by their tmux names; one that begins with "=" is text to type.
func (s *Screen) Keys(keys ...string) {
	s.t.Helper()
	for _, k := range keys {
		if text, ok := strings.CutPrefix(k, "="); ok {
			s.Tmux("send-keys", "-l", text)
		} else {
			s.Tmux("send-keys", k)
		}
	}
}

// Wait waits until the screen matches the pattern, and returns what matched.
func (s *Screen) Wait(pattern string) string {
	s.t.Helper()
	re := regexp.MustCompile(pattern)
	for start := time.Now(); ; time.Sleep(pause) {
		text := s.Text()
		if m := re.FindString(text); m != "" {
			return m
		}
		if time.Since(start) > Patience {
			s.t.Fatalf("the screen never showed %q:\n%s", pattern, text)
		}
	}
}

// Gone waits until nothing on the screen matches the pattern. A key after Escape must wait for Escape's effect:
// together they would be another key.
func (s *Screen) Gone(pattern string) {
	s.t.Helper()
	re := regexp.MustCompile(pattern)
	for start := time.Now(); re.MatchString(s.Text()); time.Sleep(pause) {
		if time.Since(start) > Patience {
			s.t.Fatalf("the screen still shows %q:\n%s", pattern, s.Text())
		}
	}
}

// Click presses the left button on the first cell of the text.
func (s *Screen) Click(text string) {
	s.t.Helper()
	for y, line := range strings.Split(s.Text(), "\n") {
		if i := strings.Index(line, text); i >= 0 {
			x := len([]rune(line[:i])) + 1
			s.Tmux("send-keys", "-l", fmt.Sprintf("\x1b[<0;%d;%dM", x, y+1))
			s.Tmux("send-keys", "-l", fmt.Sprintf("\x1b[<0;%d;%dm", x, y+1))
			return
		}
	}
	s.t.Fatalf("no %q to press on:\n%s", text, s.Text())
}

// Ends waits until the program has ended, with the exit status.
func (s *Screen) Ends(want string) {
	s.t.Helper()
	for start := time.Now(); ; time.Sleep(pause) {
		if b, err := os.ReadFile(s.status); err == nil && len(b) > 0 {
			if got := strings.TrimSpace(string(b)); got != want {
				s.t.Errorf("the program ended with %s, want %s", got, want)
			}
			return
		}
		if time.Since(start) > Patience {
			s.t.Fatalf("the program did not end:\n%s", s.Text())
		}
	}
}
