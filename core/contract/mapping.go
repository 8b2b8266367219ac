package contract

import (
	"path"
	"strings"

	"inkret/core/document"
	"inkret/core/exchange"
)

// Mapping says which audience sent the requests of recordings that do not say so
// themselves: by the recording's name or by what the request carries. A mapping file is
//
//	audiences:
//	  - {audience: skipper, recordings: "skipper-*.har"}
//	  - {audience: harbour-office, recognise: {cookie: {name: desk_session, value: "*"}}}
//
// with `recognise` as in a contract. The first matching entry applies; without one,
// the contract's own rules do.
type Mapping struct {
	rules []mappingRule
}

type mappingRule struct {
	audience   string
	recordings []string
	recognise  *Recognise
}

// ReadMapping reads a mapping file and checks it against the audiences of c, which may be nil. The error is
// [Problems].
func ReadMapping(f File, c *Contracts) (*Mapping, error) {
	r := &reader{c: c}
	if c == nil {
		r.c = &Contracts{}
	}
	m := &Mapping{}
	root := document.Parse(f.Name, f.Data, r.fault)
	if root != nil && r.keys(root, []string{"audiences"}) {
		if list := root.Get("audiences"); list != nil {
			for _, n := range r.list(list) {
				m.add(r, n, c != nil)
			}
		} else {
			r.report(root, "audiences, with a list of audience and recordings or recognise", "the mapping is empty")
		}
	}
	if len(r.problems) > 0 {
		return nil, r.problems.sorted()
	}
	return m, nil
}

func (m *Mapping) add(r *reader, n *document.Node, known bool) {
	if !r.keys(n, []string{"audience", "recordings", "recognise"}) {
		return
	}
	rule := mappingRule{recognise: &Recognise{}}
	if a := n.Get("audience"); a != nil {
		if rule.audience = r.text(a); known && rule.audience != "" && r.c.Audience(rule.audience) == nil {
			r.unknown(a, "audience", rule.audience, r.c.audienceNames())
		}
	} else {
		r.report(n, "the name of an audience", "the entry says no audience")
	}
	if p := n.Get("recordings"); p != nil {
		rule.recordings = r.scalars(p)
		for _, pattern := range rule.recordings {
			if _, err := path.Match(pattern, ""); err != nil {
				r.report(p, "a pattern with * and ?", "%q is no pattern", pattern)
			}
		}
	}
	if rec := n.Get("recognise"); rec != nil {
		r.recognise(rec, rule.recognise)
	} else if len(rule.recordings) == 0 {
		r.report(n, "recordings or recognise", "the entry does not say of which requests it holds")
	}
	m.rules = append(m.rules, rule)
}

func (c *Contracts) audienceNames() []string {
	var names []string
	for _, a := range c.Audiences {
		names = append(names, a.Name)
	}
	return names
}

// Audience returns the audience of a request in a recording, or the empty string.
func (m *Mapping) Audience(recording string, r *exchange.Request) string {
	if m == nil {
		return ""
	}
	for i := range m.rules {
		rule := &m.rules[i]
		if rule.recognise.empty() {
			if rule.named(recording) {
				return rule.audience
			}
			continue
		}
		if rule.recognise.holds(r) && (len(rule.recordings) == 0 || rule.named(recording)) {
			return rule.audience
		}
	}
	return ""
}

// named reports whether a pattern matches a recording's name or the last part of it.
func (rule *mappingRule) named(recording string) bool {
	for _, pattern := range rule.recordings {
		whole, _ := path.Match(pattern, recording)
		last, _ := path.Match(pattern, recording[strings.LastIndexByte(recording, '/')+1:])
		if whole || last {
			return true
		}
	}
	return false
}
