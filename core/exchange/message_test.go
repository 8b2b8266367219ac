package exchange

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strconv"
	"strings"
	"testing"

	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protodesc"
	"google.golang.org/protobuf/reflect/protoreflect"
	"google.golang.org/protobuf/reflect/protoregistry"
	"google.golang.org/protobuf/types/descriptorpb"
	"google.golang.org/protobuf/types/dynamicpb"
	"google.golang.org/protobuf/types/known/structpb"
	"google.golang.org/protobuf/types/known/timestamppb"
	"google.golang.org/protobuf/types/known/wrapperspb"
)

// boat describes a message with a field of each kind, some of them lists and maps, and itself inside.
func boat(t testing.TB) protoreflect.MessageDescriptor {
	t.Helper()
	f := &descriptorpb.FileDescriptorProto{Name: proto.String("boat.proto"), Package: proto.String("quay.v1"),
		Syntax: proto.String("proto3"), Dependency: []string{"google/protobuf/timestamp.proto",
			"google/protobuf/struct.proto", "google/protobuf/wrappers.proto"},
		EnumType: []*descriptorpb.EnumDescriptorProto{{Name: proto.String("Rig"),
			Value: []*descriptorpb.EnumValueDescriptorProto{
				{Name: proto.String("NONE"), Number: proto.Int32(0)}, {Name: proto.String("SLOOP"),
					Number: proto.Int32(1)}}}}}
	m := &descriptorpb.DescriptorProto{Name: proto.String("Boat")}
	field := func(n int32, name string, kind descriptorpb.FieldDescriptorProto_Type, many bool, of string) {
		label := descriptorpb.FieldDescriptorProto_LABEL_OPTIONAL
		if many {
			label = descriptorpb.FieldDescriptorProto_LABEL_REPEATED
		}
		d := &descriptorpb.FieldDescriptorProto{Name: &name, Number: &n, Type: &kind, Label: &label}
		if of != "" {
			d.TypeName = &of
		}
		m.Field = append(m.Field, d)
	}
	kinds := descriptorpb.FieldDescriptorProto_Type_name
	for n := int32(1); n <= 18; n++ {
		kind, of := descriptorpb.FieldDescriptorProto_Type(n), ""
		switch kind {
		case descriptorpb.FieldDescriptorProto_TYPE_GROUP:
			continue
		case descriptorpb.FieldDescriptorProto_TYPE_MESSAGE:
			of = ".quay.v1.Boat"
		case descriptorpb.FieldDescriptorProto_TYPE_ENUM:
			of = ".quay.v1.Rig"
		}
		name := strings.ToLower(strings.TrimPrefix(kinds[n], "TYPE_"))
		field(n, "a_"+name, kind, false, of)
		field(n+20, "many_"+name, kind, true, of)
	}
	message := descriptorpb.FieldDescriptorProto_TYPE_MESSAGE
	field(50, "at", message, false, ".google.protobuf.Timestamp")
	field(51, "more", message, false, ".google.protobuf.Struct")
	field(52, "maybe", message, false, ".google.protobuf.StringValue")
	field(53, "by_name", message, true, ".quay.v1.Boat.ByNameEntry")
	text, number, first, second := descriptorpb.FieldDescriptorProto_TYPE_STRING,
		descriptorpb.FieldDescriptorProto_TYPE_INT32, int32(1), int32(2)
	m.NestedType = []*descriptorpb.DescriptorProto{{Name: proto.String("ByNameEntry"),
		Options: &descriptorpb.MessageOptions{MapEntry: proto.Bool(true)},
		Field: []*descriptorpb.FieldDescriptorProto{
			{Name: proto.String("key"), Number: &first, Type: &text,
				Label: descriptorpb.FieldDescriptorProto_LABEL_OPTIONAL.Enum()},
			{Name: proto.String("value"), Number: &second, Type: &number,
				Label: descriptorpb.FieldDescriptorProto_LABEL_OPTIONAL.Enum()}}}}
	f.MessageType = []*descriptorpb.DescriptorProto{m}
	d, err := protodesc.NewFile(f, protoregistry.GlobalFiles)
	if err != nil {
		t.Fatal(err)
	}
	return d.Messages().Get(0)
}

// filled returns a message with values by chance.
func filled(r *rand.Rand, d protoreflect.MessageDescriptor, depth int) *dynamicpb.Message {
	m := dynamicpb.NewMessage(d)
	for i := range d.Fields().Len() {
		f := d.Fields().Get(i)
		switch {
		case r.IntN(3) > 0 || f.Message() != nil && (depth == 0 || f.IsMap() || f.Number() >= 50):
			continue
		case f.IsList():
			for range r.IntN(3) {
				m.Mutable(f).List().Append(chosen(r, f, depth))
			}
		default:
			m.Set(f, chosen(r, f, depth))
		}
	}
	return m
}

func chosen(r *rand.Rand, f protoreflect.FieldDescriptor, depth int) protoreflect.Value {
	n := r.Int64() >> r.IntN(63)
	switch f.Kind() {
	case protoreflect.BoolKind:
		return protoreflect.ValueOfBool(n&1 == 0)
	case protoreflect.EnumKind:
		return protoreflect.ValueOfEnum(protoreflect.EnumNumber(n & 3))
	case protoreflect.Int32Kind, protoreflect.Sint32Kind, protoreflect.Sfixed32Kind:
		return protoreflect.ValueOfInt32(int32(n))
	case protoreflect.Int64Kind, protoreflect.Sint64Kind, protoreflect.Sfixed64Kind:
		return protoreflect.ValueOfInt64(-n)
	case protoreflect.Uint32Kind, protoreflect.Fixed32Kind:
		return protoreflect.ValueOfUint32(uint32(n))
	case protoreflect.Uint64Kind, protoreflect.Fixed64Kind:
		return protoreflect.ValueOfUint64(uint64(n))
	case protoreflect.FloatKind:
		return protoreflect.ValueOfFloat32(float32(n) / 8)
	case protoreflect.DoubleKind:
		return protoreflect.ValueOfFloat64(float64(n) / 8)
	case protoreflect.StringKind:
		return protoreflect.ValueOfString(strings.Repeat("é\"\n", r.IntN(4)))
	case protoreflect.BytesKind:
		return protoreflect.ValueOfBytes([]byte(strings.Repeat("tide\xff", r.IntN(3))))
	}
	return protoreflect.ValueOfMessage(filled(r, f.Message(), depth-1))
}

// means returns what a message means, as decoded JSON.
func means(m protoreflect.Message) any {
	all := map[string]any{}
	m.Range(func(f protoreflect.FieldDescriptor, v protoreflect.Value) bool {
		if !f.IsList() {
			all[string(f.Name())] = meansOne(f, v)
			return true
		}
		list := []any{}
		for i := range v.List().Len() {
			list = append(list, meansOne(f, v.List().Get(i)))
		}
		all[string(f.Name())] = list
		return true
	})
	return all
}

func meansOne(f protoreflect.FieldDescriptor, v protoreflect.Value) any {
	switch f.Kind() {
	case protoreflect.MessageKind:
		return means(v.Message())
	case protoreflect.EnumKind:
		if e := f.Enum().Values().ByNumber(v.Enum()); e != nil {
			return string(e.Name())
		}
		return json.Number(fmt.Sprint(v.Enum()))
	case protoreflect.BytesKind:
		if isText(v.Bytes()) {
			return string(v.Bytes())
		}
		return base64.StdEncoding.EncodeToString(v.Bytes())
	case protoreflect.FloatKind:
		short, _ := strconv.ParseFloat(strconv.FormatFloat(v.Float(), 'g', -1, 32), 64)
		return short
	case protoreflect.DoubleKind:
		return v.Float()
	case protoreflect.BoolKind, protoreflect.StringKind:
		return v.Interface()
	}
	return json.Number(v.String())
}

// alike decodes a JSON text for comparison: numbers as they are written, those with a fraction as such.
func alike(t *testing.T, text []byte) any {
	t.Helper()
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return v
}

func asFloats(v any) any {
	switch v := v.(type) {
	case json.Number:
		f, _ := v.Float64()
		return f
	case map[string]any:
		for k := range v {
			if strings.Contains(k, "float") || strings.Contains(k, "double") {
				v[k] = asFloats(v[k])
			} else if inner, ok := v[k].(map[string]any); ok {
				asFloats(inner)
			} else if list, ok := v[k].([]any); ok {
				for i := range list {
					if inner, ok := list[i].(map[string]any); ok {
						asFloats(inner)
					}
				}
			}
		}
	case []any:
		for i := range v {
			v[i] = asFloats(v[i])
		}
	}
	return v
}

// TestMessagesMeanWhatTheyAreReadAs makes messages by chance, and reads them as they are, behind their length,
// compressed and in base64.
func TestMessagesMeanWhatTheyAreReadAs(t *testing.T) {
	d := boat(t)
	for seed := range uint64(300) {
		m := filled(rand.New(rand.NewPCG(seed, 1)), d, 3)
		body, err := proto.Marshal(m)
		if err != nil {
			t.Fatal(err)
		}
		want := means(m)
		for how, c := range map[string]struct {
			media, coding string
			body          []byte
			stream        bool
		}{"alone": {"application/x-protobuf", "", body, false},
			"framed":     {"application/grpc", "", frame(0, body), false},
			"streamed":   {"application/grpc+proto", "", append(frame(0, body), frame(0, body)...), true},
			"compressed": {"application/grpc", "gzip", frame(1, zipped(body)), false},
			"web": {"application/grpc-web-text", "", []byte(base64.StdEncoding.EncodeToString(frame(0, body)) +
				base64.StdEncoding.EncodeToString(frame(0x80, []byte("grpc-status:0\r\n")))), false}} {
			p, err := MessagePart(c.media, c.coding, c.body, Message{d, c.stream})
			if err != nil {
				t.Fatalf("seed %d, %s: %v", seed, how, err)
			}
			got := alike(t, p.Text)
			if c.stream {
				list := got.([]any)
				if len(list) != 2 {
					t.Fatalf("seed %d: a stream of two has %d", seed, len(list))
				}
				got = list[1]
			}
			if asFloats(got); !reflect.DeepEqual(got, want) {
				t.Fatalf("seed %d, %s: %s\nmeans %v\nwant %v", seed, how, p.Text, got, want)
			}
		}
	}
}

func frame(flags byte, body []byte) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{flags}, uint32(len(body))), body...)
}

func zipped(body []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Write(body)
	w.Close()
	return b.Bytes()
}

// TestMessagesAsTheyAreSent reads messages by hand: types that come with the notation, maps, fields nobody knows, what
// is sent twice or otherwise than described, and what is damaged.
func TestMessagesAsTheyAreSent(t *testing.T) {
	d := boat(t)
	inner := func(m proto.Message) string {
		b, err := proto.Marshal(m)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	text := func(n protowire.Number, s string) string {
		return string(protowire.AppendString(protowire.AppendTag(nil, n, protowire.BytesType), s))
	}
	number := func(n protowire.Number, v uint64) string {
		return string(protowire.AppendVarint(protowire.AppendTag(nil, n, protowire.VarintType), v))
	}
	more, _ := structpb.NewStruct(map[string]any{"email": []any{"ada@quay.example", nil, true, 1.5}})
	for _, c := range []struct{ body, json, fault string }{
		{"", "{}", ""},
		{text(50, inner(timestamppb.New(timestamppb.Now().AsTime().Truncate(0))))[:0] + text(50, "\x08\x01"),
			`{"at":"1970-01-01T00:00:01Z"}`, ""},
		{text(51, inner(more)), `{"more":{"email":["ada@quay.example",null,true,1.5]}}`, ""},
		{text(52, inner(wrapperspb.String("x"))), `{"maybe":"x"}`, ""},
		{text(52, ""), `{"maybe":""}`, ""},
		{text(53, text(1, "ada")+number(2, 7)) + text(53, number(2, 8)), `{"by_name":{"ada":7,"":8}}`, ""},
		{text(99, "ada@quay.example") + number(98, 5), `{"99":"ada@quay.example","98":5}`, ""},
		{text(99, "a") + text(99, "b"), `{"99":["a","b"]}`, ""},
		{text(9, "a") + text(9, "b"), `{"a_string":"a","a_string":"b"}`, ""},
		{number(9, 5), `{"a_string":5}`, ""},
		{text(5, "tide"), `{"a_int32":"tide"}`, ""},
		{text(25, "\x01\x02\x03"), `{"many_int32":[1,2,3]}`, ""},
		{number(25, 1) + text(25, "\x02\x03"), `{"many_int32":[1,2,3]}`, ""},
		{text(9, "whole") + "\x4a\x10cut", `{"a_string":"whole"`, ""},
		{text(9, "whole") + "\x07", "", "byte 7 of the body: this is no field"},
		{text(11, text(9, "deep")+"\xff"), `{"a_message":{"a_string":"deep"`, ""},
		{strings.Repeat("\x0b", 70_000), "", "byte 0 of the body: this is no field"},
	} {
		p, err := MessagePart("application/protobuf", "", []byte(c.body), Message{Type: d})
		if c.fault != "" {
			if err == nil || !strings.Contains(err.Error(), c.fault) {
				t.Errorf("%q gives %v, want %q", c.body, err, c.fault)
			}
			continue
		}
		if err != nil || string(p.Text) != c.json || !p.Sparse {
			t.Errorf("%.60q is read as %.90s (%v), want %s", c.body, p.Text, err, c.json)
		}
		if i := strings.Index(string(p.Text), "ada@"); i >= 0 && p.Origin(i-1) != strings.Index(c.body, "ada@") &&
			len(p.anchors) > 1 {
			t.Errorf("%q: the address comes from byte %d, want %d", c.body, p.Origin(i-1),
				strings.Index(c.body, "ada@"))
		}
	}
}

// TestFramesThatAreDamaged reads gRPC bodies that are cut off, lie about their lengths or unpack to too much.
func TestFramesThatAreDamaged(t *testing.T) {
	d := boat(t)
	body := []byte("\x4a\x05whole")
	long := zipped(append([]byte("\x4a\x80\x80\x80\x40"), make([]byte, MaxBody+1)...))
	for _, c := range []struct {
		media, coding string
		body          []byte
		json, fault   string
	}{
		{"application/grpc", "", nil, "null", ""},
		{"application/grpc", "", frame(0, body)[:3], "", ""},
		{"application/grpc", "", frame(0, body)[:10], `{`, ""},
		{"application/grpc", "", append([]byte{0, 0xff, 0xff, 0xff, 0xff}, body...), `{"a_string":"whole"}`, ""},
		{"application/grpc", "", append(frame(0, body), frame(0, body)...),
			`{"a_string":"whole"} {"a_string":"whole"}`, ""},
		{"application/grpc", "", frame(1, zipped(body)), "", "byte 5 of the body: the message is compressed"},
		{"application/grpc", "gzip", frame(1, body), "", "byte 5 of the body: the message is compressed"},
		{"application/grpc", "gzip", frame(1, long), "", "byte 5 of the body: the message is compressed"},
		{"application/grpc-web-text", "", []byte("%%%"), "", "not the base64"},
		{"application/grpc", "", frame(0, []byte(strings.Repeat("\x0d\x00\x00\x00\x00", maxElements+1))), "",
			"more values or levels"},
		{"application/grpc", "", frame(0, nested(2*maxNesting)), "", "more values or levels"},
	} {
		p, err := MessagePart(c.media, c.coding, c.body, Message{Type: d})
		switch {
		case c.fault != "" && (err == nil || !strings.Contains(err.Error(), c.fault)):
			t.Errorf("%.40q gives %v, want %q", c.body, err, c.fault)
		case c.fault == "" && (err != nil || string(p.Text) != c.json):
			t.Errorf("%.40q is read as %s (%v), want %s", c.body, p.Text, err, c.json)
		}
	}
}

// nested returns a message in messages.
func nested(levels int) (body []byte) {
	for range levels {
		body = append(protowire.AppendTag(nil, 11, protowire.BytesType), protowire.AppendBytes(nil, body)...)
	}
	return body
}

// FuzzMessages reads what is no message.
func FuzzMessages(f *testing.F) {
	d := boat(f)
	m, _ := proto.Marshal(filled(rand.New(rand.NewPCG(1, 1)), d, 3))
	for i, seed := range [][]byte{m, frame(0, m), frame(1, zipped(m)), []byte(strings.Repeat("\x0b", 99))} {
		f.Add(seed, i%2 == 1, i%2 == 0)
	}
	f.Fuzz(func(t *testing.T, body []byte, framed, stream bool) {
		media := "application/protobuf"
		if framed {
			media = "application/grpc"
		}
		p, err := MessagePart(media, "gzip", body, Message{d, stream})
		if err != nil {
			return
		}
		for i := 1; i < len(p.anchors); i++ {
			if p.anchors[i].text < p.anchors[i-1].text || p.anchors[i].body > len(body) {
				t.Fatalf("anchor %d of %q is %v behind %v", i, body, p.anchors[i], p.anchors[i-1])
			}
		}
		if len(p.Text) > 200*(len(body)+64) {
			t.Fatalf("%d bytes stand for %d", len(p.Text), len(body))
		}
	})
}
