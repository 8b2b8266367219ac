// Package intake reads recorded traffic, one file a format, each a stream of
// captures. A recording is never held in memory whole.
package intake

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"

	"inkret/core/exchange"
)

// Error says where a recording could not be read further. What came before it
// was handed over.
type Error struct {
	File   string
	Offset int64 // in bytes; -1 when it is not known
	Entry  int   // the entry at which it happened
	Reason string
}

func (e *Error) Error() string {
	if e.Offset < 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Reason)
	}
	return fmt.Sprintf("%s: at byte %d, in entry %d: %s", e.File, e.Offset, e.Entry, e.Reason)
}

// Yield takes one capture. It may keep it; an error ends the reading and is
// given back as it is.
type Yield func(*exchange.Capture) error

// Read reads a recording, recognised by its content, and hands over its
// captures in order. name is what the captures' File is set to.
func Read(name string, r io.Reader, yield Yield) error {
	b := bufio.NewReaderSize(r, readAhead)
	start, err := b.Peek(sniffed)
	if err != nil && err != io.EOF && len(start) == 0 {
		return &Error{File: name, Offset: -1, Reason: "cannot be read: " + plain(err)}
	}
	if bytes.HasPrefix(start, byteOrderMark) {
		b.Discard(len(byteOrderMark))
		start = start[len(byteOrderMark):]
	}
	start = bytes.TrimLeft(start, " \t\r\n")
	switch {
	case len(start) == 0:
		return &Error{File: name, Offset: -1, Reason: "the file is empty; a HAR 1.2 recording was expected"}
	case start[0] != '{':
		return &Error{File: name, Offset: -1, Reason: "this is no recording that is read here: HAR 1.2 begins with '{'"}
	}
	return readHAR(name, b, yield)
}

const (
	readAhead = 256 << 10
	sniffed   = 512
)

var byteOrderMark = []byte{0xEF, 0xBB, 0xBF}

// plain is an error's text without the file name that os puts before it.
func plain(err error) string {
	for {
		inner := errors.Unwrap(err)
		if inner == nil {
			return err.Error()
		}
		err = inner
	}
}
