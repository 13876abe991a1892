package compressed

import (
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"strings"
	"testing"
)

func zipped(t testing.TB, text string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if _, err := io.WriteString(z, text); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// All reads exactly what is there, up to the limit and not a byte beyond, whether the size is known or not; what is cut
// short is an error, never a shorter text.
func TestAllReadsAllOrSaysWhyNot(t *testing.T) {
	for _, n := range []int{0, 1, chunk - 1, chunk, chunk + 1, 3*chunk + 5} {
		text := strings.Repeat("x", n)
		for _, size := range []int64{0, int64(n), 7} {
			got, err := All(strings.NewReader(text), size, int64(n))
			if err != nil || string(got) != text {
				t.Errorf("%d bytes, said to be %d: %d read, %v", n, size, len(got), err)
			}
			if n > 0 {
				if _, err := All(strings.NewReader(text), size, int64(n-1)); !errors.Is(err, ErrTooMuch) {
					t.Errorf("%d bytes where %d may be: %v", n, n-1, err)
				}
			}
		}
		whole := zipped(t, text)
		r, err := Open("a.gz", bytes.NewReader(whole[:len(whole)-3]))
		if err != nil {
			continue
		}
		if _, err := All(r, 0, 1<<30); err == nil {
			t.Errorf("%d bytes cut short are taken for whole", n)
		}
	}
}

// Whatever bytes come under whatever name, unpacking ends, within its limit, or is refused.
func FuzzOpen(f *testing.F) {
	f.Add(zipped(f, "hello"), uint8(2))
	f.Add([]byte("\xfd7zXZ\x00\x00\x04"), uint8(1))
	f.Add([]byte("\x28\xb5\x2f\xfd"), uint8(0))
	f.Add([]byte("BZh9"), uint8(3))
	f.Fuzz(func(t *testing.T, body []byte, kind uint8) {
		const most = 1 << 16
		r, err := Open("x"+Extensions[int(kind)%len(Extensions)], bytes.NewReader(body))
		if err != nil {
			return
		}
		if got, err := All(r, 0, most); err == nil && len(got) > most {
			t.Errorf("%d bytes came through a limit of %d", len(got), most)
		}
	})
}
