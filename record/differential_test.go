package record

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
)

var exchanges = flag.Int("exchanges", 2000, "how many exchanges TestExchangesAtRandom makes")

// message is one HTTP/1 message as it is on the wire, parsed without the library that the recorder uses.
type message struct {
	start    string
	fields   []string // "name: value", names in small letters
	body     []byte
	trailers []string
	interim  []string // start lines of the answers before the final one
	broken   bool     // it ends before it is whole
	none     bool     // there is not even a head
}

// readMessage reads one; request says of which kind, and bodyless that an answer has no body whatever its head says.
func readMessage(r *bufio.Reader, request, bodyless bool) (m message) {
	for {
		head, err := fieldLines(r)
		if err != nil || len(head) == 0 {
			return message{none: true, broken: true}
		}
		m.start, m.fields = head[0], head[1:]
		status := status(m.start)
		if !request && status >= 100 && status < 200 {
			m.interim = append(m.interim, strconv.Itoa(status))
			continue
		}
		for i, f := range m.fields {
			name, value, _ := strings.Cut(f, ":")
			m.fields[i] = strings.ToLower(name) + ": " + strings.Trim(value, " \t")
		}
		if !request && (bodyless || status == 204 || status == 304) {
			return m
		}
		break
	}
	coded, _ := m.field("transfer-encoding")
	length, has := m.field("content-length")
	switch {
	case strings.EqualFold(coded, "chunked"):
		m.chunks(r)
	case has:
		n, _ := strconv.Atoi(length)
		m.body, _ = io.ReadAll(io.LimitReader(r, int64(n)))
		m.broken = len(m.body) < n
	case !request:
		var err error
		m.body, err = io.ReadAll(r)
		m.broken = err != nil
	}
	return m
}

func status(line string) int {
	if _, rest, ok := strings.Cut(line, " "); ok && strings.HasPrefix(line, "HTTP/") && len(rest) >= 3 {
		n, _ := strconv.Atoi(rest[:3])
		return n
	}
	return 0
}

func fieldLines(r *bufio.Reader) (lines []string, err error) {
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return lines, err
		}
		if line = strings.TrimRight(line, "\r\n"); line == "" {
			return lines, nil
		}
		lines = append(lines, line)
	}
}

func (m *message) chunks(r *bufio.Reader) {
	m.broken = true
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		size, _, _ := strings.Cut(strings.TrimSpace(line), ";")
		n, err := strconv.ParseInt(strings.TrimSpace(size), 16, 64)
		if err != nil || n < 0 || strings.Contains(strings.TrimRight(line, "\r\n"), "\r") {
			return
		}
		if n == 0 {
			lines, err := fieldLines(r)
			if strings.Contains(strings.Join(lines, ""), "\x00") {
				return
			}
			for _, f := range lines {
				name, value, _ := strings.Cut(f, ":")
				m.trailers = append(m.trailers, strings.ToLower(name)+": "+strings.Trim(value, " \t"))
			}
			m.broken = err != nil
			return
		}
		part, _ := io.ReadAll(io.LimitReader(r, n))
		m.body = append(m.body, part...)
		if end, err := r.ReadString('\n'); err != nil || strings.TrimRight(end, "\r\n") != "" {
			return
		}
	}
}

func (m *message) field(name string) (string, bool) {
	for _, f := range m.fields {
		if value, ok := strings.CutPrefix(f, name+": "); ok {
			return value, true
		}
	}
	return "", false
}

// ofTheConnection lists the fields that concern one connection or tell where a body ends: docs/captures.md lets
// these differ.
var ofTheConnection = []string{"connection", "keep-alive", "proxy-connection", "te", "transfer-encoding", "trailer",
	"upgrade", "content-length"}

// passed returns the fields that must pass, sorted, without those that may differ.
func (m *message) passed(without ...string) []string {
	var all []string
	for _, f := range m.fields {
		if name, _, _ := strings.Cut(f, ":"); !slices.Contains(ofTheConnection, name) &&
			!slices.Contains(without, name) {
			all = append(all, f)
		}
	}
	slices.Sort(all)
	return all
}

// made is one exchange made at random: what the client sends, and what the API answers.
type made struct {
	method, target string
	request        string
	answer         string
	reset          bool // the connection ends by a reset
	cut            bool // the request is not whole
}

type maker struct{ *rand.Rand }

func one[T any](m maker, of ...T) T          { return of[m.IntN(len(of))] }
func (m maker) sometimes(share float64) bool { return m.Float64() < share }

func (m maker) word() string {
	return one(m, "berth", "sol@sails.example", "", "low tide at nine", "a,b;c=\"d\"", "caf\xe9 \xff\x80", "ünï",
		strings.Repeat("x", m.IntN(5000)), "{\"a\":1}", "0")
}

func (m maker) fields(names ...string) string {
	var b strings.Builder
	for range m.IntN(6) {
		fmt.Fprintf(&b, "%s:%s%s%s\r\n", one(m, names...), one(m, "", " ", "  "), m.word(), one(m, "", " "))
	}
	return b.String()
}

// body makes a body and the fields that tell how it is coded.
func (m maker) body() (fields string, body []byte) {
	kind := m.IntN(7)
	media := []string{"application/json", "application/x-ndjson", "text/event-stream",
		"application/x-www-form-urlencoded", "application/octet-stream", "text/html; charset=iso-8859-1", ""}[kind]
	switch kind {
	case 0:
		body = fmt.Appendf(nil, `{"n":%d,"password":"hunter2","list":[%s]}`, m.IntN(1e6),
			strings.TrimSuffix(strings.Repeat("1.5,", m.IntN(40_000)), ","))
	case 1:
		body = []byte(strings.Repeat("{\"a\":1}\n", m.IntN(50)))
	case 2:
		body = []byte(strings.Repeat("data: {\"a\":1}\n\n", m.IntN(50)))
	case 3:
		body = []byte("a=1&password=hunter2")
	case 4, 5:
		body = make([]byte, m.IntN(100_000))
		for i := range body {
			body[i] = byte(m.Uint32())
		}
	}
	if media != "" {
		fields = "Content-Type: " + media + "\r\n"
	}
	for range one(m, 0, 0, 1, 1, 2) {
		coding := one(m, "gzip", "br", "zstd", "deflate", "x-harbour")
		var b bytes.Buffer
		var w io.WriteCloser
		switch coding {
		case "gzip":
			w = gzip.NewWriter(&b)
		case "br":
			w = brotli.NewWriterLevel(&b, 1)
		case "zstd":
			w, _ = zstd.NewWriter(&b, zstd.WithEncoderConcurrency(1))
		}
		if w != nil {
			w.Write(body)
			w.Close()
			body = b.Bytes()
		}
		fields += "Content-Encoding: " + coding + "\r\n"
	}
	return fields, body
}

// chunked writes a body in chunks of any size, perhaps with trailers.
func (m maker) chunked(body []byte) string {
	var b strings.Builder
	for len(body) > 0 {
		n := min(len(body), 1+m.IntN(one(m, 3, 100, 40_000)), len(body))
		if len(body) > 2000 {
			n = max(n, min(len(body), 500))
		}
		fmt.Fprintf(&b, "%x%s\r\n%s\r\n", n, one(m, "", "", ";ext=1"), body[:n])
		body = body[n:]
	}
	b.WriteString("0\r\n")
	if m.sometimes(0.4) {
		fmt.Fprintf(&b, "X-Sum: %d\r\n", m.IntN(99))
	}
	return b.String() + "\r\n"
}

func (m maker) exchange(i int) made {
	x := made{method: one(m, "GET", "GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "QUERY", "M-SEARCH")}
	x.target = fmt.Sprintf("/v1/%d%s", i, one(m, "", "/a%2Fb", "/%C3%A4;v=1", "/x?y=1&y=2&=%zz;", "/?", "/a//b/../c",
		"/~tilde/'()*!"))
	x.request = x.method + " " + x.target + " HTTP/1.1\r\nHost: api.example:99\r\nConnection: close\r\n" +
		m.fields("Accept", "Authorization", "Cookie", "X-Forwarded-For", "User-Agent", "x-odd-CASE", "If-None-Match",
			"Accept-Encoding", "Origin")
	if m.sometimes(0.5) {
		fields, body := m.body()
		switch x.request += fields; m.IntN(2) { // how the end of it is told
		case 0:
			x.request += fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(body), body)
		case 1:
			x.request += "Transfer-Encoding: chunked\r\n" + one(m, "", "Trailer: X-Sum\r\n") + "\r\n" + m.chunked(body)
		}
		if head := strings.Index(x.request, "\r\n\r\n") + 4; len(x.request) > head && m.sometimes(0.15) {
			x.cut = true
			if at := head + m.IntN(len(x.request)-head); m.sometimes(0.5) ||
				!strings.Contains(x.request[:head], "\r\nTransfer-Encoding: ") {
				x.request = x.request[:at]
			} else { // a size that is none, and what a stranger would like to be the next request
				x.request = x.request[:head] + "-1\r\n\r\nGET /v1/evil HTTP/1.1\r\nHost: api.example:99\r\n\r\n"
			}
		}
	} else {
		x.request += "\r\n"
	}
	if m.sometimes(0.1) {
		x.answer = one(m, "HTTP/1.1 103 Early Hints\r\nLink: </a>\r\n\r\n", "HTTP/1.1 102 Processing\r\n\r\n")
	}
	interim := len(x.answer)
	code := one(m, 200, 200, 200, 201, 202, 203, 204, 205, 206, 207, 226, 299, 300, 301, 302, 303, 304, 307, 400, 401,
		403, 404, 409, 410, 418, 429, 451, 499, 500, 501, 503, 511, 599, 799)
	fields, body := m.body()
	head := fmt.Sprintf("HTTP/%s %d%s\r\nConnection: close\r\n%s%s", one(m, "1.1", "1.1", "1.1", "1.0"), code,
		one(m, " ", " OK", " Fine By Me"), fields,
		m.fields("Set-Cookie", "Server", "ETag", "X-Words", "Location", "Cache-Control", "Date", "vary",
			"Content-Language", "Warning"))
	switch framing := m.IntN(3); {
	case code == 204:
		x.answer += head + "\r\n"
	case code == 304 || x.method == "HEAD":
		x.answer += head + one(m, "", fmt.Sprintf("Content-Length: %d\r\n", len(body))) + "\r\n"
	case framing == 0:
		x.answer += head + fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(body), body)
	case framing == 1 && strings.HasPrefix(head, "HTTP/1.1"):
		x.answer += head + "Transfer-Encoding: chunked\r\n" + one(m, "", "Trailer: X-Sum\r\n") + "\r\n" +
			m.chunked(body)
	default:
		x.answer += head + "\r\n" + string(body)
	}
	switch m.IntN(12) { // or it is broken
	case 0:
		x.answer = x.answer[:m.IntN(len(x.answer))]
	case 1:
		x.answer, x.reset = x.answer[:m.IntN(len(x.answer))], true
	case 2:
		at := interim + m.IntN(len(x.answer)-interim)
		x.answer = x.answer[:at] + "\x00\xffzz" + x.answer[at:]
	}
	return x
}

// talkers is an API that answers as was made, and keeps what it was asked.
type talkers struct {
	address string
	mu      sync.Mutex
	made    map[string]made
	asked   map[string]message // by target, the last
}

func talking(t *testing.T) *talkers {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	a := &talkers{address: l.Addr().String(), made: map[string]made{}, asked: map[string]message{}}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go a.answer(conn)
		}
	}()
	return a
}

func (a *talkers) answer(conn net.Conn) {
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(patience))
	asked := readMessage(bufio.NewReader(conn), true, false)
	if asked.none {
		return
	}
	target := strings.Fields(asked.start)[1]
	if target == "/v1/evil" {
		panic("a body was taken for a request")
	}
	a.mu.Lock()
	a.asked[target] = asked
	x := a.made[target]
	a.mu.Unlock()
	io.WriteString(conn, x.answer)
	if x.reset {
		conn.(*net.TCPConn).SetLinger(0)
	}
}

// ask sends what was made and reads the answer until the connection ends.
func ask(t *testing.T, address string, x made) message {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		t.Error(err)
		return message{none: true}
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(patience))
	io.WriteString(conn, x.request)
	if x.cut {
		conn.(*net.TCPConn).CloseWrite()
	}
	return readMessage(bufio.NewReader(conn), false, x.method == "HEAD")
}

// writtenCapture is a capture line, with nothing undone.
type writtenCapture struct {
	Incomplete        string
	Request, Response struct {
		Method, URL string
		Status      int
		Headers     []struct {
			Name, Value string
			Bytes       []byte `json:"value_base64"`
		}
		Body    string
		Base64  []byte `json:"body_base64"`
		Missing string
	}
}

// fieldsOf are the fields of a capture's request or answer, as [message.passed] gives them.
func fieldsOf(names []struct {
	Name, Value string
	Bytes       []byte `json:"value_base64"`
}) []string {
	var all message
	for _, f := range names {
		all.fields = append(all.fields, strings.ToLower(f.Name)+": "+f.Value+string(f.Bytes))
	}
	return all.passed()
}

// TestExchangesAtRandom makes exchanges of every method, status, coding and framing, sound and broken, each once
// directly and once through the recorder. API and client must see the same, and the capture must hold it byte for
// byte; docs/captures.md lists what may differ. With -exchanges it makes more.
func TestExchangesAtRandom(t *testing.T) {
	n := *exchanges
	if testing.Short() {
		n = 200
	}
	a := talking(t)
	s := before(t, "http://"+a.address, func(o *Options) { o.KeepHost = true })
	all := make([]made, n)
	for i := range all {
		m := maker{rand.New(rand.NewPCG(15, uint64(i)))}
		all[i] = m.exchange(i)
		a.made[all[i].target] = all[i]
	}
	type met struct{ straight, through, asked, passed message }
	seen := make([]met, n)
	var clients sync.WaitGroup
	work := make(chan int)
	for range 8 {
		clients.Go(func() {
			for i := range work {
				x, m := all[i], &seen[i]
				last := func() message {
					a.mu.Lock()
					defer a.mu.Unlock()
					m, met := a.asked[x.target]
					delete(a.asked, x.target)
					if !met {
						return message{none: true, broken: true}
					}
					return m
				}
				m.straight = ask(t, a.address, x)
				m.asked = last()
				m.through = ask(t, strings.TrimPrefix(s.url, "http://"), x)
				m.passed = last()
			}
		})
	}
	for i := range all {
		work <- i
	}
	close(work)
	clients.Wait()
	s.end()
	captures := map[string]writtenCapture{}
	for line := range bytes.Lines(s.out.Bytes()) {
		var c writtenCapture
		if err := json.Unmarshal(line, &c); err != nil {
			t.Fatal(err)
		}
		captures[strings.TrimPrefix(c.Request.URL, "http://"+a.address)] = c
	}
	broken, statuses, failed, missing := 0, map[int]bool{}, 0, 0
	for i, x := range all {
		m := seen[i]
		statuses[status(m.straight.start)] = true
		if m.straight.broken {
			broken++
		}
		var wrong []string
		wrong = append(wrong, differing("the API", m.asked, m.passed, x)...)
		wrong = append(wrong, differing("the client", m.straight, m.through, x)...)
		c, ok := captures[x.target]
		if ok {
			wrong = append(wrong, kept(c, m.asked, m.through, x)...)
		} else {
			missing++
		}
		if len(wrong) > 0 {
			if failed++; failed <= 12 {
				t.Errorf("exchange %d: %s\nrequest %.300q\nanswer %.300q", i, strings.Join(wrong, "\n  "), x.request,
					x.answer)
			}
		}
	}
	if failed > 0 {
		t.Errorf("%d of %d differ", failed, n)
	}
	if dropped := s.Counts().Dropped; int64(missing) != dropped || missing > n/2 {
		t.Errorf("%d captures are missing, and %d are said to be dropped", missing, dropped)
	}
	if broken < n/30 || len(statuses) < 30 {
		t.Errorf("only %d of %d answers are broken, and %d statuses come", broken, n, len(statuses))
	}
	t.Logf("%d exchanges, %d of them broken; statuses %v", n, broken, slices.Sorted(maps.Keys(statuses)))
}

// differing describes what one side saw differently through the recorder.
func differing(side string, straight, through message, x made) (wrong []string) {
	say := func(format string, args ...any) { wrong = append(wrong, side+": "+fmt.Sprintf(format, args...)) }
	if x.cut { // the API must not take it for whole; what it answers then is its own affair
		if side == "the API" && (!straight.broken || !through.broken || !bytes.HasPrefix(straight.body, through.body) &&
			!bytes.HasPrefix(through.body, straight.body)) {
			say("a request that is cut arrives as whole, or as another: %v %v", straight.broken, through.broken)
		}
		return wrong
	}
	if side == "the client" {
		if unread(x.answer) { // no answer of HTTP: the recorder says so
			if status(through.start) != 502 && !through.broken {
				say("an answer that is none comes as %q", through.start)
			}
			return wrong
		}
		if x.reset { // how much of it arrives is up to the system
			if !through.broken && status(through.start) != 502 && !bytes.Equal(straight.body, through.body) {
				say("a reset passes for the end")
			}
			return wrong
		}
	}
	if a, b := straight.start, through.start; side == "the API" && a != b || status(a) != status(b) {
		say("%q becomes %q", a, b)
	}
	if a, b := straight.passed(), through.passed(); !slices.Equal(a, b) {
		say("of the fields %.200q are lost, %.200q are new", less(a, b), less(b, a))
	}
	if !bytes.Equal(straight.body, through.body) {
		say("a body of %d bytes becomes one of %d", len(straight.body), len(through.body))
	}
	if straight.broken != through.broken {
		say("broken %v becomes %v", straight.broken, through.broken)
	}
	if !straight.broken && !slices.Equal(straight.trailers, through.trailers) {
		say("the trailers %q become %q", straight.trailers, through.trailers)
	}
	if !slices.Equal(straight.interim, through.interim) {
		say("the interim answers %q become %q", straight.interim, through.interim)
	}
	if a, has := straight.field("content-length"); has && side == "the client" {
		if b, _ := through.field("content-length"); a != b && status(straight.start) != 204 {
			say("a length of %s becomes %q", a, b)
		}
	}
	return wrong
}

// less returns what a has and b has not.
func less(a, b []string) []string {
	b = slices.Clone(b)
	return slices.DeleteFunc(slices.Clone(a), func(one string) bool {
		at := slices.Index(b, one)
		if at >= 0 {
			b = slices.Delete(b, at, at+1)
		}
		return at >= 0
	})
}

// sound matches the first line of an answer.
var sound = regexp.MustCompile(`^HTTP/1\.\d \d{3}(?: |$)`)

// unread reports whether an answer cannot be read as one of HTTP by the library's reader.
func unread(answer string) bool {
	head, _, whole := strings.Cut(answer, "\r\n\r\n")
	if strings.HasPrefix(answer, "HTTP/1.1 10") && whole {
		_, rest, _ := strings.Cut(answer, "\r\n\r\n")
		return unread(rest)
	}
	if !whole {
		return true
	}
	lines := strings.Split(head, "\r\n")
	if s := status(lines[0]); s < 100 || s > 999 || !sound.MatchString(lines[0]) {
		return true
	}
	for _, f := range lines[1:] {
		if strings.Contains(f, "\x00\xffzz") {
			return true
		}
	}
	return false
}

// kept describes where a capture differs from what the API was asked and the client got.
func kept(c writtenCapture, asked, got message, x made) (wrong []string) {
	say := func(format string, args ...any) { wrong = append(wrong, "the capture: "+fmt.Sprintf(format, args...)) }
	if x.cut {
		if c.Incomplete == "" && c.Response.Missing == "" {
			say("a request that is cut passes for whole")
		}
		return wrong
	}
	if c.Request.Method != x.method {
		say("method %s", c.Request.Method)
	}
	if a, b := asked.passed("host"), fieldsOf(c.Request.Headers); !slices.Equal(a, b) {
		say("of the fields of the request %.200q are lost, %.200q are new", less(a, b), less(b, a))
	}
	if body := append(c.Request.Base64, c.Request.Body...); !bytes.Equal(body, asked.body) {
		say("of a request of %d bytes it has %d", len(asked.body), len(body))
	}
	if c.Response.Missing != "" {
		if status(got.start) != 502 {
			say("an answer of %s is missing: %s", got.start, c.Response.Missing)
		}
		return wrong
	}
	if x.reset {
		return wrong
	}
	if c.Response.Status != status(got.start) {
		say("status %d", c.Response.Status)
	}
	if a, b := got.passed(), fieldsOf(c.Response.Headers); !slices.Equal(a, b) {
		say("of the fields of the answer %.200q are lost, %.200q are new", less(a, b), less(b, a))
	}
	if body := append(c.Response.Base64, c.Response.Body...); !bytes.Equal(body, got.body) {
		say("of an answer of %d bytes it has %d", len(got.body), len(body))
	}
	if got.broken != (c.Incomplete != "") {
		say("broken %v, and it says %q", got.broken, c.Incomplete)
	}
	return wrong
}
