package intake

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"net/http/httputil"
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"inkret/core/exchange"
)

// head is the first line and the fields of an HTTP message (RFC 9112 section 2).
type head struct {
	first  string
	header exchange.Header
}

// maxHead limits the head of a message.
const maxHead = 1 << 20

var (
	statusLine  = regexp.MustCompile(`^HTTP/\d(?:\.\d)? (\d{3})(?: .*)?$`)
	requestLine = regexp.MustCompile(`^([!#$%&'*+.^_|~0-9A-Za-z-]+) (\S+) HTTP/\d(?:\.\d)?$`)
)

// brokenStart matches a recording that ends within the first line of a message.
var brokenStart = regexp.MustCompile(`^[!#$%&'*+.^_|~0-9A-Za-z-]+(?: \S*(?: H?T?T?P?/?[\d.]*)?)?\x{FFFD}?\r?$|^HT?T?P?/?[\d.]*(?: [^\n]*)?$`)

// isStartLine reports whether text begins with the first line of a message.
func isStartLine(text []byte) bool {
	line, _, _ := bytes.Cut(text, []byte("\n"))
	line = bytes.TrimRight(line, "\r")
	return statusLine.Match(line) || requestLine.Match(line)
}

func isStatusLine(line []byte) bool { return statusLine.Match(bytes.TrimRight(line, "\r\n")) }

// startBehind returns the position in a line of JSON where the first line of a response begins, directly after a
// body without a line feed, or 0. JSON strings end within their line, so if no quotation mark follows, it is not
// inside a string.
func startBehind(line []byte) int {
	at := bytes.LastIndex(line, []byte("HTTP/"))
	if at <= 0 || !bytes.HasSuffix(line, []byte("\n")) || line[at-1] != '}' && line[at-1] != ']' ||
		bytes.IndexByte(line[at:], '"') >= 0 || !isStatusLine(line[at:]) {
		return 0
	}
	return at
}

var errHead = errors.New("the head of a message is longer than is read")

// readLine reads a line without its end. It returns io.EOF only if nothing is left.
func readLine(r *bufio.Reader, limit int) (string, error) {
	var line []byte
	for {
		part, err := r.ReadSlice('\n')
		line = append(line, part...)
		switch {
		case len(line) > limit:
			for err == bufio.ErrBufferFull { // to where the next line begins
				_, err = r.ReadSlice('\n')
			}
			return "", errHead
		case err == bufio.ErrBufferFull:
		case err == io.EOF && len(line) == 0:
			return "", io.EOF
		case err != nil && err != io.EOF:
			return "", err
		default:
			return strings.TrimRight(string(line), "\r\n"), nil
		}
	}
}

// readHead reads the head of a message, including the empty line.
func readHead(r *bufio.Reader) (head, error) {
	var h head
	var err error
	if h.first, err = readLine(r, maxHead); err != nil {
		return h, err
	}
	left := maxHead - len(h.first)
	for {
		line, err := readLine(r, left)
		if err == io.EOF || err == nil && line == "" {
			return h, nil
		}
		if err != nil {
			return h, err
		}
		left -= len(line) + 2
		// line folding, which RFC 9112 section 5.2 forbids and old software used
		if last := len(h.header) - 1; last >= 0 && (line[0] == ' ' || line[0] == '\t') {
			h.header[last].Value += " " + strings.TrimSpace(line)
			continue
		}
		if name, value, ok := strings.Cut(line, ":"); ok {
			h.header = append(h.header, exchange.HeaderField{Name: strings.TrimSpace(name),
				Value: strings.TrimSpace(value)})
		}
	}
}

// status parses the status in a response's first line.
func (h *head) status() (int, bool) {
	m := statusLine.FindStringSubmatch(h.first)
	if m == nil {
		return 0, false
	}
	code, _ := strconv.Atoi(m[1])
	return code, true
}

// request returns the request of a head. Its URL combines the first line and the Host field, without a scheme,
// because a message does not say whether TLS was used.
func (h *head) request() (exchange.Request, bool) {
	m := requestLine.FindStringSubmatch(h.first)
	if m == nil {
		return exchange.Request{}, false
	}
	r := exchange.Request{Method: m[1], Header: h.header}
	target := m[2]
	if strings.HasPrefix(target, "/") {
		target = "//" + h.header.Get("Host") + target
	}
	if u, err := url.Parse(target); err == nil && u.Host != "" {
		r.URL = u
	}
	return r, true
}

// length returns the Content-Length of a message, or -1.
func (h *head) length() int64 {
	n, err := strconv.ParseInt(h.header.Get("Content-Length"), 10, 64)
	if err != nil || n < 0 {
		return -1
	}
	return n
}

func (h *head) chunked() bool {
	return strings.Contains(strings.ToLower(h.header.Get("Transfer-Encoding")), "chunked")
}

var chunkSize = regexp.MustCompile(`^[0-9A-Fa-f]{1,8}[ \t]*(;[^\r\n]*)?\r?\n`)

// brokenSize matches a recording that ends within a chunk size.
var brokenSize = regexp.MustCompile(`^[0-9A-Fa-f]{1,8}[ \t]*\r?$`)

// unchunk decodes the chunked transfer coding (RFC 9112 section 7.1), if the body still has it. A body that is cut
// off is returned with the reason.
func unchunk(body []byte) (plain []byte, lacks string) {
	if !chunkSize.Match(body) {
		return body, ""
	}
	plain, err := io.ReadAll(httputil.NewChunkedReader(bytes.NewReader(body)))
	if err != nil {
		lacks = noLastChunk
	}
	return plain, lacks
}
