package exchange

import (
	"bytes"

	"github.com/go-json-experiment/json/jsontext"
)

// stream reads JSON values that follow each other, whatever stands between them: blanks, line ends or nothing. What
// is no value any more is kept as it is, so that the fault is found at its place.
func stream(body []byte) Part {
	w := &writer{}
	w.from(0)
	w.put("[")
	d := jsontext.NewDecoder(bytes.NewBuffer(body), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	end := 0
	for n := 0; ; n++ {
		value, err := d.ReadValue()
		if err != nil {
			break
		}
		if n > 0 {
			w.put(",")
		}
		end = int(d.InputOffset())
		w.run(end-len(value), value)
	}
	if rest := bytes.TrimLeft(body[end:], " \t\r\n"); len(rest) > 0 {
		if len(w.text) > 1 {
			w.put(",")
		}
		w.run(len(body)-len(rest), rest)
		return Part{Text: w.text, anchors: w.anchors}
	}
	w.from(len(body))
	w.put("]")
	return Part{Text: w.text, anchors: w.anchors}
}
