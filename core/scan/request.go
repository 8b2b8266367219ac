package scan

import (
	"fmt"
	"net/url"
	"strings"

	"inkret/core/catalog"
	"inkret/core/contract"
	"inkret/core/detect"
	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/place"
	"inkret/core/severity"
)

// Findings in the request: recognised values in its address, and members of its body that are not accepted. They
// are reported even if the response is not evaluated.

// requestSpots returns the spots of a request. e is its endpoint or nil; choice is the response that applies.
func (j *Judge) requestSpots(c *exchange.Capture, out *Outcome, e *contract.Endpoint, segments []string,
	choice contract.Choice, audience *contract.Audience) []Spot {
	spots := j.addressSpots(c.Request.URL, out.Endpoint, e, segments)
	taken := c.Response.Status > 0 && c.Response.Status < 400
	if e != nil && e.Judges && (taken || out.Posted != nil) && postsJSON(&c.Request) {
		if posted := j.overPosting(c, e, choice, audience, out.Posted); taken {
			spots = append(spots, posted...)
		}
	}
	return spots
}

// addressSpots returns recognised values in a request's address, and values of parameters with telling names. In
// the path of a known endpoint only parameters count.
func (j *Judge) addressSpots(u *url.URL, endpoint string, e *contract.Endpoint, segments []string) []Spot {
	var spots []Spot
	at := j.sideOf(endpoint, true)
	for _, v := range exchange.AddressValues(u) {
		if v.In == exchange.InPath && v.Name == "" && e != nil {
			continue
		}
		spots = j.addressSpot(spots, &at, v)
	}
	if e != nil {
		plain := make([]string, len(segments)) // what stands behind a semicolon is a value of its own
		for i, s := range segments {
			plain[i], _, _ = strings.Cut(s, ";")
		}
		for _, p := range e.Parameters(plain) {
			spots = j.addressSpot(spots, &at, exchange.AddressValue{In: exchange.InPath, Name: p.Name, Value: p.Value})
		}
	}
	return spots
}

func (j *Judge) addressSpot(spots []Spot, at *side, v exchange.AddressValue) []Spot {
	text := []byte(v.Value)
	hit := j.detectors.Value(text, detect.TraitsOf(text))
	if !hit.Found() {
		hit = detect.Stood(text) // in an outline
	}
	info := j.nameInfo([]byte(v.Name))
	path, pointer := addressPlace(&v, &info)
	hit = at.hit(path, text, hit)
	class, reason := hit.Class, "the request's address carries "+article(hit.Detector)
	// in an address the name alone is enough: whoever chose it knows what it carries
	if truth := v.Value == "true" || v.Value == "false"; v.Value != "" && !truth && info.telling > class {
		class, reason = info.telling,
			fmt.Sprintf("the request's address carries a value whose name tells of something %s", info.telling)
	}
	if info.hit.Class > class {
		class, reason = info.hit.Class, "the request's address carries "+article(info.hit.Detector)
	}
	if v.In == exchange.InUserinfo && v.Value != "" {
		class, reason = catalog.Secret, "the request's address carries a password"
	}
	if class < catalog.Personal {
		return spots
	}
	grave := severity.Medium
	if class == catalog.Secret {
		grave = severity.High
	}
	return append(spots, Spot{Kind: kind.SensitiveInURL, Severity: grave, Class: class, Request: true,
		Detector: hit.Detector, Path: path, Pointer: pointer, Checked: hit.Checked(),
		Sample: detect.Mask(text, hit, class), reason: reason})
}

// addressPlace returns the path and the pointer of a value in an address.
func addressPlace(v *exchange.AddressValue, info *nameInfo) (string, string) {
	path, pointer := place.AppendName([]byte(place.Root), []byte(v.Name)), place.AppendPointer(nil, []byte(v.Name))
	switch {
	case v.Name == "":
		path, pointer = append([]byte(place.Root), place.Elements...), place.AppendIndex(nil, v.Segment)
	case info.data:
		path = append([]byte(place.Root), place.Elements...)
		if info.masked != "" {
			pointer = place.AppendPointer(nil, []byte(info.masked))
		}
	}
	return v.In + within + string(path), v.In + within + string(pointer)
}

// postsJSON reports whether a request has a body that can be evaluated.
func postsJSON(r *exchange.Request) bool {
	return len(r.Body) > 0 && exchange.Readable(r.Header.Get("Content-Type"), r.Body) == nil
}

// overPosting compares a request's body with what is accepted. It fills places, if not nil.
func (j *Judge) overPosting(c *exchange.Capture, e *contract.Endpoint, choice contract.Choice,
	audience *contract.Audience, places map[string]Presence) []Spot {
	parts, err := exchange.Parts(nil, c.Request.Header.Get("Content-Type"), c.Request.Body)
	if err != nil || len(parts) != 1 || parts[0].Place != "" {
		return nil
	}
	w := &walk{judge: j, ofCapture: ofCapture{plan: e.AcceptPlan(audience, c), outlined: c.Outlined, places: places}}
	if !parts[0].Same() {
		w.part = &parts[0]
	}
	w.reset(text{data: parts[0].Text})
	w.granted(w.plan.Root, posted, whole, w.begin(), nil)
	spots := w.finish()
	if len(spots) == 0 {
		return nil
	}
	var echoed map[string]string
	if choice.Response != nil && choice.Response.Inner == "" {
		echoed = membersAt(c.Response.Body, choice.Response.At)
	}
	entity := place.Path(w.plan.At)
	kept := spots[:0]
	for _, s := range spots {
		s.Request = true
		value, ok := echoed[s.name]
		switch {
		case !ok:
		case same(value, s.value, parts[0].Untyped):
			s.Severity = severity.High
			s.reason += "; the response has it too"
		case s.Path == entity+place.Name(s.name) && !(container(value) && container(s.value)):
			continue // the response has another value: it was not taken
		}
		kept = append(kept, s)
	}
	return kept
}

// same reports whether two values are equal. untyped is set for forms, where everything is text.
func same(a, b string, untyped bool) bool {
	return sameScalar(a, b) || untyped && strings.Trim(a, `"`) == strings.Trim(b, `"`)
}

// container reports whether a value is an object or a list.
func container(value string) bool { return value != "" && (value[0] == '{' || value[0] == '[') }

// postedMember reports a member of a request that is not accepted, as one spot.
func (w *walk) postedMember(name []byte, v *verdict, entity *catalog.Entity, start int) bool {
	w.occur(w.space())
	from := w.pos
	ok := w.pass(w.depth)
	c := &candidate{kind: kind.OverPosting, severity: severity.Medium,
		reason: "the request has it and it is not accepted"}
	w.emitAt(c.of(v, entity), start, w.pos-start, maskedPart)
	s := &w.spots[len(w.spots)-1]
	s.name, s.value = string(name), string(w.data[from:w.pos])
	return ok
}

// membersAt returns the members of the objects at a place in a body, each with its JSON text. Of several elements,
// the last one that has a member counts.
func membersAt(body []byte, at []string) map[string]string {
	found := map[string]string{}
	t := tokens{data: body}
	t.collect(at, found, 0)
	return found
}

func (t *tokens) collect(at []string, into map[string]string, depth int) bool {
	if depth > maxDepth {
		return false
	}
	switch t.space() {
	case '[':
		if len(at) > 0 && at[0] == "*" {
			at = at[1:]
		}
		t.pos++
		for first := true; ; first = false {
			if t.space() == ']' && first {
				t.pos++
				return true
			}
			if !t.collect(at, into, depth+1) {
				return false
			}
			if more, ok := t.more(']'); !more {
				return ok
			}
		}
	case '{':
		t.pos++
		for first := true; ; first = false {
			if t.space() == '}' && first {
				t.pos++
				return true
			}
			if t.space() != '"' {
				return false
			}
			s, ok := t.string()
			if !ok || !t.colon() {
				return false
			}
			name := string(unquote(nil, s.raw))
			t.space()
			from := t.pos
			switch {
			case len(at) == 0:
				if ok = t.pass(depth + 1); ok {
					into[name] = string(t.data[from:t.pos])
				}
			case name == at[0]:
				ok = t.collect(at[1:], into, depth+1)
			default:
				ok = t.pass(depth + 1)
			}
			if !ok {
				return false
			}
			if more, ok := t.more('}'); !more {
				return ok
			}
		}
	}
	return t.pass(depth)
}
