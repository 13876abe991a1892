package feed

import (
	"cmp"
	"context"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"yareharbour/payload"
)

// Limits of what is fetched.
const (
	maxTries = 5
	// by kind of file, in bytes: what says something, what lists packages or firmware, and what is installed
	maxWords    = 64 << 20
	maxListing  = 1 << 30
	maxPayload  = 32 << 30
	usualIdle   = 30 * time.Second // without a byte, before an answer counts as stalled
	usualWhole  = 30 * time.Minute // for one file of words or a listing, all tries together
	wholePerGiB = 30 * time.Minute // more for each GiB of a payload
)

// errStalled is what an answer gives in which nothing comes any more.
var errStalled = errors.New("the answer stalled")

// note is what is known of a file that was fetched, for asking whether there is a newer one.
type note struct {
	ETag     string `json:"etag,omitempty"`
	Modified string `json:"modified,omitempty"` // Last-Modified, as the server wrote it
	SHA256   string `json:"sha256"`
	Size     int64  `json:"size"`
}

// want is a file that is to be had. A file with a hash is the one only with that hash; one without is asked for anew
// each time.
type want struct {
	path   string // in the generation
	from   string // at the source; empty: path
	sha256 string
	sha512 string // where its source vouches for that in place of a SHA-256
	size   int64  // bytes; zero: not known
	most   int64  // bytes; zero: maxWords
	absent bool   // it may be missing
}

// limit is how many bytes the file may have.
func (w want) limit() int64 {
	if w.size > 0 {
		return w.size
	}
	return cmp.Or(w.most, maxWords)
}

// fetcher brings files of one feed into the next generation.
type fetcher struct {
	feed     Feed
	client   *http.Client
	next     string          // directory
	current  string          // directory; empty where there is none
	had      map[string]note // of the current generation
	notes    map[string]note // of the next
	progress func(Progress)
	state    Progress
	wait     backoff.BackOff // between tries
	idle     time.Duration
	whole    time.Duration
}

// errAbsent is what a file that may be missing gives when it is.
var errAbsent = errors.New("it is not there")

// client is an HTTP client by the feed's proxy, with time limits for everything but the body.
func client(f Feed) (*http.Client, error) {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.ResponseHeaderTimeout = 60 * time.Second
	t.DisableCompression = true // hashes are of the bytes as they are
	if f.Proxy != "" {
		u, err := url.Parse(f.Proxy)
		if err != nil || u.Host == "" {
			return nil, fmt.Errorf("the proxy %q is no URL", Shown(f.Proxy))
		}
		t.Proxy = http.ProxyURL(u)
	}
	inward, err := f.inward(t.Proxy)
	if err != nil {
		return nil, err
	}
	t.TLSHandshakeTimeout, t.DialContext = 15*time.Second,
		(&net.Dialer{Timeout: 15 * time.Second, KeepAlive: 15 * time.Second, Control: inward.dial}).DialContext
	return &http.Client{Transport: t, CheckRedirect: func(req *http.Request, via []*http.Request) error {
		switch {
		case inward.names(req.Context(), req.URL.Hostname()):
			return fmt.Errorf("it is redirected to %s, which is this machine or its own link: a feed from elsewhere "+
				"leads there in no good faith", req.URL.Redacted())
		case len(via) >= 10:
			return errors.New("it is redirected in a circle, or more than 10 times")
		case req.URL.Scheme != "http" && req.URL.Scheme != "https":
			return fmt.Errorf("it is redirected to %s, which is neither http nor https", req.URL.Redacted())
		case via[0].URL.Scheme == "https" && req.URL.Scheme != "https" && !f.Allows(PlainRedirects):
			return fmt.Errorf("it is redirected from https to %s, where anybody on the way can change it; \"allow: "+
				"[%s]\" for this feed in the estate file permits that", req.URL.Redacted(), PlainRedirects)
		}
		return nil
	}}, nil
}

// get brings a file into the next generation and returns where it lies there. What the current generation has already
// is not fetched again.
func (f *fetcher) get(ctx context.Context, w want) (string, error) {
	to := filepath.Join(f.next, filepath.FromSlash(w.path))
	f.state.File = w.path
	f.tell()
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return "", err
	}
	if w.sha256 != "" {
		if n, ok := f.had[w.path]; ok && n.SHA256 == w.sha256 && f.keep(w.path, to) == nil {
			f.notes[w.path] = n
			return to, f.done(n.Size)
		}
		if n, err := hashFile(to); err == nil && n.SHA256 == w.sha256 { // from a sync that was interrupted
			f.notes[w.path] = n
			return to, f.done(n.Size)
		}
	}
	n, err := f.fetch(ctx, w, to)
	if errors.Is(err, errAbsent) && w.absent {
		return "", err
	}
	if errors.Is(err, errAbsent) {
		return "", fmt.Errorf("%s is missing there", f.place(w))
	}
	if err != nil {
		return "", fmt.Errorf("%s: %w", f.place(w), err)
	}
	if w.sha512 != "" {
		if got, err := sumFile(to, sha512.New()); err != nil || got != w.sha512 {
			_ = os.Remove(to)
			return "", errors.Join(err,
				fmt.Errorf("%s has the SHA-512 %s and should have %s: it is damaged, or its mirror is between two "+
					"states; try again later", f.place(w), got, w.sha512))
		}
	}
	if w.sha256 != "" && n.SHA256 != w.sha256 {
		_ = os.Remove(to)
		return "", fmt.Errorf("%s has the SHA-256 %s and should have %s: it is damaged, or its mirror is between two "+
			"states; try again later", f.place(w), n.SHA256, w.sha256)
	}
	f.notes[w.path] = n
	return to, f.done(0)
}

// place is where a file is, as it is shown; address is where it is asked for, perhaps with a password.
func (f *fetcher) place(w want) string { return Shown(f.address(w)) }

func (f *fetcher) address(w want) string {
	from := w.from
	if from == "" {
		from = w.path
	}
	return strings.TrimSuffix(f.feed.At, "/") + "/" + from
}

func (f *fetcher) done(reused int64) error {
	f.state.Files++
	f.state.Bytes += reused
	f.tell()
	return nil
}

func (f *fetcher) tell() {
	if f.progress != nil {
		f.progress(f.state)
	}
}

// keep takes a file over from the current generation.
func (f *fetcher) keep(name, to string) error {
	if f.current == "" {
		return errAbsent
	}
	if err := os.Remove(to); err != nil && !errors.Is(err, os.ErrNotExist) { // left by a sync that was interrupted
		return err
	}
	return os.Link(filepath.Join(f.current, filepath.FromSlash(name)), to)
}

func (f *fetcher) fetch(ctx context.Context, w want, to string) (note, error) {
	if !f.feed.Remote() {
		return f.copy(ctx, w, to)
	}
	whole := cmp.Or(f.whole, usualWhole) + time.Duration(max(0, w.limit()-maxListing)>>30)*wholePerGiB
	ctx, cancel := context.WithTimeoutCause(ctx, whole, fmt.Errorf("it took longer than %s", whole))
	defer cancel()
	n, err := backoff.Retry(ctx, func() (note, error) {
		return f.try(ctx, w, to)
	}, backoff.WithBackOff(f.wait), backoff.WithMaxTries(maxTries))
	var p *backoff.PermanentError
	if errors.As(err, &p) {
		err = p.Unwrap()
	}
	if errors.Is(err, context.DeadlineExceeded) {
		err = context.Cause(ctx)
	}
	return n, err
}

// copy takes a file from a directory.
func (f *fetcher) copy(ctx context.Context, w want, to string) (note, error) {
	from := w.from
	if from == "" {
		from = w.path
	}
	name := filepath.Join(f.feed.At, filepath.FromSlash(from))
	st, err := os.Stat(name)
	if errors.Is(err, os.ErrNotExist) {
		return note{}, errAbsent
	}
	if err == nil && !st.Mode().IsRegular() {
		return note{}, errors.New("it is no regular file")
	}
	if err == nil && st.Size() > w.limit() {
		return note{}, fmt.Errorf("it is %d bytes long, and %d are the most for a file of its kind",
			st.Size(), w.limit())
	}
	if err != nil {
		return note{}, err
	}
	src, err := os.Open(name)
	if err != nil {
		return note{}, err
	}
	defer src.Close()
	// it may be one file with that of the current generation, which must stay as it is
	if err := os.Remove(to); err != nil && !errors.Is(err, os.ErrNotExist) {
		return note{}, err
	}
	dst, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return note{}, err
	}
	_, err = io.Copy(dst, &counting{ctx, src, f, nil})
	if err = errors.Join(err, dst.Close()); err != nil {
		return note{}, err
	}
	return hashFile(to)
}

// try asks for a file once. What an earlier try left is gone on with, where the server has the same file still.
func (f *fetcher) try(ctx context.Context, w want, to string) (note, error) {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	idle := cmp.Or(f.idle, usualIdle)
	// connecting and shaking hands takes its own time
	watch := time.AfterFunc(idle+15*time.Second, func() {
		stop(fmt.Errorf("%w: nothing came for %s", errStalled, idle))
	})
	defer watch.Stop()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, f.address(w), nil)
	if err != nil {
		return note{}, backoff.Permanent(err)
	}
	part := to + ".part"
	held := f.ask(req, w, part)
	resp, err := f.client.Do(req)
	if err != nil {
		return note{}, explain(ctx, err)
	}
	defer resp.Body.Close()
	watch.Reset(idle)
	switch {
	case resp.StatusCode == http.StatusNotModified:
		n := f.had[w.path]
		return n, errors.Join(f.keep(w.path, to), f.counted(n.Size))
	case resp.StatusCode == http.StatusPartialContent && held > 0:
	case resp.StatusCode == http.StatusOK:
		held = 0
	default:
		return note{}, status(resp)
	}
	if err := f.save(ctx, resp, w, part, held, func() { watch.Reset(idle) }); err != nil {
		return note{}, err
	}
	n, err := hashFile(part)
	if err != nil {
		return n, backoff.Permanent(err)
	}
	n.ETag, n.Modified = resp.Header.Get("ETag"), resp.Header.Get("Last-Modified")
	_ = os.Remove(part + ".json")
	return n, os.Rename(part, to)
}

func (f *fetcher) counted(n int64) error {
	f.state.Bytes += n
	return nil
}

// ask makes the request a conditional one, or one for the rest of what is there in part, of which it returns the size.
func (f *fetcher) ask(req *http.Request, w want, part string) int64 {
	req.Header.Set("User-Agent", "yare")
	if st, err := os.Stat(part); err == nil && st.Size() > 0 {
		var n note
		if b, err := os.ReadFile(part + ".json"); err == nil && json.Unmarshal(b, &n) == nil &&
			(n.ETag != "" || n.Modified != "") {
			validator := n.ETag
			// a weak one does not vouch for bytes (RFC 9110, 13.1.5)
			if validator == "" || strings.HasPrefix(validator, "W/") {
				validator = n.Modified
			}
			if validator != "" {
				req.Header.Set("Range", fmt.Sprintf("bytes=%d-", st.Size()))
				req.Header.Set("If-Range", validator)
				return st.Size()
			}
		}
	}
	if n, ok := f.had[w.path]; ok && w.sha256 == "" && f.current != "" {
		if n.ETag != "" {
			req.Header.Set("If-None-Match", n.ETag)
		} else if n.Modified != "" {
			req.Header.Set("If-Modified-Since", n.Modified)
		}
	}
	return 0
}

// save writes the body behind what is held already. What breaks off stays, for the next try.
func (f *fetcher) save(ctx context.Context, resp *http.Response, w want, part string, held int64, heard func()) error {
	total := resp.ContentLength
	if total >= 0 {
		total += held
	}
	if total > w.limit() {
		return backoff.Permanent(fmt.Errorf("it is %d bytes long, and should be no more than %d", total, w.limit()))
	}
	n, err := json.Marshal(note{ETag: resp.Header.Get("ETag"), Modified: resp.Header.Get("Last-Modified")})
	if err == nil {
		err = os.WriteFile(part+".json", n, 0o600)
	}
	if err != nil {
		return backoff.Permanent(err)
	}
	flags := os.O_CREATE | os.O_WRONLY
	if held == 0 {
		flags |= os.O_TRUNC
	} else {
		flags |= os.O_APPEND
		f.state.Bytes += held
	}
	file, err := os.OpenFile(part, flags, 0o600)
	if err != nil {
		return backoff.Permanent(err)
	}
	f.state.Total = max(f.state.Total, f.state.Bytes+max(0, total-held))
	most := w.limit() - held
	before := f.state.Bytes
	got, err := io.Copy(file, io.LimitReader(&counting{ctx, resp.Body, f, heard}, most+1))
	err = errors.Join(err, file.Close())
	switch {
	case err != nil:
		f.state.Bytes = before - held
		return explain(ctx, err)
	case got > most:
		_ = os.Remove(part) // there is nothing to resume
		return backoff.Permanent(fmt.Errorf("it is longer than %d bytes, which is the most that it should be",
			w.limit()))
	case total >= 0 && held+got < total:
		f.state.Bytes = before - held
		return fmt.Errorf("it broke off after %d of %d bytes", held+got, total)
	}
	return nil
}

// counting counts bytes as they are read, and ends when the context does.
type counting struct {
	ctx   context.Context
	r     io.Reader
	f     *fetcher
	heard func() // is told when something came
}

func (c *counting) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := c.r.Read(p)
	if n > 0 && c.heard != nil {
		c.heard()
	}
	c.f.state.Bytes += int64(n)
	c.f.tell()
	return n, err
}

// explain names the stage at which a request failed; a cancelled one is not tried again, one that stalled is.
func explain(ctx context.Context, err error) error {
	if cause := context.Cause(ctx); errors.Is(cause, errStalled) {
		return cause
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return backoff.Permanent(err)
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	text := err.Error()
	switch {
	case strings.Contains(text, "it is redirected"):
		return backoff.Permanent(err)
	case strings.Contains(text, "x509") || strings.Contains(text, "tls:"):
		return backoff.Permanent(fmt.Errorf("the server's certificate or TLS: %w", err))
	case strings.Contains(text, "no such host"):
		return fmt.Errorf("the name can't be resolved: %w", err)
	case strings.Contains(text, "proxyconnect"):
		return fmt.Errorf("the proxy: %w", err)
	case strings.Contains(text, "connection refused"):
		return fmt.Errorf("nobody listens there: %w", err)
	}
	return err
}

// status turns an answer that is not the file into an error; what may pass is tried again.
func status(resp *http.Response) error {
	err := fmt.Errorf("the server answers %s", resp.Status)
	switch c := resp.StatusCode; {
	case c == http.StatusNotFound || c == http.StatusGone:
		return backoff.Permanent(errAbsent)
	case c == http.StatusUnauthorized || c == http.StatusForbidden:
		return backoff.Permanent(fmt.Errorf("%w: it wants a login, or does not let us in", err))
	case c == http.StatusProxyAuthRequired:
		return backoff.Permanent(fmt.Errorf("%w: the proxy wants a login", err))
	case c == http.StatusTooManyRequests || c == http.StatusServiceUnavailable:
		if s, e := strconv.Atoi(resp.Header.Get("Retry-After")); e == nil && s > 0 && s <= 60 {
			return backoff.RetryAfter(s)
		}
		return err
	case c >= 500:
		return err
	}
	return backoff.Permanent(err)
}

func hashFile(name string) (note, error) {
	sum, n, err := payload.SumOf(name)
	return note{SHA256: sum, Size: n}, err
}

func sumFile(name string, h hash.Hash) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	_, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), err
}

// inside refuses a path that leads out of a feed.
func inside(name string) error {
	if name == "" || path.IsAbs(name) || strings.Contains(name, "://") || strings.ContainsAny(name, "\\\x00") ||
		strings.HasPrefix(path.Clean(name), "..") {
		return fmt.Errorf("%q leads out of the feed", name)
	}
	return nil
}
