package intake

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"inkret/core/exchange"
)

var warcStart = []byte("WARC/")

// maxWaiting limits the records that wait for the other half of their exchange.
const maxWaiting = 64

// warcReader reads WARC 1.0 and 1.1 (ISO 28500). Requests and responses are matched by WARC-Concurrent-To, in
// either order. A response without a request counts as the response to GET of its target.
type warcReader struct {
	*reading
	name     string
	r        *bufio.Reader
	count    *counted
	entry    int
	requests map[string]*warcRequest // by the record's id
	order    []string                // of requests
	waiting  []*warcResponse
	lies     lying
	rewound  int64  // bytes that were read again
	first    *Error // of what is wrong with the file
	wrongs   int
}

// warcResponse is a response whose request was not read yet.
type warcResponse struct {
	id      string
	others  []string // records of the same exchange
	capture *exchange.Capture
}

// warcRequest is a request whose response was not read yet.
type warcRequest struct {
	others  []string
	request *exchange.Request
}

// recordID returns a record's id; some tools omit the angle brackets.
func recordID(h head) string { return strings.Trim(h.header.Get("WARC-Record-ID"), "<> ") }

// concurrent returns the records of the same exchange; the field may be repeated.
func concurrent(h head) []string {
	var all []string
	for _, f := range h.header {
		if strings.EqualFold(f.Name, "WARC-Concurrent-To") {
			all = append(all, strings.Trim(f.Value, "<> "))
		}
	}
	return all
}

func (in *reading) warc(name string, r io.Reader, lies lying) error {
	count := &counted{r: r}
	w := &warcReader{reading: in, name: name, count: count, r: bufio.NewReaderSize(count, readAhead),
		requests: map[string]*warcRequest{}, lies: lies}
	for {
		at, h, err := w.next()
		if err == io.EOF {
			return w.end()
		}
		if err != nil {
			w.fault(at, plain(err))
			w.resync()
			continue
		}
		n := h.length()
		if _, ends := w.r.Peek(1); n < 0 && ends != nil {
			w.fault(at, "the record says no Content-Length: the file ends in its head")
			continue
		}
		if n < 0 {
			if err := w.unread(h, fmt.Sprintf("the record at byte %d says no Content-Length", at)); err != nil {
				return err
			}
			w.resync()
			continue
		}
		if n > longHeld && lies.file != nil && isResponse(h) && w.long(n) {
			if err := w.longResponse(h, n); err != nil {
				return err
			}
			continue
		}
		if n > maxEntry {
			if err := w.tooLarge(h, at, n); err != nil {
				return err
			}
			continue
		}
		begin := w.at()
		block, err := io.ReadAll(io.LimitReader(w.r, n))
		if err != nil {
			w.fault(at, plain(err))
			return w.end()
		}
		if whole := int64(len(block)) == n; whole && w.closed() {
			if err := w.record(h, block, ""); err != nil {
				return err
			}
		} else if err := w.wrong(h, at, begin, block, whole); err != nil {
			return err
		}
	}
}

// recordStart matches the first line of a record.
var recordStart = regexp.MustCompile(`\nWARC/\d\.\d\r?\n`)

// mostRewound limits what is read again because of wrong lengths.
const mostRewound = 2 * maxEntry

// wrong handles a record whose length is wrong, or that is cut off. Its block was read; records inside the block
// are read from there.
func (w *warcReader) wrong(h head, at, begin int64, block []byte, whole bool) error {
	next, _ := w.r.Peek(len("\nWARC/1.1\r\n")) // a start may lie across the end of the block
	w.r.Discard(len(next))
	kept := len(block)
	block = append(block, next...)
	inside := recordStart.FindIndex(block)
	if inside == nil && !whole {
		w.fault(at, endsInRecord)
		return w.record(h, block[:kept], "the recording ends in the middle of the body")
	}
	reason := fmt.Sprintf("the Content-Length of the record at byte %d is wrong: no record ends there", at)
	if err := w.unread(h, reason); err != nil {
		return err
	}
	if inside == nil {
		inside = []int{kept - 1} // read on from where the record was to end
	}
	rest := block[inside[0]+1:]
	if w.rewound += int64(len(rest)); w.rewound > mostRewound {
		w.fault(at, fmt.Sprintf("so many lengths are wrong that %d records or more are not read",
			len(recordStart.FindAllIndex(block, -1))))
		return nil
	}
	w.count = &counted{r: io.MultiReader(bytes.NewReader(rest), w.r), n: begin + int64(inside[0]) + 1}
	w.r = bufio.NewReaderSize(w.count, readAhead)
	w.resync()
	return nil
}

const endsInRecord = "the file ends in the middle of a record; what came before is complete"

// tooLarge skips a record that does not fit in memory, or reports it.
func (w *warcReader) tooLarge(h head, at, n int64) error {
	inside, ends := 0, false
	for left, fresh := n, false; left > 0 && !ends; {
		line, err := w.r.ReadSlice('\n')
		if int64(len(line)) > left { // behind its end
			w.count = &counted{r: io.MultiReader(bytes.NewReader(bytes.Clone(line[left:])), w.r),
				n: w.at() - int64(len(line)) + left}
			w.r, line = bufio.NewReaderSize(w.count, readAhead), line[:left]
		}
		if fresh && bytes.HasPrefix(line, warcStart) {
			inside++
		}
		left, fresh, ends = left-int64(len(line)), err == nil, err != nil && err != bufio.ErrBufferFull
	}
	reason := fmt.Sprintf("the record at byte %d is larger than %d MiB", at, maxEntry>>20)
	if !ends && w.closed() {
		return w.unread(h, reason)
	}
	if reason = "the Content-Length of the record is wrong: no record ends there"; ends && inside == 0 {
		reason = endsInRecord
	}
	if inside > 0 {
		reason += fmt.Sprintf("; %d records that stand within it are not read", inside)
	}
	w.fault(at, reason)
	if !ends {
		w.resync()
	}
	return w.unread(h, fmt.Sprintf("the record at byte %d: %s", at, reason))
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

// closed reports whether the end of a record follows.
func (w *warcReader) closed() bool {
	next, err := w.r.Peek(4 + len(warcStart))
	rest := bytes.TrimLeft(next, "\r\n")
	return len(rest) == 0 && err != nil || len(rest) < len(next) &&
		bytes.HasPrefix(rest, warcStart[:min(len(rest), len(warcStart))])
}

// resync skips to the next line that starts a record.
func (w *warcReader) resync() {
	for {
		start, err := w.r.Peek(len(warcStart))
		if err != nil {
			w.r.Discard(len(start))
		}
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

// unread lists an unreadable record.
func (w *warcReader) unread(h head, reason string) error {
	if kind := h.header.Get("WARC-Type"); kind != "response" && kind != "request" {
		return nil
	}
	c := &exchange.Capture{Response: exchange.Response{Missing: reason}}
	c.Request.URL = target(h)
	return w.out(c)
}

// fault records a problem of the file; the first one is returned at the end.
func (w *warcReader) fault(at int64, reason string) {
	if w.wrongs++; w.first == nil {
		w.first = &Error{File: w.name, Offset: at, Entry: w.entry, Reason: reason}
	}
}

// end hands over everything that is still waiting, and returns the first problem.
func (w *warcReader) end() error {
	if err := w.flush(0); err != nil {
		return err
	}
	if err := w.alone(0); err != nil {
		return err
	}
	if w.first == nil {
		return nil
	}
	if w.wrongs > 1 {
		w.first.Reason += fmt.Sprintf("; %d more places are wrong", w.wrongs-1)
	}
	return w.first
}

// target returns a record's address; some tools write it in angle brackets.
func target(h head) *url.URL {
	u, err := url.Parse(strings.Trim(h.header.Get("WARC-Target-URI"), "<>"))
	if err != nil || u.Host == "" {
		return nil
	}
	return u
}

func (w *warcReader) record(h head, block []byte, lacks string) error {
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
	if cut := ""; message.chunked() {
		if body, cut = unchunk(body); lacks == "" {
			lacks = cut
		}
	} else if codings, coded := message.header.Find("Content-Encoding"); lacks == "" &&
		(!coded || exchange.StillCoded(body, codings)) {
		lacks = shorter(int64(len(body)), message.length(), false)
	}
	if cut := h.header.Get("WARC-Truncated"); cut != "" {
		lacks = "the recording says that it was cut (WARC-Truncated: " + clip(cut) + ")"
	}
	id, others := recordID(h), concurrent(h)
	if kind == "request" {
		request, ok := message.request()
		if !ok {
			return nil
		}
		request.Receive(body)
		if u := target(h); u != nil {
			request.URL = u
		}
		return w.request(id, others, &request)
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
	return w.pair(id, others, c)
}

func isResponse(h head) bool {
	return h.header.Get("WARC-Type") == "response" && strings.HasPrefix(strings.ToLower(h.header.Get("Content-Type")),
		"application/http")
}

// response returns the capture of a response record, without its body; nil if it contains none.
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

// long reports whether the following response record of n bytes is read from the file: because it does not fit in
// memory, or is large and can be.
func (w *warcReader) long(n int64) bool {
	start, _ := w.r.Peek(readAhead / 2)
	message, err := readHead(bufio.NewReader(bytes.NewReader(start)))
	return n > maxEntry || err == nil && w.lies.held(&message) < n
}

// longResponse handles a response record of n bytes whose body is read from the file.
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
		w.fault(begin, endsInRecord)
		return w.unread(h, "the recording ends in the middle of the body")
	}
	if c == nil || rest < 0 {
		return w.unread(h, "a response record holds no HTTP response")
	}
	if cut := h.header.Get("WARC-Truncated"); cut != "" {
		c.Incomplete = "the recording says that it was cut (WARC-Truncated: " + clip(cut) + ")"
	}
	c.Response.Long = w.lies.body(body, rest, &message, chunked)
	return w.pair(recordID(h), concurrent(h), c)
}

// at returns the offset of the next byte.
func (w *warcReader) at() int64 { return w.count.n - int64(w.r.Buffered()) }

// pair hands over a response with its request, or keeps it until the request comes.
func (w *warcReader) pair(id string, others []string, c *exchange.Capture) error {
	for _, other := range others {
		if r := w.requests[other]; r != nil {
			delete(w.requests, other)
			c.Request = *r.request
			return w.done(c)
		}
	}
	for other, r := range w.requests { // the request may name the response before it comes
		if id != "" && slices.Contains(r.others, id) {
			delete(w.requests, other)
			c.Request = *r.request
			return w.done(c)
		}
	}
	w.waiting = append(w.waiting, &warcResponse{id, others, c})
	return w.flush(maxWaiting)
}

// done hands over a capture. A response that has no body by definition is complete (RFC 9112 section 6.3).
func (w *warcReader) done(c *exchange.Capture) error {
	if c.Request.Method == "HEAD" || c.Response.Status == 204 || c.Response.Status == 304 {
		c.Incomplete = ""
	}
	return w.out(c)
}

// request hands over a request with its response, or keeps it.
func (w *warcReader) request(id string, others []string, r *exchange.Request) error {
	for i, one := range w.waiting {
		if one.id != "" && slices.Contains(others, one.id) || id != "" && slices.Contains(one.others, id) {
			one.capture.Request = *r
			w.waiting = append(w.waiting[:i], w.waiting[i+1:]...)
			return w.done(one.capture)
		}
	}
	if w.requests[id] != nil { // of the same name: one of them has none
		id = fmt.Sprintf("%s\x00%d", id, w.at())
	}
	w.requests[id] = &warcRequest{others, r}
	w.order = append(w.order, id)
	return w.alone(maxWaiting)
}

// alone hands over requests without a response, except the last few.
func (w *warcReader) alone(keep int) error {
	for ; len(w.order) > keep; w.order = w.order[1:] {
		r := w.requests[w.order[0]]
		if r == nil { // it came
			continue
		}
		delete(w.requests, w.order[0])
		if err := w.out(&exchange.Capture{Request: *r.request,
			Response: exchange.Response{Missing: noResponse}}); err != nil {
			return err
		}
	}
	return nil
}

// flush hands over waiting responses, except the last few.
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
