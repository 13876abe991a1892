// Package connector is the border between the program and the outside. The outside is sessions with hosts: a session
// reads its host, and where that kind of host can do more, the session has more methods, each in a small interface of
// its own.
//
// Rules for whoever implements one, to which package conform holds it:
//
//   - Every call takes a context and ends when that does, and within its own stated limit in any case; nothing is left
//     running behind it.
//   - An error says what was being done to which host. One that wraps ErrUnreachable is no answer: whether the call was
//     heard is not known. Every other error of Do is a refusal: nothing was begun.
//   - Every stage of an order begins with its Still: what the host has taken is told to nobody further once the lease is
//     lost.
//   - A host takes no order of a lower epoch than it has seen, nor one that it has had already.
//   - Where only looking is allowed every order is refused with ErrLookOnly, whatever the caller thinks.
//   - A section that could not be read is in the reading with its error, and nothing of it counts as absent.
package connector

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// Errors that callers tell apart.
var (
	// ErrUnreachable is no answer.
	ErrUnreachable = errors.New("does not answer")
	// ErrLookOnly is what an order gives where only looking is allowed.
	ErrLookOnly = errors.New("the estate file allows looking at this cluster only")
	// ErrNoTask is what following a task gives that is not known there.
	ErrNoTask = errors.New("no such task is known there")
	// ErrStale is what a host says that has taken orders of a higher epoch: another runner has the lease.
	ErrStale = errors.New("has taken orders of a newer lease, and takes none of an older one")
	// ErrLapsed is what an order gives, or its next stage, that was not sent: the lease did not stand any more.
	ErrLapsed = errors.New("it was not sent")
	// ErrKnown is what a host says that has had the very same order already.
	ErrKnown = errors.New("has had this order already")
)

// Session is a conversation with one host and its BMC. It is safe for concurrent use.
type Session interface {
	// Read reads the sections asked for and no more; all where none is named. The call fails only if nothing at all
	// could be tried.
	Read(ctx context.Context, sections ...estate.SectionName) (*estate.Reading, error)
	// Close ends the conversation and lets go of what it holds here and there.
	Close() error
}

// Doer is a session whose host can be acted on.
type Doer interface {
	// Do begins what the order says. What takes longer than a few seconds goes on after it has returned.
	Do(ctx context.Context, o Order) (Receipt, error)
	// Trace returns what is still known of an act, by its id, or by the task under which it was taken on. What could
	// not be asked is in the trace, not in the error.
	Trace(ctx context.Context, a act.Act, task string) (act.Trace, error)
}

// Tester is a session whose ways can be tried one by one.
type Tester interface {
	Connect(ctx context.Context) []Stage
}

// Preparer is a session whose host needs something put on it before it takes orders.
type Preparer interface {
	// Preparation says what that is, and what of it is there. peers are the hosts that it is to move guests to and
	// from. An error says why the host can't be prepared.
	Preparation(ctx context.Context, peers []string) ([]Item, error)
	// Prepare puts it there and proves that it works. It may be done again, also while guests run. It returns what
	// peers have to know of the host, and is done once more with what they have told; without a key in it there is
	// nothing to tell.
	Prepare(ctx context.Context, peers []Peer) (Peer, error)
	// Reaches tells, by an error, why guests can't move from the host to a peer.
	Reaches(ctx context.Context, peer string) error
	// Remove takes all of it away, with everything that was kept.
	Remove(ctx context.Context) error
}

// Peer is what hosts know of each other before guests can move between them: the public key with which one comes, and
// those by which it is known. Each is a kind and a body, as in OpenSSH's files.
type Peer struct {
	Host     string
	Key      string // empty: none is needed
	HostKeys []string
}

// Wanted is a package change that a host's package manager is asked about.
type Wanted struct {
	act.Change
	// Control reads what a resolver looks at of what is put in, where that comes in a file that the host does not have
	// yet: the control file of a Debian package, an RPM package up to its payload. Else it is nil.
	Control func() ([]byte, error)
}

// Resolver is a session whose host can say what a change of packages would really do there.
type Resolver interface {
	// Resolve asks about changes that are made together. Nothing is touched.
	Resolve(ctx context.Context, changes []Wanted) act.Resolution
}

// As finds what more a session can do, by one of the small interfaces. A session around another has the methods of all of
// them, and an Inner: it can do what the innermost one can.
func As[T any](s Session) (can T, ok bool) {
	inner := s
	for {
		w, wraps := inner.(interface{ Inner() Session })
		if !wraps {
			break
		}
		inner = w.Inner()
	}
	if _, ok = inner.(T); ok {
		can, ok = s.(T)
	}
	return can, ok
}

// Resolve asks the session, if its host can be asked.
func Resolve(ctx context.Context, s Session, changes []Wanted) act.Resolution {
	if r, ok := As[Resolver](s); ok {
		return r.Resolve(ctx, changes)
	}
	return act.Resolution{Unasked: "this kind of host has no package manager to ask"}
}

// Differ is a session whose host can say in what its files are others than those of an archive.
type Differ interface {
	// Differs says it, a line each; nothing is touched. The archive is a gzipped tar of so many bytes.
	Differs(ctx context.Context, archive io.Reader, size int64) ([]string, error)
}

// Certificate is what is known of the certificate that a host's BMC shows: SHA-256 fingerprints, in hex.
type Certificate struct {
	Shown  string // at the BMC's address, now
	Pinned string // what the estate says that it is; "" where authorities vouch for it
	Known  bool   // it is trusted as things stand
	Inside string // as the host itself sees it, by its own way to its BMC; "" where it could not be seen
	// Unseen says why it could not.
	Unseen string
}

// Identifier is a session that can say whose certificate the BMC of its host shows.
type Identifier interface {
	Certificate(ctx context.Context) (Certificate, error)
}

// Differs asks the session, if its host can be asked.
func Differs(ctx context.Context, s Session, archive io.Reader, size int64) ([]string, error) {
	if d, ok := As[Differ](s); ok {
		return d.Differs(ctx, archive, size)
	}
	return nil, errors.New("this kind of host can't be asked for its files")
}

// Identify asks the session, if it knows of a BMC.
func Identify(ctx context.Context, s Session) (Certificate, error) {
	if i, ok := As[Identifier](s); ok {
		return i.Certificate(ctx)
	}
	return Certificate{}, errors.New("this kind of host has no BMC that could be asked")
}

// Logger is a session whose host, or its BMC, can be asked for the end of its logs.
type Logger interface {
	Logs(ctx context.Context) []act.Log
}

// Logs asks the session, if its host can be asked.
func Logs(ctx context.Context, s Session) []act.Log {
	if l, ok := As[Logger](s); ok {
		return l.Logs(ctx)
	}
	return nil
}

// Item is one thing that a host needs before it takes orders.
type Item struct {
	What  string `json:"what"`  // a path, or what is done
	Why   string `json:"why"`   // what it is for
	There bool   `json:"there"` // it is there already, as it should be
}

// Order is an act that is to be carried out now.
type Order struct {
	act.Act
	// Entry and Sum are the journal's entry in which the act was intended: the host keeps them, as a second place that
	// knows how long the journal is.
	Entry int64
	Sum   string
	// Payload is what is put in, with its size in bytes; nil where nothing is. Whoever takes it reads it once, to its
	// end.
	Payload io.Reader
	Size    int64
	// Keep takes what the host gives back; nil where nothing is wanted.
	Keep io.Writer
	// Held returns nil while the lease stands under which the order is given; nil: nobody needs to be asked.
	Held func() error
}

// Still is asked immediately before each stage of an order: the host takes it, and then its libvirt or its BMC, which
// know of no epochs, are told. It returns an ErrLapsed where the lease does not stand any more: between the two
// another runner may have gone on.
func (o *Order) Still() error {
	if o.Held == nil {
		return nil
	}
	if err := o.Held(); err != nil {
		return fmt.Errorf("%w: %w", ErrLapsed, err)
	}
	return nil
}

// Guard is what the host keeps of an order that it has taken.
func (o *Order) Guard() estate.Guard {
	return estate.Guard{Round: o.Round, Epoch: o.Epoch, Entry: o.Entry, Sum: o.Sum}
}

// Receipt is what the outside answers to an order that it took on.
type Receipt struct {
	Task   string // by which what goes on can be followed; empty where nothing does
	SHA256 string // over what it holds now, as the host computed it, or over what it gave; empty where there is neither
}

// Opener opens sessions with hosts. Opening one does not wait for anybody: a session connects when it is first asked.
type Opener interface {
	Open(ctx context.Context, host string) (Session, error)
}

// Clock is the time of the estate. For real hosts it is the machine's own; a simulated estate may run faster.
type Clock interface {
	Now() time.Time
	// Lasted is how much of the estate's time has passed since some moment, while this program could watch: setting a
	// clock does not change it, and sleep does not count.
	Lasted() time.Duration
	// Speed is how many seconds of the estate pass in one of ours.
	Speed() float64
}

// World is all that a round needs of the outside.
type World interface {
	Opener
	Clock
}

// TaskState is how far a task is.
type TaskState string

// The states of a task.
const (
	TaskRuns   TaskState = "running"
	TaskDone   TaskState = "done"
	TaskFailed TaskState = "failed"
)

// Task is long work that the outside has taken on.
type Task struct {
	ID        string        `json:"id"`
	State     TaskState     `json:"state"`
	Percent   int           `json:"percent"`
	Left      time.Duration `json:"left,omitempty"` // 0 where it can't be told
	Error     string        `json:"error,omitempty"`
	Exit      int           `json:"exit,omitempty"`  // of a program
	Guest     string        `json:"guest,omitempty"` // its UUID
	Component estate.Key    `json:"component,omitempty"`
	Says      string        `json:"says,omitempty"` // as it is named where it runs, and how it stands
	Since     time.Time     `json:"since,omitzero"` // zero where that is not told
}

// Trace is the task as the trace of an act.
func (t Task) Trace() act.Trace {
	state := map[TaskState]act.TraceState{TaskRuns: act.Runs, TaskDone: act.Ended, TaskFailed: act.Broke}[t.State]
	return act.Trace{State: state, Task: t.ID, Percent: t.Percent, Left: t.Left, Error: t.Error, Exit: t.Exit, Said: t.Error}
}

// Read opens a session with the host, reads the sections asked for, or all, and closes it.
func Read(ctx context.Context, o Opener, host string, sections ...estate.SectionName) (*estate.Reading, error) {
	s, err := o.Open(ctx, host)
	if err != nil {
		return nil, err
	}
	r, err := s.Read(ctx, sections...)
	if r != nil {
		complete(r, sections)
	}
	return r, errors.Join(err, s.Close())
}

// complete marks as unread what was asked for and did not come: nothing of it may be taken for what was known before.
func complete(r *estate.Reading, sections []estate.SectionName) {
	if len(sections) == 0 {
		sections = estate.SectionNames
	}
	var at time.Time
	for _, s := range r.Sections {
		if s.At.After(at) {
			at = s.At
		}
	}
	for _, name := range sections {
		if !slices.ContainsFunc(r.Sections, func(s estate.Section) bool { return s.Name == name }) {
			r.SetSection(estate.Section{Name: name, At: at, Err: "it was asked for and did not come"})
		}
	}
}

// Unreached is the reading of a host of which nothing could be read: every section says why.
func Unreached(host, source string, at time.Time, why error, sections ...estate.SectionName) *estate.Reading {
	if len(sections) == 0 {
		sections = estate.SectionNames
	}
	r := &estate.Reading{Host: host}
	for _, s := range sections {
		r.SetSection(estate.Section{Name: s, At: at, Source: source, Err: why.Error()})
	}
	return r
}

// LookOnly wraps an opener so that nothing can be done to hosts for which acts says no: each order is refused with why.
// Reading goes through.
func LookOnly(o Opener, acts func(host string) bool, why error) Opener {
	return lookOnly{o, acts, why}
}

type lookOnly struct {
	Opener
	acts func(host string) bool
	why  error
}

func (l lookOnly) Open(ctx context.Context, host string) (Session, error) {
	s, err := l.Opener.Open(ctx, host)
	if err != nil {
		return nil, err
	}
	return watched{s, l, host}, nil
}

// watched is a session that refuses orders.
type watched struct {
	Session
	by   lookOnly
	host string
}

// Inner is the session around which this one stands.
func (w watched) Inner() Session { return w.Session }

// Do refuses the order unless both its host and where it leads may be acted on.
func (w watched) Do(ctx context.Context, o Order) (Receipt, error) {
	for _, h := range []string{o.Host, o.To} {
		if h != "" && !w.by.acts(h) {
			return Receipt{}, fmt.Errorf("%s on %s: %s: %w", o.Says(), o.Host, h, w.by.why)
		}
	}
	d, ok := As[Doer](w.Session)
	if !ok {
		return Receipt{}, fmt.Errorf("%s on %s: %w", o.Says(), o.Host, w.by.why)
	}
	return d.Do(ctx, o)
}

// Trace asks the session; one that can't be acted on knows of no acts.
func (w watched) Trace(ctx context.Context, a act.Act, task string) (act.Trace, error) {
	if d, ok := As[Doer](w.Session); ok {
		return d.Trace(ctx, a, task)
	}
	return act.Trace{Unasked: "this kind of host is only looked at"}, nil
}

// Resolve asks the session.
func (w watched) Resolve(ctx context.Context, changes []Wanted) act.Resolution {
	return Resolve(ctx, w.Session, changes)
}

// Logs asks the session.
func (w watched) Logs(ctx context.Context) []act.Log { return Logs(ctx, w.Session) }

// Certificate asks the session.
func (w watched) Certificate(ctx context.Context) (Certificate, error) {
	return Identify(ctx, w.Session)
}

// Differs asks the session.
func (w watched) Differs(ctx context.Context, archive io.Reader, size int64) ([]string, error) {
	return Differs(ctx, w.Session, archive, size)
}

// Preparation says what the host needs: nothing where it takes orders as it is.
func (w watched) Preparation(ctx context.Context, peers []string) ([]Item, error) {
	if p, ok := As[Preparer](w.Session); ok {
		return p.Preparation(ctx, peers)
	}
	return nil, nil
}

// Prepare prepares the host, if it may be acted on.
func (w watched) Prepare(ctx context.Context, peers []Peer) (me Peer, err error) {
	err = w.prepared("prepare", func(p Preparer) (err error) {
		me, err = p.Prepare(ctx, peers)
		return err
	})
	return me, err
}

// Reaches asks the host.
func (w watched) Reaches(ctx context.Context, peer string) error {
	if p, ok := As[Preparer](w.Session); ok {
		return p.Reaches(ctx, peer)
	}
	return nil
}

// Remove takes away what Prepare put there, if the host may be acted on.
func (w watched) Remove(ctx context.Context) error {
	return w.prepared("take away from", func(p Preparer) error { return p.Remove(ctx) })
}

func (w watched) prepared(what string, do func(Preparer) error) error {
	if !w.by.acts(w.host) {
		return fmt.Errorf("%s %s: %w", what, w.host, w.by.why)
	}
	if p, ok := As[Preparer](w.Session); ok {
		return do(p)
	}
	return nil
}

// Connect tries the session's ways.
func (w watched) Connect(ctx context.Context) []Stage { return TryWays(ctx, w.Session) }

// TryWays tries the ways of a session, if that can be done.
func TryWays(ctx context.Context, s Session) []Stage {
	if t, ok := As[Tester](s); ok {
		return t.Connect(ctx)
	}
	return nil
}
