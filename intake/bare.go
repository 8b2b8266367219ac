package intake

import (
	"bufio"
	"bytes"
	"io"
	"net/http"
	"regexp"
	"strings"

	"inkret/core/exchange"
)

// harStart matches the beginning of a HAR as it is usually written.
var harStart = regexp.MustCompile(`^\{\s*"log"\s*:\s*\{`)

// isBare reports whether a recording is nothing but the body of a response whose request is said: it begins like no
// recording.
func (in *reading) isBare(start []byte, line bool) bool {
	return in.Request != nil && !line && len(start) > 0 && !bytes.HasPrefix(start, warcStart) && !isStartLine(start) &&
		!harStart.Match(start)
}

// bare reads a body that stands alone. Its status is taken to be 200, and its media type is told by its content.
func (in *reading) bare(name string, b *bufio.Reader) error {
	body, err := io.ReadAll(io.LimitReader(b, exchange.MaxBody+1))
	if err != nil {
		return &Error{File: name, Offset: int64(len(body)), Reason: "cannot be read: " + plain(err)}
	}
	c := &exchange.Capture{Request: *in.Request, Response: exchange.Response{Status: http.StatusOK}}
	for _, words := range []string{"text/html", "text/xml"} {
		if strings.HasPrefix(http.DetectContentType(body), words) {
			c.Response.Header = exchange.Header{{Name: "Content-Type", Value: words}}
		}
	}
	if len(body) > exchange.MaxBody {
		c.Response.Missing = exchange.ErrTooLarge.Error()
	} else {
		c.Response.Receive(body)
	}
	return in.hand(name, 0, c)
}
