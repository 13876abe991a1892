package images

import (
	"bytes"
	"crypto/tls"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

var client = http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}

// served is a server with an image whose blank lies across two blocks of what is looked through.
func served(t *testing.T, dir, url string, body []byte) *Server {
	t.Helper()
	name := filepath.Join(t.TempDir(), "x.iso")
	if err := os.WriteFile(name, body, 0o600); err != nil {
		t.Fatal(err)
	}
	s, err := Serve(dir, Settings{Listen: "127.0.0.1:0", URL: url}, func(string, string) (*os.File, error) { return os.Open(name) })
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func ask(t *testing.T, method, url, body string, header ...string) (int, string) {
	t.Helper()
	r, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if len(header) > 0 {
		r.Header.Set("Range", header[0])
	}
	resp, err := client.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return resp.StatusCode, string(b)
}

// An image is served whole and in parts, with its blank filled in and nothing else of it changed, at an address that nobody
// guesses; what it reports is taken from there alone.
func TestAnImageIsServedAndReports(t *testing.T) {
	for _, url := range []string{"https://127.0.0.1:%p", "http://127.0.0.1:%p/"} {
		before := bytes.Repeat([]byte("a"), 1<<20-5)
		body := append(append(before, Mark+strings.Repeat(" ", Blank-len(Mark))...), "the rest"...)
		s := served(t, t.TempDir(), url, body)
		at := s.URL("R", "h1", "x.iso", "sum")
		code, got := ask(t, http.MethodGet, at, "")
		if code != 200 || len(got) != len(body) || !strings.HasPrefix(got, string(before)) || !strings.HasSuffix(got, " the rest") {
			t.Fatalf("%s: %d, %d bytes of %d", url, code, len(got), len(body))
		}
		line := strings.TrimSpace(got[len(before) : len(before)+Blank])
		report, ok := strings.CutPrefix(line, Mark+" ")
		if !ok || report != strings.TrimSuffix(at, "x.iso")+"report" {
			t.Fatalf("the blank says %q", line)
		}
		if code, part := ask(t, http.MethodGet, at, "", "bytes=1048570-1048600"); code != 206 || part != got[1048570:1048601] {
			t.Errorf("a part of it: %d, %q", code, part)
		}
		for _, x := range []struct {
			method, url, body string
			code              int
		}{
			{"GET", strings.Replace(at, "/x.iso", "/y.iso", 1), "", 404},
			{"GET", s.base + "/" + strings.Repeat("0", 32) + "/x.iso", "", 404},
			{"PUT", at, "", 404},
			{"GET", report, "", 404},
			{"POST", s.base + "/" + strings.Repeat("0", 32) + "/report", `{"percent":1}`, 404},
			{"POST", report, "it goes well", 400},
			{"POST", report, `{"percent":101}`, 400},
			{"POST", report, `{"percent":1,"says":"` + strings.Repeat("x", 5000) + `"}`, 400},
			{"POST", report, `{"percent":40,"says":"writes the hub"}`, 204},
		} {
			if code, _ := ask(t, x.method, x.url, x.body); code != x.code {
				t.Errorf("%s %s %.20q: %d, want %d", x.method, x.url, x.body, code, x.code)
			}
		}
		if r, ok := s.Report("R", "h1"); !ok || r.Percent != 40 || r.Says != "writes the hub" {
			t.Errorf("%+v", r)
		}
		if _, ok := s.Report("R", "h2"); ok {
			t.Error("another visit's image has reported")
		}
	}
}

// Whoever goes on with a round serves its images at the very addresses that the BMCs were given.
func TestTheAddressesStay(t *testing.T) {
	dir := t.TempDir()
	s := served(t, dir, "https://127.0.0.1:%p", []byte("no blank"))
	at := s.URL("R", "h1", "x.iso", "sum")
	if _, err := Serve(dir, Settings{Listen: "127.0.0.1:0", URL: "http://127.0.0.1:%p"}, nil); err == nil {
		t.Error("an address that is taken was served at twice")
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	again := served(t, dir, "https://127.0.0.1:%p", []byte("no blank"))
	if got := again.URL("R", "h1", "x.iso", "sum"); got != at {
		t.Errorf("it was %s and is %s", at, got)
	}
	if code, got := ask(t, http.MethodGet, at, ""); code != 200 || got != "no blank" {
		t.Errorf("%d %q", code, got)
	}
	if info, err := os.Stat(filepath.Join(dir, "images.key")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("its key is %v, %v", info.Mode(), err)
	}
	if again.URL("R2", "h1", "x.iso", "sum") == at || again.URL("R", "h2", "x.iso", "sum") == at {
		t.Error("two visits have one address")
	}
}

func TestSettings(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if _, err := Serve(t.TempDir(), Settings{Listen: l.Addr().String(), URL: "http://127.0.0.1:1"}, nil); err == nil {
		t.Error("a port that is taken")
	}
	for _, x := range []struct {
		listen, url string
		ok          bool
	}{
		{"192.0.2.10:8443", "https://192.0.2.10:8443", true}, {":0", "http://c.example:%p", true},
		{"8443", "https://c", false}, {":8443", "ftp://c", false}, {":8443", "", false}, {":8443", "https://c/x", false},
	} {
		if err := (Settings{x.listen, x.url}).Check(); (err == nil) != x.ok {
			t.Errorf("%+v: %v", x, err)
		}
	}
}
