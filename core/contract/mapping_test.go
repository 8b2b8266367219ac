package contract

import (
	"strings"
	"testing"

	"inkret/core/exchange"
)

func TestMappings(t *testing.T) {
	c, err := Read(File{Name: "c.yaml",
		Data: []byte("inkret: 1\nservice: s\naudiences: [{name: visitor}, {name: skipper}, {name: office}]")})
	if err != nil {
		t.Fatal(err)
	}
	m, err := ReadMapping(File{Name: "m.yaml", Data: []byte(`audiences:
  - {audience: office, recordings: [desk*, "x-?.har"], recognise: {cookie: {name: desk, value: "*"}}}
  - {audience: skipper, recordings: "skipper-*.har"}
  - {audience: office, recognise: {header: {name: X-Desk, value: "2"}}}
`)}, c)
	if err != nil {
		t.Fatal(err)
	}
	cookie, desk := exchange.Header{{Name: "Cookie", Value: "desk=1"}}, exchange.Header{{Name: "X-Desk", Value: "2"}}
	for _, one := range []struct {
		recording string
		header    exchange.Header
		want      string
	}{
		{"desk-monday", cookie, "office"}, {"trip/x-1.har", cookie, "office"}, {"desk-monday", nil, ""},
		{"skipper-1.har", cookie, "skipper"},
		{"all.zip/skipper-1.har", nil, "skipper"}, {"else.har", desk, "office"}, {"else.har", nil, ""},
	} {
		if got := m.Audience(one.recording, &exchange.Request{Header: one.header}); got != one.want {
			t.Errorf("%s with %v is %q, want %q", one.recording, one.header, got, one.want)
		}
	}
	if (*Mapping)(nil).Audience("x", &exchange.Request{}) != "" {
		t.Error("no mapping says something")
	}
	for text, want := range map[string]string{
		"":                                "empty",
		"audiences: [{audience: skiper}]": "did you mean",
		"audiences: [{recordings: a}]":    "says no audience",
		"audiences: [{audience: office, files: a}]":        "files",
		"audiences: [{audience: office}]":                  "recordings or recognise",
		"audiences: [{audience: office, recordings: '['}]": "is no pattern",
		"other: 1": "other",
	} {
		if _, err := ReadMapping(File{Name: "m.yaml", Data: []byte(text)}, c); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}
