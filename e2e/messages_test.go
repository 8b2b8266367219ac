package e2e

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/types/descriptorpb"

	"inkret/api/wire"
)

// messageContract grants a skipper's name and boats, and nothing else.
const messageContract = `inkret: 1
service: rpc
servers: ["https://rpc.quay.example"]
audiences: [{name: visitor}]
protobuf: harbour.binpb
entities:
  Skipper: {fields: {name: {type: string, class: public}, email: {type: string, class: personal}, boats: {type: integer, class: public}}}
endpoints:
  - endpoint: POST /quay.v1.Skippers/Get
    responses: [{entity: Skipper, grants: {name: , boats: }}]
  - endpoint: POST /quay.v1.Skippers/List
    responses: [{entity: Skipper, at: "", many: true, grants: {name: , boats: }}]
  - endpoint: GET /v1/skippers/{id}
    responses: [{entity: Skipper, message: quay.v1.Skipper, grants: {name: , boats: }}]
`

// harbourSet is the descriptor set of the contract.
func harbourSet(t *testing.T) []byte {
	t.Helper()
	text, number := descriptorpb.FieldDescriptorProto_TYPE_STRING, descriptorpb.FieldDescriptorProto_TYPE_INT32
	fields := []*descriptorpb.FieldDescriptorProto{}
	for i, name := range []string{"name", "email", "boats"} {
		n, kind := int32(i+1), text
		if name == "boats" {
			kind = number
		}
		fields = append(fields, &descriptorpb.FieldDescriptorProto{Name: proto.String(name), Number: &n, Type: &kind,
			Label: descriptorpb.FieldDescriptorProto_LABEL_OPTIONAL.Enum()})
	}
	method := func(name string, stream bool) *descriptorpb.MethodDescriptorProto {
		return &descriptorpb.MethodDescriptorProto{Name: &name, InputType: proto.String(".quay.v1.Skipper"),
			OutputType: proto.String(".quay.v1.Skipper"), ServerStreaming: &stream}
	}
	data, err := proto.Marshal(&descriptorpb.FileDescriptorSet{File: []*descriptorpb.FileDescriptorProto{{
		Name: proto.String("skippers.proto"), Package: proto.String("quay.v1"), Syntax: proto.String("proto3"),
		MessageType: []*descriptorpb.DescriptorProto{{Name: proto.String("Skipper"), Field: fields}},
		Service: []*descriptorpb.ServiceDescriptorProto{{Name: proto.String("Skippers"),
			Method: []*descriptorpb.MethodDescriptorProto{method("Get", false), method("List", true)}}}}}})
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// framedMessage is a message as gRPC sends it.
func framedMessage(flags byte, message []byte) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{flags}, uint32(len(message))), message...)
}

// messageCalls writes a recording of calls that are answered with messages.
func messageCalls(t *testing.T, file string) {
	t.Helper()
	clean := protowire.AppendString(protowire.AppendTag(nil, 1, protowire.BytesType), "Ada Berg")
	leaky := protowire.AppendString(protowire.AppendTag(slices.Clone(clean), 2, protowire.BytesType),
		"ada@quay.example")
	unknown := protowire.AppendString(protowire.AppendTag(slices.Clone(clean), 99, protowire.BytesType), leakedHash)
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	w.Write(leaky)
	w.Close()
	var entries []any
	for _, c := range []struct {
		path, media, coding string
		body                []byte
	}{
		{"/quay.v1.Skippers/Get", "application/grpc", "", framedMessage(0, clean)},
		{"/quay.v1.Skippers/Get", "application/grpc+proto", "gzip", framedMessage(1, packed.Bytes())},
		{"/quay.v1.Skippers/List", "application/grpc-web-text", "", []byte(base64.StdEncoding.EncodeToString(
			append(framedMessage(0, clean), framedMessage(0, leaky)...)) + base64.StdEncoding.EncodeToString(
			framedMessage(0x80, []byte("grpc-status:0\r\n"))))},
		{"/v1/skippers/7", "application/x-protobuf", "", unknown},
		{"/v1/moorings/7", "application/x-protobuf", "", leaky},     // nothing says of which message
		{"/v1/skippers/8", "application/x-protobuf", "", leaky[:9]}, // cut off
	} {
		e := inHAR("/", c.media, "")
		request, response := e["request"].(map[string]any), e["response"].(map[string]any)
		request["url"] = "https://rpc.quay.example" + c.path
		if strings.Contains(c.media, "grpc") {
			request["method"] = "POST"
		}
		response["headers"] = []any{map[string]any{"name": "Content-Type", "value": c.media},
			map[string]any{"name": "Grpc-Encoding", "value": c.coding}}
		response["content"] = map[string]any{"mimeType": c.media, "encoding": "base64", "size": len(c.body),
			"text": base64.StdEncoding.EncodeToString(c.body)}
		entries = append(entries, e)
	}
	text, err := json.Marshal(map[string]any{"log": map[string]any{"version": "1.2", "entries": entries}})
	if err == nil {
		err = os.WriteFile(file, text, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestMessagesThroughProgramAndService judges gRPC and protobuf by a descriptor set beside the contract, in a check and
// in the service, and looks at what is said where nothing tells the message.
func TestMessagesThroughProgramAndService(t *testing.T) {
	server, home := startDemo(t)
	signIn(t, server, home)
	dir := t.TempDir()
	recording, contractFile := filepath.Join(dir, "rpc.har"), filepath.Join(dir, "rpc.yaml")
	messageCalls(t, recording)
	for name, data := range map[string][]byte{contractFile: []byte(messageContract),
		filepath.Join(dir, "harbour.binpb"): harbourSet(t)} {
		if err := os.WriteFile(name, data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	want := map[string]bool{"POST /quay.v1.Skippers/Get $.email sensitive-field": true,
		"POST /quay.v1.Skippers/List $[*].email sensitive-field": true,
		"GET /v1/skippers/{id} $[*] secret-value":                true}
	r := run(t, home, nil, "check", "--contracts", contractFile, "--format", "json", recording)
	found := map[string]bool{}
	for _, f := range decode[checked](t, r.out).Findings {
		found[f.Endpoint+" "+f.Path+" "+f.Kind] = true
	}
	if !maps.Equal(found, want) {
		t.Errorf("check finds %v, want %v: %s", slices.Sorted(maps.Keys(found)), slices.Sorted(maps.Keys(want)), r.err)
	}
	for _, say := range []string{"a body of messages, and no contract says of which", "the body is not a message"} {
		if !strings.Contains(r.out, say) {
			t.Errorf("check does not say %q: %s", say, r.out)
		}
	}
	if r := run(t, home, nil, "contract", "apply", contractFile); r.status != 0 {
		t.Fatalf("no contract: %s", r.err)
	}
	if r := run(t, home, nil, "capture", "upload", "--service", "rpc", recording); r.status != 0 {
		t.Fatalf("no upload: %s", r.err)
	}
	list := decode[wire.FindingPage](t, run(t, home, nil, "finding", "list", "--service", "rpc", "--format",
		"json").out)
	stored := map[string]bool{}
	for _, f := range list.Items {
		stored[f.Endpoint+" "+f.Path+" "+string(f.Kind)] = true
	}
	if !maps.Equal(stored, want) {
		t.Errorf("the service finds %v, want %v", slices.Sorted(maps.Keys(stored)), slices.Sorted(maps.Keys(want)))
	}
	// applied as it is, nothing changes; to read the bodies no more takes a second person
	if r := run(t, home, nil, "contract", "apply", contractFile); r.status != 0 || !strings.Contains(r.out,
		"nothing changed") {
		t.Errorf("applied again: exit %d, %s%s", r.status, r.out, r.err)
	}
	blind := filepath.Join(t.TempDir(), "rpc.yaml")
	if err := os.WriteFile(blind, []byte(strings.NewReplacer("protobuf: harbour.binpb\n", "",
		"message: quay.v1.Skipper, ",
		"").Replace(messageContract)), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := run(t, home, nil, "contract", "apply", blind, "--reason", "quiet"); r.status != 1 ||
		!strings.Contains(r.out, "waits") ||
		!strings.Contains(r.out, "read by another descriptor, or are read no more") {
		t.Errorf("bodies that are read no more: exit %d, %s%s", r.status, r.out, r.err)
	}
	os.Remove(filepath.Join(dir, "harbour.binpb"))
	if r := run(t, home, nil, "check", "--contracts", contractFile, recording); r.status != 2 ||
		!strings.Contains(r.err, `rpc.yaml:5:11`) || !strings.Contains(r.err, `there is no file "harbour.binpb"`) {
		t.Errorf("without the descriptor set: exit %d, %s", r.status, r.err)
	}
}
