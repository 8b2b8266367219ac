package exchange

import (
	"encoding/json"
	"strings"
	"testing"

	"inkret/core/detect"
)

func TestOutlinesHoldNoValue(t *testing.T) {
	data := func(name []byte) bool { return string(name) == "a@b.example" }
	standIn := func(_, value []byte) []byte { return (&detect.Set{}).StandIn(value) }
	for body, want := range map[string]string{
		`{"name":"Ada \"Q\" \\","n":-12.5e3,"ok":true,"no":false,"nil":null,"of":[7,"x"],"a@b.example":{"é":"é"}}`: `{"name":"Aaa \"A\" \\","n":111.111,"ok":true,"no":true ,"nil":null,"of":[1,"a"],"6xxxxxxx":{"é":"??"}}`,
		`[-12.50,10.0,0,205,3.14]`: `[-11.11,10.0,1,101,1.11]`,
		` [ 7 , {} ] `:             ` [ 1 , {} ] `,
		`{"a":"secret","b":"se`:    `{"a":"aaaaaa","b"`,
		`"one"`:                    `"aaa"`,
		`{"at":"2026-05-09","payload":"{\"email\":\"sol@sails.example\",\"n\":[7]}"}`: `{"at":"1111-11-11","payload":"{\"email\":\"6xxxxxxxxxxxxx\",\"n\":[1]}"}`,
		`{"a":"\u00e9 \/ x"}`: `{"a":"xxxxxxxxxxx"}`,
	} {
		got := string(Outline("application/json", []byte(body), data, standIn))
		if got != want {
			t.Errorf("%s is outlined as %s, want %s", body, got, want)
		}
		if json.Valid([]byte(body)) && (!json.Valid([]byte(got)) || len(got) != len(body)) {
			t.Errorf("%s is no JSON of %d bytes", got, len(body))
		}
	}
	if Outline("text/html", []byte("<p>"), data, standIn) != nil || Outline("application/x-ndjson", []byte("{}"), data,
		standIn) != nil {
		t.Error("a body that is not JSON has an outline")
	}
	secret := "$2b$12$abcdefghijklmnopqrstuuZ5y1B3C4D5E6F7G8H9I0J1K2L3M4N5O"
	if got := string(Outline("", []byte(`{"hash":"`+secret+`","n":411111111111}`), data,
		standIn)); strings.Contains(got, "abcdef") || strings.Contains(got, "4111") {
		t.Errorf("a secret is left in %s", got)
	}
}
