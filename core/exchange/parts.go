package exchange

import (
	"bytes"
	"errors"
	"fmt"
	"mime"
	"sort"
	"strings"
)

// Part is a JSON text in a body: the body itself, its equivalent if it uses another notation, or a text inside it.
type Part struct {
	Place   string // as paths write it, such as script#state; empty for the body itself
	Pointer string // the one of several alike: script(3)
	Text    []byte
	Untyped bool // every value is a string and a list of one looks like one: XML, forms
	Sparse  bool // what is not there has its usual value: nothing is missing

	anchors []anchor // where the text stands in the body, rising; none where it is the body
}

// anchor maps a byte of a part's text to the body.
type anchor struct {
	text, body int
	runs       bool // what follows stands there byte by byte, up to the next anchor
}

// Origin returns the byte of the body for byte i of the text.
func (p *Part) Origin(i int) int {
	k := sort.Search(len(p.anchors), func(k int) bool { return p.anchors[k].text > i }) - 1
	switch {
	case len(p.anchors) == 0:
		return i
	case k < 0:
		return p.anchors[0].body
	case p.anchors[k].runs:
		return p.anchors[k].body + i - p.anchors[k].text
	}
	return p.anchors[k].body
}

// Weight returns how many bytes of the body the text from start to end takes. Where the body has another encoding,
// as in an attribute, it is the text's own length.
func (p *Part) Weight(start, end int) int {
	if len(p.anchors) == 0 || len(p.anchors) == 1 && !p.anchors[0].runs {
		return end - start
	}
	return max(0, p.Origin(end)-p.Origin(start))
}

// Same reports whether the text is the body itself, byte by byte.
func (p *Part) Same() bool { return len(p.anchors) == 0 }

// media is what a Content-Type says.
type media uint8

const (
	unread media = iota
	isJSON
	isLines    // NDJSON: a value a line
	isSequence // RFC 7464: a value behind each record separator
	isStream   // JSON values that follow each other
	isEvents   // server-sent events
	isCommas   // CSV (RFC 4180)
	isTabs     // TSV
	isCBOR     // RFC 8949
	isMessagePack
	isForm // application/x-www-form-urlencoded
	isMultipart
	isXML
	isHTML
)

func mediaOf(contentType string) (media, string) {
	name, _, _ := strings.Cut(contentType, ";")
	name = strings.ToLower(strings.TrimSpace(name))
	switch name {
	case "application/json", "text/json":
		return isJSON, name
	case "application/x-ndjson", "application/ndjson", "application/jsonl", "application/x-jsonlines",
		"application/json-lines":
		return isLines, name
	case "application/json-seq":
		return isSequence, name
	case "application/stream+json":
		return isStream, name
	case "text/event-stream":
		return isEvents, name
	case "text/csv", "application/csv":
		return isCommas, name
	case "text/tab-separated-values":
		return isTabs, name
	case "application/cbor":
		return isCBOR, name
	case "application/msgpack", "application/vnd.msgpack", "application/x-msgpack":
		return isMessagePack, name
	case "application/x-www-form-urlencoded":
		return isForm, name
	case "application/xml", "text/xml":
		return isXML, name
	case "text/html", "application/xhtml+xml":
		return isHTML, name
	}
	switch {
	case strings.HasSuffix(name, "+json"):
		return isJSON, name
	case strings.HasSuffix(name, "+json-seq"):
		return isSequence, name
	case strings.HasSuffix(name, "+cbor"):
		return isCBOR, name
	case strings.HasSuffix(name, "+xml") && name != "image/svg+xml":
		return isXML, name
	case strings.HasPrefix(name, "multipart/"):
		return isMultipart, name
	}
	return unread, name
}

// Notation returns what the notation of a body is called.
func Notation(contentType string) string {
	switch kind, _ := mediaOf(contentType); kind {
	case isCBOR:
		return "CBOR"
	case isMessagePack:
		return "MessagePack"
	}
	if HoldsMessages(contentType) {
		return "a message"
	}
	return "JSON"
}

// looksLikeJSON reports whether a body without a media type begins like JSON.
func looksLikeJSON(body []byte) bool {
	t := bytes.TrimLeft(body, " \t\r\n")
	return len(t) > 0 && (t[0] == '{' || t[0] == '[')
}

// Readable returns why a body cannot be evaluated; nil if it can. A body without a media type is read if it looks
// like JSON.
func Readable(contentType string, body []byte) error {
	kind, name := mediaOf(contentType)
	switch {
	case kind != unread:
		return nil
	case byContent[name] && holdsJSON(body):
		return nil
	case name == "" || name == "x-unknown":
		if looksLikeJSON(body) {
			return nil
		}
		return errors.New("a body without a media type is not a body Inkret reads")
	}
	return fmt.Errorf("%s is not a body Inkret reads", name)
}

// Parts finds the JSON in a body that is [Readable], in the order in which it
// stands there, and appends it to dst. A body in another notation is one part
// that stands for it as a whole:
//
//   - NDJSON, JSON text sequences (RFC 7464), streams of JSON values and server-sent events (HTML standard,
//     section 9.2) are the list of their values,
//   - CSV (RFC 4180) and TSV are the list of their rows, each an object of its cells by the names in the first row,
//   - CBOR (RFC 8949) and MessagePack are the JSON that has the same meaning,
//   - a form (URL standard, section 5) or multipart/form-data (RFC 7578) is the
//     object of its fields, other multipart bodies (RFC 2046) the list of theirs,
//   - XML is an object with one member, the root element: attributes and elements
//     are members, those that repeat are lists, text beside them is text().
//
// A page (HTML) has a part for each JSON text in a script element, in an
// assignment or call of an inline script, or in an attribute.
func Parts(dst []Part, contentType string, body []byte) ([]Part, error) {
	kind, _ := mediaOf(contentType)
	var one Part
	var err error
	switch kind {
	case isLines, isSequence:
		one = lines(body)
	case isStream:
		one = stream(body)
	case isEvents:
		one = events(body)
	case isCommas:
		one, err = table(contentType, body, commaSeparated)
	case isTabs:
		one, err = table(contentType, body, tabSeparated)
	case isCBOR:
		one, err = packedPart(body, (*packed).cbor)
	case isMessagePack:
		one, err = packedPart(body, (*packed).messagePack)
	case isForm:
		one = form(body)
	case isMultipart:
		one, err = multiparts(contentType, body)
	case isXML:
		one, err = xmlPart(body)
	case isHTML:
		return page(dst, body), nil
	default:
		if from, to := bare(body); from > 0 || to < len(body) {
			one = Part{Text: body[from:to], anchors: []anchor{{0, from, true}}}
			break
		}
		one.Text = body
	}
	if err != nil {
		return dst, err
	}
	return append(dst, one), nil
}

// parameter returns a parameter of a media type.
func parameter(contentType, name string) string {
	_, params, err := mime.ParseMediaType(contentType)
	if err != nil {
		return ""
	}
	return params[name]
}

// writer writes the JSON text of a part and records where its values come from.
type writer struct {
	text    []byte
	anchors []anchor
}

// from records that what follows comes from byte i of the body.
func (w *writer) from(i int) { w.anchors = append(w.anchors, anchor{text: len(w.text), body: i}) }

// run writes text that stands at byte i of the body as it is.
func (w *writer) run(i int, text []byte) {
	w.anchors = append(w.anchors, anchor{text: len(w.text), body: i, runs: true})
	w.text = append(w.text, text...)
	w.from(i + len(text))
}

// last returns the byte of the body that the latest text came from.
func (w *writer) last() int { return w.anchors[len(w.anchors)-1].body }

func (w *writer) put(s string) { w.text = append(w.text, s...) }

const hexDigits = "0123456789abcdef"

// quote writes a JSON string (RFC 8259 section 7).
func (w *writer) quote(s string) {
	w.text = append(w.text, '"')
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '"' || c == '\\':
			w.text = append(w.text, '\\', c)
		case c < 0x20:
			w.text = append(w.text, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
		default:
			w.text = append(w.text, c)
		}
	}
	w.text = append(w.text, '"')
}

// part returns what was written.
func (w *writer) part() Part { return Part{Text: w.text, Untyped: true, anchors: w.anchors} }
