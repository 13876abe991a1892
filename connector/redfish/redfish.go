// Package redfish is a thin client for BMCs that speak Redfish (DMTF DSP0266), whoever made them: inventory, power,
// health, firmware updates by multipart push, and tasks. Everything is found through links from the service root, and
// every page of a collection is read. The BMC's certificate is verified by roots, or pinned by its fingerprint. A
// secret goes to that one address and nowhere else: no redirect is followed with it.
package redfish

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"yareharbour/connector"
	"yareharbour/format/bounds"
)

// Target is a BMC and how it is known.
type Target struct {
	At          string // name:port
	User        string
	Fingerprint string         // SHA-256 of its certificate, in hex; empty: verified by roots
	Roots       *x509.CertPool // nil: the machine's own
	// Again returns the fingerprint of a certificate that is trusted instead, since the BMC has made itself another; "" for
	// none. It may be nil.
	Again func() string
	// inventory id or model → component, and device in parentheses, as "fw:skerry-raid (bay 1)"
	Names map[string]string
}

// root is where every Redfish service begins (DSP0266, "Service root request").
const root = "/redfish/v1/"

// maxAnswer is the longest answer that is read, in bytes.
const maxAnswer = 4 << 20

// Client talks to one BMC. It is safe for concurrent use.
type Client struct {
	host     string // as the estate names it, for errors
	base     *url.URL
	target   Target
	password string
	http     *http.Client

	mu      sync.Mutex
	started service // what the root says; empty: not asked yet
	login   login
}

// New returns a client for the BMC of host.
func New(host string, t Target, password string) *Client {
	transport := &http.Transport{
		TLSClientConfig:       t.tls(),
		MaxIdleConnsPerHost:   2,
		MaxConnsPerHost:       2, // more make some BMCs stumble, and each costs a handshake
		IdleConnTimeout:       time.Minute,
		TLSHandshakeTimeout:   5 * time.Second,
		ResponseHeaderTimeout: 20 * time.Second,
		DialContext:           (&net.Dialer{Timeout: 5 * time.Second}).DialContext,
	}
	stay := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &Client{host: host, base: &url.URL{Scheme: "https", Host: t.At}, target: t, password: password,
		http: &http.Client{Transport: transport, Timeout: 30 * time.Second, CheckRedirect: stay}}
}

// tls verifies by roots; a pin takes the place of a chain of authorities, for BMCs mostly sign for themselves.
func (t Target) tls() *tls.Config {
	pinned := func() string {
		if t.Again != nil {
			if f := t.Again(); f != "" {
				return f
			}
		}
		return t.Fingerprint
	}
	if pinned() == "" {
		return &tls.Config{RootCAs: t.Roots, MinVersion: tls.VersionTLS12, CurvePreferences: curves}
	}
	// also of a session that is resumed
	return &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12, CurvePreferences: curves,
		VerifyConnection: func(s tls.ConnectionState) error {
			if len(s.PeerCertificates) == 0 {
				return errors.New("the BMC shows no certificate")
			}
			if got, want := shown(s), pinned(); got != want {
				return &untrusted{fmt.Sprintf("the BMC shows a certificate with the fingerprint %s, and %s is pinned", got, want)}
			}
			return nil
		}}
}

// shown is the fingerprint of the certificate that the other end of a connection shows.
func shown(s tls.ConnectionState) string {
	sum := sha256.Sum256(s.PeerCertificates[0].Raw)
	return hex.EncodeToString(sum[:])
}

// Shown is the fingerprint of the certificate that a BMC shows at an address, or by a connection that dial makes. It
// proves nothing by itself.
func Shown(ctx context.Context, at string, dial func(ctx context.Context, network, at string) (net.Conn, error)) (string, error) {
	conn, err := dial(ctx, "tcp", at)
	if err != nil {
		return "", err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	c := tls.Client(conn, &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12, CurvePreferences: curves})
	if err := c.HandshakeContext(ctx); err != nil {
		return "", err
	}
	return shown(c.ConnectionState()), nil
}

// Knows returns an error where the certificate of that fingerprint is not trusted, and why.
func (t Target) Knows(ctx context.Context) error {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", t.At)
	if err != nil {
		return err
	}
	defer conn.Close()
	config := t.tls()
	config.ServerName, _, _ = net.SplitHostPort(t.At)
	return tls.Client(conn, config).HandshakeContext(ctx)
}

// curves are those that BMCs know. The larger keys that are offered beside them otherwise make a greeting of two
// packets, which some BMCs do not understand.
var curves = []tls.CurveID{tls.X25519, tls.CurveP256, tls.CurveP384}

// untrusted is a certificate that is not the BMC's.
type untrusted struct{ why string }

func (u *untrusted) Error() string { return u.why }

// distrust tells whether the certificate is why nothing was sent.
func distrust(err error) bool {
	var pin *untrusted
	var chain *tls.CertificateVerificationError
	return errors.As(err, &pin) || errors.As(err, &chain)
}

// refusal is an error that the BMC gave in words.
type refusal struct {
	status  int
	message string
	ids     string // of its messages
}

func (r *refusal) Error() string { return r.message }

// refused tells whether the BMC answered with one of the codes.
func refused(err error, codes ...int) bool {
	var r *refusal
	if !errors.As(err, &r) {
		return false
	}
	for _, c := range codes {
		if r.status == c {
			return true
		}
	}
	return false
}

func (c *Client) wrap(doing string, err error) error {
	var said *refusal
	switch {
	case err == nil:
		return nil
	case distrust(err):
		return fmt.Errorf("%s on the BMC of %s: %w; \"yare host trust %s\" asks the host itself whose it is", doing, c.host, unwrapURL(err), c.host)
	case errors.As(err, &said), errors.Is(err, connector.ErrLapsed):
		return fmt.Errorf("%s on the BMC of %s: %w", doing, c.host, unwrapURL(err))
	}
	return fmt.Errorf("%s: the BMC of %s %w (%v)", doing, c.host, connector.ErrUnreachable, unwrapURL(err))
}

func unwrapURL(err error) error {
	var outer *url.Error
	if errors.As(err, &outer) {
		return outer.Err
	}
	return err
}

// get reads a resource.
func (c *Client) get(ctx context.Context, at string, into any) error {
	_, err := c.call(ctx, http.MethodGet, at, "", nil, into)
	return err
}

func (c *Client) post(ctx context.Context, at string, body, into any) error {
	b, err := json.Marshal(body)
	if err != nil {
		return err
	}
	_, err = c.call(ctx, http.MethodPost, at, "application/json", b, into)
	return err
}

// send asks for a change, if the order still stands at the very moment.
func (c *Client) send(ctx context.Context, o connector.Order, method, at string, body any) error {
	b, err := json.Marshal(body)
	if err != nil {
		return err
	}
	tag := ""
	if method == http.MethodPatch { // some services change only what was seen as it is (DSP0266, "ETags")
		h, err := c.call(ctx, http.MethodGet, at, "", nil, nil)
		if err != nil {
			return err
		}
		tag = h.Get("ETag")
	}
	_, err = c.callIf(ctx, o.Still, tag, method, at, "application/json", b, nil)
	return err
}

// call makes a request as the one who logged in, and logs in anew once where the session has ended.
func (c *Client) call(ctx context.Context, method, at, kind string, body []byte, into any) (http.Header, error) {
	return c.callIf(ctx, func() error { return nil }, "", method, at, kind, body, into)
}

// callIf makes a call if it still may be made at the very moment: logging in takes its time. With a tag the service carries
// it out only where the resource is as it was then.
func (c *Client) callIf(ctx context.Context, still func() error, tag, method, at, kind string, body []byte,
	into any) (http.Header, error) {
	for try := 0; ; try++ {
		auth, err := c.authorize(ctx, try > 0)
		if err == nil {
			err = still()
		}
		if err != nil {
			return nil, err
		}
		if tag != "" {
			auth.Set("If-Match", tag)
		}
		h, err := c.request(ctx, method, at, kind, body, auth, into)
		if try == 0 && auth.Get("X-Auth-Token") != "" && refused(err, http.StatusUnauthorized) {
			continue
		}
		return h, err
	}
}

// busyTries and busyWait bound how often and how long, each time, we wait for a BMC that asks for it (Retry-After).
const (
	busyTries = 3
	busyWait  = 5 * time.Second
)

// request makes a request, and again after a while where the BMC says that it is busy and nothing was asked to be
// changed.
func (c *Client) request(ctx context.Context, method, at, kind string, body []byte, auth http.Header,
	into any) (http.Header, error) {
	for try := 1; ; try++ {
		h, err := c.once(ctx, method, at, kind, body, auth, into)
		if try == busyTries || method != http.MethodGet ||
			!refused(err, http.StatusServiceUnavailable, http.StatusTooManyRequests) {
			return h, err
		}
		wait := time.Second
		if s, perr := strconv.Atoi(h.Get("Retry-After")); perr == nil && s >= 0 {
			wait = min(time.Duration(s)*time.Second, busyWait)
		}
		if serr := pause(ctx, wait); serr != nil {
			return h, err
		}
	}
}

// where resolves a link. One that leads to another service is refused: the secret is for this one.
func (c *Client) where(at string) (*url.URL, error) {
	u, err := c.base.Parse(at)
	if err != nil {
		return nil, &refusal{message: "it links to " + strconv.Quote(at) + ", which is no address"}
	}
	if u.Scheme != c.base.Scheme || !strings.EqualFold(u.Host, c.base.Host) {
		return nil, &refusal{message: fmt.Sprintf("it links to %s, which is another service than %s",
			u.Host, c.base.Host)}
	}
	u.Fragment = ""
	return u, nil
}

func (c *Client) once(ctx context.Context, method, at, kind string, body []byte, auth http.Header,
	into any) (http.Header, error) {
	u, err := c.where(at)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, method, u.String(), bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("OData-Version", "4.0")
	req.Header.Set("Accept", "application/json")
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	for k, v := range auth {
		req.Header[k] = v
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, maxAnswer+1))
	if err != nil {
		return nil, err
	}
	switch {
	case len(b) > maxAnswer:
		return nil, &refusal{status: resp.StatusCode,
			message: fmt.Sprintf("%s answers with more than %d MiB", u.Path, maxAnswer>>20)}
	case resp.StatusCode >= 300 && resp.StatusCode < 400:
		return nil, &refusal{status: resp.StatusCode,
			message: fmt.Sprintf("%s leads on to %s, which is not followed", u.Path,
				strconv.Quote(resp.Header.Get("Location")))}
	case resp.StatusCode >= 400:
		text, ids := message(resp.Status, b)
		return resp.Header, &refusal{status: resp.StatusCode, message: text, ids: ids}
	}
	if method == http.MethodGet && into != nil && len(bytes.TrimSpace(b)) == 0 { // else all that it does not say would be absent
		return nil, &refusal{status: resp.StatusCode, message: u.Path + " is answered with nothing"}
	}
	if into != nil && len(b) > 0 {
		if err := bounds.Unmarshal(b, into, bounds.Usual); err != nil {
			return nil, &refusal{status: resp.StatusCode,
				message: fmt.Sprintf("%s is answered with %s, not with what Redfish says (%v)", u.Path,
					kindOf(resp.Header, b), err)}
		}
	}
	return resp.Header, nil
}

// kindOf says what an answer is that is no JSON.
func kindOf(h http.Header, b []byte) string {
	if t := h.Get("Content-Type"); t != "" && !strings.Contains(t, "json") {
		return strconv.Quote(t)
	}
	return strconv.Quote(string(b[:min(len(b), 40)]))
}

// message takes what a Redfish error says in words, the most specific first, and the ids of its messages (DSP0266,
// "Error responses").
func message(status string, body []byte) (text, ids string) {
	var e struct {
		Error struct {
			Code, Message string
			Extended      []struct{ MessageID, Message string } `json:"@Message.ExtendedInfo"`
		} `json:"error"`
	}
	if bounds.Unmarshal(body, &e, bounds.Usual) != nil {
		return status, ""
	}
	ids = e.Error.Code
	for _, x := range e.Error.Extended {
		ids += " " + x.MessageID
		if text == "" {
			text = x.Message
		}
	}
	if text == "" {
		text = e.Error.Message
	}
	if text == "" {
		text = status
	}
	return text, ids
}

// pause waits for d, or until the context ends, and then returns its error.
func pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}
