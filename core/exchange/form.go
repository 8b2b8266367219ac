package exchange

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"strings"
)

// field is a form field or a part of a multipart body.
type field struct {
	name, value string
	at, end     int // in the body
}

// fields writes a form as an object; repeated names become lists.
func fields(all []field) Part {
	w := &writer{}
	w.from(0)
	at := map[string][]int{}
	var order []string
	for i, f := range all {
		if at[f.name] == nil {
			order = append(order, f.name)
		}
		at[f.name] = append(at[f.name], i)
	}
	w.put("{")
	for i, name := range order {
		if i > 0 {
			w.put(",")
		}
		same := at[name]
		w.from(all[same[0]].at)
		w.quote(name)
		w.put(":")
		w.values(all, same)
		w.from(all[same[len(same)-1]].end)
	}
	w.put("}")
	return w.part()
}

// values writes one value, or a list of several.
func (w *writer) values(all []field, which []int) {
	if len(which) == 1 {
		w.quote(all[which[0]].value)
		return
	}
	w.put("[")
	for i, k := range which {
		if i > 0 {
			w.put(",")
		}
		w.from(all[k].at)
		w.quote(all[k].value)
	}
	w.put("]")
}

// form parses application/x-www-form-urlencoded.
func form(body []byte) Part {
	var all []field
	at := 0
	for _, pair := range bytes.Split(body, []byte("&")) {
		name, value, _ := bytes.Cut(pair, []byte("="))
		if len(pair) > 0 {
			all = append(all, field{unescape(name), unescape(value), at, at + len(pair)})
		}
		at += len(pair) + 1
	}
	return fields(all)
}

func unescape(text []byte) string {
	plain, err := url.QueryUnescape(string(text))
	if err != nil {
		return string(text)
	}
	return plain
}

// maxParts limits the parts of a multipart body.
const maxParts = 1000

// multiparts parses a multipart body: form-data as the object of its fields, others as the list of parts. Files
// that are not text are left out.
func multiparts(contentType string, body []byte) (Part, error) {
	boundary := parameter(contentType, "boundary")
	if boundary == "" {
		return Part{}, errors.New("the multipart body names no boundary")
	}
	r := multipart.NewReader(bytes.NewReader(body), boundary)
	var all []field
	from := 0
	for len(all) < maxParts {
		p, err := r.NextRawPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			return Part{}, errors.New("the multipart body is broken: " + err.Error())
		}
		data, err := io.ReadAll(p)
		if err != nil {
			return Part{}, errors.New("the multipart body breaks off in a part")
		}
		at := from + max(0, bytes.Index(body[from:], data))
		from = min(len(body), at+len(data))
		if text, ok := partText(p.Header, data); ok {
			all = append(all, field{p.FormName(), text, at, from})
		}
	}
	if name, _, _ := mime.ParseMediaType(contentType); name == "multipart/form-data" {
		return fields(all), nil
	}
	w := &writer{}
	w.from(0)
	w.put("[")
	for i, f := range all {
		if i > 0 {
			w.put(",")
		}
		w.from(f.at)
		w.quote(f.value)
		w.from(f.end)
	}
	w.put("]")
	return w.part(), nil
}

// partText returns the text of a part, or nothing for binary parts. A part that is an HTTP message (RFC 9112)
// counts as its body.
func partText(h textproto.MIMEHeader, data []byte) (string, bool) {
	kind, name := mediaOf(h.Get("Content-Type"))
	switch {
	case name == "application/http":
		_, data, _ = bytes.Cut(bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n")), []byte("\n\n"))
		if head, rest, ok := bytes.Cut(data, []byte("\n\n")); ok && bytes.Contains(head, []byte(":")) &&
			!looksLikeJSON(data) {
			data = rest
		}
	case kind == unread && name != "" && !strings.HasPrefix(name, "text/"):
		return "", false
	}
	text, err := Text(data, h.Get("Content-Type"))
	return string(text), err == nil
}
