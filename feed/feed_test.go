package feed

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/payload"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func sum(s string) string {
	h := sha256.Sum256([]byte(s))
	return hex.EncodeToString(h[:])
}

// mirror is a web server of a map of files, with everything that real ones do: validators, ranges, and failures to
// order.
type mirror struct {
	*httptest.Server
	mu     sync.Mutex
	files  map[string]string
	asked  []string     // method-less: path, and what was conditional about it
	breaks atomic.Int32 // so many answers of long files break off in the middle
	fails  atomic.Int32 // so many answers are 503
	slow   chan struct{}
}

func newMirror(t *testing.T, files map[string]string) *mirror {
	m := &mirror{files: files}
	m.Server = httptest.NewServer(http.HandlerFunc(m.serve))
	t.Cleanup(m.Close)
	return m
}

func (m *mirror) set(name, text string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.files[name] = text
}

func (m *mirror) serve(w http.ResponseWriter, r *http.Request) {
	m.mu.Lock()
	text, ok := m.files[r.URL.Path[1:]]
	how := r.URL.Path[1:]
	if r.Header.Get("If-None-Match") != "" {
		how += " if-none-match"
	}
	if r.Header.Get("Range") != "" {
		how += " " + r.Header.Get("Range")
	}
	m.asked = append(m.asked, how)
	m.mu.Unlock()
	if m.slow != nil {
		select {
		case <-m.slow:
		case <-r.Context().Done():
			return
		}
	}
	if m.fails.Add(-1) >= 0 {
		http.Error(w, "later", http.StatusServiceUnavailable)
		return
	}
	if !ok {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("ETag", `"`+sum(text)[:16]+`"`)
	if len(text) > 1000 && m.breaks.Add(-1) >= 0 {
		w.Header().Set("Content-Length", fmt.Sprint(len(text)))
		_, _ = io.WriteString(w, text[:len(text)/2])
		panic(http.ErrAbortHandler)
	}
	http.ServeContent(w, r, "", time.Time{}, strings.NewReader(text))
}

func (m *mirror) requests() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := m.asked
	m.asked = nil
	return out
}

const oneRelease = "feed: x\nvendor: Corran\ncomponents:\n  - component: fw:nic\n    releases:\n" +
	"      - version: \"%d\"\n        severity: high\n"

func filesFeed(m *mirror) Feed { return Feed{Name: "corran", Kind: Files, At: m.URL + "/c"} }

func sync1(t *testing.T, s Shelf, f Feed) Result {
	t.Helper()
	r, err := s.Sync(t.Context(), f, now, nil)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func newest(t *testing.T, s Shelf, f Feed) string {
	t.Helper()
	bs, err := s.Load(f, now)
	if err != nil {
		t.Fatal(err)
	}
	var c catalogue.Catalogue
	for _, b := range bs {
		c.AddBatch(b)
	}
	if r := c.Newest("fw:nic", "", catalogue.Rule{}); r != nil {
		return r.Version
	}
	return ""
}

func TestASyncFetchesOnlyWhatChanged(t *testing.T) {
	m := newMirror(t, map[string]string{"c/index.txt": "a.yaml\nsub/b.yaml\n", "c/a.yaml": fmt.Sprintf(oneRelease, 1),
		"c/sub/b.yaml": "feed: y\n"})
	s, f := Shelf{Dir: t.TempDir(), first: time.Millisecond}, filesFeed(m)
	if r := sync1(t, s, f); !r.Changed || r.Status.Releases != 1 || r.Status.Files != 3 || newest(t, s, f) != "1" {
		t.Fatalf("%+v", r)
	}
	m.requests()
	if r := sync1(t, s, f); r.Changed {
		t.Errorf("nothing has changed: %+v", r)
	}
	for _, r := range m.requests() {
		if !strings.Contains(r, "if-none-match") {
			t.Errorf("asked for unconditionally: %s", r)
		}
	}
	m.set("c/a.yaml", fmt.Sprintf(oneRelease, 2))
	if r := sync1(t, s, f); !r.Changed || newest(t, s, f) != "2" {
		t.Errorf("%+v", r)
	}
	if gens, _ := filepath.Glob(filepath.Join(s.Dir, "corran", "g*")); len(gens) != 1 {
		t.Errorf("old generations stay: %v", gens)
	}
}

// Whatever goes wrong, what was known stays, and the sentence says what and where.
func TestRefusalsLeaveTheOldCatalogue(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(*mirror)
		want  string
	}{
		"a list that can't be read": {func(m *mirror) { m.set("c/a.yaml", "feed: x\nnonsense: 1\n") }, "a.yaml:2:1"},
		"a file that is gone": {func(m *mirror) {
			m.set("c/index.txt", "a.yaml\ngone.yaml\n")
		}, "gone.yaml is missing there"},
		"a path that leads out": {func(m *mirror) {
			m.set("c/index.txt", "../../etc/passwd\n")
		}, "leads out of the feed"},
		"nothing in it": {func(m *mirror) {
			m.set("c/index.txt", "note.txt\n")
			m.set("c/note.txt", "hello")
		}, "nothing in it says anything"},
		"a wrong hash": {func(m *mirror) {
			m.set("c/index.txt", "a.yaml\nadv.json\n")
			m.set("c/adv.json", "{}")
			m.set("c/adv.json.sha256", strings.Repeat("0", 64)+"  adv.json\n")
		}, "should have 0000"},
		"a server that stays down": {func(m *mirror) { m.fails.Store(100) }, "503 Service Unavailable"},
		"a server that is gone":    {func(m *mirror) { m.Close() }, "nobody listens there"},
	} {
		t.Run(name, func(t *testing.T) {
			m := newMirror(t, map[string]string{"c/index.txt": "a.yaml\n", "c/a.yaml": fmt.Sprintf(oneRelease, 1)})
			s, f := Shelf{Dir: t.TempDir(), first: time.Millisecond}, filesFeed(m)
			sync1(t, s, f)
			c.spoil(m)
			_, err := s.Sync(t.Context(), f, now.Add(time.Hour), nil)
			if err == nil || !strings.Contains(err.Error(), c.want) ||
				!strings.Contains(err.Error(), "the feed corran") {
				t.Errorf("%v, want %q", err, c.want)
			}
			if v := newest(t, s, f); v != "1" {
				t.Errorf("what was known is lost: %q", v)
			}
			st, err := s.Status("corran")
			if err != nil || st.Error == "" || !st.Synced.Equal(now) || !st.Tried.After(now) {
				t.Errorf("the status says what happened: %+v %v", st, err)
			}
		})
	}
}

func TestWhatBreaksOffIsGoneOnWith(t *testing.T) {
	long := fmt.Sprintf(oneRelease, 7) + "# " + strings.Repeat("x", 100_000) + "\n"
	m := newMirror(t, map[string]string{"c/index.txt": "a.yaml\n", "c/a.yaml": long})
	s, f := Shelf{Dir: t.TempDir(), first: time.Millisecond}, filesFeed(m)
	m.breaks.Store(3)
	m.fails.Store(1)
	if r := sync1(t, s, f); newest(t, s, f) != "7" || r.Status.Bytes != int64(len(long)+len("a.yaml\n")) {
		t.Errorf("%+v", r)
	}
	resumed := false
	for _, r := range m.requests() {
		resumed = resumed || strings.Contains(r, "bytes=") && strings.HasPrefix(r, "c/a.yaml")
	}
	if !resumed {
		t.Error("the rest was not asked for: everything was fetched anew")
	}
}

func TestACancelledSyncLeavesTheOldAndGoesOnLater(t *testing.T) {
	m := newMirror(t, map[string]string{"c/index.txt": "a.yaml\n", "c/a.yaml": fmt.Sprintf(oneRelease, 1)})
	s, f := Shelf{Dir: t.TempDir(), first: time.Millisecond}, filesFeed(m)
	sync1(t, s, f)
	m.set("c/a.yaml", fmt.Sprintf(oneRelease, 2))
	m.slow = make(chan struct{})
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error)
	go func() {
		_, err := s.Sync(ctx, f, now, nil)
		done <- err
	}()
	m.slow <- struct{}{} // the index goes through
	if _, err := (Shelf{Dir: s.Dir}).Sync(t.Context(), f, now, nil); !errors.Is(err, ErrBusy) {
		t.Errorf("two syncs of one feed at once: %v", err)
	}
	cancel()
	if err := <-done; !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if newest(t, s, f) != "1" {
		t.Error("what was known is lost")
	}
	close(m.slow)
	// whatever it left; it may be one file with the current one
	left := filepath.Join(s.Dir, "corran", "next", "index.txt")
	_ = os.Remove(left)
	if err := os.WriteFile(left, []byte("half of it"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := sync1(t, s, f); !r.Changed || newest(t, s, f) != "2" {
		t.Errorf("%+v", r)
	}
}

func TestAProxyIsUsed(t *testing.T) {
	var through atomic.Int32
	m := newMirror(t, map[string]string{"c/index.txt": "a.yaml\n", "c/a.yaml": fmt.Sprintf(oneRelease, 1)})
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Host != "mirror.invalid" {
			t.Errorf("the proxy is asked for %s", r.URL)
		}
		through.Add(1)
		m.serve(w, r)
	}))
	defer proxy.Close()
	s := Shelf{Dir: t.TempDir(), first: time.Millisecond}
	sync1(t, s, Feed{Name: "p", Kind: Files, At: "http://mirror.invalid/c", Proxy: proxy.URL})
	if through.Load() != 2 {
		t.Errorf("%d requests went through the proxy", through.Load())
	}
	if _, err := s.Sync(t.Context(), Feed{Name: "p", Kind: Files, At: m.URL + "/c", Proxy: "::"}, now,
		nil); err == nil || !strings.Contains(err.Error(), "the proxy") {
		t.Errorf("%v", err)
	}
}

// repository makes a Debian suite whose mirror is in the middle of an update: the plain path holds what the Release
// file does not know yet.
func repository(byHash bool) map[string]string {
	packages := "Package: crab\nVersion: 1-1\nArchitecture: amd64\nFilename: pool/crab.deb\nSize: 4\nSHA256: " +
		sum("crab") + "\n\n"
	release := fmt.Sprintf("Origin: Brae\nSuite: s\nDate: %s\nSHA256:\n %s %d main/binary-amd64/Packages\n"+
		" %s 9 other/binary-amd64/Packages\n %s 9 main/binary-i386/Packages\n",
		now.Format(time.RFC1123), sum(packages), len(packages), sum("x"), sum("y"))
	files := map[string]string{"d/dists/s/main/binary-amd64/Packages": packages, "d/pool/crab.deb": "crab"}
	if byHash {
		release += "Acquire-By-Hash: yes\n"
		files["d/dists/s/main/binary-amd64/Packages"] = "Package: newer\n"
		files["d/dists/s/main/binary-amd64/by-hash/SHA256/"+sum(packages)] = packages
	}
	files["d/dists/s/Release"] = release
	return files
}

func TestDebianByHashAndPayload(t *testing.T) {
	for _, byHash := range []bool{false, true} {
		m := newMirror(t, repository(byHash))
		s, f := Shelf{Dir: t.TempDir(), first: time.Millisecond},
			Feed{Name: "brae", Kind: Debian, At: m.URL + "/d", Suites: []string{"s"}, Components: []string{"main"},
				Architecture: "amd64"}
		if r := sync1(t, s, f); r.Status.Releases != 1 {
			t.Fatalf("by hash %v: %+v", byHash, r)
		}
		bs, err := s.Load(f, now)
		if err != nil || bs[0].Releases[0].Vendor != "Brae" || bs[0].Releases[0].Feed != "brae" {
			t.Fatalf("%+v %v", bs, err)
		}
		store := payload.Store{Dir: t.TempDir()}
		if err := s.Payload(t.Context(), f, &bs[0].Releases[0], store, nil); err != nil {
			t.Fatal(err)
		}
		name, err := store.Path(sum("crab"))
		if err != nil {
			t.Fatal(err)
		}
		if b, err := os.ReadFile(name); err != nil || string(b) != "crab" {
			t.Errorf("%q %v", b, err)
		}
		m.set("d/pool/crab.deb", "crap")
		if err := s.Payload(t.Context(), f, &bs[0].Releases[0], payload.Store{Dir: t.TempDir()}, nil); err == nil ||
			!strings.Contains(err.Error(), "should have") {
			t.Errorf("a payload with another hash: %v", err)
		}
	}
	old := repository(false)
	old["d/dists/s/Release"] = "Valid-Until: " + now.AddDate(0, 0, -1).Format(time.RFC1123) + "\n" +
		old["d/dists/s/Release"]
	stale := Feed{Name: "brae", Kind: Debian, At: newMirror(t, old).URL + "/d", Suites: []string{"s"},
		Architecture: "amd64"}
	if _, err := (Shelf{Dir: t.TempDir(), first: time.Millisecond}).Sync(t.Context(), stale, now, nil); err == nil ||
		!strings.Contains(err.Error(), "was good until") {
		t.Errorf("an old state of the mirror: %v", err)
	}
	m := newMirror(t, repository(false))
	m.set("d/dists/s/main/binary-amd64/Packages", "Package: newer\n")
	f := Feed{Name: "brae", Kind: Debian, At: m.URL + "/d", Suites: []string{"s"}, Components: []string{"main"},
		Architecture: "amd64"}
	if _, err := (Shelf{Dir: t.TempDir(), first: time.Millisecond}).Sync(t.Context(), f, now, nil); err == nil ||
		!strings.Contains(err.Error(), "between two states") {
		t.Errorf("a mirror between two states: %v", err)
	}
}

func TestADirectoryIsAFeedToo(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "a.yaml"), fmt.Appendf(nil, oneRelease, 3), 0o600); err != nil {
		t.Fatal(err)
	}
	s, f := Shelf{Dir: t.TempDir(), first: time.Millisecond}, Feed{Name: "usb", Kind: Files, At: dir}
	sync1(t, s, f)
	if err := os.RemoveAll(dir); err != nil { // the stick is pulled
		t.Fatal(err)
	}
	if newest(t, s, f) != "3" {
		t.Error("what was synced is gone with its source")
	}
}

// What an interrupted sync took over from the current generation is the same file on disk: the next sync must not write
// into it.
func TestTheCurrentGenerationIsNeverWrittenInto(t *testing.T) {
	dir := t.TempDir()
	source := filepath.Join(dir, "a.yaml")
	if err := os.WriteFile(source, fmt.Appendf(nil, oneRelease, 3), 0o600); err != nil {
		t.Fatal(err)
	}
	s, f := Shelf{Dir: t.TempDir(), first: time.Millisecond}, Feed{Name: "usb", Kind: Files, At: dir}
	sync1(t, s, f)
	next := filepath.Join(s.Dir, "usb", "next")
	if err := errors.Join(os.MkdirAll(next, 0o755),
		os.Link(filepath.Join(s.Dir, "usb", "current", "a.yaml"), filepath.Join(next, "a.yaml")),
		os.WriteFile(source, []byte("feed: [broken"), 0o600)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Sync(t.Context(), f, now, nil); err == nil {
		t.Fatal("a broken list was taken in")
	}
	if v := newest(t, s, f); v != "3" {
		t.Errorf("what was known is %q now", v)
	}
}

func TestFirmwareMetadataWithNames(t *testing.T) {
	xml := `<components origin="o"><component type="firmware"><id>x.y</id><releases><release version="1.2">
<checksum type="sha256">` + sum("cab") + `</checksum><location>https://far.invalid/p/x.cab</location></release>
</releases></component></components>`
	m := newMirror(t, map[string]string{"fw/firmware.xml": xml, "fw/x.cab": "cab"})
	s, f := Shelf{Dir: t.TempDir(), first: time.Millisecond},
		Feed{Name: "fw", Kind: Firmware, At: m.URL + "/fw/firmware.xml", Names: map[string]estate.Key{"x.y": "fw:nic"}}
	sync1(t, s, f)
	if newest(t, s, f) != "1.2" {
		t.Error("the firmware is not known by the name that the feed gives it")
	}
	bs, _ := s.Load(f, now)
	store := payload.Store{Dir: t.TempDir()}
	if err := s.Payload(t.Context(), f, &bs[0].Releases[0], store, nil); err != nil || !store.Has(sum("cab")) {
		t.Errorf("the archive lies beside the metadata: %v", err)
	}
}

// A feed whose sync failed is tried again before its next period, and not at once.
func TestAFailureIsTriedAgain(t *testing.T) {
	at := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	s, err := ParseSchedule("every 6h")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		synced, tried time.Duration // ago
		due           bool
	}{{5 * time.Hour, 5 * time.Hour, false}, {6 * time.Hour, 6 * time.Hour, true}, {7 * time.Hour, 9 * time.Minute, false},
		{7 * time.Hour, Retry, true}, {5 * time.Hour, time.Hour, false}} { // one by hand that failed waits for its period
		f := State{Schedule: s, Status: Status{Synced: at.Add(-c.synced), Tried: at.Add(-c.tried)}}
		if f.Due(at) != c.due {
			t.Errorf("all was well %s ago, tried %s ago: due %v", c.synced, c.tried, f.Due(at))
		}
	}
	if f := (State{Schedule: s, Status: Status{Tried: at.Add(-Retry)}}); !f.Due(at) {
		t.Error("one that never came is not tried again")
	}
}

func TestSchedules(t *testing.T) {
	at := func(h, m int) time.Time { return time.Date(2026, 11, 23, h, m, 0, 0, time.UTC) }
	for _, c := range []struct {
		text      string
		last, now time.Time
		due       bool
	}{
		{"on demand", time.Time{}, at(12, 0), false}, {"off", time.Time{}, at(12, 0), false},
		{"every 6h", at(6, 0), at(11, 59), false}, {"every 6h", at(6, 0), at(12, 0), true},
		{"every 6h", time.Time{}, at(0, 0), true},
		{"daily 03:30", at(3, 29), at(3, 30), true}, {"daily 03:30", at(3, 31), at(23, 0), false},
		{"daily 03:30", at(3, 31).AddDate(0, 0, -1), at(3, 29), false},
		{"daily 03:30", at(3, 31).AddDate(0, 0, -2), at(3, 29), true},
	} {
		s, err := ParseSchedule(c.text)
		if err != nil || s.String() != c.text || s.Due(c.last, c.now) != c.due {
			t.Errorf("%s: %v, after %v at %v due is %v", c.text, err, c.last, c.now, s.Due(c.last, c.now))
		}
	}
	for _, bad := range []string{"sometimes", "every", "every 5s", "daily 25:00", "daily"} {
		if _, err := ParseSchedule(bad); err == nil {
			t.Errorf("%q was understood", bad)
		}
	}
	sh := Shelf{Dir: t.TempDir(), first: time.Millisecond}
	f := Feed{Name: "x", Kind: Files, At: "/x", Schedule: Schedule{Every: time.Hour}}
	if err := sh.Set("x", Schedule{Off: true}); err != nil || !sh.Scheduled(f).Off {
		t.Errorf("what was set goes before the estate file: %v", err)
	}
}

func TestProgressIsTold(t *testing.T) {
	m := newMirror(t, map[string]string{"c/index.txt": "a.yaml\n", "c/a.yaml": fmt.Sprintf(oneRelease, 1)})
	var last Progress
	var stages bytes.Buffer
	_, err := (Shelf{Dir: t.TempDir(), first: time.Millisecond}).Sync(t.Context(), filesFeed(m), now, func(p Progress) {
		if p.Stage != last.Stage {
			stages.WriteString(p.Stage + " ")
		}
		if p.Bytes < last.Bytes || p.Entries < last.Entries {
			t.Errorf("progress goes back: %+v after %+v", p, last)
		}
		last = p
	})
	if err != nil || stages.String() != "fetching reading " || last.Bytes == 0 || last.Entries != 1 || last.Files != 2 {
		t.Errorf("%v %q %+v", err, stages.String(), last)
	}
}
