// Package mailing sends mail through an SMTP server (RFC 5321). TLS is required except on loopback.
package mailing

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"
)

// Server is a mail server and the sender's address. Create it with [ParseServer].
type Server struct {
	From     string // an address, with a name or without
	Host     string
	Port     int
	Implicit bool // TLS from the first byte on (RFC 8314), in place of STARTTLS
	User     string
	Password string

	roots *x509.CertPool // whose certificates are trusted; nil: those of the machine
}

const (
	submission         = 587 // RFC 6409
	implicitSubmission = 465 // RFC 8314
	// patience is how long sending one mail may take.
	patience = 30 * time.Second
)

// ParseServer parses a server written as smtp://USER@HOST:PORT, or smtps://… for immediate TLS. User and port are
// optional. The password is separate, to keep it out of process lists.
func ParseServer(address, from, password string) (*Server, error) {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" || u.Scheme != "smtp" && u.Scheme != "smtps" || u.Path != "" && u.Path != "/" {
		return nil, errors.New("a mail server is written smtp://USER@HOST:PORT or smtps://USER@HOST")
	}
	if _, ok := u.User.Password(); ok {
		return nil, errors.New("the mail server's password does not belong into its address")
	}
	s := &Server{From: from, Host: u.Hostname(), Port: submission, Implicit: u.Scheme == "smtps",
		User: u.User.Username(), Password: password}
	if s.Implicit {
		s.Port = implicitSubmission
	}
	if text := u.Port(); text != "" {
		if s.Port, err = strconv.Atoi(text); err != nil || s.Port < 1 || s.Port > 65535 {
			return nil, fmt.Errorf("%s is no port", text)
		}
	}
	if _, err := mail.ParseAddress(from); err != nil {
		return nil, fmt.Errorf("%q is no address that mail can come from", from)
	}
	return s, nil
}

// Message is a plain-text mail.
type Message struct {
	ID      string // what of Message-ID stands before its @; the same mail sent twice has the same
	To      string // an address
	Subject string
	Text    string
	Link    string // where its receiver says how much they are told (List-Unsubscribe, RFC 2369); may be empty
}

// loopback reports whether a host is this machine.
func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Send sends a mail. The error says why it was not accepted and contains no password. It takes half a minute at
// most.
func (s *Server) Send(ctx context.Context, m Message) error {
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	policy, auth := gomail.TLSMandatory, gomail.SMTPAuthAutoDiscover
	switch {
	case s.Implicit: // TLS is there before the library could begin it
		policy, auth = gomail.NoTLS, gomail.SMTPAuthPlain
	case loopback(s.Host):
		policy = gomail.TLSOpportunistic
	}
	options := []gomail.Option{gomail.WithPort(s.Port), gomail.WithTLSPolicy(policy), gomail.WithTLSConfig(s.tls()),
		gomail.WithoutNoop(), gomail.WithDialContextFunc(s.dial)}
	if s.User != "" {
		options = append(options, gomail.WithSMTPAuth(auth), gomail.WithUsername(s.User),
			gomail.WithPassword(s.Password))
	}
	client, err := gomail.NewClient(s.Host, options...)
	if err != nil {
		return err
	}
	msg := gomail.NewMsg()
	if err := errors.Join(msg.From(s.From), msg.To(m.To)); err != nil {
		return err
	}
	from, err := mail.ParseAddress(s.From)
	if err != nil {
		return err
	}
	domain := from.Address[strings.LastIndexByte(from.Address, '@')+1:]
	msg.SetMessageIDWithValue(m.ID + "@" + domain)
	msg.SetDate()
	msg.Subject(m.Subject)
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody answers it by machine
	if m.Link != "" {
		msg.SetGenHeader("List-Unsubscribe", "<"+m.Link+">")
	}
	msg.SetBodyString(gomail.TypeTextPlain, m.Text)
	if err := client.DialAndSendWithContext(ctx, msg); err != nil {
		return fmt.Errorf("the mail server does not take it: %w", err)
	}
	return nil
}

func (s *Server) tls() *tls.Config {
	return &tls.Config{ServerName: s.Host, RootCAs: s.roots, MinVersion: tls.VersionTLS12}
}

// dial connects to the server within the context's deadline. The library alone would wait forever for a silent
// server.
func (s *Server) dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := new(net.Dialer).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	until, _ := ctx.Deadline()
	if err := conn.SetDeadline(until); err != nil || !s.Implicit {
		return conn, err
	}
	secure := tls.Client(conn, s.tls())
	if err := secure.HandshakeContext(ctx); err != nil {
		conn.Close()
		return nil, err
	}
	return secure, nil
}
