package export

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// A file is replaced, what a link points to is written, and what is no file is written into: a device or a pipe is still one
// afterwards.
func TestWhatIsWrittenTo(t *testing.T) {
	dir := t.TempDir()
	file, link, pipe := filepath.Join(dir, "a.txt"), filepath.Join(dir, "link"), filepath.Join(dir, "pipe")
	if err := WriteFile(file, []byte("one")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("a.txt", link); err != nil {
		t.Fatal(err)
	}
	if err := WriteFile(link, []byte("two")); err != nil {
		t.Fatal(err)
	}
	if b, err := os.ReadFile(file); err != nil || string(b) != "two" {
		t.Errorf("%q %v", b, err)
	}
	if is, err := os.Lstat(link); err != nil || is.Mode()&os.ModeSymlink == 0 {
		t.Errorf("the link was replaced: %v %v", is, err)
	}
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	got := make(chan string)
	go func() {
		b, _ := os.ReadFile(pipe) // it is held against what was written
		got <- string(b)
	}()
	if err := WriteFile(pipe, []byte("three")); err != nil {
		t.Fatal(err)
	}
	if s := <-got; s != "three" {
		t.Errorf("%q", s)
	}
	if is, err := os.Lstat(pipe); err != nil || is.Mode()&os.ModeNamedPipe == 0 {
		t.Errorf("the pipe was replaced: %v %v", is, err)
	}
	if err := WriteFile(dir, []byte("x")); err == nil || !strings.Contains(err.Error(), "writing "+dir) {
		t.Error(err)
	}
	if err := WriteFile(filepath.Join(dir, "none", "b"), nil); err == nil {
		t.Error("a file in a directory that is not there was written")
	}
}
