package intake

import (
	"io"
	"os"
)

// Kept is a stream that can be read again, such as standard input. While it is read first, an encrypted copy goes to
// a temporary file without a name, whose key exists only in memory.
type Kept struct {
	file   *os.File
	copied *scrambled
	stream io.Reader // nil once it was read
}

// Keep returns a stream that can be read again.
func Keep(r io.Reader) (*Kept, error) {
	f, err := os.CreateTemp("", "inkret-*")
	if err != nil {
		return nil, err
	}
	os.Remove(f.Name())
	s, err := newScrambled(f)
	if err != nil {
		f.Close()
		return nil, err
	}
	return &Kept{file: f, copied: s, stream: r}, nil
}

// Read returns the stream from its beginning.
func (k *Kept) Read() io.Reader {
	if k.stream != nil {
		first := io.TeeReader(k.stream, k.copied)
		k.stream = nil
		return first
	}
	return io.NewSectionReader(k.copied, 0, k.copied.end)
}

// Close deletes the copy.
func (k *Kept) Close() error { return k.file.Close() }
