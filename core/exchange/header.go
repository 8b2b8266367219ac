package exchange

import (
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Header holds the fields of a message in the order in which they were sent.
type Header []HeaderField

// HeaderField is one field line. Value holds the bytes as sent, which need not be UTF-8 (obs-text, RFC 9110 section
// 5.5).
type HeaderField struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// writtenField is a field in JSON, with base64 in place of a value that is not text.
type writtenField struct {
	Name  string `json:"name"`
	Value string `json:"value,omitzero"`
	Bytes []byte `json:"value_base64,omitzero"`
}

// MarshalJSON encodes a list of names and values. A value that is not UTF-8 becomes value_base64.
func (h Header) MarshalJSON() ([]byte, error) {
	all := make([]any, len(h))
	for i, f := range h {
		if all[i] = f; !utf8.ValidString(f.Value) {
			all[i] = writtenField{Name: f.Name, Bytes: []byte(f.Value)}
		}
	}
	return json.Marshal(all)
}

// UnmarshalJSON decodes what [Header.MarshalJSON] encodes.
func (h *Header) UnmarshalJSON(text []byte) error {
	var all []writtenField
	if err := json.Unmarshal(text, &all, jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true)); err != nil {
		return err
	}
	*h = make(Header, len(all))
	for i, f := range all {
		if (*h)[i] = (HeaderField{f.Name, f.Value}); f.Bytes != nil {
			(*h)[i].Value = string(f.Bytes)
		}
	}
	return nil
}

// Get returns the first value of a field, in any case.
func (h Header) Get(name string) string {
	v, _ := h.Find(name)
	return v
}

// Find is Get, and also reports whether the field is present.
func (h Header) Find(name string) (string, bool) {
	for _, f := range h {
		if strings.EqualFold(f.Name, name) {
			return f.Value, true
		}
	}
	return "", false
}

// Cookie returns the value of a cookie in a request.
func (h Header) Cookie(name string) (string, bool) {
	for _, f := range h {
		if !strings.EqualFold(f.Name, "Cookie") {
			continue
		}
		for _, pair := range strings.Split(f.Value, ";") {
			k, v, _ := strings.Cut(strings.TrimSpace(pair), "=")
			if k == name {
				return v, true
			}
		}
	}
	return "", false
}

// With returns the fields with one that has a value, in place of others of its name.
func (h Header) With(name, value string) Header {
	all := make(Header, 0, len(h)+1)
	for _, f := range h {
		if !strings.EqualFold(f.Name, name) {
			all = append(all, f)
		}
	}
	return append(all, HeaderField{Name: name, Value: value})
}
