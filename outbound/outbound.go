// Package outbound sends calls only to servers that were allowed. It follows no redirects, and it checks the
// addresses that a name resolves to before connecting, so that a name cannot lead into the service's own network.
package outbound

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"inkret/core/exchange"
)

// Server is a server that may be called.
type Server struct {
	Base *url.URL // as calls name it
	// Address is where the server is reached instead, http or https with host and port. It is used as it is, even
	// if it is private. If nil, the name of Base is used and must resolve to public addresses.
	Address *url.URL
}

const (
	// callTime limits one call including its response.
	callTime = 30 * time.Second
	// MaxAnswer limits the size of a response as sent, in bytes.
	MaxAnswer = 32 << 20
	dialTime  = 10 * time.Second
)

// Refused is the reason why a call was not sent.
type Refused struct{ Reason string }

func (r *Refused) Error() string { return r.Reason }

// Serves reports whether a URL is below the server's base URL.
func (s *Server) Serves(u *url.URL) bool {
	base := strings.TrimRight(s.Base.EscapedPath(), "/")
	path := u.EscapedPath()
	return strings.EqualFold(u.Scheme, s.Base.Scheme) && strings.EqualFold(u.Host, s.Base.Host) &&
		(path == base || strings.HasPrefix(path, base+"/"))
}

// Call sends a call to s and returns the response as received. It sends what r says, except for connection header
// fields. The error is a [Refused] if nothing was sent.
func Call(ctx context.Context, s Server, r *exchange.Request) (exchange.Response, error) {
	var answer exchange.Response
	if r.URL == nil || !s.Serves(r.URL) || r.URL.User != nil {
		return answer, &Refused{"the address is not one of the server that is allowed"}
	}
	ctx, cancel := context.WithTimeout(ctx, callTime)
	defer cancel()
	target := *r.URL
	if s.Address != nil {
		target.Scheme, target.Host = s.Address.Scheme, s.Address.Host
	}
	request, err := http.NewRequestWithContext(ctx, r.Method, target.String(), bytes.NewReader(r.Body))
	if err != nil {
		return answer, &Refused{"the recorded request cannot be made again: its method or address is not valid"}
	}
	request.Host = r.URL.Host
	request.Header.Set("User-Agent", "") // what is recorded, or none
	for _, f := range r.Header {
		if !ofConnection[strings.ToLower(f.Name)] && !strings.HasPrefix(f.Name, ":") {
			if strings.EqualFold(f.Name, "User-Agent") {
				request.Header.Del("User-Agent")
			}
			request.Header.Add(f.Name, f.Value)
		}
	}
	transport := s.transport(r.URL.Hostname())
	defer transport.CloseIdleConnections()
	response, err := transport.RoundTrip(request)
	if err != nil {
		var refused *Refused
		if errors.As(err, &refused) {
			return answer, refused
		}
		return answer, told(err)
	}
	defer response.Body.Close()
	answer.Status = response.StatusCode
	for name, values := range response.Header {
		for _, v := range values {
			answer.Header = append(answer.Header, exchange.HeaderField{Name: name, Value: v})
		}
	}
	body, err := io.ReadAll(io.LimitReader(response.Body, MaxAnswer+1))
	switch {
	case err != nil:
		answer.Missing = "the answer broke off: " + told(err).Error()
	case len(body) > MaxAnswer:
		answer.Missing = fmt.Sprintf("the answer is larger than %d MiB", MaxAnswer>>20)
	default:
		answer.Receive(body)
	}
	return answer, nil
}

// ofConnection lists header fields that belong to one connection or are set again.
var ofConnection = map[string]bool{"connection": true, "keep-alive": true, "proxy-connection": true, "te": true,
	"trailer":           true,
	"transfer-encoding": true, "upgrade": true, "host": true, "content-length": true, "if-none-match": true,
	"if-modified-since": true, "range": true}

func (s *Server) transport(host string) *http.Transport {
	dialer := &net.Dialer{Timeout: dialTime}
	t := &http.Transport{DisableCompression: true, DisableKeepAlives: true,
		TLSClientConfig:   &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12},
		ForceAttemptHTTP2: true, MaxResponseHeaderBytes: 1 << 20}
	t.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		if s.Address != nil {
			return dialer.DialContext(ctx, network, address)
		}
		name, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		public, err := lookUp(ctx, name)
		if err != nil {
			return nil, err
		}
		return dialer.DialContext(ctx, network, net.JoinHostPort(public.String(), port))
	}
	return t
}

// lookUp resolves a name to a public address. It refuses the name if any of its addresses is not public.
func lookUp(ctx context.Context, name string) (netip.Addr, error) {
	all, err := net.DefaultResolver.LookupNetIP(ctx, "ip", name)
	if err != nil {
		return netip.Addr{}, err
	}
	for _, a := range all {
		if !Public(a) {
			return a, &Refused{fmt.Sprintf("%s leads to %s, which is not a public address: an administrator can say "+
				"where the server is reached", name, a.Unmap())}
		}
	}
	return all[0], nil
}

// notPublic lists special-purpose address blocks that [netip.Addr] does not know (RFC 6890 and the IANA registries
// that it started).
var notPublic = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"), netip.MustParsePrefix("100.64.0.0/10"), netip.MustParsePrefix("192.0.0.0/24"),
	netip.MustParsePrefix("192.0.2.0/24"),
	netip.MustParsePrefix("192.88.99.0/24"), netip.MustParsePrefix("198.18.0.0/15"),
	netip.MustParsePrefix("198.51.100.0/24"), netip.MustParsePrefix("203.0.113.0/24"),
	netip.MustParsePrefix("240.0.0.0/4"), netip.MustParsePrefix("64:ff9b::/96"),
	netip.MustParsePrefix("64:ff9b:1::/48"), netip.MustParsePrefix("100::/64"),
	netip.MustParsePrefix("2001::/23"), netip.MustParsePrefix("2001:db8::/32"), netip.MustParsePrefix("2002::/16"),
	netip.MustParsePrefix("fec0::/10"),
}

// Public reports whether an address is on the public Internet: not of this machine or its networks, not a cloud
// metadata address, and not one that embeds another address.
func Public(a netip.Addr) bool {
	a = a.Unmap()
	if !a.IsValid() || !a.IsGlobalUnicast() || a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() ||
		a.IsMulticast() || a.IsUnspecified() || a.Zone() != "" {
		return false
	}
	for _, p := range notPublic {
		if p.Contains(a) {
			return false
		}
	}
	return true
}

// told describes a network error without addresses or values.
func told(err error) error {
	var dns *net.DNSError
	var op *net.OpError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("it did not answer within %s", callTime)
	case errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &dns):
		return errors.New("its name leads nowhere")
	case errors.As(err, &op) && op.Op == "dial":
		return errors.New("nothing answers there: " + inmost(op.Err))
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return errors.New("the connection was closed before the answer was whole")
	}
	return errors.New(inmost(err))
}

func inmost(err error) string {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err.Error()
		}
		err = inner
	}
}
