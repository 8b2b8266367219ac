package demo

import (
	"fmt"
	"html"
	"io"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// Mailbox is a stand-in mail server. It accepts everything, delivers nothing, and shows what it received over HTTP.
type Mailbox struct {
	server *smtp.Server

	mu   sync.Mutex // guards all and full
	all  []Received
	full bool // it takes no more
}

// Received is a received mail.
type Received struct {
	At      time.Time
	To      []string
	Header  mail.Header
	Subject string
	Text    string
}

const (
	keptMails = 500
	maxMail   = 1 << 20
)

// NewMailbox returns a mailbox. The caller must serve and close it.
func NewMailbox() *Mailbox {
	m := &Mailbox{}
	m.server = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) {
		return &handedIn{box: m},
			nil
	}))
	m.server.Domain, m.server.MaxMessageBytes, m.server.ReadTimeout, m.server.WriteTimeout =
		"mail.fennick-quay.example", maxMail, 10*time.Second, 10*time.Second
	return m
}

// Serve receives mail until the mailbox is closed.
func (m *Mailbox) Serve(l net.Listener) error { return m.server.Serve(l) }

// Close stops receiving.
func (m *Mailbox) Close() error { return m.server.Close() }

// Fill makes the mailbox refuse mail, or accept it again.
func (m *Mailbox) Fill(full bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.full = full
}

// Mails returns the received mails, oldest first.
func (m *Mailbox) Mails() []Received {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]Received(nil), m.all...)
}

// ServeHTTP shows the received mails, newest first.
func (m *Mailbox) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	all := m.Mails()
	fmt.Fprintf(w, `<!doctype html><title>Mail of Fennick Quay</title><style>body{font:14px/1.5 system-ui;max-width:52rem;margin:2rem auto}pre{white-space:pre-wrap;border:1px solid #ccc;padding:.8rem}</style><h1>%d mails</h1>`, len(all))
	for i := len(all) - 1; i >= 0; i-- {
		one := &all[i]
		fmt.Fprintf(w, "<h2>%s</h2><p>to %s, %s</p><pre>%s</pre>", html.EscapeString(one.Subject),
			html.EscapeString(strings.Join(one.To, ", ")), one.At.Format(time.DateTime), html.EscapeString(one.Text))
	}
}

// handedIn is one SMTP session.
type handedIn struct {
	box *Mailbox
	to  []string
}

func (h *handedIn) Mail(string, *smtp.MailOptions) error {
	h.box.mu.Lock()
	defer h.box.mu.Unlock()
	if h.box.full {
		return &smtp.SMTPError{Code: 452, EnhancedCode: smtp.EnhancedCode{4, 3, 1}, Message: "the mailbox is full"}
	}
	return nil
}

func (h *handedIn) Rcpt(to string, _ *smtp.RcptOptions) error {
	h.to = append(h.to, to)
	return nil
}

func (h *handedIn) Data(r io.Reader) error {
	msg, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	body := io.Reader(msg.Body)
	if strings.EqualFold(msg.Header.Get("Content-Transfer-Encoding"), "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	text, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	subject, err := new(mime.WordDecoder).DecodeHeader(msg.Header.Get("Subject"))
	if err != nil {
		return err
	}
	h.box.mu.Lock()
	defer h.box.mu.Unlock()
	h.box.all = append(h.box.all, Received{time.Now(), h.to, msg.Header, subject, strings.ReplaceAll(string(text),
		"\r\n", "\n")})
	if len(h.box.all) > keptMails {
		h.box.all = h.box.all[1:]
	}
	return nil
}

func (h *handedIn) Reset()        { h.to = nil }
func (h *handedIn) Logout() error { return nil }
