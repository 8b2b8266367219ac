package vault

import (
	"errors"
	"net/url"

	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exchange"
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
	e.ResponseBody = exchange.Outline(media, e.ResponseBody, isData, set.StandInOf)
	e.RequestBody = exchange.Outline(e.RequestHeader.Get("Content-Type"), e.RequestBody, isData, set.StandInOf)
	masker := shown.For(contracts)
	e.RequestHeader, e.ResponseHeader = masker.Header(e.RequestHeader), masker.Header(e.ResponseHeader)
	if u, err := url.Parse(e.URL); err == nil {
		outline := exchange.OutlineAddress(u, isData, set.StandIn, contracts.Chooses).String()
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
