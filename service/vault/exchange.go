package vault

import (
	"encoding/json"
	"errors"
	"maps"
	"net/url"

	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exchange"
	"inkret/core/graph"
	"inkret/core/shown"
	"inkret/store"
)

// Outline removes the bodies, credentials and values from what is sealed, and returns what is left of it.
func (e *Exchange) Outline(contracts *contract.Contracts) string {
	if a, by := contracts.AudienceOf("", &exchange.Request{Header: e.RequestHeader}); by == contract.Recognised {
		e.Caller = a.Name
	}
	media, set := e.ResponseHeader.Get("Content-Type"), contracts.Recognised()
	isData := func(name []byte) bool { return set.Value(name, detect.TraitsOf(name)).Found() }
	standIn := exchange.StandIn(set.StandInOf)
	var inAddress, inBody []byte // what is asked for in GraphQL
	sent, err := url.Parse(e.URL)
	if answers := contracts.Answers(sent); err == nil && answers != nil {
		inAddress = graph.Outline("GET", sent, "", nil)
		inBody = graph.Outline("POST", &url.URL{}, e.RequestHeader.Get("Content-Type"), e.RequestBody)
		standIn = e.namesKept(answers, sent, standIn)
	}
	e.ResponseBody = exchange.Outline(media, e.ResponseBody, isData, standIn)
	e.RequestBody = exchange.Outline(e.RequestHeader.Get("Content-Type"), e.RequestBody, isData, set.StandInOf)
	masker := shown.For(contracts)
	e.RequestHeader, e.ResponseHeader = masker.Header(e.RequestHeader), masker.Header(e.ResponseHeader)
	if inBody != nil {
		e.RequestBody, e.RequestHeader = inBody, e.RequestHeader.With("Content-Type", "application/json")
	}
	if err == nil {
		u := exchange.OutlineAddress(sent, isData, set.StandIn, contracts.Chooses)
		if inAddress != nil {
			askedBy(u, inAddress)
		}
		outline, u := u.String(), sent
		e.Changed = e.Changed || outline != u.String()
		e.URL = outline
	}
	if len(e.ResponseBody) == 0 {
		return store.HoldsNothing
	}
	return store.HoldsOutline
}

// Capture rebuilds a capture from what was sealed and from its record.
func (e *Exchange) Capture(c store.Capture) (*exchange.Capture, error) {
	u, err := url.Parse(e.URL)
	if err != nil {
		return nil, errors.New("the address of a sealed capture is damaged")
	}
	out := &exchange.Capture{Entry: c.Entry, Started: c.Started, Incomplete: c.Incomplete,
		Request:  exchange.Request{Method: c.Method, URL: u, Header: e.RequestHeader, Body: e.RequestBody},
		Response: exchange.Response{Status: c.Status, Header: e.ResponseHeader, Body: e.ResponseBody}}
	if c.AudienceBy == contract.Said {
		out.Audience = c.Audience
	}
	if c.Holds != store.HoldsBodies { // its credentials are masked, too
		out.Outlined, out.Caller = c.Holds == store.HoldsOutline, e.Caller
		out.Who, out.Holder, out.Theirs = e.Who, e.Holder, e.Theirs
	}
	return out, nil
}

// namesKept returns stand-ins that keep what judging a result needs and what is no value: the names of types, and in
// the paths of errors the names that the query gives.
func (e *Exchange) namesKept(answers *contract.Endpoint, u *url.URL, standIn exchange.StandIn) exchange.StandIn {
	keys := graph.Keys("GET", u, "", nil)
	maps.Copy(keys, graph.Keys("POST", &url.URL{}, e.RequestHeader.Get("Content-Type"), e.RequestBody))
	return func(member, value []byte) []byte {
		switch {
		case member == nil:
		case answers.HasType(string(value)), string(member) == "path" && keys[string(value)]:
			return value
		}
		return standIn(member, value)
	}
}

// askedBy puts the outline of a query into an address.
func askedBy(u *url.URL, asks []byte) {
	var request struct {
		Query     string `json:"query"`
		Operation string `json:"operationName"`
	}
	if json.Unmarshal(asks, &request) != nil {
		return
	}
	values := u.Query()
	values.Set("query", request.Query)
	if request.Operation != "" {
		values.Set("operationName", request.Operation)
	}
	u.RawQuery = values.Encode()
}
