// Package boundstest holds work on an input to a time and to memory that do not depend on how odd the input is. It is for
// tests.
package boundstest

import (
	"runtime"
	"testing"
	"time"
)

// What an input may cost: so much in any case, and so much for each of its bytes.
const (
	Time    = 2 * time.Second
	Memory  = 48 << 20
	PerByte = 2 << 10
)

// Within does the work on an input of so many bytes, and fails the test where that takes longer, or more memory, than
// any input may.
func Within(t testing.TB, size int, work func()) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	start := time.Now()
	work()
	took := time.Since(start)
	runtime.ReadMemStats(&after)
	if used := after.TotalAlloc - before.TotalAlloc; took > Time || used > Memory+uint64(size)*PerByte {
		t.Errorf("%d bytes cost %s and %d KiB", size, took, used>>10)
	}
}
