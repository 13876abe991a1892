package sim

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"yareharbour/selfsigned"

	"github.com/google/renameio/v2"
)

// User is the login name at every simulated BMC.
const User = "operator"

// Address is how to reach a simulated estate: it is written to a file of its own, readable by its owner only, and holds
// the secret by which clients are known.
type Address struct {
	Host        string            `json:"host"`        // address:port of the host interface
	BMC         map[string]string `json:"bmc"`         // address:port of each host's BMC
	Fingerprint string            `json:"fingerprint"` // SHA-256 of the BMCs' certificate
	Secret      string            `json:"secret"`
}

// The files below the directory of a simulated estate.
const (
	addressFile = "address.json"
	WorldFile   = "world.json"
	certFile    = "bmc.pem"
)

// ReadAddress reads the address of the simulated estate in dir.
func ReadAddress(dir string) (Address, error) {
	var a Address
	b, err := os.ReadFile(filepath.Join(dir, addressFile))
	if err != nil {
		return a, err
	}
	return a, json.Unmarshal(b, &a)
}

// Server runs a World in real time.
type Server struct {
	dir     string
	held    *os.File // keeps other processes from simulating the same estate
	secret  string
	certs   sync.Mutex // of the BMCs' certificates while one is made
	mu      sync.Mutex
	world   *World
	base    time.Time // the world's time at since
	since   time.Time
	speed   float64
	used    atomic.Int64 // unix seconds of the last request
	servers []*http.Server
	end     func() // ends the simulation as the context's end would
	power   func(host string, on bool) error
	saved   int
}

// Options of a server.
type Options struct {
	Dir   string
	Speed float64
	Idle  time.Duration // ends by itself after so long without a request and without a running task; 0: never
	New   func() *World // makes the world where the directory holds none
	// Power switches the power of machines that are real and have their BMCs here; nil where all of the estate is
	// simulated.
	Power func(host string, on bool) error
}

// Start serves the world of a directory on loopback, until the context ends or nobody has asked for long. It returns
// after the address file is written; wait returns when it has ended and the world is saved.
func Start(ctx context.Context, o Options) (wait func() error, err error) {
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return nil, err
	}
	lock, err := lockDir(o.Dir)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, lock.Close())
		}
	}()
	s := &Server{dir: o.Dir, held: lock, speed: o.Speed, secret: rand.Text(), power: o.Power}
	if err := s.load(o.New); err != nil {
		return nil, err
	}
	s.base, s.since = s.world.Now, time.Now()
	s.used.Store(time.Now().Unix())
	a, err := s.listen()
	if err != nil {
		return nil, err
	}
	if err := writeJSON(filepath.Join(o.Dir, addressFile), a); err != nil {
		return nil, err
	}
	ctx, s.end = context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() { done <- s.keep(ctx, o.Idle) }()
	return func() error { return <-done }, nil
}

// lockDir takes the directory for this process; the kernel gives it back when the process ends, however it does.
func lockDir(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("another process simulates the estate of %s already", dir), f.Close())
	}
	return f, nil
}

func (s *Server) load(make func() *World) error {
	b, err := os.ReadFile(filepath.Join(s.dir, WorldFile))
	if errors.Is(err, os.ErrNotExist) {
		s.world = make()
		return s.save()
	}
	if err != nil {
		return err
	}
	s.world = &World{}
	if err := json.Unmarshal(b, s.world); err != nil {
		return fmt.Errorf("reading the simulated estate: %s: %w; remove the file to start over",
			filepath.Join(s.dir, WorldFile), err)
	}
	return nil
}

func writeJSON(path string, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return renameio.WriteFile(path, b, 0o600)
}

func (s *Server) save() error { return writeJSON(filepath.Join(s.dir, WorldFile), s.world) }

// lock takes the world and brings it to the present.
func (s *Server) lock() {
	s.mu.Lock()
	s.world.Advance(s.now())
	s.used.Store(time.Now().Unix())
}

// unlock saves the world if the call changed it, before anybody is answered: what was accepted is not forgotten if this
// process dies.
func (s *Server) unlock() {
	defer s.mu.Unlock()
	for _, t := range s.world.Tell {
		go t.post()
	}
	s.world.Tell = nil
	if n := s.world.Acted + s.world.Serial; n != s.saved {
		s.saved = n
		if err := s.save(); err != nil {
			slog.Error("saving the simulated estate", "error", err)
		}
	}
}

func (s *Server) now() time.Time {
	return s.base.Add(time.Duration(float64(time.Since(s.since)) * s.speed))
}

// Latencies of the two interfaces, in the estate's time.
const (
	hostLatency = 250 * time.Millisecond
	bmcLatency  = 60 * time.Millisecond
)

// lag lets the latency of an answer pass.
func (s *Server) lag(d time.Duration) {
	s.mu.Lock()
	speed := s.speed
	s.mu.Unlock()
	time.Sleep(time.Duration(float64(d) / max(speed, 0.01)))
}

func (s *Server) setSpeed(speed float64) {
	s.base, s.since, s.speed = s.now(), time.Now(), speed
}

// keep saves now and then, and ends when told to or unused.
func (s *Server) keep(ctx context.Context, idle time.Duration) error {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return s.close()
		case <-tick.C:
		}
		s.mu.Lock()
		s.world.Advance(s.now())
		err := s.save()
		busy := slices.ContainsFunc(s.world.Tasks, func(t *Task) bool { return t.State == "running" })
		s.mu.Unlock()
		if err != nil {
			slog.Error("saving the simulated estate", "error", err)
		}
		if idle > 0 && !busy && time.Now().Unix()-s.used.Load() > int64(idle.Seconds()) {
			return s.close()
		}
	}
}

func (s *Server) close() error {
	s.end()
	patience, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	for _, srv := range s.servers {
		if srv.Shutdown(patience) != nil { // whoever is being answered still gets the answer
			_ = srv.Close()
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.world.Advance(s.now())
	return errors.Join(s.save(), os.Remove(filepath.Join(s.dir, addressFile)), s.held.Close())
}

func (s *Server) listen() (Address, error) {
	cert, err := s.certificate(certFile)
	if err != nil {
		return Address{}, err
	}
	sum := sha256.Sum256(cert.Certificate[0])
	a := Address{BMC: map[string]string{}, Fingerprint: hex.EncodeToString(sum[:]), Secret: s.secret}
	if a.Host, err = s.serve(hostInterface(s), nil); err != nil {
		return a, err
	}
	for name := range s.world.Hosts {
		b := &bmc{sim: s, host: name}
		if a.BMC[name], err = s.serve(b.sinceStart(b.handler()), func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return s.shows(name) }); err != nil {
			return a, err
		}
	}
	return a, nil
}

func (s *Server) serve(h http.Handler, cert func(*tls.ClientHelloInfo) (*tls.Certificate, error)) (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second,
		ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelError)}
	s.servers = append(s.servers, srv)
	if cert == nil {
		go func() { _ = srv.Serve(l) }()
	} else {
		srv.TLSConfig = &tls.Config{GetCertificate: cert}
		srv.TLSNextProto = map[string]func(*http.Server, *tls.Conn, http.Handler){} // a connection that is cut is cut whole
		srv.ConnContext = func(ctx context.Context, _ net.Conn) context.Context {
			return context.WithValue(ctx, opened{}, &connection{})
		}
		go func() { _ = srv.ServeTLS(l, "", "") }()
	}
	return l.Addr().String(), nil
}

// connection is one to a BMC, with the start of the BMC after which it was opened; opened is what it is found by.
type (
	opened     struct{}
	connection struct {
		once  sync.Once
		start time.Time
	}
)

// sinceStart cuts connections that were opened before the BMC started last: no connection survives its restart.
func (b *bmc) sinceStart(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b.sim.lock()
		start := b.sim.world.Hosts[b.host].BMCReset
		b.sim.unlock()
		if c, is := r.Context().Value(opened{}).(*connection); is {
			c.once.Do(func() { c.start = start })
			if !c.start.Equal(start) {
				panic(http.ErrAbortHandler)
			}
		}
		h.ServeHTTP(w, r)
	})
}

// shows is the certificate that a host's BMC shows.
func (s *Server) shows(host string) (*tls.Certificate, error) {
	s.lock()
	file := s.world.Hosts[host].certFile()
	s.unlock()
	s.certs.Lock()
	defer s.certs.Unlock()
	c, err := s.certificate(file)
	return &c, err
}

// certFile is where that is kept: the one of all, or, once the BMC has made itself another, its own.
func (h *Host) certFile() string {
	if h.Renewed == 0 {
		return certFile
	}
	return fmt.Sprintf("bmc-%s-%d.pem", h.Name, h.Renewed)
}

// certificate returns the BMCs' own self-signed certificate, made at the first start and kept: its fingerprint is
// pinned.
func (s *Server) certificate(file string) (tls.Certificate, error) {
	return selfsigned.Kept(filepath.Join(s.dir, file), "127.0.0.1")
}

// limitBody is the largest payload that a simulated host takes.
const limitBody = 64 << 20

func readBody(w http.ResponseWriter, r *http.Request) ([]byte, error) {
	return io.ReadAll(http.MaxBytesReader(w, r.Body, limitBody))
}
