package exchange

import "testing"

// TestJSONByContent reads JSON under types that do not say so, behind prefixes against hijacking and within calls.
func TestJSONByContent(t *testing.T) {
	const body = `{"a":1}`
	for sent, want := range map[string]string{
		body: body, " [1]": " [1]", ")]}'\n" + body: body, ")]}',\n" + body: body, "while(1);" + body: body,
		"for(;;); [1,2]":   "[1,2]",
		"cb(" + body + ")": body, "/**/ typeof cb === 'function' && cb(" + body + ");\n": body, "a.b[0](" + body +
			"); /* x */": body,
		"// x\nnullable(" + body + ")": body, "for(;;)" + body: "", "hello": "", "[INFO] low tide": "", "{}}": "",
		"f(1)": "", "": "", "(": "",
	} {
		for _, media := range []string{"", "text/plain", "text/javascript; charset=utf-8", "application/octet-stream"} {
			err := Readable(media, []byte(sent))
			if media == "" && want == "" && looksLikeJSON([]byte(sent)) {
				continue // without a type, a body that begins like JSON counts as JSON, and is reported as broken
			}
			if (err == nil) != (want != "") {
				t.Errorf("%q as %q: %v", sent, media, err)
			}
			if err != nil || want == "" {
				continue
			}
			parts, err := Parts(nil, media, []byte(sent))
			if err != nil || len(parts) != 1 || string(parts[0].Text) != want {
				t.Errorf("%q as %q: %+v, %v", sent, media, parts, err)
				continue
			}
			if at := parts[0].Origin(1); sent[at] != want[1] {
				t.Errorf("%q: the byte 1 stands at %d", sent, at)
			}
		}
	}
	if parts, err := Parts(nil, "application/json", []byte(")]}'\n"+body)); err != nil ||
		string(parts[0].Text) != body {
		t.Errorf("as JSON: %+v, %v", parts, err)
	}
}
