package exchange

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"time"
	"unicode/utf8"
)

// CBOR and MessagePack are read as the JSON that has the same meaning. Bytes that are text are that text, others
// base64; keys that are no text are the JSON of them; numbers that JSON cannot write are null.

// packed reads values in a binary notation and writes them as JSON.
type packed struct {
	writer
	body   []byte
	pos    int
	count  int // values so far
	nested int
	err    error
}

var (
	errPackedEnd  = errors.New("the body ends inside a value")
	errPackedMany = errors.New("the body has more values or levels than are read")
)

// packedPart reads one value with read. Where the body is damaged, what was read up to there stays, and the fault is
// found at its place.
func packedPart(body []byte, read func(*packed)) (Part, error) {
	p := &packed{body: body}
	read(p)
	if p.err != nil && !errors.Is(p.err, errPackedEnd) {
		return Part{}, p.err
	}
	p.from(p.pos)
	if p.err == nil && p.pos < len(body) {
		p.put(" something")
	}
	return Part{Text: p.text, anchors: p.anchors}, nil
}

// fault records the first error, with its place. Nothing is read behind it.
func (p *packed) fault(format string, args ...any) {
	if p.err == nil {
		p.err = fmt.Errorf("byte %d of the body: %s", p.pos, fmt.Sprintf(format, args...))
	}
	p.pos = len(p.body)
}

// begin counts a value and reports whether it can be read.
func (p *packed) begin() bool {
	switch {
	case p.err != nil:
	case p.count >= maxElements || p.nested >= maxNesting:
		p.err = errPackedMany
	case p.pos >= len(p.body):
		p.err = errPackedEnd
	default:
		p.count++
		p.from(p.pos)
		return true
	}
	return false
}

// take returns the next n bytes, or nil where the body ends before.
func (p *packed) take(n uint64) []byte {
	if p.err != nil || n > uint64(len(p.body)-p.pos) {
		if p.err == nil {
			p.err = errPackedEnd
		}
		return nil
	}
	p.pos += int(n)
	return p.body[p.pos-int(n) : p.pos]
}

// number reads an unsigned number of 1, 2, 4 or 8 bytes, the greatest first.
func (p *packed) number(bytes uint64) uint64 {
	b := p.take(bytes)
	switch {
	case b == nil:
		return 0
	case bytes == 1:
		return uint64(b[0])
	case bytes == 2:
		return uint64(binary.BigEndian.Uint16(b))
	case bytes == 4:
		return uint64(binary.BigEndian.Uint32(b))
	}
	return binary.BigEndian.Uint64(b)
}

// done records where a value ends.
func (p *packed) done() {
	if p.err == nil {
		p.from(p.pos)
	}
}

func (p *packed) unsigned(n uint64) { p.text = strconv.AppendUint(p.text, n, 10) }

func (p *packed) signed(n int64) { p.text = strconv.AppendInt(p.text, n, 10) }

// float writes a number, or null for what JSON has no number for.
func (p *packed) float(f float64, bits int) {
	if math.IsNaN(f) || math.IsInf(f, 0) {
		p.put("null")
		return
	}
	p.text = strconv.AppendFloat(p.text, f, 'g', -1, bits)
}

// data writes a byte string: as text if it is some, else in base64 (RFC 4648 section 4).
func (p *packed) data(b []byte) {
	if isText(b) {
		p.quote(string(b))
		return
	}
	p.put(`"` + base64.StdEncoding.EncodeToString(b) + `"`)
}

// isText reports whether bytes are UTF-8 without control characters.
func isText(b []byte) bool {
	if !utf8.Valid(b) {
		return false
	}
	for _, c := range b {
		if c < 0x20 && c != '\t' && c != '\n' && c != '\r' || c == 0x7f {
			return false
		}
	}
	return true
}

// list writes n values; open is set where they go on until end reports so.
func (p *packed) list(n uint64, open bool, end func() bool, value func(*packed)) {
	p.nested++
	p.put("[")
	for i := uint64(0); p.err == nil && (open || i < n); i++ {
		if open && end() {
			break
		}
		if i > 0 {
			p.put(",")
		}
		value(p)
	}
	if p.err == nil {
		p.put("]")
	}
	p.nested--
}

// object writes n members; open is set where they go on until end reports so.
func (p *packed) object(n uint64, open bool, end func() bool, value func(*packed)) {
	p.nested++
	p.put("{")
	for i := uint64(0); p.err == nil && (open || i < n); i++ {
		if open && end() {
			break
		}
		if i > 0 {
			p.put(",")
		}
		p.key(value)
		if p.err == nil {
			p.put(":")
			value(p)
		}
	}
	if p.err == nil {
		p.put("}")
	}
	p.nested--
}

// key writes the name of a member. Keys of other types than text become the JSON of them.
func (p *packed) key(value func(*packed)) {
	from, marks := len(p.text), len(p.anchors)
	at := p.pos
	if value(p); p.err != nil {
		p.text = p.text[:from]
		return
	}
	p.anchors = p.anchors[:marks]
	p.from(at)
	p.anchors[len(p.anchors)-1].text = from
	if p.text[from] != '"' {
		name := string(p.text[from:])
		p.text = p.text[:from]
		p.quote(name)
	}
}

// cbor reads a data item (RFC 8949 section 3).
func (p *packed) cbor() {
	if !p.begin() {
		return
	}
	first := p.body[p.pos]
	p.pos++
	major, info := first>>5, first&31
	open := info == 31 && major >= 2 && major <= 5
	n := uint64(info)
	switch {
	case info >= 24 && info <= 27:
		n = p.number(1 << (info - 24))
	case info >= 28 && !open:
		p.pos--
		p.fault("%#x begins no CBOR data item", first)
	}
	if p.err != nil {
		return
	}
	switch major {
	case 0:
		p.unsigned(n)
	case 1:
		p.negative(n)
	case 2, 3:
		p.cborText(n, open, major)
	case 4:
		p.list(n, open, p.cborBreak, (*packed).cbor)
	case 5:
		p.object(n, open, p.cborBreak, (*packed).cbor)
	case 6:
		p.cborTag(n)
		return
	case 7:
		p.cborSimple(n, info)
	}
	p.done()
}

// negative writes -1-n, which may need 65 bits.
func (p *packed) negative(n uint64) {
	v := new(big.Int).SetUint64(n)
	p.put(v.Not(v).String())
}

// cborBreak reads the end of an item of open length.
func (p *packed) cborBreak() bool {
	if p.pos < len(p.body) && p.body[p.pos] == 0xff {
		p.pos++
		return true
	}
	return false
}

// cborText reads a text (major type 3) or a byte string (2); an open one consists of pieces of the same type.
func (p *packed) cborText(n uint64, open bool, major byte) {
	all := p.take(n * b2u(!open))
	for open && p.err == nil && !p.cborBreak() {
		if p.pos >= len(p.body) {
			p.err = errPackedEnd
			return
		}
		piece := p.body[p.pos]
		if piece>>5 != major || piece&31 > 27 {
			p.fault("%#x is no piece of the text around it", piece)
			return
		}
		p.pos++
		n := uint64(piece & 31)
		if n >= 24 {
			n = p.number(1 << (n - 24))
		}
		all = append(all[:len(all):len(all)], p.take(n)...)
	}
	switch {
	case p.err != nil:
	case major == 3:
		p.quote(string(all))
	default:
		p.data(all)
	}
}

func b2u(b bool) uint64 {
	if b {
		return 1
	}
	return 0
}

// longestNumber limits the bytes of a number of any length.
const longestNumber = 64

// cborTag reads what a tag is about. Tags say how a value is meant; only numbers of any length (2 and 3, RFC 8949
// section 3.4.3) change how it is written.
func (p *packed) cborTag(tag uint64) {
	if tag == 2 || tag == 3 {
		if p.pos < len(p.body) && p.body[p.pos]>>5 == 2 && p.body[p.pos]&31 < 24 ||
			p.pos+1 < len(p.body) && p.body[p.pos] == 0x58 && p.body[p.pos+1] <= longestNumber {
			n := uint64(p.body[p.pos] & 31)
			if p.pos++; n == 24 {
				n = p.number(1)
			}
			v := new(big.Int).SetBytes(p.take(n))
			if tag == 3 {
				v.Not(v)
			}
			if p.err == nil {
				p.put(v.String())
			}
			p.done()
			return
		}
	}
	p.nested++
	p.cbor()
	p.nested--
}

// cborSimple writes a simple value or a float (RFC 8949 section 3.3).
func (p *packed) cborSimple(n uint64, info byte) {
	switch info {
	case 20:
		p.put("false")
	case 21:
		p.put("true")
	case 25:
		p.float(half(uint16(n)), 32)
	case 26:
		p.float(float64(math.Float32frombits(uint32(n))), 32)
	case 27:
		p.float(math.Float64frombits(n), 64)
	default: // null, undefined and those without a meaning
		p.put("null")
	}
}

// half returns a number of 16 bits (IEEE 754; RFC 8949 appendix D).
func half(bits uint16) float64 {
	exponent, mantissa := int(bits>>10&31), float64(bits&1023)
	v := math.Ldexp(mantissa+1024, exponent-25)
	switch {
	case exponent == 0:
		v = math.Ldexp(mantissa, -24)
	case exponent == 31 && mantissa == 0:
		v = math.Inf(1)
	case exponent == 31:
		v = math.NaN()
	}
	if bits>>15 == 1 {
		return -v
	}
	return v
}

// messagePack reads an object of MessagePack (msgpack.org, 2013 edition with the timestamp of 2017).
func (p *packed) messagePack() {
	if !p.begin() {
		return
	}
	c := p.body[p.pos]
	p.pos++
	switch {
	case c < 0x80:
		p.unsigned(uint64(c))
	case c < 0x90:
		p.object(uint64(c&15), false, nil, (*packed).messagePack)
	case c < 0xa0:
		p.list(uint64(c&15), false, nil, (*packed).messagePack)
	case c < 0xc0:
		p.string(uint64(c & 31))
	case c >= 0xe0:
		p.signed(int64(int8(c)))
	default:
		p.messagePackLong(c)
	}
	p.done()
}

// string writes a text of n bytes.
func (p *packed) string(n uint64) {
	if b := p.take(n); p.err == nil {
		p.quote(string(b))
	}
}

// messagePackLong reads an object whose first byte, from 0xc0 to 0xdf, says how many bytes its length or number has.
func (p *packed) messagePackLong(c byte) {
	size := func(first byte) uint64 { return p.number(1 << (c - first)) }
	switch {
	case c == 0xc0:
		p.put("null")
	case c == 0xc1:
		p.pos--
		p.fault("0xc1 begins no MessagePack object")
	case c <= 0xc3:
		p.put(strconv.FormatBool(c == 0xc3))
	case c <= 0xc6:
		if b := p.take(size(0xc4)); p.err == nil {
			p.data(b)
		}
	case c <= 0xc9:
		p.extension(size(0xc7))
	case c == 0xca:
		p.known(func() { p.float(float64(math.Float32frombits(uint32(p.number(4)))), 32) })
	case c == 0xcb:
		p.known(func() { p.float(math.Float64frombits(p.number(8)), 64) })
	case c <= 0xcf:
		p.known(func() { p.unsigned(size(0xcc)) })
	case c <= 0xd3:
		p.known(func() {
			bytes := uint64(1) << (c - 0xd0)
			shift := 64 - 8*bytes
			p.signed(int64(p.number(bytes)<<shift) >> shift)
		})
	case c <= 0xd8:
		p.extension(1 << (c - 0xd4))
	case c <= 0xdb:
		p.string(size(0xd9))
	case c <= 0xdd:
		p.list(p.number(2<<(c-0xdc)), false, nil, (*packed).messagePack)
	default:
		p.object(p.number(2<<(c-0xde)), false, nil, (*packed).messagePack)
	}
}

// known writes a number, and takes it back if the body ended in it.
func (p *packed) known(write func()) {
	from := len(p.text)
	if write(); p.err != nil {
		p.text = p.text[:from]
	}
}

// extension reads an extension of n bytes: a time (type -1), else data.
func (p *packed) extension(n uint64) {
	kind := int8(p.number(1))
	b := p.take(n)
	if p.err != nil {
		return
	}
	if kind == -1 {
		if at, ok := timestamp(b); ok {
			p.quote(at.UTC().Format(time.RFC3339Nano))
			return
		}
	}
	p.data(b)
}

// timestamp reads the time of an extension of type -1, in its three lengths.
func timestamp(b []byte) (time.Time, bool) {
	switch len(b) {
	case 4:
		return time.Unix(int64(binary.BigEndian.Uint32(b)), 0), true
	case 8:
		v := binary.BigEndian.Uint64(b)
		return time.Unix(int64(v&(1<<34-1)), int64(v>>34)), true
	case 12:
		s := int64(binary.BigEndian.Uint64(b[4:]))
		year := time.Unix(s, 0).UTC().Year()
		return time.Unix(s, int64(binary.BigEndian.Uint32(b))), year >= 0 && year <= 9999
	}
	return time.Time{}, false
}
