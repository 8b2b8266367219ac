package scan

import (
	"net/textproto"
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

// Response header fields: recognised values and, in errors, revealing text. They are evaluated with or without a
// body.

// InHeader is the prefix of paths in header fields.
const InHeader = "header" + within

// quietFields lists HTTP header fields that cannot carry anything to detect (RFC 9110, RFC 9111, the Fetch standard
// and the field name registry), and Set-Cookie, which is meant for credentials. docs/judging.md lists them.
var quietFields = func() map[string]bool {
	all := map[string]bool{}
	for _, name := range strings.Fields(`accept-ranges age allow alt-svc cache-control clear-site-data connection
		content-encoding content-language content-length content-range content-security-policy
		content-security-policy-report-only content-type date etag expires keep-alive last-modified nel permissions-policy
		pragma proxy-authenticate referrer-policy report-to reporting-endpoints retry-after server-timing set-cookie
		strict-transport-security te timing-allow-origin trailer transfer-encoding upgrade vary via www-authenticate
		x-content-type-options x-frame-options x-xss-protection`) {
		all[name] = true
	}
	return all
}()

// quietField reports whether a header field cannot carry anything to detect.
func quietField(name string) bool {
	name = strings.ToLower(name)
	return quietFields[name] || strings.HasPrefix(name, "access-control-") ||
		strings.HasPrefix(name, "cross-origin-") || strings.HasPrefix(name, "sec-")
}

// headerSpots returns the spots in header fields. response is the response of the contract that applies, or nil.
func (j *Judge) headerSpots(c *exchange.Capture, endpoint string, response *contract.Response) []Spot {
	if c.Response.Missing != "" || c.Outlined {
		return nil
	}
	var spots []Spot
	met, at := map[string]bool{}, j.sideOf(endpoint, false)
	for _, f := range c.Response.Header {
		name := textproto.CanonicalMIMEHeaderKey(f.Name)
		if f.Value == "" || quietField(name) {
			continue
		}
		cover := catalog.Unclassed
		if response != nil {
			cover = response.Headers[name]
		}
		s := j.headerSpot(&at, name, f.Value, cover, c.Response.Status >= 400)
		if s.Kind == 0 || met[s.Path+s.Kind.String()] {
			continue
		}
		met[s.Path+s.Kind.String()] = true
		spots = append(spots, s)
	}
	return spots
}

// headerSpot returns what a field contains beyond its grant. Its Kind is 0 for nothing.
func (j *Judge) headerSpot(at *side, name, value string, cover catalog.Class, failed bool) Spot {
	text := []byte(value)
	hit := j.detectors.Value(text, detect.TraitsOf(text))
	address := value
	if _, target, is := strings.Cut(value, "<"); is { // as Link has it (RFC 8288 section 3)
		address, _, _ = strings.Cut(target, ">")
	}
	if u, err := url.Parse(address); err == nil && u.RawQuery+u.Path != "" { // an address carries values of its own
		for _, v := range exchange.AddressValues(u) {
			one := []byte(v.Value)
			if inner := j.detectors.Value(one, detect.TraitsOf(one)); inner.Class > hit.Class {
				hit, text = inner, one
			}
		}
	}
	path := InHeader + place.Root + place.Name(name)
	hit = at.hit(path, text, hit)
	s := Spot{Path: path, Checked: hit.Checked(),
		Pointer: InHeader + string(place.AppendPointer(nil, []byte(name))), Bytes: len(value)}
	switch {
	case hit.Found() && hit.Class > cover && hit.Class == catalog.Secret:
		s.Kind, s.Severity = kind.SecretValue, severity.Critical
	case hit.Found() && hit.Class > cover:
		s.Kind, s.Severity = kind.PersonalValue, severity.High
	case failed:
		if what := detect.Revealing([]byte(value)); what != "" {
			s.Kind, s.Severity, s.Sample = kind.RevealingError, severity.Medium, maskedPart
			s.reason = "a header field of an error holds " + what
		}
		return s
	default:
		return s
	}
	s.Class, s.Detector, s.Sample = hit.Class, hit.Detector, detect.Mask(text, hit, hit.Class)
	s.reason = "the header field " + name + " carries " + article(hit.Detector)
	return s
}
