package exchange

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Long is a body that does not fit in memory. It is evaluated while it is read, and can be opened any number of
// times.
type Long struct {
	open   func() io.Reader
	header Header
}

// NewLong returns a body whose encoded bytes open returns. The header fields must not be changed afterwards.
func NewLong(open func() io.Reader, header Header) *Long { return &Long{open, header} }

// MaxLong limits how many bytes of a long body are read.
const MaxLong = 16 << 30

// longHead is how much of a body is inspected to see whether it is still encoded.
const longHead = 4096

// ReadableLong returns why a long body of a media type cannot be evaluated; nil if it can.
func ReadableLong(contentType string) error {
	if kind, name := mediaOf(contentType); kind != isJSON {
		return fmt.Errorf("over %d MiB, JSON alone is read, and this is %s", MaxBody>>20, name)
	}
	if charset := parameter(contentType, "charset"); charset != "" && !strings.EqualFold(charset, "utf-8") {
		return fmt.Errorf("over %d MiB, UTF-8 alone is read, and this is %s", MaxBody>>20, charset)
	}
	return nil
}

// Open returns the body's decoded text. The caller must close it.
func (l *Long) Open() (io.ReadCloser, error) {
	b := bufio.NewReaderSize(l.open(), longHead)
	head, _ := b.Peek(longHead)
	var all closers
	r := io.Reader(b)
	if codings := l.header.Get("Content-Encoding"); StillCoded(head, codings) {
		names := strings.Split(codings, ",")
		if len(names) > maxCodings {
			return nil, fmt.Errorf("%d content codings are stacked, more than the %d that are undone", len(names),
				maxCodings)
		}
		for i := len(names) - 1; i >= 0; i-- {
			name := strings.ToLower(strings.TrimSpace(names[i]))
			next, err := decoder(name, r)
			if err != nil {
				return nil, fmt.Errorf("content coding %s: %w", name, err)
			}
			if next == nil {
				continue
			}
			if c, ok := next.(io.Closer); ok {
				all = append(all, c)
			}
			r = next
		}
		b = bufio.NewReaderSize(r, longHead)
		r = b
	}
	if mark, _ := b.Peek(3); string(mark) == "\xEF\xBB\xBF" {
		b.Discard(3)
	}
	return &bounded{r, MaxLong, all}, nil
}

type closers []io.Closer

// bounded fails after a number of bytes.
type bounded struct {
	io.Reader
	left int64
	all  closers
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, ErrTooLarge
	}
	n, err := b.Reader.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

func (b *bounded) Close() error {
	var failed error
	for i := len(b.all) - 1; i >= 0; i-- {
		failed = errors.Join(failed, b.all[i].Close())
	}
	return failed
}
