package scan

import (
	"html"
	"slices"
	"strconv"
	"strings"
	"time"

	"inkret/core/catalog"
	"inkret/core/detect"
	"inkret/core/exchange"
	"inkret/core/kind"
	"inkret/core/place"
	"inkret/core/severity"
)

// Findings about an exchange as a whole. They are at the root of the body, beside whatever else is found there.

// wholeSpot returns a spot about the exchange as a whole.
func wholeSpot(kind kind.Kind, severity severity.Severity, reason string) Spot {
	return Spot{Kind: kind, Severity: severity, Path: place.Root, reason: reason}
}

// httpDate is IMF-fixdate (RFC 9110 section 5.6.7).
const httpDate = "Mon, 02 Jan 2006 15:04:05 GMT"

// smallestHeavy is the minimum size of a body that is reported as heavy.
const smallestHeavy = 16 << 10

// exchangeSpots returns the spots about an exchange as a whole.
func (j *Judge) exchangeSpots(c *exchange.Capture, out *Outcome, declared bool) []Spot {
	spots := j.undeclared(out, declared)
	w := &j.walk
	if w.private {
		if why := sharedCache(c); why != "" {
			spots = append(spots, wholeSpot(kind.CacheablePrivate, severity.Medium, why))
		}
	}
	if w.asked != nil && w.askedGranted && w.unasked != "" {
		spots = append(spots, wholeSpot(kind.SelectionIgnored, severity.Low,
			"the client asked for some members and got "+
				strconv.Quote(w.unasked)+" too"))
	}
	if out.Bytes > smallestHeavy && w.excess*2 > out.Bytes {
		spots = append(spots, wholeSpot(kind.HeavyExcess, severity.Info, strconv.Itoa(w.excess)+" of "+
			strconv.Itoa(out.Bytes)+
			" bytes are covered by no grant"))
	}
	return spots
}

// longestError is how much of an error text is searched.
const longestError = 1 << 20

// looksAtWords reports whether a response is an error whose body is text for people.
func looksAtWords(c *exchange.Capture) bool {
	r := &c.Response
	return r.Status >= 400 && r.Missing == "" && len(r.Body) > 0 && !c.Outlined &&
		exchange.WordsOf(r.Header.Get("Content-Type"), r.Body) != exchange.NoWords
}

// failing returns what an error page or plain-text error reveals.
func failing(c *exchange.Capture) []Spot {
	if !looksAtWords(c) {
		return nil
	}
	text := c.Response.Body[:min(len(c.Response.Body), longestError)]
	if exchange.WordsOf(c.Response.Header.Get("Content-Type"), text) == exchange.Page {
		text = []byte(html.UnescapeString(string(text)))
	}
	what := detect.Revealing(text)
	if what == "" {
		return nil
	}
	return []Spot{wholeSpot(kind.RevealingError, severity.Medium, "the text of an error holds "+what)}
}

// pageSpots returns the e-mail addresses and secrets in the text of a page, as one spot for each kind.
func (j *Judge) pageSpots(c *exchange.Capture) (spots []Spot) {
	r := &c.Response
	if len(r.Body) == 0 || exchange.WordsOf(r.Header.Get("Content-Type"), r.Body) != exchange.Page {
		return nil
	}
	first := map[kind.Kind]int{}
	for _, text := range exchange.PageTexts(r.Body) {
		hit := j.detectors.Value(text.Text, detect.TraitsOf(text.Text))
		s := wholeSpot(kind.SecretValue, severity.Critical, "the text of the page has "+article(hit.Detector))
		switch {
		case hit.Class == catalog.Secret && !hit.Checked():
		case hit.Detector == detect.EmailAddress:
			s.Kind, s.Severity = kind.PersonalValue, severity.High
		default:
			continue
		}
		s.Class, s.Detector, s.Offset, s.Bytes = hit.Class, hit.Detector, text.At, len(text.Text)
		s.Sample = detect.Mask(text.Text, hit, hit.Class)
		if i, met := first[s.Kind]; met {
			spots[i].Folded++
			spots[i].Bytes += s.Bytes
			continue
		}
		first[s.Kind] = len(spots)
		spots = append(spots, s)
	}
	return spots
}

// private reports whether a spot tells of something personal or secret.
func private(spots []Spot) bool {
	return slices.ContainsFunc(spots, func(s Spot) bool { return s.Class >= catalog.Personal })
}

// undeclared returns whether the endpoint or response is missing from the contracts, which needs no body.
func (j *Judge) undeclared(out *Outcome, declared bool) []Spot {
	switch {
	case j.contracts == nil:
	case !out.Known:
		return []Spot{wholeSpot(kind.UnknownEndpoint, severity.Low, "")}
	case !declared:
		return []Spot{wholeSpot(kind.UndeclaredResponse, severity.Low, "")}
	}
	return nil
}

// sharedCache returns why a shared cache may store a response (RFC 9111 section 3, with explicit freshness or
// `public`; section 3.5 for Authorization) or has stored it, or the empty string.
func sharedCache(c *exchange.Capture) string {
	header := c.Response.Header
	if age, err := strconv.Atoi(strings.TrimSpace(header.Get("Age"))); err == nil && age > 0 {
		return "it came from a shared cache, " + strconv.Itoa(age) +
			" seconds old, and holds what is personal or secret"
	}
	if c.Request.Method != "GET" || strings.TrimSpace(header.Get("Vary")) == "*" {
		return ""
	}
	says := directives(header)
	for _, never := range []string{"no-store", "private", "no-cache"} {
		if fields, ok := says[never]; ok && fields == "" { // with names of fields it is about these alone
			return ""
		}
	}
	_, public := says["public"]
	_, shared := says["s-maxage"]
	_, revalidate := says["must-revalidate"]
	if _, authorised := c.Request.Header.Find("Authorization"); authorised && !public && !shared && !revalidate {
		return ""
	}
	fresh := says["max-age"]
	if shared {
		fresh = says["s-maxage"]
	}
	if seconds, err := strconv.Atoi(fresh); public && fresh == "" || err == nil && seconds > 0 {
		return "a shared cache may keep it (Cache-Control: " + cacheControl(header) +
			") and it holds what is personal or secret"
	}
	if fresh != "" {
		return ""
	}
	expires, err := time.Parse(httpDate, header.Get("Expires"))
	date, err2 := time.Parse(httpDate, header.Get("Date"))
	if err == nil && err2 == nil && expires.After(date) {
		return "a shared cache may keep it (Expires) and it holds what is personal or secret"
	}
	return ""
}

func cacheControl(h exchange.Header) string {
	var all []string
	for _, f := range h {
		if strings.EqualFold(f.Name, "Cache-Control") {
			all = append(all, f.Value)
		}
	}
	return strings.Join(all, ", ")
}

// directives parses Cache-Control (RFC 9111 section 5.2).
func directives(h exchange.Header) map[string]string {
	says := map[string]string{}
	for _, d := range listed(cacheControl(h)) {
		name, value, _ := strings.Cut(strings.TrimSpace(d), "=")
		says[strings.ToLower(strings.TrimSpace(name))] = strings.Trim(strings.TrimSpace(value), `"`)
	}
	return says
}

// listed splits a list at its commas, except inside quoted strings (RFC 9110 section 5.6.4).
func listed(text string) []string {
	var all []string
	quoted, from := false, 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\' && quoted:
			i++
		case c == '"':
			quoted = !quoted
		case c == ',' && !quoted:
			all = append(all, text[from:i])
			from = i + 1
		}
	}
	return append(all, text[from:])
}
