package intake

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"path"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"inkret/core/exchange"
)

// maxEntry limits one HAR entry including bodies, in bytes, and thereby memory.
const maxEntry = 96 << 20

// The members of HAR 1.2 that are used.
type (
	harEntry struct {
		Started  string       `json:"startedDateTime"`
		Request  *harRequest  `json:"request"`
		Response *harResponse `json:"response"`
	}
	harRequest struct {
		Method   string                 `json:"method"`
		URL      string                 `json:"url"`
		Headers  exchange.Header        `json:"headers"`
		Cookies  []exchange.HeaderField `json:"cookies"`
		PostData *harForm               `json:"postData"`
	}
	harForm struct {
		MimeType string `json:"mimeType"`
		Text     string `json:"text"`
		Params   []struct {
			Name        string `json:"name"`
			Value       string `json:"value"`
			FileName    string `json:"fileName"`
			ContentType string `json:"contentType"`
		} `json:"params"`
	}
	harResponse struct {
		Status  float64         `json:"status"`
		Headers exchange.Header `json:"headers"`
		Content *struct {
			Size     float64  `json:"size"`
			MimeType string   `json:"mimeType"`
			Text     *harText `json:"text"`
			Encoding string   `json:"encoding"`
			File     string   `json:"_file"` // that holds the body, beside the HAR
		} `json:"content"`
	}
)

// harText is a text that is decoded into its own bytes once, because it may be long.
type harText []byte

// UnmarshalJSONFrom implements [json.UnmarshalerFrom].
func (t *harText) UnmarshalJSONFrom(dec *jsontext.Decoder) error {
	v, err := dec.ReadValue()
	if err != nil {
		return err
	}
	if v.Kind() != '"' {
		return errors.New("a text is expected")
	}
	*t = unquoted(v)
	return nil
}

// harReader reads a HAR token by token, entry by entry.
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
	err := error(nil)
	for more := true; more && err == nil; more = h.dec.PeekKind() == '{' { // several may stand one behind the other
		h.in.left = maxEntry
		err = h.members(func(member string) error {
			if member != "log" {
				return h.dec.SkipValue()
			}
			found = true
			return h.members(h.log)
		})
	}
	if err == nil {
		if _, err = h.dec.ReadToken(); err == nil {
			err = &Error{File: name, Offset: h.dec.InputOffset(), Entry: h.entry,
				Reason: "what stands behind the HAR is no HAR, and is not read"}
		} else if err == io.EOF {
			err = nil
		}
	}
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

// members calls f with the name of each member of the next object.
func (h *harReader) members(f func(string) error) error {
	token, err := h.dec.ReadToken()
	if err != nil {
		return err
	}
	if token.Kind() != '{' {
		return &Error{File: h.name, Offset: h.dec.InputOffset(), Entry: h.entry,
			Reason: "an object was expected, as HAR 1.2 has it"}
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
		c, err := h.next()
		if err != nil {
			return err
		}
		if err := h.hand(h.name, h.entry, c); err != nil {
			return err
		}
		h.entry++
	}
}

// next reads an entry. What is not as it should be becomes the reason for a missing body, so that the entry still
// counts.
func (h *harReader) next() (*exchange.Capture, error) {
	var e harEntry
	depth := h.dec.StackDepth()
	_, before := h.dec.StackIndex(depth)
	err := json.UnmarshalDecode(h.dec, &e)
	var semantic *json.SemanticError
	switch {
	case err == nil:
		return h.harCapture(&e), nil
	case !errors.As(err, &semantic):
		return nil, err
	}
	for h.dec.StackDepth() > depth { // the rest of the entry
		if _, err := h.dec.ReadToken(); err != nil {
			return nil, err
		}
	}
	if _, now := h.dec.StackIndex(depth); now == before {
		if err := h.dec.SkipValue(); err != nil {
			return nil, err
		}
	}
	c := &exchange.Capture{}
	c.Response.Missing = "the entry is not as HAR 1.2 has it"
	if at := withinEntry(string(semantic.JSONPointer)); at != "" {
		c.Response.Missing += ": " + clip(at) + " has the wrong type"
	}
	return c, nil
}

// withinEntry returns the pointer of a member from its entry on, as in /response/status.
func withinEntry(pointer string) string {
	const above = 3 // /log/entries/0
	for range above {
		if pointer == "" {
			return ""
		}
		if i := strings.IndexByte(pointer[1:], '/'); i >= 0 {
			pointer = pointer[1+i:]
		} else {
			pointer = ""
		}
	}
	return pointer
}

// harCapture converts an entry to a capture.
func (in *reading) harCapture(e *harEntry) *exchange.Capture {
	c := &exchange.Capture{}
	c.Started = timeOf(e.Started)
	if e.Request == nil {
		c.Response.Missing = "the entry has no request"
		return c
	}
	c.Request.Method, c.Request.Header = strings.ToUpper(e.Request.Method), e.Request.Headers
	if u, err := url.Parse(e.Request.URL); err == nil && u.Host != "" {
		c.Request.URL = u
	}
	if form := e.Request.PostData; form != nil {
		if _, ok := c.Request.Header.Find("Content-Type"); !ok && form.MimeType != "" {
			c.Request.Header = append(c.Request.Header, exchange.HeaderField{Name: "Content-Type",
				Value: form.MimeType})
		}
		if c.Request.Body = []byte(form.Text); form.Text == "" {
			c.Request.Body = form.written(c.Request.Header.Get("Content-Type"))
		}
	}
	if _, ok := c.Request.Header.Find("Cookie"); !ok && len(e.Request.Cookies) > 0 {
		var pairs []string
		for _, one := range e.Request.Cookies {
			pairs = append(pairs, one.Name+"="+one.Value)
		}
		c.Request.Header = append(c.Request.Header, exchange.HeaderField{Name: "Cookie", Value: strings.Join(pairs,
			"; ")})
	}
	if e.Response == nil {
		c.Response.Missing = "the entry has no response"
		return c
	}
	in.harBody(c, e.Response)
	return c
}

// plainBase64 converts base64url (RFC 4648 section 5), and base64 in lines, to plain base64.
var plainBase64 = strings.NewReplacer("-", "+", "_", "/", "\n", "", "\r", "")

// written returns the body that params describe, if a recording only has these.
func (f *harForm) written(media string) []byte {
	if len(f.Params) == 0 {
		return nil
	}
	if kind, parameters, err := mime.ParseMediaType(media); err == nil && kind == "multipart/form-data" {
		return f.multipart(parameters["boundary"])
	}
	escaped := f.escaped()
	var pairs []string
	for _, p := range f.Params {
		if !escaped {
			p.Name, p.Value = url.QueryEscape(p.Name), url.QueryEscape(p.Value)
		}
		pairs = append(pairs, p.Name+"="+p.Value)
	}
	return []byte(strings.Join(pairs, "&"))
}

// escaped reports whether names and values are already percent-encoded, which HAR does not specify.
func (f *harForm) escaped() bool {
	some := false
	for _, p := range f.Params {
		for _, text := range []string{p.Name, p.Value} {
			plain, err := url.QueryUnescape(text)
			if err != nil || strings.ContainsAny(text, " &=@/:?#\"<>{}[]\r\n") {
				return false
			}
			some = some || plain != text
		}
	}
	return some
}

func (f *harForm) multipart(boundary string) []byte {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	if w.SetBoundary(boundary) != nil {
		return nil
	}
	for _, p := range f.Params {
		fields := map[string]string{"name": p.Name}
		if p.FileName != "" {
			fields["filename"] = p.FileName
		}
		head := textproto.MIMEHeader{"Content-Disposition": {mime.FormatMediaType("form-data", fields)}}
		if p.ContentType != "" {
			head.Set("Content-Type", strings.NewReplacer("\r", " ", "\n", " ").Replace(p.ContentType))
		}
		part, err := w.CreatePart(head)
		if err != nil {
			return nil
		}
		io.WriteString(part, p.Value)
	}
	w.Close()
	return b.Bytes()
}

func (in *reading) harBody(c *exchange.Capture, from *harResponse) {
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
	if content.Text == nil && content.File != "" {
		body, err := in.attached(content.File)
		if err != nil {
			r.Missing = fmt.Sprintf("the body is in a file of its own, %q, which cannot be read: %v",
				clip(content.File), err)
			return
		}
		if r.Receive(body); r.Missing == "" {
			c.Incomplete = shorter(int64(max(len(r.Body), len(body))), int64(content.Size), false)
		}
		return
	}
	if content.Text == nil {
		if content.Size > 0 {
			r.Missing = "the recording holds no body for this response (content.text is absent)"
		}
		return
	}
	r.Body = bytes.TrimPrefix(*content.Text, []byte("\uFEFF"))
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
	body, err := base64.RawStdEncoding.DecodeString(plainBase64.Replace(strings.TrimRight(string(*content.Text),
		"= \t\r\n")))
	if err != nil {
		r.Body, r.Missing = nil, fmt.Sprintf("content.text is not base64: %v", err)
		return
	}
	r.Body = nil
	if r.Receive(body); r.Missing == "" {
		c.Incomplete = shorter(int64(max(len(r.Body), len(body))), int64(content.Size), false)
	}
}

// attached reads a file beside a recording. Its name is untrusted.
func (in *reading) attached(name string) ([]byte, error) {
	name = path.Clean(strings.ReplaceAll(name, `\`, "/"))
	if in.Beside == nil {
		return nil, errors.New("files beside the recording are not at hand here; put both in a zip file")
	}
	if !fs.ValidPath(name) {
		return nil, errors.New("its path leads elsewhere")
	}
	f, err := in.Beside.Open(name)
	if err != nil {
		return nil, errors.New("there is no such file beside the recording")
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, errors.New("it is no file")
	}
	body, err := io.ReadAll(io.LimitReader(f, maxEntry+1))
	switch {
	case err != nil:
		return nil, errors.New(plain(err))
	case len(body) > maxEntry:
		return nil, fmt.Errorf("it is larger than %d MiB", maxEntry>>20)
	}
	return body, nil
}

// charsetOf returns the charset of a media type, because content.size counts the bytes as sent.
func charsetOf(media string) string {
	_, parameters, _ := mime.ParseMediaType(media)
	return parameters["charset"]
}

// clip shortens recorded text for a message.
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

// boundedReader fails after left bytes.
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
