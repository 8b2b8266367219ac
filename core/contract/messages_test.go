package contract

import (
	"strings"
	"testing"

	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/types/descriptorpb"

	"inkret/core/message"
)

// berths is a descriptor set with a message and a service, in base64.
func berths(t *testing.T) []byte {
	t.Helper()
	text, one := descriptorpb.FieldDescriptorProto_TYPE_STRING, int32(1)
	data, err := proto.Marshal(&descriptorpb.FileDescriptorSet{File: []*descriptorpb.FileDescriptorProto{{
		Name: proto.String("berths.proto"), Package: proto.String("quay"), Syntax: proto.String("proto3"),
		MessageType: []*descriptorpb.DescriptorProto{{Name: proto.String("Berth"),
			Field: []*descriptorpb.FieldDescriptorProto{{Name: proto.String("label"), Number: &one, Type: &text,
				Label: descriptorpb.FieldDescriptorProto_LABEL_OPTIONAL.Enum()}}}},
		Service: []*descriptorpb.ServiceDescriptorProto{{Name: proto.String("Berths"),
			Method: []*descriptorpb.MethodDescriptorProto{{Name: proto.String("List"),
				ServerStreaming: proto.Bool(true),
				InputType:       proto.String(".quay.Berth"), OutputType: proto.String(".quay.Berth")}}}}}}})
	if err != nil {
		t.Fatal(err)
	}
	return message.Encode(data)
}

const messagesContract = `inkret: 1
service: quay
audiences: [{name: visitor}]
TOP
entities: {Berth: {fields: {label: {type: string, class: public}}}}
endpoints:
  - endpoint: GET /berth
    OWN
    responses: [{entity: Berth, grants: {label: }MESSAGE}]
`

// TestMessagesInContracts reads contracts that name descriptor sets and messages, rightly and wrongly.
func TestMessagesInContracts(t *testing.T) {
	set := File{"api/berths.binpb", berths(t)}
	for _, c := range []struct{ top, own, message, fault string }{
		{"protobuf: berths.binpb", "", ", message: quay.Berth", ""},
		{"", "protobuf: berths.binpb", ", message: .quay.Berth", ""},
		{"protobuf: berths.binpb", "protobuf: berths.binpb", ", message: quay.Berth", ""},
		{"", "", ", message: quay.Berth", `nothing says where the message "quay.Berth" is described`},
		{"protobuf: berths.binpb", "", ", message: quay.Bert", `the descriptor set has no message "quay.Bert"`},
		{"protobuf: nosuch.binpb", "", "", `there is no file "nosuch.binpb"`},
		{"protobuf: ../berths.binpb", "", "", "in another folder"},
		{"protobuf: api.yaml", "", "", "api.yaml"},
		{"protobuf: [berths.binpb]", "", "", "text"},
		{"protobuf: torn.binpb", "", "", "it is no descriptor set"},
	} {
		text := strings.NewReplacer("TOP\n", c.top+"\n", "OWN\n", c.own+"\n", "MESSAGE",
			c.message).Replace(messagesContract)
		contracts, err := Read(File{"api/api.yaml", []byte(text)}, set, File{"api/torn.binpb", set.Data[:40]})
		if c.own == "" && c.top != "" && !strings.Contains(c.top, "torn") || strings.Contains(c.own, "berths") {
			contracts, err = Read(File{"api/api.yaml", []byte(text)}, set)
		}
		switch {
		case c.fault == "" && err != nil:
			t.Errorf("%s %s %s: %v", c.top, c.own, c.message, err)
		case c.fault != "" && (err == nil || !strings.Contains(err.Error(), c.fault)):
			t.Errorf("%s %s %s gives %v, want %s", c.top, c.own, c.message, err, c.fault)
		case c.fault == "":
			e := contracts.Endpoints[0]
			if m, ok := contracts.MessageOf(e, e.Responses[0], "application/x-protobuf", "/berth"); !ok || m.Stream {
				t.Errorf("%s %s: the message of the response is %v", c.top, c.own, m)
			}
			if m, ok := contracts.MessageOf(e, nil, "application/grpc", "/api/quay.Berths/List"); !ok || !m.Stream {
				t.Errorf("%s %s: the message of the method is %v", c.top, c.own, m)
			}
			if _, ok := contracts.MessageOf(e, nil, "application/x-protobuf", "/quay.Berths/List"); ok {
				t.Errorf("%s %s: a path tells the message of a body that is not gRPC's", c.top, c.own)
			}
		}
	}
	if got := Missing([]File{{"api/api.yaml", []byte("protobuf: berths.binpb\nendpoints: [{protobuf: b.binpb}]")},
		{"api/b.binpb", nil}}); len(got) != 1 || got[0] != "api/berths.binpb" {
		t.Errorf("%v is missing", got)
	}
}

// TestReadingMessagesOtherwise compares contracts that read bodies as the same messages, or do no more.
func TestReadingMessagesOtherwise(t *testing.T) {
	read := func(top, own, message string) *Contracts {
		c, err := Read(File{"api.yaml", []byte(strings.NewReplacer("TOP\n", top+"\n", "OWN\n", own+"\n", "MESSAGE",
			message).Replace(messagesContract))}, File{"berths.binpb", berths(t)})
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	const set = "protobuf: berths.binpb"
	none, top, own := read("", "", ""), read(set, "", ", message: quay.Berth"),
		read("", set, ", message: quay.Berth")
	for i, c := range []struct {
		was, is *Contracts
		holds   bool
	}{{none, top, true}, {none, own, true}, {own, top, true}, {top, top, true}, {top, none, false}, {own, none, false},
		{top, own, false}, {top, read(set, "", ""), false}} {
		if got := c.is.ReadsMessagesOf(c.was); got != c.holds {
			t.Errorf("case %d: %v", i, got)
		}
	}
}
