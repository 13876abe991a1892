package intake

import (
	"context"
	"io/fs"
)

// cancellable is a file system whose files can't be read any more when a context has ended.
type cancellable struct {
	fs.FS
	ctx context.Context
}

// Open implements fs.FS.
func (c cancellable) Open(name string) (fs.File, error) {
	if err := c.ctx.Err(); err != nil {
		return nil, err
	}
	f, err := c.FS.Open(name)
	if d, ok := f.(fs.ReadDirFile); ok && err == nil {
		return cancellableDir{d, c.ctx}, nil
	}
	return cancellableFile{f, c.ctx}, err
}

type cancellableFile struct {
	fs.File
	ctx context.Context
}

// Read implements fs.File.
func (f cancellableFile) Read(p []byte) (int, error) {
	if err := f.ctx.Err(); err != nil {
		return 0, err
	}
	return f.File.Read(p)
}

type cancellableDir struct {
	fs.ReadDirFile
	ctx context.Context
}

// Read implements fs.File: os gives its files this type whether they are directories or not.
func (d cancellableDir) Read(p []byte) (int, error) {
	if err := d.ctx.Err(); err != nil {
		return 0, err
	}
	return d.ReadDirFile.Read(p)
}
