package intake

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"inkret/core/exchange"
)

// corpus is the same twenty captures in each format, unpacked.
func corpus() map[string][]byte {
	var lines, messages, warc bytes.Buffer
	var entries []string
	for i := range 20 {
		body := fmt.Sprintf(`{"number":%d,"text":"%s"}`, i, strings.Repeat("berth ", 40))
		fmt.Fprintf(&lines, `{"request":{"url":"https://q.example/berths/%d"},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/json"}],"body":%s}}`+"\n", i, body)
		fmt.Fprintf(&messages, "GET /berths/%d HTTP/1.1\r\nHost: q.example\r\n\r\nHTTP/1.1 200 OK\r\nContent-Type: "+
			"application/json\r\nContent-Length: %d\r\n\r\n%s\r\n", i, len(body), body)
		block := fmt.Sprintf("HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n\r\n%s", body)
		fmt.Fprintf(&warc, "WARC/1.1\r\nWARC-Type: response\r\nWARC-Target-URI: "+
			"https://q.example/berths/%d\r\nContent-Type: application/http;msgtype=response\r\nContent-Length: "+
			"%d\r\n\r\n%s\r\n\r\n", i, len(block), block)
		entries = append(entries,
			fmt.Sprintf(`{"request":{"method":"GET","url":"https://q.example/berths/%d","headers":[]},"response":{"status":200,"headers":[],"content":{"mimeType":"application/json","text":%q}}}`, i, body))
	}
	return map[string][]byte{"lines": lines.Bytes(), "http": messages.Bytes(), "warc": warc.Bytes(),
		"har": []byte(`{"log":{"version":"1.2","entries":[` + strings.Join(entries, ",") + `]}}`)}
}

func packings(t *testing.T, name string, data []byte) map[string][]byte {
	t.Helper()
	var g, z, s, members bytes.Buffer
	gw := gzip.NewWriter(&g)
	gw.Write(data)
	gw.Close()
	zw := zip.NewWriter(&z)
	f, err := zw.Create("recorded." + name)
	if err != nil {
		t.Fatal(err)
	}
	f.Write(data)
	zw.Close()
	sw, err := zstd.NewWriter(&s)
	if err != nil {
		t.Fatal(err)
	}
	sw.Write(data)
	sw.Close()
	for _, part := range bytes.SplitAfter(data, []byte("\n")) { // one stream behind the other, as crawlers write it
		mw := gzip.NewWriter(&members)
		mw.Write(part)
		mw.Close()
	}
	return map[string][]byte{"gz": g.Bytes(), "zip": z.Bytes(), "zst": s.Bytes(), "many gz": members.Bytes()}
}

// TestWhatIsCutOrDamagedSaysSo cuts and damages each packed recording at many places: whatever is lost is reported.
func TestWhatIsCutOrDamagedSaysSo(t *testing.T) {
	read := func(data []byte) (n int, err error) {
		err = Read("it", bytes.NewReader(data), Options{}, func(c *exchange.Capture) error {
			if c.Response.Missing == "" && c.Response.Body != nil {
				n++
			}
			return nil
		})
		return n, err
	}
	for format, data := range corpus() {
		if n, err := read(data); n != 20 || err != nil {
			t.Fatalf("%s: %d captures, %v", format, n, err)
		}
		for packing, packed := range packings(t, format, data) {
			if n, err := read(packed); n != 20 || err != nil {
				t.Fatalf("%s in %s: %d captures, %v", format, packing, n, err)
			}
			for part := 1; part < 40; part++ {
				at := len(packed) * part / 40
				n, err := read(packed[:at])
				var said *Error
				if n < 20 && (err == nil || !errors.As(err, &said)) {
					t.Errorf("%s in %s, cut at %d of %d: %d captures, and %v", format, packing, at, len(packed), n, err)
				}
				damaged := bytes.Clone(packed)
				damaged[at] ^= 0x55
				if n, err := read(damaged); n < 20 && err == nil {
					t.Errorf("%s in %s, damaged at %d of %d: %d captures, and no word", format, packing, at,
						len(packed), n)
				}
			}
			if n, err := read(packed[:len(packed)-3]); err == nil || n > 20 {
				t.Errorf("%s in %s without its last bytes: %d captures, and no word", format, packing, n)
			}
		}
	}
}

// TestEveryTenth cuts every recording, plain and packed, at every tenth of its length: what is read as whole was
// there, and what is missing is reported.
func TestEveryTenth(t *testing.T) {
	whole := map[string]map[string]string{} // by format: bodies by address
	read := func(data []byte) (fine map[string]string, lost int, err error) {
		fine = map[string]string{}
		err = Read("it", bytes.NewReader(data), Options{}, func(c *exchange.Capture) error {
			if c.Response.Missing != "" || c.Incomplete != "" {
				lost++
			} else {
				fine[c.Request.URL.Path] = string(c.Response.Body)
			}
			return nil
		})
		return fine, lost, err
	}
	for format, data := range corpus() {
		var err error
		if whole[format], _, err = read(data); err != nil || len(whole[format]) != 20 {
			t.Fatalf("%s: %d, %v", format, len(whole[format]), err)
		}
		all := packings(t, format, data)
		all["nothing"], all["UTF-16"] = data, asUTF16(data)
		for packing, packed := range all {
			for tenth := 0; tenth <= 10; tenth++ {
				at := len(packed) * tenth / 10
				fine, lost, err := read(packed[:at])
				for path, body := range fine {
					if whole[format][path] != body {
						t.Errorf("%s in %s, cut at %d: %s passes for whole with %q", format, packing, at, path,
							body[max(0, len(body)-20):])
					}
				}
				// The file before the cut may be read in full: at most one exchange is cut in two, and the message
				// at the end stands for everything after it.
				if missing := 20 - len(fine); (missing > 0) != (err != nil || lost > 0) &&
					!between(format, packing, data, at) {
					t.Errorf("%s in %s, cut at %d of %d: %d are missing, %d lost, and %v", format, packing, at,
						len(packed), missing, lost, err)
				}
				if lost > 1 || len(fine) > 0 && tenth == 0 {
					t.Errorf("%s in %s, cut at %d of %d: %d are lost", format, packing, at, len(packed), lost)
				}
				if least := bytes.Count(data[:min(at, len(data))],
					[]byte("berth berth \"}")) - 1; packing == "nothing" && len(fine) < least {
					t.Errorf("%s, cut at %d: %d are read, %d stand before the cut", format, at, len(fine), least)
				}
			}
		}
	}
}

// between reports whether a recording whose format has no end mark is cut between two exchanges, which nobody can
// detect.
func between(format, packing string, data []byte, at int) bool {
	if packing == "UTF-16" {
		at = (at - 2) / 2
	}
	if format == "har" || packing != "nothing" && packing != "UTF-16" || at < 0 {
		return false
	}
	for _, start := range []string{`{"request"`, "GET /berths", "WARC/1.1"} {
		if rest := bytes.TrimLeft(data[at:], "\r\n"); bytes.HasPrefix(rest, []byte(start)) {
			return true
		}
	}
	return false
}

// utf16 writes ASCII as UTF-16 with a byte order mark.
func asUTF16(data []byte) []byte {
	out := []byte{0xFF, 0xFE}
	for _, b := range data {
		out = append(out, b, 0)
	}
	return out
}
