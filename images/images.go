// Package images serves images to the BMCs of hosts that start from them, and takes what an image reports while it runs.
// Each visit has an address that nobody else can guess. An image that has a blank for it, a line that begins with Mark,
// is told there to whom it reports; what it reports proves nothing.
package images

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"yareharbour/selfsigned"

	"github.com/google/renameio/v2"
)

// Mark begins the blank in an image, and Blank is how long the blank is, Mark included, in bytes: what is filled in, and
// spaces behind it.
const (
	Mark  = "yare-report-url:"
	Blank = 256
)

// Settings say where images are served.
type Settings struct {
	Listen string `yaml:"listen"` // host:port; with the port 0 one is chosen once, and kept
	URL    string `yaml:"url"`    // as BMCs reach it: https://…, or http://… for BMCs that take no certificate of ours; %p stands for the port
}

// Check holds the settings to what they must say.
func (s Settings) Check() error {
	if _, _, err := net.SplitHostPort(s.Listen); err != nil {
		return fmt.Errorf("images are served at host:port, not at %q", s.Listen)
	}
	u, err := url.Parse(strings.ReplaceAll(s.URL, "%p", "1"))
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" {
		return fmt.Errorf("the address at which BMCs reach images is one as https://192.0.2.10:8443, not %q", s.URL)
	}
	return nil
}

// Open gives a payload that was verified, by its SHA-256, as a file.
type Open func(file, sha256 string) (*os.File, error)

// Server serves the images of one round.
type Server struct {
	base string
	key  []byte
	open Open
	http *http.Server
	at   net.Listener

	mu      sync.Mutex
	offered map[string]offer  // by path
	reports map[string]Report // by token
	blanks  map[string]int64  // where each image's begins, by its hash
}

// offer is an image that is served.
type offer struct{ token, file, sha256 string }

// Report is what an image said last.
type Report struct {
	Percent int
	Says    string
	At      time.Time
}

// Serve begins to serve images, with what it keeps below dir: its certificate, the key of its addresses, and its port. An
// address that is taken is an error.
func Serve(dir string, s Settings, open Open) (*Server, error) {
	key, err := kept(filepath.Join(dir, "images.key"), func() ([]byte, error) {
		b := make([]byte, 32)
		_, err := rand.Read(b)
		return []byte(hex.EncodeToString(b)), err
	})
	if err != nil {
		return nil, err
	}
	l, err := listen(dir, s.Listen)
	if err != nil {
		return nil, fmt.Errorf("serving images: %w", err)
	}
	_, port, _ := net.SplitHostPort(l.Addr().String())
	out := &Server{base: strings.TrimRight(strings.ReplaceAll(s.URL, "%p", port), "/"), key: key, open: open, at: l,
		offered: map[string]offer{}, reports: map[string]Report{}, blanks: map[string]int64{}}
	out.http = &http.Server{Handler: out, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute,
		ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)}
	if strings.HasPrefix(s.URL, "http:") {
		go func() { _ = out.http.Serve(l) }() // it ends with Close
		return out, nil
	}
	u, err := url.Parse(out.base)
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	cert, err := selfsigned.Kept(filepath.Join(dir, "images.pem"), u.Hostname())
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	out.http.TLSConfig = &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	go func() { _ = out.http.ServeTLS(l, "", "") }() // likewise
	return out, nil
}

// listen takes the address; a port that is to be chosen is chosen once.
func listen(dir, at string) (net.Listener, error) {
	host, port, err := net.SplitHostPort(at)
	if err != nil || port != "0" {
		l, err := net.Listen("tcp", at)
		return l, err
	}
	name := filepath.Join(dir, "images.port")
	if old, err := os.ReadFile(name); err == nil {
		port = strings.TrimSpace(string(old))
	}
	l, err := net.Listen("tcp", net.JoinHostPort(host, port))
	if err != nil {
		return nil, err
	}
	_, port, _ = net.SplitHostPort(l.Addr().String())
	return l, renameio.WriteFile(name, []byte(port+"\n"), 0o600)
}

// Close ends it; what is being fetched breaks off.
func (s *Server) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = s.at.Close() // the server closes it too, once it has begun
	if s.http.Shutdown(ctx) != nil {
		return s.http.Close()
	}
	return nil
}

// token is the secret of a visit: the same each time, and known to nobody who has not the key.
func (s *Server) token(round, host string) string {
	m := hmac.New(sha256.New, s.key)
	fmt.Fprintf(m, "%s\n%s", round, host)
	return hex.EncodeToString(m.Sum(nil))[:32]
}

// URL is the address at which an image is served for a visit from now on.
func (s *Server) URL(round, host, file, sum string) string {
	token := s.token(round, host)
	path := "/" + token + "/" + url.PathEscape(filepath.Base(file))
	s.mu.Lock()
	defer s.mu.Unlock()
	s.offered[path] = offer{token, file, sum}
	return s.base + path
}

// Report is what the image of a visit said last.
func (s *Server) Report(round, host string) (Report, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r, ok := s.reports[s.token(round, host)]
	return r, ok
}

// maxReport is the longest report that is taken, in bytes.
const maxReport = 4 << 10

// ServeHTTP serves images and takes reports.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	s.mu.Lock()
	o, ok := s.offered[r.URL.EscapedPath()]
	token, isReport := strings.CutSuffix(strings.TrimPrefix(r.URL.Path, "/"), "/report")
	known := false
	for _, x := range s.offered {
		known = known || x.token == token
	}
	s.mu.Unlock()
	switch {
	case isReport && known && r.Method == http.MethodPost:
		s.report(w, r, token)
	case ok && (r.Method == http.MethodGet || r.Method == http.MethodHead):
		s.image(w, r, o)
	default:
		http.NotFound(w, r)
	}
}

// report takes what an image says: JSON with percent and says.
func (s *Server) report(w http.ResponseWriter, r *http.Request, token string) {
	var said struct {
		Percent float64 `json:"percent"`
		Says    string  `json:"says"`
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxReport))
	if err == nil {
		err = json.Unmarshal(body, &said)
	}
	if err != nil || said.Percent < 0 || said.Percent > 100 {
		http.Error(w, "a report is JSON with percent, 0 to 100, and says", http.StatusBadRequest)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.reports[token] = Report{int(said.Percent), said.Says[:min(len(said.Says), 200)], time.Now()}
	w.WriteHeader(http.StatusNoContent)
}

func (s *Server) image(w http.ResponseWriter, r *http.Request, o offer) {
	f, err := s.open(o.file, o.sha256)
	if err != nil {
		slog.Warn("an image can't be served", "file", o.file, "error", err)
		http.Error(w, "it can't be served", http.StatusInternalServerError)
		return
	}
	defer f.Close()
	is, err := f.Stat()
	s.mu.Lock()
	at, known := s.blanks[o.sha256]
	s.mu.Unlock()
	if err == nil && !known { // BMCs ask for a few blocks at a time
		at, err = find(f)
		s.mu.Lock()
		s.blanks[o.sha256] = at
		s.mu.Unlock()
	}
	if err != nil {
		http.Error(w, "it can't be served", http.StatusInternalServerError)
		return
	}
	var body io.ReadSeeker = f
	if at >= 0 {
		line := Mark + " " + s.base + "/" + o.token + "/report"
		body = &filled{f: f, size: is.Size(), at: at, with: []byte(line + strings.Repeat(" ", max(Blank-len(line), 0)))}
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	http.ServeContent(w, r, "", time.Time{}, body)
}

// find is where in a file the blank begins; -1 where there is none.
func find(f *os.File) (int64, error) {
	const block = 1 << 20
	buf, base := make([]byte, 0, block+len(Mark)), int64(0)
	for at := int64(0); ; {
		n, err := f.ReadAt(buf[len(buf) : len(buf)+block][:block], at)
		buf, at = buf[:len(buf)+n], at+int64(n)
		if i := bytes.Index(buf, []byte(Mark)); i >= 0 {
			return base + int64(i), nil
		}
		if errors.Is(err, io.EOF) {
			return -1, nil
		}
		if err != nil {
			return -1, err
		}
		keep := min(len(buf), len(Mark)-1)
		base += int64(len(buf) - keep)
		copy(buf, buf[len(buf)-keep:])
		buf = buf[:keep]
	}
}

// filled is a file whose blank is filled in.
type filled struct {
	f         io.ReaderAt
	size, at  int64
	with      []byte
	standsFor int64
}

func (x *filled) Read(p []byte) (int, error) {
	if x.standsFor >= x.size {
		return 0, io.EOF
	}
	n, err := x.f.ReadAt(p[:min(int64(len(p)), x.size-x.standsFor)], x.standsFor)
	for i := range n {
		if o := x.standsFor + int64(i) - x.at; o >= 0 && o < int64(len(x.with)) {
			p[i] = x.with[o]
		}
	}
	x.standsFor += int64(n)
	if n > 0 {
		err = nil
	}
	return n, err
}

func (x *filled) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += x.standsFor
	case io.SeekEnd:
		offset += x.size
	}
	if offset < 0 {
		return 0, fs.ErrInvalid
	}
	x.standsFor = offset
	return offset, nil
}

// kept is what a file holds, which is made where there is none.
func kept(name string, make func() ([]byte, error)) ([]byte, error) {
	b, err := os.ReadFile(name)
	if err == nil && len(b) > 0 {
		return b, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if b, err = make(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, err
	}
	return b, renameio.WriteFile(name, b, 0o600)
}
