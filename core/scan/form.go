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

// departs returns how a scalar violates its grant's form, or the empty string. Types are those of JSON Schema
// 2020-12, where 10.0 is an integer.
func (w *walk) departs(m *contract.Member, at level, kind contract.Scalar, text []byte) string {
	f := &m.Form
	if kind == contract.Null {
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
	case m.Object != nil || m.OneOf != nil || m.Selected != nil:
		return "a single value is sent where an object is granted"
	}
	if w.part != nil && w.part.Untyped && kind == contract.Text {
		kind = typed(f.Type, text)
	}
	switch f.Type {
	case catalog.String:
		if kind != contract.Text {
			return wrongType(kind, f.Type)
		}
	case catalog.Integer:
		if kind != contract.Integer && !(kind == contract.Number && integral(text)) {
			return wrongType(kind, f.Type)
		}
	case catalog.Number:
		if kind != contract.Integer && kind != contract.Number {
			return wrongType(kind, f.Type)
		}
	case catalog.Boolean:
		if kind != contract.Bool {
			return wrongType(kind, f.Type)
		}
	case catalog.Object, catalog.Array:
		if !(m.Keyed && at == keyed) {
			return wrongType(kind, f.Type)
		}
	}
	if kind == contract.Text {
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
	if len(f.Values) > 0 && !w.outlined && !m.Permits(kind == contract.Text, text) {
		return "the value is none of those granted"
	}
	return ""
}

// padded reports whether a text ends in blanks, as in a column of fixed width.
func padded(text []byte) bool {
	n := len(text)
	return n >= 2 && text[n-1] == ' ' && text[n-2] == ' '
}

// typed returns the kind that a text would have if its notation had types.
func typed(want catalog.Type, text []byte) contract.Scalar {
	t := tokens{data: text}
	switch {
	case want == catalog.Boolean && (string(text) == "true" || string(text) == "false"):
		return contract.Bool
	case (want == catalog.Integer || want == catalog.Number) && len(text) > 0 && (text[0] == '-' || text[0]-'0' < 10):
		if _, whole, ok := t.number(); ok && t.pos == len(text) {
			if whole {
				return contract.Integer
			}
			return contract.Number
		}
	}
	return contract.Text
}

var kindNames = map[contract.Scalar]string{contract.Null: "null", contract.Bool: "boolean", contract.Text: "string",
	contract.Integer: "integer", contract.Number: "number"}

func wrongType(kind contract.Scalar, want catalog.Type) string {
	return fmt.Sprintf("%s is sent where %s is granted", kindNames[kind], want)
}

func integral(text []byte) bool {
	f, err := strconv.ParseFloat(string(text), 64)
	return err == nil && f == math.Trunc(f)
}

// fitsFormat checks a string against the formats of JSON Schema 2020-12 section 7.3 that are supported. Other
// formats always match.
func fitsFormat(format string, text []byte) bool {
	switch format {
	case "date":
		return isDate(text)
	case "date-time":
		return len(text) > 11 && isDate(text[:10]) && (text[10]|0x20 == 't' || text[10] == ' ') && isTime(text[11:])
	case "time":
		return isTime(text)
	case "uuid":
		return isUUID(text)
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

// number2 parses two digits; -1 if they are not digits.
func number2(b []byte) int {
	if b[0]-'0' > 9 || b[1]-'0' > 9 {
		return -1
	}
	return int(b[0]-'0')*10 + int(b[1]-'0')
}

// isDate matches full-date of RFC 3339.
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

// isTime matches full-time of RFC 3339.
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

// scalar is a scalar that was read: its text (of a string with escapes decoded, valid until the next string is
// read; nil for null) and the traits that select detectors.
type scalar struct {
	text   []byte
	traits detect.Trait
	kind   contract.Scalar
	ok     bool // false where the body broke off in it
}

// scalar reads the scalar that begins with byte first.
func (w *walk) scalar(first byte) scalar {
	switch {
	case first == '"':
		s, ok := w.tokens.string()
		if !ok {
			return scalar{kind: contract.Text}
		}
		v := scalar{text: s.raw, traits: s.traits, kind: contract.Text, ok: true}
		if s.escaped {
			w.scratch = unquote(w.scratch[:0], s.raw)
			v.text, v.traits = w.scratch, detect.TraitsOf(w.scratch)
		}
		if len(v.text) > 2 && mayEmbed(v.text) && w.nesting < maxInner {
			if w.embeddedText = embedded(v.text); w.embeddedText != nil {
				v.traits = 0 // what is in it is judged by itself
			}
		}
		return v
	case first == '-' || first-'0' < 10:
		raw, whole, ok := w.number()
		if !whole || !ok {
			return scalar{text: raw, kind: contract.Number, ok: ok}
		}
		v := scalar{text: raw, traits: detect.HasDigit, kind: contract.Integer, ok: true}
		if first == '-' {
			v.traits |= detect.HasDash
		}
		return v
	case first == 'n':
		return scalar{kind: contract.Null, ok: w.literal()}
	case first == 't' || first == 'f':
		from := w.pos
		ok := w.literal()
		return scalar{text: w.data[from:w.pos], kind: contract.Bool, ok: ok}
	}
	return scalar{kind: contract.Null, ok: w.fail(w.pos, "no JSON value is written like this")}
}

// recognised returns what detectors recognise in a scalar.
func (w *walk) recognised(v *scalar) detect.Hit {
	if w.closely {
		return w.looked(v)
	}
	if v.traits == 0 {
		return detect.Hit{}
	}
	hit := w.judge.detectors.Value(v.text, v.traits)
	if hit.Checked() && w.side.dismissed != nil {
		hit = w.inColumn(v, hit)
	}
	if hit.Detector == detect.CardNumber && v.kind != contract.Text && !w.toldCard(v.text) {
		return detect.Hit{} // a check digit alone fits one number in ten: ids are long numbers, too
	}
	return hit
}

// looked is recognised for outlines, and where strings are counted.
func (w *walk) looked(v *scalar) detect.Hit {
	hit := detect.Hit{}
	switch {
	case v.traits == 0:
	case w.outlined && v.kind == contract.Text:
		hit = detect.Stood(v.text)
	default:
		hit = w.judge.detectors.Value(v.text, v.traits)
	}
	if hit.Detector == detect.CardNumber && v.kind != contract.Text && !w.toldCard(v.text) {
		return detect.Hit{}
	}
	return w.inColumn(v, hit)
}

// inColumn returns what a string is recognised as, together with its column.
func (w *walk) inColumn(v *scalar, hit detect.Hit) detect.Hit {
	if w.side.quiet() || v.kind != contract.Text || w.side.counted == nil && !hit.Checked() {
		return hit
	}
	return w.side.hit(w.entry().path, v.text, hit)
}

// toldCard reports whether a number's member name suggests a card number.
func (w *walk) toldCard(number []byte) bool {
	for i := len(w.segs) - 1; i >= 0; i-- {
		if name := w.segs[i].name; name != nil {
			return detect.Tell(name).Holds(number, true)
		}
	}
	return false
}
