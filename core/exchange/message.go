package exchange

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/reflect/protoreflect"
)

// Messages of Protocol Buffers are read as the JSON that has the same meaning, with the names of their fields as the
// descriptor has them. Fields that it does not know are named by their numbers.

// Message says what a body consists of.
type Message struct {
	Type   protoreflect.MessageDescriptor
	Stream bool // of such messages: they are a list
}

// How the body of a media type has its messages.
const (
	noMessage = iota
	oneMessage
	framed       // gRPC: each behind its length
	framedAsText // the same in base64, as browsers may have it
)

func messagesIn(contentType string) int {
	name, _, _ := strings.Cut(contentType, ";")
	switch strings.ToLower(strings.TrimSpace(name)) {
	case "application/protobuf", "application/x-protobuf", "application/vnd.google.protobuf",
		"application/x-google-protobuf":
		return oneMessage
	case "application/grpc", "application/grpc+proto", "application/grpc-web", "application/grpc-web+proto":
		return framed
	case "application/grpc-web-text", "application/grpc-web-text+proto":
		return framedAsText
	}
	return noMessage
}

// HoldsMessages reports whether bodies of a media type consist of messages of Protocol Buffers, which only a
// descriptor tells how to read.
func HoldsMessages(contentType string) bool { return messagesIn(contentType) != noMessage }

// ByMethod reports whether the address of such a body names a method that tells its message.
func ByMethod(contentType string) bool { return messagesIn(contentType) > oneMessage }

// messages reads messages and writes them as JSON.
type messages struct {
	packed
	fixed  int // the byte of the body that all comes from, where bytes cannot be told; else -1
	groups int // that are open: each is read once for every one around it
}

// MessagePart returns the part that stands for a body of messages. coding is the one of compressed messages
// (grpc-encoding). Where the body is damaged, what was read up to there stays.
func MessagePart(contentType, coding string, body []byte, of Message) (Part, error) {
	m := &messages{packed: packed{body: body}, fixed: -1}
	switch messagesIn(contentType) {
	case oneMessage:
		m.message(of.Type, 0, len(body))
	case framedAsText:
		plain, err := base64s(body)
		if err != nil {
			return Part{}, err
		}
		m.body, m.fixed = plain, 0
		m.frames(of, coding)
	default:
		m.frames(of, coding)
	}
	if m.err != nil && !errors.Is(m.err, errPackedEnd) {
		return Part{}, m.err
	}
	m.at(len(m.body))
	return Part{Text: m.text, Sparse: true, anchors: m.anchors}, nil
}

// base64s decodes texts in base64 that follow each other, each padded by itself.
func base64s(body []byte) ([]byte, error) {
	var all []byte
	for rest := bytes.TrimSpace(body); len(rest) > 0; {
		end := len(rest)
		if i := bytes.IndexByte(rest, '='); i >= 0 {
			for end = i; end < len(rest) && rest[end] == '='; {
				end++
			}
		}
		var err error
		if all, err = base64.StdEncoding.AppendDecode(all, rest[:end]); err != nil {
			return nil, errors.New("the body is not the base64 that its media type says")
		}
		rest = rest[end:]
	}
	return all, nil
}

// at records that what follows comes from byte i of what is being read.
func (m *messages) at(i int) {
	if m.fixed >= 0 {
		i = m.fixed
	}
	m.from(i)
}

// open counts a value and reports whether it can be read.
func (m *messages) open(at int) bool {
	if m.err == nil && (m.count >= maxElements || m.nested >= maxNesting) {
		m.err = errPackedMany
	}
	if m.err != nil {
		return false
	}
	m.count++
	m.at(at)
	return true
}

const (
	frameHead       = 5
	frameCompressed = 1
	frameTrailer    = 0x80
)

// frames reads messages behind their lengths (gRPC over HTTP/2, "Length-Prefixed-Message"; gRPC-Web adds a trailer).
func (m *messages) frames(of Message, coding string) {
	if of.Stream {
		m.put("[")
	}
	read := 0
	for pos := 0; pos < len(m.body) && m.err == nil; {
		if len(m.body)-pos < frameHead {
			m.err = errPackedEnd
			break
		}
		flags, n := m.body[pos], int(binary.BigEndian.Uint32(m.body[pos+1:]))
		from, end := pos+frameHead, pos+frameHead+n
		cut := n > len(m.body)-from
		if cut {
			end = len(m.body)
		}
		pos = end
		if flags&frameTrailer != 0 {
			continue
		}
		if read > 0 && of.Stream {
			m.put(",")
		} else if read > 0 {
			m.put(" ") // a second value, which is a fault at its place
		}
		read++
		if flags&frameCompressed != 0 {
			m.compressed(of, coding, from, end)
		} else {
			m.message(of.Type, from, end)
		}
		if cut && m.err == nil {
			m.err = errPackedEnd
		}
	}
	switch {
	case m.err != nil:
	case of.Stream:
		m.put("]")
	case read == 0:
		m.put("null")
	}
}

// compressed reads a message that is compressed by itself.
func (m *messages) compressed(of Message, coding string, from, end int) {
	plain, err := Decode(m.body[from:end], coding, MaxBody)
	if err != nil || coding == "" || coding == "identity" {
		if m.err == nil {
			m.err = fmt.Errorf("byte %d of the body: the message is compressed, and not as its header says", from)
		}
		return
	}
	body, fixed := m.body, m.fixed
	if m.body = plain; m.fixed < 0 {
		m.fixed = from
	}
	m.message(of.Type, 0, len(plain))
	m.body, m.fixed = body, fixed
}

// occurrence is one field as it was sent.
type occurrence struct {
	number          protowire.Number
	kind            protowire.Type
	at, from, until int // where its tag begins, where its value stands
}

// message writes the message that stands from one byte to another.
func (m *messages) message(d protoreflect.MessageDescriptor, from, until int) {
	if !m.open(from) {
		return
	}
	sent, fault := m.fields(from, until)
	m.nested++
	if !m.known(d, sent) {
		m.put("{")
		m.members(d, sent)
		if m.err == nil {
			m.err = fault
		}
		if m.err == nil {
			m.put("}")
		}
	} else if m.err == nil {
		m.err = fault
	}
	m.nested--
	if m.err == nil {
		m.at(until)
	}
}

// members writes fields as members, in the order in which each came first.
func (m *messages) members(d protoreflect.MessageDescriptor, sent []occurrence) {
	byNumber := map[protowire.Number][]occurrence{}
	var order []protowire.Number
	for _, o := range sent {
		if byNumber[o.number] == nil {
			order = append(order, o.number)
		}
		byNumber[o.number] = append(byNumber[o.number], o)
	}
	written := 0
	for _, number := range order {
		all, f := byNumber[number], d.Fields().ByNumber(number)
		name := strconv.Itoa(int(number))
		if f != nil {
			name = string(f.Name())
		}
		group := [][]occurrence{all}
		many := f == nil && len(all) > 1 || f != nil && f.Cardinality() == protoreflect.Repeated
		if !many { // a field that comes again is a member that stands twice
			group = nil
			for i := range all {
				group = append(group, all[i:i+1])
			}
		}
		for _, some := range group {
			if m.err != nil {
				return
			}
			if written++; written > 1 {
				m.put(",")
			}
			m.at(some[0].at)
			m.quote(name)
			m.put(":")
			m.field(f, some, many)
		}
	}
}

// fields finds the fields that were sent, up to where the message is damaged.
func (m *messages) fields(from, until int) (all []occurrence, fault error) {
	for pos := from; pos < until; {
		number, kind, n := protowire.ConsumeTag(m.body[pos:until])
		if n < 0 {
			return all, m.damage(pos, n)
		}
		o := occurrence{number: number, kind: kind, at: pos, from: pos + n}
		size := protowire.ConsumeFieldValue(number, kind, m.body[o.from:until])
		if size < 0 {
			return all, m.damage(pos, size)
		}
		o.until = o.from + size
		switch kind {
		case protowire.BytesType:
			_, n := protowire.ConsumeVarint(m.body[o.from:o.until])
			o.from += n
		case protowire.StartGroupType:
			o.until -= protowire.SizeTag(number)
		}
		all = append(all, o)
		if pos = o.until; kind == protowire.StartGroupType {
			pos += protowire.SizeTag(number)
		}
		if m.count+len(all) > maxElements {
			return all, errPackedMany
		}
	}
	return all, nil
}

// damage is the fault that protowire tells by a length below zero.
func (m *messages) damage(at, code int) error {
	if errors.Is(protowire.ParseError(code), protowire.ParseError(-1)) { // the end
		return errPackedEnd
	}
	if m.fixed >= 0 {
		return errPackedEnd
	}
	return fmt.Errorf("byte %d of the body: this is no field of a message", at)
}

// field writes what was sent of one field; many says that it is a list or a map.
func (m *messages) field(f protoreflect.FieldDescriptor, all []occurrence, many bool) {
	if f != nil && f.IsMap() {
		m.entries(f, all)
		return
	}
	if !many {
		m.single(f, all[0])
		return
	}
	m.nested++
	m.put("[")
	n := 0
	for _, o := range all {
		for _, one := range m.unpacked(f, o) {
			if m.err != nil {
				return
			}
			if n++; n > 1 {
				m.put(",")
			}
			m.single(f, one)
		}
	}
	if m.nested--; m.err == nil {
		m.put("]")
	}
}

// wireTypes are how values of each kind are written.
func wireType(k protoreflect.Kind) protowire.Type {
	switch k {
	case protoreflect.Fixed32Kind, protoreflect.Sfixed32Kind, protoreflect.FloatKind:
		return protowire.Fixed32Type
	case protoreflect.Fixed64Kind, protoreflect.Sfixed64Kind, protoreflect.DoubleKind:
		return protowire.Fixed64Type
	case protoreflect.StringKind, protoreflect.BytesKind, protoreflect.MessageKind:
		return protowire.BytesType
	case protoreflect.GroupKind:
		return protowire.StartGroupType
	}
	return protowire.VarintType
}

// unpacked returns the numbers that are packed into one occurrence, or the occurrence itself.
func (m *messages) unpacked(f protoreflect.FieldDescriptor, o occurrence) []occurrence {
	if f == nil || o.kind != protowire.BytesType || wireType(f.Kind()) == protowire.BytesType {
		return []occurrence{o}
	}
	var all []occurrence
	kind := wireType(f.Kind())
	for pos := o.from; pos < o.until; {
		n := protowire.ConsumeFieldValue(o.number, kind, m.body[pos:o.until])
		if n < 0 || m.count+len(all) > maxElements {
			return []occurrence{o} // it is something else
		}
		all = append(all, occurrence{o.number, kind, pos, pos, pos + n})
		pos += n
	}
	return all
}

// entries writes a map.
func (m *messages) entries(f protoreflect.FieldDescriptor, all []occurrence) {
	m.nested++
	m.put("{")
	for i, o := range all {
		if i > 0 {
			m.put(",")
		}
		key, value, ok := m.entry(o)
		if !ok || !m.open(o.at) {
			if m.err == nil {
				m.err = errPackedEnd
			}
			return
		}
		if key == nil {
			m.put(`""`)
		} else {
			from := len(m.text)
			if m.value(f.MapKey(), *key); m.text[from] != '"' {
				name := string(m.text[from:])
				m.text = m.text[:from]
				m.quote(name)
			}
		}
		m.put(":")
		if value == nil {
			m.put("null")
		} else {
			m.single(f.MapValue(), *value)
		}
		if m.err != nil {
			return
		}
	}
	m.nested--
	m.put("}")
}

// entry returns key and value of a map's entry; nil where they were not sent.
func (m *messages) entry(o occurrence) (key, value *occurrence, ok bool) {
	sent, fault := m.fields(o.from, o.until)
	for i := range sent {
		switch sent[i].number {
		case 1:
			key = &sent[i]
		case 2:
			value = &sent[i]
		}
	}
	return key, value, fault == nil && o.kind == protowire.BytesType
}

// single writes one value.
func (m *messages) single(f protoreflect.FieldDescriptor, o occurrence) {
	const mostGroups = 64
	if f != nil && f.Message() != nil && (o.kind == protowire.BytesType || o.kind == protowire.StartGroupType &&
		m.groups < mostGroups) {
		if o.kind == protowire.StartGroupType {
			m.groups++
			defer func() { m.groups-- }()
		}
		m.message(f.Message(), o.from, o.until)
		return
	}
	if !m.open(o.from) {
		return
	}
	m.value(f, o)
	m.at(o.until)
}

// value writes a value that is no message. What was sent otherwise than the field says is written as it was sent.
func (m *messages) value(f protoreflect.FieldDescriptor, o occurrence) {
	kind := protoreflect.Kind(0)
	if f != nil && wireType(f.Kind()) == o.kind {
		kind = f.Kind()
	}
	b := m.body[o.from:o.until]
	switch o.kind {
	case protowire.VarintType:
		n, _ := protowire.ConsumeVarint(b)
		m.varint(f, kind, n)
	case protowire.Fixed32Type:
		n, _ := protowire.ConsumeFixed32(b)
		switch kind {
		case protoreflect.FloatKind:
			m.float(float64(math.Float32frombits(n)), 32)
		case protoreflect.Sfixed32Kind:
			m.signed(int64(int32(n)))
		default:
			m.unsigned(uint64(n))
		}
	case protowire.Fixed64Type:
		n, _ := protowire.ConsumeFixed64(b)
		switch kind {
		case protoreflect.DoubleKind:
			m.float(math.Float64frombits(n), 64)
		case protoreflect.Sfixed64Kind:
			m.signed(int64(n))
		default:
			m.unsigned(n)
		}
	case protowire.BytesType:
		m.data(b)
	default:
		m.put("null")
	}
}

func (m *messages) varint(f protoreflect.FieldDescriptor, kind protoreflect.Kind, n uint64) {
	switch kind {
	case protoreflect.BoolKind:
		m.put(strconv.FormatBool(n != 0))
	case protoreflect.Int32Kind:
		m.signed(int64(int32(n)))
	case protoreflect.Int64Kind:
		m.signed(int64(n))
	case protoreflect.Sint32Kind, protoreflect.Sint64Kind:
		m.signed(protowire.DecodeZigZag(n))
	case protoreflect.EnumKind:
		if v := f.Enum().Values().ByNumber(protoreflect.EnumNumber(int32(n))); v != nil {
			m.quote(string(v.Name()))
			return
		}
		m.signed(int64(int32(n)))
	default:
		m.unsigned(n)
	}
}

// known writes a message of a type that comes with the notation as what it stands for, and reports whether it is one.
func (m *messages) known(d protoreflect.MessageDescriptor, sent []occurrence) bool {
	name, is := strings.CutPrefix(string(d.FullName()), "google.protobuf.")
	if !is {
		return false
	}
	last := func(number protowire.Number) *occurrence {
		for i := len(sent) - 1; i >= 0; i-- {
			if sent[i].number == number {
				return &sent[i]
			}
		}
		return nil
	}
	switch name {
	case "Timestamp":
		var seconds, nanos uint64
		if o := last(1); o != nil && o.kind == protowire.VarintType {
			seconds, _ = protowire.ConsumeVarint(m.body[o.from:o.until])
		}
		if o := last(2); o != nil && o.kind == protowire.VarintType {
			nanos, _ = protowire.ConsumeVarint(m.body[o.from:o.until])
		}
		const latest = 253402300799 // 9999-12-31T23:59:59Z
		if int64(seconds) < -62135596800 || int64(seconds) > latest || nanos >= 1e9 {
			return false
		}
		m.quote(time.Unix(int64(seconds), int64(nanos)).UTC().Format(time.RFC3339Nano))
	case "StringValue", "BytesValue", "BoolValue", "Int32Value", "Int64Value", "UInt32Value", "UInt64Value",
		"FloatValue", "DoubleValue":
		f := d.Fields().ByNumber(1)
		if o := last(1); o != nil {
			m.value(f, *o)
		} else {
			m.empty(f.Kind())
		}
	case "Struct":
		m.entries(d.Fields().ByNumber(1), numbered(sent, 1))
	case "ListValue":
		m.field(d.Fields().ByNumber(1), numbered(sent, 1), true)
	case "Value":
		if len(sent) == 0 || sent[len(sent)-1].number == 1 {
			m.put("null")
			return true
		}
		o := sent[len(sent)-1]
		m.single(d.Fields().ByNumber(o.number), o)
	default:
		return false
	}
	return true
}

// numbered returns the occurrences of a field.
func numbered(sent []occurrence, number protowire.Number) (all []occurrence) {
	for _, o := range sent {
		if o.number == number {
			all = append(all, o)
		}
	}
	return all
}

// empty writes the value that stands for nothing sent.
func (m *messages) empty(k protoreflect.Kind) {
	switch k {
	case protoreflect.StringKind, protoreflect.BytesKind:
		m.put(`""`)
	case protoreflect.BoolKind:
		m.put("false")
	default:
		m.put("0")
	}
}
