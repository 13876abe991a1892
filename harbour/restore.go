package harbour

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/format/hostcopy"
)

// Restoring are files of a kept configuration that can be put back.
type Restoring struct {
	act.Files
	// Differs says in what the host's own are others now, a line each; none where they are alike.
	Differs []string
	archive []byte
}

// TryRestore looks, and touches nothing, at what putting files of a copy back would do on its host. A path that is a
// directory means all that is below it.
func (h Rounds) TryRestore(ctx context.Context, b view.Backup, paths []string) (r Restoring, err error) {
	if _, err := Looking(h).OpenBackup(ctx, b); err != nil { // which verifies it
		return r, err
	}
	var out bytes.Buffer
	if r.Paths, err = hostcopy.Archive(&out, b.File, paths); err != nil {
		return r, err
	}
	if len(r.Paths) == 0 {
		return r, fmt.Errorf("there is no %s in the copy: \"yare backup show %s\" lists its files", strings.Join(paths, ", "), b.Host)
	}
	sum := sha256.Sum256(out.Bytes())
	r.archive, r.SHA256, r.Size, r.File = out.Bytes(), hex.EncodeToString(sum[:]), int64(out.Len()), filepath.Base(b.File)
	s, err := h.world.Open(ctx, b.Host)
	if err != nil {
		return r, err
	}
	r.Differs, err = connector.Differs(ctx, s, bytes.NewReader(r.archive), r.Size)
	return r, errors.Join(err, s.Close())
}

// Restore puts them back, as work by hand on the host, which must be closed. The archive is kept as a payload until that
// is over.
func (h Rounds) Restore(ctx context.Context, b view.Backup, r Restoring, reason string, seen func(course.Event)) (*course.State, error) {
	c, ok := h.Estate.ClusterOf(b.Host)
	if !ok {
		return nil, fmt.Errorf("no cluster has a host %q", b.Host)
	}
	if err := h.payloads.Store.Put(bytes.NewReader(r.archive), r.SHA256); err != nil {
		return nil, err
	}
	s, err := h.Work(ctx, ByHand{Host: b.Host, Does: plan.HandRestore, Brief: plan.DefaultBrief(c), Files: &r.Files, Reason: reason}, seen)
	if s != nil && s.Status == course.Finished || s == nil {
		err = errors.Join(err, h.payloads.Store.Remove(r.SHA256)) // there are secrets in it
	}
	return s, err
}
