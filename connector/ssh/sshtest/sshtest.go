// Package sshtest runs OpenSSH's own server on loopback for tests. It keeps all that it writes in the test's directory,
// and ends only what it started.
package sshtest

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// Server is a running sshd that lets in the user who runs the test, with Key.
type Server struct {
	Dir        string
	Port       string
	Name       string // by which Config knows it
	Me         string
	Key        string // file of the private key that is let in
	HostKey    string // file of its own private key
	Config     string // an ssh_config(5) that leads to it
	KnownHosts string
	pid        int
}

// Start runs a server until the test ends, with further lines for its sshd_config. Where there is no sshd, or it can't
// run here, the test is skipped.
func Start(t testing.TB, lines ...string) *Server {
	t.Helper()
	sshd, err := exec.LookPath("/usr/sbin/sshd")
	if err != nil {
		t.Skip("OpenSSH's server is not installed here")
	}
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	s := &Server{Dir: dir, Port: FreePort(t), Name: "heron", Me: me.Username, Key: filepath.Join(dir, "id"),
		HostKey: filepath.Join(dir, "host"), Config: filepath.Join(dir, "ssh_config"),
		KnownHosts: filepath.Join(dir, "known_hosts")}
	Keygen(t, "-t", "ed25519", "-N", "", "-f", s.Key)
	Keygen(t, "-t", "ed25519", "-N", "", "-f", s.HostKey)
	lines = append([]string{"Port " + s.Port}, lines...) // before whatever says where it listens
	if !strings.Contains(strings.Join(lines, "\n"), "ListenAddress") {
		lines = append(lines, "ListenAddress 127.0.0.1")
	}
	conf := []string{"HostKey " + s.HostKey, "AuthorizedKeysFile " + s.Key + ".pub", "StrictModes no", "UsePAM no",
		"PasswordAuthentication no",
		"KbdInteractiveAuthentication no", "PermitRootLogin yes", "PidFile none", "LogLevel ERROR"}
	s.Write(t, "sshd_config", strings.Join(append(lines, conf...), "\n")+"\n") // the first that says something counts
	s.Write(t, "known_hosts", fmt.Sprintf("[127.0.0.1]:%s %s", s.Port, s.Read(t, "host.pub")))
	s.Write(t, "ssh_config",
		fmt.Sprintf("Host %s\n\tHostName 127.0.0.1\n\tPort %s\n\tIdentityFile %s\n\tIdentitiesOnly yes\n"+
			"\tIdentityAgent none\n\tUserKnownHostsFile %s\n\tGlobalKnownHostsFile none\n",
			s.Name, s.Port, s.Key, s.KnownHosts))
	var said bytes.Buffer
	cmd := exec.Command(sshd, "-D", "-e", "-f", filepath.Join(dir, "sshd_config"))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	// root's sshd wants that directory: it gets one of its own, which nobody else sees
	if _, err := os.Stat("/run/sshd"); me.Uid == "0" && err != nil {
		cmd = exec.Command("sh",
			append([]string{"-c", `mount -t tmpfs none /run && mkdir -m 755 /run/sshd && exec "$@"`, "sh"},
				cmd.Args...)...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Unshareflags: syscall.CLONE_NEWNS}
	}
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		t.Skip("sshd can't be run here: " + err.Error())
	}
	s.pid = cmd.Process.Pid
	ended := make(chan struct{})
	go func() {
		_ = cmd.Wait() // ended below
		close(ended)
	}()
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		<-ended
	})
	for start := time.Now(); ; time.Sleep(10 * time.Millisecond) {
		if conn, err := net.Dial("tcp", "127.0.0.1:"+s.Port); err == nil {
			conn.Close()
			return s
		}
		select {
		case <-ended:
			t.Fatalf("sshd ended: %s", said.String())
		default:
		}
		if time.Since(start) > 10*time.Second {
			t.Fatalf("sshd does not listen: %s", said.String())
		}
	}
}

// Children are the processes that the server has for its connections.
func (s *Server) Children(t testing.TB) (out []int) {
	t.Helper()
	stats, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		t.Fatal(err)
	}
	parents := map[int]int{}
	for _, name := range stats {
		text, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		var pid, parent int
		var state string
		if _, err := fmt.Sscanf(string(text), "%d", &pid); err != nil {
			continue
		}
		_, rest, _ := strings.Cut(string(text[bytes.LastIndexByte(text, ')'):]), " ")
		if _, err := fmt.Sscanf(rest, "%s %d", &state, &parent); err == nil {
			parents[pid] = parent
		}
	}
	for pid := range parents {
		for up := parents[pid]; up > 1; up = parents[up] {
			if up == s.pid {
				out = append(out, pid)
				break
			}
		}
	}
	return out
}

// Gone fails the test if a process with exactly those words is still there after a while, whoever its parent is by
// then.
func Gone(t testing.TB, words ...string) {
	t.Helper()
	want := strings.Join(words, "\x00") + "\x00"
	for start := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		names, err := filepath.Glob("/proc/[0-9]*/cmdline")
		if err != nil {
			t.Fatal(err)
		}
		left := ""
		for _, name := range names {
			if text, err := os.ReadFile(name); err == nil && string(text) == want {
				left = name
			}
		}
		if left == "" {
			return
		}
		if time.Since(start) > 10*time.Second {
			t.Errorf("%v still runs, as %s", words, left)
			return
		}
	}
}

// Write writes a file in the server's directory.
func (s *Server) Write(t testing.TB, name, text string) string {
	t.Helper()
	name = filepath.Join(s.Dir, name)
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

// Read reads a file of the server's directory.
func (s *Server) Read(t testing.TB, name string) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(s.Dir, name))
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// Keygen runs ssh-keygen.
func Keygen(t testing.TB, args ...string) {
	t.Helper()
	if out, err := exec.Command("ssh-keygen", append([]string{"-q"}, args...)...).CombinedOutput(); err != nil {
		t.Fatalf("ssh-keygen %v: %v %s", args, err, out)
	}
}

// FreePort is a port of loopback where nobody listens.
func FreePort(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	return port
}
