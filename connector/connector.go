// Package connector is the border between the program and the outside. Each capability of the outside is one small
// interface; a kind of outside thing (the simulated estate, this machine, a BMC) implements those that it has.
//
// Rules for whoever implements one: every call takes a context and ends when that does; an error says what was being done to
// which host; a call that changes something is refused with ErrLookOnly unless the estate file allows acting on the host's cluster,
// whatever the caller thinks; a host that can't be talked to gives ErrUnreachable, which is never taken for an answer.
package connector

import (
	"context"
	"errors"
	"fmt"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Errors that callers tell apart.
var (
	ErrUnreachable = errors.New("does not answer")
	ErrLookOnly    = errors.New("the estate file allows looking at this cluster only")
	ErrNoTask      = errors.New("no such task is known there")
)

// Reader reads hosts. A section that could not be read is in the reading with its error; the call fails only if nothing at all could be
// tried. Without sections it reads all.
type Reader interface {
	Read(ctx context.Context, host string, sections ...estate.SectionName) (*estate.Reading, error)
}

// Stager puts payloads on hosts ahead of time.
type Stager interface {
	// Stage copies the body to the host under the file's name and returns the SHA-256 that the host computed over what it holds.
	Stage(ctx context.Context, host, file string, body []byte) (sha256 string, err error)
	// Staged returns the SHA-256 of what the host holds under that name, and "" where it holds nothing.
	Staged(ctx context.Context, host, file string) (sha256 string, err error)
}

// Mover migrates running guests.
type Mover interface {
	// Move begins a live migration of the guest with that UUID and returns its task.
	Move(ctx context.Context, host, guest, to string) (task string, err error)
}

// Keeper closes hosts and opens them.
type Keeper interface {
	// Close marks the host; it takes no guests from then on. A host with another's mark is refused.
	Close(ctx context.Context, host string, mark estate.Mark) error
	// Open takes the mark away if it is of that round, and refuses otherwise.
	Open(ctx context.Context, host, round string) error
}

// Item is what is put on a host or taken from it.
type Item struct {
	Component estate.Key
	Device    string
	Version   string // empty: remove it
	File      string // staged before
	Restart   catalogue.Restart
	Body      []byte // for firmware, which the BMC is given
}

// Changer changes components.
type Changer interface {
	// Change begins to install, replace or remove the item and returns the task.
	Change(ctx context.Context, host string, item Item) (task string, err error)
}

// Restarter restarts hosts.
type Restarter interface {
	// Restart begins an orderly restart, with the reason for the host's own log.
	Restart(ctx context.Context, host, reason string) (task string, err error)
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
	Guest     string        `json:"guest,omitempty"` // its UUID
	Component estate.Key    `json:"component,omitempty"`
}

// Tasks follows tasks.
type Tasks interface {
	// Task returns one task, or ErrNoTask.
	Task(ctx context.Context, host, id string) (Task, error)
	// Running returns the tasks that run or wait on the host and its BMC.
	Running(ctx context.Context, host string) ([]Task, error)
}

// Clock is the time of the estate. For real hosts it is the machine's own; a simulated estate may run faster.
type Clock interface {
	Now() time.Time
	// Sleep returns after d of the estate's time, or when the context ends, with its error.
	Sleep(ctx context.Context, d time.Duration) error
}

// World is all that a round needs of the outside.
type World interface {
	Reader
	Stager
	Mover
	Keeper
	Changer
	Restarter
	Tasks
	Clock
}

// LookOnly is a world that is read and never changed: each act is refused with Why.
type LookOnly struct {
	Reader
	Why error
}

// Refuse is the error of what is not done on a host.
func (w LookOnly) Refuse(doing, host string) error {
	return fmt.Errorf("%s on %s: %w", doing, host, w.Why)
}

// Stage refuses.
func (w LookOnly) Stage(_ context.Context, host, _ string, _ []byte) (string, error) {
	return "", w.Refuse("staging", host)
}

// Staged knows of nothing that was staged.
func (w LookOnly) Staged(context.Context, string, string) (string, error) { return "", nil }

// Move refuses.
func (w LookOnly) Move(_ context.Context, host, _, _ string) (string, error) {
	return "", w.Refuse("moving a guest", host)
}

// Close refuses.
func (w LookOnly) Close(_ context.Context, host string, _ estate.Mark) error {
	return w.Refuse("closing", host)
}

// Open refuses.
func (w LookOnly) Open(_ context.Context, host, _ string) error { return w.Refuse("opening", host) }

// Change refuses.
func (w LookOnly) Change(_ context.Context, host string, item Item) (string, error) {
	return "", w.Refuse("changing "+string(item.Component), host)
}

// Restart refuses.
func (w LookOnly) Restart(_ context.Context, host, _ string) (string, error) {
	return "", w.Refuse("restarting", host)
}

// Task knows of none.
func (w LookOnly) Task(context.Context, string, string) (Task, error) { return Task{}, ErrNoTask }

// Running knows of none.
func (w LookOnly) Running(context.Context, string) ([]Task, error) { return nil, nil }

// Now is this machine's time.
func (LookOnly) Now() time.Time { return time.Now() }

// Sleep waits.
func (LookOnly) Sleep(ctx context.Context, d time.Duration) error { return Sleep(ctx, d) }

// Sleep waits for d of this machine's own time, or until the context ends, and then returns its error.
func Sleep(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}
