// Package intake reads recorded traffic, one file per format, as a stream of captures. Recordings are never held in
// memory as a whole.
package intake

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"inkret/core/exchange"
)

// Error says where a recording became unreadable. Captures before that were handed over.
type Error struct {
	File   string
	Offset int64 // in bytes; -1 when it is not known
	Entry  int   // the entry at which it happened
	Reason string

	Unknown bool // it is no recording at all
}

func (e *Error) Error() string {
	if e.Offset < 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Reason)
	}
	return fmt.Sprintf("%s: at byte %d, in entry %d: %s", e.File, e.Offset, e.Entry, e.Reason)
}

// Yield receives one capture, which it may keep. An error ends reading and is returned unchanged.
type Yield func(*exchange.Capture) error

// Options add what a recording does not say itself.
type Options struct {
	// Request is the request of responses recorded alone, or nil. With it, what is no recording is read as the body
	// of a response with status 200.
	Request *exchange.Request
	// Long hands over bodies that do not fit in memory as [exchange.Long], if the recording is an uncompressed
	// file. The file must stay open until they are evaluated.
	Long bool
	// Beside holds the files that a recording may refer to for bodies (content._file of a HAR), or nil. In a zip
	// file, its own files are used.
	Beside fs.FS
}

// Read reads a recording, recognises its format by its content, and hands over its captures in order. name becomes
// the captures' File; in an archive it is followed by a slash and the inner name.
//
// It reads HAR 1.2, HTTP messages (RFC 9112), WARC 1.1 (ISO 28500) and capture lines ([Append]), each optionally
// compressed with gzip, zstd or zip; and a body alone, if [Options.Request] says what was asked.
func Read(name string, r io.Reader, o Options, yield Yield) error {
	in := &reading{Options: o, yield: yield}
	err := in.read(name, r, 0)
	var stop errStop
	if errors.As(err, &stop) {
		return stop.error
	}
	return err
}

// reading is the state of reading one recording, including what is compressed in it.
type reading struct {
	Options
	yield    Yield
	unpacked int64 // bytes that came out of what was packed
}

// errStop wraps errors of Yield, to tell them from errors of the file.
type errStop struct{ error }

// hand hands over a capture.
func (in *reading) hand(name string, entry int, c *exchange.Capture) error {
	c.File, c.Entry = name, entry
	if err := in.yield(c); err != nil {
		return errStop{err}
	}
	return nil
}

// maxPacking limits how many times a recording may be compressed.
const maxPacking = 4

func (in *reading) read(name string, r io.Reader, packing int) error {
	b := bufio.NewReaderSize(r, readAhead)
	start, err := b.Peek(sniffed)
	if errors.Is(err, io.ErrUnexpectedEOF) && len(start) == 0 {
		return &Error{File: name, Offset: -1, Reason: "the file ends in the middle"}
	}
	if err != nil && err != io.EOF && len(start) == 0 {
		return &Error{File: name, Offset: -1, Reason: "cannot be read: " + plain(err)}
	}
	if unpack := packingOf(start); unpack != nil {
		if packing == maxPacking {
			return &Error{File: name, Offset: -1, Reason: fmt.Sprintf("it is packed more than %d times over",
				maxPacking)}
		}
		if at, ok := r.(readerAt); ok { // a file is unpacked where it lies
			return unpack(in, name, at, packing+1)
		}
		return unpack(in, name, b, packing+1)
	}
	// as written by a shell's redirection
	if bytes.HasPrefix(start, []byte{0xFF, 0xFE}) || bytes.HasPrefix(start, []byte{0xFE, 0xFF}) {
		return in.read(name, transform.NewReader(b, unicode.UTF16(unicode.LittleEndian,
			unicode.ExpectBOM).NewDecoder()), packing)
	}
	lies := in.lying(r)
	if bytes.HasPrefix(start, byteOrderMark) {
		b.Discard(len(byteOrderMark))
		start = start[len(byteOrderMark):]
		lies.from += int64(len(byteOrderMark))
	}
	start = bytes.TrimLeft(start, " \t\r\n")
	line, ends := isLine(start)
	if ends { // a long member stands before those that tell
		start, _ = b.Peek(readAhead)
		start = bytes.TrimLeft(start, " \t\r\n")
		line, _ = isLine(start)
	}
	switch {
	case in.isBare(start, line):
		return in.bare(name, b)
	case len(start) == 0:
		return &Error{File: name, Offset: -1, Reason: "the file is empty; a recording was expected", Unknown: true}
	case bytes.HasPrefix(start, warcStart):
		return in.warc(name, b, lies)
	case isStartLine(start):
		return in.messages(name, b, lies)
	case line:
		return in.lines(name, b)
	case start[0] == '{':
		return in.har(name, b)
	}
	return &Error{File: name, Offset: -1, Unknown: true,
		Reason: "this is no recording that is read here: HAR 1.2, HTTP messages, WARC and capture lines are, also " +
			"packed with gzip, zstd or zip"}
}

const (
	readAhead = 256 << 10
	sniffed   = 2048
)

var byteOrderMark = []byte{0xEF, 0xBB, 0xBF}

// plain returns an error's text without the file name that os adds.
func plain(err error) string {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err.Error()
		}
		err = inner
	}
}
