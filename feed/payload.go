package feed

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/payload"
)

// Payload fetches the file in which a release comes into the payload store. Its hash is the one that the feed's
// verified metadata states.
func (s Shelf) Payload(ctx context.Context, f Feed, r *catalogue.Release, to payload.Store,
	progress func(Progress)) error {
	if r.File == "" || r.SHA256 == "" {
		return fmt.Errorf("the release names no file with its hash")
	}
	if to.Whole(r.SHA256) { // one that is damaged is fetched anew
		return nil
	}
	if err := inside(r.File); err != nil {
		return err
	}
	dir := filepath.Join(s.dir(f.Name), "payloads") // what is interrupted is gone on with
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	fe := &fetcher{feed: f, next: dir, notes: map[string]note{}, had: map[string]note{}, progress: progress,
		state: Progress{Feed: f.Name, Stage: "fetching"}, wait: s.patience(), idle: s.Idle, whole: s.Whole}
	var err error
	if fe.client, err = client(f); err != nil {
		return err
	}
	if f.Kind == Firmware { // archives lie beside the metadata
		fe.feed.At = f.At[:max(0, strings.LastIndex(strings.TrimSuffix(f.At, "/"), "/"))]
	}
	name, err := fe.get(ctx, want{path: r.SHA256, from: r.File, sha256: r.SHA256, size: r.Size, most: maxPayload})
	if err != nil {
		return err
	}
	file, err := os.Open(name)
	if err != nil {
		return err
	}
	defer os.Remove(name)
	defer file.Close()
	return to.Put(file, r.SHA256)
}
