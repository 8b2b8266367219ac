package intake

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"inkret/core/exchange"
)

// isLine reports whether a text begins with a capture line: an object with one of its members, even after unknown
// ones. ends means that the text ends too early to tell.
func isLine(start []byte) (is, ends bool) {
	d := jsontext.NewDecoder(bytes.NewReader(start), lineOptions)
	if t, err := d.ReadToken(); err != nil || t.Kind() != '{' {
		return false, false
	}
	for {
		name, err := d.ReadToken()
		if err != nil || name.Kind() != '"' {
			return false, errors.Is(err, io.ErrUnexpectedEOF)
		}
		switch name.String() {
		case "request", "response", "audience", "started", "incomplete":
			return true, false
		case "log":
			return false, false
		}
		if err := d.SkipValue(); err != nil {
			return false, errors.Is(err, io.ErrUnexpectedEOF)
		}
	}
}

// The members of a capture line; docs/captures.md describes them.
type (
	lineCapture struct {
		Audience string `json:"audience,omitzero"`
		Started  string `json:"started,omitzero"`

		Incomplete string        `json:"incomplete,omitzero"`
		Request    *lineRequest  `json:"request,omitzero"`
		Response   *lineResponse `json:"response,omitzero"`
	}
	lineRequest struct {
		Method  string          `json:"method,omitzero"`
		URL     string          `json:"url"`
		Headers exchange.Header `json:"headers,omitzero"`
		lineBody
	}
	lineResponse struct {
		Status  int             `json:"status"`
		Headers exchange.Header `json:"headers,omitzero"`
		lineBody
	}
	lineBody struct {
		Body    jsontext.Value `json:"body,omitzero"` // text, or JSON as it is
		Base64  string         `json:"body_base64,omitzero"`
		Missing string         `json:"missing,omitzero"`
	}
)

var lineOptions = json.JoinOptions(jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))

func (b *lineBody) bytes() ([]byte, error) {
	switch {
	case b.Base64 != "":
		return base64.StdEncoding.DecodeString(b.Base64)
	case len(b.Body) == 0 || b.Body.Kind() == 'n':
		return nil, nil
	case b.Body.Kind() == '"':
		var text string
		err := json.Unmarshal(b.Body, &text, lineOptions)
		return []byte(text), err
	}
	return b.Body, nil
}

// MaxLine limits a line, in bytes.
const MaxLine = maxEntry

// Append appends a capture line, including the line feed. If readable is set, text bodies are written as text;
// otherwise all are base64, which is several times faster.
func Append(dst []byte, c *exchange.Capture, readable bool) []byte {
	dst = append(dst, '{')
	if c.Audience != "" {
		dst = append(appendString(append(dst, `"audience":`...), c.Audience), ',')
	}
	if !c.Started.IsZero() {
		dst = append(c.Started.UTC().AppendFormat(append(dst, `"started":"`...), time.RFC3339Nano), `",`...)
	}
	if c.Incomplete != "" {
		dst = append(appendString(append(dst, `"incomplete":`...), c.Incomplete), ',')
	}
	address := ""
	if c.Request.URL != nil {
		address = c.Request.URL.String()
	}
	dst = appendString(append(dst, `"request":{"method":`...), c.Request.Method)
	dst = appendString(append(dst, `,"url":`...), address)
	dst = appendMessage(dst, c.Request.Header, c.Request.Body, readable)
	dst = strconv.AppendInt(append(dst, `},"response":{"status":`...), int64(c.Response.Status), 10)
	dst = appendMessage(dst, c.Response.Header, c.Response.Body, readable)
	if c.Response.Missing != "" {
		dst = appendString(append(dst, `,"missing":`...), c.Response.Missing)
	}
	return append(dst, "}}\n"...)
}

func appendMessage(dst []byte, h exchange.Header, body []byte, readable bool) []byte {
	if len(h) > 0 {
		dst = append(dst, `,"headers":[`...)
		for i, f := range h {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = appendString(append(dst, `{"name":`...), f.Name)
			if utf8.ValidString(f.Value) {
				dst = append(appendString(append(dst, `,"value":`...), f.Value), '}')
			} else {
				dst = append(base64.StdEncoding.AppendEncode(append(dst, `,"value_base64":"`...), []byte(f.Value)),
					`"}`...)
			}
		}
		dst = append(dst, ']')
	}
	switch {
	case len(body) == 0:
	case readable && utf8.Valid(body):
		dst, _ = jsontext.AppendQuote(append(dst, `,"body":`...), body)
	default:
		dst = append(base64.StdEncoding.AppendEncode(append(dst, `,"body_base64":"`...), body), '"')
	}
	return dst
}

// appendString appends a JSON string; invalid UTF-8 is replaced.
func appendString(dst []byte, s string) []byte {
	dst, _ = jsontext.AppendQuote(dst, s)
	return dst
}

// lines reads capture lines. A line that cannot be read is listed, and reading continues.
func (in *reading) lines(name string, r *bufio.Reader) error {
	for entry := 0; ; {
		line, err := readLine(r, MaxLine)
		switch {
		case err == io.EOF:
			return nil
		case errors.Is(err, errHead):
			c := &exchange.Capture{Response: exchange.Response{Missing: fmt.Sprintf("the line is longer than %d MiB",
				MaxLine>>20)}}
			if err := in.hand(name, entry, c); err != nil {
				return err
			}
			entry++
			continue
		case err != nil:
			return &Error{File: name, Offset: -1, Entry: entry, Reason: "cannot be read further: " + plain(err)}
		case strings.TrimSpace(line) == "":
			continue
		}
		c, err := decodeLine([]byte(line))
		if err != nil {
			if _, last := r.Peek(1); last != nil {
				return &Error{File: name, Offset: -1, Entry: entry,
					Reason: "the last line is not a whole capture line; what came before is complete"}
			}
			c = &exchange.Capture{Response: exchange.Response{Missing: err.Error()}}
		}
		if err := in.hand(name, entry, c); err != nil {
			return err
		}
		entry++
	}
}

// mostSaid limits the length of a reason in a line.
const mostSaid = 200

// said returns a reason as one short line.
func said(reason string) string {
	reason = strings.ToValidUTF8(reason, "�")
	for at := range reason {
		if at > mostSaid {
			reason = reason[:at] + "…"
			break
		}
	}
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, reason))
}

func decodeLine(text []byte) (*exchange.Capture, error) {
	var line lineCapture
	if err := json.Unmarshal(text, &line, lineOptions); err != nil {
		var wrong *json.SemanticError
		if errors.As(err, &wrong) && wrong.JSONPointer != "" {
			return nil, fmt.Errorf("the line is no capture: %s has the wrong type", clip(string(wrong.JSONPointer)))
		}
		return nil, errors.New("the line is no capture: it is not a JSON object")
	}
	c := &exchange.Capture{Audience: line.Audience, Incomplete: said(line.Incomplete)}
	c.Started = timeOf(line.Started)
	if line.Request == nil || line.Request.URL == "" {
		return nil, errors.New("the line is no capture: it names no request.url")
	}
	u, err := url.Parse(line.Request.URL)
	if err != nil || u.Host == "" {
		return nil, errors.New("the line is no capture: its request.url is no address")
	}
	c.Request = exchange.Request{Method: strings.ToUpper(line.Request.Method), URL: u, Header: line.Request.Headers}
	if c.Request.Method == "" {
		c.Request.Method = "GET"
	}
	if body, err := line.Request.bytes(); err == nil {
		c.Request.Receive(body)
	}
	if line.Response == nil {
		c.Response.Missing = "the line has no response"
		return c, nil
	}
	c.Response = exchange.Response{Status: line.Response.Status, Header: line.Response.Headers,
		Missing: said(line.Response.Missing)}
	body, err := line.Response.bytes()
	if err != nil {
		c.Response.Missing = "response.body_base64 is not base64"
		return c, nil
	}
	if c.Response.Missing == "" {
		c.Response.Receive(body)
	}
	return c, nil
}
