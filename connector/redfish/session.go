package redfish

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"
)

// service is what is looked at of a service root. Members may be missing: not every BMC has every service.
type service struct {
	Name           string
	RedfishVersion string
	Vendor         string
	Systems        ref
	Chassis        ref
	Managers       ref
	UpdateService  ref
	Tasks          ref
	SessionService ref
	Registries     ref
	Links          struct{ Sessions ref }
	read           bool
}

// login is how we are known at the moment.
type login struct {
	token string
	at    string // the session, to be deleted
	basic bool   // the BMC has no sessions to give
}

// Goodbye is how long deleting a session may take. Whoever has little time leaves that much of it.
const Goodbye = 2 * time.Second

// Close ends the session and forgets idle connections.
func (c *Client) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), Goodbye) // also where the look's own time is up
	defer cancel()
	c.mu.Lock()
	c.leave(ctx)
	c.mu.Unlock()
	c.http.CloseIdleConnections()
}

// leave deletes the session, if there is one.
func (c *Client) leave(ctx context.Context) {
	if c.login.at != "" {
		// else it ends by itself
		_, _ = c.request(ctx, http.MethodDelete, c.login.at, "", nil, http.Header{"X-Auth-Token": {c.login.token}}, nil)
	}
	c.login = login{}
}

// start returns what the root says. It is read without a secret, as the standard allows everybody.
func (c *Client) start(ctx context.Context) (service, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.began(ctx)
}

func (c *Client) began(ctx context.Context) (service, error) {
	if c.started.read {
		return c.started, nil
	}
	var s service
	if _, err := c.request(ctx, http.MethodGet, root, "", nil, nil, &s); err != nil {
		return s, err
	}
	if s.RedfishVersion == "" && s.Systems.ID == "" {
		return s, &refusal{message: root + " is answered with something that is no Redfish service root"}
	}
	s.read = true
	c.started = s
	return s, nil
}

// authorize returns the headers by which the BMC knows us: those of a session, and where it has none to give, of HTTP
// Basic (DSP0266, "Authentication").
func (c *Client) authorize(ctx context.Context, renew bool) (http.Header, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if renew {
		c.leave(ctx)
	}
	if c.login.token == "" && !c.login.basic {
		if err := c.enter(ctx); err != nil {
			return nil, err
		}
	}
	if c.login.basic {
		return http.Header{"Authorization": {"Basic " +
			base64.StdEncoding.EncodeToString([]byte(c.target.User+":"+c.password))}}, nil
	}
	return http.Header{"X-Auth-Token": {c.login.token}}, nil
}

// enter begins a session. A wrong password is not tried a second way: some BMCs lock the account after a few.
func (c *Client) enter(ctx context.Context) error {
	s, err := c.began(ctx)
	if err != nil {
		return err
	}
	at := s.Links.Sessions.ID
	if at == "" && s.SessionService.ID != "" {
		var svc struct{ Sessions ref }
		if _, err := c.request(ctx, http.MethodGet, s.SessionService.ID, "", nil, nil, &svc); err == nil {
			at = svc.Sessions.ID
		}
	}
	if at == "" {
		c.login.basic = true
		return nil
	}
	body, err := json.Marshal(map[string]string{"UserName": c.target.User, "Password": c.password})
	if err != nil {
		return err
	}
	var made ref
	h, err := c.request(ctx, http.MethodPost, at, "application/json", body, nil, &made)
	switch {
	case noSessions(err):
		c.login.basic = true
		return nil
	case refused(err, http.StatusUnauthorized, http.StatusForbidden, http.StatusBadRequest):
		return &refusal{status: http.StatusUnauthorized,
			message: fmt.Sprintf("it does not let %s in: %v", c.target.User, err)}
	case err != nil:
		return err
	}
	if c.login.token = h.Get("X-Auth-Token"); c.login.token == "" {
		return &refusal{status: http.StatusOK, message: "it begins a session and gives no token"}
	}
	c.login.at = cmp.Or(made.ID, h.Get("Location"))
	if u, err := c.where(h.Get("Location")); err == nil && h.Get("Location") != "" {
		c.login.at = u.Path
	}
	return nil
}

// noSessions tells whether the BMC has no sessions at all, or none left to give.
func noSessions(err error) bool {
	if refused(err, http.StatusNotFound, http.StatusMethodNotAllowed, http.StatusNotImplemented,
		http.StatusServiceUnavailable, http.StatusTooManyRequests) {
		return true
	}
	r, ok := err.(*refusal)
	return ok && strings.Contains(r.ids, "SessionLimitExceeded")
}
