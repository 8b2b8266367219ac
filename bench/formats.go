package main

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/textproto"
	"net/url"
	"strconv"
	"time"

	"inkret/core/exchange"
	"inkret/intake"
)

// form is a format of recordings, with a writer, and a general parser of the standard library as the baseline.
type form struct {
	name    string
	write   func(w io.Writer, entries int, length int64) error
	general func(r io.Reader) error
}

func forms() []form {
	return []form{
		{"HAR", recording, generalJSON},
		{"capture lines", each(line), generalJSON},
		{"HTTP messages", each(message), generalMessages},
		{"WARC", each(warc), generalWARC},
		{"WARC, gzip", zipped(each(warc)), func(r io.Reader) error {
			z, err := gzip.NewReader(r)
			if err != nil {
				return err
			}
			return generalWARC(z)
		}},
	}
}

// each writes entries by a function until there are enough.
func each(one func(w io.Writer, i int)) func(io.Writer, int, int64) error {
	return func(w io.Writer, entries int, length int64) error {
		out := &counter{w: w}
		for i := 0; (entries == 0 || i < entries) && (length == 0 || out.n < length); i++ {
			one(out, i)
		}
		return out.err
	}
}

// zipped compresses what another writer writes; length is that of the compressed bytes.
func zipped(write func(io.Writer, int, int64) error) func(io.Writer, int, int64) error {
	return func(w io.Writer, entries int, length int64) error {
		out := &counter{w: w}
		z, _ := gzip.NewWriterLevel(out, gzip.BestSpeed)
		if length == 0 {
			return errors.Join(write(z, entries, 0), z.Close())
		}
		for out.n < length && out.err == nil { // blocks, until what comes out is long enough
			if err := write(z, 1000, 0); err != nil {
				return err
			}
			z.Flush()
		}
		return errors.Join(out.err, z.Close())
	}
}

func smallBody(i int) []byte { return listBody(600 + i%7*40) }

func line(w io.Writer, i int) {
	u, _ := url.Parse(fmt.Sprintf("https://bench.example/list?page=%d", i))
	text := intake.Append(nil, &exchange.Capture{Started: time.Unix(1777629600, 0),
		Request: exchange.Request{Method: "GET", URL: u,
			Header: exchange.Header{{Name: "Accept", Value: "application/json"}}},
		Response: exchange.Response{Status: 200,
			Header: exchange.Header{{Name: "Content-Type", Value: "application/json"}}, Body: smallBody(i)}}, true)
	w.Write(text)
}

func requestText(i int) string {
	return fmt.Sprintf("GET /list?page=%d HTTP/1.1\r\nHost: bench.example\r\nAccept: application/json\r\n\r\n", i)
}

func responseText(i int) []byte {
	body := smallBody(i)
	return append(fmt.Appendf(nil, "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n",
		len(body)), body...)
}

func message(w io.Writer, i int) {
	io.WriteString(w, requestText(i))
	w.Write(responseText(i))
}

func warc(w io.Writer, i int) {
	record := func(kind string, block []byte) {
		fmt.Fprintf(w, "WARC/1.1\r\nWARC-Type: %s\r\nWARC-Record-ID: <urn:bench:%s-%d>\r\nWARC-Concurrent-To: "+
			"<urn:bench:request-%d>\r\nWARC-Target-URI: https://bench.example/list?page=%d\r\nWARC-Date: "+
			"2026-05-01T10:00:00Z\r\nContent-Type: application/http;msgtype=%s\r\nContent-Length: %d\r\n\r\n%s\r\n\r\n",
			kind, kind, i, i, i, kind, len(block), block)
	}
	record("request", []byte(requestText(i)))
	record("response", responseText(i))
}

func generalJSON(r io.Reader) error {
	d := json.NewDecoder(r)
	for {
		var v any
		if err := d.Decode(&v); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}

func generalMessages(r io.Reader) error {
	in := bufio.NewReader(r)
	for {
		request, err := http.ReadRequest(in)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		response, err := http.ReadResponse(in, request)
		if err != nil {
			return err
		}
		if _, err := io.ReadAll(response.Body); err != nil {
			return err
		}
	}
}

func generalWARC(r io.Reader) error {
	in := bufio.NewReader(r)
	fields := textproto.NewReader(in)
	for {
		if _, err := fields.ReadLine(); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		head, err := fields.ReadMIMEHeader()
		if err != nil {
			return err
		}
		n, err := strconv.ParseInt(head.Get("Content-Length"), 10, 64)
		if err != nil {
			return err
		}
		block := make([]byte, n)
		if _, err := io.ReadFull(in, block); err != nil {
			return err
		}
		if head.Get("WARC-Type") == "response" {
			response, err := http.ReadResponse(bufio.NewReader(bytes.NewReader(block)), nil)
			if err != nil {
				return err
			}
			if _, err := io.ReadAll(response.Body); err != nil {
				return err
			}
		}
		fields.ReadLine()
		fields.ReadLine()
	}
}

// formats compares reading each format with a general parser.
func formats() error {
	const entries = 5000
	for _, f := range forms() {
		var file bytes.Buffer
		if err := f.write(&file, entries, 0); err != nil {
			return err
		}
		captures := 0
		read := func() {
			captures = 0
			if err := intake.Read("bench", bytes.NewReader(file.Bytes()), intake.Options{},
				func(*exchange.Capture) error { captures++; return nil }); err != nil {
				panic(err)
			}
		}
		general := func() {
			if err := f.general(bytes.NewReader(file.Bytes())); err != nil {
				panic(fmt.Errorf("%s: %w", f.name, err))
			}
		}
		took, times := measure(read), ratio(read, general)
		if captures != entries {
			return fmt.Errorf("%s: %d of %d captures were read", f.name, captures, entries)
		}
		fmt.Printf("  reading %-14s %6.0f MB/s %8.0f captures/s   %.2f times a general parser's reading\n", f.name,
			float64(file.Len())/1e6/took, entries/took, times)
	}
	return nil
}
