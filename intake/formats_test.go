package intake

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"inkret/core/exchange"
)

// drawn reads a recording and writes its captures one a line.
func drawn(t *testing.T, r io.Reader, o Options) (string, error) {
	t.Helper()
	var lines []string
	err := Read("r", r, o, func(c *exchange.Capture) error {
		address := "?"
		if c.Request.URL != nil {
			address = c.Request.URL.String()
		}
		line := fmt.Sprintf("%s#%d %s %s", c.File, c.Entry, c.Request.Method, address)
		if len(c.Request.Body) > 0 {
			line += " <" + string(c.Request.Body) + ">"
		}
		if c.Audience != "" {
			line += " as " + c.Audience
		}
		lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s %d %s %s", line, c.Response.Status, c.Response.Body,
			c.Response.Missing)))
		return nil
	})
	return strings.Join(lines, "\n"), err
}

const warcHead = "WARC/1.1\r\nWARC-Type: %[1]s\r\nWARC-Record-ID: <%[2]s>\r\nWARC-Concurrent-To: " +
	"<%[3]s>\r\nWARC-Target-URI: https://api.example/a\r\nWARC-Date: 2026-05-01T10:00:00Z\r\nContent-Type: " +
	"application/http;msgtype=%[1]s\r\nContent-Length: %[4]d\r\n\r\n%[5]s\r\n\r\n"

// record writes a WARC record; off is how wrong its length is.
func record(kind, id, other, block string, off int) string {
	return fmt.Sprintf(warcHead, kind, id, other, len(block)+off, block)
}

const (
	sent     = "POST /a HTTP/1.1\r\nHost: api.example\r\nContent-Length: 3\r\n\r\na=1"
	answered = "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n\r\n{\"a\":1}"
)

func TestFormats(t *testing.T) {
	alone := Options{Request: &exchange.Request{Method: "GET", URL: &url.URL{Scheme: "https", Host: "api.example",
		Path: "/b"}}}
	for _, c := range []struct {
		name, text string
		o          Options
		want       string
	}{
		{"a request and its response", sent + answered, Options{}, `r#0 POST //api.example/a <a=1> 200 {"a":1}`},
		{"two, with empty lines and bare line feeds", strings.ReplaceAll(sent, "\r", "") + "\n\n" + answered +
			"\n\nGET https://x.example/c HTTP/2\n\nHTTP/2 404\nContent-Length: 2\n\n{}\n", Options{},
			"r#0 POST //api.example/a <a=1> 200 {\"a\":1}\nr#1 GET https://x.example/c 404 {}"},
		{"a response alone", answered, alone, `r#0 GET https://api.example/b 200 {"a":1}`},
		{"a body alone", ` {"a":1}`, alone, `r#0 GET https://api.example/b 200  {"a":1}`},
		{"a list alone, with a byte order mark", "\ufeff[1]", alone, `r#0 GET https://api.example/b 200 [1]`},
		{"a body that looks like a HAR in parts", `{"data":{"log":{"entries":[]}}}`, alone,
			`r#0 GET https://api.example/b 200 {"data":{"log":{"entries":[]}}}`},
		{"a HAR says itself what was asked", `{ "log": {"entries":[]}}`, alone, ``},
		{"and nobody knows of what", answered, Options{}, `r#0  ? 200  ` + noRequest},
		{"as printed after a redirect", "HTTP/1.1 301 Moved\r\nLocation: /b\r\nContent-Length: 0\r\n\r\n" + answered,
			alone, "r#0 GET https://api.example/b 301\nr#1 GET https://api.example/b 200 {\"a\":1}"},
		{"a redirect whose body was not printed",
			"HTTP/1.1 302 Found\r\nContent-Type: text/html\r\nContent-Length: 540\r\n\r\n" + answered, alone,
			"r#0 GET https://api.example/b 302\nr#1 GET https://api.example/b 200 {\"a\":1}"},
		{"one that was asked in vain first",
			"HTTP/2 401\r\ncontent-type: application/json\r\ncontent-length: 78\r\n\r\n" + answered + "\n", alone,
			"r#0 GET https://api.example/b 401\nr#1 GET https://api.example/b 200 {\"a\":1}"},
		{"heads alone", strings.Repeat("HTTP/1.1 200 OK\r\nContent-Length: 29\r\n\r\n", 2), alone,
			"r#0 GET https://api.example/b 200\nr#1 GET https://api.example/b 200"},
		{"bodies without an end of their line", answered + answered + "HTTP/2 204\r\n\r\n" + answered, alone,
			strings.Join([]string{`r#0 GET https://api.example/b 200 {"a":1}`,
				`r#1 GET https://api.example/b 200 {"a":1}`, `r#2 GET https://api.example/b 204`,
				`r#3 GET https://api.example/b 200 {"a":1}`}, "\n")},
		{"a body that is shorter than announced, and what follows", strings.Replace(answered, "\r\n\r\n",
			"\r\nContent-Length: 900\r\n\r\n", 1) + "\r\n" + answered, alone,
			"r#0 GET https://api.example/b 200 {\"a\":1}\nr#1 GET https://api.example/b 200 {\"a\":1}"},
		{"without a line feed", strings.Replace(answered, "\r\n\r\n", "\r\nContent-Length: 900\r\n\r\n", 1) + answered,
			alone, "r#0 GET https://api.example/b 200 {\"a\":1}\nr#1 GET https://api.example/b 200 {\"a\":1}"},
		{"a request whose body was not written down", strings.TrimSuffix(sent, "a=1") + answered, Options{},
			`r#0 POST //api.example/a 200 {"a":1}`},
		{"a request whose chunks were undone", strings.Replace(sent, "Content-Length: 3", "Transfer-Encoding: chunked",
			1) + "\n" + answered, Options{}, "r#0 POST //api.example/a <a=1\n> 200 {\"a\":1}"},
		{"somebody's words in a page",
			"HTTP/1.1 200 OK\r\nContent-Type: application/xml\r\nContent-Length: 45\r\n\r\n<a>\nHTTP/1.1 200 OK\nX: " +
				"y\n\n<b>low tide</b></a>" + answered, alone,
			"r#0 GET https://api.example/b 200 <a>\nHTTP/1.1 200 OK\nX: y\n\n<b>low tide</b></a>\nr#1 GET " +
				"https://api.example/b 200 {\"a\":1}"},
		{"somebody's words in a stream",
			"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\ndata: words}HTTP/1.1 200 OK\ndata: {\"a\":1}\n",
			alone, "r#0 GET https://api.example/b 200 data: words}HTTP/1.1 200 OK\ndata: {\"a\":1}"},
		{"somebody's words in JSON",
			"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n\r\n{\"a\":\"}HTTP/1.1 200 OK\\n\",\n\"b\":1}\n" +
				answered, alone, "r#0 GET https://api.example/b 200 {\"a\":\"}HTTP/1.1 200 OK\\n\",\n\"b\":1}\nr#1 " +
				"GET https://api.example/b 200 {\"a\":1}"},
		{"messages within a message",
			"HTTP/1.1 200 OK\r\nContent-Type: multipart/mixed; boundary=x\r\nContent-Length: " +
				"57\r\n\r\n--x\r\n\r\nHTTP/1.1 200 OK\r\nContent-Type: text/plain\r\n\r\n--x--" + answered, alone,
			"r#0 GET https://api.example/b 200 --x\r\n\r\nHTTP/1.1 200 OK\r\nContent-Type: " +
				"text/plain\r\n\r\n--x--\nr#1 GET https://api.example/b 200 {\"a\":1}"},
		{"chunks that were undone", strings.Replace(answered, "\r\n\r\n", "\r\nTransfer-Encoding: chunked\r\n\r\n", 1),
			alone, `r#0 GET https://api.example/b 200 {"a":1}`},
		{"chunks that were not",
			"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n4\r\n{\"a\"\r\n3;x=y\r\n:1}\r\n0\r\nTrailer: " +
				"z\r\n\r\n" + answered, alone,
			"r#0 GET https://api.example/b 200 {\"a\":1}\nr#1 GET https://api.example/b 200 {\"a\":1}"},
		{"a length that was of the compressed body", strings.Replace(answered, "\r\n\r\n",
			"\r\nContent-Length: 2\r\nContent-Encoding: gzip\r\n\r\n", 1), alone,
			`r#0 GET https://api.example/b 200 {"a":1}`},
		{"a body that is still compressed", "HTTP/1.1 200 OK\r\nContent-Encoding: gzip\r\n\r\n" +
			string(zipped(`{"a":1}`)), alone, `r#0 GET https://api.example/b 200 {"a":1}`},
		{"a length beyond the end", strings.Replace(answered, "\r\n\r\n", "\r\nContent-Length: 900\r\n\r\n", 1), alone,
			`r#0 GET https://api.example/b 200 {"a":1}`},
		{"interim responses, and HEAD",
			"HEAD /a HTTP/1.1\r\nHost: api.example\r\n\r\nHTTP/1.1 103 Early\r\n\r\nHTTP/1.1 200 " +
				"OK\r\nContent-Length: 70\r\n\r\n" + sent, Options{},
			"r#0 HEAD //api.example/a 200\nr#1 POST //api.example/a <a=1> 0  no response is recorded with this " +
				"request"},
		{"WARC, the request first", record("request", "q", "", sent, 0) + record("response", "r", "q", answered, 0),
			Options{}, `r#0 POST https://api.example/a <a=1> 200 {"a":1}`},
		{"WARC, the request last, others between",
			"WARC/1.1\r\nWARC-Type: warcinfo\r\nContent-Length: 2\r\n\r\nhi\r\n\r\n" + record("response", "r", "q",
				answered, 0) + record("request", "q", "r", sent, 0), Options{},
			`r#0 POST https://api.example/a <a=1> 200 {"a":1}`},
		{"WARC, a response alone", record("response", "r", "", answered, 0), Options{},
			`r#0 GET https://api.example/a 200 {"a":1}`},
		{"WARC with a length too short", record("response", "r", "", answered, -3) + record("response", "s", "",
			answered, 0), Options{},
			"r#0  https://api.example/a 0  the Content-Length of the record at byte 0 is wrong: no record ends " +
				"there\nr#1 GET https://api.example/a 200 {\"a\":1}"},
		{"and too long", record("response", "r", "", answered, 9) + record("response", "s", "", answered, 0) +
			record("response", "t", "", answered, 0), Options{},
			"r#0  https://api.example/a 0  the Content-Length of the record at byte 0 is wrong: no record ends " +
				"there\nr#1 GET https://api.example/a 200 {\"a\":1}\nr#2 GET https://api.example/a 200 {\"a\":1}"},
		{"and longer than all that follows", record("response", "r", "", answered, 0) + record("response", "s", "",
			answered, 90_000) + record("response", "t", "", answered, 0) + record("response", "u", "", answered, 0),
			Options{},
			"r#0  https://api.example/a 0  the Content-Length of the record at byte 282 is wrong: no record ends " +
				"there\nr#1 GET https://api.example/a 200 {\"a\":1}\nr#2 GET https://api.example/a 200 " +
				"{\"a\":1}\nr#3 GET https://api.example/a 200 {\"a\":1}"},
		{"WARC, one that names several records", strings.Replace(record("request", "q", "", sent, 0), "WARC-Type",
			"WARC-Concurrent-To: x\r\nWARC-Concurrent-To: r\r\nWARC-Type", 1) +
			strings.Replace(record("response", "r", "", answered, 0), "WARC-Type",
				"WARC-Concurrent-To: z\r\nWARC-Concurrent-To: q\r\nWARC-Type", 1), Options{},
			`r#0 POST https://api.example/a <a=1> 200 {"a":1}`},
		{"WARC, only the request names the other, and comes first", record("request", "q", "r", sent, 0) +
			record("response", "r", "", answered, 0), Options{}, `r#0 POST https://api.example/a <a=1> 200 {"a":1}`},
		{"WARC, only the response names the other, and comes first", record("response", "r", "q", answered, 0) +
			record("request", "q", "", sent, 0), Options{}, `r#0 POST https://api.example/a <a=1> 200 {"a":1}`},
		{"WARC, a request alone", record("request", "q", "", sent, 0), Options{},
			"r#0 POST https://api.example/a <a=1> 0  no response is recorded with this request"},
		{"WARC, a repeat", record("revisit", "r", "", "HTTP/1.1 200 OK\r\n\r\n", 0), Options{},
			"r#0 GET https://api.example/a 200  the recording holds a repeat of an earlier body here, not the body"},
		{"capture lines", `{"request":{"url":"https://api.example/a","body":{"q":1}},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":{"a":1}},"audience":"skipper"}
{"request":{"method":"put","url":"https://api.example/b"},"response":{"status":201,"body":"{}"}}

{"request":{"url":"/a"}}
{"request":{"url":"https://api.example/c"},"response":{"status":200,"body_base64":"e30="}}
{"request":{"url":"https://api.example/d"},"response":{"status":"200"}}
{"request":{"url":"https://api.example/e"},"response":{"status":200,"missing":"too large"}}`, Options{},
			"r#0 GET https://api.example/a <{\"q\":1}> as skipper 200 {\"a\":1}\nr#1 PUT https://api.example/b 201 " +
				"{}\nr#2  ? 0  the line is no capture: its request.url is no address\n" +
				"r#3 GET https://api.example/c 200 {}\nr#4  ? 0  the line is no capture: /response/status has the " +
				"wrong type\nr#5 GET https://api.example/e 200  too large"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := drawn(t, strings.NewReader(c.text), c.o)
			if err != nil || got != c.want {
				t.Errorf("read:\n%s\nwant:\n%s\n%v", got, c.want, err)
			}
		})
	}
}

func TestRecordingsThatBreakOff(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"nothing", " \n", "the file is empty"},
		{"no recording", "hello", "no recording that is read here"},
		{"a WARC cut in a record", record("response", "r", "", answered, 0)[:270], "ends in the middle of a record"},
		{"a WARC without lengths", "WARC/1.1\r\nWARC-Type: response\r\n\r\n", "says no Content-Length"},
		{"a WARC with something else", record("response", "r", "", answered, 0) + "\r\nhello",
			"the Content-Length of the record at byte 0 is wrong"},
		{"a WARC with a longer record than is read, that swallows others",
			strings.Replace(record("response", "r", "", answered, 0), "\r\nContent-Length: ",
				"\r\nContent-Length: 9999999", 1) + record("response", "s", "", answered, 0) + record("response", "t",
				"", answered, 0), "2 records that stand within it are not read"},
		{"a WARC cut in a body, of which something stands", record("response", "r", "", answered, 0)[:275],
			"200 {\"a\""},
		{"the last line cut", `{"request":{"url":"https://api.example/a"},"response":{"status":200}}` + "\n" +
			`{"request":{"ur`, "the last line is not a whole capture line"},
		{"a zip cut", string(packed(t, map[string]string{"a.har": har()}))[:60], "the zip file cannot be read"},
		{"a gzip that is none", "\x1f\x8bhello", "it is not gzip"},
		{"a gzip cut", string(zipped(har(entry(`{}`)))[:40]), "ends in the middle"},
		{"packed over and over", string(again(zipped, har(), maxPacking+1)), "packed more than"},
	} {
		got, err := drawn(t, strings.NewReader(c.text), Options{})
		if told := got + fmt.Sprint(err); !strings.Contains(told, c.want) {
			t.Errorf("%s: %s, want %q", c.name, told, c.want)
		}
	}
}

func again(f func(string) []byte, text string, times int) []byte {
	data := []byte(text)
	for range times {
		data = f(string(data))
	}
	return data
}

// packed makes a zip file.
func packed(t testing.TB, files map[string]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range []string{"../../out.har", "a.har", "b/c.warc", "b/note.txt", ".hidden", "broken.har"} {
		text, ok := files[name]
		if !ok {
			continue
		}
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, text)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func zstandard(text string) []byte {
	e, err := zstd.NewWriter(nil)
	if err != nil {
		panic(err)
	}
	return e.EncodeAll([]byte(text), nil)
}

func TestPackedRecordings(t *testing.T) {
	one := har(entry(`{"text":"{}"}`))
	want := "r#0 GET https://api.example/a 200 {}"
	for name, data := range map[string][]byte{"gzip": zipped(one), "zstd": zstandard(one),
		"both": zipped(string(zstandard(one))),
		"members, as WARC has them": append(zipped(record("response", "r", "", answered, 0)),
			zipped(record("response", "s", "", answered, 0))...)} {
		got, err := drawn(t, bytes.NewReader(data), Options{})
		if w := want; strings.HasPrefix(name, "members") {
			w = "r#0 GET https://api.example/a 200 {\"a\":1}\nr#1 GET https://api.example/a 200 {\"a\":1}"
			if got != w || err != nil {
				t.Errorf("%s: %s, %v", name, got, err)
			}
		} else if got != w || err != nil {
			t.Errorf("%s: %s, %v", name, got, err)
		}
	}
	z := packed(t, map[string]string{"../../out.har": one, "a.har": one, "b/c.warc": record("response", "r", "",
		answered, 0), "b/note.txt": "hello", ".hidden": one})
	want = `r/out.har#0  ? 0  its path leads outside of the zip file; it is not read
r/a.har#0 GET https://api.example/a 200 {}
r/b/c.warc#0 GET https://api.example/a 200 {"a":1}
r/b/note.txt#0  ? 0  this is no recording that is read here: HAR 1.2, HTTP messages, WARC and capture lines are, also packed with gzip, zstd or zip`
	file := filepath.Join(t.TempDir(), "all.zip")
	if err := os.WriteFile(file, z, 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for name, r := range map[string]io.Reader{"a file": f, "a stream": io.MultiReader(bytes.NewReader(z)),
		"gzip of zip": bytes.NewReader(zipped(string(z)))} {
		if got, err := drawn(t, r, Options{}); err != nil || got != want {
			t.Errorf("%s: %v, read:\n%s\nwant:\n%s", name, err, got, want)
		}
	}
	got, err := drawn(t, bytes.NewReader(packed(t, map[string]string{"a.har": one, "broken.har": one[:len(one)-4]})),
		Options{})
	if err == nil || !strings.Contains(err.Error(), "r/broken.har") || !strings.HasPrefix(got, "r/a.har#0 GET") {
		t.Errorf("one file of a zip is broken: %v, read:\n%s", err, got)
	}
}

func TestSpooledBytesAreHiddenAndReadAnywhere(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "spool"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	s, err := newScrambled(f)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Repeat("the tide turns at nine. ", 500)
	for i := 0; i < len(text); i += 777 {
		if _, err := io.WriteString(s, text[i:min(i+777, len(text))]); err != nil {
			t.Fatal(err)
		}
	}
	for _, at := range []int{0, 1, 15, 16, 17, 5000, len(text) - 3} {
		p := make([]byte, 40)
		n, _ := s.ReadAt(p, int64(at))
		if want := text[at:min(at+40, len(text))]; string(p[:n]) != want {
			t.Errorf("at %d: %q, want %q", at, p[:n], want)
		}
	}
	if raw, err := os.ReadFile(f.Name()); err != nil || bytes.Contains(raw, []byte("tide")) || len(raw) != len(text) {
		t.Errorf("the file has %d bytes of %d in clear, or others: %v", len(raw), len(text), err)
	}
}

func TestCaptureLinesComeBackAsTheyWere(t *testing.T) {
	c := &exchange.Capture{Audience: "skipper",
		Request: exchange.Request{Method: "POST", URL: &url.URL{Scheme: "https", Host: "api.example", Path: "/a",
			RawQuery: "x=%20"}, Header: exchange.Header{{Name: "X", Value: "ü"}}, Body: []byte("a=1")},
		Response: exchange.Response{Status: 201,
			Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}},
			Body:   []byte("{\"a\":\"\\u003c\"}\n")}}
	for _, readable := range []bool{true, false} {
		line := Append(nil, c, readable)
		if !json.Valid(line) || bytes.Count(line, []byte("\n")) != 1 ||
			bytes.Contains(line, []byte("u003c")) != readable {
			t.Fatalf("a line is %s", line)
		}
		var back *exchange.Capture
		if err := Read("r", bytes.NewReader(line), Options{},
			func(c *exchange.Capture) error { back = c; return nil }); err != nil {
			t.Fatal(err)
		}
		back.File = ""
		if fmt.Sprintf("%+v", *back) != fmt.Sprintf("%+v", *c) {
			t.Errorf("came back as\n%+v, was\n%+v", *back, *c)
		}
	}
	c.Response.Body, c.Response.Header, c.Response.Missing = []byte{0xff, 0xfe}, nil, "no \"reason\" \xff"
	line := Append([]byte("before"), c, true)
	if !bytes.Contains(line, []byte(`"body_base64":"//4="`)) || !bytes.HasPrefix(line, []byte("before{")) ||
		!json.Valid(line[len("before"):]) {
		t.Errorf("bytes that are no text: %s", line)
	}
}

// TestWhatWgetWrites reads the WARC that the real program makes of a small site.
func TestWhatWgetWrites(t *testing.T) {
	wget, err := exec.LookPath("wget")
	if err != nil {
		t.Fatal("wget is missing; make test installs it from Debian's packages")
	}
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/list":
			w.Header().Set("Content-Type", "application/json")
			w.(http.Flusher).Flush() // chunked
			fmt.Fprint(w, `{"items":[1,2]}`)
		case "/packed":
			w.Header().Set("Content-Type", "application/json")
			w.Header().Set("Content-Encoding", "gzip")
			g := gzip.NewWriter(w)
			fmt.Fprint(g, `{"packed":true}`)
			g.Close()
		default:
			http.Error(w, "no such page", http.StatusNotFound)
		}
	}))
	defer site.Close()
	for _, options := range [][]string{{"--no-warc-compression"}, {}} {
		dir := t.TempDir()
		args := append(append([]string{"--warc-file=site", "--header=X-Desk: 2", "--tries=1", "--quiet"}, options...),
			site.URL+"/list", site.URL+"/packed", site.URL+"/none")
		c := exec.Command(wget, args...)
		c.Dir = dir
		c.Run() // it fails for the missing page
		files, _ := filepath.Glob(filepath.Join(dir, "site.warc*"))
		if len(files) != 1 {
			t.Fatalf("wget wrote %v", files)
		}
		f, err := os.Open(files[0])
		if err != nil {
			t.Fatal(err)
		}
		got, err := drawn(t, f, Options{})
		f.Close()
		want := fmt.Sprintf("r#0 GET %[1]s/list 200 {\"items\":[1,2]}\nr#1 GET %[1]s/packed 200 "+
			"{\"packed\":true}\nr#2 GET %[1]s/none 404 no such page", site.URL)
		if err != nil || got != want {
			t.Errorf("%v: %v, read:\n%s\nwant:\n%s", options, err, got, want)
		}
	}
}

// FuzzFormats reads anything as any format: it ends, and hands over captures in order.
func FuzzFormats(f *testing.F) {
	for _, seed := range []string{sent + answered, record("request", "q", "", sent, 0) + record("response", "r", "q",
		answered, 2), `{"request":{"url":"https://a.example/"},"response":{"status":200,"body":{}}}`} {
		f.Add([]byte(seed))
	}
	f.Add(zipped(sent + answered))
	f.Add(packed(f, map[string]string{"a.har": har(entry(`{}`))}))
	f.Fuzz(func(t *testing.T, data []byte) {
		next := map[string]int{}
		err := Read("f", bytes.NewReader(data), Options{}, func(c *exchange.Capture) error {
			if c.Entry < next[c.File] {
				return fmt.Errorf("entry %d of %q comes after %d", c.Entry, c.File, next[c.File]-1)
			}
			next[c.File] = c.Entry
			return nil
		})
		if err != nil && strings.Contains(err.Error(), "comes after") {
			t.Fatal(err)
		}
	})
}

// TestALineThatIsTooLongIsListed reads what stands around it.
func TestALineThatIsTooLongIsListed(t *testing.T) {
	const line = `{"request":{"url":"https://q.example/a"},"response":{"status":200,"body":{"a":1}}}` + "\n"
	for name, long := range map[string]io.Reader{
		"with an end":             io.MultiReader(io.LimitReader(xs{}, MaxLine+5), strings.NewReader("\n"+line)),
		"as long as is read":      io.MultiReader(io.LimitReader(xs{}, MaxLine+1), strings.NewReader("\n"+line)),
		"much longer":             io.MultiReader(io.LimitReader(xs{}, 2*MaxLine), strings.NewReader("\n"+line)),
		"and the end right there": io.MultiReader(io.LimitReader(xs{}, MaxLine), strings.NewReader("\n"+line)),
	} {
		got, err := drawn(t, io.MultiReader(strings.NewReader(line), long), Options{})
		if want := "r#0 GET https://q.example/a 200 {\"a\":1}\nr#1  ? 0  the line is longer than 96 MiB\nr#2 GET " +
			"https://q.example/a 200 {\"a\":1}"; err != nil || got != want && !(name == "and the end right there" &&
			strings.HasSuffix(got, want[strings.LastIndex(want, "r#2"):])) {
			t.Errorf("%s: %v, read:\n%s", name, err, got)
		}
	}
}

type xs struct{}

func (xs) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}

// TestReasonsOfLinesAreShort: what a line says of itself is anybody's text.
func TestReasonsOfLinesAreShort(t *testing.T) {
	for given, want := range map[string]string{
		"the disk was full":       "the disk was full",
		"\x1b[31mred\r\nINJECTED": "[31mred  INJECTED",
		strings.Repeat("ř", 5000): strings.Repeat("ř", 101) + "…",
		" \t ":                    "",
		strings.Repeat("x", 9000): strings.Repeat("x", 201) + "…",
		strings.Repeat("y", 200):  strings.Repeat("y", 200),
	} {
		text, _ := json.Marshal(given)
		for _, line := range []string{`{"note":"` + strings.Repeat("z", 5000) +
			`","incomplete":%s,"request":{"url":"https://q.example/a"},"response":{"status":200,"body":{}}}`,
			`{"incomplete":%s,"request":{"url":"https://q.example/a"},"response":{"status":200,"body":{}}}`,
			`{"request":{"url":"https://q.example/a"},"response":{"status":200,"missing":%s}}`} {
			read, err := all(fmt.Sprintf(line, text))
			if err != nil || len(read) != 1 {
				t.Fatalf("%.50q: %d captures, %v", given, len(read), err)
			}
			if read[0].Incomplete+read[0].Response.Missing != want {
				t.Errorf("of %q is read %q, %v", given, read[0].Incomplete+read[0].Response.Missing, err)
			}
		}
	}
}
