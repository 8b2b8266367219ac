package exchange

import (
	"bufio"
	"bytes"
	"compress/flate"
	"compress/zlib"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/text/encoding/htmlindex"
)

// MaxBody is how many bytes of a decoded body are read; compression bombs end here.
const MaxBody = 64 << 20

// maxCodings limits the content codings that are decoded; real traffic has one.
const maxCodings = 4

// ErrTooLarge is returned for a body that exceeds its limit.
var ErrTooLarge = errors.New("the body is larger than is read")

// Decode decodes the codings of a Content-Encoding header (RFC 9110 section 8.4), the last one first. Results
// longer than limit bytes give [ErrTooLarge].
func Decode(body []byte, codings string, limit int64) ([]byte, error) {
	names := strings.Split(codings, ",")
	if len(names) > maxCodings {
		return nil, fmt.Errorf("%d content codings are stacked, more than the %d that are undone", len(names),
			maxCodings)
	}
	for i := len(names) - 1; i >= 0; i-- {
		name := strings.ToLower(strings.TrimSpace(names[i]))
		r, err := decoder(name, bytes.NewReader(body))
		if err != nil {
			return nil, fmt.Errorf("content coding %s: %w", name, err)
		}
		if r == nil {
			continue
		}
		decoded, err := io.ReadAll(io.LimitReader(r, limit+1))
		if c, ok := r.(io.Closer); ok {
			c.Close()
		}
		if err != nil {
			return nil, fmt.Errorf("content coding %s: %w", name, err)
		}
		if int64(len(decoded)) > limit {
			return nil, fmt.Errorf("%w (over %d bytes once %s is undone)", ErrTooLarge, limit, name)
		}
		body = decoded
	}
	return body, nil
}

// decoder returns a decoder for one coding, or nil. Raw deflate and zlib are distinguished by the first bytes.
func decoder(name string, body io.Reader) (io.Reader, error) {
	switch name {
	case "", "identity":
		return nil, nil
	case "gzip", "x-gzip":
		return gzip.NewReader(body)
	case "deflate": // the name means zlib; raw deflate is sent under it all the same
		b := bufio.NewReader(body)
		if start, _ := b.Peek(2); len(start) == 2 && start[0]&0x0f == 8 && (int(start[0])<<8|int(start[1]))%31 == 0 {
			return zlib.NewReader(b)
		}
		return flate.NewReader(b), nil
	case "br":
		return brotli.NewReader(body), nil
	case "zstd":
		d, err := zstd.NewReader(body, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(MaxBody))
		if err != nil {
			return nil, err
		}
		return d.IOReadCloser(), nil
	}
	return nil, errors.New("is not known")
}

// StillCoded reports whether a body with a Content-Encoding is still encoded; some recorders decode before writing.
func StillCoded(body []byte, codings string) bool {
	last := codings[strings.LastIndexByte(codings, ',')+1:]
	switch strings.ToLower(strings.TrimSpace(last)) {
	case "gzip", "x-gzip":
		return bytes.HasPrefix(body, []byte{0x1f, 0x8b})
	case "zstd":
		return bytes.HasPrefix(body, []byte{0x28, 0xb5, 0x2f, 0xfd})
	case "deflate", "br":
		return !utf8.Valid(body)
	}
	return false
}

// Text converts text in the charset of a Content-Type to UTF-8 without a byte order mark. JSON is UTF-8 unless
// declared otherwise (RFC 8259 section 8.1). Notations that are no text stay as they are.
func Text(body []byte, contentType string) ([]byte, error) {
	if kind, _ := mediaOf(contentType); kind == isCBOR || kind == isMessagePack ||
		messagesIn(contentType) != noMessage {
		return body, nil
	}
	switch {
	case bytes.HasPrefix(body, []byte{0xEF, 0xBB, 0xBF}):
		return body[3:], nil
	case bytes.HasPrefix(body, []byte{0xFF, 0xFE}):
		return recode(body, "utf-16le")
	case bytes.HasPrefix(body, []byte{0xFE, 0xFF}):
		return recode(body, "utf-16be")
	}
	charset := parameter(contentType, "charset")
	if charset == "" {
		charset = declared(contentType, body)
	}
	if charset == "" || strings.EqualFold(charset, "utf-8") {
		return body, nil
	}
	return recode(body, charset)
}

// declaration matches the charset declarations of XML (XML 1.0 section 4.3.3) and HTML (HTML standard, section
// 4.2.5.4).
var declaration = regexp.MustCompile(`(?i)<\?xml[^>]*\sencoding=["']([\w.:-]+)|<meta[^>]*\scharset=["']?([\w.:-]+)`)

// declarationWithin is how far into a text its charset may be declared.
const declarationWithin = 1024

// declared returns the charset that a body itself declares.
func declared(contentType string, body []byte) string {
	if kind, _ := mediaOf(contentType); kind != isXML && kind != isHTML {
		return ""
	}
	m := declaration.FindSubmatch(body[:min(len(body), declarationWithin)])
	if m == nil {
		return ""
	}
	return string(m[1]) + string(m[2])
}

func recode(body []byte, charset string) ([]byte, error) {
	enc, err := htmlindex.Get(charset)
	if err != nil {
		return nil, fmt.Errorf("charset %q is not known", charset)
	}
	out, err := enc.NewDecoder().Bytes(body)
	return bytes.TrimPrefix(out, []byte("\uFEFF")), err
}

// Receive sets the body of a response from the bytes that were sent: it decodes codings and converts text to UTF-8.
// Failures are recorded as Missing.
func (r *Response) Receive(raw []byte) {
	r.Body = nil
	if len(raw) == 0 {
		return
	}
	body, err := raw, error(nil)
	if codings := r.Header.Get("Content-Encoding"); StillCoded(body, codings) {
		body, err = Decode(body, codings, MaxBody)
	}
	if err == nil {
		body, err = Text(body, r.Header.Get("Content-Type"))
	}
	if err != nil {
		r.Missing = err.Error()
		return
	}
	r.Body = body
}

// Receive does the same for a request; bodies that cannot be read are dropped.
func (r *Request) Receive(raw []byte) {
	as := Response{Header: r.Header}
	as.Receive(raw)
	r.Body = as.Body
}
