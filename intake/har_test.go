package intake

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"golang.org/x/text/encoding/unicode"

	"inkret/core/exchange"
)

// entry is a HAR entry whose response has this content.
func entry(content string) string {
	return `{"startedDateTime":"2026-05-01T10:00:00.123Z","request":{"method":"get","url":"https://api.example/a","headers":[{"name":"X","value":"y"}]},` +
		`"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"},{"name":"Content-Encoding","value":"gzip"}],"content":` + content + `}}`
}

func har(entries ...string) string {
	return `{"log":{"version":"1.2","creator":{"name":"t","version":"1"},"pages":[{"id":"p"}],"entries":[` +
		strings.Join(entries, ",") + `],"comment":"x"}}`
}

// all reads a recording to its end.
func all(text string) ([]*exchange.Capture, error) {
	var got []*exchange.Capture
	err := Read("r.har", strings.NewReader(text), Options{}, func(c *exchange.Capture) error {
		got = append(got, c)
		return nil
	})
	return got, err
}

func zipped(text string) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Write([]byte(text))
	w.Close()
	return b.Bytes()
}

func TestEntriesBecomeCaptures(t *testing.T) {
	const text = `{"a":1}`
	b64 := base64.StdEncoding.EncodeToString
	bomb := b64(zipped(strings.Repeat(" ", exchange.MaxBody+1)))
	for _, c := range []struct{ name, content, body, missing string }{
		{"text as it is", `{"size":7,"mimeType":"application/json","text":"{\"a\":1}"}`, text, ""},
		{"with a byte order mark", `{"text":"\ufeff{\"a\":1}"}`, text, ""},
		{"base64", `{"text":"` + b64([]byte(text)) + `","encoding":"base64"}`, text, ""},
		{"base64 of what is still compressed", `{"text":"` + b64(zipped(text)) + `","encoding":"base64"}`, text, ""},
		{"no body", `{"size":0}`, "", ""},
		{"a body that the recorder left out", `{"size":9}`, "", "the recording holds no body for this response"},
		{"base64 that is none", `{"text":"%%%","encoding":"base64"}`, "", "content.text is not base64"},
		{"an encoding nobody knows", `{"text":"x","encoding":"rot13"}`, "", `content.encoding "rot13" is not read`},
		{"compressed, and broken", `{"text":"` + b64(zipped(text)[:12]) + `","encoding":"base64"}`, "",
			"content coding gzip"},
		{"a bomb", `{"text":"` + bomb + `","encoding":"base64"}`, "", "larger than is read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := all(har(entry(c.content)))
			if err != nil || len(got) != 1 {
				t.Fatalf("%d captures, %v", len(got), err)
			}
			r := got[0].Response
			if string(r.Body) != c.body || !strings.Contains(r.Missing, c.missing) ||
				(c.missing == "") != (r.Missing == "") {
				t.Errorf("body %.40q, missing %q; want %q, %q", r.Body, r.Missing, c.body, c.missing)
			}
			if got[0].Request.Method != "GET" || got[0].Request.URL.String() != "https://api.example/a" ||
				got[0].Request.Header.Get("x") != "y" || r.Status != 200 || got[0].Started.Nanosecond() != 123e6 {
				t.Errorf("read as %+v", got[0])
			}
		})
	}
}

func TestEntriesThatLackSomething(t *testing.T) {
	for want, e := range map[string]string{
		"the entry has no response":                          `{"request":{"method":"GET","url":"https://a.example/"}}`,
		"the entry has no request":                           `{"response":{"status":200}}`,
		"no response was received (status 0)":                `{"request":{"method":"GET","url":"https://a.example/"},"response":{"status":0}}`,
		"the entry is not as HAR 1.2 has it":                 `[1]`,
		"as HAR 1.2 has it: /request/url has the wrong type": `{"request":{"method":"GET","url":7},"response":{"status":200}}`,
	} {
		got, err := all(har(e, entry(`{"text":"{}"}`)))
		if err != nil || len(got) != 2 {
			t.Fatalf("%s: %d captures, %v", want, len(got), err)
		}
		if !strings.Contains(got[0].Response.Missing, want) {
			t.Errorf("missing because %q, want %q", got[0].Response.Missing, want)
		}
		if got[1].Entry != 1 || got[1].Response.Missing != "" {
			t.Errorf("the entry after it is read as %+v", got[1])
		}
	}
}

func TestRecordingsThatCannotBeReadToTheirEnd(t *testing.T) {
	whole := har(entry(`{"text":"{}"}`), entry(`{"text":"{}"}`))
	cut := strings.LastIndex(whole, `"status"`)
	for _, c := range []struct {
		name, text, want string
		before           int
	}{
		{"cut off in the middle", whole[:cut], "the file ends in the middle", 1},
		{"cut off between entries", whole[:strings.LastIndex(whole, `,{"started`)], "the file ends in the middle", 1},
		{"cut off before its entries", `{"log":{"version":"1.2"`, "the file ends in the middle", 0},
		{"not JSON", "<html>", "this is no recording that is read here", 0},
		{"not JSON further on", `{"log":{"version":"1.2","entries":[` + entry(`{"text":"{}"}`) + `,}`,
			"this is not JSON", 1},
		{"empty", "", "the file is empty", 0},
		{"white space", " \n", "the file is empty", 0},
		{"no HAR", `{"data":[]}`, `it has no member "log"`, 0},
		{"another version", `{"log":{"version":"2.0","entries":[]}}`, `HAR version "2.0" is not read`, 0},
		{"entries that are no list", `{"log":{"version":"1.2","entries":{}}}`, "log.entries is not a list", 0},
		{"a log that is no object", `{"log":[]}`, "an object was expected", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := all(c.text)
			var e *Error
			if !errors.As(err, &e) || !strings.Contains(err.Error(), c.want) || e.File != "r.har" {
				t.Errorf("error %v, want %q", err, c.want)
			}
			if len(got) != c.before {
				t.Errorf("%d captures came before, want %d", len(got), c.before)
			}
		})
	}
}

func TestAByteOrderMarkBeforeARecording(t *testing.T) {
	if got, err := all("\xEF\xBB\xBF" + har(entry(`{"text":"{}"}`))); err != nil || len(got) != 1 {
		t.Errorf("%d captures, %v", len(got), err)
	}
}

func TestTheTakersErrorEndsTheReading(t *testing.T) {
	stop := errors.New("enough")
	n := 0
	err := Read("r", strings.NewReader(har(entry(`{}`), entry(`{}`), entry(`{}`))), Options{},
		func(*exchange.Capture) error {
			if n++; n == 2 {
				return stop
			}
			return nil
		})
	if err != stop || n != 2 {
		t.Errorf("error %v after %d captures", err, n)
	}
}

// endless is a HAR whose one entry has a body without end.
type endless struct{ begun bool }

func (e *endless) Read(p []byte) (int, error) {
	if !e.begun {
		e.begun = true
		return copy(p, `{"log":{"entries":[{"x":"`), nil
	}
	for i := range p {
		p[i] = 'a'
	}
	return len(p), nil
}

func TestAnEntryWithoutEndIsGivenUp(t *testing.T) {
	err := Read("r", &endless{}, Options{}, func(*exchange.Capture) error { return nil })
	if err == nil || !strings.Contains(err.Error(), "an entry is larger than") {
		t.Errorf("error %v", err)
	}
}

// failing breaks off with an error of the transport.
type failing struct{ r io.Reader }

func (f *failing) Read(p []byte) (int, error) {
	n, err := f.r.Read(p)
	if err == io.EOF {
		err = errors.New("the line is dead")
	}
	return n, err
}

func TestErrorsOfTheReaderAreNamed(t *testing.T) {
	err := Read("r", &failing{strings.NewReader(`{"log":{"entries":[`)}, Options{},
		func(*exchange.Capture) error { return nil })
	if err == nil || !strings.Contains(err.Error(), "the line is dead") {
		t.Errorf("error %v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(har(entry(`{"text":"{}"}`))))
	f.Add([]byte(har(entry(`{"text":"e30=","encoding":"base64"}`), `{}`)))
	f.Fuzz(func(t *testing.T, data []byte) {
		next := 0
		err := Read("f", bytes.NewReader(data), Options{}, func(c *exchange.Capture) error {
			if c.Entry != next {
				return fmt.Errorf("entry %d comes after %d", c.Entry, next-1)
			}
			next++
			return nil
		})
		var e *Error
		if err != nil && !errors.As(err, &e) {
			t.Error(err)
		}
	})
}

// TestFormsOfHAR reads what exporters leave to params, cookies and base64 of other kinds.
func TestFormsOfHAR(t *testing.T) {
	entry := func(request, content string) string {
		return `{"request":{"method":"POST","url":"https://q.example/skippers",` + request +
			`},"response":{"status":200,"headers":[],"content":` + content + `}}`
	}
	const plain = `{"mimeType":"application/json","text":"{\"id\":1}"}`
	form := func(params string) string {
		return entry(`"headers":[],"postData":{"mimeType":"application/x-www-form-urlencoded","params":[`+params+`]}`,
			plain)
	}
	for name, c := range map[string]struct{ entry, request, cookie, response string }{
		"params":                        {form(`{"name":"email","value":"sol@sails.example"},{"name":"a b","value":"1&2"}`), "email=sol%40sails.example&a+b=1%262", "", `{"id":1}`},
		"params that are escaped":       {form(`{"name":"email","value":"sol%40sails.example"},{"name":"n","value":"1"}`), "email=sol%40sails.example&n=1", "", `{"id":1}`},
		"params with a bare percentage": {form(`{"name":"share","value":"50%"}`), "share=50%25", "", `{"id":1}`},
		"params beside a text":          {entry(`"headers":[],"postData":{"mimeType":"application/x-www-form-urlencoded","text":"a=1","params":[{"name":"b","value":"2"}]}`, plain), "a=1", "", `{"id":1}`},
		"params in parts": {entry(`"headers":[],"postData":{"mimeType":"multipart/form-data; boundary=xx","params":[{"name":"crew","value":"Sol"},{"name":"list","value":"{}","fileName":"crew.json","contentType":"application/json"}]}`, plain),
			"--xx\r\nContent-Disposition: form-data; name=crew\r\n\r\nSol\r\n--xx\r\nContent-Disposition: " +
				"form-data; filename=crew.json; name=list\r\nContent-Type: application/json\r\n\r\n{}\r\n--xx--\r\n",
			"", `{"id":1}`},
		"cookies":                     {entry(`"headers":[],"cookies":[{"name":"desk","value":"2"},{"name":"s","value":"x"}]`, plain), "", "desk=2; s=x", `{"id":1}`},
		"cookies beside their header": {entry(`"headers":[{"name":"cookie","value":"desk=1"}],"cookies":[{"name":"desk","value":"2"}]`, plain), "", "desk=1", `{"id":1}`},
		"base64 without padding": {entry(`"headers":[]`,
			`{"mimeType":"application/json","encoding":"base64","text":"eyJhIjoxfQ"}`), "", "", `{"a":1}`},
		"base64 in lines": {entry(`"headers":[]`,
			`{"mimeType":"application/json","encoding":"base64","text":"eyJh\r\nIjoxfQ==\r\n"}`), "", "", `{"a":1}`},
		"base64 of addresses": {entry(`"headers":[]`,
			`{"mimeType":"application/json","encoding":"base64","text":"eyJhIjoi8J-Ygz8_In0"}`), "", "", `{"a":"😃??"}`},
		"decoded, although a coding is named": {`{"request":{"method":"GET","url":"https://q.example/a","headers":[]},"response":{"status":200,"headers":[{"name":"Content-Encoding","value":"br"}],"content":{"mimeType":"application/json","encoding":"base64","text":"eyJhIjoxfQ=="}}}`, "", "", `{"a":1}`},
	} {
		t.Run(name, func(t *testing.T) {
			read, err := all(har(c.entry))
			if err != nil || len(read) != 1 {
				t.Fatalf("%d captures, %v", len(read), err)
			}
			one := read[0]
			if string(one.Request.Body) != c.request || one.Request.Header.Get("Cookie") != c.cookie ||
				string(one.Response.Body) != c.response || one.Response.Missing != "" {
				t.Errorf("read %q, cookie %q, and %q %s", one.Request.Body, one.Request.Header.Get("Cookie"),
					one.Response.Body, one.Response.Missing)
			}
		})
	}

	// Several stand one behind the other; what is no HAR behind one is told.
	one := har(form(`{"name":"a","value":"1"}`))
	read, err := all(one + "\n" + one + one)
	if err != nil || len(read) != 3 || read[2].Entry != 2 {
		t.Errorf("of three: %d, %v", len(read), err)
	}
	for _, behind := range []string{`[1]`, `{"log":`, `oops`, "\x00"} {
		if read, err := all(one + behind); len(read) != 1 || err == nil {
			t.Errorf("behind a HAR %q: %d captures, %v", behind, len(read), err)
		}
	}
}

// TestUTF16 reads each form as an older shell writes it down.
func TestUTF16(t *testing.T) {
	for format, data := range corpus() {
		for _, order := range []unicode.Endianness{unicode.LittleEndian, unicode.BigEndian} {
			text, err := unicode.UTF16(order, unicode.UseBOM).NewEncoder().String(strings.ReplaceAll(string(data),
				"berth", "břeh"))
			if err != nil {
				t.Fatal(err)
			}
			read, err := all(text)
			if format == "warc" { // its lengths are of bytes
				continue
			}
			if err != nil || len(read) != 20 || !strings.Contains(string(read[7].Response.Body), "břeh") {
				t.Errorf("%s: %d captures, %v", format, len(read), err)
			}
		}
	}
}

// TestZipsAsOthersWriteThem reads paths with backslashes, and says what is encrypted.
func TestZipsAsOthersWriteThem(t *testing.T) {
	one := har(`{"request":{"method":"GET","url":"https://q.example/a","headers":[]},"response":{"status":200,"headers":[],"content":{"mimeType":"application/json","text":"{}"}}}`)
	packed := func(name string, flags uint16) string {
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		f, err := w.CreateHeader(&zip.FileHeader{Name: name, Flags: flags})
		if err != nil {
			t.Fatal(err)
		}
		f.Write([]byte(one))
		w.Close()
		return b.String()
	}
	if read, err := all(packed(`days\monday.har`, 0)); err != nil || len(read) != 1 ||
		read[0].File != "r.har/days/monday.har" || read[0].Response.Missing != "" {
		t.Errorf("backslashes: %+v, %v", read, err)
	}
	for _, name := range []string{`..\monday.har`, `C:\monday.har`, `\monday.har`, `a\..\..\monday.har`} {
		if read, err := all(packed(name, 0)); err != nil || len(read) != 1 ||
			!strings.Contains(read[0].Response.Missing, "outside") {
			t.Errorf("%s: %+v, %v", name, read, err)
		}
	}
	if read, err := all(packed("monday.har", 1)); len(read) != 0 || err == nil ||
		!strings.Contains(err.Error(), "is encrypted") {
		t.Errorf("encrypted: %d captures, %v", len(read), err)
	}
}

// TestBodiesInFilesBesideAHAR reads bodies that a HAR names, in a zip file and in a folder, and none that lie
// elsewhere.
func TestBodiesInFilesBesideAHAR(t *testing.T) {
	content := func(file string) string { return `{"mimeType":"application/json","_file":` + strconv.Quote(file) + `}` }
	text := har(entry(content("bodies/1.json")), entry(content("../secret.json")), entry(content("gone.json")),
		entry(content("/etc/hostname")), entry(content(`bodies\2.json`)), entry(content("bodies")))
	dir := t.TempDir()
	inside := filepath.Join(dir, "in")
	files := map[string]string{"in/a.har": text, "in/bodies/1.json": `{"a":1}`, "in/bodies/2.json": `{"b":2}`,
		"secret.json": `{"secret":1}`}
	var z bytes.Buffer
	w := zip.NewWriter(&z)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(files[name]), 0o644); err != nil {
			t.Fatal(err)
		}
		f, err := w.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(f, files[name])
	}
	w.Close()
	root, err := os.OpenRoot(inside)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	want := []string{`200 {"a":1}`, "leads elsewhere", "no such file", "leads elsewhere", `200 {"b":2}`, ""}
	for name, read := range map[string]func() (string, error){
		"folder": func() (string, error) { return drawn(t, strings.NewReader(text), Options{Beside: root.FS()}) },
		"zip":    func() (string, error) { return drawn(t, bytes.NewReader(z.Bytes()), Options{}) },
	} {
		got, err := read()
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		got = strings.ReplaceAll(got, "r/in/a.har#", "r#")
		lines := strings.Split(got, "\n")
		for i, says := range want {
			if i >= len(lines) || !strings.Contains(lines[i], says) || strings.Contains(lines[i], "secret\"") {
				t.Errorf("%s: entry %d should say %q\n%s", name, i, says, got)
			}
		}
		// what no HAR refers to is listed as before
		if name == "zip" && (len(lines) != 7 || !strings.Contains(lines[6], "secret.json")) {
			t.Errorf("%s lists\n%s", name, got)
		}
	}
	if got, _ := drawn(t, strings.NewReader(text), Options{}); !strings.Contains(got, "put both in a zip file") {
		t.Errorf("alone: %s", got)
	}
}

// TestNamesInZipFilesAreWhole reads a recording whose name is long.
func TestNamesInZipFilesAreWhole(t *testing.T) {
	name := "nightly/" + strings.Repeat("harbour-", 30) + "skipper\n\x1b[31m.har"
	var z bytes.Buffer
	w := zip.NewWriter(&z)
	f, err := w.Create(name)
	if err != nil {
		t.Fatal(err)
	}
	io.WriteString(f, har(entry(`{"text":"{}"}`)))
	w.Close()
	got := ""
	if err := Read("r", bytes.NewReader(z.Bytes()), Options{},
		func(c *exchange.Capture) error { got = c.File; return nil }); err != nil {
		t.Fatal(err)
	}
	if want := "r/nightly/" + strings.Repeat("harbour-", 30) + "skipper  [31m.har"; got != want {
		t.Errorf("it is called %q", got)
	}
}
