package feed

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// lock holds the feed for one sync. The kernel lets go of it when the process ends, however it ends.
func (s Shelf) lock(name string) (unlock func(), err error) {
	if err := os.MkdirAll(s.dir(name), 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(s.dir(name), "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, ErrBusy
		}
		return nil, fmt.Errorf("its lock: %w", err)
	}
	return func() { f.Close() }, nil
}
