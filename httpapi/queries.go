package httpapi

import (
	"context"
	"net/url"
	"strings"

	"inkret/service/base"
)

// personOf returns the id of a person named as `me` or by e-mail address.
func (h *frame) personOf(ctx context.Context, who string) (int64, error) {
	if who == "me" {
		return callerOf(ctx).ID, nil
	}
	p, err := h.service.Base.PersonByEmail(ctx, who)
	return p.ID, err
}

// queryFilter parses a filter that is written as the query of a list of findings.
func (h *frame) queryFilter(ctx context.Context, query string) (base.FindingFilter, error) {
	q, err := url.ParseQuery(strings.TrimPrefix(query, "?"))
	if err != nil {
		return base.FindingFilter{}, invalid("the filter is no query: " + err.Error())
	}
	return h.service.Findings.Filter(ctx, callerOf(ctx), q)
}
