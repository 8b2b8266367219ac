package intake

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"strings"
	"testing"

	"inkret/core/exchange"
)

// longBody is JSON of a little more than is held.
func longBody() string {
	return `{"items":[` + strings.Repeat(`{"id":7,"label":"A7"},`, longHeld/22+1) + `{}]}`
}

// bodies reads a recording and gives of each capture its body, read where it lies if it
// was not held.
func bodies(t *testing.T, r io.Reader, o Options) (all []string, long int, err error) {
	err = Read("big", r, o, func(c *exchange.Capture) error {
		body := string(c.Response.Body) + c.Response.Missing
		if c.Response.Long != nil {
			long++
			for range 2 { // as often as is wanted
				in, err := c.Response.Long.Open()
				if err != nil {
					t.Fatal(err)
				}
				text, err := io.ReadAll(in)
				if err != nil {
					t.Fatal(err)
				}
				in.Close()
				body = string(text)
			}
		}
		all = append(all, body)
		return nil
	})
	return all, long, err
}

// chunkedText writes text in chunks of n bytes (RFC 9112 section 7.1).
func chunkedText(text string, n int) string {
	var b strings.Builder
	for len(text) > 0 {
		part := text[:min(n, len(text))]
		text = text[len(part):]
		fmt.Fprintf(&b, "%x\r\n%s\r\n", len(part), part)
	}
	return b.String() + "0\r\n\r\n"
}

func TestLongBodiesAreReadWhereTheyLie(t *testing.T) {
	body := longBody()
	random := make([]byte, longHeld) // does not pack, so that what is packed is long, too
	for i := range random {
		random[i] = "0123456789abcdef"[(i*i*7+i/3)%16]
	}
	const head, after = "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n",
		"HTTP/1.1 404 Not Found\r\nContent-Type: application/json\r\nContent-Length: 2\r\n\r\n{}"
	request := &exchange.Request{Method: "GET"}
	recordOf := func(message string) string {
		return fmt.Sprintf("WARC/1.1\r\nWARC-Type: response\r\nWARC-Record-ID: <urn:a>\r\nWARC-Target-URI: "+
			"https://api.example/v1/berths\r\nContent-Type: application/http; msgtype=response\r\nContent-Length: "+
			"%d\r\n\r\n%s\r\n\r\n", len(message), message)
	}
	for _, c := range []struct{ name, text, body string }{
		{"a length said", head + fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(body), body) + after, body},
		{"no length", head + "\r\n" + body + "\n" + after, body + "\n"},
		{"a length that is wrong", head + "Content-Length: 12\r\n\r\n" + body + "\n" + after, body + "\n"},
		{"chunks", head + "Transfer-Encoding: chunked\r\n\r\n" + chunkedText(body, 70_000) + after, body},
		{"chunks that were undone", head + "Transfer-Encoding: chunked\r\n\r\n" + body + "\n" + after, body + "\n"},
		{"behind a byte order mark", "\xef\xbb\xbf" + head + fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(body),
			body) + after, body},
		{"a WARC record", recordOf(head+"\r\n"+body) + recordOf(after), body},
		{"a WARC record of chunks", recordOf(head+"Transfer-Encoding: chunked\r\n\r\n"+chunkedText(body, 1<<20)) +
			recordOf(after), body},
	} {
		t.Run(c.name, func(t *testing.T) {
			for _, lies := range []bool{true, false} { // as a file, and as a stream
				var r io.Reader = strings.NewReader(c.text)
				if !lies {
					r = io.MultiReader(r)
				}
				all, long, err := bodies(t, r, Options{Long: true, Request: request})
				if err != nil || len(all) != 2 || all[0] != c.body || all[1] != "{}" || (long == 1) != lies {
					t.Errorf("%d captures, %d of them long, %v; the first has %d bytes of %d", len(all), long, err,
						len(all[0]), len(c.body))
				}
			}
		})
	}
	t.Run("a coding", func(t *testing.T) {
		var coded bytes.Buffer
		w, _ := gzip.NewWriterLevel(&coded, gzip.NoCompression)
		w.Write([]byte(`{"a":"`))
		w.Write(random)
		w.Write([]byte(`"}`))
		w.Close()
		text := head + fmt.Sprintf("Content-Encoding: gzip\r\nContent-Length: %d\r\n\r\n", coded.Len()) +
			coded.String() + after
		all, long, err := bodies(t, strings.NewReader(text), Options{Long: true, Request: request})
		if err != nil || len(all) != 2 || long != 1 || all[0] != `{"a":"`+string(random)+`"}` {
			t.Errorf("%d captures, %d long, %v", len(all), long, err)
		}
	})
	t.Run("what is no JSON is held", func(t *testing.T) {
		text := strings.Replace(head, "application/json", "text/html", 1) + "\r\n" + body + "\n" + after
		if all, long, err := bodies(t, strings.NewReader(text), Options{Long: true, Request: request}); err != nil ||
			len(all) != 2 || long != 0 {
			t.Errorf("%d captures, %d long, %v", len(all), long, err)
		}
	})
	t.Run("not asked for", func(t *testing.T) {
		if all, long, err := bodies(t, strings.NewReader(head+"\r\n"+body+"\n"+after),
			Options{Request: request}); err != nil || len(all) != 2 || long != 0 {
			t.Errorf("%d captures, %d long, %v", len(all), long, err)
		}
	})
}
