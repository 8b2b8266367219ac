package intake

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http/httputil"
	"strings"

	"inkret/core/exchange"
)

// messageReader reads a sequence of HTTP messages: requests each followed by its response, or only responses, as
// `curl -i` prints them. curl decodes chunks and, with --compressed, content codings, but still prints the fields
// about them, so these are trusted only if the body matches.
type messageReader struct {
	*reading
	name   string
	r      *bufio.Reader
	count  *counted
	lies   lying
	most   int64 // bytes of a body that are held
	entry  int
	began  int64 // where the last body did
	broken bool  // its chunks are
}

// counted counts the bytes read.
type counted struct {
	r io.Reader
	n int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

const noResponse = "no response is recorded with this request"

const noRequest = `no request is recorded with this response: say it, as in --request "GET https://api.example/v1/berths"`

func (in *reading) messages(name string, r io.Reader, lies lying) error {
	count := &counted{r: r}
	m := &messageReader{reading: in, name: name, count: count, lies: lies, most: maxEntry, r: bufio.NewReaderSize(count,
		readAhead)}
	var waiting *exchange.Request
	cut := "" // why the body of what waits is not whole
	for {
		if err := m.skipBlank(); err == io.EOF {
			break
		}
		at := m.at()
		h, err := readHead(m.r)
		if err != nil {
			return m.fail(at, err)
		}
		if request, ok := h.request(); ok {
			if waiting != nil {
				if err := m.done(waiting, exchange.Response{Missing: noResponse}, cut); err != nil {
					return err
				}
			}
			raw, err := m.requestBody(&h)
			if err != nil {
				return m.fail(at, err)
			}
			cut = m.lacks(&h, int64(len(raw)), raw)
			request.Receive(raw)
			waiting = &request
			continue
		}
		status, ok := h.status()
		if !ok {
			return &Error{File: name, Offset: at, Entry: m.entry,
				Reason: "here the first line of an HTTP message was expected"}
		}
		if status < 200 && status != 101 {
			continue // an interim response (RFC 9110 section 15.2)
		}
		response := exchange.Response{Status: status, Header: h.header}
		raw, long, err := m.responseBody(&h, status, waiting)
		if err != nil {
			return m.fail(at, err)
		}
		if m.bodied(status, waiting) {
			n := int64(len(raw))
			if long != nil {
				n = m.at() - m.began
			}
			if why := m.lacks(&h, n, raw); why != "" {
				cut = why
			}
		}
		if response.Long = long; long == nil {
			response.Receive(raw)
		}
		if err := m.done(waiting, response, cut); err != nil {
			return err
		}
		waiting, cut = nil, ""
	}
	if waiting != nil {
		return m.done(waiting, exchange.Response{Missing: noResponse}, cut)
	}
	return nil
}

// done hands over an exchange.
func (m *messageReader) done(request *exchange.Request, response exchange.Response, cut string) error {
	c := &exchange.Capture{Response: response, Incomplete: cut}
	switch {
	case request != nil:
		c.Request = *request
	case m.Request != nil:
		c.Request = *m.Request
	default:
		c.Response.Body, c.Response.Long, c.Response.Missing = nil, nil, noRequest
	}
	m.entry++
	return m.hand(m.name, m.entry-1, c)
}

func (m *messageReader) fail(at int64, err error) error {
	reason := "cannot be read further: " + plain(err)
	switch {
	case errors.Is(err, errEntryTooLarge):
		reason = fmt.Sprintf("a message is larger than %d MiB; what follows it is not read", maxEntry>>20)
		if m.Long {
			reason += ". In a file that is not packed, JSON of any length is read"
		}
	case errors.Is(err, errHead):
		reason = errHead.Error()
	}
	return &Error{File: m.name, Offset: at, Entry: m.entry, Reason: reason}
}

// skipBlank skips empty lines between messages.
func (m *messageReader) skipBlank() error {
	for {
		b, err := m.r.Peek(1)
		if err != nil {
			return io.EOF
		}
		if b[0] != '\n' && b[0] != '\r' && b[0] != ' ' && b[0] != '\t' {
			return nil
		}
		m.r.Discard(1)
	}
}

func (m *messageReader) requestBody(h *head) ([]byte, error) {
	switch n := h.length(); {
	case h.chunked() && m.atChunk():
		return m.chunks()
	case h.chunked():
		return m.upToStart(nil)
	case n > 0:
		return m.bytes(h, n)
	}
	return nil, nil
}

// atChunk reports whether a chunk size, or the rest of one, is next.
func (m *messageReader) atChunk() bool {
	start, ends := m.r.Peek(64)
	return chunkSize.Match(start) || ends == io.EOF && brokenSize.Match(start)
}

// responseBody reads a body. A body that is too large for memory is returned as a reference to the file, if there
// is one.
func (m *messageReader) responseBody(h *head, status int, request *exchange.Request) ([]byte, *exchange.Long, error) {
	if !m.bodied(status, request) {
		return nil, nil, nil
	}
	begin, chunked := m.at(), false
	m.began = begin
	m.most = m.lies.held(h)
	defer func() { m.most = maxEntry }()
	body, err := []byte(nil), error(nil)
	if h.chunked() && m.atChunk() {
		chunked = true
		body, err = m.chunks()
	} else {
		if n := h.length(); n >= 0 {
			body, err = m.bytes(h, n)
			if err == nil && m.atStart() {
				return body, nil, nil
			}
		}
		if err == nil {
			body, err = m.upToStart(body)
		}
	}
	if m.lies.file == nil || !errors.Is(err, errEntryTooLarge) {
		return body, nil, err
	}
	body = nil // what was read of it
	if n := h.length(); n >= 0 && m.at() == begin {
		if _, err := io.CopyN(io.Discard, m.r, n); err != nil && err != io.EOF {
			return nil, nil, err
		}
	}
	if !m.atStart() {
		m.passToStart()
	}
	return nil, m.lies.body(begin, m.at()-begin, h, chunked), nil
}

// bodied reports whether a response has a body (RFC 9112 section 6.3).
func (m *messageReader) bodied(status int, request *exchange.Request) bool {
	return !(request != nil && request.Method == "HEAD" || status == 204 || status == 304 || status == 101)
}

// lacks returns why the last body, of n bytes, is incomplete.
func (m *messageReader) lacks(h *head, n int64, raw []byte) string {
	broken := m.broken
	m.broken = false
	if broken {
		return noLastChunk
	}
	if codings, coded := h.header.Find("Content-Encoding"); coded && raw != nil && !exchange.StillCoded(raw, codings) {
		return "" // it was undone in the recording, and the length is that of what was sent
	}
	return shorter(n, h.length(), h.chunked())
}

const noLastChunk = "the last chunk of the body is not there"

// shorter says that a body has fewer bytes than announced.
func shorter(n, announced int64, chunked bool) string {
	if chunked || announced < 0 || n >= announced {
		return ""
	}
	return fmt.Sprintf("the body ends after %d of the %d bytes that were announced", n, announced)
}

// at returns the offset of the next byte.
func (m *messageReader) at() int64 { return m.count.n - int64(m.r.Buffered()) }

// passToStart skips to the next start of a message.
func (m *messageReader) passToStart() {
	for fresh := true; ; {
		next, err := m.r.Peek(sniffed)
		if len(next) == 0 || fresh && isStartLine(next) && (err != nil || bytes.IndexByte(next, '\n') >= 0) {
			return
		}
		_, err = m.r.ReadSlice('\n')
		fresh = err == nil
	}
}

// bytes reads up to n bytes. The length is trusted if the body matches it; otherwise the body ends before the next
// message, for example because a redirect's body was not printed.
func (m *messageReader) bytes(h *head, n int64) ([]byte, error) {
	media, _, _ := strings.Cut(strings.ToLower(h.header.Get("Content-Type")), ";")
	media = strings.TrimSpace(media)
	holds := strings.HasSuffix(media, "/http") || strings.HasPrefix(media, "multipart/") // messages may stand in these
	if !holds && isStatusLine(m.line()) && !m.fits(n) {
		return nil, nil
	}
	if n > m.most {
		return nil, errEntryTooLarge
	}
	// none of these lines starts a message
	lines := strings.Contains(media, "json") || strings.HasSuffix(media, "urlencoded")
	if holds || m.fits(n) || !lines && n+sniffed > readAhead {
		return io.ReadAll(io.LimitReader(m.r, n))
	}
	return m.upTo(nil, n)
}

// fits reports whether the recording ends, or a message starts, n bytes from here, within the read-ahead.
func (m *messageReader) fits(n int64) bool {
	if n+sniffed > readAhead {
		return false
	}
	next, ends := m.r.Peek(int(n) + sniffed)
	if int64(len(next)) < n {
		return false
	}
	return begins(next[n:], ends != nil)
}

// begins reports whether a message, or nothing, follows a body. ends means that the recording ends with next,
// possibly in the middle of a first line.
func begins(next []byte, ends bool) bool {
	rest := bytes.TrimLeft(next, " \t\r\n")
	return len(rest) == 0 && ends || isStartLine(rest) || ends && len(rest) < len(next) && brokenStart.Match(rest)
}

func (m *messageReader) chunks() ([]byte, error) {
	body, err := io.ReadAll(io.LimitReader(httputil.NewChunkedReader(m.r), m.most+1))
	if int64(len(body)) > m.most {
		return nil, errEntryTooLarge
	}
	if err != nil { // broken chunks: what came is judged up to there
		m.broken = true
		return m.upToStart(body)
	}
	for { // trailer fields
		line, err := readLine(m.r, maxHead)
		if err != nil || line == "" {
			return body, nil
		}
	}
}

// atStart reports whether the file ends here or a message starts.
func (m *messageReader) atStart() bool {
	next, err := m.r.Peek(sniffed)
	return begins(next, err != nil)
}

// upToStart reads up to the next start of a message, and appends to body.
func (m *messageReader) upToStart(body []byte) ([]byte, error) { return m.upTo(body, -1) }

// upTo is upToStart with a limit of most bytes, if that is not negative.
func (m *messageReader) upTo(body []byte, most int64) ([]byte, error) {
	start := body
	for fresh := true; most < 0 || int64(len(body)) < most; {
		next := m.line()
		if len(start) == 0 {
			start = bytes.Clone(next[:min(1, len(next))])
		}
		if len(next) == 0 || fresh && len(next) < readAhead && isStartLine(next) {
			break
		}
		begins := 0
		if start[0] == '{' || start[0] == '[' { // in text of any other form it may be somebody's words
			begins = startBehind(next)
		}
		if begins > 0 {
			next = next[:begins]
		}
		if most >= 0 {
			next = next[:min(int64(len(next)), most-int64(len(body)))]
		}
		if body = append(body, next...); int64(len(body)) > m.most {
			return nil, errEntryTooLarge
		}
		fresh = next[len(next)-1] == '\n'
		if m.r.Discard(len(next)); begins == len(next) {
			break
		}
	}
	return body, nil
}

// line returns the rest of the line, or of the read-ahead, without consuming it.
func (m *messageReader) line() []byte {
	for n := max(sniffed, m.r.Buffered()); ; n = min(2*n, readAhead) {
		text, err := m.r.Peek(n)
		if end := bytes.IndexByte(text, '\n'); end >= 0 {
			return text[:end+1]
		}
		if err != nil || n == readAhead {
			return text
		}
	}
}
