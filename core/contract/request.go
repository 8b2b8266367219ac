package contract

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"inkret/core/exchange"
)

// Requests returns requests that match an endpoint: one without conditions, and one for each response's conditions.
// base is a server address.
func (e *Endpoint) Requests(base *url.URL) []exchange.Request {
	_, template, _ := strings.Cut(e.Text, " ")
	path := parameter.ReplaceAllString(template, "7")
	one := func() exchange.Request {
		u := *base
		u.Path = strings.TrimRight(base.Path, "/") + path
		return exchange.Request{Method: e.Method, URL: &u}
	}
	all := []exchange.Request{one()}
	met := map[string]bool{}
	responses := append(append([]*Response{}, e.Responses...), e.Accepts...)
	if e.all != nil {
		responses = append(responses, e.all.Responses...)
	}
	for _, r := range responses {
		if len(r.When) == 0 {
			continue
		}
		request, key := one(), ""
		body := map[string]any{}
		for _, c := range r.When {
			value := "x"
			if len(c.values) > 0 && c.values[0] != "*" {
				value = c.values[0]
			}
			key += c.in + " " + c.name + " " + value + "\n"
			switch c.in {
			case "query":
				q := request.URL.Query()
				q.Set(c.name, value)
				request.URL.RawQuery = q.Encode()
			case "header":
				request.Header = append(request.Header, exchange.HeaderField{Name: c.name, Value: value})
			case "body":
				body[strings.TrimPrefix(c.name, "/")] = value
			}
		}
		if len(body) > 0 {
			request.Body, _ = json.Marshal(body) // texts alone
			request.Header = append(request.Header, exchange.HeaderField{Name: "Content-Type",
				Value: "application/json"})
		}
		if !met[key] {
			met[key] = true
			all = append(all, request)
		}
	}
	return all
}

// Situations returns the exchanges, without bodies, that endpoints with one template distinguish: each request of
// [Endpoint.Requests] with each usual status. For an entry such as 2XX it uses the usual codes of the method (RFC
// 9110), and another code if the endpoint lists all of them separately.
func Situations(base *url.URL, same ...*Endpoint) []exchange.Capture {
	method := "GET"
	codes := map[int]bool{418: true}
	var requests []exchange.Request
	var media []string
	met := map[string]bool{}
	for _, e := range same {
		method = e.Method
		entries := map[string]int{}
		for _, r := range slices.Concat(e.Responses, e.all.Responses) {
			for _, s := range r.Statuses {
				entries[s] = 0
			}
			for _, c := range r.When {
				if c.in == "media" && len(c.values) > 0 && c.values[0] != "*" {
					media = append(media, c.values[0])
				}
			}
		}
		for s := range entries {
			named := true
			for _, code := range usual(s, method) {
				if _, is := entries[strconv.Itoa(code)]; !is || s == strconv.Itoa(code) {
					named, codes[code] = false, true
				}
			}
			if named {
				codes[example(s, entries)] = true
			}
		}
		for _, r := range e.Requests(base) {
			key := fmt.Sprint(r.URL.RawQuery, r.Header, string(r.Body))
			if !met[key] {
				met[key] = true
				requests = append(requests, r)
			}
		}
	}
	codes[usual("default", method)[0]] = true
	media = slices.Compact(slices.Sorted(slices.Values(append(media, "application/json"))))
	var all []exchange.Capture
	for _, r := range requests {
		for _, code := range slices.Sorted(maps.Keys(codes)) {
			for _, m := range media {
				all = append(all, exchange.Capture{Request: r, Response: exchange.Response{Status: code,
					Header: exchange.Header{{Name: "Content-Type", Value: m}}}})
			}
		}
	}
	return all
}

// usual lists the codes that stand for an entry of statuses.
func usual(entry, method string) []int {
	fine := []int{200}
	if method != "GET" && method != "HEAD" {
		fine = []int{200, 201}
	}
	switch entry {
	case "2XX":
		return fine
	case "1XX":
		return []int{103}
	case "3XX":
		return []int{302}
	case "4XX":
		return []int{400, 404}
	case "5XX":
		return []int{500}
	case "default":
		return append(fine, 404, 500)
	}
	code, _ := strconv.Atoi(entry) // read as one before
	return []int{code}
}

// Callers returns copies of a request as sent by all callers that the given contracts distinguish, or might:
// nobody, somebody unknown, each audience with each recognising value and with another one, and two audiences at
// once. Of the callers that all contracts take for the same audience, it keeps one.
func Callers(r exchange.Request, states ...*Contracts) []exchange.Request {
	var marks [][]exchange.HeaderField
	for _, c := range states {
		for _, a := range c.Audiences {
			marks = append(marks, a.marks()...)
		}
	}
	bare := len(marks)
	for i := range bare {
		for k := range i {
			marks = append(marks, slices.Concat(marks[i], marks[k]))
		}
	}
	marks = append([][]exchange.HeaderField{nil, {{Name: "Authorization", Value: "Bearer opaque-7"}}}, marks...)
	var all []exchange.Request
	met := map[string]bool{}
	for _, m := range marks[:min(len(marks), mostCallers)] {
		one := r
		u := *r.URL
		one.URL, one.Header = &u, append(slices.Clone(r.Header), m...)
		taken := ""
		for _, c := range states {
			if a, by := c.AudienceOf("", &one); a != nil {
				taken += a.Name + " " + by
			}
			taken += "\n"
		}
		if !met[taken] {
			met[taken] = true
			all = append(all, one)
		}
	}
	return all
}

// mostCallers limits the callers that are tried.
const mostCallers = 2000

// marks are sets of header fields that show an audience, or almost do: each recognising value, and another value.
func (a *Audience) marks() [][]exchange.HeaderField {
	all := [][]exchange.HeaderField{nil}
	cross := func(m *Match, field func(value string) exchange.HeaderField) {
		if m == nil {
			return
		}
		var more [][]exchange.HeaderField
		for _, value := range append(slices.Clone(m.Values), "another-7") {
			if value == "*" {
				value = "7"
			}
			for _, before := range all[:min(len(all), 16)] {
				more = append(more, append(slices.Clone(before), field(value)))
			}
		}
		all = more
	}
	cross(a.Recognise.Claim, func(value string) exchange.HeaderField {
		m := a.Recognise.Claim
		all := map[string]any{m.Name: value, "sub": "7"}
		if steps := strings.Split(m.Name, "/"); steps[0] == "" && len(steps) > 1 { // a pointer
			var inner any = value
			for i := len(steps) - 1; i > 0; i-- {
				inner = map[string]any{strings.NewReplacer("~1", "/", "~0", "~").Replace(steps[i]): inner}
			}
			all = inner.(map[string]any)
		}
		claims, _ := json.Marshal(all) // texts alone
		b64 := base64.RawURLEncoding
		token := b64.EncodeToString([]byte(`{"alg":"none"}`)) + "." + b64.EncodeToString(claims) + ".c2ln"
		switch {
		case m.FromCookie != "":
			return exchange.HeaderField{Name: "Cookie", Value: m.FromCookie + "=" + token}
		case m.FromHeader != "":
			return exchange.HeaderField{Name: m.FromHeader, Value: token}
		}
		return exchange.HeaderField{Name: "Authorization", Value: "Bearer " + token}
	})
	cross(a.Recognise.Header, func(value string) exchange.HeaderField {
		return exchange.HeaderField{Name: a.Recognise.Header.Name, Value: value}
	})
	cross(a.Recognise.Cookie, func(value string) exchange.HeaderField {
		return exchange.HeaderField{Name: "Cookie", Value: a.Recognise.Cookie.Name + "=" + value}
	})
	return all
}

// Base returns the URL of a server.
func (s *Server) Base() *url.URL {
	return &url.URL{Scheme: s.Scheme, Host: s.Host + ":" + s.Port,
		Path: strings.TrimRight("/"+strings.Join(s.Path, "/"), "/")}
}
