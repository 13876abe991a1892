package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/libvirt"
	"yareharbour/connector/linux"
	"yareharbour/connector/ssh"
)

// tools are the programs that the wrapper calls and that not every Linux machine has.
var tools = []string{"flock", "setsid", "timeout", "sha256sum", "tar", "stat", "df", "awk", "logger", "find", "xargs",
	"head"}

// look asks a host what is there of what it needs. It takes no right but to log in; what only root may see, root is asked.
const lookScript = `PATH=$PATH:/usr/sbin:/sbin
for t in %[1]s; do command -v $t >/dev/null || echo "lacks $t"; done
command -v apt-get >/dev/null || command -v dnf >/dev/null || echo "lacks apt-get or dnf"
[ -d /etc/libvirt ] || echo "lacks libvirt, or its directory /etc/libvirt"
for f in %[2]s; do [ -x "$f" ] && echo "has $f $(sha256sum <"$f")"; done
[ -e %[3]s/mark ] && sed 's/^/mark /' %[3]s/mark
echo end
`

// rootScript asks root whether it is root, and what it may do with the programs. A login that may only run these as root
// asks the wrapper.
const rootScript = `[ "$(id -u)" = 0 ] && cd %[1]s/private 2>/dev/null && [ "$(stat -c '%%u %%a' .)" = "0 700" ] &&
	[ -d acts ] && [ -d staged ] && [ -s guard ] && echo home
[ -s %[1]s/private/hop-key.pub ] && sed 's/ .*//; s/^/meets /' %[1]s/private/hop-hosts
sed -n 's/^restrict,.* yare-hop \([^ ]*\)$/admits \1/p' ~root/.ssh/authorized_keys 2>/dev/null
echo end
`

// found is what a look at a host found of what it needs.
type found struct {
	lacks           []string        // tools and rights
	has             map[string]bool // programs that are as they should be
	home            bool
	meets, admitted []string // hosts whose keys it knows, and that may reach its libvirt with theirs
	mark            string
	asked           error // why it is not proven that libvirt asks the hook
}

// programs are what is put on a host, in the order in which it is told.
var programs = []struct{ path, text, why string }{
	{linux.ProbePath, linux.Probe, "the program that looks at it: a login can be let run it as root, and nothing else"},
	{linux.WrapperPath, linux.Wrapper, "the program that orders go through: it refuses those of an older lease and " +
		"those that it has had, and outlives the connection"},
	{linux.HookPath, linux.Hook, "the script that libvirt asks before a guest starts or arrives: while the host is " +
		"closed it says no"},
	{linux.HopPath, linux.Hop, ""},
}

// Program is one of those that are put on hosts.
type Program struct{ Path, SHA256, Text string }

// Programs are all of them, as whoever owns the hosts may put them there: root's, mode 755.
func Programs() (out []Program) {
	for _, p := range programs {
		out = append(out, Program{p.path, linux.Sum(p.text), p.text})
	}
	return out
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
	f.has = map[string]bool{}
	var paths []string
	for _, p := range programs {
		paths = append(paths, p.path)
	}
	text, err := conn.Run(ctx, fmt.Sprintf(lookScript, strings.Join(tools, " "), strings.Join(paths, " "), linux.Home),
		false)
	if err != nil {
		return f, err
	}
	if !strings.HasSuffix(strings.TrimSpace(string(text)), "end") {
		return f, errors.New(strings.Join(strings.Fields(string(text)), " "))
	}
	f.read(string(text))
	private, err := s.by.rooted(ctx, conn, fmt.Sprintf(rootScript, linux.Home))
	switch {
	case err == nil:
		f.read(private)
	case f.has[linux.WrapperPath] && s.wrapper(ctx, nil, io.Discard, "ready") == nil:
		f.home = true // it may not look, and may give orders
	default:
		f.lacks = append(f.lacks, "root: "+err.Error())
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

// read takes in what a look says, a line for each thing.
func (f *found) read(text string) {
	for line := range strings.Lines(text) {
		word, says, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch word {
		case "lacks":
			f.lacks = append(f.lacks, says)
		case "home":
			f.home = true
		case "has":
			path, sum, _ := strings.Cut(says, " ")
			for _, p := range programs {
				f.has[path] = f.has[path] || p.path == path && strings.HasPrefix(sum, linux.Sum(p.text))
			}
		case "meets":
			f.meets = append(f.meets, says)
		case "admits":
			f.admitted = append(f.admitted, says)
		case "mark":
			f.mark = strings.TrimSpace(f.mark + " " + says)
		}
	}
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
func (s *session) Preparation(ctx context.Context, peers []string) ([]connector.Item, error) {
	f, err := s.found(ctx)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.host, err)
	}
	items := f.items()
	if s.by.Migration.ByKey() {
		met := f.has[linux.HopPath] && !slices.ContainsFunc(peers, func(p string) bool {
			return !slices.Contains(f.meets, p) || !slices.Contains(f.admitted, p)
		})
		items = append(items, connector.Item{What: linux.HopPath + ", and lines in root's authorized_keys", Why: "a key " +
			"with which its libvirt moves guests to the other hosts, and theirs here: it may do nothing but speak to " +
			"libvirt, which is as much as root", There: met})
	}
	return items, f.fit(s.host)
}

func (f found) items() []connector.Item {
	items := []connector.Item{{What: linux.Home, There: f.home,
		Why: "a directory for the mark of a closed host, and, for root alone, what is kept of orders and of packages " +
			"that wait there"}}
	for _, p := range programs[:3] {
		items = append(items, connector.Item{What: p.path, Why: p.why, There: f.has[p.path]})
	}
	return append(items, connector.Item{What: "a restart of libvirt's daemon", There: f.has[linux.HookPath] &&
		f.asked == nil, Why: "it looks for hooks only when it starts; running guests are not touched"})
}

func (f found) fit(host string) error {
	if len(f.lacks) > 0 {
		return fmt.Errorf("%s can't be prepared, it lacks: %s", host, strings.Join(f.lacks, ", "))
	}
	return nil
}

// prepareScript puts everything in its place. What is private is so from its making.
const prepareScript = `set -e
umask 022
mkdir -p %[1]s %[2]s
[ -d %[1]s/private ] || mkdir -m 700 %[1]s/private
chown 0:0 %[1]s %[1]s/private && chmod 755 %[1]s && chmod 700 %[1]s/private
cd %[1]s/private
mkdir -p -m 700 acts staged
read -r e r n s more 2>/dev/null <guard && [ -n "$s" ] && [ -z "$more" ] && case $e$n in *[!0-9]*) false ;; esac || {
	last=$(cat acts/*/order 2>/dev/null | grep -E '^[0-9]{1,15} [^ ]+ [0-9]{1,15} [^ ]+$' | sort -k1,1n -k3,3n | tail -n 1)
	echo "${last:-0 - 0 -}" >guard
}
`

// putScript puts a program in its place. It does not replace one that is the same: somebody may be running it.
const putScript = `cat >%[1]s.new <<'YARE_END_OF_FILE'
%[2]sYARE_END_OF_FILE
chmod 755 %[1]s.new
cmp -s %[1]s.new %[1]s && rm %[1]s.new || mv %[1]s.new %[1]s
`

// keyScript makes a host's key, writes down those of its peers, and lets theirs in; keys of other hosts stay as they
// are. It tells its own. Root's authorized_keys is replaced as a whole, or not at all.
const keyScript = `set -e
umask 077
cd %[1]s/private
[ -s hop-key.pub ] || { rm -f hop-key; ssh-keygen -q -t ed25519 -N '' -C yare-hop -f hop-key; }
mkdir -p -m 700 ~root/.ssh
a=$(readlink -f ~root/.ssh/authorized_keys)
touch "$a" hop-hosts
cat >hop-new
if [ -s hop-new ]; then
	cp -p "$a" "$a.yare"
	{ awk 'NR == FNR { if ($1 == "admit") new[$NF]; next } !($(NF-1) == "yare-hop" && $NF in new)' hop-new "$a"
		sed -n 's/^admit //p' hop-new; } >"$a.yare"
	cmp -s "$a.yare" "$a" && rm "$a.yare" || mv "$a.yare" "$a"
	{ awk 'NR == FNR { if ($1 == "meet") new[$2]; next } !($1 in new)' hop-new hop-hosts
		sed -n 's/^meet //p' hop-new; } >hop-hosts.new
	mv hop-hosts.new hop-hosts
fi
rm hop-new
cut -d' ' -f1,2 hop-key.pub
for k in /etc/ssh/ssh_host_*_key.pub; do cut -d' ' -f1,2 "$k"; done
echo end
`

const removeScript = `cd %[1]s/private 2>/dev/null && for a in acts/*; do
	[ ! -s "$a/pid" ] || [ -e "$a/rc" ] || [ ! -d "/proc/$(cat "$a/pid")" ] ||
		{ echo "an order is still being carried out: $a"; exit; }
done
set -e
rm -f %[2]s
[ ! -d %[3]s ] || rmdir --ignore-fail-on-non-empty %[3]s
a=$(readlink -f ~root/.ssh/authorized_keys)
if grep -q ' yare-hop [^ ]*$' "$a" 2>/dev/null; then
	cp -p "$a" "$a.yare"
	grep -v ' yare-hop [^ ]*$' "$a" >"$a.yare" || :
	mv "$a.yare" "$a"
fi
cd /
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
// again at any time, also while guests run. Where guests move by keys it returns the host's own, and lets the peers' in.
func (s *session) Prepare(ctx context.Context, peers []connector.Peer) (connector.Peer, error) {
	me := connector.Peer{Host: s.host}
	f, err := s.found(ctx)
	if err == nil {
		err = f.fit(s.host)
	}
	if err != nil {
		return me, fmt.Errorf("%s: %w", s.host, err)
	}
	conn, err := s.dialled(ctx)
	if err != nil {
		return me, err
	}
	script := fmt.Sprintf(prepareScript, linux.Home, hookDir)
	for _, p := range programs {
		if p.path != linux.HopPath || s.by.Migration.ByKey() {
			script += fmt.Sprintf(putScript, p.path, p.text)
		}
	}
	if _, err := s.by.rooted(ctx, conn, script+"sync\necho end\n"); err != nil {
		return me, fmt.Errorf("putting it on %s: %w", s.host, err)
	}
	if s.by.Migration.ByKey() {
		if err := s.meet(ctx, conn, &me, peers); err != nil {
			return me, err
		}
	}
	if f.has[linux.HookPath] && f.asked == nil {
		return me, nil
	}
	if _, err := s.by.rooted(ctx, conn, restartScript); err != nil {
		return me, fmt.Errorf("restarting libvirt's daemon on %s: %w", s.host, err)
	}
	for { // it is back after a second or two
		err := s.proven(ctx)
		if err == nil {
			return me, nil
		}
		select {
		case <-ctx.Done():
			return me, fmt.Errorf("%s: libvirt's daemon was restarted, and %w", s.host, err)
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// keyLine is a public key as it stands in files: its kind and its body.
var keyLine = regexp.MustCompile(`^[a-z0-9@.-]+ [A-Za-z0-9+/=]+$`)

// hostWord is a host's name as it may stand in such a file.
var hostWord = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.-]*$`)

// meet makes the host's key, and lets the peers and it know each other. What is let in may speak to libvirt, and do
// nothing else (sshd(8), authorized_keys: restrict, command).
func (s *session) meet(ctx context.Context, conn *ssh.Conn, me *connector.Peer, peers []connector.Peer) error {
	var lines strings.Builder
	for _, p := range peers {
		if p.Host == s.host {
			continue
		}
		keys := append([]string{p.Key}, p.HostKeys...)
		if !hostWord.MatchString(p.Host) ||
			slices.ContainsFunc(keys, func(k string) bool { return !keyLine.MatchString(k) }) {
			return fmt.Errorf("what %s says of its keys is not taken to %s: %.200q", p.Host, s.host, keys)
		}
		fmt.Fprintf(&lines, "admit restrict,command=\"virt-ssh-helper %s\" %s yare-hop %s\n", libvirt.URI, p.Key, p.Host)
		for _, k := range p.HostKeys {
			fmt.Fprintf(&lines, "meet %s %s\n", p.Host, k)
		}
	}
	script := strings.Replace(fmt.Sprintf(keyScript, linux.Home), "cat >hop-new\n",
		"cat >hop-new <<'YARE_END_OF_FILE'\n"+lines.String()+"YARE_END_OF_FILE\n", 1)
	said, err := s.by.rooted(ctx, conn, script)
	if err != nil {
		return fmt.Errorf("the key of %s for moving guests: %w", s.host, err)
	}
	keys := strings.Split(strings.TrimSpace(said), "\n")
	if len(keys) < 2 || slices.ContainsFunc(keys, func(k string) bool { return !keyLine.MatchString(k) }) {
		return fmt.Errorf("the key of %s for moving guests: it says %.200q", s.host, said)
	}
	me.Key, me.HostKeys = keys[0], keys[1:]
	return nil
}

// Reaches tells, by an error, why the host's libvirt does not reach a peer's in the way in which guests move.
func (s *session) Reaches(ctx context.Context, peer string) error {
	return s.by.Reaches(ctx, s.host, peer, s.by.Migration.At("%h"))
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
