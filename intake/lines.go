package intake

import (
	"bufio"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/url"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"inkret/core/exchange"
)

// captureLine is how a file of capture lines begins.
var captureLine = regexp.MustCompile(`^\{\s*"(request|response|audience|started)"\s*:`)

// The members of a capture line: docs/captures.md describes them for scripts.
type (
	lineCapture struct {
		Audience string        `json:"audience,omitzero"`
		Started  string        `json:"started,omitzero"`
		Request  *lineRequest  `json:"request,omitzero"`
		Response *lineResponse `json:"response,omitzero"`
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

func lineBodyOf(body []byte, missing string) lineBody {
	b := lineBody{Missing: missing}
	switch {
	case len(body) == 0:
	case utf8.Valid(body):
		b.Body, _ = json.Marshal(string(body))
	default:
		b.Base64 = base64.StdEncoding.EncodeToString(body)
	}
	return b
}

// Encode writes a capture as a line, its end included.
func Encode(c *exchange.Capture) ([]byte, error) {
	line := lineCapture{Audience: c.Audience,
		Request:  &lineRequest{Method: c.Request.Method, Headers: c.Request.Header, lineBody: lineBodyOf(c.Request.Body, "")},
		Response: &lineResponse{Status: c.Response.Status, Headers: c.Response.Header, lineBody: lineBodyOf(c.Response.Body, c.Response.Missing)}}
	if !c.Started.IsZero() {
		line.Started = c.Started.UTC().Format(time.RFC3339Nano)
	}
	if c.Request.URL != nil {
		line.Request.URL = c.Request.URL.String()
	}
	text, err := json.Marshal(line, lineOptions)
	return append(text, '\n'), err
}

// lines reads capture lines. A line that cannot be read is listed, and the rest
// is read all the same.
func (in *reading) lines(name string, r *bufio.Reader) error {
	for entry := 0; ; {
		line, err := readLine(r, maxEntry)
		switch {
		case err == io.EOF:
			return nil
		case errors.Is(err, errHead):
			return &Error{File: name, Offset: -1, Entry: entry, Reason: fmt.Sprintf("line %d is longer than %d MiB; what follows it is not read", entry+1, maxEntry>>20)}
		case err != nil:
			return &Error{File: name, Offset: -1, Entry: entry, Reason: "cannot be read further: " + plain(err)}
		case strings.TrimSpace(line) == "":
			continue
		}
		c, err := decodeLine([]byte(line))
		if err != nil {
			if _, last := r.Peek(1); last != nil {
				return &Error{File: name, Offset: -1, Entry: entry, Reason: "the last line is not a whole capture line; what came before is complete"}
			}
			c = &exchange.Capture{Response: exchange.Response{Missing: err.Error()}}
		}
		if err := in.hand(name, entry, c); err != nil {
			return err
		}
		entry++
	}
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
	c := &exchange.Capture{Audience: line.Audience}
	c.Started, _ = time.Parse(time.RFC3339Nano, line.Started)
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
	c.Response = exchange.Response{Status: line.Response.Status, Header: line.Response.Headers, Missing: line.Response.Missing}
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
