package exchange

import (
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Header is the fields of a message in the order in which they were sent.
type Header []HeaderField

// HeaderField is one header field line. Value is the bytes that were sent, which need not be UTF-8 (obs-text in
// RFC 9110 section 5.5).
type HeaderField struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// writtenField is a field in JSON: with bytes in place of the value where that is no text.
type writtenField struct {
	Name  string `json:"name"`
	Value string `json:"value,omitzero"`
	Bytes []byte `json:"value_base64,omitzero"`
}

// MarshalJSON writes a list of name and value. A value that is not UTF-8 is written as value_base64, so that no
// byte of it is lost.
func (h Header) MarshalJSON() ([]byte, error) {
	all := make([]any, len(h))
	for i, f := range h {
		if all[i] = f; !utf8.ValidString(f.Value) {
			all[i] = writtenField{Name: f.Name, Bytes: []byte(f.Value)}
		}
	}
	return json.Marshal(all)
}

// UnmarshalJSON reads what [Header.MarshalJSON] writes.
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

// Get gives the first value under name, without regard to capitals.
func (h Header) Get(name string) string {
	v, _ := h.Find(name)
	return v
}

// Find is Get that also reports whether the field is there at all.
func (h Header) Find(name string) (string, bool) {
	for _, f := range h {
		if strings.EqualFold(f.Name, name) {
			return f.Value, true
		}
	}
	return "", false
}

// Cookie gives the value of a cookie that a request sends.
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
