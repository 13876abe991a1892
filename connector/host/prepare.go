package host

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/libvirt"
	"yareharbour/connector/linux"
	"yareharbour/connector/ssh"
)

// tools are the programs that the wrapper calls and that not every Linux machine has.
var tools = []string{"flock", "setsid", "timeout", "sha256sum", "tar", "stat", "df", "awk", "logger"}

// look asks a host what is there of what it needs.
const lookScript = `PATH=$PATH:/usr/sbin:/sbin
[ "$(id -u)" = 0 ] || echo "lacks root"
for t in %s; do command -v $t >/dev/null || echo "lacks $t"; done
command -v apt-get >/dev/null || command -v dnf >/dev/null || echo "lacks apt-get or dnf"
[ -d /etc/libvirt ] || echo "lacks libvirt, or its directory /etc/libvirt"
[ -x %s ] && echo wrapper
[ -d %s/acts ] && [ -d %s/staged ] && echo home
[ -x %s ] && sha256sum <%s | sed 's/^/hook /'
[ -e %s/mark ] && sed 's/^/mark /' %s/mark
echo end
`

// found is what a look at a host found of what it needs.
type found struct {
	lacks               []string // tools and rights
	wrapper, home, hook bool
	mark                string
	asked               error // why it is not proven that libvirt asks the hook
}

// rooted runs a script as root.
func (d *Connector) rooted(ctx context.Context, conn *ssh.Conn, script string) (string, error) {
	out, err := conn.Run(ctx, script, d.Sudo)
	if err != nil {
		return "", err
	}
	text, whole := strings.CutSuffix(strings.TrimSpace(string(out)), "end")
	if !whole {
		return "", errors.New(strings.Join(strings.Fields(text), " "))
	}
	return text, nil
}

func (s *session) found(ctx context.Context) (f found, err error) {
	conn, err := s.dialled(ctx)
	if err != nil {
		return f, err
	}
	text, err := s.by.rooted(ctx, conn, fmt.Sprintf(lookScript, strings.Join(tools, " "), linux.WrapperPath(),
		linux.Home, linux.Home, linux.HookPath, linux.HookPath, linux.Home, linux.Home))
	if err != nil {
		return f, err
	}
	for line := range strings.Lines(text) {
		word, says, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch word {
		case "lacks":
			f.lacks = append(f.lacks, says)
		case "wrapper":
			f.wrapper = true
		case "home":
			f.home = true
		case "hook":
			f.hook = strings.HasPrefix(says, linux.HookSum())
		case "mark":
			f.mark = strings.TrimSpace(f.mark + " " + says)
		}
	}
	h, err := s.guests(ctx)
	if err != nil {
		f.lacks = append(f.lacks, "the right to move guests: "+strings.ReplaceAll(err.Error(), "\n", "; "))
		f.asked = err
		return f, nil
	}
	f.asked = proven(ctx, h)
	return f, nil
}

// proven tells, by an error, why it is not proven that the host's libvirt asks the hook.
func (s *session) proven(ctx context.Context) error {
	h, err := s.guests(ctx)
	if err != nil {
		return err
	}
	return proven(ctx, h)
}

// proven is the same over a connection, which it ends.
func proven(ctx context.Context, h *libvirt.Host) error {
	defer h.Close()
	stop := context.AfterFunc(ctx, h.Drop)
	defer stop()
	return h.Proven(ctx)
}

// Preparation says what a host needs before it takes orders, and what of that is there. An error says what keeps it
// from being prepared at all.
func (s *session) Preparation(ctx context.Context) ([]connector.Item, error) {
	f, err := s.found(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.host, err)
	}
	return f.items(), f.fit(s.host)
}

func (f found) items() []connector.Item {
	item := func(what, why string, there bool) connector.Item {
		return connector.Item{What: what, Why: why, There: there}
	}
	return []connector.Item{
		item(linux.Home, "a directory for what is kept of orders, of packages that wait there, and of a "+
			"closed host's mark", f.home),
		item(linux.WrapperPath(),
			"the program that orders go through: it refuses those of an older lease and those that it has had, and "+
				"outlives the connection", f.wrapper),
		item(linux.HookPath, "the script that libvirt asks before a guest starts or arrives: while the host is "+
			"closed it says no", f.hook),
		item("a restart of libvirt's daemon", "it looks for hooks only when it starts; running guests are not touched",
			f.hook && f.asked == nil),
	}
}

func (f found) fit(host string) error {
	if len(f.lacks) > 0 {
		return fmt.Errorf("%s can't be prepared, it lacks: %s", host, strings.Join(f.lacks, ", "))
	}
	return nil
}

const prepareScript = `set -e
umask 022
mkdir -p %[1]s %[4]s
mkdir -p -m 700 %[1]s/acts %[1]s/staged
cat >%[2]s.new <<'YARE_END_OF_FILE'
%[5]sYARE_END_OF_FILE
chmod 755 %[2]s.new
for f in %[1]s/wrapper-*; do [ "$f" = %[2]s.new ] || rm -f "$f"; done
mv %[2]s.new %[2]s
cat >%[3]s.new <<'YARE_END_OF_FILE'
%[6]sYARE_END_OF_FILE
chmod 755 %[3]s.new
mv %[3]s.new %[3]s
sync
echo end
`

const removeScript = `cd %[1]s 2>/dev/null && for a in acts/*; do
	[ ! -s "$a/pid" ] || [ -e "$a/rc" ] || [ ! -d "/proc/$(cat "$a/pid")" ] ||
		{ echo "an order is still being carried out: $a"; exit; }
done
set -e
rm -f %[2]s
[ ! -d %[3]s ] || rmdir --ignore-fail-on-non-empty %[3]s
rm -rf %[1]s
echo end
`

// hookDir is the hook's directory.
var hookDir = path.Dir(linux.HookPath)

const restartScript = `PATH=$PATH:/usr/sbin:/sbin
if [ -d /run/systemd/system ]; then
	for u in libvirtd virtqemud; do systemctl is-active -q $u && systemctl restart $u; done
else
	for u in libvirtd virtqemud; do pgrep -x $u >/dev/null && service $u restart </dev/null >/dev/null 2>&1; done
fi
echo end
`

// Prepare puts on the host what it needs to take orders, and proves that its libvirt asks the hook. It may be done
// again at any time, also while guests run.
func (s *session) Prepare(ctx context.Context) error {
	f, err := s.found(ctx)
	if err == nil {
		err = f.fit(s.host)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", s.host, err)
	}
	conn, err := s.dialled(ctx)
	if err != nil {
		return err
	}
	if _, err := s.by.rooted(ctx, conn, fmt.Sprintf(prepareScript, linux.Home, linux.WrapperPath(), linux.HookPath,
		hookDir, linux.Wrapper, linux.Hook)); err != nil {
		return fmt.Errorf("putting it on %s: %w", s.host, err)
	}
	if f.hook && f.asked == nil {
		return nil
	}
	if _, err := s.by.rooted(ctx, conn, restartScript); err != nil {
		return fmt.Errorf("restarting libvirt's daemon on %s: %w", s.host, err)
	}
	for { // it is back after a second or two
		err := s.proven(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s: libvirt's daemon was restarted, and %w", s.host, err)
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// Remove takes away from the host all that Prepare put there and all that was kept. A host that is closed keeps it: its
// mark says who must open it first.
func (s *session) Remove(ctx context.Context) error {
	f, err := s.found(ctx)
	if err != nil {
		return fmt.Errorf("%s: %w", s.host, err)
	}
	if f.mark != "" {
		return fmt.Errorf("%s is closed (%s): the round that closed it opens it", s.host, f.mark)
	}
	conn, err := s.dialled(ctx)
	if err != nil {
		return err
	}
	_, err = s.by.rooted(ctx, conn, fmt.Sprintf(removeScript, linux.Home, linux.HookPath, hookDir))
	if err != nil {
		return fmt.Errorf("taking it away from %s: %w", s.host, err)
	}
	return nil
}

var _ connector.Preparer = (*session)(nil)
