package demo

import (
	"bytes"
	"context"
	"embed"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"path"
	"strings"
	"time"
)

//go:embed contracts
var contracts embed.FS

// Schema is the SQL that makes the harbour's tables.
//
//go:embed harbour.sql
var Schema string

// File is a contract file of the harbour.
type File struct{ Name, Text string }

// Contracts returns the harbour's contract files.
func Contracts() ([]File, error) {
	entries, err := contracts.ReadDir("contracts")
	if err != nil {
		return nil, err
	}
	var files []File
	for _, e := range entries {
		data, err := contracts.ReadFile(path.Join("contracts", e.Name()))
		if err != nil {
			return nil, err
		}
		files = append(files, File{e.Name(), string(data)})
	}
	return files, nil
}

// ServiceName is the name of the harbour's API in its contracts.
const ServiceName = "fennick-quay"

// host is the host name of the stand-in API in recordings.
const host = "api.fennick-quay.example"

// Servers lists the servers in the contracts; the stand-in API answers for them.
var Servers = []string{"https://" + host, "http://" + host}

// Audience is who sends the calls of a recording.
type Audience string

const (
	Visitor Audience = "visitor"
	Skipper Audience = "skipper"
	Office  Audience = "harbour-office"
)

// Audiences lists the audiences in recording order.
var Audiences = []Audience{Visitor, Skipper, Office}

type call struct {
	method, path, body string
}

// What clients ask for in GraphQL: each calls things as it likes.
const (
	findByText = `{"query":"query Find($text: String!) { search(text: $text) { __typename ` +
		`... on Berth { label price } ... on Skipper { name mail: email } } }","variables":{"text":"a"}}`
	myBooking = `{"query":"{ booking(id: 7004) { ref arrivesOn nights place: berth { label } who: skipper { ...person } } } ` +
		`fragment person on Skipper { name account { iban balance } }"}`
)

// calls lists what each audience does in a session.
func calls(a Audience) []call {
	all := []call{{"GET", "/v1/berths", ""}, {"GET", "/v1/berths/106", ""}, {"GET", "/v1/notices", ""},
		{"GET", "/v1/tides", ""}}
	switch a {
	case Visitor:
		all = append(all, call{"GET", "/v1/berths/999?notify=nell.varley@sails.example", ""},
			call{"GET", "/v1/boats/701", ""}, call{"GET", "/v1/boats/702", ""}, call{"GET", "/v1/boats/703", ""},
			call{"POST", "/v1/skippers",
				`{"name":"Nell Varley","email":"nell.varley@sails.example","password":"not-a-real-one"}`},
			call{"GET", "/v1/bookings", ""}, call{"GET", "/v1/search?q=Merrow", ""}, call{"GET", "/arrivals", ""},
			call{"POST", "/graphql", findByText})
	case Skipper:
		all = append(all, call{"GET", "/v1/bookings", ""}, call{"GET", "/v1/bookings?fields=id,ref", ""},
			// the second is another skipper's
			call{"GET", "/v1/bookings/7004", ""}, call{"GET", "/v1/bookings/7008", ""},
			call{"GET", "/v1/bookings/7016", ""}, call{"GET", "/v1/skippers/505", ""}, call{"GET", "/v1/inspections/1",
				""},
			call{"POST", "/v1/bookings",
				`{"arrives_on":"2026-07-01","leaves_on":"2026-07-03","berth_id":104,"discount":100}`},
			call{"DELETE", "/v1/bookings/7099", ""}, call{"POST", "/graphql", myBooking})
	case Office:
		all = append(all, call{"GET", "/v1/bookings", ""}, call{"GET", "/v1/bookings/7004", ""},
			call{"GET", "/v1/bookings/7008", ""}, call{"GET", "/v1/skippers/505", ""},
			call{"GET", "/v1/charges", ""}, call{"GET", "/v1/inspections/1", ""}, call{"GET", "/v1/staff", ""})
	}
	return all
}

// Credentials returns the header fields with which an audience sends its calls.
func Credentials(a Audience) http.Header {
	h := http.Header{}
	switch a {
	case Skipper:
		return skipperToken("505")
	case Office:
		h.Set("X-Desk", "2")
		h.Set("Cookie", "desk_session=made-up-for-the-demo")
	}
	return h
}

// OtherSkipper returns the header fields with which a second skipper sends calls.
func OtherSkipper() http.Header { return skipperToken("509") }

// skipperToken returns the header fields of the skipper with an id.
func skipperToken(id string) http.Header {
	h, part := http.Header{}, func(v any) string {
		data, _ := json.Marshal(v)
		return base64.RawURLEncoding.EncodeToString(data)
	}
	h.Set("Authorization", "Bearer "+part(object{"alg": "HS256", "typ": "JWT"})+"."+part(object{"sub": id,
		"role": "skipper"})+"."+base64.RawURLEncoding.EncodeToString([]byte("signature of the demo, worth nothing")))
	return h
}

func authorise(r *http.Request, a Audience) {
	for name, values := range Credentials(a) {
		r.Header[name] = values
	}
}

// Record sends the calls of an audience to the harbour at address, and writes them as HAR 1.2.
func Record(ctx context.Context, address string, a Audience, w io.Writer) error {
	client := &http.Client{Transport: &http.Transport{
		DisableCompression: true,
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, network, address)
		},
	}}
	defer client.CloseIdleConnections()
	entries := []any{}
	for _, c := range calls(a) {
		entry, err := record(ctx, client, a, c)
		if err != nil {
			return fmt.Errorf("calling the harbour: %s %s: %w", c.method, c.path, err)
		}
		entries = append(entries, entry)
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(object{"log": object{"version": "1.2", "creator": object{"name": "Inkret demo", "version": "1"},
		"entries": entries}})
}

func record(ctx context.Context, client *http.Client, a Audience, c call) (object, error) {
	r, err := http.NewRequestWithContext(ctx, c.method, "http://"+host+c.path, strings.NewReader(c.body))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "application/json")
	if c.body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	authorise(r, a)
	begun := time.Now()
	response, err := client.Do(r)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	var body bytes.Buffer
	if _, err := body.ReadFrom(response.Body); err != nil {
		return nil, err
	}
	took := float64(time.Since(begun).Microseconds()) / 1000
	request := object{"method": c.method, "url": r.URL.String(), "httpVersion": "HTTP/1.1",
		"headers": headers(r.Header), "cookies": []any{},
		"queryString": []any{}, "headersSize": -1, "bodySize": len(c.body)}
	if c.body != "" {
		request["postData"] = object{"mimeType": "application/json", "text": c.body}
	}
	return object{
		"startedDateTime": begun.UTC().Format(time.RFC3339Nano), "time": took, "cache": object{},
		"timings": object{"send": 0, "wait": took, "receive": 0}, "request": request,
		"response": object{"status": response.StatusCode, "statusText": http.StatusText(response.StatusCode),
			"httpVersion": "HTTP/1.1", "headers": headers(response.Header),
			"cookies": []any{}, "redirectURL": "", "headersSize": -1, "bodySize": body.Len(),
			"content": object{"size": body.Len(), "mimeType": response.Header.Get("Content-Type"),
				"text": body.String()}},
	}, nil
}

func headers(h http.Header) []object {
	all := []object{}
	for name, values := range h {
		for _, v := range values {
			all = append(all, object{"name": name, "value": v})
		}
	}
	return all
}
