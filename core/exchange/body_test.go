package exchange

import (
	"bytes"
	"compress/flate"
	"compress/zlib"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// coded writes text through a coder.
func coded(t testing.TB, text string, coder func(io.Writer) io.WriteCloser) []byte {
	t.Helper()
	var b bytes.Buffer
	w := coder(&b)
	if _, err := io.WriteString(w, text); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

var coders = map[string]func(io.Writer) io.WriteCloser{
	"gzip":    func(w io.Writer) io.WriteCloser { return gzip.NewWriter(w) },
	"deflate": func(w io.Writer) io.WriteCloser { return zlib.NewWriter(w) },
	"br":      func(w io.Writer) io.WriteCloser { return brotli.NewWriter(w) },
	"zstd": func(w io.Writer) io.WriteCloser {
		e, err := zstd.NewWriter(w)
		if err != nil {
			panic(err)
		}
		return e
	},
}

func TestContentCodingsAreUndone(t *testing.T) {
	const text = `{"a":"bcd"}`
	for name, coder := range coders {
		body := coded(t, text, coder)
		got, err := Decode(body, name, 1000)
		if err != nil || string(got) != text {
			t.Errorf("%s: %q, %v", name, got, err)
		}
		if !StillCoded(body, name) && name != "br" && name != "deflate" {
			t.Errorf("%s is not told as still coded", name)
		}
		if StillCoded([]byte(text), name) {
			t.Errorf("text is told as still coded with %s", name)
		}
	}
	raw := coded(t, text, func(w io.Writer) io.WriteCloser { f, _ := flate.NewWriter(w, 5); return f })
	if got, err := Decode(raw, "deflate", 1000); err != nil || string(got) != text {
		t.Errorf("deflate without its zlib frame: %q, %v", got, err)
	}
	stacked := coded(t, string(coded(t, text, coders["gzip"])), coders["br"])
	if got, err := Decode(stacked, "gzip, br", 1000); err != nil || string(got) != text {
		t.Errorf("stacked: %q, %v", got, err)
	}
	if got, err := Decode([]byte(text), "identity", 1000); err != nil || string(got) != text {
		t.Errorf("identity: %q, %v", got, err)
	}
}

func TestBombsEnd(t *testing.T) {
	bomb := strings.Repeat("0", 10<<20)
	for name, coder := range coders {
		if _, err := Decode(coded(t, bomb, coder), name, 1<<20); !errors.Is(err, ErrTooLarge) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Decode([]byte("x"), "gzip,gzip,gzip,gzip,gzip", 10); err == nil ||
		!strings.Contains(err.Error(), "5 content codings are stacked") {
		t.Errorf("five stacked codings: %v", err)
	}
}

func TestWhatIsNotCodedSo(t *testing.T) {
	for _, name := range []string{"gzip", "deflate", "br", "zstd", "rot13"} {
		if _, err := Decode([]byte("plain text, coded by nobody"), name, 1000); err == nil {
			t.Errorf("plain text decodes as %s", name)
		}
	}
	half := coded(t, strings.Repeat("abc", 1000), coders["gzip"])
	if _, err := Decode(half[:len(half)/2], "gzip", 1<<20); err == nil {
		t.Error("half of a gzip body decodes")
	}
}

func TestCharsets(t *testing.T) {
	for _, c := range []struct{ name, contentType, body, want string }{
		{"UTF-8", "application/json", `"é"`, `"é"`},
		{"a byte order mark", "application/json", "\xEF\xBB\xBF{}", "{}"},
		{"Latin-1, said", "application/json; charset=ISO-8859-1", "\"\xe9\"", `"é"`},
		{"UTF-16 by its mark, little endian", "application/json", "\xff\xfe{\x00}\x00", "{}"},
		{"UTF-16 by its mark, big endian", "application/json", "\xfe\xff\x00{\x00}", "{}"},
		{"UTF-8, said", "application/json; charset=UTF-8", `"é"`, `"é"`},
	} {
		if got, err := Text([]byte(c.body), c.contentType); err != nil || string(got) != c.want {
			t.Errorf("%s: %q, %v; want %q", c.name, got, err, c.want)
		}
	}
	if _, err := Text([]byte("x"), "text/plain; charset=klingon"); err == nil {
		t.Error("an unknown charset is read")
	}
}

func TestWhichBodiesAreRead(t *testing.T) {
	for media, want := range map[string]bool{
		"application/json": true, "Application/JSON; charset=utf-8": true, "application/problem+json": true,
		"text/json": true,
		"text/html": true, "application/x-ndjson": true, "multipart/mixed; boundary=x": true, "image/svg+xml": false,
		"text/plain": true, "application/atom+xml": true, "image/png": false, "application/jsonp": false, "": true,
		"x-unknown": true,
	} {
		if got := Readable(media, []byte(` {"a":1}`)) == nil; got != want {
			t.Errorf("%q is read: %v, want %v", media, got, want)
		}
	}
	if Readable("", []byte("GIF89a")) == nil {
		t.Error("a picture without a media type is read")
	}
}

func TestHeaders(t *testing.T) {
	h := Header{{"Cookie", "a=1; b=2"}, {"x-desk", "7"}, {"Cookie", "c=3"}}
	if h.Get("X-Desk") != "7" || h.Get("none") != "" {
		t.Errorf("X-Desk is %q", h.Get("X-Desk"))
	}
	for name, want := range map[string]string{"a": "1", "b": "2", "c": "3"} {
		if v, ok := h.Cookie(name); !ok || v != want {
			t.Errorf("cookie %s is %q, %v", name, v, ok)
		}
	}
	if _, ok := h.Cookie("x-desk"); ok {
		t.Error("a header field is taken for a cookie")
	}
}

func FuzzDecode(f *testing.F) {
	for name, coder := range coders {
		f.Add(coded(f, `{"a":1}`, coder), name)
	}
	f.Fuzz(func(t *testing.T, body []byte, codings string) {
		const limit = 1 << 16
		if out, err := Decode(body, codings, limit); err == nil && len(out) > max(limit, len(body)) {
			t.Errorf("%d bytes decode to %d, over the limit", len(body), len(out))
		}
	})
}
