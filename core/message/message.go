// Package message reads descriptor sets: what messages of Protocol Buffers consist of, and which ones the methods of
// gRPC take and return. Compilers write them (protoc --include_imports --descriptor_set_out FILE, buf build -o FILE).
package message

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protodesc"
	"google.golang.org/protobuf/reflect/protoreflect"
	"google.golang.org/protobuf/reflect/protoregistry"
	"google.golang.org/protobuf/types/descriptorpb"

	// the types that come with the notation, which sets leave out at times
	_ "google.golang.org/protobuf/types/known/anypb"
	_ "google.golang.org/protobuf/types/known/durationpb"
	_ "google.golang.org/protobuf/types/known/emptypb"
	_ "google.golang.org/protobuf/types/known/fieldmaskpb"
	_ "google.golang.org/protobuf/types/known/structpb"
	_ "google.golang.org/protobuf/types/known/timestamppb"
	_ "google.golang.org/protobuf/types/known/wrapperspb"
)

// MaxSet is how many bytes of a descriptor set are read.
const MaxSet = 16 << 20

// Set is a descriptor set. It is immutable.
type Set struct{ files *protoregistry.Files }

// Encode returns a descriptor set as text in base64 (RFC 4648), as contracts keep it. What is text already stays.
func Encode(data []byte) []byte {
	if plain := bytes.TrimSpace(data); len(plain) == 0 || plain[0] != 0x0a && decoded(plain) != nil {
		return data
	}
	return append(base64.StdEncoding.AppendEncode(nil, data), '\n')
}

func decoded(text []byte) []byte {
	plain, err := base64.StdEncoding.DecodeString(string(bytes.TrimSpace(text)))
	if err != nil {
		return nil
	}
	return plain
}

// Is reports whether a text is a descriptor set in base64.
func Is(text []byte) bool {
	head := text[:min(len(text), 64)]
	if len(head) == 0 || bytes.ContainsAny(head, ": #\n-") {
		return false
	}
	_, err := Read(text)
	return err == nil && decoded(text) != nil
}

// Read reads a descriptor set, as it is or in base64.
func Read(data []byte) (*Set, error) {
	if len(data) > MaxSet {
		return nil, fmt.Errorf("a descriptor set of over %d MiB is not read", MaxSet>>20)
	}
	if plain := decoded(data); plain != nil {
		data = plain
	}
	var set descriptorpb.FileDescriptorSet
	if err := proto.Unmarshal(data, &set); err != nil || len(set.File) == 0 {
		return nil, errors.New("it is no descriptor set")
	}
	complete(&set)
	files, err := protodesc.NewFiles(&set)
	if err != nil {
		return nil, fmt.Errorf("the descriptor set is not whole: %s", plain(err))
	}
	return &Set{files}, nil
}

// plain returns what an error of the library says, on one line.
func plain(err error) string {
	text := strings.TrimPrefix(strings.ReplaceAll(err.Error(), "\u00a0", " "), "proto: ")
	return strings.Join(strings.Fields(text), " ")
}

// complete adds the files of types that come with the notation, where a set leaves them out.
func complete(set *descriptorpb.FileDescriptorSet) {
	have := map[string]bool{}
	for _, f := range set.File {
		have[f.GetName()] = true
	}
	for i := 0; i < len(set.File); i++ {
		for _, needs := range set.File[i].GetDependency() {
			if have[needs] {
				continue
			}
			have[needs] = true
			if f, err := protoregistry.GlobalFiles.FindFileByPath(needs); err == nil &&
				strings.HasPrefix(needs, "google/protobuf/") {
				set.File = append(set.File, protodesc.ToFileDescriptorProto(f))
			}
		}
	}
}

// Type returns the message of a full name (quay.v1.Booking); nil if there is none.
func (s *Set) Type(name string) protoreflect.MessageDescriptor {
	if s == nil {
		return nil
	}
	d, err := s.files.FindDescriptorByName(protoreflect.FullName(strings.TrimPrefix(name, ".")))
	if err != nil {
		return nil
	}
	m, _ := d.(protoreflect.MessageDescriptor)
	return m
}

// Types lists the full names of all messages that are not inside of others.
func (s *Set) Types() (names []string) {
	s.files.RangeFiles(func(f protoreflect.FileDescriptor) bool {
		for i := range f.Messages().Len() {
			if name := string(f.Messages().Get(i).FullName()); !strings.HasPrefix(name, "google.protobuf.") {
				names = append(names, name)
			}
		}
		return true
	})
	return names
}

// Answer returns what the method at a gRPC path (/quay.v1.Harbour/GetBooking) returns, and whether it is a stream of
// such messages; nil if there is no such method.
func (s *Set) Answer(path string) (m protoreflect.MessageDescriptor, stream bool) {
	if s == nil {
		return nil, false
	}
	parts := strings.Split(path, "/")
	if len(parts) < 2 {
		return nil, false
	}
	d, err := s.files.FindDescriptorByName(protoreflect.FullName(parts[len(parts)-2]))
	if err != nil {
		return nil, false
	}
	service, _ := d.(protoreflect.ServiceDescriptor)
	if service == nil {
		return nil, false
	}
	method := service.Methods().ByName(protoreflect.Name(parts[len(parts)-1]))
	if method == nil {
		return nil, false
	}
	return method.Output(), method.IsStreamingServer()
}

// Has reports whether everything that another set describes is described here, in the same way.
func (s *Set) Has(other *Set) bool {
	same := true
	if other == nil {
		return true
	}
	other.files.RangeFiles(func(f protoreflect.FileDescriptor) bool {
		if s == nil {
			same = false
			return false
		}
		mine, err := s.files.FindFileByPath(f.Path())
		same = err == nil && proto.Equal(protodesc.ToFileDescriptorProto(mine), protodesc.ToFileDescriptorProto(f))
		return same
	})
	return same
}
