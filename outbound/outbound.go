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
	"mime"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
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
	return strings.EqualFold(u.Scheme, s.Base.Scheme) && strings.EqualFold(u.Hostname(), s.Base.Hostname()) &&
		portOf(u) == portOf(s.Base) && (path == base || strings.HasPrefix(path, base+"/"))
}

// portOf returns the port that a URL names, or that its scheme has by default (RFC 9110 section 4.2).
func portOf(u *url.URL) string {
	switch port := u.Port(); {
	case port != "":
		return port
	case strings.EqualFold(u.Scheme, "https"):
		return "443"
	}
	return "80"
}

// Check returns why a server could never be called, nil if it may be that it can. It asks for the addresses of its name
// if that is where it is to be reached.
func (s *Server) Check(ctx context.Context) error {
	if at := s.Address; at != nil {
		port, err := strconv.Atoi(portOf(at))
		if at.Hostname() == "" || err != nil || port < 1 || port > 65_535 {
			return &Refused{"it names no host and port that could be reached"}
		}
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, dialTime)
	defer cancel()
	_, err := lookUp(ctx, s.Base.Hostname())
	var refused *Refused
	if errors.As(err, &refused) {
		return refused
	}
	return nil // a name that leads nowhere today may do so tomorrow
}

// Answer is what a server sent.
type Answer struct {
	exchange.Response
	Incomplete string // why the body is not whole
}

// streamTime is how long a stream of events is listened to.
const streamTime = 3 * time.Second

// Call sends a call to s and returns the response as received. It sends what r says, except for connection header
// fields. Of a stream that does not end it returns what came for a while. The error is a [Refused] if nothing was sent.
func Call(ctx context.Context, s Server, r *exchange.Request) (Answer, error) {
	var answer Answer
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
	stream := false
	if media, _, _ := mime.ParseMediaType(response.Header.Get("Content-Type")); media == "text/event-stream" {
		defer time.AfterFunc(streamTime, cancel).Stop()
		stream = true
	}
	body, err := io.ReadAll(io.LimitReader(response.Body, MaxAnswer+1))
	switch {
	case len(body) > MaxAnswer:
		answer.Missing = fmt.Sprintf("the answer is larger than %d MiB", MaxAnswer>>20)
		return answer, nil
	case err != nil && stream && errors.Is(err, context.Canceled):
		answer.Incomplete = fmt.Sprintf("a stream of events, of which only the first %s were read", streamTime)
		body = body[:1+max(bytes.LastIndex(body, []byte("\n\n")), bytes.LastIndex(body, []byte("\r\n\r\n")), -1)]
	case err != nil:
		answer.Incomplete = "the answer broke off: " + told(err).Error()
	}
	if answer.Receive(body); answer.Incomplete != "" && len(answer.Body) == 0 && answer.Missing == "" {
		answer.Missing = answer.Incomplete
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
