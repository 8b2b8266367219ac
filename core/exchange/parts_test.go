package exchange

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
)

// drawn writes parts one a line: place, pointer where it differs, and text.
func drawn(parts []Part) string {
	var b strings.Builder
	for _, p := range parts {
		b.WriteString(p.Place)
		if p.Pointer != p.Place {
			b.WriteString(" at " + p.Pointer)
		}
		fmt.Fprintf(&b, " %s\n", strings.Join(strings.Fields(string(p.Text)), " "))
	}
	return strings.TrimSpace(b.String())
}

const boundaryForm = "--b\r\nContent-Disposition: form-data; " +
	"name=\"ref\"\r\n\r\nFQ-1\r\n--b\r\nContent-Disposition: form-data; name=\"meta\"\r\nContent-Type: " +
	"application/json\r\n\r\n{\"a\":1}\r\n" +
	"--b\r\nContent-Disposition: form-data; name=\"photo\"; filename=\"p.png\"\r\nContent-Type: " +
	"image/png\r\n\r\n\x89PNG\r\n--b--\r\n"

func TestPartsOfBodies(t *testing.T) {
	for _, c := range []struct{ name, media, body, want string }{
		{"JSON is its own", "application/json", `{"a": 1}`, `{"a": 1}`},
		{"a line each", "application/x-ndjson", "{\"a\":1}\n\n{\"a\":2}\r\n", `[{"a":1}, {"a":2} ]`},
		{"lines, none", "application/jsonl", "\n\n", `[ ]`},
		{"a sequence", "application/json-seq", "\x1e{\"a\":\n1}\n\x1e[2]\n", `[ {"a": 1} ,[2] ]`},
		{"events", "text/event-stream",
			": hi\n\nevent: b\ndata: {\"a\":1}\nid: 7\n\ndata: [DONE]\n\ndata: {\"a\":\r\ndata:2}\r\n\r\n",
			`[ {"a":1} ,{"a": 2} ]`},
		{"an event that the body breaks off in", "text/event-stream", "data: {\"a\":1}\n\ndata: {\"a\"", `[ {"a":1} ]`},
		{"a form", "application/x-www-form-urlencoded", "a=1&b=x%22+y&a=2&&c", `{"a":["1","2"],"b":"x\" y","c":""}`},
		{"a form in parts", "multipart/form-data; boundary=b", boundaryForm, `{"ref":"FQ-1","meta":"{\"a\":1}"}`},
		{"parts of a batch", "multipart/mixed; boundary=b",
			"--b\r\nContent-Type: application/http\r\n\r\nHTTP/1.1 200 OK\r\nContent-Type: " +
				"application/json\r\n\r\n{\"a\":1}\r\n--b--", `["{\"a\":1}"]`},
		{"XML", "application/xml",
			`<?xml version="1.0"?><bookings total="2"><booking id="7"><ref>A&amp;B</ref></booking><booking id="8"/> </bookings>`,
			`{"bookings":{"total":"2","booking":[{"id":"7","ref":"A&B"},{"id":"8"}]}}`},
		{"XML with text beside, names in name spaces", "text/xml",
			`<q:note xmlns:q="urn:q" by="ada">late<q:at>9</q:at></q:note>`,
			`{"note":{"by":"ada","at":"9","text()":"late"}}`},
		{"XML, one element", "application/atom+xml", `<a/>`, `{"a":""}`},
		{"a page without", "text/html", `<p>nothing</p><script src="x.js"></script>`, ``},
		{"a page", "text/html; charset=utf-8",
			`<script id="state" type="application/json"> {"a":1} </script><script type="application/ld+json">[1]</script><script type="application/json">{"b":2}</script><script type="application/json">{"b":3}</script>`,
			"script#state {\"a\":1}\nscript [1]\nscript at script(2) {\"b\":2}\nscript at script(3) {\"b\":3}"},
		{"attributes", "text/html",
			`<div id="app" data-props="{&quot;a&quot;:1}" title="{no json}"></div><li data-row='[1]'><li data-row='[2]'><li data-row='[]'>`,
			"div#app[data-props] {\"a\":1}\nli[data-row] [1]\nli[data-row] at li[data-row](2) [2]"},
		{"assignments", "text/html", `<script>if (a == {}) { b = function() { return {"no":1} } }
			window.state = {"a":{"b":"}</x>"}}; window["more"] = [1,2]; const late = JSON.parse('{"q":"it\'s \u0061"}');
			hand({"c":1}, {"d":2}); s = "x = {\"in\":1}"; y = {a:1}; z = {}; x => {"e"}; "=" </script>`,
			"script window.state {\"a\":{\"b\":\"}</x>\"}}\nscript window.more [1,2]\nscript late {\"q\":\"it's " +
				"a\"}\nscript hand {\"c\":1}"},
		{"templates are no programs", "text/html", `<script type="text/x-template">a = {"b":1}</script>`, ``},
	} {
		t.Run(c.name, func(t *testing.T) {
			parts, err := Parts(nil, c.media, []byte(c.body))
			if err != nil || drawn(parts) != c.want {
				t.Fatalf("parts:\n%s\nwant:\n%s\n%v", drawn(parts), c.want, err)
			}
			for _, p := range parts {
				if !json.Valid(p.Text) {
					t.Errorf("%s is not JSON", p.Text)
				}
			}
		})
	}
}

func TestOriginsOfParts(t *testing.T) {
	for _, c := range []struct{ media, body, mark, origin string }{
		{"application/x-ndjson", "{\"a\":1}\n{\"mark\":2}", `"mark"`, `"mark"`},
		{"text/event-stream", "event: x\ndata: {\"a\":1}\n\ndata: {\"mark\":2}\n\n", `"mark"`, `"mark"`},
		{"application/x-www-form-urlencoded", "a=1&mark=%41&b=2", `"mark"`, `mark=`},
		{"application/xml", "<a><b>1</b><mark>2</mark></a>", `"mark"`, `<mark>`},
		{"application/xml", "<a><b>1</b><b><mark>2</mark></b></a>", `"mark"`, `<mark>`},
		{"multipart/form-data; boundary=b", strings.ReplaceAll(boundaryForm, "meta", "mark"), `"mark"`, `{"a":1}`},
		{"text/html", "<p>é</p><script>x = {\"a\":0,\"mark\":1}</script>", `"mark"`, `"mark"`},
		{"text/html", "<p>é</p><b data-x='{\"mark\":1}'>", `"mark"`, `<b data-x`},
	} {
		parts, err := Parts(nil, c.media, []byte(c.body))
		if err != nil || len(parts) != 1 {
			t.Fatalf("%s: %v", c.media, err)
		}
		at := strings.Index(string(parts[0].Text), c.mark)
		if got := parts[0].Origin(at); got != strings.Index(c.body, c.origin) {
			t.Errorf("%s: the mark stands at byte %d, want %d", c.media, got, strings.Index(c.body, c.origin))
		}
	}
}

func TestBodiesThatCannotBeReadApart(t *testing.T) {
	for _, c := range []struct{ media, body, want string }{
		{"multipart/form-data", "x", "names no boundary"},
		{"multipart/form-data; boundary=b", "--b\r\nContent-Disposition: form-data; name=a\r\n\r\nhalf", "breaks off"},
		{"application/xml", "<a><b></a>", "closes nothing"},
		{"application/xml", "<a><b>", "ends inside <b>"},
		{"application/xml", "plain", "has no element"},
		{"application/xml", `<!DOCTYPE a [<!ENTITY x "yy">]><a>&x;</a>`, "is not XML"},
		{"application/xml", strings.Repeat("<a>", maxNesting+1), "more elements or levels"},
	} {
		if _, err := Parts(nil, c.media, []byte(c.body)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s %.40s: %v, want %q", c.media, c.body, err, c.want)
		}
	}
}

func TestDeclaredCharsets(t *testing.T) {
	for _, c := range []struct{ media, body, want string }{
		{"application/xml", "<?xml version='1.0' encoding='ISO-8859-1'?><a>\xe9</a>", "é"},
		{"text/html", "<meta charset=windows-1252><p>\x80", "€"},
		{"application/json", `{"a":"<meta charset=windows-1252>\u00e9"}`, `\u00e9`},
	} {
		if got, err := Text([]byte(c.body), c.media); err != nil || !strings.Contains(string(got), c.want) {
			t.Errorf("%s: %q, %v", c.media, got, err)
		}
	}
}

func TestAScriptCostsNoMoreThanItsLength(t *testing.T) {
	// each bracket begins something that is JSON up to the very end
	hostile := "<script>" + strings.Repeat(`x={"a":`, 30_000) + "</script>"
	if parts, _ := Parts(nil, "text/html", []byte(hostile)); len(parts) != 0 {
		t.Errorf("%d parts in what is not JSON", len(parts))
	}
}

// FuzzParts reads any body as any notation: what comes out is JSON wherever the
// notation was not JSON itself, and has its origin inside the body.
func FuzzParts(f *testing.F) {
	media := []string{"application/x-ndjson", "text/event-stream", "application/x-www-form-urlencoded",
		"multipart/form-data; boundary=b", "application/xml", "text/html", "application/stream+json", "text/csv",
		"text/tab-separated-values", "application/cbor", "application/msgpack"}
	for i, seed := range []string{"{\"a\":1}\n[2]", "data: {}\n\n", "a=1&b=%zz", boundaryForm, "<a b='1'>x<c/></a>",
		`<script>a={"b":[1]}</script><i x='{"y":1}'>`, `{"a":1}[2]`, "a;b\n1;\"2\n3\"", "a\tb\n1\t2",
		"\xbf\x61a\x9f\x01\xff\x42\x00\xff\xf9\x3c\x00\xff", "\x83\xa1a\x01\xc0\xd6\xff\x00\x00\x00\x00"} {
		f.Add(uint8(i), []byte(seed))
	}
	f.Fuzz(func(t *testing.T, which uint8, body []byte) {
		kind := int(which) % len(media)
		parts, err := Parts(nil, media[kind], body)
		if err != nil {
			return
		}
		for _, p := range parts {
			// lines and values that follow each other are kept as they are, damaged binary up to the damage
			strict := kind != 0 && kind != 6 && kind < 9 && !(kind == 5 && p.anchors[0].runs)
			if strict && !json.Valid([]byte(strings.ToValidUTF8(string(p.Text), "?"))) {
				t.Fatalf("%s: %q is not JSON", media[kind], p.Text)
			}
			for i := range p.Text {
				if o := p.Origin(i); o < 0 || o > len(body) {
					t.Fatalf("byte %d of %q stands at %d of %d", i, p.Text, o, len(body))
				}
			}
		}
	})
}
