package exchange

import (
	"bytes"

	"github.com/go-json-experiment/json/jsontext"
)

// Outline gives what may stay of a body that is not kept: its JSON with each
// string and number replaced by a stand-in of the same length, and each truth
// value by null, so that names, structure and weights are there and no value is.
// Names that are data are replaced too where isData says so. It is nil for what is
// no JSON body.
func Outline(contentType string, body []byte, isData func(name []byte) bool) []byte {
	if kind, _ := mediaOf(contentType); kind != isJSON && !(kind == unread && looksLikeJSON(body)) {
		return nil
	}
	out := bytes.Clone(body)
	d := jsontext.NewDecoder(bytes.NewBuffer(body), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	for {
		t, err := d.ReadToken()
		if err != nil {
			if end := int(d.InputOffset()); len(bytes.TrimSpace(out[end:])) > 0 { // it breaks off: what follows is not known to be harmless
				out = out[:end]
			}
			return out
		}
		end := int(d.InputOffset())
		kind, nth := d.StackIndex(d.StackDepth())
		name := kind == '{' && nth%2 == 1
		switch t.Kind() {
		case '"':
			start := stringStart(body, end)
			if name && !isData([]byte(t.String())) {
				continue
			}
			for i := start; i < end-1; i++ {
				out[i] = 'x'
			}
		case '0':
			for i := end - 1; i >= 0 && numeric(body[i]); i-- {
				out[i] = '1'
			}
		case 't', 'f':
			length := len("true")
			if t.Kind() == 'f' {
				length = len("false")
			}
			copy(out[end-length:end], "null ")
		}
	}
}

func numeric(c byte) bool {
	return c >= '0' && c <= '9' || c == '-' || c == '+' || c == '.' || c == 'e' || c == 'E'
}

// stringStart gives the first byte inside the string whose closing quote is the
// last byte before end.
func stringStart(body []byte, end int) int {
	for i := end - 2; i >= 0; i-- {
		if body[i] != '"' {
			continue
		}
		escapes := 0
		for k := i - 1; k >= 0 && body[k] == '\\'; k-- {
			escapes++
		}
		if escapes%2 == 0 {
			return i + 1
		}
	}
	return 0
}
