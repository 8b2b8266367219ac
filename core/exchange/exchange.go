// Package exchange holds recorded requests and responses ([Capture]). It decodes content codings and charsets, and
// says which bodies can be read.
package exchange

import (
	"fmt"
	"net/url"
	"strings"
	"time"
)

// Capture is one recorded exchange.
type Capture struct {
	File     string // the recording it came from; empty for a live one
	Entry    int    // its number there, from 0
	Audience string // what the importer said; empty leaves it to recognition
	Started  time.Time
	Request  Request
	Response Response

	// Incomplete says why a body is incomplete: it broke off, was cut, or is shorter than announced. The available
	// part is evaluated, but proves nothing.
	Incomplete string

	// Outlined means that the bodies are outlines (see [Outline]) whose original values are unknown. Caller is the
	// recognised audience, where the header fields no longer show it.
	Outlined bool
	Caller   string

	// Who made the request, and what it was made with, as keyed hashes, where that was found out before; 0 where not.
	Who, Holder uint64
	Theirs      []string // pointers of records that are somebody else's, where the bodies are outlines

	// ByType means that the body holds an object of each type under the type's name. It is no result of a query that
	// anybody made: contracts are compared by such.
	ByType bool
}

// Request is the recorded request.
type Request struct {
	Method string
	URL    *url.URL
	Header Header
	Body   []byte
}

// Response is the recorded response. Body is decoded and UTF-8; Missing says why an expected body is missing.
type Response struct {
	Status  int
	Header  Header
	Body    []byte
	Long    *Long // in place of Body, where that would be too long to be held
	Missing string
}

// ParseRequest parses a method and an address, as in "GET https://api.example/v1", or an address alone for GET.
func ParseRequest(text string) (*Request, error) {
	method, address, ok := strings.Cut(strings.TrimSpace(text), " ")
	if !ok {
		method, address = "GET", method
	}
	u, err := url.Parse(strings.TrimSpace(address))
	if err != nil || u.Host == "" || method == "" || strings.Trim(method, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") != "" {
		return nil, fmt.Errorf("%q is no request; one is written GET https://api.example/v1/berths", text)
	}
	return &Request{Method: method, URL: u}, nil
}

// Credentials reports whether the request has an Authorization or Cookie field.
func (r *Request) Credentials() bool {
	_, auth := r.Header.Find("Authorization")
	_, cookie := r.Header.Find("Cookie")
	return auth || cookie
}

// Preflight reports whether the request is a CORS preflight (Fetch standard,
// section 3.2.2).
func (r *Request) Preflight() bool {
	_, asks := r.Header.Find("Access-Control-Request-Method")
	return r.Method == "OPTIONS" && asks
}
