package intake

import (
	"bufio"
	"io"
	"net/http/httputil"

	"inkret/core/exchange"
)

// lying is a recording that lies in a file, so that what it holds can be read where it
// stands, and again. Its file is nil where it does not.
type lying struct {
	file io.ReaderAt
	from int64 // where its first byte that is read stands
}

// lying gives where a recording lies that r begins to read.
func (in *reading) lying(r io.Reader) lying {
	if at, ok := r.(readerAt); ok && in.Long {
		return lying{file: at}
	}
	return lying{}
}

// longHeld is how long a body is held that can be read where it lies.
const longHeld = 8 << 20

// held gives how many bytes are held of a message with this head.
func (l *lying) held(h *head) int64 {
	if l.file == nil || exchange.ReadableLong(h.header.Get("Content-Type")) != nil {
		return maxEntry
	}
	return longHeld
}

// body gives the n bytes at a place as a body that is read from there.
func (l *lying) body(at, n int64, h *head, chunked bool) *exchange.Long {
	return exchange.NewLong(func() io.Reader {
		r := io.Reader(io.NewSectionReader(l.file, l.from+at, n))
		if chunked {
			return httputil.NewChunkedReader(bufio.NewReaderSize(r, readAhead))
		}
		return r
	}, h.header)
}
