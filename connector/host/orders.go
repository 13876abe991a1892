package host

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/linux"
	"yareharbour/connector/redfish"
	"yareharbour/connector/ssh"
	"yareharbour/core/act"
)

// The wrapper's exit statuses, as it says them.
const (
	stale   = 70
	known   = 71
	refused = 72
	missing = 127
)

// orderLimit is how long a host may take to take an order on, beside a second for each MiB that goes with it.
const orderLimit = 40 * time.Second

// maxSaid is how much of what a host complains of is passed on, and maxKept how much it may give to be kept, in bytes.
const (
	maxSaid = 4 << 10
	maxKept = 1 << 30
)

// Do gives the host the order, through the wrapper on it. What the host itself does not do, a migration or an image for
// its BMC, is begun once it has taken the order: so it refuses what is stale for its libvirt and its BMC as well.
func (s *session) Do(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	ctx, cancel := context.WithTimeout(ctx, orderLimit+time.Duration(o.Size>>20)*time.Second)
	defer cancel()
	give, ok := orders[o.Kind]
	if !ok {
		return connector.Receipt{}, fmt.Errorf("%s on %s: a host of this kind can't do that", o.Says(), s.host)
	}
	r, err := give(s, ctx, o)
	if named := new(ofHost); err != nil && !errors.As(err, named) {
		err = fmt.Errorf("%s: %w", s.host, err)
	}
	return r, err
}

// ofHost is an error that names its host already.
type ofHost struct{ error }

// Unwrap returns the error itself.
func (e ofHost) Unwrap() error { return e.error }

// naming makes an error that names its host.
func naming(format string, args ...any) error { return ofHost{fmt.Errorf(format, args...)} }

// orders is how each kind of order is given.
var orders = map[act.Name]func(*session, context.Context, connector.Order) (connector.Receipt, error){
	act.Claim:   plainly("claim", func(connector.Order) []string { return nil }),
	act.Remark:  plainly("remark", words),
	act.Open:    plainly("open", func(connector.Order) []string { return nil }),
	act.Restart: (*session).restart,
	act.Install: plainly("install", packages),
	act.Service: plainly("services", func(o connector.Order) []string { return o.Services }),
	act.Adopt:   plainly("adopt", adopted),
	act.Hand:    plainly("hand", words),
	act.Close:   (*session).shut,
	act.Stage:   (*session).stage,
	act.RunHook: (*session).hook,
	act.Lend:    lent,
	act.PutBack: lent,
	act.Unstage: plainly("unstage", staged),
	act.Backup:  (*session).backup,
	act.Restore: (*session).restore,
	act.Move:    (*session).takeMove,
	act.Return:  (*session).takeMove,
	act.Flash:   (*session).flash,
	act.Boot:    (*session).restart,
	act.Mount:   (*session).mount,
	act.Unmount: (*session).unmount,
	act.Clear:   (*session).clear,
	act.Down:    (*session).guest,
	act.Save:    (*session).guest,
	act.Start:   (*session).guest,
	act.Eject:   (*session).guest,
	act.Insert:  (*session).guest,

	act.Snapshot:   (*session).guest,
	act.Unsnapshot: (*session).guest,

	act.Carry: (*session).guest,
}

// words are who orders and why, each in one line.
func words(o connector.Order) []string {
	flat := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	return []string{flat(o.By), flat(o.Reason)}
}

func adopted(o connector.Order) []string {
	if m := o.Before.Mark; m != nil {
		return append(words(o), m.Round, m.At.UTC().Format(time.RFC3339))
	}
	return append(words(o), "", "")
}

// packages names what goes in and what goes away, as the wrapper wants it.
func packages(o connector.Order) (out []string) {
	for _, c := range o.Changes() {
		name := c.Component.Name()
		switch {
		case c.To == "":
			out = append(out, name+"-")
			continue
		case c.From != "" && c.Component.Scheme().Compare(c.From, c.To) > 0 && !slices.Contains(out, "older"):
			out = slices.Insert(out, 0, "older")
		}
		item := name + "=" + c.To
		if c.File != "" {
			item = "@" + c.SHA256 + "." + c.Component.Kind() + "/" + item
		}
		out = append(out, item)
	}
	for _, a := range o.Along {
		out = append(out, a.Component.Name()+"="+a.To)
	}
	return out
}

// lent changes a service or a setting for a time, or puts it back.
func lent(s *session, ctx context.Context, o connector.Order) (connector.Receipt, error) {
	verb, args := "service", []string{"stop", o.Lent.Unit}
	switch is := o.Lent.Wants(o.Kind == act.PutBack); {
	case o.Lent.Setting != "" && o.Kind == act.PutBack:
		verb, args = "setting", []string{o.Lent.Setting, is, o.Lent.To}
	case o.Lent.Setting != "":
		verb, args = "setting", []string{o.Lent.Setting, is}
	case is == act.ServiceRuns:
		args[0] = "start"
	}
	return connector.Receipt{}, s.tell(ctx, o, nil, io.Discard, verb, args...)
}

// staged are files that wait on the host, by the names that the wrapper gives them.
func staged(o connector.Order) (out []string) {
	for _, s := range o.Staged {
		out = append(out, s.SHA256+"."+s.Kind)
	}
	return out
}

func plainly(verb string, args func(connector.Order) []string) func(*session, context.Context,
	connector.Order) (connector.Receipt, error) {
	return func(s *session, ctx context.Context, o connector.Order) (connector.Receipt, error) {
		return connector.Receipt{}, s.tell(ctx, o, nil, io.Discard, verb, args(o)...)
	}
}

// actName is an act's id as the name of a directory on the host.
func actName(id string) string {
	sum := sha256.Sum256([]byte(id))
	safe := strings.Map(func(c rune) rune {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' {
			return c
		}
		return '_'
	}, id)
	return "a" + safe[:min(len(safe), 80)] + "." + hex.EncodeToString(sum[:])[:12]
}

// tell gives an order to the wrapper.
func (s *session) tell(ctx context.Context, o connector.Order, in io.Reader, out io.Writer, verb string,
	args ...string) error {
	if err := o.Still(); err != nil {
		return err
	}
	args = append([]string{"order", actName(o.ID), strconv.FormatInt(o.Epoch, 10), o.Round,
		strconv.FormatInt(o.Entry, 10), o.Sum, verb}, args...)
	return s.wrapper(ctx, in, out, args...)
}

// ifWhole runs a program on the host if it is the one that belongs there.
const ifWhole = `f=$1 sum=$2; shift 2; [ "$(sha256sum <"$f" 2>/dev/null)" = "$sum  -" ] || exit 127; exec "$@"`

// wrapper calls the wrapper on the host.
func (s *session) wrapper(ctx context.Context, in io.Reader, out io.Writer, args ...string) error {
	conn, err := s.dialled(ctx)
	if err != nil {
		return ofHost{err}
	}
	program := []string{linux.WrapperPath, "within", strconv.Itoa(ssh.Seconds(ctx))}
	if s.by.Sudo {
		program = append([]string{"sudo", "-n"}, program...)
	}
	exit, said, err := conn.Command(ctx, "sh -c "+ssh.Words(append(append([]string{ifWhole, "order", linux.WrapperPath,
		linux.WrapperSum()}, program...), args...)...), in, out)
	if said = strings.Join(strings.Fields(said), " "); len(said) > maxSaid {
		said = said[:maxSaid] + " …"
	}
	switch {
	case err != nil:
		return ofHost{err}
	case exit == 0:
		return nil
	case exit == stale:
		return naming("%s: %w (%s)", s.host, connector.ErrStale, said)
	case exit == known:
		return naming("%s: %w", s.host, connector.ErrKnown)
	case exit == refused:
		return naming("%s refuses: %s", s.host, said)
	case exit == missing || exit == missing-1:
		return naming("%s takes no orders: what yare needs for that is not on it, or of another version; yare host "+
			"prepare %s shows what that is, and puts it there", s.host, s.host)
	}
	return naming("%s: the wrapper ended with %d: %w (%s)", s.host, exit, connector.ErrUnreachable, said)
}

// shut closes the host, once it is proven that its libvirt asks the hook that keeps guests away.
func (s *session) shut(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	if err := s.proven(ctx); err != nil {
		return connector.Receipt{}, naming("%s is not closed: %w", s.host, err)
	}
	return connector.Receipt{}, s.tell(ctx, o, nil, io.Discard, "close", words(o)...)
}

// restart lets the host restart. What its libvirt lists at this moment, asked over its own protocol, goes with the order:
// the wrapper refuses where that is anything, and asks again in its own ways.
func (s *session) restart(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	listed, err := s.listed(ctx)
	if err != nil {
		listed = "it can't be asked: " + err.Error()
	}
	return connector.Receipt{}, s.tell(ctx, o, nil, io.Discard, "restart", append(words(o)[1:], listed)...)
}

// listed are the guests that run there, as libvirt says; empty where none does.
func (s *session) listed(ctx context.Context) (string, error) {
	h, err := s.guests(ctx)
	if err != nil {
		return "", err
	}
	defer h.Close()
	stop := context.AfterFunc(ctx, h.Drop)
	defer stop()
	running, err := h.Running()
	return strings.Join(running, ", "), err
}

// stage sends a package, from where an earlier attempt broke off.
func (s *session) stage(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	kind := o.Change.Component.Kind()
	var there ssh.Answer
	if err := s.wrapper(ctx, nil, &there, "part", o.Change.SHA256, kind); err != nil {
		return connector.Receipt{}, err
	}
	from, err := strconv.ParseInt(strings.TrimSpace(there.String()), 10, 64)
	if err != nil || from < 0 || from > o.Size {
		from = 0
	}
	if _, err := io.CopyN(io.Discard, o.Payload, from); err != nil {
		return connector.Receipt{}, err
	}
	var sum ssh.Answer
	err = s.tell(ctx, o, o.Payload, &sum, "stage", o.Change.SHA256, kind, strconv.FormatInt(o.Size, 10),
		strconv.FormatInt(from, 10))
	return connector.Receipt{SHA256: strings.TrimSpace(sum.String())}, err
}

// backup takes the host's configuration, which comes behind its own hash.
func (s *session) backup(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	read, write := io.Pipe()
	told := make(chan error, 1)
	go func() {
		err := s.tell(ctx, o, nil, write, "backup")
		write.CloseWithError(err)
		told <- err
	}()
	in := bufio.NewReader(read)
	first, err := in.ReadSlice('\n') // which may not be endless
	line := string(first)
	hash := sha256.New()
	if err == nil {
		var n int64
		if n, err = io.Copy(io.MultiWriter(o.Keep, hash), io.LimitReader(in, maxKept+1)); n > maxKept {
			err = naming("%s gives more than %d MiB to be kept", s.host, maxKept>>20)
		}
	}
	read.CloseWithError(err)
	if failed := <-told; failed != nil {
		return connector.Receipt{}, failed
	}
	line = strings.TrimSpace(line)
	if got := hex.EncodeToString(hash.Sum(nil)); err == nil && got != line {
		err = fmt.Errorf("what %s gave arrived with the SHA-256 %s, and it says %s", s.host, got, line)
	}
	return connector.Receipt{SHA256: line}, err
}

// restore sends files of the host's kept configuration.
func (s *session) restore(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	return connector.Receipt{}, s.tell(ctx, o, o.Payload, io.Discard, "restore", o.Files.SHA256, strconv.FormatInt(o.Size, 10))
}

// Differs asks the host in what its files are others than those of an archive.
func (s *session) Differs(ctx context.Context, archive io.Reader, size int64) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, orderLimit+time.Duration(size>>20)*time.Second)
	defer cancel()
	var out ssh.Answer
	err := s.wrapper(ctx, archive, &out, "differs", strconv.FormatInt(size, 10))
	return slices.Collect(strings.Lines(out.String())), err
}

// hook runs a program on the host, or only has it take the order where the program is another machine's.
func (s *session) hook(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	if !o.Hook.OnHost {
		return connector.Receipt{}, s.tell(ctx, o, nil, io.Discard, "elsewhere")
	}
	within := strconv.FormatInt(int64(max(o.Hook.Within/time.Second, 1)), 10)
	return connector.Receipt{}, s.tell(ctx, o, bytes.NewReader(append(bytes.Clone(o.Facts), '\n')), io.Discard, "hook",
		append([]string{within, o.Hook.Program}, o.Hook.Args...)...)
}

func (s *session) takeMove(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	if err := s.tell(ctx, o, nil, io.Discard, "elsewhere"); err != nil {
		return connector.Receipt{}, err
	}
	return s.move(ctx, o)
}

// entered is what goes into the host's ledger: what is owed after the order, or that it is paid.
func entered(o connector.Order) []string {
	switch word := linux.LedgerWord(o.Kind); {
	case word != "":
		return []string{"owe", word, o.UID(), o.Guest}
	case o.Kind == act.Start:
		return []string{"pay", o.UID()}
	}
	return nil
}

// guest lets the host's libvirt bring a guest to rest, or start it. It goes on where this call breaks off.
func (s *session) guest(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	if err := s.tell(ctx, o, nil, io.Discard, "guest", entered(o)...); err != nil {
		return connector.Receipt{}, err
	}
	h, err := s.guests(ctx)
	if err != nil {
		return connector.Receipt{}, err
	}
	if err := o.Still(); err != nil {
		h.Close()
		return connector.Receipt{}, err
	}
	do := map[act.Name]func(string) error{act.Down: h.ShutDown, act.Save: h.Save, act.Start: h.Start,
		act.Eject:      func(id string) error { return h.Eject(id, o.Media) },
		act.Insert:     func(id string) error { return h.Insert(id, o.Media) },
		act.Snapshot:   func(id string) error { return h.Snapshot(id, *o.Copy) },
		act.Unsnapshot: func(id string) error { return h.Unsnapshot(id, o.Copy.Name) },
		act.Carry:      func(id string) error { return h.Carry(id, o.To, s.by.Migration) }}[o.Kind]
	if err := h.Note(o.UID(), string(o.Kind), o.Round, o.By, o.Reason, time.Now()); err != nil {
		slog.Debug("what is done to a guest could not be written into its definition", "host", s.host, "guest", o.Guest, "error", err)
	}
	ended := make(chan error, 1)
	go func() {
		defer h.Close()
		ended <- do(o.UID())
	}()
	select {
	case err := <-ended:
		if err != nil {
			return connector.Receipt{}, naming("%s refuses to %s: %w", s.host, o.Says(), err)
		}
	case <-time.After(beginning):
	case <-ctx.Done():
		return connector.Receipt{}, away(s.host, ctx.Err())
	}
	return connector.Receipt{Task: o.UID()}, nil
}

// flash gives the image to the host's BMC.
func (s *session) flash(ctx context.Context, o connector.Order) (r connector.Receipt, err error) {
	err = s.bmc(ctx, o, func(b *redfish.Client) error { r, err = b.Flash(ctx, o); return err })
	return r, err
}

// clear clears tasks from the queue of the host's BMC.
func (s *session) clear(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	return connector.Receipt{}, s.bmc(ctx, o, func(b *redfish.Client) error { return b.Clear(ctx, o) })
}

// mount puts an image into the virtual drive of the host's BMC.
func (s *session) mount(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	return connector.Receipt{}, s.bmc(ctx, o, func(b *redfish.Client) error { return b.Mount(ctx, o) })
}

// unmount takes it out again.
func (s *session) unmount(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	return connector.Receipt{}, s.bmc(ctx, o, func(b *redfish.Client) error { return b.Unmount(ctx, o) })
}

// bmc does something with the host's BMC once the host has taken the order. Where the act's kind has the BMC do it, a host
// that does not answer is not told.
func (s *session) bmc(ctx context.Context, o connector.Order, do func(*redfish.Client) error) error {
	if err := s.tell(ctx, o, nil, io.Discard, "elsewhere"); err != nil && !(o.Kind.Of().Rules().ByBMC && errors.Is(err, connector.ErrUnreachable)) {
		return err
	}
	b, err := s.by.client(ctx, s.host)
	if err != nil {
		return err
	}
	defer b.Close()
	if err := do(b); err != nil {
		return ofHost{err}
	}
	return nil
}

// Trace asks the host what became of an act: its wrapper, its libvirt or its BMC.
func (s *session) Trace(ctx context.Context, a act.Act, task string) (act.Trace, error) {
	ctx, cancel := context.WithTimeout(ctx, orderLimit)
	defer cancel()
	switch a.Kind {
	case act.Move, act.Return:
		return s.flown(ctx, a)
	case act.Flash:
		b, err := s.by.client(ctx, s.host)
		if err != nil {
			return act.Trace{Unasked: err.Error()}, nil
		}
		defer b.Close()
		return b.Trace(ctx, task, a.Before.Tasks), nil
	}
	var out ssh.Answer
	question := []string{"trace", actName(a.ID)}
	if a.Kind == act.Stage {
		question = []string{"staged", a.Change.SHA256, a.Change.Component.Kind()}
	}
	if err := s.wrapper(ctx, nil, &out, question...); err != nil {
		return act.Trace{Unasked: err.Error()}, nil
	}
	if a.Kind == act.Stage {
		return act.Trace{SHA256: strings.TrimSpace(out.String())}, nil
	}
	return traced(out.String())
}

// traced reads the wrapper's answer: a line of a word and what it says, and behind it the end of the log.
func traced(answer string) (act.Trace, error) {
	first, log, _ := strings.Cut(answer, "\n")
	word, says, _ := strings.Cut(strings.TrimSpace(first), " ")
	switch word {
	case "none":
		return act.Trace{}, nil
	case "taken":
		return act.Trace{State: act.Taken}, nil
	case "running":
		return act.Trace{State: act.Runs}, nil
	case "lost":
		return act.Trace{State: act.Lost, Error: says}, nil
	case "done":
		t := act.Trace{State: act.Ended, Said: act.Tail(log)}
		if says != "0" {
			t.State, t.Error = act.Broke, failure(log, says)
			t.Exit, _ = strconv.Atoi(says)
		}
		return t, nil
	}
	return act.Trace{}, fmt.Errorf("the wrapper says %q", first)
}

// failure is what of a log says why it failed: what dpkg says of a package with the line before, which is that
// package's own last word, and the line after; what apt calls errors; or else the last line.
func failure(log, status string) string {
	var out []string
	before, after := "", false
	for line := range strings.Lines(log) {
		line = strings.TrimSpace(line)
		switch {
		case line == "":
			continue
		case after:
			out = append(out, line)
		case strings.HasPrefix(line, "dpkg: error"):
			out = append(out, before, line)
		case strings.HasPrefix(line, "E: "):
			out = append(out, strings.TrimPrefix(line, "E: "))
		}
		before, after = line, strings.HasPrefix(line, "dpkg: error")
	}
	if len(out) == 0 {
		out = []string{before}
	}
	return strings.ReplaceAll(strings.Join(out, "; "), ":; ", ": ") + " (exit status " + status + ")"
}
