package harbour

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"
	"golang.org/x/sys/unix"

	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/view"
	"yareharbour/format/hostcopy"
	"yareharbour/payload"
	"yareharbour/store"
)

// room is how much must be free where configurations are kept, in bytes.
const room = 256 << 20

// unkept is why no configuration can be kept here; "" where it can.
func (h *house) unkept() string {
	dir := filepath.Join(h.keptDir(), Configurations)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err.Error()
	}
	if err := unix.Access(dir, unix.W_OK); err != nil {
		return fmt.Sprintf("%s can't be written: %v", dir, err)
	}
	switch free, err := (payload.Store{Dir: dir}).Free(); {
	case err != nil:
		return err.Error()
	case free < room:
		return fmt.Sprintf("%s has %s free, and %s are wanted", dir, catalogue.Bytes(free), catalogue.Bytes(room))
	}
	return ""
}

// Backups are the configurations of hosts that rounds kept, the newest first; of all where no host is named.
func (h *house) Backups(hosts ...string) (out []view.Backup, err error) {
	dir := filepath.Join(h.keptDir(), Configurations)
	rounds, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, r := range rounds {
		id, err := ulid.ParseStrict(r.Name())
		if err != nil || !r.IsDir() {
			continue // it is none of ours
		}
		files, err := os.ReadDir(filepath.Join(dir, r.Name()))
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			host := strings.TrimSuffix(strings.TrimSuffix(f.Name(), ".tar.gz"), ".json")
			info, err := f.Info()
			if err != nil || host == f.Name() || len(hosts) > 0 && !slices.Contains(hosts, host) {
				continue
			}
			out = append(out, view.Backup{Host: host, Round: r.Name(), Began: ulid.Time(id.Time()), Taken: info.ModTime(), Size: info.Size(),
				File: filepath.Join(dir, r.Name(), f.Name())})
		}
	}
	slices.SortStableFunc(out, func(a, b view.Backup) int {
		if c := strings.Compare(a.Host, b.Host); c != 0 {
			return c
		}
		return b.Taken.Compare(a.Taken)
	})
	return out, nil
}

// Backup finds one of a host: by its round, or the end of that id; the newest where none is named. back counts from it to
// those before.
func (h *house) Backup(host, round string, back int) (b view.Backup, err error) {
	all, err := h.Backups(host)
	if err != nil {
		return b, err
	}
	if len(all) == 0 {
		return b, fmt.Errorf("there is no copy of the configuration of %s: a round keeps one before the first change", host)
	}
	i := 0
	if round != "" {
		var found []int
		for j := range all {
			if strings.HasSuffix(all[j].Round, strings.ToUpper(round)) {
				found = append(found, j)
			}
		}
		if len(found) != 1 {
			return b, fmt.Errorf("%s has %d copies of its configuration whose round ends with %q: \"yare backup list %s\" lists them", host, len(found), round,
				host)
		}
		i = found[0]
	}
	if i += back; i >= len(all) {
		return b, fmt.Errorf("of %s there is no copy of its configuration further back: \"yare backup list %s\" lists those that there are", host, host)
	}
	return all[i], nil
}

// OpenBackup reads a copy, and holds it to the hash that the round's journal has of it.
func (h Looking) OpenBackup(ctx context.Context, b view.Backup) (hostcopy.Copy, error) {
	c, err := hostcopy.Read(b.File)
	if err != nil {
		return c, fmt.Errorf("the copy of %s of %s: %w", b.Host, b.Taken.Format(time.DateTime), err)
	}
	s, err := h.round(ctx, b.Round)
	if v := s.Visit(b.Host); err == nil && v != nil && v.Kept != "" && v.Kept != c.SHA256 {
		return c, fmt.Errorf("the copy of %s of %s has the SHA-256 %s, and the round's journal says %s: it was changed since", b.Host,
			b.Taken.Format(time.DateTime), c.SHA256, v.Kept)
	}
	return c, nil
}

// CompareBackups says in what a copy differs from one before it.
func (h Looking) CompareBackups(ctx context.Context, before, after view.Backup) ([]hostcopy.Change, error) {
	a, err := h.OpenBackup(ctx, before)
	if err != nil {
		return nil, err
	}
	b, err := h.OpenBackup(ctx, after)
	if err != nil {
		return nil, err
	}
	return hostcopy.Diff(a, b), nil
}

// OldBackups says which copies go by a rule: all but the newest of each host, that many, and those that are older; never
// the newest, nor one of a round that is not finished or of a host that was handed over in it.
func (h Looking) OldBackups(ctx context.Context, keep int, older time.Duration) (out []view.Backup, err error) {
	all, err := h.Backups()
	if err != nil {
		return nil, err
	}
	n := map[string]int{}
	for _, b := range all {
		n[b.Host]++
		if n[b.Host] == 1 || !(keep > 0 && n[b.Host] > keep || older > 0 && time.Since(b.Taken) > older) {
			continue
		}
		switch s, err := h.round(ctx, b.Round); {
		case errors.Is(err, store.ErrNoRound): // no journal speaks of it any more
		case err != nil:
			continue // whether it is needed can't be told
		case s.Status != course.Finished || s.Visit(b.Host) != nil && s.Visit(b.Host).Phase == course.HandedOver:
			continue
		}
		out = append(out, b)
	}
	return out, nil
}

// DropBackups removes copies.
func (h Looking) DropBackups(doomed []view.Backup) (err error) {
	for _, b := range doomed {
		err = errors.Join(err, os.Remove(b.File))
		_ = os.Remove(filepath.Dir(b.File)) // where it is empty now
	}
	return err
}
