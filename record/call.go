package record

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"inkret/core/exchange"
)

// call is a call that is passing through.
type call struct {
	*Recorder
	two      bool // the client speaks HTTP/2
	copied   bool
	broken   atomic.Bool // the request's body could not be read
	closing  bool        // the answer says that the connection closes
	brief    bool        // memory was short when it began
	trailer  http.Header // of the request, when its body has been read; nil if it can have none
	capture  exchange.Capture
	request  copied
	response copied
	held     atomic.Int64 // memory that its copies take
	starved  atomic.Bool  // there was not enough of it
	ended    sync.Once
}

// begin records the request.
func (c *call) begin(r *http.Request) {
	c.capture.Started, c.capture.Audience = time.Now(), c.options.Audience
	c.capture.Request = exchange.Request{Method: r.Method, URL: c.address(r.URL), Header: headerOf(r.Header)}
	c.request.call, c.response.call = c, c
	c.brief = c.pressed.Load()
	c.take(headSize + sizeOf(c.capture.Request.Header) + int64(len(r.RequestURI)))
	if r.Body != nil && r.Body != http.NoBody {
		c.request.source = r.Body
		r.Body = &c.request
	}
}

// address returns the URL for the capture.
func (c *call) address(u *url.URL) *url.URL {
	base := c.options.Upstream
	if c.options.As != nil {
		base = c.options.As
	}
	out := *u
	out.Scheme, out.Host, out.User, out.Fragment = base.Scheme, base.Host, nil, ""
	if prefix := strings.TrimRight(base.Path, "/"); prefix != "" {
		out.Path = prefix + u.Path
		out.RawPath = ""
		if u.RawPath != "" {
			out.RawPath = strings.TrimRight(base.EscapedPath(), "/") + u.RawPath
		}
	}
	return &out
}

// take reserves memory, if there is any left.
func (c *call) take(n int64) bool {
	if c.memory.Add(n) > c.options.Memory {
		c.memory.Add(-n)
		c.starved.Store(true)
		return false
	}
	c.held.Add(n)
	return true
}

// sizeOf estimates the memory of header fields.
func sizeOf(h exchange.Header) int64 {
	n := 0
	for _, f := range h {
		n += len(f.Name) + len(f.Value)
	}
	return int64(n)
}

// room reports whether a copy may take another block: as much as the other copies left free, so that many copies
// share the memory evenly and there is always some for a new one (dynamic thresholds: Choudhury and Hahne 1998).
//
// After memory ran out once, new calls get one block each until an eighth is free again: a body that could not be
// copied completely is not copied at all.
func (c *call) room(size int) bool {
	if c.starved.Load() || c.brief && size > 0 {
		return false
	}
	if int64(size+blockSize) <= c.options.Memory-c.memory.Load() && c.take(blockSize) {
		return true
	}
	c.pressed.Store(true)
	return false
}

// giveBack releases memory.
func (r *Recorder) giveBack(n int64) {
	if left := r.memory.Add(-n); left < r.options.Memory-r.options.Memory/8 && r.pressed.Load() {
		r.pressed.Store(false)
	}
}

// end hands the call on, once.
func (c *call) end() {
	c.ended.Do(func() {
		c.request.stop()
		c.response.stop()
		if !c.starved.Load() {
			select {
			case c.calls <- c:
				c.counts.captured.Add(1)
				return
			default:
			}
		}
		c.release()
		c.counts.dropped.Add(1)
	})
}

// release releases the memory of the copies.
func (c *call) release() {
	c.request.release()
	c.response.release()
	c.giveBack(c.held.Load())
}

// blockSize is the unit of memory for copies.
const blockSize = 8 << 10

// blocks is the pool of free blocks. The last one released is used first, because it is still in the processor's
// cache, and steady traffic creates no garbage.
var blocks freeList

type block [blockSize]byte

type freeList struct {
	mu   sync.Mutex
	free []*block
}

// mostFree limits the pool, in blocks.
const mostFree = 64 << 20 / blockSize

func (l *freeList) get() *block {
	l.mu.Lock()
	defer l.mu.Unlock()
	last := len(l.free) - 1
	if last < 0 {
		return new(block)
	}
	b := l.free[last]
	l.free = l.free[:last]
	return b
}

func (l *freeList) put(all []*block) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.free = append(l.free, all[:min(len(all), mostFree-len(l.free))]...)
}

// copied is a body that is copied while it is read.
type copied struct {
	call   *call
	source io.ReadCloser
	mu     sync.Mutex // a transport may still read a request's body while its answer ends
	blocks []*block
	size   int
	closed bool // nothing is copied any more
	full   bool // it has as much as is kept
	cut    bool // for it is longer than what is kept
	whole  bool // it was read to its end
	failed bool // it could not be
}

// Read implements [io.Reader].
func (b *copied) Read(p []byte) (int, error) {
	n, err := b.source.Read(p)
	if n > 0 {
		b.add(p[:n])
	}
	if err != nil {
		b.mu.Lock()
		b.whole, b.failed = b.whole || err == io.EOF, b.failed || err != io.EOF
		b.mu.Unlock()
	}
	return n, err
}

// incomplete returns why the copy is incomplete.
func (b *copied) incomplete(which string) string {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case b.source == nil:
		return ""
	case b.cut:
		return fmt.Sprintf("the body of the %s was cut after %d bytes, as is set for recording", which, b.size)
	case b.failed:
		return "the body of the " + which + " broke off"
	case !b.whole:
		return "the body of the " + which + " was not passed on to its end"
	}
	return ""
}

// Close implements [io.Closer].
func (b *copied) Close() error { return b.source.Close() }

func (b *copied) add(p []byte) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(p) > 0 && b.full && !b.closed {
		b.cut = true
	}
	for len(p) > 0 && !b.closed && !b.full {
		at := b.size % blockSize
		if at == 0 {
			if !b.call.room(b.size) {
				b.lose()
				return
			}
			b.blocks = append(b.blocks, blocks.get())
		}
		n := copy(b.blocks[len(b.blocks)-1][at:], p[:min(len(p), b.call.options.MaxBody-b.size)])
		b.size += n
		p = p[n:]
		if b.full = b.size >= b.call.options.MaxBody; b.full && len(p) > 0 { // what follows passes through uncopied
			b.cut = true
		}
	}
}

// lose releases the copy at once; calls that cannot be kept completely are not recorded.
func (b *copied) lose() {
	b.call.starved.Store(true)
	n := int64(len(b.blocks)) * blockSize
	b.call.held.Add(-n)
	b.call.giveBack(n)
	b.release()
	b.closed = true
}

func (b *copied) stop() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.closed = true
}

// appendTo appends the copy to dst.
func (b *copied) appendTo(dst []byte) []byte {
	left := b.size
	for _, block := range b.blocks {
		n := min(left, blockSize)
		dst = append(dst, block[:n]...)
		left -= n
	}
	return dst
}

func (b *copied) release() {
	blocks.put(b.blocks)
	b.blocks, b.size = nil, 0
}

// headerOf returns header fields sorted by name; the library does not keep their order.
func headerOf(h http.Header) exchange.Header {
	out := make(exchange.Header, 0, len(h))
	for name, values := range h {
		for _, v := range values {
			out = append(out, exchange.HeaderField{Name: name, Value: v})
		}
	}
	slices.SortStableFunc(out, func(a, b exchange.HeaderField) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// buffers is the proxy's buffer pool.
type buffers struct{ pool sync.Pool }

func newBuffers() *buffers {
	return &buffers{sync.Pool{New: func() any { b := make([]byte, copySize); return &b }}}
}

// Get implements [httputil.BufferPool].
func (b *buffers) Get() []byte { return *b.pool.Get().(*[]byte) }

// Put implements [httputil.BufferPool].
func (b *buffers) Put(p []byte) { b.pool.Put(&p) }
