package redfish

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"

	"yareharbour/connector"
)

// way is what a test of the connection calls a BMC.
const way = "BMC"

// Test tries the connection stage by stage, up to the first that fails: name, port, TLS, what answers, login, and what
// we may read.
func (c *Client) Test(ctx context.Context) (out []connector.Stage) {
	fail := func(stage string, err error, do string) []connector.Stage {
		return append(out, connector.Stage{Way: way, Name: stage, Found: unwrapURL(err).Error(), Do: do})
	}
	hold := func(stage, format string, args ...any) {
		out = append(out, connector.Stage{Way: way, Name: stage, OK: true, Found: fmt.Sprintf(format, args...)})
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", c.base.Host)
	var dns *net.DNSError
	switch {
	case errors.As(err, &dns):
		return fail("name", err, "correct at in the estate file, or the name service")
	case err != nil:
		return fail("port", err, "see that the BMC is up, that HTTPS is enabled on it, and no firewall is between")
	}
	defer conn.Close()
	hold("port", "%s answers", conn.RemoteAddr())
	config := c.target.tls()
	config.ServerName, _, _ = net.SplitHostPort(c.base.Host)
	secure := tls.Client(conn, config)
	if err := secure.HandshakeContext(ctx); err != nil {
		do := "see what listens at that port"
		if distrust(err) {
			do = "compare the certificate's fingerprint on the BMC itself, and pin it with fingerprint in the estate " +
				"file; or name the roots that vouch for it"
		}
		return fail("TLS", err, do)
	}
	cert := secure.ConnectionState().PeerCertificates[0]
	known := "verified by roots"
	if c.target.Fingerprint != "" {
		known = "pinned"
	}
	hold("TLS", "certificate of %q, %s, ends %s", cert.Subject.CommonName, known,
		cert.NotAfter.Local().Format("2006-01-02 MST"))
	s, err := c.start(ctx)
	if err != nil {
		return fail("answer", err, "see that at in the estate file names the BMC, and that Redfish is enabled on it")
	}
	hold("answer", "Redfish %s%s", s.RedfishVersion, after(" of ", s.Vendor))
	if _, err := c.authorize(ctx, false); err != nil {
		return fail("login", err,
			"correct user and password in the estate file; some BMCs lock an account after a few wrong "+
				"ones, so this was tried once")
	}
	power, err := c.testLogin(ctx)
	if refused(err, http.StatusUnauthorized) {
		return fail("login", err, "correct user and password in the estate file")
	}
	how := "by session"
	if c.login.basic {
		how = "by HTTP Basic, for it has no session to give"
	}
	hold("login", "%s is let in %s", c.target.User, how)
	if err != nil {
		return fail("permission", err, cure(err, "give the user the right to read systems (a read-only role will do)"))
	}
	items, partial, err := c.Inventory(ctx)
	if err != nil {
		return fail("permission", err, cure(err, "give the user the right to read the firmware inventory"))
	}
	if partial != "" {
		partial = "; " + partial
	}
	hold("permission", "power is %s, %d firmware items can be read%s", power, len(items), partial)
	return out
}

// cure is what to do about an error of reading: a right is missing only where the BMC says so.
func cure(err error, right string) string {
	no := new(refusal)
	switch {
	case refused(err, http.StatusUnauthorized, http.StatusForbidden):
		return right
	case refused(err, http.StatusNotFound, http.StatusNotImplemented):
		return "its firmware does not offer that: see whether a newer one does"
	case refused(err, http.StatusServiceUnavailable, http.StatusTooManyRequests):
		return "it is busy: try again in some minutes"
	case errors.As(err, &no):
		return "see what it says, in its own log too, and try again later"
	}
	return "see why it does not answer: its load, the network, its own log"
}

func (c *Client) testLogin(ctx context.Context) (power string, err error) {
	s, err := c.system(ctx)
	return s.PowerState, err
}

func after(word, s string) string {
	if s == "" {
		return ""
	}
	return word + s
}

// Certificate returns the SHA-256 of the certificate that whoever is at name:port shows, in hex, and whom it names, so
// that a person may compare it with the BMC's own and pin it.
func Certificate(ctx context.Context, at string) (sum, subject string, err error) {
	// nothing is sent
	d := tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12,
		CurvePreferences: curves}}
	conn, err := d.DialContext(ctx, "tcp", at)
	if err != nil {
		return "", "", err
	}
	defer conn.Close()
	cert := conn.(*tls.Conn).ConnectionState().PeerCertificates[0]
	hash := sha256.Sum256(cert.Raw)
	return hex.EncodeToString(hash[:]), cert.Subject.CommonName, nil
}
