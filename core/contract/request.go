package contract

import (
	"encoding/base64"
	"encoding/json"
	"net/url"
	"strings"

	"inkret/core/exchange"
)

// Requests gives requests that come to an endpoint: one without conditions, and one for each response's conditions.
// base is the URL of a server.
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
			request.Header = append(request.Header, exchange.HeaderField{Name: "Content-Type", Value: "application/json"})
		}
		if !met[key] {
			met[key] = true
			all = append(all, request)
		}
	}
	return all
}

// Dress makes a request look like one of an audience, as far as it is recognised by what a request carries.
func (a *Audience) Dress(r *exchange.Request) {
	value := func(m *Match) string {
		if len(m.Values) > 0 && m.Values[0] != "*" {
			return m.Values[0]
		}
		return "7"
	}
	if m := a.Recognise.Claim; m != nil {
		claims, _ := json.Marshal(map[string]string{m.Name: value(m), "sub": "7"}) // texts alone
		b64 := base64.RawURLEncoding
		token := b64.EncodeToString([]byte(`{"alg":"none"}`)) + "." + b64.EncodeToString(claims) + ".c2ln"
		r.Header = append(r.Header, exchange.HeaderField{Name: "Authorization", Value: "Bearer " + token})
	}
	if m := a.Recognise.Header; m != nil {
		r.Header = append(r.Header, exchange.HeaderField{Name: m.Name, Value: value(m)})
	}
	if m := a.Recognise.Cookie; m != nil {
		r.Header = append(r.Header, exchange.HeaderField{Name: "Cookie", Value: m.Name + "=" + value(m)})
	}
}

// Base gives a URL that is the server's.
func (s *Server) Base() *url.URL {
	return &url.URL{Scheme: s.Scheme, Host: s.Host + ":" + s.Port, Path: strings.TrimRight("/"+strings.Join(s.Path, "/"), "/")}
}
