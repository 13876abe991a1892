package feed

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
)

// Shown is an address as people may see it: without the password that it may hold.
func Shown(at string) string {
	if u, err := url.Parse(at); err == nil {
		if _, secret := u.User.Password(); secret {
			return u.Redacted()
		}
		return at
	}
	scheme, rest, ok := strings.Cut(at, "://") // one that can't be read may hold one all the same
	if host := strings.LastIndexByte(rest, '@'); ok && host >= 0 {
		return scheme + "://xxxxx" + rest[host:]
	}
	return at
}

// inward keeps what a feed leads to away from this machine itself and from its own link, where services listen that ask
// nobody who they are, unless the feed's own address is there.
type inward struct {
	free    bool     // the feed begins there
	proxies []string // host:port of proxies, which may be there
}

func (f Feed) inward(proxy func(*http.Request) (*url.URL, error)) (in inward, err error) {
	u, err := url.Parse(f.At)
	if err != nil {
		return in, err
	}
	in.free = local(u.Hostname())
	if addrs, _ := net.LookupHost(u.Hostname()); !in.free && len(addrs) > 0 { // a name for this machine or its link
		a, err := netip.ParseAddr(addrs[0])
		in.free = err == nil && own(a)
	}
	if proxy == nil {
		return in, nil
	}
	for _, scheme := range []string{"http", "https"} {
		through, err := proxy(&http.Request{URL: &url.URL{Scheme: scheme, Host: u.Host}})
		if err != nil {
			return in, fmt.Errorf("the proxy: %w", err)
		}
		if through == nil {
			continue
		}
		addrs, err := net.LookupHost(through.Hostname())
		if err != nil {
			addrs = []string{through.Hostname()}
		}
		port := through.Port()
		if port == "" {
			port = map[string]string{"http": "80", "https": "443", "socks5": "1080"}[through.Scheme]
		}
		for _, a := range addrs {
			in.proxies = append(in.proxies, net.JoinHostPort(a, port))
		}
	}
	return in, nil
}

// names tells whether a name leads inward, where that is not free. A name that can't be resolved here may be one that
// only a proxy knows.
func (in inward) names(ctx context.Context, host string) bool {
	if in.free {
		return false
	}
	if local(host) {
		return true
	}
	addrs, _ := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	for _, a := range addrs {
		if own(a) {
			return true
		}
	}
	return false
}

// dial refuses a connection inward, by the address that a name came to.
func (in inward) dial(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil || in.free || !own(at.Addr()) {
		return nil
	}
	for _, p := range in.proxies {
		if p == address {
			return nil
		}
	}
	return fmt.Errorf("%s is this machine or its own link, and the feed is not: it is not asked", address)
}

// local tells whether a host is written as an address of this machine or its link, or as localhost (RFC 6761, 6.3).
func local(host string) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	a, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil && own(a) || host == "localhost" || strings.HasSuffix(host, ".localhost")
}

// own tells whether an address is this machine's own or one of its link (RFC 6890).
func own(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsLoopback() || a.IsLinkLocalUnicast() || a.IsUnspecified() || a.IsInterfaceLocalMulticast() ||
		a.IsLinkLocalMulticast()
}
