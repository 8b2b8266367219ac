package scan

import (
	"fmt"
	"math"
	"net/netip"
	"net/url"
	"strconv"
	"time"
	"unicode/utf8"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
)

// departs says how a scalar departs from its grant's form, or gives the empty
// string. Types are those of JSON Schema 2020-12: 10.0 is an integer.
func (w *walk) departs(m *contract.Member, at level, kind scalarKind, text []byte) string {
	f := &m.Form
	if kind == isNull {
		if f.Nullable || m.Open && f.Type == "" {
			return ""
		}
		return "null is sent and the grant is not nullable"
	}
	switch {
	case m.Many && at < element && w.part != nil && w.part.Untyped:
	case m.Many && at < element:
		return "a single value is sent where a list is granted"
	case m.Keyed && at == whole:
		return "a single value is sent where a map is granted"
	case m.Object != nil || m.OneOf != nil:
		return "a single value is sent where an object is granted"
	}
	if w.part != nil && w.part.Untyped && kind == isString {
		kind = typed(f.Type, text)
	}
	switch f.Type {
	case catalog.String:
		if kind != isString {
			return wrongType(kind, f.Type)
		}
	case catalog.Integer:
		if kind != isInteger && !(kind == isNumber && integral(text)) {
			return wrongType(kind, f.Type)
		}
	case catalog.Number:
		if kind != isInteger && kind != isNumber {
			return wrongType(kind, f.Type)
		}
	case catalog.Boolean:
		if kind != isBool {
			return wrongType(kind, f.Type)
		}
	case catalog.Object, catalog.Array:
		if !(m.Keyed && at == keyed) {
			return wrongType(kind, f.Type)
		}
	}
	if kind == isString {
		if f.Max > 0 && len(text) > f.Max && utf8.RuneCount(text) > f.Max {
			return fmt.Sprintf("%d characters are sent where at most %d are granted", utf8.RuneCount(text), f.Max)
		}
		if f.Max > 0 && len(text) >= f.Max && padded(text) && utf8.RuneCount(text) == f.Max {
			return fmt.Sprintf("the value is padded with blanks to %d characters", f.Max)
		}
		if f.Format != "" && !fitsFormat(f.Format, text) && !(w.outlined && detect.Stood(text).Format == f.Format) {
			return "the value is no " + f.Format
		}
	}
	if len(f.Values) > 0 && !w.outlined && !m.Permits(kind == isString, text) {
		return "the value is none of those granted"
	}
	return ""
}

// padded reports whether a text ends in blanks as a column of fixed width fills them up.
func padded(text []byte) bool {
	n := len(text)
	return n >= 2 && text[n-1] == ' ' && text[n-2] == ' '
}

// typed is the kind that a text would have if its notation had types.
func typed(want catalog.Type, text []byte) scalarKind {
	t := tokens{data: text}
	switch {
	case want == catalog.Boolean && (string(text) == "true" || string(text) == "false"):
		return isBool
	case (want == catalog.Integer || want == catalog.Number) && len(text) > 0 && (text[0] == '-' || text[0]-'0' < 10):
		if _, whole, ok := t.number(); ok && t.pos == len(text) {
			if whole {
				return isInteger
			}
			return isNumber
		}
	}
	return isString
}

var kindNames = [...]string{isNull: "null", isBool: "boolean", isString: "string", isInteger: "integer", isNumber: "number"}

func wrongType(kind scalarKind, want catalog.Type) string {
	return fmt.Sprintf("%s is sent where %s is granted", kindNames[kind], want)
}

func integral(text []byte) bool {
	f, err := strconv.ParseFloat(string(text), 64)
	return err == nil && f == math.Trunc(f)
}

// fitsFormat holds a string against the formats of JSON Schema 2020-12 section
// 7.3 that are judged; any other format fits.
func fitsFormat(format string, text []byte) bool {
	switch format {
	case "date":
		return isDate(text)
	case "date-time":
		return len(text) > 11 && isDate(text[:10]) && (text[10]|0x20 == 't' || text[10] == ' ') && isTime(text[11:])
	case "time":
		return isTime(text)
	case "uuid":
		return uuidName.Match(text)
	case "email":
		hit := (*detect.Set)(nil).Value(text, detect.HasAt|detect.HasDot) // what else is in it does not matter
		return hit.Format == "email" && hit.Whole(text)
	case "uri":
		u, err := url.Parse(string(text))
		return err == nil && u.Scheme != ""
	case "ipv4":
		a, err := netip.ParseAddr(string(text))
		return err == nil && a.Is4()
	case "ipv6":
		a, err := netip.ParseAddr(string(text))
		return err == nil && a.Is6() && a.Zone() == ""
	}
	return true
}

// number2 reads two digits, -1 when they are none.
func number2(b []byte) int {
	if b[0]-'0' > 9 || b[1]-'0' > 9 {
		return -1
	}
	return int(b[0]-'0')*10 + int(b[1]-'0')
}

// isDate is full-date of RFC 3339.
func isDate(b []byte) bool {
	if len(b) != 10 || b[4] != '-' || b[7] != '-' {
		return false
	}
	century, year, month, day := number2(b), number2(b[2:]), number2(b[5:]), number2(b[8:])
	if century < 0 || year < 0 || month < 1 || month > 12 || day < 1 {
		return false
	}
	return day <= 28 || day <= time.Date(century*100+year, time.Month(month)+1, 0, 0, 0, 0, 0, time.UTC).Day()
}

// isTime is full-time of RFC 3339.
func isTime(b []byte) bool {
	if len(b) < 9 || b[2] != ':' || b[5] != ':' {
		return false
	}
	h, m, s := number2(b), number2(b[3:]), number2(b[6:])
	if h < 0 || h > 23 || m < 0 || m > 59 || s < 0 || s > 60 {
		return false
	}
	b = b[8:]
	if b[0] == '.' {
		n := 1
		for n < len(b) && b[n]-'0' < 10 {
			n++
		}
		if n == 1 {
			return false
		}
		b = b[n:]
	}
	if len(b) == 1 {
		return b[0]|0x20 == 'z'
	}
	if len(b) != 6 || b[0] != '+' && b[0] != '-' || b[3] != ':' {
		return false
	}
	h, m = number2(b[1:]), number2(b[4:])
	return h >= 0 && h <= 23 && m >= 0 && m <= 59
}

// scalarKind is the JSON type of a scalar.
type scalarKind uint8

const (
	isNull scalarKind = iota
	isBool
	isString
	isInteger
	isNumber
)

// scalarValue reads a scalar: its text (a string's with the escapes undone, valid
// until the next string is read) and what is recognised in it.
func (w *walk) scalarValue(first byte) (text []byte, hit detect.Hit, kind scalarKind, ok bool) {
	switch {
	case first == '"':
		s, ok := w.tokens.string()
		if !ok {
			return nil, hit, isString, false
		}
		text, traits := s.raw, s.traits
		if s.escaped {
			w.scratch = unquote(w.scratch[:0], s.raw)
			text, traits = w.scratch, detect.TraitsOf(w.scratch)
		}
		if len(text) > 2 && mayEmbed(text) && w.nesting < maxInner {
			if w.embeddedText = embedded(text); w.embeddedText != nil {
				return text, hit, isString, true // what is in it is judged by itself
			}
		}
		if w.outlined {
			return text, detect.Stood(text), isString, true
		}
		return text, w.judge.detectors.Value(text, traits), isString, true
	case first == '-' || first-'0' < 10:
		raw, integer, ok := w.number()
		if !ok {
			return nil, hit, isNumber, false
		}
		if !integer {
			return raw, hit, isNumber, true
		}
		return raw, w.judge.detectors.Value(raw, detect.HasDigit), isInteger, true
	case first == 'n':
		return nil, hit, isNull, w.literal()
	case first == 't' || first == 'f':
		from := w.pos
		ok := w.literal()
		return w.data[from:w.pos], hit, isBool, ok
	}
	return nil, hit, isNull, w.fail(w.pos, "no JSON value is written like this")
}
