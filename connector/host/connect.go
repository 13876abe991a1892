package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"

	"yareharbour/connector"
	"yareharbour/connector/libvirt"
	"yareharbour/connector/ssh"
	"yareharbour/core/estate"
)

// Connect tries every way to a host, stage by stage: SSH, what may be done there, libvirt, and the BMC. A stage that
// fails is the last of its way.
func (d *Connector) Connect(ctx context.Context, host string) []connector.Stage {
	ctx, cancel := context.WithTimeout(ctx, d.limit())
	defer cancel()
	var machine, board []connector.Stage
	var wait sync.WaitGroup
	wait.Go(func() { machine = d.tryMachine(ctx, host) })
	wait.Go(func() { board = d.tryBMC(ctx, host) })
	wait.Wait()
	return append(machine, board...)
}

func (d *Connector) tryMachine(ctx context.Context, host string) []connector.Stage {
	conn, out, err := d.SSH.Try(ctx, host)
	if err != nil {
		return out
	}
	defer conn.Close()
	add := func(way, name, found string, err error, do string) bool {
		s := connector.Stage{Way: way, Name: name, OK: err == nil, Found: found}
		if err != nil {
			s.Found, s.Do = err.Error(), do
		}
		out = append(out, s)
		return err == nil
	}
	as, do := "commands run as the user", "see that the user's shell and authorized_keys let commands run"
	if d.Sudo {
		as, do = "commands run as root, by sudo",
			"let the user run the probe as root by sudo (docs/security.md has the lines), or anything without a password; "+
				"or take sudo out of the estate file"
	}
	r, err := d.probe(ctx, conn, host, []estate.SectionName{estate.Host})
	var forbidden error
	if errors.Is(err, ssh.ErrSudo) {
		forbidden = err
	}
	if !add("SSH", "permission", as, forbidden, do) {
		return out
	}
	if err == nil && r.Section(estate.Host).Err != "" {
		err = fmt.Errorf("it does not say that it is a Linux machine: %s", r.Section(estate.Host).Err)
	}
	if err != nil {
		add("SSH", "answer", "", err, "a host is a Linux machine with a POSIX shell, GNU grep, find and timeout")
		return out
	}
	add("SSH", "answer", r.Release+", kernel "+r.Kernel.Running, nil, "")
	guests := readGuests(ctx, overSSH{conn, d.Sudo}, &libvirt.Meter{})
	s := guests.Section(estate.GuestList)
	if s.Err != "" {
		err = fmt.Errorf("%s", s.Err)
	}
	add("libvirt", "answer", fmt.Sprintf("%d guests through %s", len(guests.Guests), s.Source), err,
		"without it the host's guests are unread, and no round touches it")
	return out
}

func (d *Connector) tryBMC(ctx context.Context, host string) []connector.Stage {
	b, ok := d.BMCs[host]
	if !ok {
		return []connector.Stage{{Way: "BMC", Name: "configuration", Found: errNoBMC.Error(),
			Do: "add it under bmcs: without it health and the BMC's firmware are unread"}}
	}
	client, err := d.client(ctx, host)
	if err != nil {
		return []connector.Stage{{Way: "BMC", Name: "secret", Found: err.Error(),
			Do: "put the password where the estate file says that it is"}}
	}
	defer client.Close()
	return append([]connector.Stage{{Way: "BMC", Name: "secret", OK: true, Found: "the password of " + b.User +
		" is at hand"}}, client.Test(ctx)...)
}

// Reaches tells, by an error, why the libvirt of one host does not reach that of another in the given form. It asks the
// host's own virsh.
func (d *Connector) Reaches(ctx context.Context, from, to, uri string) error {
	ctx, cancel := context.WithTimeout(ctx, d.limit())
	defer cancel()
	conn, err := d.SSH.Dial(ctx, from)
	if err != nil {
		return err
	}
	defer conn.Close()
	at := libvirt.Migration{URI: uri}.At(to)
	if strings.HasPrefix(at, "qemu+ssh:") { // nobody is there to be asked for a password
		if strings.Contains(at, "?") {
			at += "&no_tty=1"
		} else {
			at += "?no_tty=1"
		}
	}
	command := "timeout -k 1 " + strconv.Itoa(ssh.Seconds(ctx)) + " virsh -q -c " + ssh.Quote(at) + " uri"
	if d.Sudo {
		command = "sudo -n " + command
	}
	exit, said, err := conn.Command(ctx, command, nil, io.Discard)
	if err == nil && exit != 0 {
		err = errors.New(strings.Join(strings.Fields(strings.TrimPrefix(strings.TrimSpace(said), "error: ")), " "))
	}
	return err
}
