package intake

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net/url"
	"strings"

	"inkret/core/exchange"
)

var warcStart = []byte("WARC/")

// maxWaiting is how many records wait for the other half of their exchange.
const maxWaiting = 64

// warcReader reads WARC 1.0 and 1.1 (ISO 28500). Request and response records
// belong together by WARC-Concurrent-To, in either order; a response without a
// request is one to GET its target.
type warcReader struct {
	*reading
	name     string
	r        *bufio.Reader
	count    *counted
	entry    int
	requests map[string]*exchange.Request // by the record's id
	order    []string                     // of requests
	waiting  []*warcResponse
	lies     lying
}

// warcResponse is a response whose request has not come yet.
type warcResponse struct {
	id      string
	capture *exchange.Capture
}

func (in *reading) warc(name string, r io.Reader, lies lying) error {
	count := &counted{r: r}
	w := &warcReader{reading: in, name: name, count: count, r: bufio.NewReaderSize(count, readAhead), requests: map[string]*exchange.Request{}, lies: lies}
	for {
		at, h, err := w.next()
		if err == io.EOF {
			return w.flush(0)
		}
		if err != nil {
			return w.end(at, plain(err))
		}
		n := h.length()
		if n < 0 {
			return w.end(at, "the record says no Content-Length")
		}
		if n > longHeld && lies.file != nil && isResponse(h) && w.long(n) {
			if err := w.longResponse(h, n); err != nil {
				return err
			}
			continue
		}
		if n > maxEntry {
			if _, err := io.CopyN(io.Discard, w.r, n); err != nil {
				return w.end(at, "the file ends in the middle of a record; what came before is complete")
			}
			if err := w.unread(h, fmt.Sprintf("the record at byte %d is larger than %d MiB", at, maxEntry>>20)); err != nil {
				return err
			}
			continue
		}
		block, err := io.ReadAll(io.LimitReader(w.r, n))
		if err != nil || int64(len(block)) < n {
			return w.end(at, "the file ends in the middle of a record; what came before is complete")
		}
		if !w.closed() {
			if err := w.unread(h, fmt.Sprintf("the Content-Length of the record at byte %d is wrong: no record ends there", at)); err != nil {
				return err
			}
			w.resync()
			continue
		}
		if err := w.record(h, block); err != nil {
			return err
		}
	}
}

// next reads the head of the next record.
func (w *warcReader) next() (int64, head, error) {
	for {
		at := w.at()
		start, err := w.r.Peek(len(warcStart))
		if len(start) == 0 {
			return at, head{}, io.EOF
		}
		if start[0] == '\r' || start[0] == '\n' {
			w.r.Discard(1)
			continue
		}
		if err != nil || !bytes.Equal(start, warcStart) {
			return at, head{}, fmt.Errorf("here a record was expected")
		}
		h, err := readHead(w.r)
		return at, h, err
	}
}

// closed reports whether what follows is the end of a record.
func (w *warcReader) closed() bool {
	next, err := w.r.Peek(4 + len(warcStart))
	rest := bytes.TrimLeft(next, "\r\n")
	return len(rest) == 0 && err != nil || len(rest) < len(next) && bytes.HasPrefix(rest, warcStart[:min(len(rest), len(warcStart))])
}

// resync reads on to the next line that begins a record.
func (w *warcReader) resync() {
	for {
		start, err := w.r.Peek(len(warcStart))
		if err != nil || bytes.Equal(start, warcStart) {
			return
		}
		for {
			if _, err := w.r.ReadSlice('\n'); err != bufio.ErrBufferFull {
				break
			}
		}
	}
}

// unread lists a record that cannot be read.
func (w *warcReader) unread(h head, reason string) error {
	if kind := h.header.Get("WARC-Type"); kind != "response" && kind != "request" {
		return nil
	}
	c := &exchange.Capture{Response: exchange.Response{Missing: reason}}
	c.Request.URL = target(h)
	return w.out(c)
}

func (w *warcReader) end(at int64, reason string) error {
	if err := w.flush(0); err != nil {
		return err
	}
	return &Error{File: w.name, Offset: at, Entry: w.entry, Reason: reason}
}

// target is the address that a record is about; some write it in angle brackets.
func target(h head) *url.URL {
	u, err := url.Parse(strings.Trim(h.header.Get("WARC-Target-URI"), "<>"))
	if err != nil || u.Host == "" {
		return nil
	}
	return u
}

func (w *warcReader) record(h head, block []byte) error {
	kind := h.header.Get("WARC-Type")
	if kind != "request" && kind != "response" && kind != "revisit" {
		return nil // warcinfo, metadata and so on: no exchange
	}
	if media := strings.ToLower(h.header.Get("Content-Type")); !strings.HasPrefix(media, "application/http") {
		return nil
	}
	inner := bufio.NewReader(bytes.NewReader(block))
	message, err := readHead(inner)
	if err != nil {
		return w.unread(h, "the HTTP message of a record cannot be read: "+plain(err))
	}
	body, _ := io.ReadAll(inner)
	lacks := ""
	if message.chunked() {
		body, lacks = unchunk(body)
	} else if codings, coded := message.header.Find("Content-Encoding"); !coded || exchange.StillCoded(body, codings) {
		lacks = shorter(int64(len(body)), message.length(), false)
	}
	if cut := h.header.Get("WARC-Truncated"); cut != "" {
		lacks = "the recording says that it was cut (WARC-Truncated: " + clip(cut) + ")"
	}
	id, other := h.header.Get("WARC-Record-ID"), h.header.Get("WARC-Concurrent-To")
	if kind == "request" {
		request, ok := message.request()
		if !ok {
			return nil
		}
		request.Receive(body)
		if u := target(h); u != nil {
			request.URL = u
		}
		return w.request(id, other, &request)
	}
	c := response(h, &message)
	if c == nil {
		return w.unread(h, "a response record holds no HTTP response")
	}
	if kind == "revisit" {
		c.Response.Missing = "the recording holds a repeat of an earlier body here, not the body"
	} else {
		c.Incomplete = lacks
		c.Response.Receive(body)
	}
	return w.pair(id, other, c)
}

func isResponse(h head) bool {
	return h.header.Get("WARC-Type") == "response" && strings.HasPrefix(strings.ToLower(h.header.Get("Content-Type")), "application/http")
}

// response gives the capture of a response record, its body left out; nil where it holds
// none.
func response(h head, message *head) *exchange.Capture {
	status, ok := message.status()
	if !ok {
		return nil
	}
	c := &exchange.Capture{Response: exchange.Response{Status: status, Header: message.header}}
	c.Started = timeOf(h.header.Get("WARC-Date"))
	c.Request = exchange.Request{Method: "GET", URL: target(h)}
	return c
}

// long reports whether the response record that follows, of n bytes, is to be read where it
// lies: if it is too long to be held, or long and can be.
func (w *warcReader) long(n int64) bool {
	start, _ := w.r.Peek(readAhead / 2)
	message, err := readHead(bufio.NewReader(bytes.NewReader(start)))
	return n > maxEntry || err == nil && w.lies.held(&message) < n
}

// longResponse takes a response record of n bytes that is too long to be held: its body is
// read where it lies.
func (w *warcReader) longResponse(h head, n int64) error {
	begin := w.at()
	message, err := readHead(w.r)
	if err != nil {
		return w.unread(h, "the HTTP message of a record cannot be read: "+plain(err))
	}
	body := w.at()
	c := response(h, &message)
	start, _ := w.r.Peek(64)
	chunked := message.chunked() && chunkSize.Match(start)
	rest := n - (body - begin)
	if _, err := io.CopyN(io.Discard, w.r, max(0, rest)); err != nil {
		return w.end(begin, "the file ends in the middle of a record; what came before is complete")
	}
	if c == nil || rest < 0 {
		return w.unread(h, "a response record holds no HTTP response")
	}
	if cut := h.header.Get("WARC-Truncated"); cut != "" {
		c.Incomplete = "the recording says that it was cut (WARC-Truncated: " + clip(cut) + ")"
	}
	c.Response.Long = w.lies.body(body, rest, &message, chunked)
	return w.pair(h.header.Get("WARC-Record-ID"), h.header.Get("WARC-Concurrent-To"), c)
}

// at gives where the next byte stands in what is read.
func (w *warcReader) at() int64 { return w.count.n - int64(w.r.Buffered()) }

// pair hands over a response with its request, or keeps it until that comes.
func (w *warcReader) pair(id, other string, c *exchange.Capture) error {
	if r := w.requests[other]; r != nil {
		delete(w.requests, other)
		c.Request = *r
		return w.done(c)
	}
	w.waiting = append(w.waiting, &warcResponse{id, c})
	return w.flush(maxWaiting)
}

// done hands over a capture: what has no body lacks nothing of it (RFC 9112 section 6.3).
func (w *warcReader) done(c *exchange.Capture) error {
	if c.Request.Method == "HEAD" || c.Response.Status == 204 || c.Response.Status == 304 {
		c.Incomplete = ""
	}
	return w.out(c)
}

// request pairs a request with the response that came before it, or keeps it.
func (w *warcReader) request(id, other string, r *exchange.Request) error {
	for i, one := range w.waiting {
		if other != "" && one.id == other {
			one.capture.Request = *r
			w.waiting = append(w.waiting[:i], w.waiting[i+1:]...)
			return w.done(one.capture)
		}
	}
	w.requests[id] = r
	if w.order = append(w.order, id); len(w.order) > maxWaiting {
		delete(w.requests, w.order[0])
		w.order = w.order[1:]
	}
	return nil
}

// flush hands over responses that waited, but for the last few.
func (w *warcReader) flush(keep int) error {
	for len(w.waiting) > keep {
		if err := w.done(w.waiting[0].capture); err != nil {
			return err
		}
		w.waiting = w.waiting[1:]
	}
	return nil
}

func (w *warcReader) out(c *exchange.Capture) error {
	w.entry++
	return w.hand(w.name, w.entry-1, c)
}
