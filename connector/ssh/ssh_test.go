package ssh

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/ssh/sshtest"
)

// try connects with that configuration and returns the stages.
func try(t *testing.T, s *sshtest.Server, config, host string) ([]connector.Stage, error) {
	t.Helper()
	d := &Dialer{Config: []string{s.Write(t, "tried", config)}}
	c, stages, err := d.Try(t.Context(), host)
	if err == nil {
		defer c.Close()
		if out, err := c.Run(t.Context(), "echo aye", false); err != nil || string(out) != "aye\n" {
			t.Errorf("%q %v", out, err)
		}
	}
	return stages, err
}

func TestTheConfigurationIsWhatOpenSSHMakesOfIt(t *testing.T) {
	t.Parallel()
	s := sshtest.Start(t)
	base := s.Read(t, "ssh_config")
	key := s.Read(t, "host.pub")
	s.Write(t, "aliased", "marsh "+key)
	s.Write(t, "broken", "this is no line of known hosts at all\n"+s.Read(t, "known_hosts"))
	s.Write(t, "other", fmt.Sprintf("[127.0.0.1]:%s %s", s.Port, s.Read(t, "id.pub")))
	s.Write(t, "revoked", key)
	known := func(name string) string { return strings.ReplaceAll(base, s.KnownHosts, filepath.Join(s.Dir, name)) }
	for name, c := range map[string]struct{ config, host, stage, says string }{
		"plain": {base, "heron", "", ""},
		"Match exec": {"Match host avocet exec \"true\"\n" + strings.TrimPrefix(base, "Host heron\n"),
			"avocet", "", ""},
		"Match exec not": {"Match host avocet exec \"false\"\n" + strings.TrimPrefix(base, "Host heron\n"),
			"avocet.invalid", "name", "can't be resolved"},
		"Match final":    {base + "Match final host 127.0.0.1\n\tUser " + s.Me + "\n", "heron", "", ""},
		"alias":          {"Host heron\n\tHostKeyAlias marsh\n" + known("aliased"), "heron", "", ""},
		"bad known line": {known("broken"), "heron", "", ""},
		"other key":      {known("other"), "heron", "host key", "reinstalled, or another machine answers"},
		"unknown key": {"Host heron\n\tHostKeyAlias reed\n" + known("aliased"), "heron",
			"host key", "is in none of"},
		"revoked": {"Host heron\n\tRevokedHostKeys " + filepath.Join(s.Dir, "revoked") + "\n" + base, "heron",
			"host key", "RevokedHostKeys names"},
		"unknown option": {"Frobnicate yes\n" + base, "heron", "configuration",
			"Bad configuration option: frobnicate"},
		"no such user": {"Host heron\n\tUser nobody-at-all\n" + base, "heron", "login",
			"does not let nobody-at-all in"},
		"no key": {"Host heron\n\tIdentityFile /nowhere\n" +
			strings.ReplaceAll(base, s.Key, "/nowhere/either"), "heron", "login", "there is no key to log in with"},
		"nobody there":   {"Host heron\n\tPort 1\n" + base, "heron", "port", "nothing listens"},
		"option as name": {base, "-oProxyCommand=true", "configuration", "is no name of a host"},
		"jump": {base + "Host avocet\n\tProxyJump heron\n" + strings.TrimPrefix(base, "Host heron\n"),
			"avocet", "", ""},
		"jump's own user": {base + "Host hop\n\tUser nobody-at-all\n" + strings.TrimPrefix(base, "Host heron\n") +
			"Host avocet\n\tProxyJump hop\n" + strings.TrimPrefix(base, "Host heron\n"), "avocet", "login",
			"does not let nobody-at-all in"},
		"jumps in a ring": {base + "Host a\n\tProxyJump b\nHost b\n\tProxyJump a\n", "a", "proxy", "circle"},
		"proxy command": {"Host heron\n\tProxyCommand sh -c 'exec 3<>/dev/null; exec nc 127.0.0.1 %p'\n" + base,
			"heron", "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			if name == "proxy command" {
				if _, err := os.Stat("/usr/bin/nc"); err != nil {
					t.Skip("there is no nc here")
				}
			}
			stages, err := try(t, s, c.config, c.host)
			last := stages[len(stages)-1]
			if (err == nil) != (c.says == "") ||
				err != nil && (!strings.Contains(err.Error(), c.says) || last.Name != c.stage || last.OK) {
				t.Errorf("%v, at %+v", err, last)
			}
		})
	}
	// Whom the estate names logs in to the host, and not to the jump host before it.
	own := &Dialer{User: s.Me,
		Config: []string{s.Write(t, "hop", "Host hop\n\tUser nobody-at-all\n"+strings.TrimPrefix(base, "Host heron\n")+
			"Host avocet\n\tProxyJump hop\n"+strings.TrimPrefix(base, "Host heron\n"))}}
	if _, _, err := own.Try(t.Context(), "avocet"); err == nil ||
		!strings.Contains(err.Error(), "does not let nobody-at-all in") {
		t.Errorf("the estate's user logs in to a jump host: %v", err)
	}
	// What has no effect here is told, and nothing else is.
	if stages, _ := try(t, s, base, "heron"); strings.Contains(stages[0].Found, "not supported") {
		t.Errorf("%+v", stages[0])
	}
	stages, err := try(t, s, "Host heron\n\tKnownHostsCommand /bin/true\n\tAddressFamily inet\n"+base, "heron")
	if err != nil || !strings.Contains(stages[0].Found, "KnownHostsCommand is not supported and has no effect") {
		t.Errorf("%+v %v", stages[0], err)
	}
	if _, err := try(t, s, "Host heron\n\tAddressFamily inet6\n"+base, "heron"); err == nil {
		t.Error("the family of addresses that is asked for has no effect")
	}
	// d.User is for hosts at the end of the way, and two files of configuration count one after the other.
	d := &Dialer{User: s.Me, Config: []string{s.Write(t, "first", "Host heron\n\tUser nobody-at-all\n"), s.Config}}
	c, _, err := d.Try(t.Context(), "heron")
	if err != nil {
		t.Fatal(err)
	}
	c.Close()
}

// Without OpenSSH's client the plain options are read, and what is not understood is told and costs nothing else.
func TestAConfigurationWithoutOpenSSH(t *testing.T) {
	s := sshtest.Start(t)
	t.Setenv("PATH", s.Dir)
	stages, err := try(t, s, "Match exec \"true\"\n\tPort 1\n"+s.Read(t, "ssh_config"), "heron")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(stages[0].Found, "line 1: a Match block is not understood") {
		t.Errorf("%+v", stages[0])
	}
}

func TestCertificatesOfHostsAndUsers(t *testing.T) {
	t.Parallel()
	// The authority and all that it signs are made before the server starts.
	dir := t.TempDir()
	ca := filepath.Join(dir, "ca")
	sshtest.Keygen(t, "-t", "ed25519", "-N", "", "-f", ca)
	host := filepath.Join(dir, "certified")
	sshtest.Keygen(t, "-t", "ecdsa", "-N", "", "-f", host)
	sshtest.Keygen(t, "-s", ca, "-I", "heron", "-h", "-n", "heron,127.0.0.1", "-V", "+1h", host+".pub")
	s := sshtest.Start(t, "HostKey "+host, "HostCertificate "+host+"-cert.pub", "TrustedUserCAKeys "+ca+".pub")
	mine := filepath.Join(dir, "mine")
	sshtest.Keygen(t, "-t", "ed25519", "-N", "", "-f", mine)
	sshtest.Keygen(t, "-s", ca, "-I", "watch", "-n", s.Me, "-V", "+1h", mine+".pub")
	text, err := os.ReadFile(ca + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	authority := s.Write(t, "authorities", "@cert-authority * "+string(text))
	config := "Host heron\n\tHostKeyAlias heron\n" +
		strings.ReplaceAll(strings.ReplaceAll(s.Read(t, "ssh_config"), s.KnownHosts, authority), s.Key, mine)
	stages, err := try(t, s, config, "heron")
	if err != nil {
		t.Fatal(err)
	}
	if !slices.ContainsFunc(stages, func(g connector.Stage) bool {
		return g.Name == "host key" && strings.Contains(g.Found, "certificate heron by")
	}) {
		t.Errorf("%+v", stages)
	}
	// The certificate is for another name, has ended, or is for another user: refused.
	if _, err := try(t, s, strings.Replace(config, "HostKeyAlias heron", "HostKeyAlias stint", 1),
		"heron"); err == nil || !strings.Contains(err.Error(), "is not accepted") {
		t.Error(err)
	}
	sshtest.Keygen(t, "-s", ca, "-I", "watch", "-n", s.Me, "-V", "-2h:-1h", mine+".pub")
	if _, err := try(t, s, config, "heron"); err == nil || !strings.Contains(err.Error(), "ended") {
		t.Error(err)
	}
}

// An agent that takes a connection and says nothing costs seconds, not the login.
func TestASilentAgentCostsSeconds(t *testing.T) {
	t.Parallel()
	s := sshtest.Start(t)
	l, err := net.Listen("unix", filepath.Join(s.Dir, "agent"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	config := strings.ReplaceAll(s.Read(t, "ssh_config"), "IdentityAgent none",
		"IdentityAgent "+filepath.Join(s.Dir, "agent"))
	start := time.Now()
	if _, err := try(t, s, config, "heron"); err != nil || time.Since(start) > listing+4*time.Second {
		t.Errorf("%v after %s", err, time.Since(start))
	}
	_, err = try(t, s, strings.ReplaceAll(config, s.Key, "/nowhere"), "heron")
	if err == nil || !strings.Contains(err.Error(), "it is silent for") {
		t.Error(err)
	}
}

// A port that takes a connection and says nothing, and one that says something else, are told from a host that is down.
func TestWhatAnswersAtThePort(t *testing.T) {
	t.Parallel()
	s := sshtest.Start(t)
	for says, speak := range map[string]string{"does not speak SSH": "", "overflow": strings.Repeat("x", 1<<20),
		"hangs up before it says who it is": "bye"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		go func() {
			var open []net.Conn // a connection that nobody knows of is closed when memory is tidied up
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				open = append(open, conn)
				if _, err := conn.Write([]byte(speak)); err == nil && speak == "bye" {
					open[len(open)-1].Close()
				}
			}
		}()
		_, port, _ := net.SplitHostPort(l.Addr().String())
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		d := &Dialer{Config: []string{s.Write(t, "tried", strings.Replace(s.Read(t, "ssh_config"), s.Port, port, 1))}}
		s.Write(t, "known_hosts", fmt.Sprintf("[127.0.0.1]:%s %s", port, s.Read(t, "host.pub")))
		start := time.Now()
		_, stages, err := d.Try(ctx, "heron")
		cancel()
		if err == nil || !strings.Contains(err.Error(), says) || stages[len(stages)-1].Name != "answer" ||
			time.Since(start) > 3*time.Second {
			t.Errorf("%v after %s, at %+v; want %q", err, time.Since(start), stages, says)
		}
	}
}

// A command that hangs costs its limit and leaves nothing running; one that never stops printing costs no more than
// what is taken.
func TestCommandsEndAndLeaveNothingBehind(t *testing.T) {
	t.Parallel()
	s := sshtest.Start(t)
	d := &Dialer{Config: []string{s.Config}}
	for name, c := range map[string]struct {
		script, says string
		limit        time.Duration
	}{
		"hangs": {"sleep 3071 & sleep 3071", "does not answer in time", 2 * time.Second},
		"endless": {"yes 'and so on and on and on and on and on and on and on and on'",
			"more than 24 MiB", 20 * time.Second},
		"mutters": {"yes 'and so on and on and on and on and on and on and on and on' >&2",
			"more than 24 MiB", 20 * time.Second},
	} {
		conn, err := d.Dial(t.Context(), "heron")
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), c.limit)
		start := time.Now()
		_, err = conn.Run(ctx, c.script, false)
		cancel()
		if err == nil || !strings.Contains(err.Error(), c.says) || time.Since(start) > c.limit+2*time.Second {
			t.Errorf("%s: %v after %s", name, err, time.Since(start))
		}
		conn.Close()
	}
	sshtest.Gone(t, "sleep", "3071")
	sshtest.Gone(t, "yes", "and so on and on and on and on and on and on and on and on")
}

// A host that falls silent behind a jump host is noticed, though the jump host itself is well.
func TestSilenceBehindAJumpIsNoticed(t *testing.T) {
	t.Parallel()
	hop, far := sshtest.Start(t), sshtest.Start(t)
	config := strings.ReplaceAll(hop.Read(t, "ssh_config"), "Host heron", "Host hop") + "Host avocet\n" +
		"\tProxyJump hop\n" + strings.TrimPrefix(far.Read(t, "ssh_config"), "Host heron\n")
	d := &Dialer{Config: []string{hop.Write(t, "two", config)}}
	conn, err := d.Dial(t.Context(), "avocet")
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	children := far.Children(t)
	if len(children) == 0 {
		t.Fatal("nobody serves the connection")
	}
	for _, pid := range children {
		if err := syscall.Kill(pid, syscall.SIGSTOP); errors.Is(err, syscall.ESRCH) {
			continue // one that only let us in, and is gone
		} else if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = syscall.Kill(pid, syscall.SIGCONT) }()
	}
	select {
	case <-conn.ended:
	case <-time.After(alive + silence + 5*time.Second):
		t.Error("the silence was not noticed")
	}
	if _, err := conn.Run(t.Context(), "true", false); err == nil {
		t.Error("a command ran through a dead connection")
	}
}

func TestSocketsThatMayNotBeReached(t *testing.T) {
	t.Parallel()
	s := sshtest.Start(t, "AllowStreamLocalForwarding no")
	d := &Dialer{Config: []string{s.Config}}
	conn, err := d.Dial(t.Context(), "heron")
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if _, err := conn.Unix(t.Context(), filepath.Join(s.Dir, "any")); err == nil {
		t.Error("a forbidden socket was reached")
	}
	p, err := conn.Pipe("cat")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Write([]byte("aye")); err != nil {
		t.Fatal(err)
	}
	b := make([]byte, 3)
	if _, err := p.Read(b); err != nil || string(b) != "aye" {
		t.Errorf("%q %v", b, err)
	}
	if err := p.Close(); err != nil && !strings.Contains(err.Error(), "EOF") {
		t.Error(err)
	}
}
