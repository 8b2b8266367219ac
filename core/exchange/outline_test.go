package exchange

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestOutlinesHoldNoValue(t *testing.T) {
	data := func(name []byte) bool { return string(name) == "a@b.example" }
	for body, want := range map[string]string{
		`{"name":"Ada \"Q\" \\","n":-12.5e3,"ok":true,"no":false,"nil":null,"of":[1,"x"],"a@b.example":{"é":"é"}}`: `{"name":"xxxxxxxxxxxx","n":1111111,"ok":null,"no":null ,"nil":null,"of":[1,"x"],"xxxxxxxxxxx":{"é":"xx"}}`,
		` [ 7 , {} ] `:          ` [ 1 , {} ] `,
		`{"a":"secret","b":"se`: `{"a":"xxxxxx","b"`,
		`"one"`:                 `"xxx"`,
	} {
		got := string(Outline("application/json", []byte(body), data))
		if got != want {
			t.Errorf("%s is outlined as %s, want %s", body, got, want)
		}
		if json.Valid([]byte(body)) && (!json.Valid([]byte(got)) || len(got) != len(body)) {
			t.Errorf("%s is no JSON of %d bytes", got, len(body))
		}
	}
	if Outline("text/html", []byte("<p>"), data) != nil || Outline("application/x-ndjson", []byte("{}"), data) != nil {
		t.Error("a body that is not JSON has an outline")
	}
	secret := "$2b$12$abcdefghijklmnopqrstuuZ5y1B3C4D5E6F7G8H9I0J1K2L3M4N5O"
	if got := string(Outline("", []byte(`{"hash":"`+secret+`","n":411111111111}`), data)); strings.Contains(got, "$2b") || strings.Contains(got, "4111") {
		t.Errorf("a secret is left in %s", got)
	}
}
