package exchange

import (
	"bytes"

	"github.com/go-json-experiment/json/jsontext"
)

// Texts with several JSON values are read as a list. What separates the values is overwritten with blanks and
// commas, so that each byte keeps its position, apart from the opening bracket.

const recordSeparator = 0x1e

// list returns the part for a text whose commas are in place.
func list(text []byte) Part {
	return Part{Text: text, anchors: []anchor{{text: 0, body: 0}, {text: 1, body: 0, runs: true}}}
}

// lines reads NDJSON and JSON text sequences.
func lines(body []byte) Part {
	text := make([]byte, 0, len(body)+2)
	text = append(text, '[')
	text = append(text, body...)
	between := byte('\n')
	if bytes.IndexByte(body, recordSeparator) >= 0 {
		between = recordSeparator
	}
	waiting, any := -1, false // where a comma may go; whether a value came before
	for i := 1; i < len(text); i++ {
		switch c := text[i]; {
		case c == between:
			if text[i] = ' '; waiting < 0 {
				waiting = i
			}
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
		default:
			if waiting >= 0 && any {
				text[waiting] = ','
			}
			waiting, any = -1, true
		}
	}
	return list(append(text, ']'))
}

// events reads server-sent events: the data of each event that is JSON. Other data is ignored.
func events(body []byte) Part {
	text := bytes.Repeat([]byte{' '}, len(body)+2)
	text[0], text[len(text)-1] = '[', ']'
	var data []byte // of the event being read, as long as the body up to here
	begin, any := 0, false
	end := func(at int) {
		if one := bytes.TrimSpace(data); len(one) > 0 && jsontext.Value(one).IsValid(jsontext.AllowDuplicateNames(true),
			jsontext.AllowInvalidUTF8(true)) {
			copy(text[begin+1:], data)
			if any {
				text[begin+1+bytes.IndexFunc(data, notBlank)-1] = ','
			}
			any = true
		}
		data, begin = data[:0], at
	}
	for at := 0; at < len(body); {
		stop, next := lineEnd(body, at)
		line := body[at:stop]
		if len(line) == 0 {
			end(next)
			at = next
			continue
		}
		value, isData := bytes.CutPrefix(line, []byte("data:"))
		for len(data) < stop-begin-len(value) || !isData && len(data) < stop-begin {
			data = append(data, ' ')
		}
		if isData {
			data = append(data, value...)
		}
		at = next
	}
	end(len(body))
	return list(text)
}

func notBlank(r rune) bool { return r != ' ' && r != '\t' && r != '\r' && r != '\n' }

// lineEnd returns where the line at at ends, and where the next begins. Lines end with CR LF, LF or CR.
func lineEnd(body []byte, at int) (stop, next int) {
	i := bytes.IndexAny(body[at:], "\r\n")
	if i < 0 {
		return len(body), len(body)
	}
	stop = at + i
	if next = stop + 1; body[stop] == '\r' && next < len(body) && body[next] == '\n' {
		next++
	}
	return stop, next
}
