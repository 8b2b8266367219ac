package intake

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"inkret/core/exchange"
)

// maxEntry bounds the bytes of one entry of a HAR, body included, so that
// memory is bounded whatever a file holds.
const maxEntry = 96 << 20

// The members of HAR 1.2 that matter here.
type (
	harEntry struct {
		Started  string       `json:"startedDateTime"`
		Request  *harRequest  `json:"request"`
		Response *harResponse `json:"response"`
	}
	harRequest struct {
		Method   string          `json:"method"`
		URL      string          `json:"url"`
		Headers  exchange.Header `json:"headers"`
		PostData *struct {
			Text string `json:"text"`
		} `json:"postData"`
	}
	harResponse struct {
		Status  float64         `json:"status"`
		Headers exchange.Header `json:"headers"`
		Content *struct {
			Size     float64 `json:"size"`
			MimeType string  `json:"mimeType"`
			Text     *string `json:"text"`
			Encoding string  `json:"encoding"`
		} `json:"content"`
	}
)

// harReader walks a HAR token by token down to its entries.
type harReader struct {
	*reading
	name  string
	in    *boundedReader
	dec   *jsontext.Decoder
	entry int
}

func (in *reading) har(name string, r io.Reader) error {
	h := &harReader{reading: in, name: name, in: &boundedReader{r: r, left: maxEntry}}
	h.dec = jsontext.NewDecoder(h.in, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	found := false
	err := h.members(func(member string) error {
		if member != "log" {
			return h.dec.SkipValue()
		}
		found = true
		return h.members(h.log)
	})
	var stop errStop
	switch {
	case errors.As(err, &stop):
		return err
	case err != nil:
		return h.fail(err)
	case !found:
		return &Error{File: name, Offset: -1, Unknown: true, Reason: "JSON, and no HAR: it has no member \"log\""}
	}
	return nil
}

func (h *harReader) fail(err error) error {
	e := &Error{File: h.name, Offset: h.dec.InputOffset(), Entry: h.entry}
	var syntax *jsontext.SyntacticError
	var mine *Error
	switch {
	case errors.As(err, &mine):
		return mine
	case errors.Is(err, errEntryTooLarge):
		e.Reason = fmt.Sprintf("an entry is larger than %d MiB; what follows it is not read", maxEntry>>20)
	case errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF):
		e.Reason = "the file ends in the middle; what came before is complete"
	case errors.As(err, &syntax):
		e.Offset = syntax.ByteOffset
		e.Reason = "this is not JSON: " + plain(syntax)
	default:
		e.Reason = "cannot be read further: " + plain(err)
	}
	return e
}

// members calls f with the name of each member of the object that comes next.
func (h *harReader) members(f func(string) error) error {
	token, err := h.dec.ReadToken()
	if err != nil {
		return err
	}
	if token.Kind() != '{' {
		return &Error{File: h.name, Offset: h.dec.InputOffset(), Entry: h.entry, Reason: "an object was expected, as HAR 1.2 has it"}
	}
	for {
		if token, err = h.dec.ReadToken(); err != nil {
			return err
		}
		if token.Kind() == '}' {
			return nil
		}
		if err := f(token.String()); err != nil {
			return err
		}
	}
}

func (h *harReader) log(member string) error {
	switch member {
	case "version":
		token, err := h.dec.ReadToken()
		if err != nil {
			return err
		}
		if v := token.String(); v != "" && !strings.HasPrefix(v, "1.") {
			return &Error{File: h.name, Offset: -1, Reason: fmt.Sprintf("HAR version %q is not read; 1.2 is", clip(v))}
		}
		return nil
	case "entries":
		return h.entries()
	}
	return h.dec.SkipValue()
}

func (h *harReader) entries() error {
	if h.dec.PeekKind() != '[' {
		return &Error{File: h.name, Offset: h.dec.InputOffset(), Reason: "log.entries is not a list"}
	}
	if _, err := h.dec.ReadToken(); err != nil {
		return err
	}
	for {
		if h.dec.PeekKind() == ']' {
			_, err := h.dec.ReadToken()
			return err
		}
		h.in.left = maxEntry
		raw, err := h.dec.ReadValue()
		if err != nil {
			return err
		}
		if err := h.hand(h.name, h.entry, harCapture(raw)); err != nil {
			return err
		}
		h.entry++
	}
}

// harCapture turns an entry into a capture. What cannot be read of it becomes
// the reason why its body is missing, so that the entry is counted and named.
func harCapture(raw jsontext.Value) *exchange.Capture {
	var e harEntry
	c := &exchange.Capture{}
	if err := json.Unmarshal(raw, &e, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)); err != nil {
		c.Response.Missing = "the entry is not as HAR 1.2 has it"
		var semantic *json.SemanticError
		if errors.As(err, &semantic) && semantic.JSONPointer != "" {
			c.Response.Missing += ": " + clip(string(semantic.JSONPointer)) + " has the wrong type"
		}
		return c
	}
	c.Started = timeOf(e.Started)
	if e.Request == nil {
		c.Response.Missing = "the entry has no request"
		return c
	}
	c.Request.Method, c.Request.Header = strings.ToUpper(e.Request.Method), e.Request.Headers
	if u, err := url.Parse(e.Request.URL); err == nil && u.Host != "" {
		c.Request.URL = u
	}
	if e.Request.PostData != nil {
		c.Request.Body = []byte(e.Request.PostData.Text)
	}
	if e.Response == nil {
		c.Response.Missing = "the entry has no response"
		return c
	}
	harBody(c, e.Response)
	return c
}

func harBody(c *exchange.Capture, from *harResponse) {
	r := &c.Response
	r.Status, r.Header = int(from.Status), from.Headers
	if r.Status == 0 {
		r.Missing = "no response was received (status 0)"
		return
	}
	content := from.Content
	if content == nil {
		return
	}
	if _, ok := r.Header.Find("Content-Type"); !ok && content.MimeType != "" {
		r.Header = append(r.Header, exchange.HeaderField{Name: "Content-Type", Value: content.MimeType})
	}
	if content.Text == nil {
		if content.Size > 0 {
			r.Missing = "the recording holds no body for this response (content.text is absent)"
		}
		return
	}
	r.Body = []byte(strings.TrimPrefix(*content.Text, "\uFEFF"))
	if content.Encoding == "" {
		if charset := charsetOf(content.MimeType); charset == "" || strings.EqualFold(charset, "utf-8") {
			c.Incomplete = shorter(int64(len(*content.Text)), int64(content.Size), false)
		}
		return
	}
	if !strings.EqualFold(content.Encoding, "base64") {
		r.Body, r.Missing = nil, fmt.Sprintf("content.encoding %q is not read; base64 is", clip(content.Encoding))
		return
	}
	body, err := base64.StdEncoding.DecodeString(*content.Text)
	if err != nil {
		r.Body, r.Missing = nil, fmt.Sprintf("content.text is not base64: %v", err)
		return
	}
	r.Body = nil
	if r.Receive(body); r.Missing == "" {
		c.Incomplete = shorter(int64(max(len(r.Body), len(body))), int64(content.Size), false)
	}
}

// charsetOf gives the charset of a media type, or nothing: content.size counts bytes of the body as it was sent.
func charsetOf(media string) string {
	_, parameters, _ := mime.ParseMediaType(media)
	return parameters["charset"]
}

// clip shortens text of a recording for a message.
func clip(s string) string {
	if len(s) > 60 {
		s = s[:60] + "…"
	}
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
}

var errEntryTooLarge = errors.New("entry too large")

// boundedReader fails once more than left bytes were read since left was set.
type boundedReader struct {
	r    io.Reader
	left int
}

func (b *boundedReader) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errEntryTooLarge
	}
	n, err := b.r.Read(p)
	b.left -= n
	return n, err
}
