package intake

import (
	"bufio"
	"io"
	"net/http/httputil"

	"inkret/core/exchange"
)

// lying is a recording in a file, whose contents can be read in place and again. Its file is nil otherwise.
type lying struct {
	file io.ReaderAt
	from int64 // where its first byte that is read stands
}

// lying returns the file and position of r, if it is a file.
func (in *reading) lying(r io.Reader) lying {
	if at, ok := r.(readerAt); ok && in.Long {
		return lying{file: at}
	}
	return lying{}
}

// longHeld is the size up to which bodies in a file are held in memory.
const longHeld = 8 << 20

// held returns how many bytes of a message with this head are held.
func (l *lying) held(h *head) int64 {
	if l.file == nil || exchange.ReadableLong(h.header.Get("Content-Type")) != nil {
		return maxEntry
	}
	return longHeld
}

// body returns the n bytes at a position as a body that is read from the file.
func (l *lying) body(at, n int64, h *head, chunked bool) *exchange.Long {
	return exchange.NewLong(func() io.Reader {
		r := io.Reader(io.NewSectionReader(l.file, l.from+at, n))
		if chunked {
			return httputil.NewChunkedReader(bufio.NewReaderSize(r, readAhead))
		}
		return r
	}, h.header)
}
