package exchange

import (
	"bytes"
	"io"
	"mime"
	"mime/multipart"
)

// Streams reports whether a body of this type holds several results of a query, one after the other: server-sent
// events, lines, or parts of a multipart body.
func Streams(contentType string) bool {
	switch kind, _ := mediaOf(contentType); kind {
	case isEvents, isLines, isSequence, isStream, isMultipart:
		return true
	}
	return false
}

// Results is [Parts] for the results of queries: the parts of a multipart body that are JSON are the list of their
// values.
func Results(contentType string, body []byte) ([]Part, error) {
	if kind, name := mediaOf(contentType); kind != isMultipart || name == "multipart/form-data" {
		return Parts(nil, contentType, body)
	}
	_, params, err := mime.ParseMediaType(contentType)
	if err != nil {
		params = map[string]string{}
	}
	if params["boundary"] == "" {
		params["boundary"] = "-" // what incremental delivery over HTTP uses
	}
	r := multipart.NewReader(bytes.NewReader(body), params["boundary"])
	w := &writer{}
	w.from(0)
	w.put("[")
	from, any := 0, false
	for n := 0; n < maxParts; n++ {
		p, err := r.NextRawPart()
		if err != nil {
			break // it ends, or breaks off
		}
		data, err := io.ReadAll(p)
		if err != nil && len(data) == 0 {
			break
		}
		at := from + max(0, bytes.Index(body[from:], data))
		from = min(len(body), at+len(data))
		if kind, name := mediaOf(p.Header.Get("Content-Type")); kind != isJSON && name != "" ||
			len(bytes.TrimSpace(data)) == 0 {
			continue
		}
		if any {
			w.put(",")
		}
		any = true
		w.run(at, data)
	}
	w.from(len(body))
	w.put("]")
	return []Part{{Text: w.text, anchors: w.anchors}}, nil
}
