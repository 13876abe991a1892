// Package redfish is a thin client for BMCs that speak Redfish (DMTF DSP0266): inventory, power, health, firmware updates by
// multipart push, and tasks. The BMC's certificate is pinned by its fingerprint; nothing is sent to one that shows another.
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
	"mime/multipart"
	"net/http"
	"net/textproto"
	"strings"
	"sync"
	"time"

	"yareharbour/connector"
)

// Client talks to one BMC. It is safe for concurrent use.
type Client struct {
	host     string // as the estate names it, for errors
	base     string
	user     string
	password string
	http     *http.Client

	mu    sync.Mutex
	token string
}

// New returns a client for the BMC of host at address (name:port). The fingerprint is the SHA-256 of its certificate, in hex.
func New(host, address, fingerprint, user, password string) *Client {
	pin := func(raw [][]byte, _ [][]*x509.Certificate) error {
		if len(raw) == 0 {
			return errors.New("the BMC shows no certificate")
		}
		sum := sha256.Sum256(raw[0])
		if got := hex.EncodeToString(sum[:]); got != fingerprint {
			return fmt.Errorf("the BMC shows a certificate with the fingerprint %s, and %s is pinned", got, fingerprint)
		}
		return nil
	}
	t := &http.Transport{
		// The pin takes the place of a chain of authorities: BMCs mostly sign for themselves.
		TLSClientConfig:     &tls.Config{InsecureSkipVerify: true, VerifyPeerCertificate: pin},
		MaxIdleConnsPerHost: 4,
		IdleConnTimeout:     time.Minute,
	}
	return &Client{host: host, base: "https://" + address, user: user, password: password, http: &http.Client{Transport: t, Timeout: 30 * time.Second}}
}

// Close forgets idle connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// refusal is an error that the BMC gave in words.
type refusal struct {
	status  int
	message string
}

func (r *refusal) Error() string { return r.message }

func (c *Client) wrap(doing string, err error) error {
	if err == nil {
		return nil
	}
	var said *refusal
	if !errors.As(err, &said) && !strings.Contains(err.Error(), "fingerprint") {
		return fmt.Errorf("%s: the BMC of %s %w (%v)", doing, c.host, connector.ErrUnreachable, unwrapURL(err))
	}
	return fmt.Errorf("%s on the BMC of %s: %w", doing, c.host, err)
}

func unwrapURL(err error) error {
	if inner := errors.Unwrap(err); inner != nil {
		return inner
	}
	return err
}

// get reads a resource.
func (c *Client) get(ctx context.Context, path string, into any) error {
	_, err := c.call(ctx, http.MethodGet, path, "", nil, into)
	return err
}

func (c *Client) post(ctx context.Context, path string, body, into any) error {
	b, err := json.Marshal(body)
	if err != nil {
		return err
	}
	_, err = c.call(ctx, http.MethodPost, path, "application/json", b, into)
	return err
}

// call makes a request in a session, and begins a new session once where the old one has ended.
func (c *Client) call(ctx context.Context, method, path, kind string, body []byte, into any) (http.Header, error) {
	for try := range 2 {
		token, err := c.session(ctx, try > 0)
		if err != nil {
			return nil, err
		}
		h, err := c.request(ctx, method, path, kind, body, token, into)
		if r, ok := err.(*refusal); ok && r.status == http.StatusUnauthorized && try == 0 {
			continue
		}
		return h, err
	}
	return nil, &refusal{http.StatusUnauthorized, "the session ended twice"}
}

func (c *Client) session(ctx context.Context, renew bool) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.token != "" && !renew {
		return c.token, nil
	}
	body, err := json.Marshal(map[string]string{"UserName": c.user, "Password": c.password})
	if err != nil {
		return "", err
	}
	h, err := c.request(ctx, http.MethodPost, "/redfish/v1/SessionService/Sessions", "application/json", body, "", nil)
	if err != nil {
		return "", err
	}
	if c.token = h.Get("X-Auth-Token"); c.token == "" {
		return "", &refusal{http.StatusOK, "the BMC gave no session token"}
	}
	return c.token, nil
}

func (c *Client) request(ctx context.Context, method, path, kind string, body []byte, token string, into any) (http.Header, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("OData-Version", "4.0")
	req.Header.Set("Accept", "application/json")
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	if token != "" {
		req.Header.Set("X-Auth-Token", token)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 16<<20))
	if err != nil {
		return nil, err
	}
	if resp.StatusCode >= 300 {
		return nil, &refusal{resp.StatusCode, message(resp.Status, b)}
	}
	if into != nil && len(b) > 0 {
		if err := json.Unmarshal(b, into); err != nil {
			return nil, &refusal{resp.StatusCode, "its answer is no JSON: " + err.Error()}
		}
	}
	return resp.Header, nil
}

// message takes what a Redfish error says in words, the most specific first.
func message(status string, body []byte) string {
	var e struct {
		Error struct {
			Message  string                     `json:"message"`
			Extended []struct{ Message string } `json:"@Message.ExtendedInfo"`
		} `json:"error"`
	}
	if json.Unmarshal(body, &e) == nil {
		for _, x := range e.Error.Extended {
			if x.Message != "" {
				return x.Message
			}
		}
		if e.Error.Message != "" {
			return e.Error.Message
		}
	}
	return status
}

// multipartPush makes the body of a multipart push of DSP0266: UpdateParameters as JSON, UpdateFile as octets.
func multipartPush(targets []string, file string, image []byte) (kind string, body []byte, err error) {
	var buf bytes.Buffer
	w := multipart.NewWriter(&buf)
	part := func(disposition, kind string, b []byte) error {
		p, err := w.CreatePart(textproto.MIMEHeader{"Content-Disposition": {disposition}, "Content-Type": {kind}})
		if err == nil {
			_, err = p.Write(b)
		}
		return err
	}
	params, err := json.Marshal(map[string]any{"Targets": targets, "@Redfish.OperationApplyTime": "Immediate"})
	if err != nil {
		return "", nil, err
	}
	err = errors.Join(part(`form-data; name="UpdateParameters"`, "application/json", params),
		part(fmt.Sprintf(`form-data; name="UpdateFile"; filename=%q`, file), "application/octet-stream", image), w.Close())
	return w.FormDataContentType(), buf.Bytes(), err
}
