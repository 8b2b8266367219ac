package intake

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"inkret/core/scan"
)

// TestBodiesThatAreNotWholeSaySo reads the same body whole and cut from each format. Its beginning is judged;
// either way the capture says what is missing.
func TestBodiesThatAreNotWholeSaySo(t *testing.T) {
	body := `{"id":1,"name":"Sol"}` + "\n" + `{"id":2,"password":"hunter2"}` + "\n"
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write([]byte(body))
	z.Close()
	gzipped := packed.String()
	message := func(fields, body string) string {
		return "GET /log HTTP/1.1\r\nHost: q.example\r\n\r\nHTTP/1.1 200 OK\r\nContent-Type: application/x-ndjson\r\n" +
			fields + "\r\n" + body
	}
	record := func(fields, inner, body string) string {
		block := "HTTP/1.1 200 OK\r\nContent-Type: application/x-ndjson\r\n" + inner + "\r\n" + body
		return fmt.Sprintf("WARC/1.1\r\nWARC-Type: response\r\nWARC-Target-URI: "+
			"https://q.example/log\r\n%sContent-Type: application/http;msgtype=response\r\nContent-Length: "+
			"%d\r\n\r\n%s\r\n\r\n", fields, len(block), block)
	}
	har := func(size int, media, text, encoding string) string {
		return fmt.Sprintf(`{"log":{"version":"1.2","entries":[{"request":{"method":"GET","url":"https://q.example/log","headers":[]},"response":{"status":200,"headers":[],"content":{"size":%d,"mimeType":%q,"text":%q,"encoding":%q}}}]}}`, size, media, text, encoding)
	}
	line := func(incomplete string) string {
		return fmt.Sprintf(`{"incomplete":%q,"request":{"url":"https://q.example/log"},"response":{"status":200,"headers":[{"name":"Content-Type","value":"application/x-ndjson"}],"text":%q}}`, incomplete, body)
	}
	cut := body[:30]
	chunks := func(of string) string { return fmt.Sprintf("%x\r\n%s\r\n", len(of), of) }
	length := func(n int) string { return fmt.Sprintf("Content-Length: %d\r\n", n) }
	const chunked = "Transfer-Encoding: chunked\r\n"
	for name, c := range map[string]struct{ recording, says string }{
		"messages, whole": {message(length(len(body)), body), ""},
		"messages, cut": {message(length(len(body)), cut),
			"the body ends after 30 of the 52 bytes that were announced"},
		"messages, without a length":        {message("", cut), ""},
		"messages, chunks":                  {message(chunked, chunks(body)+"0\r\n\r\n"), ""},
		"messages, chunks and no last one":  {message(chunked, chunks(cut)), "the last chunk"},
		"messages, a chunk that breaks off": {message(chunked, chunks(body)[:34]), "the last chunk"},
		"messages, undone chunks":           {message(chunked, body), ""},
		"messages, undone gzip":             {message("Content-Encoding: gzip\r\n"+length(len(gzipped)), body), ""},
		"messages, gzip that is cut": {message("Content-Encoding: gzip\r\n"+length(len(gzipped)), gzipped[:40]),
			"the body ends after 40 of the"},
		"WARC, whole":                  {record("", length(len(body)), body), ""},
		"WARC, shorter than announced": {record("", length(len(body)), cut), "30 of the 52 bytes"},
		"WARC, marked as cut":          {record("WARC-Truncated: length\r\n", "", cut), "WARC-Truncated: length"},
		"WARC, marked in capitals": {record("warc-truncated: TIME\r\n", length(len(cut)), cut),
			"WARC-Truncated: TIME"},
		"WARC, undone gzip": {record("", "Content-Encoding: gzip\r\n"+length(len(gzipped)), body), ""},
		"WARC, gzip that is cut": {record("", "Content-Encoding: gzip\r\n"+length(len(gzipped)),
			gzipped[:40]), "40 of the"},
		"WARC, chunks":                 {record("", chunked, chunks(body)+"0\r\n\r\n"), ""},
		"WARC, undone chunks":          {record("", chunked, body), ""},
		"WARC, chunks and no last one": {record("", chunked, chunks(cut)), "the last chunk"},
		"WARC, an answer of 304": {strings.Replace(record("", length(500), "xyz"), "200 OK", "304 OK", 1),
			""},
		"HAR, whole":          {har(len(body), "application/x-ndjson", body, ""), ""},
		"HAR, without a size": {har(-1, "application/x-ndjson", body, ""), ""},
		"HAR, cut":            {har(len(body), "application/x-ndjson", cut, ""), "30 of the 52 bytes"},
		"HAR, cut, in base64": {har(len(body), "application/x-ndjson",
			base64.StdEncoding.EncodeToString([]byte(cut)), "base64"), "30 of the 52 bytes"},
		"HAR, another charset": {har(2*len(body)+2, "application/x-ndjson; charset=utf-16", body, ""),
			""},
		"HAR, the size of a mark before it": {har(len(body)+3, "application/x-ndjson; charset=UTF-8", "\uFEFF"+body,
			""), ""},
		"a line that says nothing":       {line(""), ""},
		"a line that says what it lacks": {line("the disk was full"), "the disk was full"},
		"messages, a request that is cut": {"POST /log HTTP/1.1\r\nHost: q.example\r\nContent-Length: 500\r\n\r\n" +
			`{"a":1}`, "7 of the 500 bytes"},
		"messages, the answer to HEAD": {"HEAD /log HTTP/1.1\r\nHost: q.example\r\n\r\nHTTP/1.1 200 " +
			"OK\r\nContent-Length: 500\r\n\r\n", ""},
		"messages, an answer of 304": {"GET /log HTTP/1.1\r\nHost: q.example\r\n\r\nHTTP/1.1 304 Not " +
			"Modified\r\nContent-Length: 500\r\n\r\n", ""},
		"messages, a length that is too low": {message(length(3), body), ""},
	} {
		t.Run(name, func(t *testing.T) {
			read, err := all(c.recording)
			if err != nil || len(read) != 1 {
				t.Fatalf("%d captures, %v", len(read), err)
			}
			one := read[0]
			if !strings.Contains(one.Incomplete, c.says) || c.says == "" && one.Incomplete != "" {
				t.Errorf("it says %q, want %q", one.Incomplete, c.says)
			}
			// It says the same after it was written as a capture line, and gives that as the reason where it cannot
			// be judged.
			again, err := all(string(Append(nil, one, true)))
			if err != nil || len(again) != 1 || again[0].Incomplete != one.Incomplete {
				t.Fatalf("as a line: %d captures, %v", len(again), err)
			}
			out := scan.NewJudge(nil).Capture(one)
			if out.Incomplete != one.Incomplete || out.Skipped != "" && one.Response.Status == 200 &&
				one.Request.Method == "GET" && !strings.HasPrefix(out.Skipped, one.Incomplete) {
				t.Errorf("judged: incomplete %q, skipped %q", out.Incomplete, out.Skipped)
			}
		})
	}
}

// TestEveryCutOfABodySaysSo cuts a message at each of its bytes.
func TestEveryCutOfABodySaysSo(t *testing.T) {
	body := `{"id":1,"name":"Sol","notes":["a","b"]}`
	for framing, text := range map[string]string{
		"a length": fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(body), body),
		"chunks": fmt.Sprintf("Transfer-Encoding: chunked\r\n\r\na\r\n%s\r\n%x\r\n%s\r\n0\r\n\r\n", body[:10],
			len(body)-10, body[10:]),
	} {
		whole := "GET /me HTTP/1.1\r\nHost: q.example\r\n\r\nHTTP/1.1 200 OK\r\nContent-Type: application/json\r\n" +
			text
		begin := strings.Index(whole, "\r\n\r\n"+text[strings.Index(text, "\r\n\r\n")+4:]) + 4
		for at := begin; at <= len(whole); at++ {
			read, err := all(whole[:at])
			if err != nil || len(read) != 1 {
				t.Fatalf("%s, cut at %d: %d captures, %v", framing, at, len(read), err)
			}
			lacks := string(read[0].Response.Body) != body && at > begin // an empty body is skipped as such
			if said := read[0].Incomplete != ""; lacks && !said {
				t.Errorf("%s, cut at %d: %q, and no word", framing, at-begin, read[0].Response.Body)
			}
		}
	}
}
